//! Creating a store, and signing the packages added to it.

use std::collections::HashSet;
use std::fs;
use std::path::{Path, PathBuf};

use super::files::{self, write_whole};
use super::fill::lock;
use super::head::located;
use super::index::{Index, IndexEntry};
use super::pointers::whole_pointers;
use super::read::root_of;
use super::unpack::unpack_all;
use super::{FOLDERS, FORMAT, Manifest, StoreError, at, inventory};
use crate::model::{Digest, EntryKind};
use crate::trust::{self, KeyPair, StoreKeys, Versions};

/// The result of signing.
#[derive(Debug, Clone)]
pub struct PublishSummary {
    /// The number of packages in the store.
    pub packages: usize,
    /// The number of them that were not signed before.
    pub new: usize,
    /// Whether anything had to be signed.
    pub signed: bool,
    /// The store's new versions.
    pub versions: Versions,
}

/// Signatures that expire sooner are renewed even when nothing is new: a year, in seconds.
const WORTH_RENEWING: i64 = 31_557_600;

/// Creates an empty store and its keys.
///
/// # Errors
/// When either folder is not empty.
pub fn create(
    store: &Path,
    key_folder: &Path,
    keys: &StoreKeys,
    expires: jiff::Timestamp,
) -> Result<Vec<String>, StoreError> {
    if fs::read_dir(store).is_ok_and(|mut d| d.next().is_some()) {
        return Err(StoreError::Occupied { path: store.to_owned() });
    }
    let chain = |source| StoreError::Chain { path: store.to_owned(), source };
    let root = trust::first_root(keys, expires).map_err(chain)?;
    keys.write_new(key_folder)?;
    for folder in FOLDERS {
        let folder = store.join(folder);
        fs::create_dir_all(&folder).map_err(at(&folder))?;
    }
    write_whole(&store.join("metadata/1.root.json"), &root)?;
    write_whole(&store.join("store.json"), format!("{{\"format\":\"{FORMAT}\"}}\n").as_bytes())?;
    trust::root_key_ids(&root).map_err(chain)
}

/// Signs everything added to the store. The new versions are higher than all signed before, even where damage makes those
/// unreadable: `seen` are the highest versions that the maintainer has seen.
///
/// # Errors
/// When a manifest or content is missing: a store is signed completely or not at all.
pub fn publish(
    store: &Path,
    key: &KeyPair,
    expires: jiff::Timestamp,
    scratch: &[PathBuf],
    seen: Versions,
) -> Result<PublishSummary, StoreError> {
    let store = located(store)?;
    let _lock = lock(&store)?;
    let chain = |source| StoreError::Chain { path: store.clone(), source };
    let root = root_of(&store)?;
    let index = whole_index(&store)?;
    let bytes = serde_json::to_vec(&index).map_err(|e| at(&store)(e.into()))?;
    let before = match store.join("metadata/timestamp.json").exists() {
        true => trust::load(&root, &store, scratch).ok(),
        false => None,
    };
    let total = index.packages.len();
    if let Some(before) = &before
        && *before.index.get() == bytes
        && expires.as_second() - before.expires.as_second() < WORTH_RENEWING
    {
        return Ok(PublishSummary { packages: total, new: 0, signed: false, versions: before.versions });
    }
    let old: Option<Index> = before.as_ref().and_then(|b| serde_json::from_slice(b.index.get()).ok());
    let old = old.map(|i| i.packages).unwrap_or_default();
    // Earlier content was complete when it was signed; whether it still is, an audit shows.
    let old: HashSet<&IndexEntry> = old.iter().collect();
    let names = inventory::objects(&store);
    let fresh: Vec<&IndexEntry> = index.packages.iter().filter(|e| !old.contains(e)).collect();
    for entry in &fresh {
        require_complete(&store, entry, &names)?;
    }
    let new = fresh.len();
    let versions = before.map(|b| b.versions).unwrap_or_else(|| named_versions(&store)).highest(&seen);
    let published = trust::publish(&root, key, &bytes, versions, expires).map_err(chain)?;
    files::sync_all(&store)?;
    for (path, content) in &published.files {
        write_whole(&store.join(path), content)?;
    }
    Ok(PublishSummary { packages: total, new, signed: true, versions: published.versions })
}

/// All added packages, in the order of an index.
fn whole_index(store: &Path) -> Result<Index, StoreError> {
    let mut packages: Vec<IndexEntry> = whole_pointers(store)?.into_values().collect();
    packages.sort_by(|a, b| a.package.cmp(&b.package));
    Ok(Index { format: Index::FORMAT.into(), packages })
}

/// The signed index rebuilt from the added packages, if it has exactly the signed bytes.
pub(super) fn rebuilt_index(store: &Path, name: &str) -> Option<Vec<u8>> {
    let sha256 = name.strip_prefix("targets/")?.strip_suffix(".index.json")?;
    let bytes = serde_json::to_vec(&whole_index(store).ok()?).ok()?;
    (trust::sha256_hex(&bytes) == sha256).then_some(bytes)
}

/// The highest version in the names of signed files: the versions of all roles increase together.
fn named_versions(store: &Path) -> Versions {
    let names = fs::read_dir(store.join("metadata")).into_iter().flatten().flatten();
    let number = |name: String| {
        let (number, rest) = name.split_once('.')?;
        matches!(rest, "targets.json" | "snapshot.json").then(|| number.parse::<u64>().ok())?
    };
    let highest = names.filter_map(|e| number(e.file_name().into_string().ok()?)).max().unwrap_or(0);
    Versions { root: 1, targets: highest, snapshot: highest, timestamp: highest }
}

fn require_complete(store: &Path, entry: &IndexEntry, names: &inventory::Names) -> Result<(), StoreError> {
    let fail = |source: Box<dyn std::error::Error + Send + Sync>| StoreError::Manifest {
        package: Box::new(entry.package.clone()),
        source,
    };
    let packed = files::open(&files::manifest(store, &entry.manifest)).map_err(|e| fail(e.into()))?;
    let bytes = unpack_all(packed, entry.manifest_size).map_err(|e| fail(e.into()))?;
    if Digest::hash(&bytes) != entry.manifest {
        return Err(fail("checksum differs from the one recorded when it was added".into()));
    }
    let manifest = Manifest::decode(&bytes).map_err(|e| fail(e.into()))?;
    let contents = manifest
        .entries
        .iter()
        .filter_map(|e| if let EntryKind::File { digest, .. } = &e.kind { Some(*digest) } else { None })
        .filter(|_| !entry.manifest_only);
    for digest in contents.chain(manifest.records.iter().map(|r| r.blake3)) {
        if !names.contains(&digest) {
            return Err(StoreError::Absent { digest });
        }
    }
    Ok(())
}
