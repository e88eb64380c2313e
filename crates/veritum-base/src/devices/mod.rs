//! Disks and images as rows of bytes, and what partition tables and file systems record on them. Nothing here decides to write: a
//! [`WriteAt`] is called by `change` of the crate above alone.
//!
//! Partition tables and file systems are read by own code: the kernel of a rescue system may lack what reads them, and a damaged file system
//! should not be mounted to be examined.

mod btrfs;
mod checksums;
mod disk_set;
pub mod ext4;
mod fat_files;
pub mod fat_repair;
pub mod fat_writer;
mod gaps;
mod gpt;
mod health;
mod partitions;
mod patches;
mod surface;
mod swap;
pub mod table_writer;
mod vfat;
mod volume;
mod writable;
mod xfs;

pub use disk_set::{DiskSet, DiskVolume, OpenDisk};
pub use fat_files::{FatEntry, FatFiles};
pub use gaps::GapMap;
pub use gpt::{GptCopy, GptFault, GptPair};
pub use health::DriveHealth;
pub use partitions::{MbrTable, Partition, PartitionTable, PartitionType, TableKind};
pub use patches::{Patched, PatchedRange, Patches, SECTOR};
pub use surface::{GRAIN, GoOn, Surface, read_surface};
pub use volume::{
    DiskPart, Mark, RawVolume, VolumeKind, claimed_size, identify, parts_of, recorded_size, search_file_systems,
};
pub use writable::{WritableDevice, WriteAt};

use std::fs::File;
use std::io;
use std::ops::Range;
use std::os::unix::fs::FileExt as _;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use rustix::fs::{FileType, Mode, OFlags};

/// Bytes that are read at a place.
pub trait ReadAt: Send + Sync {
    /// The number of bytes.
    fn size(&self) -> u64;

    /// Fills the buffer with the bytes from `at` on.
    ///
    /// # Errors
    /// When the medium cannot be read there, or ends before.
    fn read_at(&self, at: u64, buffer: &mut [u8]) -> io::Result<()>;

    /// Makes the system drop what it holds of this part in memory, so that it is read from the medium the next time.
    fn forget(&self, _at: u64, _size: u64) {}

    /// So many bytes from `at` on.
    ///
    /// # Errors
    /// As `read_at`.
    fn bytes_at(&self, at: u64, count: usize) -> io::Result<Vec<u8>> {
        if at.saturating_add(count as u64) > self.size() {
            return Err(past_the_end());
        }
        let mut buffer = vec![0; count];
        self.read_at(at, &mut buffer)?;
        Ok(buffer)
    }
}

fn past_the_end() -> io::Error {
    io::Error::new(io::ErrorKind::UnexpectedEof, "past the end of the disk")
}

impl ReadAt for Vec<u8> {
    fn size(&self) -> u64 {
        self.len() as u64
    }

    fn read_at(&self, at: u64, buffer: &mut [u8]) -> io::Result<()> {
        let from = usize::try_from(at).map_err(|_| past_the_end())?;
        let there = from.checked_add(buffer.len()).and_then(|end| self.get(from..end)).ok_or_else(past_the_end)?;
        buffer.copy_from_slice(there);
        Ok(())
    }
}

/// Why a disk or an image cannot be read.
#[derive(Debug, thiserror::Error)]
pub enum DeviceError {
    /// It is neither a block device nor a regular file.
    #[error("{path} is not a disk or a disk image: it is {kind}")]
    NotADisk {
        /// Its path.
        path: PathBuf,
        /// What it is.
        kind: &'static str,
    },
    /// It cannot be opened or read.
    #[error("cannot read {path}")]
    Read {
        /// Its path.
        path: PathBuf,
        /// Why.
        source: io::Error,
    },
    /// It cannot be opened to be written.
    #[error("cannot write to {path}")]
    Write {
        /// Its path.
        path: PathBuf,
        /// Why.
        source: io::Error,
    },
}

/// A disk, a partition of it, or an image.
#[derive(Debug)]
pub struct Device {
    file: File,
    size: u64,
    path: PathBuf,
    is_block: bool,
    /// The same device, read without the kernel's cache.
    direct: Option<File>,
    /// What an image lacks, in order.
    gaps: Vec<Range<u64>>,
    /// What is going to be written, and is read as if it were.
    planned: Patches,
}

