//! Examines an ext4 file system's metadata: what can be read, is valid, and has the checksum that is recorded.

use rayon::prelude::*;

use super::folder;
use super::inode::{Inode, Type};
use super::mapping::{self, Piece};
use super::superblock::{self, Superblock};
use super::usage::Usage;
use super::{Fault, FileSystem, Name, superblock_at};
use crate::devices::checksums::crc32c;
use crate::formats::numbers::{le16, le32};

/// More problems are counted and not kept.
const MAX_PROBLEMS: usize = 10_000;
/// The beginning of a block, or of a region, with extended attributes.
const ATTRIBUTES: u32 = 0xea02_0000;
/// The index of the attribute in which a content continues that is kept in its inode.
const SYSTEM: u8 = 7;

/// A part of a file system.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Part {
    /// The superblock, or the copy of it in another group.
    Superblock,
    /// A group's descriptor.
    Descriptor,
    /// A group's bitmap of used blocks.
    BlockBitmap,
    /// A group's bitmap of used inodes.
    InodeBitmap,
    /// A block of a group's inodes.
    InodeTable,
    /// One inode.
    Inode,
    /// Where the content of a file is.
    Places,
    /// A block of a folder.
    Folder,
    /// A block with extended attributes.
    Attributes,
    /// Names of a file or folder.
    Name,
    /// The number of a file's blocks.
    Count,
    /// Blocks of a file that something else uses, or that are marked as free.
    Blocks,
    /// What is marked as used, or counted, in a group.
    Usage,
}

/// Something wrong with the metadata.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Problem {
    /// The part concerned.
    pub part: Part,
    /// What is wrong.
    pub fault: Fault,
    /// The group, for parts of groups and copies.
    pub group: u32,
    /// The inode, for parts of files and folders.
    pub inode: Option<u32>,
    /// The block, where it is a block of its own.
    pub block: Option<u64>,
}

impl Problem {
    /// Whether it does not make others only seem to be wrong.
    fn is_alone(&self) -> bool {
        self.part == Part::Count || self.part == Part::Superblock && self.group > 0
    }
}

/// The result of an examination.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Checked {
    /// What is wrong, in the order of groups.
    pub problems: Vec<Problem>,
    /// Problems that are not among them.
    pub more: u64,
    /// The number of used inodes.
    pub inodes: u64,
    /// Whether it was stopped.
    pub stopped: bool,
    /// Whether names, links and used blocks were compared with each other: not while it is in use, or its structure is damaged.
    pub compared: bool,
}

