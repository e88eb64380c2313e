//! What is restored in a home: rescued files compared with what is there now. Only plans; nothing is written here.
//!
//! A file that is missing is restored, one that is older is replaced, and one that is newer stays unless that was wanted.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::io;

use super::manifest::EntryLine;
use crate::homes::OpenHome;
use crate::machine::Dir;
use crate::model::{Digest, FileKind, Stat, SystemPath, error_words};
use crate::plan::{Item, ItemKind, Operation, PlannedAction};
use crate::report::{Count, DataKind};
use crate::scan::FolderEntry;

/// Which files are restored.
#[derive(Debug, Clone, Default)]
pub struct BackRules {
    /// Only these kinds; all if empty.
    pub kinds: Vec<DataKind>,
    /// Whether files that are newer in the home are replaced as well.
    pub newer: bool,
}

/// What is restored in one home.
#[derive(Debug, Default)]
pub struct BackPlan {
    /// Missing folders: an action for each topmost one, with those below it.
    pub folders: Vec<PlannedAction>,
    /// Files and symlinks, the most valuable first.
    pub files: Vec<PlannedAction>,
    /// Hard links to files, which need the files to be there.
    pub names: Vec<PlannedAction>,
    /// The files and symlinks of both.
    pub wanted: Count,
    /// Those that replace an older file, or a newer one that was to be replaced.
    pub replaced: Vec<SystemPath>,
    /// What is there already.
    pub same: Count,
    /// What stays because it is newer than its copy.
    pub newer: Vec<SystemPath>,
    /// What stays because its copy is not complete.
    pub whole: Vec<SystemPath>,
    /// What cannot be restored, with the reason.
    pub obstacles: Vec<(SystemPath, String)>,
    /// Where files were copied with gaps: they get the name `NAME.incomplete`.
    pub incomplete: Vec<SystemPath>,
}

impl BackPlan {
    /// Compares the rescued files of one user with the home.
    #[must_use]
    pub fn new(
        home: &OpenHome,
        group: u32,
        entries: &[EntryLine],
        rules: &BackRules,
        go_on: &dyn Fn() -> bool,
    ) -> Self {
        let mut planning = Planning {
            home,
            owner: (home.owner, group),
            rules,
            way: Vec::new(),
            folders: entries.iter().filter(|e| e.is == FileKind::Folder).map(|e| (&e.path, e)).collect(),
            missing: BTreeMap::new(),
            there: BTreeSet::new(),
            names: Vec::new(),
            files: Vec::new(),
            plan: Self::default(),
        };
        let old = old_home(entries).unwrap_or_else(|| home.place.clone());
        for entry in entries.iter().filter(|entry| entry.path != old) {
            if !go_on() {
                break;
            }
            planning.entry(&old, entry);
        }
        planning.finish()
    }

    /// All actions.
    pub fn actions(&self) -> impl Iterator<Item = &PlannedAction> {
        self.folders.iter().chain(&self.files).chain(&self.names)
    }
}

/// The bytes that an action writes.
#[must_use]
pub fn bytes_of(action: &PlannedAction) -> u64 {
    let Operation::Put(items) = &action.operation else { return 0 };
    items.iter().map(|item| if let ItemKind::File { size, .. } = item.kind { size } else { 0 }).sum()
}

/// The home on the machine that the files come from: the folder that all of them are in.
fn old_home(entries: &[EntryLine]) -> Option<SystemPath> {
    let folders = entries.iter().filter(|entry| entry.is == FileKind::Folder);
    let top = folders.map(|entry| &entry.path).min_by_key(|path| path.names().count())?;
    Some(top.clone())
}

/// A folder of the home as it is now.
enum Now {
    There(Dir, HashMap<Vec<u8>, (Stat, Option<Vec<u8>>)>),
    Missing,
    Blocked(String),
}

struct Planning<'a> {
    home: &'a OpenHome,
    owner: (u32, u32),
    rules: &'a BackRules,
    /// The folders above the entry before, which are mostly those of the next.
    way: Vec<(SystemPath, Now)>,
    /// Rescued folders, by their path on the machine they come from.
    folders: HashMap<&'a SystemPath, &'a EntryLine>,
    /// Folders to be created.
    missing: BTreeMap<SystemPath, Option<&'a EntryLine>>,
    /// Files that have their rescued content, or will have it.
    there: BTreeSet<SystemPath>,
    files: Vec<(DataKind, PlannedAction)>,
    /// Hard links, with the path of the first name.
    names: Vec<(SystemPath, PlannedAction, &'a EntryLine)>,
    plan: BackPlan,
}

