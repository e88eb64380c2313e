//! [`Replayed`]: a file system as it is once its journal is applied, which is done in memory only.

use std::collections::{BTreeMap, HashMap};
use std::io;

use super::journal::{BlockCopy, ESCAPED_BYTES, Journal, Transaction};
use super::{Fault, FileSystem};
use crate::devices::{ReadAt, Source};

/// A file system with what its journal has of it. Nothing is written.
pub struct Replayed<'a> {
    disk: Source<'a>,
    block_size: u64,
    /// The newest copy of each block.
    newer: BTreeMap<u64, BlockCopy>,
    /// Whether that is all that the journal has.
    is_all: bool,
}

/// Why the journal of a file system that was not unmounted cleanly is not applied.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NotReplayed {
    /// There is nothing to apply.
    NotNeeded,
    /// It cannot be used.
    Unusable(&'static str),
    /// What it has is damaged, or cannot be read.
    Damaged(Fault),
}

impl<'a> Replayed<'a> {
    /// Reads what the journal of an ext4 file system has.
    ///
    /// # Errors
    /// Why the file system is as it should be, or cannot be so.
    pub fn new(disk: &'a dyn ReadAt) -> Result<Self, NotReplayed> {
        Self::of_source(Source::Borrowed(disk))
    }

    /// The same, kept with the bytes of the file system.
    ///
    /// # Errors
    /// As for [`Replayed::new`].
    pub(super) fn owning(disk: Box<dyn ReadAt>) -> Result<Replayed<'static>, NotReplayed> {
        Replayed::of_source(Source::Owned(disk))
    }

    fn of_source(disk: Source<'a>) -> Result<Self, NotReplayed> {
        let fs = FileSystem::open(&*disk).map_err(|_| NotReplayed::NotNeeded)?;
        if !fs.superblock.needs_recovery() {
            return Err(NotReplayed::NotNeeded);
        }
        let journal = Journal::open(&fs).map_err(NotReplayed::Unusable)?;
        let (transactions, is_all) = journal.pending().map_err(NotReplayed::Damaged)?;
        let newer = newest(&transactions);
        if newer.values().any(|copy| !copy.is_valid) {
            return Err(NotReplayed::Damaged(Fault::Checksum));
        }
        let block_size = fs.superblock.block_size;
        drop(fs);
        Ok(Self { disk, block_size, newer, is_all })
    }

    /// Whether everything that was committed is applied: fast commits are not.
    #[must_use]
    pub fn is_all(&self) -> bool {
        self.is_all
    }

    /// The number of blocks that are newer in the journal.
    #[must_use]
    pub fn blocks(&self) -> usize {
        self.newer.len()
    }
}

/// The newest copy of each block, without those that were revoked later.
fn newest(transactions: &[Transaction]) -> BTreeMap<u64, BlockCopy> {
    let mut revoked_in: HashMap<u64, usize> = HashMap::new();
    for (at, transaction) in transactions.iter().enumerate() {
        revoked_in.extend(transaction.revoked.iter().map(|block| (*block, at)));
    }
    let mut newer = BTreeMap::new();
    for (at, transaction) in transactions.iter().enumerate() {
        let counts = |copy: &&BlockCopy| revoked_in.get(&copy.block).is_none_or(|revoked| *revoked < at);
        newer.extend(transaction.copies.iter().filter(counts).map(|copy| (copy.block, *copy)));
    }
    newer
}

impl ReadAt for Replayed<'_> {
    fn size(&self) -> u64 {
        self.disk.size()
    }

    fn read_at(&self, at: u64, buffer: &mut [u8]) -> io::Result<()> {
        let mut done = 0;
        while done < buffer.len() {
            let place = at + done as u64;
            let left = (buffer.len() - done) as u64;
            let (block, within) = (place / self.block_size, place % self.block_size);
            let next = self.newer.range(block..).next();
            // Up to the next block with a copy, or to the end of that one.
            let (source, count) = match next {
                Some((found, copy)) if *found == block => (Some(copy), (self.block_size - within).min(left)),
                Some((found, _)) => (None, found.saturating_mul(self.block_size).saturating_sub(place).min(left)),
                None => (None, left),
            };
            let piece = &mut buffer[done..done + usize::try_from(count).unwrap_or_default()];
            self.disk.read_at(source.map_or(place, |copy| copy.place + within), piece)?;
            if source.is_some_and(|copy| copy.escaped) {
                for (byte, right) in piece.iter_mut().zip(ESCAPED_BYTES.iter().skip(within.min(4) as usize)) {
                    *byte = *right;
                }
            }
            done += piece.len();
        }
        Ok(())
    }

    fn forget(&self, at: u64, size: u64) {
        self.disk.forget(at, size);
    }
}