impl FileSystem<'_> {
    /// Examines the metadata; `go_on` is told the number of groups done and decides whether to continue.
    #[must_use]
    pub fn check(&self, pool: &rayon::ThreadPool, go_on: &(dyn Fn(u32) -> bool + Sync)) -> Checked {
        let done = std::sync::atomic::AtomicU32::new(0);
        let usage = Usage::begin(self);
        let one = |group: u32| {
            let so_far = done.fetch_add(1, std::sync::atomic::Ordering::Relaxed);
            if go_on(so_far) {
                self.check_group(group, usage.as_ref())
            } else {
                Checked { stopped: true, ..Checked::default() }
            }
        };
        let groups: Vec<Checked> =
            pool.install(|| (0..self.groups.len() as u32).into_par_iter().with_max_len(1).map(one).collect());
        let mut checked = Checked::default();
        if let Some(fault) = &self.first_is {
            let block = Some(self.superblock.copy_at(0));
            let first = Problem { part: Part::Superblock, fault: fault.clone(), group: 0, inode: None, block };
            checked.problems.push(first);
        }
        for group in groups {
            let room = MAX_PROBLEMS.saturating_sub(checked.problems.len());
            checked.more += group.problems.len().saturating_sub(room) as u64 + group.more;
            checked.problems.extend(group.problems.into_iter().take(room));
            checked.inodes += group.inodes;
            checked.stopped |= group.stopped;
        }
        // Where something cannot be read, others only seem to be wrong.
        if let Some(usage) = usage.filter(|_| !checked.stopped && checked.problems.iter().all(Problem::is_alone)) {
            let room = MAX_PROBLEMS.saturating_sub(checked.problems.len());
            let found = usage.problems();
            let is_settled = superblock_at(&*self.disk, superblock::AT).is_ok_and(|now| now == self.superblock);
            checked.compared = is_settled;
            checked.more += if is_settled { found.len().saturating_sub(room) as u64 } else { 0 };
            checked.problems.extend(found.into_iter().take(if is_settled { room } else { 0 }));
        }
        checked
    }

    /// Whether a problem is still there when the same is read once more: a file system in use changes meanwhile.
    #[must_use]
    pub fn is_still_there(&self, problem: &Problem) -> bool {
        let same = |other: &Problem| {
            (other.part, other.group, other.inode, other.block)
                == (problem.part, problem.group, problem.inode, problem.block)
        };
        // These are compared only where nothing writes.
        if matches!(problem.part, Part::Name | Part::Count | Part::Blocks | Part::Usage) {
            return true;
        }
        match problem.inode {
            Some(number) => self.check_inode(number).iter().any(same),
            None if problem.part == Part::Superblock && problem.group == 0 => {
                !superblock_at(&*self.disk, superblock::AT).is_ok_and(|found| found.sum_is_right != Some(false))
            }
            None => self.check_group_itself(problem.group).iter().any(same),
        }
    }

    fn check_group(&self, group: u32, usage: Option<&Usage<'_>>) -> Checked {
        let mut checked = Checked { problems: self.check_group_itself(group), ..Checked::default() };
        let mut found = Vec::new();
        let bad = self.inodes_of(group, &mut |number, bytes, is_right| {
            checked.inodes += 1;
            usage.inspect(|usage| usage.take_use(group, number, is_deleted(&self.superblock, number, bytes)));
            if is_right {
                found.extend(self.check_file(&Inode::parse(&self.superblock, number, bytes), usage));
            } else {
                found.push(of_inode(number, Part::Inode, Fault::Checksum, None));
            }
        });
        let of_table =
            |(block, fault)| Problem { part: Part::InodeTable, fault, group, inode: None, block: Some(block) };
        checked.problems.extend(bad.into_iter().map(of_table));
        checked.problems.append(&mut found);
        checked
    }

    /// The descriptor, the bitmaps and the copies of a group.
    fn check_group_itself(&self, group: u32) -> Vec<Problem> {
        let mut problems = Vec::new();
        let mut tell = |part: Part, fault: Fault, block: Option<u64>| {
            problems.push(Problem { part, fault, group, inode: None, block });
        };
        if group > 0
            && self.superblock.has_copy(group)
            && let Some(fault) = self.copy_is(group)
        {
            tell(Part::Superblock, fault, Some(self.superblock.copy_at(group)));
        }
        let found = match self.group(group) {
            Ok(found) => found,
            Err(fault) => {
                tell(Part::Descriptor, fault, Some(self.superblock.descriptor_of(group, 0).0));
                return problems;
            }
        };
        let bitmaps = [
            (Part::BlockBitmap, found.block_bitmap, found.no_block_bitmap),
            (Part::InodeBitmap, found.inode_bitmap, found.no_inodes),
        ];
        for (part, block, is_unwritten) in bitmaps {
            if is_unwritten {
                continue;
            }
            match self.block(block) {
                Err(e) => tell(part, Fault::of(&e), Some(block)),
                Ok(bytes) => {
                    let is_right = match part {
                        Part::BlockBitmap => found.has_block_sum(&self.superblock, &bytes),
                        _ => found.has_inode_sum(&self.superblock, &bytes),
                    };
                    if !is_right {
                        tell(part, Fault::Checksum, Some(block));
                    }
                }
            }
        }
        problems
    }

    /// What is wrong with the superblock's copy in a group. Copies are written rarely: only what does not change must be the same.
    fn copy_is(&self, group: u32) -> Option<Fault> {
        let at = self.superblock.copy_at(group).saturating_mul(self.superblock.block_size);
        match superblock_at(&*self.disk, at) {
            Err((_, fault)) => Some(fault),
            Ok(found) if found.sum_is_right == Some(false) => Some(Fault::Checksum),
            Ok(found) => {
                let kept = |s: &Superblock| (s.block_size, s.blocks, s.inodes, s.inodes_per_group, s.raw_uuid);
                (kept(&found) != kept(&self.superblock)).then_some(Fault::Structure("it is of another file system"))
            }
        }
    }

    fn check_inode(&self, number: u32) -> Vec<Problem> {
        match self.inode(number) {
            Ok(inode) => self.check_file(&inode, None),
            Err(fault) => vec![of_inode(number, Part::Inode, fault, None)],
        }
    }

    /// Where an inode's content is, its attributes, and the blocks of a folder.
    fn check_file(&self, inode: &Inode, usage: Option<&Usage<'_>>) -> Vec<Problem> {
        if inode.names == 0 && inode.number >= self.superblock.first_inode {
            // Its blocks are in use until the next mount frees them.
            if let Some(usage) = usage.filter(|usage| usage.is_orphan(inode.number)) {
                let _ = usage.take(inode);
            }
            return Vec::new();
        }
        let mut problems = Vec::new();
        if inode.kind() == Type::Invalid && inode.number >= self.superblock.first_inode {
            problems.push(of_inode(inode.number, Part::Inode, Fault::Structure("its type is not valid"), None));
        }
        let mut blocks = Vec::new();
        let is_folder = inode.kind() == Type::Folder;
        for bad in mapping::walk(self, inode, &mut |piece| {
            if let Piece::Content(run) = piece
                && is_folder
                && run.written
            {
                blocks.push((run.block, run.count));
            }
        }) {
            problems.push(of_inode(inode.number, Part::Places, bad.fault, bad.block));
        }
        if inode.attributes != 0
            && let Some(fault) = self.attributes_are(inode.attributes)
        {
            problems.push(of_inode(inode.number, Part::Attributes, fault, Some(inode.attributes)));
        }
        if is_folder && inode.is_inline() {
            let (names, fault) = inline_names(&self.superblock, inode);
            usage.inspect(|usage| usage.take_names(inode, &names));
            problems.extend(fault.map(|fault| of_inode(inode.number, Part::Folder, fault, None)));
        }
        for block in blocks.into_iter().flat_map(|(first, count)| first..first + count) {
            let fault = match self.block(block) {
                Ok(bytes) => {
                    let (names, fault) = folder::names(&self.superblock, inode, &bytes);
                    usage.inspect(|usage| usage.take_names(inode, &names));
                    fault
                }
                Err(e) => Some(Fault::of(&e)),
            };
            problems.extend(fault.map(|fault| of_inode(inode.number, Part::Folder, fault, Some(block))));
        }
        if problems.is_empty() {
            problems.extend(usage.and_then(|usage| usage.take(inode)));
        }
        problems
    }

    /// What is wrong with a block of extended attributes.
    fn attributes_are(&self, block: u64) -> Option<Fault> {
        if !self.has_block(block) {
            return Some(Fault::Structure("names a block outside the file system"));
        }
        let mut bytes = match self.block(block) {
            Ok(bytes) => bytes,
            Err(e) => return Some(Fault::of(&e)),
        };
        if le32(&bytes, 0) != ATTRIBUTES {
            return Some(Fault::Structure("no valid attributes"));
        }
        let told = le32(&bytes, 0x10);
        bytes[0x10..0x14].fill(0);
        let sum = crc32c(crc32c(self.superblock.seed, &block.to_le_bytes()), &bytes);
        (self.superblock.has_checksums() && sum != told).then_some(Fault::Checksum)
    }
}

