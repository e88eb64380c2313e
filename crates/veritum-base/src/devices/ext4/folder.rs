//! ext4's folders (Documentation/filesystems/ext4/directory.rst).

use super::super::checksums::crc32c;
use super::Fault;
use super::inode::Inode;
use super::superblock::{Superblock, incompat};
use crate::formats::numbers::{le16, le32};

/// The smallest entry.
const HEAD: usize = 8;
/// The size of the record with a block's checksum.
const TAIL: usize = 12;
/// The type that marks that record.
const TAIL_TYPE: u8 = 0xde;

/// A name in a folder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Name {
    /// The inode that it names.
    pub inode: u32,
    /// The name; encrypted where the folder is.
    pub name: Vec<u8>,
}

/// A kind of block in a folder.
enum Block {
    /// Names.
    Leaf,
    /// An index, with the place of its numbers.
    Index(usize),
}

/// The names in a folder's block, and what is wrong with it.
pub(super) fn names(superblock: &Superblock, inode: &Inode, bytes: &[u8]) -> (Vec<Name>, Option<Fault>) {
    let is_right = !superblock.has_checksums() || sum_is_right(inode, bytes);
    let (names, fault) = entries(superblock, inode, bytes);
    (names, if is_right { fault } else { Some(Fault::Checksum) })
}

/// An index begins with an unused entry that fills the block; the first one after "." has ".." fill it.
fn kind(inode: &Inode, bytes: &[u8]) -> Block {
    let size = bytes.len();
    let is_whole = |at: usize, left: usize| length(le16(bytes, at + 4), size) == left;
    if inode.is_indexed() && le32(bytes, 0) == 0 && is_whole(0, size) {
        return Block::Index(8);
    }
    if inode.is_indexed() && is_whole(0, 12) && is_whole(12, size - 12) && size >= 40 {
        return Block::Index(32);
    }
    Block::Leaf
}

fn sum_is_right(inode: &Inode, bytes: &[u8]) -> bool {
    match kind(inode, bytes) {
        Block::Leaf => {
            let tail = bytes.len() - TAIL;
            let is_tail = le32(bytes, tail) == 0 && le16(bytes, tail + 4) == 12 && bytes[tail + 7] == TAIL_TYPE;
            is_tail && crc32c(inode.seed, &bytes[..tail]) == le32(bytes, tail + 8)
        }
        Block::Index(at) => {
            let (most, count) = (usize::from(le16(bytes, at)), usize::from(le16(bytes, at + 2)));
            let tail = at + most * 8;
            if count > most || tail + 8 > bytes.len() {
                return false;
            }
            let sum = crc32c(inode.seed, &bytes[..at + count * 8]);
            crc32c(crc32c(sum, &bytes[tail..tail + 4]), &[0; 4]) == le32(bytes, tail + 4)
        }
    }
}

/// The length of an entry; in blocks of 64 KiB its last bits are kept elsewhere.
fn length(told: u16, block: usize) -> usize {
    match told {
        0 | 0xffff if block == 65536 => 65536,
        told if block == 65536 => usize::from(told & 0xfffc) | usize::from(told & 3) << 16,
        told => usize::from(told),
    }
}

/// The entries of a block. An index looks like unused space, or like "." and ".." to what does not know it.
pub(super) fn entries(superblock: &Superblock, inode: &Inode, bytes: &[u8]) -> (Vec<Name>, Option<Fault>) {
    let mut all = Vec::new();
    let mut at = 0;
    let has_types = superblock.incompat & incompat::FILETYPE != 0;
    while at + HEAD <= bytes.len() {
        let size = length(le16(bytes, at + 4), bytes.len());
        let number = le32(bytes, at);
        let name = if has_types { usize::from(bytes[at + 6]) } else { usize::from(le16(bytes, at + 6)) };
        let fits =
            size >= HEAD && size.is_multiple_of(4) && at + size <= bytes.len() && (number == 0 || HEAD + name <= size);
        if !fits {
            return (all, Some(Fault::Structure("the names in it are not valid")));
        }
        if number != 0 {
            let name = &bytes[at + HEAD..at + HEAD + name];
            let plain = inode.is_encrypted() || !name.contains(&b'/') && !name.contains(&0);
            if number > superblock.inodes || !plain || name.is_empty() || name.len() > 255 {
                return (all, Some(Fault::Structure("the names in it are not valid")));
            }
            all.push(Name { inode: number, name: name.to_vec() });
        }
        at += size;
    }
    (all, None)
}
