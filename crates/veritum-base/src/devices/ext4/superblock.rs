//! ext4's superblock (Documentation/filesystems/ext4/super.rst).

use super::super::checksums::crc32c;
use crate::formats::numbers::{array, le16, le32, le64, text, uuid};

/// The superblock's place from the beginning of the file system, in bytes.
pub(super) const AT: u64 = 1024;
/// Its size in bytes.
pub(super) const SIZE: usize = 1024;
const MAGIC: u16 = 0xef53;
/// The largest block in bytes.
const MAX_BLOCK: u64 = 64 << 10;

/// Features that a reader must know.
pub(super) mod incompat {
    pub(in super::super) const FILETYPE: u32 = 0x2;
    pub(in super::super) const RECOVER: u32 = 0x4;
    pub(in super::super) const META_BG: u32 = 0x10;
    pub(in super::super) const EXTENTS: u32 = 0x40;
    pub(in super::super) const BITS64: u32 = 0x80;
    pub(in super::super) const PROTECTED: u32 = 0x100;
    pub(in super::super) const VALUE_INODES: u32 = 0x400;
    pub(in super::super) const CSUM_SEED: u32 = 0x2000;
    /// File types, recovery, extents, sixty-four bits, multiple mount protection, flexible groups, attributes in inodes, seed,
    /// large folders, inline data, encryption, case folding.
    pub(in super::super) const KNOWN: u32 = FILETYPE
        | RECOVER
        | META_BG
        | EXTENTS
        | BITS64
        | 0x100
        | 0x200
        | 0x400
        | CSUM_SEED
        | 0x4000
        | 0x8000
        | 0x1_0000
        | 0x2_0000;
}

/// Features that a reader need not know.
mod others {
    pub(super) const COMPAT_SPARSE_SUPER2: u32 = 0x200;
    pub(super) const COMPAT_JOURNAL: u32 = 0x4;
    pub(super) const SPARSE_SUPER: u32 = 0x1;
    pub(super) const GDT_CSUM: u32 = 0x10;
    pub(super) const BIGALLOC: u32 = 0x200;
    pub(super) const METADATA_CSUM: u32 = 0x400;
    pub(super) const HUGE_FILES: u32 = 0x8;
    pub(super) const UNCOUNTED_FOLDERS: u32 = 0x20;
    pub(super) const ORPHANS_PRESENT: u32 = 0x1_0000;
}

/// An error that the kernel recorded.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RecordedError {
    /// When, in seconds since 1970.
    pub at: i64,
    /// The kernel's function that found it.
    pub function: String,
    /// The inode concerned; 0 if none.
    pub inode: u32,
    /// The block concerned; 0 if none.
    pub block: u64,
}

/// How often a file system was mounted since its last check, and how often it may be until the next one.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize, schemars::JsonSchema)]
pub struct MountCounts {
    /// The number of mounts since the last check.
    pub mounts: u16,
    /// The number of mounts after which it is checked at a start; no maximum if that is not positive.
    pub maximum: i16,
}

impl MountCounts {
    /// Whether it is checked at the next start for that reason, also on a computer that runs on battery: the file system's own check
    /// puts off there what is less than twice over its maximum.
    #[must_use]
    pub fn is_due(self) -> bool {
        u16::try_from(self.maximum).is_ok_and(|maximum| maximum > 0 && self.mounts >= maximum.saturating_mul(2))
    }
}

