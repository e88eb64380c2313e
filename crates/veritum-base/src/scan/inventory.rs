//! Inventory of the user data in a home, before and after a change: the proof that nothing was lost.
//!
//! It covers everything except what is set aside, Veritum's own folder for that, and caches; in caches only files that look
//! like user data. Folders are recorded with owner and mode; their contents are recorded separately.

use std::collections::HashSet;

use serde::{Deserialize, Serialize};

use crate::apps::{ASIDE, Bases, looks_user_authored};
use crate::machine::Dir;
use crate::model::{ContentHasher, Digest, FileKind, Identity, Stat};

/// Deeper folders are not examined.
const MAX_DEPTH: usize = 512;
/// The number of differences that are listed.
const MAX_NAMED: usize = 100;
/// Larger files are recorded without their contents: a sparse terabyte must not be read for hours.
const MAX_READ: u64 = 4 << 30;

/// A request for the inventory of a home.
#[derive(Debug, Serialize, Deserialize)]
pub struct InventoryQuestion {
    /// The base directories.
    pub bases: Bases,
    /// Paths relative to the home that are left out, with everything below them.
    pub leave_out: Vec<Vec<u8>>,
    /// Whether contents are read.
    pub contents: bool,
    /// Whether to compare with the previous inventory.
    pub again: bool,
    /// The limit of names.
    pub most: u64,
}

/// The amount of user data, and its differences from the previous inventory.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct InventoryAnswer {
    /// Files, symlinks and other objects that are not folders.
    pub files: u64,
    /// Their sizes in bytes.
    pub bytes: u64,
    /// BLAKE3 of all paths with type, size, mode, owner, modification time and, if requested, content.
    pub digest: String,
    /// Folders that could not be examined, or on which another file system is mounted.
    pub unseen: u64,
    /// Files whose content was requested and could not be read, or is too large.
    pub unread: u64,
    /// Whether there are more names than the limit.
    pub too_many: bool,
    /// Differences from the previous inventory: the path relative to the home, and `gone`, `new` or `changed`.
    pub differences: Vec<(Vec<u8>, String)>,
    /// The number of differences, listed or not.
    pub different: u64,
}

/// All entries, in the order of their paths.
#[derive(Debug, Default)]
pub(super) struct Inventory {
    paths: Vec<u8>,
    entries: Vec<Entry>,
    answer: InventoryAnswer,
}

#[derive(Debug)]
struct Entry {
    /// The position of its path among all.
    path: std::ops::Range<usize>,
    numbers: Numbers,
    content: Option<Digest>,
}

#[derive(Debug, PartialEq, Eq)]
struct Numbers {
    kind: u8,
    mode: u32,
    owner: (u32, u32),
    size: u64,
    mtime: (i64, u32),
}

impl Numbers {
    fn new(stat: &Stat) -> Self {
        let folder = stat.kind == FileKind::Folder;
        let kind = match stat.kind {
            FileKind::File => 0,
            FileKind::Folder => 1,
            FileKind::Link => 2,
            _ => 3,
        };
        Self {
            kind,
            mode: stat.mode,
            owner: (stat.uid, stat.gid),
            size: if folder { 0 } else { stat.size },
            mtime: if folder { (0, 0) } else { (stat.mtime.s, stat.mtime.n) },
        }
    }

    fn bytes(&self) -> [u8; 37] {
        let mut all = [0; 37];
        all[0] = self.kind;
        all[1..5].copy_from_slice(&self.mode.to_le_bytes());
        all[5..9].copy_from_slice(&self.owner.0.to_le_bytes());
        all[9..13].copy_from_slice(&self.owner.1.to_le_bytes());
        all[13..21].copy_from_slice(&self.size.to_le_bytes());
        all[21..29].copy_from_slice(&self.mtime.0.to_le_bytes());
        all[29..33].copy_from_slice(&self.mtime.1.to_le_bytes());
        all
    }
}

impl InventoryQuestion {
    /// Takes the inventory of a home; compares it with the previous one if requested, otherwise keeps it.
    pub(super) fn answer(&self, home: &Dir, earlier: &mut Option<Inventory>) -> InventoryAnswer {
        let taken = self.taken(home);
        match earlier {
            Some(earlier) if self.again => taken.against(earlier),
            _ => {
                let answer = taken.answer.clone();
                *earlier = Some(taken);
                answer
            }
        }
    }