impl Device {
    /// Opens a block device or a regular file, an image with its map of gaps: what the disk could not be read for cannot be read from the
    /// image either. What else is there is examined without being opened: opening a device can already do
    /// something.
    ///
    /// # Errors
    /// When it is something else, or cannot be read.
    pub fn open(path: &Path) -> Result<Self, DeviceError> {
        let failed = |source: io::Error| DeviceError::Read { path: path.to_owned(), source };
        let handle =
            rustix::fs::open(path, OFlags::PATH | OFlags::CLOEXEC, Mode::empty()).map_err(|e| failed(e.into()))?;
        let stat = rustix::fs::fstat(&handle).map_err(|e| failed(e.into()))?;
        let kind = FileType::from_raw_mode(stat.st_mode);
        let is_block = match kind {
            FileType::RegularFile => false,
            FileType::BlockDevice => true,
            other => return Err(DeviceError::NotADisk { path: path.to_owned(), kind: in_words(other) }),
        };
        // The file that was examined, and no other that has its name meanwhile.
        let same = format!("/proc/self/fd/{}", std::os::fd::AsRawFd::as_raw_fd(&handle));
        let flags = OFlags::RDONLY | OFlags::CLOEXEC | OFlags::NONBLOCK | OFlags::NOCTTY;
        let file = rustix::fs::open(&same, flags, Mode::empty()).map_err(|e| failed(e.into()))?;
        let direct = is_block.then(|| rustix::fs::open(&same, flags | OFlags::DIRECT, Mode::empty()).ok()).flatten();
        let size = rustix::fs::seek(&file, rustix::fs::SeekFrom::End(0)).map_err(|e| failed(e.into()))?;
        let map = if is_block { None } else { GapMap::read(path).map_err(failed)? };
        if map.as_ref().is_some_and(|map| map.size != size) {
            let why = "it has another size than its map of gaps says";
            return Err(failed(io::Error::new(io::ErrorKind::InvalidData, why)));
        }
        let gaps = map.map(|map| map.gaps()).unwrap_or_default();
        let direct = direct.map(File::from);
        Ok(Self { file: file.into(), size, path: path.to_owned(), is_block, direct, gaps, planned: Patches::default() })
    }

    /// The disk as it is after these patches were written, which are not.
    #[must_use]
    pub fn with_planned(self, planned: Patches) -> Self {
        Self { planned, ..self }
    }

    /// The same disk, opened once more, as it is after these patches were written as well.
    ///
    /// # Errors
    /// When it cannot be opened once more.
    pub fn again_with(&self, more: &Patches) -> io::Result<Self> {
        let mut planned = self.planned.clone();
        planned.extend(more);
        let direct = self.direct.as_ref().map(File::try_clone).transpose()?;
        let (path, gaps) = (self.path.clone(), self.gaps.clone());
        Ok(Self { file: self.file.try_clone()?, size: self.size, path, is_block: self.is_block, direct, gaps, planned })
    }

    /// What the image lacks, because the disk could not be read there.
    #[must_use]
    pub fn gaps(&self) -> &[Range<u64>] {
        &self.gaps
    }

    /// Its path, as it was given.
    #[must_use]
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Whether the file system with this device number is on it: on the whole of it, or on a partition.
    #[must_use]
    pub fn holds(&self, number: u64) -> bool {
        let own = rustix::fs::fstat(&self.file).map(|stat| stat.st_rdev).unwrap_or_default();
        if !self.is_block || own == 0 {
            return false;
        }
        let (major, minor) = (rustix::fs::major(number), rustix::fs::minor(number));
        // A partition is a folder in that of its disk (sysfs(5)).
        let above = || {
            let partition = std::fs::canonicalize(format!("/sys/dev/block/{major}:{minor}")).ok()?;
            std::fs::read_to_string(partition.parent()?.join("dev")).ok()
        };
        let disk = format!("{}:{}", rustix::fs::major(own), rustix::fs::minor(own));
        number == own || above().is_some_and(|above| above.trim() == disk)
    }

    /// Whether it is a block device.
    #[must_use]
    pub fn is_block(&self) -> bool {
        self.is_block
    }
}