fn of_inode(number: u32, part: Part, fault: Fault, block: Option<u64>) -> Problem {
    Problem { part, fault, group: 0, inode: Some(number), block }
}

/// Whether a used inode has no names, as one that was deleted.
fn is_deleted(superblock: &Superblock, number: u32, bytes: &[u8]) -> bool {
    number >= superblock.first_inode && le16(bytes, 0x1a) == 0
}

/// The names of a folder that is kept in its inode: the folder above it, entries, and more entries in an attribute.
pub(super) fn inline_names(superblock: &Superblock, inode: &Inode) -> (Vec<Name>, Option<Fault>) {
    let above = Name { inode: le32(&inode.places, 0), name: b"..".to_vec() };
    let (mut names, mut fault) = folder::entries(superblock, inode, &inode.places[4..]);
    if let Some(more) = inline_attribute(&inode.extra) {
        let (more, other) = folder::entries(superblock, inode, more);
        names.extend(more);
        fault = fault.or(other);
    }
    names.push(above);
    (names, fault)
}

/// The attribute `system.data` of an inode's own attributes.
pub(super) fn inline_attribute(extra: &[u8]) -> Option<&[u8]> {
    if le32(extra, 0) != ATTRIBUTES {
        return None;
    }
    let region = extra.get(4..)?;
    let mut at = 0;
    // The list ends with four zero bytes.
    while at + 16 <= region.len() && le32(region, at) != 0 {
        let length = usize::from(region[at]);
        let name = region.get(at + 16..at + 16 + length)?;
        if region[at + 1] == SYSTEM && name == b"data" {
            let from = usize::from(u16::from_le_bytes([region[at + 2], region[at + 3]]));
            let size = usize::try_from(le32(region, at + 8)).ok()?;
            return region.get(from..from.checked_add(size)?);
        }
        at += (16 + length).next_multiple_of(4);
    }
    None
}
