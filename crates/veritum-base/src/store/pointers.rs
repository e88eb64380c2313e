//! Records of added packages, for later additions and the next signing.

use std::collections::{HashMap, HashSet};
use std::fs;
use std::path::{Path, PathBuf};

use super::head::located;
use super::index::IndexEntry;
use super::{StoreError, at, files};
use crate::model::PackageId;

/// Such records are small.
const MAX_POINTER: u64 = 1 << 20;

/// The name of a package's record.
pub(super) fn pointer_name(id: &PackageId) -> String {
    // An epoch's colon is written as repositories write it, so that any file system accepts the name.
    format!("{}_{}_{}.json", id.name, id.version.replace(':', "%3a"), id.arch)
}

fn pointer_path(store: &Path, id: &PackageId) -> PathBuf {
    store.join("filled").join(pointer_name(id))
}

/// All added packages, signed or not, and the names of records that cannot be read.
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

/// All added packages; every record must be readable, or its package would silently be left out of what is signed.
pub(super) fn whole_pointers(store: &Path) -> Result<HashMap<PackageId, IndexEntry>, StoreError> {
    let (all, unread) = pointers(store);
    match unread.first() {
        Some(name) => Err(StoreError::Pointer { path: store.join("filled").join(name) }),
        None => Ok(all),
    }
}

/// Writes the record of an added package.
pub(super) fn write_pointer(store: &Path, entry: &IndexEntry) -> Result<(), StoreError> {
    let text = serde_json::to_vec(entry).map_err(|e| at(store)(e.into()))?;
    files::write_whole(&pointer_path(store, &entry.package), &text)
}

/// The added packages to which nothing is to be added.
///
/// # Errors
/// When there is no store, or a record is damaged.
pub fn taken_in(store: &Path, contents: bool) -> Result<HashSet<PackageId>, StoreError> {
    let known = whole_pointers(&located(store)?)?;
    Ok(known.into_values().filter(|e| !(contents && e.manifest_only)).map(|e| e.package).collect())
}

/// The free space of a store's file system in bytes; `None` where it is unknown.
#[must_use]
pub fn room_for(store: &Path) -> Option<u64> {
    let stat = rustix::fs::statvfs(store).ok()?;
    Some(stat.f_bavail.saturating_mul(stat.f_frsize)).filter(|_| stat.f_blocks > 0)
}
