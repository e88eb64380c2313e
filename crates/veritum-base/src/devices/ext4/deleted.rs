//! Files that were deleted: ext4 clears size and places in an inode at deletion, and its journal may still have an older copy of it.

use std::collections::{HashMap, HashSet};
use std::ops::Range;

use super::groups::table_blocks;
use super::inode::{self, Inode, Type};
use super::journal::{BlockCopy, Journal};
use super::mapping::{self, Piece, Run};
use super::owners::used_blocks;
use super::{FileSystem, Paths, check, folder, orphans};
use crate::formats::numbers::{le16, le32};

/// Folders that are deeper are not named further up.
const MAX_DEPTH: usize = 256;
/// So many records of names of one inode are kept.
const MAX_NAMES: usize = 4096;
/// Where an inode records when it was deleted.
const DELETED_AT: usize = 0x14;

/// A file that was deleted, as it was before.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DeletedFile {
    /// Its inode then.
    pub inode: Inode,
    /// Its path, as far as it is known.
    pub path: Option<Vec<u8>>,
    /// When it was deleted, in seconds since 1970, if that is known.
    pub at: Option<i64>,
    /// Its blocks.
    pub(super) runs: Vec<Run>,
    /// Whether it had more blocks than are known.
    pub(super) has_unknown_places: bool,
    /// Whether it is known for all of its blocks whether something else uses them now.
    pub(super) is_use_known: bool,
    /// Blocks of it that something else uses now, in order.
    pub(super) lost: Vec<Range<u64>>,
}

impl DeletedFile {
    /// The number of its blocks that something else uses now, and of all that are known.
    #[must_use]
    pub fn lost_blocks(&self) -> (u64, u64) {
        let all = self.runs.iter().map(|run| run.count).sum();
        (self.lost.iter().map(|range| range.end - range.start).sum(), all)
    }

    /// Whether the places of all of its content are known, and nothing else uses them now. They can have been used meanwhile.
    #[must_use]
    pub fn is_whole(&self) -> bool {
        self.lost.is_empty() && self.is_use_known && !self.has_unknown_places
    }
}

/// An inode by its number and generation: numbers are used again.
type Key = (u32, u32);