    fn taken(&self, home: &Dir) -> Inventory {
        let mut inventory = Inventory::default();
        let Ok(stat) = home.look_self() else {
            inventory.answer.unseen = 1;
            return inventory;
        };
        let mount = home.disk().mount_of(home.fd()).ok();
        let left_out = self.leave_out.iter().map(Vec::as_slice).chain([ASIDE.as_bytes()]).collect();
        let mut walk = Walk { question: self, left_out, inventory: &mut inventory, top: stat.id, mount, names: 0 };
        walk.folder(home, &mut Vec::new(), 0);
        inventory.settle();
        inventory
    }
}

struct Walk<'a> {
    question: &'a InventoryQuestion,
    left_out: HashSet<&'a [u8]>,
    inventory: &'a mut Inventory,
    top: Identity,
    mount: Option<u64>,
    names: u64,
}

impl Walk<'_> {
    fn folder(&mut self, dir: &Dir, path: &mut Vec<u8>, depth: usize) {
        let Ok(names) = dir.disk().list(dir.fd()) else {
            self.inventory.answer.unseen += 1;
            return;
        };
        for (name, _) in names {
            self.names += 1;
            if self.names > self.question.most {
                self.inventory.answer.too_many = true;
                return;
            }
            let above = path.len();
            if !path.is_empty() {
                path.push(b'/');
            }
            path.extend_from_slice(&name);
            self.visit(dir, &name, path, depth);
            path.truncate(above);
        }
    }

    fn visit(&mut self, dir: &Dir, name: &[u8], path: &mut Vec<u8>, depth: usize) {
        if self.left_out.contains(path.as_slice()) {
            return;
        }
        // What disappeared since it was listed is not a failure: the comparison shows it.
        let Ok(stat) = dir.disk().look(dir.fd(), name) else { return };
        let in_cache = lies_in(path, &self.question.bases.cache);
        if stat.kind != FileKind::Folder {
            if in_cache && !looks_user_authored(name, b"") {
                return;
            }
            let content = self.content(dir, name, &stat);
            self.inventory.add(path, &stat, content);
            return;
        }
        if !in_cache {
            self.inventory.add(path, &stat, None);
        }
        // Checked before it is opened: a file system that never answers may be mounted there.
        let opened = (stat.id.dev == self.top.dev && depth < MAX_DEPTH)
            .then(|| dir.disk().open_dir(dir.fd(), name).ok().map(|fd| dir.beside(fd)))
            .flatten();
        match opened {
            Some(inner) if inner.disk().mount_of(inner.fd()).ok() == self.mount => {
                self.folder(&inner, path, depth + 1);
            }
            _ => self.inventory.answer.unseen += 1,
        }
    }

    fn content(&mut self, dir: &Dir, name: &[u8], stat: &Stat) -> Option<Digest> {
        if !self.question.contents || stat.kind != FileKind::File {
            return None;
        }
        let digest = (stat.size <= MAX_READ).then(|| dir.digest(name).ok().flatten()).flatten();
        self.inventory.answer.unread += u64::from(digest.is_none());
        digest
    }
}

/// Whether a path is that folder or below it.
fn lies_in(path: &[u8], folder: &[u8]) -> bool {
    path.strip_prefix(folder).is_some_and(|rest| rest.is_empty() || rest[0] == b'/')
}

impl Inventory {
    fn add(&mut self, path: &[u8], stat: &Stat, content: Option<Digest>) {
        let begin = self.paths.len();
        self.paths.extend_from_slice(path);
        self.entries.push(Entry { path: begin..self.paths.len(), numbers: Numbers::new(stat), content });
        if stat.kind != FileKind::Folder {
            self.answer.files += 1;
            self.answer.bytes = self.answer.bytes.saturating_add(stat.size);
        }
    }

    fn path(&self, entry: &Entry) -> &[u8] {
        &self.paths[entry.path.clone()]
    }

    fn settle(&mut self) {
        let paths = &self.paths;
        self.entries.sort_unstable_by(|a, b| paths[a.path.clone()].cmp(&paths[b.path.clone()]));
        let mut hasher = ContentHasher::blake3();
        for entry in &self.entries {
            let path = self.path(entry);
            hasher.update(&(path.len() as u64).to_le_bytes());
            hasher.update(path);
            hasher.update(&entry.numbers.bytes());
            if let Some(content) = &entry.content {
                hasher.update(content.to_hex().as_bytes());
            }
        }
        self.answer.digest = hasher.finish().0.map(|digest| digest.to_hex()).unwrap_or_default();
    }