impl<'a> Planning<'a> {
    fn entry(&mut self, old: &SystemPath, entry: &'a EntryLine) {
        if !self.rules.kinds.is_empty() && !self.rules.kinds.contains(&entry.kind) {
            return;
        }
        let below = entry.path.below(old).filter(|below| !below.is_empty());
        let Some(place) = below.and_then(|below| self.home.place.join(below).ok()) else {
            return self.plan.obstacles.push((entry.path.clone(), "it was not in the user's home".into()));
        };
        let Some(parent) = place.parent() else { return };
        let name = place.name().to_vec();
        let now = match self.now(&parent) {
            Now::Blocked(why) => Err(why.clone()),
            Now::Missing => Ok(None),
            Now::There(dir, names) => Ok(names.get(&name).cloned().map(|(stat, target)| (stat, target, dir.clone()))),
        };
        match (now, entry.is) {
            (Err(why), _) => self.plan.obstacles.push((place, why)),
            (Ok(None), FileKind::Folder) => self.create_folder(old, place),
            (Ok(None), _) => self.bring(old, entry, place, None),
            (Ok(Some((stat, ..))), FileKind::Folder) if stat.kind == FileKind::Folder => {}
            (Ok(Some((stat, target, dir))), FileKind::File | FileKind::Link) if stat.kind == entry.is => {
                self.compare(old, entry, place, &stat, target.as_deref(), &dir);
            }
            (Ok(Some(_)), _) => self.plan.obstacles.push((place, "something of another kind has its name".into())),
        }
    }

    /// A file or symlink whose name exists in the home.
    fn compare(
        &mut self,
        old: &SystemPath,
        entry: &'a EntryLine,
        place: SystemPath,
        stat: &Stat,
        target: Option<&[u8]>,
        dir: &Dir,
    ) {
        let is_same = match entry.is {
            FileKind::Link => entry.target.as_ref().is_some_and(|t| Some(t.0.as_slice()) == target),
            _ if !entry.gaps.is_empty() => false,
            _ => stat.size == entry.size && (stat.mtime == entry.mtime || has_content(dir, place.name(), entry.blake3)),
        };
        if is_same {
            self.plan.same.files += 1;
            self.plan.same.bytes += if entry.is == FileKind::File { entry.size } else { 0 };
            self.there.insert(place);
            return;
        }
        // What has gaps never replaces anything.
        let is_newer = stat.mtime >= entry.mtime && !self.rules.newer;
        if is_newer || !entry.gaps.is_empty() {
            let left = if entry.gaps.is_empty() { &mut self.plan.newer } else { &mut self.plan.whole };
            return left.push(place);
        }
        self.plan.replaced.push(place.clone());
        self.bring(old, entry, place, Some(*stat));
    }

    fn bring(&mut self, old: &SystemPath, entry: &'a EntryLine, place: SystemPath, before: Option<Stat>) {
        let whole = entry.gaps.is_empty();
        let named = || place.parent()?.child(&[place.name(), b".incomplete"].concat()).ok();
        let Some(place) = (if whole { Some(place.clone()) } else { named() }) else { return };
        if !whole && self.exists(&place) {
            return;
        }
        let kind = match (&entry.is, &entry.target, entry.blake3) {
            (FileKind::Link, Some(target), _) => ItemKind::Link(target.clone()),
            (FileKind::File, _, Some(digest)) if entry.stored.is_some() => ItemKind::File { size: entry.size, digest },
            _ => return self.plan.obstacles.push((place, "the manifest does not describe its content".into())),
        };
        if let Some(parent) = place.parent() {
            self.need_folder(old, &parent);
        }
        let item = self.item(SystemPath::root(), kind, entry);
        let action = PlannedAction::new(place.clone(), before, Operation::Put(vec![item]));
        if !whole {
            self.plan.incomplete.push(place.clone());
        }
        let first = entry.same_as.as_ref().and_then(|first| self.home.place.join(first.below(old)?).ok());
        match first.filter(|_| whole) {
            Some(first) => self.names.push((first, action, entry)),
            None => {
                self.there.insert(place);
                self.files.push((entry.kind, action));
            }
        }
    }

    fn item(&self, below: SystemPath, kind: ItemKind, entry: &EntryLine) -> Item {
        // Permissions without those to run with another user's rights, and attributes that any user may set.
        let mode = u32::from_str_radix(&entry.mode, 8).unwrap_or(0o600) & 0o777;
        let own = entry.attributes.iter().filter(|(name, _)| name.starts_with("user."));
        let plain = matches!(kind, ItemKind::File { .. });
        Item {
            nanos: entry.mtime.n.min(999_999_999),
            attributes: if plain { own.cloned().collect() } else { Vec::new() },
            ..Item::new(below, kind, mode, self.owner, entry.mtime.s)
        }
    }

    fn exists(&mut self, place: &SystemPath) -> bool {
        let (Some(parent), name) = (place.parent(), place.name().to_vec()) else { return false };
        matches!(self.now(&parent), Now::There(_, names) if names.contains_key(&name))
    }

