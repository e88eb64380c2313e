//! [`WriteAt`]: a disk that can be written. Only `change` of the crate above calls it.

use std::fs::File;
use std::io;
use std::os::unix::fs::FileExt as _;
use std::path::Path;

use rustix::fs::{FlockOperation, Mode, OFlags};

use super::{Device, DeviceError, ReadAt};

/// A disk that can be written.
pub trait WriteAt: ReadAt {
    /// Writes these bytes from `at` on.
    ///
    /// # Errors
    /// When the medium cannot be written there.
    fn write_at(&self, at: u64, bytes: &[u8]) -> io::Result<()>;

    /// Waits until everything written is on the medium.
    ///
    /// # Errors
    /// When it could not be written.
    fn sync(&self) -> io::Result<()>;
}

/// A disk or an image, open to be written. While it is, no other Veritum writes to it, and udev does not examine it.
#[derive(Debug)]
pub struct WritableDevice {
    device: Device,
    file: File,
}

impl WritableDevice {
    /// Opens a disk or an image to write to it.
    ///
    /// # Errors
    /// When it is not a disk, cannot be written, or another program has locked it.
    pub fn open(path: &Path) -> Result<Self, DeviceError> {
        let failed = |source: io::Error| DeviceError::Write { path: path.to_owned(), source };
        let device = Device::open(path)?;
        // The file that was examined, and no other that has its name meanwhile.
        let same = format!("/proc/self/fd/{}", std::os::fd::AsRawFd::as_raw_fd(&device.file));
        let flags = OFlags::RDWR | OFlags::CLOEXEC | OFlags::NONBLOCK | OFlags::NOCTTY;
        let file = rustix::fs::open(&same, flags, Mode::empty()).map_err(|e| failed(e.into()))?;
        // udev respects this lock (systemd: Locking Block Device Access).
        rustix::fs::flock(&file, FlockOperation::NonBlockingLockExclusive).map_err(|e| failed(e.into()))?;
        Ok(Self { device, file: file.into() })
    }
}

impl ReadAt for WritableDevice {
    fn size(&self) -> u64 {
        self.device.size()
    }

    fn read_at(&self, at: u64, buffer: &mut [u8]) -> io::Result<()> {
        self.device.read_at(at, buffer)
    }

    fn forget(&self, at: u64, size: u64) {
        self.device.forget(at, size);
    }
}

impl WriteAt for WritableDevice {
    fn write_at(&self, at: u64, bytes: &[u8]) -> io::Result<()> {
        self.file.write_all_at(bytes, at)
    }

    fn sync(&self) -> io::Result<()> {
        self.file.sync_data()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_image_is_written_by_one_program_at_a_time() {
        let image = tempfile::NamedTempFile::new().unwrap();
        std::fs::write(image.path(), [0; 2048]).unwrap();
        let disk = WritableDevice::open(image.path()).unwrap();
        disk.write_at(512, b"quay").unwrap();
        disk.sync().unwrap();
        disk.forget(0, 2048);
        assert_eq!((disk.size(), disk.bytes_at(512, 4).unwrap()), (2048, b"quay".to_vec()));
        assert!(matches!(WritableDevice::open(image.path()), Err(DeviceError::Write { .. })));
        drop(disk);
        assert!(WritableDevice::open(image.path()).is_ok());
        assert!(matches!(WritableDevice::open(Path::new("/dev/null")), Err(DeviceError::NotADisk { .. })));
    }
}