/// The places and sizes of reads without the kernel's cache are multiples of this, in bytes; so is the place in memory.
const ALIGNED: usize = 4096;

/// Reads just these bytes, and what shares a block with them, without the kernel's cache.
fn read_directly(direct: &File, at: u64, buffer: &mut [u8]) -> io::Result<()> {
    let mut memory = vec![0; ALIGNED * 2];
    let start = memory.as_ptr().align_offset(ALIGNED);
    let block = memory.get_mut(start..start + ALIGNED).ok_or(io::ErrorKind::OutOfMemory)?;
    let mut done = 0;
    while done < buffer.len() {
        let place = at + done as u64;
        let within = usize::try_from(place % ALIGNED as u64).unwrap_or_default();
        let read = direct.read_at(block, place - within as u64)?;
        let count = (buffer.len() - done).min(read.saturating_sub(within));
        if count == 0 {
            return Err(past_the_end());
        }
        buffer[done..done + count].copy_from_slice(&block[within..within + count]);
        done += count;
    }
    Ok(())
}

fn in_words(kind: FileType) -> &'static str {
    match kind {
        FileType::Directory => "a folder",
        FileType::CharacterDevice => "a character device",
        FileType::Fifo => "a named pipe",
        FileType::Socket => "a socket",
        _ => "something else",
    }
}

impl ReadAt for Device {
    fn size(&self) -> u64 {
        self.size
    }

    fn read_at(&self, at: u64, buffer: &mut [u8]) -> io::Result<()> {
        let first = self.gaps.partition_point(|gap| gap.end <= at);
        if self.gaps.get(first).is_some_and(|gap| gap.start < at.saturating_add(buffer.len() as u64)) {
            return Err(rustix::io::Errno::IO.into());
        }
        let read = match (self.file.read_exact_at(buffer, at), &self.direct) {
            // The kernel reads more than it was asked for, and fails for all of it.
            (Err(e), Some(direct)) if e.kind() != io::ErrorKind::UnexpectedEof => read_directly(direct, at, buffer),
            (read, _) => read,
        };
        read.map(|()| self.planned.apply(at, buffer))
    }

    fn forget(&self, at: u64, size: u64) {
        if let Some(size) = std::num::NonZeroU64::new(size) {
            // What is not dropped is read from memory, as the rest of the system does.
            let _ = rustix::fs::fadvise(&self.file, at, Some(size), rustix::fs::Advice::DontNeed);
        }
    }
}

/// Bytes that belong to someone else, or that are kept with what was read from them.
pub(crate) enum Source<'a> {
    /// Those of someone else.
    Borrowed(&'a dyn ReadAt),
    /// Its own.
    Owned(Box<dyn ReadAt>),
}

impl<'a> std::ops::Deref for Source<'a> {
    type Target = dyn ReadAt + 'a;

    fn deref(&self) -> &Self::Target {
        match self {
            Self::Borrowed(bytes) => *bytes,
            Self::Owned(bytes) => &**bytes,
        }
    }
}

/// A part of a disk that several parts share.
#[derive(Clone)]
pub struct Section {
    disk: Arc<dyn ReadAt>,
    start: u64,
    size: u64,
}

impl Section {
    /// The bytes from `start` on, at most `size`, as far as the disk has them.
    #[must_use]
    pub fn new(disk: Arc<dyn ReadAt>, start: u64, size: u64) -> Self {
        let size = size.min(disk.size().saturating_sub(start));
        Self { disk, start, size }
    }

    /// The same part, as it is after these patches were written; their places are in the part.
    #[must_use]
    pub fn with_planned(&self, planned: &Patches) -> Self {
        let whole = OwnedPatched { bytes: self.clone(), planned: planned.clone() };
        Self { disk: Arc::new(whole), start: 0, size: self.size }
    }

    fn window(&self) -> Window<'_> {
        Window { disk: &*self.disk, start: self.start, size: self.size }
    }
}

impl ReadAt for Section {
    fn size(&self) -> u64 {
        self.size
    }

    fn read_at(&self, at: u64, buffer: &mut [u8]) -> io::Result<()> {
        self.window().read_at(at, buffer)
    }

