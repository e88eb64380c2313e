//! [`differences`]: a savepoint compared with the present state.

use std::cmp::Ordering;
use std::collections::HashMap;

use super::super::manifest::{Entry, What};
use super::super::places::Coverage;
use super::super::read::SystemRead;
use crate::model::{Identity, Stat, SystemPath};

/// A place that is not as the savepoint recorded it.
#[derive(Debug, Clone)]
pub(super) struct Difference {
    pub(super) path: SystemPath,
    /// As it was; `None` if it was made since.
    pub(super) then: Option<Entry>,
    /// As it is, with its status; `None` if it is gone.
    pub(super) now: Option<(Entry, Stat)>,
}

impl Difference {
    /// Whether it is a folder now.
    pub(super) fn is_folder_now(&self) -> bool {
        self.now.as_ref().is_some_and(|(entry, _)| entry.what == What::Folder)
    }

    /// Whether it was a folder.
    pub(super) fn was_folder(&self) -> bool {
        self.then.as_ref().is_some_and(|entry| entry.what == What::Folder)
    }

    /// Whether the content is another one, not only owner, mode, time or attributes.
    pub(super) fn has_other_content(&self) -> bool {
        match (&self.then, &self.now) {
            (Some(then), Some((now, _))) => !same_content(&then.what, &now.what),
            _ => true,
        }
    }
}

pub(super) fn same_content(a: &What, b: &What) -> bool {
    match (a, b) {
        (What::File { size: a, digest: x, .. }, What::File { size: b, digest: y, .. }) => (a, x) == (b, y),
        _ => a == b,
    }
}

/// The places that differ, in the order of their paths. What could not be read then or now is left out, and whatever a savepoint never
/// covers.
pub(super) fn differences(
    then: Vec<Entry>,
    now: SystemRead,
    missing_then: &[(SystemPath, String)],
    coverage: &Coverage,
) -> Vec<Difference> {
    let groups = Groups::new(&then, &now);
    let unknown = |path: &SystemPath| {
        let is = |missing: &[(SystemPath, String)]| missing.iter().any(|(place, _)| path.is_within(place));
        is(missing_then) || is(&now.missing)
    };
    let is_covered = |entry: &Entry| coverage.has(&entry.path) || coverage.has_single(&entry.path);
    let mut found = Vec::new();
    let mut earlier = then.into_iter().filter(is_covered).peekable();
    let mut later = now.entries.into_iter().zip(now.stats).peekable();
    loop {
        let order = match (earlier.peek(), later.peek()) {
            (None, None) => break,
            (Some(_), None) => Ordering::Less,
            (None, Some(_)) => Ordering::Greater,
            (Some(then), Some((now, _))) => then.path.cmp(&now.path),
        };
        let then = if order.is_le() { earlier.next() } else { None };
        let now = if order.is_ge() { later.next() } else { None };
        let Some(path) = then.as_ref().or(now.as_ref().map(|(entry, _)| entry)).map(|entry| entry.path.clone()) else {
            break;
        };
        if let (Some(then), Some((now, stat))) = (&then, &now)
            && is_same(then, now)
            && groups.is_same(then, stat)
        {
            continue;
        }
        found.push(Difference { path, then, now });
    }
    if !missing_then.is_empty() || !now.missing.is_empty() {
        found.retain(|difference| !unknown(&difference.path));
    }
    found
}

/// Whether everything is as it was, but for hard links. Folders' times are not compared: they change whenever a name does.
fn is_same(then: &Entry, now: &Entry) -> bool {
    let metadata = (then.mode, then.uid, then.gid, then.locked) == (now.mode, now.uid, now.gid, now.locked);
    let time = then.what == What::Folder || then.mtime == now.mtime;
    metadata && time && then.attributes == now.attributes && same_content(&then.what, &now.what)
}

/// Which names were one file, and which are.
struct Groups {
    /// For each inode of now the first name that its names had then; `None` if they were different files.
    first: HashMap<Identity, Option<SystemPath>>,
}

