//! What lies in a store's folder, by name only.

use std::collections::HashSet;
use std::fs;
use std::path::{Path, PathBuf};

use super::files::{MANIFESTS, OBJECTS};
use super::{ASIDE, FOLDERS};
use crate::model::Digest;

/// Names over this many in one store are not looked at.
const MAX_NAMES: usize = 20_000_000;

/// The names in a store.
#[derive(Debug, Default)]
pub(super) struct Inventory {
    /// Contents that have a file.
    pub(super) objects: HashSet<Digest>,
    /// Manifests that have a file.
    pub(super) manifests: HashSet<Digest>,
    /// What has no place in a store, below its folder.
    pub(super) foreign: Vec<PathBuf>,
}

/// The contents that have a file, by name only.
pub(super) fn objects(store: &Path) -> HashSet<Digest> {
    let mut found = Inventory::default();
    named_by_digest(store, OBJECTS, &mut found.objects, &mut found.foreign);
    found.objects
}

/// Looks at all names; nothing is opened but folders.
pub(super) fn take(store: &Path) -> Inventory {
    let mut found = Inventory::default();
    for name in names(store) {
        let known = FOLDERS.iter().chain(&["store.json", "lock", ASIDE]).any(|k| name.as_os_str() == *k);
        if !known {
            found.foreign.push(PathBuf::from(name));
        }
    }
    named_by_digest(store, OBJECTS, &mut found.objects, &mut found.foreign);
    named_by_digest(store, MANIFESTS, &mut found.manifests, &mut found.foreign);
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

/// Files named `FOLDER/ab/cdef….ENDING`; all others are foreign.
fn named_by_digest(
    store: &Path,
    (folder, ending): (&str, &str),
    found: &mut HashSet<Digest>,
    foreign: &mut Vec<PathBuf>,
) {
    for first in names(&store.join(folder)) {
        let at = Path::new(folder).join(&first);
        let digits = first.to_str().filter(|n| n.len() == 2 && n.bytes().all(|b| b.is_ascii_hexdigit()));
        let folder_itself = fs::symlink_metadata(store.join(&at)).is_ok_and(|m| m.is_dir());
        let (Some(digits), true) = (digits, folder_itself) else {
            foreign.push(at);
            continue;
        };
        for entry in fs::read_dir(store.join(&at)).into_iter().flatten().flatten() {
            let name = entry.file_name();
            let rest = name.to_str().and_then(|n| n.strip_suffix(ending));
            let digest = rest.and_then(|rest| {
                let hex = format!("{digits}{rest}");
                Digest::from_hex(&hex).ok().filter(|d| d.to_hex() == hex)
            });
            match digest.filter(|_| entry.file_type().is_ok_and(|t| t.is_file())) {
                Some(digest) => drop(found.insert(digest)),
                None => foreign.push(at.join(name)),
            }
        }
    }
}