/// What a superblock says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Superblock {
    /// The size of a block in bytes.
    pub block_size: u64,
    /// The number of blocks.
    pub blocks: u64,
    /// The number of inodes.
    pub inodes: u32,
    /// The first block of the first group.
    pub first_block: u64,
    /// Blocks in a group.
    pub blocks_per_group: u64,
    /// Clusters in a group: as many as blocks, unless blocks are allocated in clusters.
    pub clusters_per_group: u64,
    /// Inodes in a group.
    pub inodes_per_group: u32,
    /// The size of an inode in bytes.
    pub inode_size: usize,
    /// The size of a group descriptor in bytes.
    pub descriptor_size: usize,
    /// The first inode that is not reserved.
    pub first_inode: u32,
    /// The inode of the file system's journal; 0 if there is none.
    pub journal_inode: u32,
    /// The first group whose descriptors are with its group.
    pub(super) first_meta_group: u32,
    /// Groups that have the copies, if only two have.
    pub(super) copies_in: [u32; 2],
    pub(super) compat: u32,
    pub(super) incompat: u32,
    pub(super) ro_compat: u32,
    /// The seed of all checksums but its own.
    pub(super) seed: u32,
    pub(super) raw_uuid: [u8; 16],
    /// Its UUID.
    pub uuid: String,
    /// Its label.
    pub label: String,
    /// Where it was last mounted.
    pub last_mounted: String,
    /// Whether it was unmounted cleanly.
    pub clean: bool,
    /// Whether the kernel marked it with errors.
    pub marked: bool,
    /// The number of errors that the kernel recorded.
    pub errors: u32,
    /// The first of them.
    pub first_error: Option<RecordedError>,
    /// The last of them.
    pub last_error: Option<RecordedError>,
    /// When it was last checked, in seconds since 1970.
    pub last_check: i64,
    /// When it was last written.
    pub written: i64,
    /// How often it was mounted since then, and the maximum.
    pub counts: MountCounts,
    /// Inodes that no folder names, beside the reserved ones: of quotas, of files that are deleted while they are open, and of the log of
    /// changes; 0 for none.
    pub(super) unnamed: [u32; 5],
    /// The block that protects it against being mounted twice; 0 if there is none.
    pub(super) protection_block: u64,
    /// The first of the files that were deleted while they were open; 0 for none.
    pub(super) first_orphan: u32,
    /// The group that this copy belongs to; 0 for the first.
    pub group: u16,
    /// Whether its checksum is right; `None` if it has none.
    pub sum_is_right: Option<bool>,
}