impl Groups {
    fn new(then: &[Entry], now: &SystemRead) -> Self {
        let leader = |entry: &Entry| match &entry.what {
            What::File { hard_link_of, .. } => Some(hard_link_of.clone().unwrap_or_else(|| entry.path.clone())),
            _ => None,
        };
        let mut first: HashMap<Identity, Option<SystemPath>> = HashMap::new();
        for (entry, stat) in now.entries.iter().zip(&now.stats) {
            if !matches!(entry.what, What::File { .. }) {
                continue;
            }
            let at = then.binary_search_by(|then| then.path.cmp(&entry.path));
            let Some(leader) = at.ok().and_then(|at| leader(&then[at])) else { continue };
            first
                .entry(stat.id)
                .and_modify(|known| {
                    if known.as_ref() != Some(&leader) {
                        *known = None;
                    }
                })
                .or_insert(Some(leader));
        }
        // All names of a file of then are one file only if its first name's inode is theirs.
        let of_first: HashMap<SystemPath, Identity> = now
            .entries
            .iter()
            .zip(&now.stats)
            .filter(|(entry, _)| matches!(entry.what, What::File { .. }))
            .map(|(entry, stat)| (entry.path.clone(), stat.id))
            .collect();
        first.retain(|id, leader| leader.as_ref().is_none_or(|leader| of_first.get(leader) == Some(id)));
        Self { first }
    }

    /// Whether a file has the same other names as then. A file with one name then and now is not in question.
    fn is_same(&self, then: &Entry, now: &Stat) -> bool {
        let What::File { hard_link_of, .. } = &then.what else { return true };
        let leader = hard_link_of.as_ref().unwrap_or(&then.path);
        self.first.get(&now.id).is_some_and(|first| first.as_ref() == Some(leader))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::{Digest, FileKind, Instant};

    fn file(path: &'static str, content: &str, first: Option<&'static str>) -> Entry {
        Entry {
            path: SystemPath::literal(path),
            what: What::File {
                size: content.len() as u64,
                digest: Digest::hash(content.as_bytes()),
                hard_link_of: first.map(SystemPath::literal),
            },
            mode: 0o644,
            uid: 0,
            gid: 0,
            mtime: Instant { s: 1, n: 2 },
            attributes: Vec::new(),
            locked: 0,
        }
    }

    fn stat(ino: u64) -> Stat {
        let time = Instant { s: 1, n: 2 };
        let id = Identity { dev: 1, ino };
        Stat {
            kind: FileKind::File,
            mode: 0o644,
            uid: 0,
            gid: 0,
            size: 1,
            mtime: time,
            ctime: time,
            id,
            names: 1,
            rdev: 0,
        }
    }

    fn told(then: Vec<Entry>, now: Vec<(Entry, u64)>) -> Vec<String> {
        let root = tempfile::tempdir().unwrap();
        std::fs::create_dir_all(root.path().join("usr")).unwrap();
        let machine =
            crate::machine::Machine::open(root.path(), std::sync::Arc::new(crate::machine::LiveDisk)).unwrap();
        let (entries, stats) = now.into_iter().map(|(entry, ino)| (entry, stat(ino))).unzip();
        let read = SystemRead { entries, stats, ..SystemRead::default() };
        let found = differences(then, read, &[], &Coverage::new(&machine));
        found
            .iter()
            .map(|d| format!("{} {}{}", d.path, u8::from(d.then.is_some()), u8::from(d.now.is_some())))
            .collect()
    }

    #[test]
    fn what_came_went_and_changed_is_told_and_nothing_outside() {
        let then = vec![
            file("/home/x", "own", None),
            file("/usr/a", "1", None),
            file("/usr/b", "2", None),
            file("/usr/c", "3", None),
        ];
        let other = Entry { mode: 0o600, ..file("/usr/b", "2", None) };
        let now = vec![(file("/usr/a", "1", None), 1), (other, 2), (file("/usr/d", "4", None), 3)];
        assert_eq!(told(then, now), ["/usr/b 11", "/usr/c 10", "/usr/d 01"]);
    }

    #[test]
    fn names_of_one_file_must_be_names_of_one_file() {
        let then = || vec![file("/usr/a", "1", None), file("/usr/b", "1", Some("/usr/a")), file("/usr/c", "1", None)];
        let now = |inodes: [u64; 3]| {
            let names = ["/usr/a", "/usr/b", "/usr/c"];
            names.iter().zip(inodes).map(|(name, ino)| (file(name, "1", None), ino)).collect::<Vec<_>>()
        };
        assert_eq!(told(then(), now([1, 1, 2])), [""; 0]);
        assert_eq!(told(then(), now([1, 2, 3])), ["/usr/b 11"], "cut off from the first");
        assert_eq!(told(then(), now([1, 1, 1])), ["/usr/a 11", "/usr/b 11", "/usr/c 11"], "one more than there were");
        // A new name that sorts first changes nothing.
        let mut more = now([1, 1, 2]);
        more.insert(0, (file("/usr/0", "1", None), 1));
        assert_eq!(told(then(), more), ["/usr/0 01"]);
    }
}
