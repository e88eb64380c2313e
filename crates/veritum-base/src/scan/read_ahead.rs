//! [`ReadAhead`]: requests files from the medium before they are read, so that several requests are under way.

use std::io;
use std::os::fd::BorrowedFd;
use std::time::{Duration, Instant};

use crate::machine::Disk;

/// A read that takes longer came from the medium, not from the kernel's cache.
const SLOW: Duration = Duration::from_micros(100);
/// The number of files that are requested ahead after a slow read.
const FILES: u32 = 256;
/// The number of bytes that are requested of a file: from then on, the kernel itself reads ahead.
const BYTES: u64 = 512 * 1024;
/// The number of files that are requested before the first of them is read.
const WAITING: usize = 16;

/// Whether files are requested ahead: only while the medium is slow, as each request takes time.
#[derive(Debug, Default)]
pub(super) struct ReadAhead {
    /// The number of files that are still requested.
    left: u32,
}

#[cfg(test)]
impl ReadAhead {
    /// As after a slow read.
    pub(super) fn after_slow_read() -> Self {
        Self { left: FILES }
    }
}

impl ReadAhead {
    /// Reads, and notes how long it took.
    pub(super) fn read(&mut self, disk: &dyn Disk, file: BorrowedFd<'_>, into: &mut [u8]) -> io::Result<usize> {
        let begun = Instant::now();
        let read = disk.read(file, into)?;
        if begun.elapsed() > SLOW {
            self.left = FILES;
        }
        Ok(read)
    }

    /// Requests a file that was opened.
    pub(super) fn request(&mut self, disk: &dyn Disk, file: BorrowedFd<'_>) {
        if self.left > 0 {
            self.left -= 1;
            disk.read_ahead(file, BYTES);
        }
    }

    /// The number of opened files that may wait to be read.
    pub(super) fn depth(&self) -> usize {
        if self.left > 0 { WAITING } else { 0 }
    }
}

#[cfg(test)]
mod tests {
    use std::io::Write as _;
    use std::os::fd::AsFd as _;

    use super::*;
    use crate::machine::LiveDisk;

    #[test]
    fn files_are_requested_after_a_slow_read_and_no_longer_than_that() {
        let mut read_ahead = ReadAhead::default();
        assert_eq!(read_ahead.depth(), 0);
        let (from, mut to) = io::pipe().unwrap();
        let writer = std::thread::spawn(move || {
            std::thread::sleep(10 * SLOW);
            to.write_all(b"late").unwrap();
        });
        let mut piece = [0; 16];
        assert_eq!(read_ahead.read(&LiveDisk, from.as_fd(), &mut piece).unwrap(), 4);
        writer.join().unwrap();
        let file = tempfile::tempfile().unwrap();
        for _ in 0..FILES {
            assert_eq!(read_ahead.depth(), WAITING);
            read_ahead.request(&LiveDisk, file.as_fd());
        }
        assert_eq!(read_ahead.depth(), 0);
    }
}
