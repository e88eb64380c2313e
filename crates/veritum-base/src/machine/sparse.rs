//! [`SparseWriter`]: writes a file in which long zeros become holes.

use std::io;
use std::os::fd::BorrowedFd;

use super::Disk;

/// Runs of zeros of this length become holes, in bytes.
const HOLE: usize = 64 << 10;

/// A file being written from its beginning. Call [`finish`](Self::finish) at the end.
#[derive(Debug)]
pub struct SparseWriter<'a> {
    disk: &'a dyn Disk,
    file: BorrowedFd<'a>,
    /// Where the next bytes belong.
    at: u64,
    /// The end of what was written.
    end: u64,
}

impl<'a> SparseWriter<'a> {
    /// Writes to this empty file.
    #[must_use]
    pub fn new(disk: &'a dyn Disk, file: BorrowedFd<'a>) -> Self {
        Self { disk, file, at: 0, end: 0 }
    }

    /// Appends these bytes.
    ///
    /// # Errors
    /// When they cannot be written.
    pub fn add(&mut self, piece: &[u8]) -> io::Result<()> {
        for part in piece.chunks(HOLE) {
            if part.len() < HOLE || part.iter().any(|byte| *byte != 0) {
                self.disk.write_at(self.file, self.at, part)?;
                self.end = self.at + part.len() as u64;
            }
            self.at += part.len() as u64;
        }
        Ok(())
    }

    /// Gives the file its size where it ends in a hole.
    ///
    /// # Errors
    /// When the size cannot be set.
    pub fn finish(&self) -> io::Result<()> {
        if self.end < self.at { self.disk.truncate(self.file, self.at) } else { Ok(()) }
    }
}
