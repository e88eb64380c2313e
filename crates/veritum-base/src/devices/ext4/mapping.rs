//! Where a file's blocks are: extents (Documentation/filesystems/ext4/ifork.rst), or maps of blocks as ext2 and ext3 have them.

use super::super::checksums::crc32c;
use super::inode::Inode;
use super::{Fault, FileSystem};
use crate::formats::numbers::{le16, le32};

const MAGIC: u16 = 0xf30a;
const ENTRY: usize = 12;
const MAX_DEPTH: u16 = 5;
/// Files with more blocks of places are not followed further: a file of a terabyte has a hundredth of it, unless it is torn into pieces.
const MAX_NODES: usize = 1 << 18;
/// A longer run was allocated and never written: it reads as zeros.
const MAX_WRITTEN: u32 = 32768;

/// Adjacent blocks of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Run {
    /// The first one's position in the file, in blocks.
    pub position: u64,
    /// The first one's place in the file system.
    pub block: u64,
    /// Their number.
    pub count: u64,
    /// Whether they were written; otherwise they read as zeros.
    pub written: bool,
}

/// What a file's places consist of.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Piece {
    /// Blocks of content.
    Content(Run),
    /// A block with further places.
    Node(u64),
}

/// A block with places that cannot be used.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct BadNode {
    /// The block; `None` for what is in the inode itself.
    pub(super) block: Option<u64>,
    pub(super) fault: Fault,
}

/// Reads a block with places.
pub(super) type ReadNode<'a> = &'a dyn Fn(u64) -> std::io::Result<Vec<u8>>;

/// Walks through the places of one file.
struct Walk<'a> {
    fs: &'a FileSystem<'a>,
    read: ReadNode<'a>,
    inode: &'a Inode,
    visit: &'a mut dyn FnMut(Piece),
    bad: Vec<BadNode>,
    nodes: usize,
}

/// Reports every piece of a file's places, and returns what of them cannot be used.
pub(super) fn walk(fs: &FileSystem<'_>, inode: &Inode, visit: &mut dyn FnMut(Piece)) -> Vec<BadNode> {
    walk_reading(fs, inode, &|block| fs.block(block), visit)
}

/// The same, with blocks of places from elsewhere.
pub(super) fn walk_reading(
    fs: &FileSystem<'_>,
    inode: &Inode,
    read: ReadNode<'_>,
    visit: &mut dyn FnMut(Piece),
) -> Vec<BadNode> {
    if !inode.has_blocks() {
        return Vec::new();
    }
    let mut walk = Walk { fs, read, inode, visit, bad: Vec::new(), nodes: 0 };
    if inode.has_extents() {
        walk.extents(&inode.places, None, None);
    } else {
        walk.map();
    }
    walk.bad
}

