//! [`Tree`]: the contents of a folder, read with the standard library only, so that it can judge everything else.

use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::fs;
use std::os::unix::ffi::OsStrExt as _;
use std::os::unix::fs::{FileTypeExt as _, MetadataExt as _};
use std::path::Path;

/// One entry of a tree.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Thing {
    /// Its type, as a letter.
    pub kind: char,
    /// Mode bits.
    pub mode: u32,
    /// Owner and group.
    pub owner: (u32, u32),
    /// Modification time.
    pub mtime: (i64, i64),
    /// Content of a file, target of a symlink.
    pub content: Vec<u8>,
    /// The first name, in order, of the same file.
    pub same_as: Option<Vec<u8>>,
    /// Inode number and change time: equal only if nothing touched it.
    pub touched: (u64, i64, i64),
}

/// The contents of a folder, by path relative to it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Tree(pub BTreeMap<Vec<u8>, Thing>);

impl Tree {
    /// Reads a tree; folders of these names (below the top) are left out with their contents.
    ///
    /// # Panics
    /// When something cannot be read.
    #[must_use]
    pub fn read(top: &Path, leave_out: &[&str]) -> Self {
        let mut tree = Self::default();
        walk(top, top, leave_out, &mut tree);
        let mut firsts: BTreeMap<u64, Vec<u8>> = BTreeMap::new();
        for (path, thing) in &mut tree.0 {
            if thing.kind == 'f' {
                let first = firsts.entry(thing.touched.0).or_insert_with(|| path.clone());
                if first != path {
                    thing.same_as = Some(first.clone());
                }
            }
        }
        tree
    }

    /// The differences of two trees, one per line; empty when they are equal except for inode numbers and change times.
    #[must_use]
    pub fn differences(&self, other: &Self) -> Vec<String> {
        let mut lines = Vec::new();
        let paths: std::collections::BTreeSet<&Vec<u8>> = self.0.keys().chain(other.0.keys()).collect();
        for path in paths {
            let name = String::from_utf8_lossy(path);
            match (self.0.get(path), other.0.get(path)) {
                (Some(_), None) => lines.push(format!("{name}: gone")),
                (None, Some(_)) => lines.push(format!("{name}: new")),
                (Some(a), Some(b)) => {
                    let what = a.unlike(b);
                    if !what.is_empty() {
                        lines.push(format!("{name}:{what}"));
                    }
                }
                (None, None) => {}
            }
        }
        lines
    }

    /// The same tree with every name for itself: for file systems where a file cannot be moved with all its names.
    #[must_use]
    pub fn apart(mut self) -> Self {
        for thing in self.0.values_mut() {
            thing.same_as = None;
        }
        self
    }

    /// The same tree without the times of folders, which any change in them updates.
    #[must_use]
    pub fn without_folder_times(mut self) -> Self {
        for thing in self.0.values_mut().filter(|t| t.kind == 'd') {
            thing.mtime = (0, 0);
        }
        self
    }

    /// Paths that were touched: other inode or change time.
    #[must_use]
    pub fn touched(&self, other: &Self) -> Vec<String> {
        let same = |path: &&Vec<u8>| self.0.get(*path).map(|t| t.touched) == other.0.get(*path).map(|t| t.touched);
        self.0
            .keys()
            .chain(other.0.keys())
            .filter(|p| !same(p))
            .map(|p| String::from_utf8_lossy(p).into_owned())
            .collect()
    }
}

impl Thing {
    fn unlike(&self, other: &Self) -> String {
        let mut what = String::new();
        let mut differ = |name: &str, a: String, b: String| {
            if a != b {
                let _ = write!(what, " {name} {a} -> {b}");
            }
        };
        differ("kind", self.kind.to_string(), other.kind.to_string());
        differ("mode", format!("{:o}", self.mode), format!("{:o}", other.mode));
        differ("owner", format!("{:?}", self.owner), format!("{:?}", other.owner));
        differ("mtime", format!("{:?}", self.mtime), format!("{:?}", other.mtime));
        differ("same file", format!("{:?}", self.same_as), format!("{:?}", other.same_as));
        if self.content != other.content {
            let _ = write!(what, " content ({} -> {} bytes)", self.content.len(), other.content.len());
        }
        what
    }
}

fn walk(top: &Path, at: &Path, leave_out: &[&str], tree: &mut Tree) {
    let meta = fs::symlink_metadata(at).unwrap_or_else(|e| panic!("{}: {e}", at.display()));
    let below = at.strip_prefix(top).unwrap_or(at);
    if leave_out.iter().any(|out| below == Path::new(out)) {
        return;
    }
    let kind = meta.file_type();
    let (letter, content) = if kind.is_symlink() {
        ('l', fs::read_link(at).map(|t| t.as_os_str().as_bytes().to_vec()).unwrap_or_default())
    } else if kind.is_dir() {
        ('d', Vec::new())
    } else if kind.is_file() {
        ('f', fs::read(at).unwrap_or_else(|e| panic!("{}: {e}", at.display())))
    } else if kind.is_fifo() {
        ('p', Vec::new())
    } else {
        ('o', Vec::new())
    };
    let thing = Thing {
        kind: letter,
        mode: meta.mode() & 0o7777,
        owner: (meta.uid(), meta.gid()),
        mtime: (meta.mtime(), meta.mtime_nsec()),
        content,
        same_as: None,
        touched: (meta.ino(), meta.ctime(), meta.ctime_nsec()),
    };
    tree.0.insert(below.as_os_str().as_bytes().to_vec(), thing);
    if letter == 'd' {
        for entry in fs::read_dir(at).unwrap_or_else(|e| panic!("{}: {e}", at.display())) {
            walk(top, &entry.unwrap_or_else(|e| panic!("{}: {e}", at.display())).path(), leave_out, tree);
        }
    }
}
