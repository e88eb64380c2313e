//! Files that were deleted, or shortened, while they were open: their blocks are freed at the next mount
//! (Documentation/filesystems/ext4/orphan.rst).

use std::collections::HashSet;

use super::{FileSystem, Inode};
use crate::formats::numbers::le32;

/// More are not followed.
const MAX_ORPHANS: usize = 1 << 20;
/// The place where an inode that is one of them records the next.
const NEXT: usize = 0x14;
/// The size of what ends each block of the file that records them.
const TAIL: usize = 8;

/// The inodes concerned; `None` if the record of them cannot be followed.
pub(super) fn of(fs: &FileSystem<'_>) -> Option<HashSet<u32>> {
    let mut found = HashSet::new();
    let mut next = fs.superblock.first_orphan;
    while next != 0 {
        if !found.insert(next) || found.len() > MAX_ORPHANS {
            return None;
        }
        next = le32(&fs.inode_bytes(next).ok()?, NEXT);
    }
    if let Some(file) = fs.superblock.orphan_file() {
        found.extend(recorded_in(fs, &fs.inode(file).ok()?)?);
    }
    Some(found)
}

/// The inodes that a file records: in each block numbers, 0 for none.
fn recorded_in(fs: &FileSystem<'_>, file: &Inode) -> Option<Vec<u32>> {
    let content = fs.content(file);
    let size = usize::try_from(content.block_size()).ok()?;
    let blocks = content.size() / size as u64;
    if blocks.saturating_mul(size as u64 / 4) > MAX_ORPHANS as u64 {
        return None;
    }
    let mut all = Vec::new();
    for block in 0..blocks {
        let mut bytes = vec![0; size];
        content.read_at(block * size as u64, &mut bytes).ok()?;
        let numbers = bytes[..size - TAIL].chunks_exact(4).map(|number| le32(number, 0));
        all.extend(numbers.filter(|number| *number != 0));
    }
    Some(all)
}
