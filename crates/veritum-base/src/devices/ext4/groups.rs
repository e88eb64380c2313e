//! ext4's block groups: descriptors and bitmaps (Documentation/filesystems/ext4/group_descr.rst, bitmaps.rst).

use super::super::checksums::{crc16, crc32c};
use super::superblock::Superblock;
use crate::formats::numbers::{le16, le32};

const INODES_UNUSED: u16 = 1;
const BLOCKS_UNUSED: u16 = 2;

/// What a group's descriptor says.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Group {
    pub(super) block_bitmap: u64,
    pub(super) inode_bitmap: u64,
    pub(super) inode_table: u64,
    /// Whether none of its inodes was ever used: its bitmap is not written then.
    pub(super) no_inodes: bool,
    /// Whether its bitmap of blocks is not written.
    pub(super) no_block_bitmap: bool,
    /// Inodes at the end of the table that were never used.
    pub(super) unused: u32,
    pub(super) bitmap_sums: [u32; 2],
    /// The recorded number of free blocks.
    pub(super) free_blocks: u64,
    /// The recorded number of free inodes.
    pub(super) free_inodes: u32,
}

/// The sum of a descriptor: its checksum, and whether it is right; `None` if descriptors have none.
pub(super) fn sum_is_right(superblock: &Superblock, group: u32, bytes: &[u8]) -> Option<bool> {
    let told = le16(bytes, 0x1e);
    let number = group.to_le_bytes();
    let rest = bytes.get(0x20..).unwrap_or_default();
    if superblock.has_checksums() {
        let head = crc32c(crc32c(superblock.seed, &number), &bytes[..0x1e]);
        return Some(crc32c(crc32c(head, &[0, 0]), rest) & 0xffff == u32::from(told));
    }
    superblock.has_descriptor_checksums().then(|| {
        let head = crc16(crc16(crc16(u16::MAX, &superblock.raw_uuid), &number), &bytes[..0x1e]);
        crc16(head, rest) == told
    })
}

impl Group {
    /// Reads a descriptor of the size that the superblock says.
    pub(super) fn parse(superblock: &Superblock, bytes: &[u8]) -> Self {
        let is_wide = superblock.descriptor_size >= 64;
        let block = |low: usize, high: usize| {
            u64::from(le32(bytes, low)) | if is_wide { u64::from(le32(bytes, high)) << 32 } else { 0 }
        };
        let short = |low: usize, high: usize| {
            u32::from(le16(bytes, low)) | if is_wide { u32::from(le16(bytes, high)) << 16 } else { 0 }
        };
        // Without checksums of descriptors these flags are not kept.
        let kept = superblock.has_checksums() || superblock.has_descriptor_checksums();
        let flags = if kept { le16(bytes, 0x12) } else { 0 };
        Self {
            block_bitmap: block(0, 0x20),
            inode_bitmap: block(4, 0x24),
            inode_table: block(8, 0x28),
            no_inodes: flags & INODES_UNUSED != 0,
            no_block_bitmap: flags & BLOCKS_UNUSED != 0,
            unused: if kept { short(0x1c, 0x32) } else { 0 },
            bitmap_sums: [short(0x18, 0x38), short(0x1a, 0x3a)],
            free_blocks: u64::from(short(0x0c, 0x2c)),
            free_inodes: short(0x0e, 0x2e),
        }
    }

    /// Whether the places it names are within the file system.
    pub(super) fn is_plausible(&self, superblock: &Superblock) -> bool {
        let within = |block: u64| block > superblock.first_block && block < superblock.blocks;
        let end = self.inode_table.saturating_add(table_blocks(superblock));
        within(self.block_bitmap)
            && within(self.inode_bitmap)
            && within(self.inode_table)
            && end <= superblock.blocks
            && self.unused <= superblock.inodes_per_group
    }

    /// Whether the bitmap of blocks has the checksum that is recorded; true without checksums.
    pub(super) fn has_block_sum(&self, superblock: &Superblock, bitmap: &[u8]) -> bool {
        self.has_sum(superblock, bitmap, superblock.clusters_per_group, self.bitmap_sums[0])
    }

    /// Whether the bitmap of inodes has the checksum that is recorded; true without checksums.
    pub(super) fn has_inode_sum(&self, superblock: &Superblock, bitmap: &[u8]) -> bool {
        self.has_sum(superblock, bitmap, u64::from(superblock.inodes_per_group), self.bitmap_sums[1])
    }

    fn has_sum(&self, superblock: &Superblock, bitmap: &[u8], bits: u64, told: u32) -> bool {
        let bytes = usize::try_from(bits / 8).unwrap_or(usize::MAX).min(bitmap.len());
        let kept = if superblock.descriptor_size >= 64 { u32::MAX } else { 0xffff };
        !superblock.has_checksums() || crc32c(superblock.seed, &bitmap[..bytes]) & kept == told
    }
}

/// The blocks of a group's inode table.
pub(super) fn table_blocks(superblock: &Superblock) -> u64 {
    (u64::from(superblock.inodes_per_group) * superblock.inode_size as u64).div_ceil(superblock.block_size)
}