impl Superblock {
    /// Parses a superblock.
    ///
    /// # Errors
    /// Why it is none, or cannot be used.
    pub fn parse(bytes: &[u8; SIZE]) -> Result<Self, &'static str> {
        let word = |at: usize| le32(bytes, at);
        if le16(bytes, 0x38) != MAGIC {
            return Err("no ext4 file system");
        }
        let is_64 = word(0x60) & incompat::BITS64 != 0;
        let wide = |low: usize, high: usize| u64::from(word(low)) | if is_64 { u64::from(word(high)) << 32 } else { 0 };
        let block_size = 1024u64.checked_shl(word(0x18)).filter(|size| *size <= MAX_BLOCK && word(0x18) < 7);
        let block_size = block_size.ok_or("its block size is not valid")?;
        let is_old = word(0x4c) == 0;
        let raw_uuid = array(bytes, 0x68).unwrap_or_default();
        let ro_compat = word(0x64);
        let clustered = ro_compat & others::BIGALLOC != 0;
        let time = |low: usize, high: usize| i64::from(word(low)) | i64::from(bytes[high]) << 32;
        let error = |at: usize, function: usize, inode: usize, block: usize, high: usize| {
            (word(at) != 0).then(|| RecordedError {
                at: time(at, high),
                function: text(&bytes[function..function + 32]),
                inode: word(inode),
                block: le64(bytes, block),
            })
        };
        let sums = ro_compat & others::METADATA_CSUM != 0;
        let superblock = Self {
            block_size,
            blocks: wide(4, 0x150),
            inodes: word(0),
            first_block: u64::from(word(0x14)),
            blocks_per_group: u64::from(word(0x20)),
            clusters_per_group: u64::from(if clustered { word(0x24) } else { word(0x20) }),
            inodes_per_group: word(0x28),
            inode_size: if is_old { 128 } else { usize::from(le16(bytes, 0x58)) },
            descriptor_size: if is_64 { usize::from(le16(bytes, 0xfe)) } else { 32 },
            first_inode: if is_old { 11 } else { word(0x54) },
            journal_inode: if word(0x5c) & others::COMPAT_JOURNAL == 0 { 0 } else { word(0xe0) },
            first_meta_group: word(0x104),
            copies_in: [word(0x24c), word(0x250)],
            compat: word(0x5c),
            incompat: word(0x60),
            ro_compat,
            seed: match word(0x60) & incompat::CSUM_SEED != 0 {
                true => word(0x270),
                false => crc32c(u32::MAX, &raw_uuid),
            },
            uuid: uuid(&raw_uuid),
            raw_uuid,
            label: text(&bytes[0x78..0x88]),
            last_mounted: text(&bytes[0x88..0xc8]),
            clean: le16(bytes, 0x3a) & 1 != 0,
            marked: le16(bytes, 0x3a) & 2 != 0,
            errors: word(0x194),
            first_error: error(0x198, 0x1a8, 0x19c, 0x1a0, 0x278),
            last_error: error(0x1cc, 0x1e0, 0x1d0, 0x1d8, 0x279),
            last_check: time(0x40, 0x277),
            written: time(0x30, 0x274),
            counts: MountCounts {
                mounts: le16(bytes, 0x34),
                maximum: i16::from_le_bytes(array(bytes, 0x36).unwrap_or_default()),
            },
            unnamed: [word(0x240), word(0x244), word(0x26c), word(0x280), word(0xe0)],
            protection_block: if word(0x60) & incompat::PROTECTED == 0 { 0 } else { le64(bytes, 0x168) },
            first_orphan: word(0xe8),
            group: le16(bytes, 0x5a),
            sum_is_right: sums.then(|| crc32c(u32::MAX, &bytes[..0x3fc]) == word(0x3fc)),
        };
        superblock.validate()?;
        Ok(superblock)
    }

    /// Refuses what would lead a reader astray.
    fn validate(&self) -> Result<(), &'static str> {
        let bits = self.block_size * 8;
        if self.incompat & 0x8 != 0 {
            return Err("it is another file system's journal");
        }
        if self.incompat & !incompat::KNOWN != 0 {
            return Err("it uses features that Veritum does not know");
        }
        if !(1..=bits).contains(&self.clusters_per_group)
            || self.blocks_per_group == 0
            || !self.blocks_per_group.is_multiple_of(self.clusters_per_group)
            || self.blocks_per_group / self.clusters_per_group > bits
        {
            return Err("the size of its groups is not valid");
        }
        if self.inode_size < 128 || !self.inode_size.is_power_of_two() || self.inode_size as u64 > self.block_size {
            return Err("the size of its inodes is not valid");
        }
        if self.inodes_per_group == 0 || u64::from(self.inodes_per_group) > bits {
            return Err("the number of its inodes is not valid");
        }
        if self.descriptor_size < 32 || self.descriptor_size as u64 > self.block_size {
            return Err("the size of its group descriptors is not valid");
        }
        if self.blocks <= self.first_block || self.blocks > 1 << 48 || self.first_block > 1 {
            return Err("the number of its blocks is not valid");
        }
        let inodes = u64::from(self.groups()) * u64::from(self.inodes_per_group);
        if self.groups() == u32::MAX || u64::from(self.inodes) != inodes {
            return Err("the number of its inodes is not valid");
        }
        Ok(())
    }

    /// The number of groups.
    #[must_use]
    pub fn groups(&self) -> u32 {
        let groups = (self.blocks - self.first_block).div_ceil(self.blocks_per_group);
        u32::try_from(groups).unwrap_or(u32::MAX)
    }

    /// The first block of a group.
    #[must_use]
    pub fn start_of(&self, group: u32) -> u64 {
        self.first_block + u64::from(group) * self.blocks_per_group
    }

    /// Whether its metadata have CRC-32C checksums.
    #[must_use]
    pub fn has_checksums(&self) -> bool {
        self.ro_compat & others::METADATA_CSUM != 0
    }

    /// Whether its group descriptors have CRC-16 checksums.
    pub(super) fn has_descriptor_checksums(&self) -> bool {
        self.ro_compat & others::GDT_CSUM != 0 && !self.has_checksums()
    }

    /// The file that records which files were deleted while they were open, if it records any.
    pub(super) fn orphan_file(&self) -> Option<u32> {
        (self.ro_compat & others::ORPHANS_PRESENT != 0).then_some(self.unnamed[3])
    }

    /// Whether blocks are allocated in clusters of several.
    pub(super) fn has_clusters(&self) -> bool {
        self.ro_compat & others::BIGALLOC != 0
    }

    /// Whether files can be so large that their blocks are counted otherwise.
    pub(super) fn has_huge_files(&self) -> bool {
        self.ro_compat & others::HUGE_FILES != 0
    }

    /// Whether folders can contain more others than are counted.
    pub(super) fn has_uncounted_folders(&self) -> bool {
        self.ro_compat & others::UNCOUNTED_FOLDERS != 0
    }

    /// Whether large attributes are kept in separate inodes.
    pub(super) fn has_value_inodes(&self) -> bool {
        self.incompat & incompat::VALUE_INODES != 0
    }

    /// The features that a reader must know (`s_feature_incompat`; Documentation/filesystems/ext4, "The Super Block").
    #[must_use]
    pub fn required_features(&self) -> u32 {
        self.incompat
    }

    /// Whether the file system's journal has to be applied before it is as it should be.
    #[must_use]
    pub fn needs_recovery(&self) -> bool {
        self.incompat & incompat::RECOVER != 0
    }

    /// Whether a group has a copy of the superblock and of the group descriptors.
    #[must_use]
    pub fn has_copy(&self, group: u32) -> bool {
        if group == 0 {
            return true;
        }
        if self.compat & others::COMPAT_SPARSE_SUPER2 != 0 {
            return self.copies_in.contains(&group);
        }
        let is_power = |of: u32| {
            let mut left = group;
            while left.is_multiple_of(of) {
                left /= of;
            }
            left == 1
        };
        self.ro_compat & others::SPARSE_SUPER == 0 || group == 1 || [3, 5, 7].into_iter().any(is_power)
    }

    /// The block with the superblock, or with its copy in another group. In the first group it is where it always is, even if the
    /// group begins before that block.
    #[must_use]
    pub fn copy_at(&self, group: u32) -> u64 {
        if group == 0 { AT / self.block_size } else { self.start_of(group) }
    }

    /// The block with a group's descriptor, and the descriptor's place in it in bytes; by the copy in `copy_in` where the descriptors
    /// are together.
    pub(super) fn descriptor_of(&self, group: u32, copy_in: u32) -> (u64, usize) {
        let in_block = u32::try_from(self.block_size / self.descriptor_size as u64).unwrap_or(1);
        let (table, position) = (group / in_block, (group % in_block) as usize * self.descriptor_size);
        if self.incompat & incompat::META_BG == 0 || table < self.first_meta_group {
            return (self.copy_at(copy_in) + 1 + u64::from(table), position);
        }
        let first = table * in_block;
        let start = if first == 0 { self.copy_at(0) } else { self.start_of(first) };
        (start + u64::from(self.has_copy(first)), position)
    }

    /// The block of descriptors, or the copy of one, in a group, where these are spread over the file system: in the first, second and last
    /// of the groups that one block describes.
    pub(super) fn spread_descriptors_in(&self, group: u32) -> Option<u64> {
        let in_block = u32::try_from(self.block_size / self.descriptor_size as u64).unwrap_or(1);
        let (table, index) = (group / in_block, group % in_block);
        let has_one = index < 2 || index == in_block - 1;
        let is_spread = self.incompat & incompat::META_BG != 0 && table >= self.first_meta_group;
        let start = if group == 0 { self.copy_at(0) } else { self.start_of(group) };
        (is_spread && has_one).then(|| start + u64::from(self.has_copy(group)))
    }

    /// The number of blocks of group descriptors that follow each copy of the superblock.
    pub(super) fn descriptor_blocks(&self) -> u64 {
        let in_block = self.block_size / self.descriptor_size as u64;
        let all = u64::from(self.groups()).div_ceil(in_block.max(1));
        match self.incompat & incompat::META_BG {
            0 => all,
            _ => all.min(u64::from(self.first_meta_group)),
        }
    }
}