    /// A missing folder, with the missing ones above it.
    fn need_folder(&mut self, old: &SystemPath, place: &SystemPath) {
        let mut next = Some(place.clone());
        while let Some(place) = next {
            if self.missing.contains_key(&place) || !matches!(self.now(&place), Now::Missing) {
                return;
            }
            next = place.parent();
            self.create_folder(old, place);
        }
    }

    fn create_folder(&mut self, old: &SystemPath, place: SystemPath) {
        let before = place.below(&self.home.place).and_then(|below| old.join(below).ok());
        let entry = before.and_then(|before| self.folders.get(&before).copied());
        self.missing.insert(place, entry);
    }

    /// A folder of the home as it is now.
    fn now(&mut self, folder: &SystemPath) -> &Now {
        while self.way.last().is_some_and(|(known, _)| !folder.is_within(known)) {
            self.way.pop();
        }
        let mut left: Vec<SystemPath> = Vec::new();
        let mut next = Some(folder.clone());
        while let Some(place) = next.filter(|place| self.way.last().is_none_or(|(known, _)| known != place)) {
            next = if place == self.home.place { None } else { place.parent() };
            left.push(place);
        }
        while let Some(place) = left.pop() {
            let now = match self.way.last() {
                None => opened(self.home, Ok(self.home.dir().clone())),
                Some((_, Now::There(dir, names))) => match names.get(place.name()) {
                    None => Now::Missing,
                    Some((stat, _)) if stat.kind == FileKind::Folder => {
                        let below = dir.disk().open_dir(dir.fd(), place.name()).map(|fd| dir.beside(fd));
                        opened(self.home, below)
                    }
                    Some(_) => Now::Blocked(format!("{place} is not a folder")),
                },
                Some((_, Now::Missing)) => Now::Missing,
                Some((_, Now::Blocked(why))) => Now::Blocked(why.clone()),
            };
            self.way.push((place, now));
        }
        // The way always leads to the home at least.
        &self.way.last().expect("BUG: a folder of the home has a way to it").1
    }

    fn finish(mut self) -> BackPlan {
        self.plan.folders = self.folder_actions();
        for (first, action, entry) in std::mem::take(&mut self.names) {
            match entry.blake3.filter(|_| self.there.contains(&first)) {
                Some(digest) => {
                    let item = self.item(SystemPath::root(), ItemKind::NameOf { place: first, digest }, entry);
                    self.plan.names.push(PlannedAction { operation: Operation::Put(vec![item]), ..action });
                }
                None => self.files.push((entry.kind, action)),
            }
        }
        self.files.sort_by(|(a, one), (b, other)| a.cmp(b).then_with(|| one.place.cmp(&other.place)));
        self.plan.files = std::mem::take(&mut self.files).into_iter().map(|(_, action)| action).collect();
        let all = self.plan.files.iter().chain(&self.plan.names);
        self.plan.wanted = Count { files: all.clone().count() as u64, bytes: all.map(bytes_of).sum() };
        self.plan
    }

    /// An action for each topmost missing folder.
    fn folder_actions(&self) -> Vec<PlannedAction> {
        let mut tops: BTreeMap<&SystemPath, Vec<Item>> = BTreeMap::new();
        for (place, entry) in &self.missing {
            let mut top = place;
            while let Some((above, _)) = top.parent().and_then(|above| self.missing.get_key_value(&above)) {
                top = above;
            }
            let below = place.below(top).and_then(|below| SystemPath::root().join(below).ok());
            let below = below.unwrap_or_else(SystemPath::root);
            let item = match entry {
                // Its owner must be able to put files into it.
                Some(entry) => {
                    let item = self.item(below, ItemKind::Folder, entry);
                    Item { mode: item.mode | 0o700, ..item }
                }
                None => Item::new(below, ItemKind::Folder, 0o700, self.owner, 0),
            };
            tops.entry(top).or_default().push(item);
        }
        let action =
            |(top, items): (&SystemPath, Vec<Item>)| PlannedAction::new(top.clone(), None, Operation::Put(items));
        tops.into_iter().map(action).collect()
    }
}

/// The entries of a folder, read with its owner's rights.
fn opened(home: &OpenHome, dir: io::Result<Dir>) -> Now {
    let listed = dir.and_then(|dir| home.entries(&dir).map(|entries| (dir, entries)));
    match listed {
        Ok((dir, entries)) => {
            let seen = |entry: FolderEntry| Some((entry.name, entry.seen.ok()?));
            Now::There(dir, entries.into_iter().filter_map(seen).collect())
        }
        Err(e) => Now::Blocked(format!("its folder cannot be read: {}", error_words(&e))),
    }
}

fn has_content(dir: &Dir, name: &[u8], digest: Option<Digest>) -> bool {
    digest.is_some() && dir.digest(name).is_ok_and(|found| found == digest)
}
