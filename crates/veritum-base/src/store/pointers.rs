//! What says of each package that it was taken in: read by the next filling and signing.

use std::collections::{HashMap, HashSet};
use std::fs;
use std::path::{Path, PathBuf};

use super::head::located;
use super::index::IndexEntry;
use super::{StoreError, at, files};
use crate::model::PackageId;

/// Files that say what was taken in are small.
const MAX_POINTER: u64 = 1 << 20;

/// What the file is called that says of a package that it was taken in.
pub(super) fn pointer_name(id: &PackageId) -> String {
    // The colon of an epoch is written as repositories write it, so that any file system takes the name.
    format!("{}_{}_{}.json", id.name, id.version.replace(':', "%3a"), id.arch)
}

fn pointer_path(store: &Path, id: &PackageId) -> PathBuf {
    store.join("filled").join(pointer_name(id))
}

/// What was taken in so far, signed or not, and the names of files that should say so and cannot be read.
pub(super) fn pointers(store: &Path) -> (HashMap<PackageId, IndexEntry>, Vec<String>) {
    let (mut all, mut unread) = (HashMap::new(), Vec::new());
    for entry in fs::read_dir(store.join("filled")).into_iter().flatten().flatten() {
        let Some(name) = entry.file_name().to_str().filter(|n| n.ends_with(".json")).map(str::to_owned) else {
            continue;
        };
        let pointer = files::read(&entry.path(), MAX_POINTER).ok();
        let pointer: Option<IndexEntry> = pointer.and_then(|bytes| serde_json::from_slice(&bytes).ok());
        match pointer.filter(|p| pointer_name(&p.package) == name) {
            Some(pointer) => drop(all.insert(pointer.package.clone(), pointer)),
            None => unread.push(name),
        }
    }
    unread.sort();
    (all, unread)
}

/// What was taken in so far; none of it may be unreadable, or it would silently be left out of what is signed.
pub(super) fn whole_pointers(store: &Path) -> Result<HashMap<PackageId, IndexEntry>, StoreError> {
    let (all, unread) = pointers(store);
    match unread.first() {
        Some(name) => Err(StoreError::Pointer { path: store.join("filled").join(name) }),
        None => Ok(all),
    }
}

/// Writes what says that a package was taken in.
pub(super) fn write_pointer(store: &Path, entry: &IndexEntry) -> Result<(), StoreError> {
    let text = serde_json::to_vec(entry).map_err(|e| at(store)(e.into()))?;
    files::write_whole(&pointer_path(store, &entry.package), &text)
}

/// The packages that were taken in, of which a further filling has nothing to add.
///
/// # Errors
/// When there is no store, or what says so is damaged.
pub fn taken_in(store: &Path, contents: bool) -> Result<HashSet<PackageId>, StoreError> {
    let known = whole_pointers(&located(store)?)?;
    Ok(known.into_values().filter(|e| !(contents && e.manifest_only)).map(|e| e.package).collect())
}

/// Bytes that are free where a store is; none where the file system does not say.
#[must_use]
pub fn room_for(store: &Path) -> Option<u64> {
    let stat = rustix::fs::statvfs(store).ok()?;
    Some(stat.f_bavail.saturating_mul(stat.f_frsize)).filter(|_| stat.f_blocks > 0)
}
