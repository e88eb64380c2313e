//! The file system's journal (Documentation/filesystems/ext4/journal.rst): blocks as they are after a transaction, before they are written to
//! their places. After a crash it holds what is newer than the file system itself; what it holds of older transactions is older.

use std::io;

use super::super::checksums::crc32c;
use super::content::FileContent;
use super::{Fault, FileSystem};
use crate::formats::numbers::{array, be32};

const MAGIC: u32 = 0xc03b_3998;
/// Longer ones are not made, in blocks.
const MAX_BLOCKS: u32 = 10_240_000;
/// What begins each of its own blocks: magic number, kind, number of the transaction.
const HEAD: usize = 12;
const DESCRIPTOR: u32 = 1;
const COMMIT: u32 = 2;
const SUPERBLOCKS: [u32; 2] = [3, 4];
const REVOKED: u32 = 5;

/// Features of the journal.
const WIDE: u32 = 0x2;
const SUMS_2: u32 = 0x8;
const SUMS_3: u32 = 0x10;
const FAST_COMMITS: u32 = 0x20;
/// Lists of revoked blocks, numbers of 64 bits, commits that are not waited for, checksums, fast commits.
const KNOWN: u32 = 0x1 | WIDE | 0x4 | SUMS_2 | SUMS_3 | FAST_COMMITS;
/// So many blocks are for fast commits where the journal does not say.
const USUAL_FAST_BLOCKS: u32 = 256;
/// The tag that begins fast commits.
const FAST_HEAD: [u8; 2] = [9, 0];

/// There are never more transactions that are not yet written to their places.
const MAX_PENDING: u32 = 1 << 30;

/// Flags of a block's copy: it begins with the magic number in its place, has the UUID of the one before, is the last one.
const ESCAPED: u32 = 1;
const SAME_UUID: u32 = 2;
const LAST: u32 = 8;

/// A copy of a block.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct BlockCopy {
    /// The block.
    pub(super) block: u64,
    /// Where its copy is, in bytes from the beginning of the file system.
    pub(super) place: u64,
    /// Whether its first four bytes are to be the journal's magic number.
    pub(super) escaped: bool,
    /// Whether the copy can be read and has the checksum that is recorded.
    pub(super) is_valid: bool,
    /// The number of its transaction.
    pub(super) sequence: u32,
}

/// A transaction that was committed.
#[derive(Debug, Default)]
pub(super) struct Transaction {
    pub(super) copies: Vec<BlockCopy>,
    /// Blocks whose copies in this and earlier transactions no longer count.
    pub(super) revoked: Vec<u64>,
}

/// What a block of the journal is.
enum Block {
    Descriptor(u32),
    Commit(u32),
    Revoked(u32),
    /// Something else: a copy, or the journal's own superblock.
    Other,
}

/// The journal of a file system.
pub(super) struct Journal<'f> {
    fs: &'f FileSystem<'f>,
    content: FileContent<'f>,
    size: usize,
    features: u32,
    seed: u32,
    /// The first block of transactions, the one after their last, and the one after the last of all.
    first: u32,
    last: u32,
    end: u32,
    /// Where the oldest transaction begins that is not written to its place yet, and its number; 0 if there is none.
    start: u32,
    sequence: u32,
}

/// Why there is no journal to be read, which is no damage.
pub(super) const ELSEWHERE: &str = "it is on another device, or there is none";
/// Why a journal is not read that may be right.
pub(super) const UNKNOWN: &str = "it uses features that Veritum does not know";

