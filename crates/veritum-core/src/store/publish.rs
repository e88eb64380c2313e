//! Making a store, and signing what was taken into it.

use std::fs;
use std::path::{Path, PathBuf};

use super::files::{self, write_whole};
use super::fill::{lock, pointers};
use super::index::{Index, IndexEntry};
use super::read::{located, root_of, unpack_all};
use super::{FOLDERS, FORMAT, Manifest, StoreError, at};
use crate::model::{Digest, EntryKind};
use crate::trust::{self, KeyPair, StoreKeys, Versions};

/// What a signing brought.
#[derive(Debug, Clone)]
pub struct PublishSummary {
    /// Components in the store.
    pub components: usize,
    /// Of them, ones that the last signing did not have.
    pub new: usize,
    /// Whether there was anything to sign.
    pub signed: bool,
    /// The versions that the store now carries.
    pub versions: Versions,
}

/// Makes an empty store and its keys.
///
/// # Errors
/// When either folder holds something already.
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

/// Signs everything that was taken into the store.
///
/// # Errors
/// When a manifest or content is missing: a store is signed complete or not at all.
pub fn publish(
    store: &Path,
    key: &KeyPair,
    expires: jiff::Timestamp,
    scratch: &[PathBuf],
) -> Result<PublishSummary, StoreError> {
    let store = located(store)?;
    let _lock = lock(&store)?;
    let chain = |source| StoreError::Chain { path: store.clone(), source };
    let root = root_of(&store)?;
    let mut components: Vec<IndexEntry> = pointers(&store)?.into_values().collect();
    components.sort_by(|a, b| a.component.cmp(&b.component));
    for entry in &components {
        require_complete(&store, entry)?;
    }
    let index = Index { format: Index::FORMAT.into(), components };
    let bytes = serde_json::to_vec(&index).map_err(|e| at(&store)(e.into()))?;
    let before = match store.join("metadata/timestamp.json").exists() {
        true => Some(trust::load(&root, &store, scratch).map_err(chain)?),
        false => None,
    };
    let total = index.components.len();
    if let Some(before) = &before
        && *before.index.get() == bytes
    {
        return Ok(PublishSummary { components: total, new: 0, signed: false, versions: before.versions });
    }
    let old: Option<Index> = before.as_ref().and_then(|b| serde_json::from_slice(b.index.get()).ok());
    let old = old.map(|i| i.components).unwrap_or_default();
    let new = index.components.iter().filter(|e| !old.contains(e)).count();
    let versions = before.map(|b| b.versions).unwrap_or_default();
    let published = trust::publish(&root, key, &bytes, versions, expires).map_err(chain)?;
    files::sync_all(&store)?;
    for (path, content) in &published.files {
        write_whole(&store.join(path), content)?;
    }
    Ok(PublishSummary { components: total, new, signed: true, versions: published.versions })
}

fn require_complete(store: &Path, entry: &IndexEntry) -> Result<(), StoreError> {
    let fail = |source: Box<dyn std::error::Error + Send + Sync>| StoreError::Manifest {
        component: Box::new(entry.component.clone()),
        source,
    };
    let packed = fs::File::open(files::manifest(store, &entry.manifest)).map_err(|e| fail(e.into()))?;
    let bytes = unpack_all(packed, entry.manifest_size).map_err(|e| fail(e.into()))?;
    if Digest::of(&bytes) != entry.manifest {
        return Err(fail("its content is not the one that was taken in".into()));
    }
    let manifest = Manifest::decode(&bytes).map_err(|e| fail(e.into()))?;
    let contents = manifest
        .entries
        .iter()
        .filter_map(|e| if let EntryKind::File { digest, .. } = &e.kind { Some(*digest) } else { None });
    for digest in contents.chain(manifest.records.iter().map(|r| r.blake3)) {
        if !files::object(store, &digest).is_file() {
            return Err(StoreError::Absent { digest });
        }
    }
    Ok(())
}
