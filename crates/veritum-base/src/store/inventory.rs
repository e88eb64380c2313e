//! The names in a store's folder.

use std::fs;
use std::path::{Path, PathBuf};

use rayon::prelude::*;

use super::files::{MANIFESTS, OBJECTS};
use super::{ASIDE, FOLDERS};
use crate::model::Digest;

/// No more than this many names in one store are examined.
const MAX_NAMES: usize = 20_000_000;

/// Digests that name files, sorted.
#[derive(Debug, Default)]
pub(super) struct Names(Vec<Digest>);

impl Names {
    pub(super) fn contains(&self, digest: &Digest) -> bool {
        self.0.binary_search(digest).is_ok()
    }

    pub(super) fn iter(&self) -> impl Iterator<Item = &Digest> {
        self.0.iter()
    }
}

/// The names in a store.
#[derive(Debug, Default)]
pub(super) struct Inventory {
    /// Contents that have a file.
    pub(super) objects: Names,
    /// Manifests that have a file.
    pub(super) manifests: Names,
    /// Names that do not belong in a store, relative to its folder.
    pub(super) foreign: Vec<PathBuf>,
}

/// The contents that have a file, by name only; folders are listed in parallel if a pool is available.
pub(super) fn objects(store: &Path) -> Names {
    named_by_digest(store, OBJECTS).0
}

/// Lists all names; only folders are opened.
pub(super) fn read_names(store: &Path) -> Inventory {
    let mut found = Inventory::default();
    for name in names(store) {
        let known = FOLDERS.iter().chain(&["store.json", "lock", ASIDE]).any(|k| name.as_os_str() == *k);
        if !known {
            found.foreign.push(PathBuf::from(name));
        }
    }
    let (objects, foreign) = named_by_digest(store, OBJECTS);
    found.objects = objects;
    found.foreign.extend(foreign);
    let (manifests, foreign) = named_by_digest(store, MANIFESTS);
    found.manifests = manifests;
    found.foreign.extend(foreign);
    for (folder, ending) in [("metadata", ".json"), ("targets", ".index.json"), ("filled", ".json")] {
        for name in names(&store.join(folder)) {
            let at = Path::new(folder).join(&name);
            let fits = name.to_str().is_some_and(|n| n.ends_with(ending) && !n.starts_with('.'));
            if !fits || !is_file(&store.join(&at)) {
                found.foreign.push(at);
            }
        }
    }
    found.foreign.sort();
    found
}

fn is_file(path: &Path) -> bool {
    fs::symlink_metadata(path).is_ok_and(|m| m.is_file())
}

fn names(folder: &Path) -> Vec<std::ffi::OsString> {
    fs::read_dir(folder).into_iter().flatten().flatten().take(MAX_NAMES).map(|e| e.file_name()).collect()
}

/// Files named `FOLDER/ab/cdef….ENDING`, and all others. Folders are listed in parallel within a pool.
fn named_by_digest(store: &Path, (folder, ending): (&str, &str)) -> (Names, Vec<PathBuf>) {
    let one = |first: &std::ffi::OsString| {
        let (mut found, mut foreign) = (Vec::new(), Vec::new());
        let at = Path::new(folder).join(first);
        let digits = first.to_str().filter(|n| n.len() == 2);
        let folder_itself = fs::symlink_metadata(store.join(&at)).is_ok_and(|m| m.is_dir());
        let (Some(digits), true) = (digits, folder_itself) else { return (found, vec![at]) };
        for entry in fs::read_dir(store.join(&at)).into_iter().flatten().flatten() {
            let name = entry.file_name();
            let rest = name.to_str().and_then(|n| n.strip_suffix(ending));
            let digest = rest.and_then(|rest| digest_of_name(digits, rest));
            match digest.filter(|_| entry.file_type().is_ok_and(|t| t.is_file())) {
                Some(digest) => found.push(digest),
                None => foreign.push(at.join(name)),
            }
        }
        (found, foreign)
    };
    let parts: Vec<_> = names(&store.join(folder)).par_iter().map(one).collect();
    let mut all = Vec::with_capacity(parts.iter().map(|(found, _)| found.len()).sum());
    let mut foreign = Vec::new();
    for (found, others) in parts {
        all.extend(found);
        foreign.extend(others);
    }
    all.sort_unstable();
    (Names(all), foreign)
}

/// The digest in a folder's and a file's name, in lower case.
fn digest_of_name(folder: &str, rest: &str) -> Option<Digest> {
    let mut hex = [0; 64];
    let (head, tail) = hex.split_at_mut(2);
    head.copy_from_slice(folder.as_bytes());
    if rest.len() != tail.len() || rest.bytes().chain(folder.bytes()).any(|b| b.is_ascii_uppercase()) {
        return None;
    }
    tail.copy_from_slice(rest.as_bytes());
    Digest::from_hex(std::str::from_utf8(&hex).ok()?).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_a_digest_in_small_letters_is_the_name_of_a_content() {
        let hex = Digest::hash(b"timetable").to_hex();
        assert_eq!(digest_of_name(&hex[..2], &hex[2..]), Some(Digest::hash(b"timetable")));
        assert_eq!(digest_of_name(&hex[..2], &hex[3..]), None);
        assert_eq!(digest_of_name(&hex[..2], &hex[2..].to_uppercase()), None);
        assert_eq!(digest_of_name("zz", &hex[2..]), None);
        assert_eq!(digest_of_name("\u{e9}", &hex[2..]), None);
    }
}