    fn forget(&self, at: u64, size: u64) {
        self.window().forget(at, size);
    }
}

/// A part of a disk with what is going to be written to it.
struct OwnedPatched {
    bytes: Section,
    planned: Patches,
}

impl ReadAt for OwnedPatched {
    fn size(&self) -> u64 {
        self.bytes.size
    }

    fn read_at(&self, at: u64, buffer: &mut [u8]) -> io::Result<()> {
        Patched::new(&self.bytes, &self.planned).read_at(at, buffer)
    }
}

/// A part of a disk.
#[derive(Clone, Copy)]
pub struct Window<'a> {
    disk: &'a dyn ReadAt,
    start: u64,
    size: u64,
}

impl<'a> Window<'a> {
    /// The bytes from `start` on, at most `size`, as far as the disk has them.
    #[must_use]
    pub fn new(disk: &'a dyn ReadAt, start: u64, size: u64) -> Self {
        Self { disk, start, size: size.min(disk.size().saturating_sub(start)) }
    }

    /// Where it begins on the disk, in bytes.
    #[must_use]
    pub fn start(&self) -> u64 {
        self.start
    }

    /// Those of a disk's ranges, or parts of them, that are in this part, by their places in it.
    #[must_use]
    pub fn own(&self, ranges: &[Range<u64>]) -> Vec<Range<u64>> {
        let end = self.start + self.size;
        let within = |range: &Range<u64>| range.start.max(self.start)..range.end.min(end);
        let own = ranges.iter().map(within).filter(|range| range.start < range.end);
        own.map(|range| range.start - self.start..range.end - self.start).collect()
    }
}

impl ReadAt for Window<'_> {
    fn size(&self) -> u64 {
        self.size
    }

    fn read_at(&self, at: u64, buffer: &mut [u8]) -> io::Result<()> {
        if at.saturating_add(buffer.len() as u64) > self.size {
            return Err(past_the_end());
        }
        self.disk.read_at(self.start + at, buffer)
    }

    fn forget(&self, at: u64, size: u64) {
        self.disk.forget(self.start.saturating_add(at), size);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_disks_and_images_are_opened_and_nothing_is_read_past_their_end() {
        let dir = tempfile::tempdir().unwrap();
        let image = dir.path().join("disk.img");
        std::fs::write(&image, b"0123456789").unwrap();
        let device = Device::open(&image).unwrap();
        assert_eq!((device.size(), device.is_block()), (10, false));
        assert_eq!(device.bytes_at(4, 3).unwrap(), b"456");
        assert!(device.bytes_at(8, 3).is_err() && device.bytes_at(u64::MAX, 1).is_err());
        let map =
            r#"{"format":"veritum.image-gaps/1","source":"/dev/sda","size":10,"pending":[[8,9]],"unreadable":[[2,4]]}"#;
        std::fs::write(dir.path().join("disk.img.gaps"), map).unwrap();
        let with_gaps = Device::open(&image).unwrap();
        assert_eq!(
            (with_gaps.bytes_at(0, 2).unwrap(), with_gaps.bytes_at(4, 4).unwrap()),
            (b"01".to_vec(), b"4567".to_vec())
        );
        assert!(
            [(1, 2), (3, 1), (0, 10), (7, 2)].into_iter().all(|(at, count)| with_gaps.bytes_at(at, count).is_err())
        );
        std::fs::write(dir.path().join("disk.img.gaps"), map.replace("10", "11")).unwrap();
        assert!(Device::open(&image).is_err());
        let window = Window::new(&device, 4, 100);
        assert_eq!((window.size(), window.bytes_at(0, 6).unwrap()), (6, b"456789".to_vec()));
        assert!(window.bytes_at(5, 2).is_err(), "a part ends before the disk does");
        assert_eq!(Window::new(&device, 40, 1).size(), 0);
        let told = Device::open(dir.path()).unwrap_err().to_string();
        assert!(told.ends_with("is not a disk or a disk image: it is a folder"), "{told}");
        let told = Device::open(Path::new("/dev/null")).unwrap_err().to_string();
        assert!(told.ends_with("a character device"), "{told}");
        assert!(matches!(Device::open(&dir.path().join("none")), Err(DeviceError::Read { .. })));
    }
}