    /// The differences from a previous inventory.
    fn against(self, earlier: &Self) -> InventoryAnswer {
        let mut differences: Vec<(Vec<u8>, &str)> = Vec::new();
        let (mut old, mut new) = (earlier.entries.iter().peekable(), self.entries.iter().peekable());
        let mut different = 0;
        loop {
            let order = match (old.peek(), new.peek()) {
                (None, None) => break,
                (Some(_), None) => std::cmp::Ordering::Less,
                (None, Some(_)) => std::cmp::Ordering::Greater,
                (Some(a), Some(b)) => earlier.path(a).cmp(self.path(b)),
            };
            let a = order.is_le().then(|| old.next()).flatten();
            let b = order.is_ge().then(|| new.next()).flatten();
            let told = match (a, b) {
                (Some(a), Some(b)) if a.numbers == b.numbers && a.content == b.content => continue,
                (Some(_), Some(b)) => (self.path(b), "changed"),
                (Some(a), None) => (earlier.path(a), "gone"),
                (None, Some(b)) => (self.path(b), "new"),
                (None, None) => break,
            };
            different += 1;
            if differences.len() < MAX_NAMED {
                differences.push((told.0.to_vec(), told.1));
            }
        }
        let differences = differences.into_iter().map(|(path, what)| (path, what.to_owned())).collect();
        InventoryAnswer { differences, different, ..self.answer }
    }
}

#[cfg(test)]
mod tests {
    use std::fs;
    use std::path::Path;
    use std::sync::Arc;

    use super::*;
    use crate::machine::{LiveDisk, Machine};
    use crate::model::SystemPath;

    fn put(home: &Path, path: &str, text: &str) {
        let path = home.join(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }

    fn asked(home: &Path, contents: bool, again: bool, earlier: &mut Option<Inventory>) -> InventoryAnswer {
        let machine = Machine::open(home, Arc::new(LiveDisk)).unwrap();
        let dir = machine.dir(&SystemPath::root()).unwrap();
        let leave_out = vec![b".config/quay".to_vec()];
        let question = InventoryQuestion { bases: Bases::default(), leave_out, contents, again, most: 1000 };
        question.answer(&dir, earlier)
    }

    #[test]
    fn whatever_is_gone_new_or_changed_is_told_and_nothing_of_what_is_left_out() {
        let home = tempfile::tempdir().unwrap();
        let home = home.path();
        for path in ["letter", "Work/one", "Work/two", ".cache/x/thesis.odt", ".cache/x/thumb", ".config/quay/rc"] {
            put(home, path, path);
        }
        std::os::unix::fs::symlink("/etc", home.join("link")).unwrap();
        put(home, ".veritum-set-aside/1/letter", "ours");
        let mut earlier = None;
        let before = asked(home, true, false, &mut earlier);
        assert_eq!((before.files, before.different, before.unread), (5, 0, 0), "{before:?}");
        let same = asked(home, true, true, &mut earlier);
        assert_eq!((&same.digest, same.different), (&before.digest, 0));
        put(home, ".cache/x/thumb", "made again");
        fs::remove_dir_all(home.join(".config/quay")).unwrap();
        assert_eq!(asked(home, true, true, &mut earlier).different, 0);
        fs::remove_file(home.join("letter")).unwrap();
        fs::remove_file(home.join(".cache/x/thesis.odt")).unwrap();
        put(home, "Work/two", "other content of it");
        put(home, "Work/zwei", "new");
        let after = asked(home, true, true, &mut earlier);
        let told: Vec<String> =
            after.differences.iter().map(|(path, what)| format!("{} {what}", String::from_utf8_lossy(path))).collect();
        assert_eq!(told, [".cache/x/thesis.odt gone", "Work/two changed", "Work/zwei new", "letter gone"]);
        assert!(after.digest != before.digest && after.different == 4);
    }

    #[test]
    fn content_counts_when_it_is_asked_for() {
        let home = tempfile::tempdir().unwrap();
        put(home.path(), "letter", "one");
        let time = fs::metadata(home.path().join("letter")).unwrap().modified().unwrap();
        for (contents, different) in [(false, 0), (true, 1)] {
            put(home.path(), "letter", "one");
            let set = |path: &Path| fs::File::options().write(true).open(path).unwrap().set_modified(time).unwrap();
            set(&home.path().join("letter"));
            let mut earlier = None;
            asked(home.path(), contents, false, &mut earlier);
            put(home.path(), "letter", "two");
            set(&home.path().join("letter"));
            assert_eq!(asked(home.path(), contents, true, &mut earlier).different, different);
        }
    }
}
