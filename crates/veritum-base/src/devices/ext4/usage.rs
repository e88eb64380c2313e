//! Compares what refers to what: names with inodes, and the blocks of files with each other and with the maps of used blocks. That can
//! only be done while nothing writes, and once the file system's journal is applied.

use std::collections::{BTreeSet, HashSet};
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, AtomicU8, AtomicU16, AtomicU32, Ordering};

use super::check::{Part, Problem};
use super::groups::Group;
use super::inode::{Inode, ROOT, Type};
use super::mapping::{self, Piece};
use super::owners::of_groups;
use super::{Fault, FileSystem, Name};

/// Of more inodes this takes too much memory: eight terabytes have as many with the usual settings.
const MAX_INODES: u32 = 1 << 27;
/// Of more blocks likewise: 16 TiB in blocks of 4 KiB.
const MAX_BLOCKS: u64 = 1 << 32;
/// Further blocks of one kind are not followed up.
const MAX_KEPT: usize = 10_000;

/// What was seen so far.
pub(super) struct Usage<'a> {
    fs: &'a FileSystem<'a>,
    /// By inode: how many names it has.
    named: Vec<AtomicU16>,
    /// A bit for each inode that has a name in a folder, other than its own and those that lead up.
    reached: Vec<AtomicU8>,
    /// By inode: how many it says to have; 0 for those that are not in use.
    told: Vec<AtomicU16>,
    /// A bit for each block that something uses; none where blocks are allocated in clusters.
    claimed: Vec<AtomicU8>,
    /// By group: how many inodes are marked as used, and whether one of them was deleted.
    inodes: Vec<(AtomicU32, AtomicBool)>,
    /// Blocks that are used twice.
    shared: Mutex<BTreeSet<u64>>,
    /// Inodes without names whose content is not freed yet.
    orphans: HashSet<u32>,
    /// Blocks of attributes: inodes with the same attributes share one.
    attributes: Mutex<HashSet<u64>>,
}

impl<'a> Usage<'a> {
    /// Begins with the blocks of the groups themselves; `None` where nothing can be compared.
    pub(super) fn begin(fs: &'a FileSystem<'a>) -> Option<Self> {
        let superblock = &fs.superblock;
        let blocks = superblock.blocks - superblock.first_block;
        let fits =
            superblock.inodes <= MAX_INODES && blocks <= MAX_BLOCKS && superblock.blocks_per_group.is_multiple_of(8);
        let is_whole = fs.groups.iter().all(Result::is_ok) && !fs.is_cut() && fs.first_is.is_none();
        if !fits || !is_whole || !fs.is_settled() {
            return None;
        }
        let counts = || (0..superblock.inodes).map(|_| AtomicU16::new(0)).collect();
        let bytes = if superblock.has_clusters() { 0 } else { blocks.div_ceil(8) };
        let usage = Self {
            fs,
            named: counts(),
            reached: (0..superblock.inodes.div_ceil(8)).map(|_| AtomicU8::new(0)).collect(),
            told: counts(),
            claimed: (0..bytes).map(|_| AtomicU8::new(0)).collect(),
            inodes: fs.groups.iter().map(|_| (AtomicU32::new(0), AtomicBool::new(false))).collect(),
            shared: Mutex::default(),
            orphans: super::orphans::of(fs)?,
            attributes: Mutex::default(),
        };
        of_groups(fs, &mut |first, count, _| {
            usage.claim(first, count);
        });
        if superblock.protection_block != 0 {
            usage.claim(superblock.protection_block, 1);
        }
        Some(usage)
    }

    /// Marks blocks as used; returns those that were before.
    fn claim(&self, first: u64, count: u64) -> Vec<u64> {
        let mut before = Vec::new();
        let base = self.fs.superblock.first_block;
        let end = first.saturating_add(count).saturating_sub(base);
        let mut at = first.saturating_sub(base);
        while at < end {
            let (byte, bit) = (at / 8, at % 8);
            let bits = (8 - bit).min(end - at);
            let mask = (0xffu16 >> (8 - bits) << bit) as u8;
            let Some(byte) = usize::try_from(byte).ok().and_then(|byte| self.claimed.get(byte)) else { break };
            let old = byte.fetch_or(mask, Ordering::Relaxed) & mask;
            before.extend((0..8).filter(|bit| old >> bit & 1 != 0).map(|bit| base + at / 8 * 8 + bit));
            at += bits;
        }
        before
    }

    /// Takes an inode that is marked as used.
    pub(super) fn take_use(&self, group: u32, number: u32, is_deleted: bool) {
        let is_deleted = is_deleted && !self.orphans.contains(&number);
        if let Some((count, deleted)) = self.inodes.get(group as usize) {
            count.fetch_add(1, Ordering::Relaxed);
            deleted.fetch_or(is_deleted, Ordering::Relaxed);
        }
    }

