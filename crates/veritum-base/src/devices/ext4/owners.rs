//! Which file, or which part of a file system, blocks belong to.

use std::ops::Range;

use super::groups::table_blocks;
use super::inode::RESERVED_BLOCKS;
use super::mapping::{self, Piece};
use super::{FileSystem, Part};

/// What a block belongs to.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Owner {
    /// The content of a file or folder.
    File(u32),
    /// The record of where a file's content or attributes are.
    Metadata(u32),
    /// A part of a group.
    Group(Part, u32),
    /// The file system's journal.
    Journal,
    /// Nothing: it is free.
    Free,
    /// It is used, and nothing that can be read names it.
    Unknown,
}

/// The owner of each of these blocks, which must be sorted.
#[must_use]
pub fn owners(fs: &FileSystem<'_>, blocks: &[u64]) -> Vec<Owner> {
    let mut found: Vec<Option<Owner>> = vec![None; blocks.len()];
    let mut take = |first: u64, count: u64, owner: &Owner| {
        let from = blocks.partition_point(|block| *block < first);
        let to = blocks.partition_point(|block| *block < first.saturating_add(count));
        for place in &mut found[from..to.max(from)] {
            place.get_or_insert_with(|| owner.clone());
        }
    };
    of_groups(fs, &mut take);
    fs.each_inode(&mut |inode| {
        let (content, more) = match inode.number {
            number if number == fs.superblock.journal_inode => (Owner::Journal, Owner::Journal),
            // Blocks that are kept for more group descriptors.
            RESERVED_BLOCKS => (Owner::Group(Part::Descriptor, 0), Owner::Group(Part::Descriptor, 0)),
            number => (Owner::File(number), Owner::Metadata(number)),
        };
        mapping::walk(fs, inode, &mut |piece| match piece {
            Piece::Content(run) => take(run.block, run.count, &content),
            Piece::Node(block) => take(block, 1, &more),
        });
        if inode.attributes != 0 {
            take(inode.attributes, 1, &more);
        }
    });
    let rest = |(block, owner): (&u64, Option<Owner>)| {
        owner.unwrap_or_else(|| if is_used(fs, *block) == Some(false) { Owner::Free } else { Owner::Unknown })
    };
    blocks.iter().zip(found).map(rest).collect()
}

impl FileSystem<'_> {
    /// The places of all blocks in use, in bytes and in order; all of a group whose bitmap cannot be read.
    #[must_use]
    pub fn used_ranges(&self) -> Vec<Range<u64>> {
        let superblock = &self.superblock;
        let (size, cluster) = (superblock.block_size, superblock.blocks_per_group / superblock.clusters_per_group);
        let mut ranges: Vec<Range<u64>> = Vec::new();
        let mut add = |first: u64, count: u64| {
            let range = first * size..first.saturating_add(count).min(superblock.blocks) * size;
            match ranges.last_mut() {
                Some(last) if last.end == range.start => last.end = range.end,
                _ => ranges.push(range),
            }
        };
        add(0, superblock.first_block + 1);
        for (number, group) in (0..).zip(&self.groups) {
            let start = superblock.start_of(number);
            let bitmap =
                group.as_ref().ok().filter(|group| !group.no_block_bitmap).map(|group| self.block(group.block_bitmap));
            match (group, bitmap) {
                // Of a group without a bitmap only its own parts are in use.
                (Ok(group), None) => {
                    add(group.block_bitmap, 1);
                    add(group.inode_bitmap, 1);
                    add(group.inode_table, table_blocks(superblock));
                    if superblock.has_copy(number) {
                        add(start, 1 + superblock.descriptor_blocks());
                    }
                }
                (Ok(_), Some(Ok(bitmap))) => {
                    let clusters = usize::try_from(superblock.clusters_per_group).unwrap_or(usize::MAX);
                    for bit in (0..clusters.min(bitmap.len() * 8)).filter(|bit| bitmap[bit / 8] >> (bit % 8) & 1 != 0) {
                        add(start + bit as u64 * cluster, cluster);
                    }
                }
                _ => add(start, superblock.blocks_per_group),
            }
        }
        // The parts of a group can be in another one.
        ranges.retain(|range| range.start < range.end);
        ranges.sort_unstable_by_key(|range| range.start);
        ranges.dedup_by(|next, last| {
            let joins = next.start <= last.end;
            if joins {
                last.end = last.end.max(next.end);
            }
            joins
        });
        ranges
    }
}

