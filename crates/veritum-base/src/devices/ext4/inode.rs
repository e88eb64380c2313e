//! ext4's inodes (Documentation/filesystems/ext4/inodes.rst).

use super::super::checksums::crc32c;
use super::superblock::Superblock;
use crate::formats::numbers::{le16, le32};

const EXTENTS: u32 = 0x8_0000;
const INLINE: u32 = 0x1000_0000;
const ENCRYPTED: u32 = 0x800;
const INDEXED: u32 = 0x1000;
const HUGE: u32 = 0x4_0000;
const VALUE: u32 = 0x20_0000;
/// The place of the words in which a file's blocks, or a short symlink's target, are recorded.
const PLACES: std::ops::Range<usize> = 0x28..0x64;
/// The inodes of the root folder and of what keeps blocks for a larger table of groups.
pub(super) const ROOT: u32 = 2;
pub(super) const RESERVED_BLOCKS: u32 = 7;

/// An inode.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Inode {
    /// Its number.
    pub number: u32,
    /// Type and permissions.
    pub mode: u16,
    /// Owner.
    pub uid: u32,
    /// Group.
    pub gid: u32,
    /// The size of its content in bytes.
    pub size: u64,
    /// The modification time, in seconds since 1970.
    pub mtime: i64,
    /// Its nanoseconds, where inodes have room for them.
    pub mtime_nanoseconds: u32,
    /// When it was changed last, in seconds since 1970.
    pub ctime: i64,
    /// Its nanoseconds, where inodes have room for them.
    pub ctime_nanoseconds: u32,
    /// The number of its names.
    pub names: u16,
    /// The block with its extended attributes; 0 if none.
    pub attributes: u64,
    pub(super) flags: u32,
    /// The recorded number of its blocks; by the flags in sectors or in blocks.
    sectors: u64,
    pub(super) places: [u8; 60],
    /// The seed of the checksums of its blocks.
    pub(super) seed: u32,
    /// What follows the fixed part: extended attributes, which may contain a short content.
    pub(super) extra: Vec<u8>,
}

/// The type of a file, from its mode.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Type {
    /// A regular file.
    File,
    /// A folder.
    Folder,
    /// A symlink.
    Link,
    /// A device, a pipe or a socket.
    Special,
    /// Nothing valid.
    Invalid,
}

impl Inode {
    /// Reads an inode of the size that the superblock says.
    pub(super) fn parse(superblock: &Superblock, number: u32, bytes: &[u8]) -> Self {
        let generation = &bytes[0x64..0x68];
        let word = |at: usize| le32(bytes, at);
        let half = |at: usize| u32::from(le16(bytes, at));
        let fixed = if bytes.len() > 128 { 128 + usize::from(le16(bytes, 0x80)) } else { bytes.len() };
        let mut places = [0; 60];
        places.copy_from_slice(&bytes[PLACES]);
        let has_more = bytes.len() > 0x8c && fixed >= 0x8c;
        // Behind the fixed part are two more bits of the seconds, and the nanoseconds.
        let time = |seconds: usize, more: usize| {
            let more = if has_more { word(more) } else { 0 };
            (i64::from(word(seconds).cast_signed()) + (i64::from(more & 3) << 32), more >> 2)
        };
        let ((mtime, mtime_nanoseconds), (ctime, ctime_nanoseconds)) = (time(0x10, 0x88), time(0x0c, 0x84));
        Self {
            number,
            mode: le16(bytes, 0),
            uid: half(2) | half(0x78) << 16,
            gid: half(0x18) | half(0x7a) << 16,
            size: u64::from(word(4)) | u64::from(word(0x6c)) << 32,
            mtime,
            mtime_nanoseconds,
            ctime,
            ctime_nanoseconds,
            names: le16(bytes, 0x1a),
            attributes: u64::from(word(0x68)) | u64::from(half(0x76)) << 32,
            flags: word(0x20),
            sectors: u64::from(word(0x1c)) | if superblock.has_huge_files() { u64::from(half(0x74)) << 32 } else { 0 },
            places,
            seed: crc32c(crc32c(superblock.seed, &number.to_le_bytes()), generation),
            extra: bytes.get(fixed..).unwrap_or_default().to_vec(),
        }
    }

    /// Its type.
    #[must_use]
    pub fn kind(&self) -> Type {
        match self.mode & 0xf000 {
            0x8000 => Type::File,
            0x4000 => Type::Folder,
            0xa000 => Type::Link,
            0x1000 | 0x2000 | 0x6000 | 0xc000 => Type::Special,
            _ => Type::Invalid,
        }
    }

    /// Whether its names, if it is a folder, or its content are encrypted.
    #[must_use]
    pub fn is_encrypted(&self) -> bool {
        self.flags & ENCRYPTED != 0
    }

    /// The recorded number of its blocks; `None` if it is not a number of whole blocks.
    pub(super) fn blocks_told(&self, superblock: &Superblock) -> Option<u64> {
        let in_block = superblock.block_size / 512;
        match self.flags & HUGE != 0 && superblock.has_huge_files() {
            true => Some(self.sectors),
            false => self.sectors.is_multiple_of(in_block).then_some(self.sectors / in_block),
        }
    }

    /// Whether it is the value of another inode's attribute.
    pub(super) fn holds_a_value(&self) -> bool {
        self.flags & VALUE != 0
    }

    pub(super) fn has_extents(&self) -> bool {
        self.flags & EXTENTS != 0
    }

    pub(super) fn is_inline(&self) -> bool {
        self.flags & INLINE != 0
    }

    pub(super) fn is_indexed(&self) -> bool {
        self.flags & INDEXED != 0
    }

    /// Whether blocks belong to it. A short symlink's target, a device's numbers and a short content are in the inode itself.
    pub(super) fn has_blocks(&self) -> bool {
        match self.kind() {
            _ if self.is_inline() => false,
            Type::File | Type::Folder => true,
            // A link without extents whose target fits in has no blocks; an encrypted one can be as short and have some.
            Type::Link => self.has_extents() || self.size >= 60,
            Type::Special => false,
            // Reserved inodes have no type.
            Type::Invalid => self.number < 11,
        }
    }
}

/// Whether an inode's checksum is right; true where there are none. An inode of nothing but zeros was never written.
pub(super) fn sum_is_right(superblock: &Superblock, number: u32, bytes: &[u8]) -> bool {
    if !superblock.has_checksums() || bytes.iter().all(|byte| *byte == 0) {
        return true;
    }
    let seed = crc32c(crc32c(superblock.seed, &number.to_le_bytes()), &bytes[0x64..0x68]);
    let mut sum = crc32c(crc32c(seed, &bytes[..0x7c]), &[0, 0]);
    sum = crc32c(sum, &bytes[0x7e..0x80]);
    let mut told = u32::from(le16(bytes, 0x7c));
    let mut kept = 0xffff;
    if bytes.len() > 128 {
        sum = crc32c(sum, &bytes[0x80..0x82]);
        // The upper half has a place only where the fixed part reaches so far.
        if le16(bytes, 0x80) >= 4 {
            sum = crc32c(crc32c(sum, &[0, 0]), &bytes[0x84..]);
            told |= u32::from(le16(bytes, 0x82)) << 16;
            kept = u32::MAX;
        } else {
            sum = crc32c(sum, &bytes[0x82..]);
        }
    }
    sum & kept == told
}