    /// Takes an inode, and returns what is wrong with the number of its blocks. Its places must be intact.
    pub(super) fn take(&self, inode: &Inode) -> Option<Problem> {
        if let Some(told) = self.told.get(inode.number as usize - 1) {
            told.store(inode.names, Ordering::Relaxed);
        }
        let mut blocks = 0;
        let mut again = Vec::new();
        mapping::walk(self.fs, inode, &mut |piece| {
            let (first, count) = match piece {
                Piece::Content(run) => (run.block, run.count),
                Piece::Node(block) => (block, 1),
            };
            blocks += count;
            again.extend(self.claim(first, count));
        });
        if inode.attributes != 0 {
            blocks += 1;
            let is_new = self.attributes.lock().is_ok_and(|mut all| all.insert(inode.attributes));
            if is_new {
                again.extend(self.claim(inode.attributes, 1));
            }
        }
        if let (false, Ok(mut shared)) = (again.is_empty(), self.shared.lock()) {
            let room = MAX_KEPT.saturating_sub(shared.len());
            shared.extend(again.into_iter().take(room));
        }
        let superblock = &self.fs.superblock;
        let is_counted = inode.number >= superblock.first_inode || inode.number == ROOT;
        let is_right = inode.blocks_told(superblock) == Some(blocks);
        let is_known = !superblock.has_clusters() && !superblock.has_value_inodes();
        (is_counted && is_known && !is_right)
            .then(|| of_inode(inode.number, "the recorded number of its blocks is wrong", Part::Count))
    }

    /// Whether an inode has no names any more, and its content is not freed yet.
    pub(super) fn is_orphan(&self, number: u32) -> bool {
        self.orphans.contains(&number)
    }

    /// Takes the names in a folder.
    pub(super) fn take_names(&self, folder: &Inode, names: &[Name]) {
        let add = |inode: u32| {
            let Some(count) = (inode as usize).checked_sub(1).and_then(|at| self.named.get(at)) else { return };
            let _ = count.fetch_update(Ordering::Relaxed, Ordering::Relaxed, |count| count.checked_add(1));
        };
        for name in names {
            add(name.inode);
            let at = name.inode.wrapping_sub(1);
            if let (false, Some(byte)) = (matches!(&name.name[..], b"." | b".."), self.reached.get(at as usize / 8)) {
                byte.fetch_or(1 << (at % 8), Ordering::Relaxed);
            }
        }
        // A folder that is kept in its inode does not record its own name.
        if folder.is_inline() {
            add(folder.number);
        }
    }

    /// What does not agree, once everything was taken.
    pub(super) fn problems(self) -> Vec<Problem> {
        let mut problems = self.of_names();
        let shared = self.shared.lock().map(|shared| shared.clone()).unwrap_or_default();
        let mut free = BTreeSet::new();
        // What the superblock counts for all groups is counted again at each mount.
        for (number, group) in (0u32..).zip(self.fs.groups.iter().flatten()) {
            self.of_inodes(number, group, &mut problems);
            if !self.claimed.is_empty() {
                self.of_group(number, group, &mut free, &mut problems);
            }
        }
        if !shared.is_empty() || !free.is_empty() {
            self.of_blocks(&shared, &free, &mut problems);
        }
        problems
    }

    /// Names and inodes that do not agree.
    fn of_names(&self) -> Vec<Problem> {
        let superblock = &self.fs.superblock;
        let mut problems = Vec::new();
        for (number, (named, told)) in (1u32..).zip(self.named.iter().zip(&self.told)) {
            let (named, told) = (named.load(Ordering::Relaxed), told.load(Ordering::Relaxed));
            let is_reserved = number < superblock.first_inode && number != ROOT || superblock.unnamed.contains(&number);
            let at = number - 1;
            let is_reached = number == ROOT
                || self
                    .reached
                    .get(at as usize / 8)
                    .is_some_and(|byte| byte.load(Ordering::Relaxed) >> (at % 8) & 1 != 0);
            if named == told && (is_reached || told == 0) || is_reserved {
                continue;
            }
            let what = match (named, told) {
                // Nothing but its own names, if it was a folder.
                (_, 0) if !is_reached => continue,
                (_, 0) => "a folder names it, and it was deleted",
                (0, _) if self.holds_a_value(number) => continue,
                _ if !is_reached => "no folder names it",
                // Folders with too many others in them count as one.
                (_, 1) if self.is_folder(number) && superblock.has_uncounted_folders() => continue,
                _ => "the recorded number of its names is wrong",
            };
            problems.push(of_inode(number, what, Part::Name));
            if problems.len() >= MAX_KEPT {
                break;
            }
        }
        problems
    }