/// The fixed parts of each group.
pub(super) fn of_groups(fs: &FileSystem<'_>, take: &mut dyn FnMut(u64, u64, &Owner)) {
    for (number, group) in (0..).zip(&fs.groups) {
        let start = fs.superblock.copy_at(number);
        if fs.superblock.has_copy(number) {
            take(start, 1, &Owner::Group(Part::Superblock, number));
            take(start + 1, fs.superblock.descriptor_blocks(), &Owner::Group(Part::Descriptor, number));
        }
        take(fs.superblock.descriptor_of(number, 0).0, 1, &Owner::Group(Part::Descriptor, number));
        if let Some(block) = fs.superblock.spread_descriptors_in(number) {
            take(block, 1, &Owner::Group(Part::Descriptor, number));
        }
        if let Ok(group) = group {
            take(group.block_bitmap, 1, &Owner::Group(Part::BlockBitmap, number));
            take(group.inode_bitmap, 1, &Owner::Group(Part::InodeBitmap, number));
            take(group.inode_table, table_blocks(&fs.superblock), &Owner::Group(Part::InodeTable, number));
        }
    }
    // Before the superblock there is room for boot code.
    if fs.superblock.copy_at(0) == 1 {
        take(0, 1, &Owner::Group(Part::Superblock, 0));
    }
}

/// Whether a block is used by the bitmap of its group; `None` if that cannot be read.
fn is_used(fs: &FileSystem<'_>, block: u64) -> Option<bool> {
    GroupBitmap::of(fs, block)?.has(block)
}

/// The blocks in use of one group.
struct GroupBitmap {
    start: u64,
    cluster: u64,
    /// `None` where none is in use but the group's own parts.
    bits: Option<Vec<u8>>,
}

impl GroupBitmap {
    /// That of the group of a block; `None` if it cannot be read.
    fn of(fs: &FileSystem<'_>, block: u64) -> Option<Self> {
        let superblock = &fs.superblock;
        let number = block.checked_sub(superblock.first_block)? / superblock.blocks_per_group;
        let group = fs.groups.get(usize::try_from(number).ok()?)?.as_ref().ok()?;
        let start = superblock.first_block + number * superblock.blocks_per_group;
        let cluster = superblock.blocks_per_group / superblock.clusters_per_group;
        let bits = if group.no_block_bitmap { None } else { Some(fs.block(group.block_bitmap).ok()?) };
        Some(Self { start, cluster, bits })
    }

    fn has(&self, block: u64) -> Option<bool> {
        let Some(bits) = &self.bits else { return Some(false) };
        let bit = usize::try_from(block.checked_sub(self.start)? / self.cluster).ok()?;
        Some(bits.get(bit / 8)? >> (bit % 8) & 1 != 0)
    }
}

/// Those of some adjacent blocks that are in use by the bitmaps of their groups; `None` if one of these cannot be read.
pub(super) fn used_blocks(fs: &FileSystem<'_>, first: u64, count: u64) -> Option<Vec<Range<u64>>> {
    let end = first.saturating_add(count).min(fs.superblock.blocks);
    let mut found: Vec<Range<u64>> = Vec::new();
    let mut at = first;
    while at < end {
        let bitmap = GroupBitmap::of(fs, at)?;
        let next = (bitmap.start + fs.superblock.blocks_per_group).min(end);
        for block in at..next {
            match (bitmap.has(block)?, found.last_mut()) {
                (false, _) => {}
                (true, Some(last)) if last.end == block => last.end += 1,
                (true, _) => found.push(block..block + 1),
            }
        }
        at = next;
    }
    Some(found)
}