impl Walk<'_> {
    fn fail(&mut self, block: Option<u64>, fault: Fault) {
        self.bad.push(BadNode { block, fault });
    }

    /// The block's bytes, if it is within the file system, can be read, and there are not too many.
    fn node(&mut self, block: u64) -> Option<Vec<u8>> {
        self.nodes += 1;
        if self.nodes > MAX_NODES {
            if self.nodes == MAX_NODES + 1 {
                self.fail(None, Fault::Structure("too many blocks of places"));
            }
            return None;
        }
        if !self.fs.has_block(block) {
            self.fail(None, Fault::Structure("names a block outside the file system"));
            return None;
        }
        (self.visit)(Piece::Node(block));
        match (self.read)(block) {
            Ok(bytes) => Some(bytes),
            Err(e) => {
                self.fail(Some(block), Fault::of(&e));
                None
            }
        }
    }

    /// A node of the tree of extents; `depth` is what the node above demands.
    fn extents(&mut self, bytes: &[u8], block: Option<u64>, depth: Option<u16>) {
        let (count, most, found) = (le16(bytes, 2), le16(bytes, 4), le16(bytes, 6));
        let fits = usize::from(most) * ENTRY + ENTRY <= bytes.len();
        if le16(bytes, 0) != MAGIC || !fits || count > most || found > MAX_DEPTH || depth.is_some_and(|d| d != found) {
            return self.fail(block, Fault::Structure("no valid list of extents"));
        }
        let tail = ENTRY + usize::from(most) * ENTRY;
        if block.is_some()
            && self.fs.superblock.has_checksums()
            && tail + 4 <= bytes.len()
            && crc32c(self.inode.seed, &bytes[..tail]) != le32(bytes, tail)
        {
            return self.fail(block, Fault::Checksum);
        }
        let mut least = 0;
        for entry in bytes[ENTRY..].chunks_exact(ENTRY).take(usize::from(count)) {
            let position = u64::from(le32(entry, 0));
            if position < least {
                return self.fail(block, Fault::Structure("its extents are not in order"));
            }
            if found > 0 {
                least = position + 1;
                let below = u64::from(le32(entry, 4)) | u64::from(le16(entry, 8)) << 32;
                if let Some(bytes) = self.node(below) {
                    self.extents(&bytes, Some(below), Some(found - 1));
                }
                continue;
            }
            let length = u32::from(le16(entry, 4));
            let written = length <= MAX_WRITTEN;
            let count = u64::from(if written { length } else { length - MAX_WRITTEN });
            let first = u64::from(le32(entry, 8)) | u64::from(le16(entry, 6)) << 32;
            if count == 0 || !self.fs.has_block(first) || !self.fs.has_block(first + count - 1) {
                return self.fail(block, Fault::Structure("an extent is outside the file system"));
            }
            least = position + count;
            (self.visit)(Piece::Content(Run { position, block: first, count, written }));
        }
    }

    /// Twelve blocks, and blocks of blocks in one, two and three levels.
    fn map(&mut self) {
        let places: Vec<u32> = self.inode.places.chunks_exact(4).map(|word| le32(word, 0)).collect();
        let in_block = self.fs.superblock.block_size / 4;
        let mut position = 0;
        for block in &places[..12] {
            self.mapped(u64::from(*block), position, None);
            position += 1;
        }
        for (level, block) in (1u32..).zip(&places[12..]) {
            self.map_below(u64::from(*block), level, position);
            position += in_block.pow(level);
        }
    }

    fn map_below(&mut self, block: u64, level: u32, position: u64) {
        if block == 0 || position > u64::from(u32::MAX) {
            return;
        }
        let Some(bytes) = self.node(block) else { return };
        let in_block = self.fs.superblock.block_size / 4;
        for (index, word) in (0u64..).zip(bytes.chunks_exact(4)) {
            let below = u64::from(le32(word, 0));
            match level {
                1 => self.mapped(below, position + index, Some(block)),
                _ => self.map_below(below, level - 1, position + index * in_block.pow(level - 1)),
            }
        }
    }

    fn mapped(&mut self, block: u64, position: u64, within: Option<u64>) {
        if block == 0 {
            return;
        }
        if !self.fs.has_block(block) {
            // One wrong number is enough to know that the block of numbers is damaged.
            if self.bad.last().is_none_or(|bad| bad.block != within) {
                self.fail(within, Fault::Structure("names a block outside the file system"));
            }
            return;
        }
        (self.visit)(Piece::Content(Run { position, block, count: 1, written: true }));
    }
}

/// Whether a block is a node of the tree of this file's extents, and names something.
pub(super) fn is_node_of(fs: &FileSystem<'_>, inode: &Inode, bytes: &[u8]) -> bool {
    let tail = ENTRY + usize::from(le16(bytes, 4)) * ENTRY;
    let has_sum = || tail + 4 <= bytes.len() && crc32c(inode.seed, &bytes[..tail]) == le32(bytes, tail);
    le16(bytes, 0) == MAGIC && le16(bytes, 2) > 0 && (!fs.superblock.has_checksums() || has_sum())
}