    fn is_folder(&self, number: u32) -> bool {
        self.fs.inode(number).is_ok_and(|inode| inode.kind() == Type::Folder)
    }

    /// Whether an inode is not a file, but the value of another one's attribute.
    fn holds_a_value(&self, number: u32) -> bool {
        self.fs.superblock.has_value_inodes() && self.fs.inode(number).is_ok_and(|inode| inode.holds_a_value())
    }

    /// Compares the inodes that are marked as used with their number.
    fn of_inodes(&self, group: u32, found: &Group, problems: &mut Vec<Problem>) {
        let used = self.inodes.get(group as usize);
        let count = used.map_or(0, |(count, _)| count.load(Ordering::Relaxed));
        let free = self.fs.superblock.inodes_per_group.saturating_sub(count);
        if used.is_some_and(|(_, deleted)| deleted.load(Ordering::Relaxed)) {
            problems.push(of_a_group(group, Part::Usage, "an inode is marked as used that was deleted"));
        }
        if free != found.free_inodes {
            problems.push(of_a_group(group, Part::Usage, "the recorded number of free inodes is wrong"));
        }
    }

    /// Compares the bitmap of a group with the blocks that are used.
    fn of_group(&self, group: u32, found: &Group, free: &mut BTreeSet<u64>, problems: &mut Vec<Problem>) {
        let superblock = &self.fs.superblock;
        let start = superblock.start_of(group);
        let count = superblock.blocks_per_group.min(superblock.blocks - start);
        let from = usize::try_from((start - superblock.first_block) / 8).unwrap_or(usize::MAX);
        let bitmap = if found.no_block_bitmap { None } else { self.fs.block(found.block_bitmap).ok() };
        let (mut unclaimed, mut unused) = (0u64, 0u64);
        for (index, at) in (0u64..count.div_ceil(8)).zip(from..) {
            let valid = if count - index * 8 >= 8 { 0xff } else { 0xffu8 >> (8 - (count - index * 8)) };
            let claimed = self.claimed.get(at).map_or(0, |byte| byte.load(Ordering::Relaxed));
            // A bitmap that was never written stands for the group's own parts alone.
            let byte = usize::try_from(index).ok().and_then(|index| bitmap.as_ref()?.get(index).copied());
            let marked = if found.no_block_bitmap { claimed } else { byte.unwrap_or(claimed) };
            unused += u64::from((!marked & valid).count_ones());
            unclaimed += u64::from((marked & !claimed & valid).count_ones());
            let wrong = claimed & !marked & valid;
            let blocks = (0..8u64).filter(|bit| wrong >> bit & 1 != 0).map(|bit| start + index * 8 + bit);
            free.extend(blocks.take(MAX_KEPT.saturating_sub(free.len())));
        }
        if unclaimed > 0 {
            problems.push(of_a_group(group, Part::Usage, "blocks are marked as used that belong to nothing"));
        }
        if found.free_blocks != unused {
            problems.push(of_a_group(group, Part::Usage, "the recorded number of free blocks is wrong"));
        }
    }

    /// The files that blocks belong to which are used twice, or marked as free.
    fn of_blocks(&self, shared: &BTreeSet<u64>, free: &BTreeSet<u64>, problems: &mut Vec<Problem>) {
        self.fs.each_inode(&mut |inode| {
            if inode.names == 0 && inode.number >= self.fs.superblock.first_inode || problems.len() >= MAX_KEPT {
                return;
            }
            let (mut twice, mut unmarked) = (None, None);
            let mut look = |first: u64, count: u64| {
                let in_run = |all: &BTreeSet<u64>| all.range(first..first.saturating_add(count)).next().copied();
                twice = twice.or_else(|| in_run(shared));
                unmarked = unmarked.or_else(|| in_run(free));
            };
            mapping::walk(self.fs, inode, &mut |piece| match piece {
                Piece::Content(run) => look(run.block, run.count),
                Piece::Node(block) => look(block, 1),
            });
            if inode.attributes != 0 {
                look(inode.attributes, 1);
            }
            let found =
                [(twice, "something else uses a block of it, too"), (unmarked, "a block of it is marked as free")];
            for (block, what) in found {
                let problem = |block| Problem { block: Some(block), ..of_inode(inode.number, what, Part::Blocks) };
                problems.extend(block.map(problem));
            }
        });
    }
}

fn of_inode(number: u32, what: &'static str, part: Part) -> Problem {
    Problem { part, fault: Fault::Structure(what), group: 0, inode: Some(number), block: None }
}

fn of_a_group(group: u32, part: Part, what: &'static str) -> Problem {
    Problem { part, fault: Fault::Structure(what), group, inode: None, block: None }
}