/// The files that were deleted and of which the journal has an older inode, in the order of their numbers.
///
/// # Errors
/// Why the journal cannot be used.
pub fn deleted_files(fs: &FileSystem<'_>) -> Result<Vec<DeletedFile>, &'static str> {
    let journal = Journal::open(fs)?;
    let older = Older::collect(fs, &journal);
    let names = Names::collect(fs, &journal, &older);
    let files = older.versions.iter().filter(|(_, version)| version.inode.kind() == Type::File);
    let mut found: Vec<DeletedFile> =
        files.filter_map(|(key, version)| older.file(fs, &journal, &names, *key, version)).collect();
    found.sort_by_key(|file| file.inode.number);
    Ok(found)
}

/// An inode that no longer exists.
struct Version {
    /// The newest copy in which it had a name and a content.
    inode: Inode,
    /// The ages of the newest and the oldest copy in which it had a name.
    ages: (u32, u32),
}

/// What the journal has of inodes that no longer exist.
struct Older {
    versions: HashMap<Key, Version>,
    /// When it was deleted.
    at: HashMap<Key, i64>,
    /// The copies of all blocks that are no inodes, the newest first.
    blocks: HashMap<u64, Vec<BlockCopy>>,
    /// Inodes without names whose content is not freed yet.
    orphans: HashSet<u32>,
}

impl Older {
    fn collect(fs: &FileSystem<'_>, journal: &Journal<'_>) -> Self {
        let orphans = orphans::of(fs).unwrap_or_default();
        let mut older = Self { versions: HashMap::new(), at: HashMap::new(), blocks: HashMap::new(), orphans };
        let mut tables: Vec<(u64, u32)> =
            (0u32..).zip(&fs.groups).filter_map(|(at, group)| Some((group.as_ref().ok()?.inode_table, at))).collect();
        tables.sort_unstable();
        let count = table_blocks(&fs.superblock);
        for copy in journal.copies() {
            let before = tables.partition_point(|(table, _)| *table <= copy.block).checked_sub(1);
            match before.map(|at| tables[at]).filter(|(table, _)| copy.block - table < count) {
                Some((table, group)) => {
                    let Ok(bytes) = journal.bytes_of(&copy) else { continue };
                    older.take_inodes(fs, group, copy.block - table, journal.age(&copy), &bytes);
                }
                None => older.blocks.entry(copy.block).or_default().push(copy),
            }
        }
        older
    }

    /// Takes the inodes of a copy of a block of the table of a group.
    fn take_inodes(&mut self, fs: &FileSystem<'_>, group: u32, block: u64, age: u32, bytes: &[u8]) {
        let superblock = &fs.superblock;
        let in_block = (superblock.block_size / superblock.inode_size as u64) as u32;
        let first = u32::try_from(block).unwrap_or(u32::MAX).saturating_mul(in_block);
        for (index, bytes) in (first..).zip(bytes.chunks_exact(superblock.inode_size)) {
            if index >= superblock.inodes_per_group {
                break;
            }
            let number = group * superblock.inodes_per_group + index + 1;
            if number < superblock.first_inode || !inode::sum_is_right(superblock, number, bytes) {
                continue;
            }
            let key = (number, generation(bytes));
            let inode = Inode::parse(superblock, number, bytes);
            if inode.names == 0 {
                self.note_time(key, bytes);
                continue;
            }
            if let Some(newer) = self.versions.get_mut(&key) {
                newer.ages.1 = age;
                continue;
            }
            let is_wanted = matches!(inode.kind(), Type::File | Type::Folder) && inode.size > 0;
            if is_wanted && !exists(fs, key) {
                self.versions.insert(key, Version { inode, ages: (age, age) });
                if let Ok(now) = fs.inode_bytes(number) {
                    self.note_time((number, generation(&now)), &now);
                }
            }
        }
    }

    /// Takes the time of an inode's deletion. While its content is not freed, the next such inode is recorded there.
    fn note_time(&mut self, key: Key, bytes: &[u8]) {
        let at = i64::from(le32(bytes, DELETED_AT));
        // Newer than any number of an inode would be.
        if le16(bytes, 0x1a) == 0 && at > MIN_TIME {
            self.at.entry(key).or_insert(at);
        }
    }

    /// What is known of a file; nothing if nothing of its content is.
    fn file(
        &self,
        fs: &FileSystem<'_>,
        journal: &Journal<'_>,
        names: &Names,
        key: Key,
        version: &Version,
    ) -> Option<DeletedFile> {
        let inode = &version.inode;
        let read = |block: u64| self.node(fs, journal, inode, block);
        let (mut runs, mut nodes) = (Vec::new(), 0);
        let bad = mapping::walk_reading(fs, inode, &read, &mut |piece| match piece {
            Piece::Content(run) => runs.push(run),
            Piece::Node(_) => nodes += 1,
        });
        let found = runs.iter().map(|run| run.count).sum::<u64>() + nodes + u64::from(inode.attributes != 0);
        let told = inode.blocks_told(&fs.superblock);
        let has_unknown_places = !bad.is_empty() || !inode.is_inline() && told.is_some_and(|told| told > found);
        if runs.is_empty() && has_unknown_places || inode.is_encrypted() {
            return None;
        }
        let written = runs.iter().filter(|run| run.written);
        // As long as it is open, or until the next mount after a crash, its blocks are still its own.
        let is_own = self.orphans.contains(&inode.number)
            && fs.inode_bytes(inode.number).is_ok_and(|now| generation(&now) == key.1);
        let used: Vec<_> = written.filter(|_| !is_own).map(|run| used_blocks(fs, run.block, run.count)).collect();
        let is_use_known = used.iter().all(Option::is_some);
        let mut lost: Vec<Range<u64>> = used.into_iter().flatten().flatten().collect();
        lost.sort_unstable_by_key(|range| range.start);
        let (path, at) = (names.path(inode.number, version.ages), self.at.get(&key).copied());
        Some(DeletedFile { inode: inode.clone(), path, at, runs, has_unknown_places, is_use_known, lost })
    }

    /// A block of places as the file had it: what is on the disk can be emptied, or another file's.
    fn node(&self, fs: &FileSystem<'_>, journal: &Journal<'_>, inode: &Inode, block: u64) -> std::io::Result<Vec<u8>> {
        let on_disk = fs.block(block);
        if on_disk.as_ref().is_ok_and(|bytes| mapping::is_node_of(fs, inode, bytes)) {
            return on_disk;
        }
        let copies = self.blocks.get(&block).into_iter().flatten();
        let older = copies.filter_map(|copy| journal.bytes_of(copy).ok());
        older.into_iter().find(|bytes| mapping::is_node_of(fs, inode, bytes)).map_or(on_disk, Ok)
    }
}

/// Times of deletion before 2000 are none.
const MIN_TIME: i64 = 946_684_800;

fn generation(bytes: &[u8]) -> u32 {
    le32(bytes, 0x64)
}

/// Whether an inode is in use, by the same file.
fn exists(fs: &FileSystem<'_>, (number, generation_then): Key) -> bool {
    fs.inode_bytes(number).is_ok_and(|now| generation(&now) == generation_then && le16(&now, 0x1a) > 0)
}

/// Of inodes: an age, the folder that an inode was in then, and its name there.
type Places = HashMap<u32, Vec<(u32, u32, Vec<u8>)>>;

/// The names of deleted files and folders, by copies of the folders they were in.
struct Names {
    /// Of each inode: the folder it was in, and its name there, with the age of that.
    places: Places,
    /// Folders that no longer exist, with the ages of their copies.
    folders: HashMap<u32, (u32, u32)>,
    /// The paths of folders that exist.
    paths: Paths,
}

impl Names {
    fn collect(fs: &FileSystem<'_>, journal: &Journal<'_>, older: &Older) -> Self {
        let wanted: HashSet<u32> = older.versions.keys().map(|(number, _)| *number).collect();
        let mut holders: HashMap<u64, Inode> = HashMap::new();
        let mut places = Places::new();
        let mut add = |inode: &Inode| {
            mapping::walk(fs, inode, &mut |piece| {
                let Piece::Content(run) = piece else { return };
                let in_journal = (run.block..run.block + run.count).filter(|block| older.blocks.contains_key(block));
                for block in in_journal {
                    holders.entry(block).or_insert_with(|| inode.clone());
                }
            });
        };
        fs.each_folder(&mut add);
        for Version { inode, ages } in older.versions.values().filter(|version| version.inode.kind() == Type::Folder) {
            add(inode);
            if inode.is_inline() {
                take(&mut places, &wanted, inode, ages.0, check::inline_names(&fs.superblock, inode).0);
            }
        }
        for (block, inode) in &holders {
            for copy in older.blocks.get(block).into_iter().flatten() {
                let Ok(bytes) = journal.bytes_of(copy) else { continue };
                let age = journal.age(copy);
                take(&mut places, &wanted, inode, age, folder::names(&fs.superblock, inode, &bytes).0);
            }
        }
        let above: HashSet<u32> = places.values().flatten().map(|(_, folder, _)| *folder).collect();
        let gone = older.versions.iter().filter(|(_, version)| version.inode.kind() == Type::Folder);
        let folders = gone.map(|((number, _), version)| (*number, version.ages)).collect();
        Self { places, folders, paths: Paths::find(fs, &above) }
    }

    /// The path of an inode whose copies have these ages.
    fn path(&self, inode: u32, ages: (u32, u32)) -> Option<Vec<u8>> {
        let mut names = Vec::new();
        let (mut at, mut ages) = (inode, ages);
        loop {
            let (folder, name) = self.place(at, ages)?;
            names.push(name);
            at = folder;
            if let Some(known) = self.paths.of(at).into_iter().next() {
                let top = if known == b"/" { Vec::new() } else { known };
                let below = names.iter().rev().flat_map(|name| [&b"/"[..], name].concat());
                return Some(top.into_iter().chain(below).collect());
            }
            ages = *self.folders.get(&at)?;
            if names.len() > MAX_DEPTH {
                return None;
            }
        }
    }

    /// The newest name of an inode from the time of its copies, or a later one: numbers are used again, and an older name is another file's.
    fn place(&self, inode: u32, (newest, oldest): (u32, u32)) -> Option<(u32, &[u8])> {
        let all = self.places.get(&inode)?;
        let then = all.iter().filter(|(age, ..)| (newest..=oldest).contains(age)).min_by_key(|(age, ..)| *age);
        let later = all.iter().filter(|(age, ..)| *age < newest).max_by_key(|(age, ..)| *age);
        then.or(later).map(|(_, folder, name)| (*folder, name.as_slice()))
    }
}

fn take(places: &mut Places, wanted: &HashSet<u32>, folder: &Inode, age: u32, names: Vec<super::Name>) {
    if folder.is_encrypted() {
        return;
    }
    let others =
        names.into_iter().filter(|name| name.name != b"." && name.name != b".." && wanted.contains(&name.inode));
    for name in others {
        let known = places.entry(name.inode).or_default();
        // One name is in many copies of its folder: those of the same age and name say nothing more.
        if known.len() < MAX_NAMES && !known.contains(&(age, folder.number, name.name.clone())) {
            known.push((age, folder.number, name.name));
        }
    }
}