impl<'f> Journal<'f> {
    /// Opens the journal of a file system.
    ///
    /// # Errors
    /// Why it cannot be used.
    pub(super) fn open(fs: &'f FileSystem<'f>) -> Result<Self, &'static str> {
        let number = fs.superblock.journal_inode;
        if number == 0 {
            return Err(ELSEWHERE);
        }
        let inode = fs.inode(number).map_err(|_| "its inode is damaged")?;
        let content = fs.content(&inode);
        let size = usize::try_from(content.block_size()).map_err(|_| "its blocks are too large")?;
        let mut head = vec![0; size];
        let read = content.read_at(0, &mut head).map_err(|_| "its superblock cannot be read")?;
        if read < 1024 || be32(&head, 0) != MAGIC || !SUPERBLOCKS.contains(&be32(&head, 4)) {
            return Err("its superblock is not valid");
        }
        let is_second = be32(&head, 4) == SUPERBLOCKS[1];
        let features = if is_second { be32(&head, 0x28) } else { 0 };
        let has_sums = features & (SUMS_2 | SUMS_3) != 0;
        if features & !KNOWN != 0 {
            return Err(UNKNOWN);
        }
        let uuid: [u8; 16] = array(&head, 0x30).unwrap_or_default();
        if has_sums {
            let told = be32(&head, 0xfc);
            let sum = crc32c(crc32c(crc32c(u32::MAX, &head[..0xfc]), &[0; 4]), &head[0x100..1024]);
            if sum != told {
                return Err("its superblock is damaged: the checksum is wrong");
            }
        }
        let (blocks, first) = (be32(&head, 0x10), be32(&head, 0x14));
        let there = content.size() / size as u64;
        let fast = match (features & FAST_COMMITS, be32(&head, 0x54)) {
            (0, _) => 0,
            (_, 0) => USUAL_FAST_BLOCKS,
            (_, told) => told,
        };
        let last = blocks.saturating_sub(fast);
        if be32(&head, 0x0c) as usize != size
            || u64::from(blocks) > there
            || blocks > MAX_BLOCKS
            || first == 0
            || first >= last
        {
            return Err("its superblock is not valid");
        }
        let (start, sequence) = (be32(&head, 0x1c), be32(&head, 0x18));
        if start != 0 && !(first..last).contains(&start) {
            return Err("its superblock is not valid");
        }
        let seed = crc32c(u32::MAX, &uuid);
        Ok(Self { fs, content, size, features, seed, first, last, end: blocks, start, sequence })
    }

    fn has_sums(&self) -> bool {
        self.features & (SUMS_2 | SUMS_3) != 0
    }

    fn block(&self, position: u32) -> io::Result<Vec<u8>> {
        let at = u64::from(position) * self.size as u64;
        // A damaged one can have holes, and be as long as they are.
        if self.content.place_of(at).is_none() {
            return Err(io::ErrorKind::InvalidData.into());
        }
        let mut bytes = vec![0; self.size];
        match self.content.read_at(at, &mut bytes)? {
            read if read == self.size => Ok(bytes),
            _ => Err(io::ErrorKind::UnexpectedEof.into()),
        }
    }

    /// The position after one; after the last the first follows.
    fn after(&self, position: u32) -> u32 {
        if position + 1 >= self.last { self.first } else { position + 1 }
    }

    /// What a block is, with the number of its transaction.
    fn kind(bytes: &[u8]) -> Block {
        let number = be32(bytes, 8);
        match (be32(bytes, 0), be32(bytes, 4)) {
            (MAGIC, DESCRIPTOR) => Block::Descriptor(number),
            (MAGIC, COMMIT) => Block::Commit(number),
            (MAGIC, REVOKED) => Block::Revoked(number),
            _ => Block::Other,
        }
    }

    /// Whether a descriptor or a list of revoked blocks has the checksum at its end.
    fn is_whole(&self, bytes: &[u8]) -> bool {
        let tail = bytes.len() - 4;
        !self.has_sums() || crc32c(crc32c(self.seed, &bytes[..tail]), &[0; 4]) == be32(bytes, tail)
    }

    fn is_whole_commit(&self, bytes: &[u8]) -> bool {
        let sum = crc32c(crc32c(crc32c(self.seed, &bytes[..0x10]), &[0; 4]), &bytes[0x14..]);
        !self.has_sums() || sum == be32(bytes, 0x10)
    }

    /// The transactions that are committed and not yet written to their places, in order, and whether that is all that was committed.
    ///
    /// # Errors
    /// When a transaction is damaged that was committed, or cannot be read.
    pub(super) fn pending(&self) -> Result<(Vec<Transaction>, bool), Fault> {
        let mut all = Vec::new();
        let mut number = self.sequence;
        let mut at = self.start;
        let mut open = Transaction::default();
        // Each block is looked at once: a journal can be no longer than itself.
        let mut left = self.last - self.first;
        while at != 0 && left > 0 {
            let bytes = self.block(at).map_err(|e| Fault::of(&e))?;
            left -= 1;
            match Self::kind(&bytes) {
                Block::Descriptor(found) if found == number && self.is_whole(&bytes) => {
                    let copies = self.copies_of(&bytes, at);
                    let count = u32::try_from(copies.len()).unwrap_or(u32::MAX);
                    left = left.saturating_sub(count);
                    at = (0..count).fold(at, |at, _| self.after(at));
                    open.copies.extend(copies);
                }
                Block::Revoked(found) if found == number && self.is_whole(&bytes) => {
                    open.revoked.extend(self.revoked_in(&bytes));
                }
                Block::Commit(found) if found == number && self.is_whole_commit(&bytes) => {
                    all.push(std::mem::take(&mut open));
                    number = number.wrapping_add(1);
                }
                // The end, a transaction that was torn before it was committed, or damage since.
                _ => break,
            }
            at = self.after(at);
        }
        if at != 0 && self.has_sums() && self.is_committed(number, at, left) {
            return Err(Fault::Checksum);
        }
        let is_all = !self.has_fast_commits(number);
        Ok((all, is_all))
    }

    /// Whether a transaction, or a later one, was committed: then a block of it is damaged before this position, or at it.
    fn is_committed(&self, number: u32, from: u32, left: u32) -> bool {
        let mut at = from;
        (0..left).any(|_| {
            at = self.after(at);
            let Ok(bytes) = self.block(at) else { return false };
            // Numbers go on past the largest one.
            let is_later = |found: u32| found.wrapping_sub(number) < u32::MAX / 2;
            matches!(Self::kind(&bytes), Block::Commit(found) if is_later(found)) && self.is_whole_commit(&bytes)
        })
    }

    /// Whether fast commits follow the last transaction: changes in another form, which are not read.
    fn has_fast_commits(&self, next: u32) -> bool {
        let begins = |bytes: &[u8]| bytes[..2] == FAST_HEAD && bytes[8..12] == next.to_le_bytes();
        let first = self.last + 1;
        first < self.end && self.block(first).is_ok_and(|bytes| begins(&bytes))
    }

    /// The copies that follow a descriptor.
    fn copies_of(&self, bytes: &[u8], at: u32) -> Vec<BlockCopy> {
        let (is_3, is_wide) = (self.features & SUMS_3 != 0, self.features & WIDE != 0);
        let size = match (is_3, self.features & SUMS_2 != 0) {
            (true, _) => 16,
            (false, with_sums) => 8 + if is_wide { 4 } else { 0 } + if with_sums { 2 } else { 0 },
        };
        let end = bytes.len() - if self.has_sums() { 4 } else { 0 };
        let number = be32(bytes, 8);
        let mut copies = Vec::new();
        let (mut tag, mut position) = (HEAD, at);
        while tag + size <= end {
            let high = if is_wide { u64::from(be32(bytes, tag + 8)) << 32 } else { 0 };
            let block = u64::from(be32(bytes, tag)) | high;
            let flags = if is_3 { be32(bytes, tag + 4) } else { be32(bytes, tag + 4) & 0xffff };
            let sum = if is_3 { be32(bytes, tag + 12) } else { be32(bytes, tag + 4) >> 16 };
            position = self.after(position);
            let is_valid = self.fs.has_block(block) && self.has_sum(position, number, sum);
            let place = self.content.place_of(u64::from(position) * self.size as u64);
            let (escaped, is_valid) = (flags & ESCAPED != 0, is_valid && place.is_some());
            copies.push(BlockCopy { block, place: place.unwrap_or_default(), escaped, is_valid, sequence: number });
            tag += size + if flags & SAME_UUID == 0 { 16 } else { 0 };
            if flags & LAST != 0 {
                break;
            }
        }
        copies
    }

    /// Whether a copy has the checksum of its tag; true where there are none.
    fn has_sum(&self, position: u32, number: u32, told: u32) -> bool {
        if !self.has_sums() {
            return true;
        }
        let Ok(bytes) = self.block(position) else { return false };
        let sum = crc32c(crc32c(self.seed, &number.to_be_bytes()), &bytes);
        if self.features & SUMS_3 != 0 { sum == told } else { sum & 0xffff == told }
    }

    fn revoked_in(&self, bytes: &[u8]) -> Vec<u64> {
        let size = if self.features & WIDE != 0 { 8 } else { 4 };
        let end = (be32(bytes, HEAD) as usize).min(bytes.len());
        let numbers = bytes.get(HEAD + 4..end).unwrap_or_default().chunks_exact(size);
        numbers.map(|number| number.iter().fold(0, |all, byte| all << 8 | u64::from(*byte))).collect()
    }

    /// All copies of blocks that are still in the journal and intact, of any transaction, the newest first.
    pub(super) fn copies(&self) -> Vec<BlockCopy> {
        let mut all = Vec::new();
        let most = (self.last - self.first) as usize;
        for at in self.first..self.last {
            // Each has a block of its own.
            if all.len() > most {
                break;
            }
            let Ok(bytes) = self.block(at) else { continue };
            if matches!(Self::kind(&bytes), Block::Descriptor(_)) && self.is_whole(&bytes) {
                // Behind the end, newer copies may have taken the place of these; only checksums say so.
                let before_end = (self.last - 1 - at) as usize;
                let certain = if self.has_sums() { usize::MAX } else { before_end };
                let copies = self.copies_of(&bytes, at).into_iter().take(certain);
                all.extend(copies.filter(|copy| copy.is_valid));
            }
        }
        all.sort_by_key(|copy| self.age(copy));
        all
    }

    /// How old a copy is: the larger, the older. The numbers of transactions go on past the largest one.
    pub(super) fn age(&self, copy: &BlockCopy) -> u32 {
        self.sequence.wrapping_add(MAX_PENDING).wrapping_sub(copy.sequence)
    }

    /// The bytes of a copy, as they are to be in its place.
    pub(super) fn bytes_of(&self, copy: &BlockCopy) -> io::Result<Vec<u8>> {
        let mut bytes = self.fs.disk.bytes_at(copy.place, self.size)?;
        if copy.escaped {
            bytes[..4].copy_from_slice(&MAGIC.to_be_bytes());
        }
        Ok(bytes)
    }
}

/// What the first four bytes of an escaped copy stand for.
pub(super) const ESCAPED_BYTES: [u8; 4] = MAGIC.to_be_bytes();
