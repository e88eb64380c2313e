//! [`Selection`]: which files are copied, in which order, and which of them an earlier run has copied.

use std::collections::{HashMap, HashSet};

use super::manifest::{EntryLine, Manifest};
use super::source::{Found, HomePlace, Item, ItemKind, NotCopied, Source};
use crate::machine::Dir;
use crate::model::{Identity, SystemPath};
use crate::report::{Count, DataKind};

/// Only larger files are asked for what was never written, in bytes.
const LARGE: u64 = 1 << 20;

/// A file to copy, with its path on the machine.
#[derive(Debug)]
pub(super) struct Job {
    pub(super) item: Item,
    pub(super) path: SystemPath,
    /// Another name of the same file that is copied before.
    pub(super) same_as: Option<SystemPath>,
}

/// Counts a file or symlink.
pub(super) fn add(count: &mut Count, item: &Item) {
    count.files += 1;
    if item.is == ItemKind::File {
        count.bytes = count.bytes.saturating_add(item.size);
    }
}

/// What is copied.
#[derive(Debug, Default)]
pub(super) struct Selection {
    /// Files and symlinks to copy, the most valuable first.
    pub(super) jobs: Vec<Job>,
    /// The folders that are created, by their paths on the machine.
    pub(super) folders: HashMap<SystemPath, Item>,
    /// Those that are created even if nothing is copied into them.
    pub(super) empty_folders: Vec<SystemPath>,
    /// What an earlier run has copied.
    pub(super) known: Count,
    /// All that was found, by home and kind.
    pub(super) found: HashMap<(usize, DataKind), Count>,
    /// What cannot be copied.
    pub(super) unread: Vec<NotCopied>,
}

impl Selection {
    /// Selects files of these kinds.
    pub(super) fn new(found: Found, homes: &[HomePlace], kinds: &[DataKind], earlier: &Earlier<'_>) -> Self {
        let mut selection = Self { unread: found.unread, ..Self::default() };
        let mut names: HashMap<Identity, SystemPath> = HashMap::new();
        for item in found.items {
            let Ok(path) = homes[item.home].place.join(&item.path) else {
                let why = "its path is longer than the system allows".to_owned();
                selection.unread.push(NotCopied { home: item.home, path: item.path, why });
                continue;
            };
            let is_selected = kinds.contains(&item.kind);
            if item.is == ItemKind::Folder {
                if is_selected {
                    selection.empty_folders.push(path.clone());
                }
                selection.folders.insert(path, item);
                continue;
            }
            add(selection.found.entry((item.home, item.kind)).or_default(), &item);
            if !is_selected {
                continue;
            }
            let other = item.inode.filter(|_| item.is == ItemKind::File).and_then(|id| {
                let first = names.entry(id).or_insert_with(|| path.clone());
                (*first != path).then(|| first.clone())
            });
            match earlier.has(&item, &path) {
                true => add(&mut selection.known, &item),
                false => selection.jobs.push(Job { item, path, same_as: other }),
            }
        }
        // A file is copied before its other names are made.
        selection.jobs.sort_by_key(|job| (job.same_as.is_some(), job.item.kind));
        selection
    }

    /// The bytes of large files that were never written: they take no space where a file can have holes.
    pub(super) fn never_written(&self, source: &dyn Source) -> u64 {
        let is_large = |job: &&Job| job.item.is == ItemKind::File && job.same_as.is_none() && job.item.size >= LARGE;
        let holes = |job: &Job| {
            let content = source.open(&job.item).ok()?;
            let (mut at, mut written) = (0, 0u64);
            while let Some(next) = content.written_after(at).ok()?.filter(|next| next.end > at) {
                written = written.saturating_add(next.end - next.start);
                at = next.end;
            }
            Some(job.item.size.saturating_sub(written))
        };
        self.jobs.iter().filter(is_large).filter_map(holes).fold(0, u64::saturating_add)
    }

    /// The bytes that are to be written.
    pub(super) fn bytes(&self, can_link: bool) -> u64 {
        let written = |job: &&Job| job.item.is == ItemKind::File && (job.same_as.is_none() || !can_link);
        self.jobs.iter().filter(written).map(|job| job.item.size).fold(0, u64::saturating_add)
    }
}

/// What earlier runs have copied.
pub(super) struct Earlier<'a> {
    manifest: &'a Manifest,
    /// Stored files and symlinks that exist, with the sizes of files.
    stored: HashMap<SystemPath, u64>,
}

impl<'a> Earlier<'a> {
    /// Looks for the files of the manifest in the destination.
    pub(super) fn find(manifest: &'a Manifest, folder: Option<&Dir>) -> Self {
        let mut stored = HashMap::new();
        let Some(top) = folder.filter(|_| !manifest.entries.is_empty()) else {
            return Self { manifest, stored };
        };
        let named: HashSet<SystemPath> =
            manifest.entries.values().filter_map(|entry| entry.stored.as_ref()?.parent()).collect();
        for folder in named {
            let opened = top.disk().open_dir(top.fd(), folder.relative());
            let Ok(dir) = opened.map(|fd| top.beside(fd)) else { continue };
            for (name, _) in dir.disk().list(dir.fd()).unwrap_or_default() {
                if let (Ok(Some(stat)), Ok(path)) = (dir.look(&name), folder.child(&name)) {
                    stored.insert(path, stat.size);
                }
            }
        }
        Self { manifest, stored }
    }

    /// Whether something is stored there.
    pub(super) fn exists(&self, stored: &SystemPath) -> bool {
        self.stored.contains_key(stored)
    }

    /// The line about a file, if what it names exists.
    pub(super) fn entry(&self, path: &SystemPath) -> Option<&'a EntryLine> {
        let entry = self.manifest.entries.get(path)?;
        let Some(stored) = &entry.stored else { return Some(entry) };
        let size = self.stored.get(stored)?;
        (entry.blake3.is_none() || *size == entry.size).then_some(entry)
    }

    /// Whether a file was copied whole, and is still as it was then.
    fn has(&self, item: &Item, path: &SystemPath) -> bool {
        let Some(entry) = self.entry(path).filter(|entry| entry.gaps.is_empty()) else { return false };
        match &item.is {
            ItemKind::Folder => true,
            ItemKind::File => entry.size == item.size && entry.mtime == item.mtime && entry.target.is_none(),
            ItemKind::Link(target) => entry.target.as_ref().is_some_and(|known| known.0 == *target),
        }
    }
}
