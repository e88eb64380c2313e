//! A store's signed metadata: written and read after The Update Framework specification 1.0.33.
//!
//! `metadata/N.root.json`, `N.targets.json`, `N.snapshot.json`, `timestamp.json`, and one target, the index, under
//! `targets/SHA256.index.json` (consistent snapshots, specification 6.2). Expiry is read, never enforced here: it
//! decides what is new, not what an installed version is.

use std::collections::{BTreeMap, HashMap};
use std::num::NonZeroU64;
use std::path::{Path, PathBuf};

use aws_lc_rs::digest::{SHA256, digest};
use serde::{Deserialize, Serialize};
use tough::editor::signed::SignedRole;
use tough::key_source::KeySource;
use tough::schema::decoded::{Decoded, Hex};
use tough::schema::{self, Hashes, KeyHolder, RoleKeys, RoleType, Signed};
use tough::{ExpirationEnforcement, FilesystemTransport, IntoVec as _, Limits, RepositoryLoader, TargetName};
use url::Url;

use super::Verified;
use super::keys::{KeyPair, StoreKeys};

const SPEC_VERSION: &str = "1.0.33";
const INDEX: &str = "index.json";
/// An index over this size is refused: 100,000 components need a third of it.
const MAX_INDEX: u64 = 64 << 20;
const MAX_METADATA: u64 = 1 << 20;

/// Why signed metadata cannot be used.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum RepositoryError {
    /// The metadata is damaged, incomplete, or not signed by the keys that count.
    #[error("the store's signed metadata does not hold")]
    Metadata(#[source] Box<tough::error::Error>),
    /// The signed index is missing or is not the one that was signed.
    #[error("the store's index is not the one that was signed")]
    Index(#[source] Box<dyn std::error::Error + Send + Sync>),
    /// No scratch folder could be made for the verification.
    #[error("no scratch folder could be made")]
    Scratch(#[source] std::io::Error),
    /// Something that must be encoded cannot be.
    #[error("the metadata could not be made")]
    Make(#[source] Box<dyn std::error::Error + Send + Sync>),
}

fn make<E: std::error::Error + Send + Sync + 'static>(error: E) -> RepositoryError {
    RepositoryError::Make(Box::new(error))
}

/// The version numbers of the four roles.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, PartialOrd, Serialize, Deserialize)]
pub struct Versions {
    /// Keys.
    pub root: u64,
    /// The list of targets.
    pub targets: u64,
    /// The set of metadata.
    pub snapshot: u64,
    /// Which set is the newest.
    pub timestamp: u64,
}

impl Versions {
    /// The role that is older here than in `before`, if one is.
    #[must_use]
    pub fn older_than(&self, before: &Versions) -> Option<&'static str> {
        let pairs = [
            (self.root, before.root, "root"),
            (self.timestamp, before.timestamp, "timestamp"),
            (self.snapshot, before.snapshot, "snapshot"),
            (self.targets, before.targets, "targets"),
        ];
        pairs.into_iter().find(|(now, before, _)| now < before).map(|(_, _, role)| role)
    }

    /// The higher of each.
    #[must_use]
    pub fn highest(&self, other: &Versions) -> Versions {
        Versions {
            root: self.root.max(other.root),
            targets: self.targets.max(other.targets),
            snapshot: self.snapshot.max(other.snapshot),
            timestamp: self.timestamp.max(other.timestamp),
        }
    }
}

/// Metadata whose signatures hold.
#[derive(Debug)]
pub struct Loaded {
    /// The index's bytes.
    pub index: Verified<Vec<u8>>,
    /// The versions met.
    pub versions: Versions,
    /// When the earliest of the roles expires.
    pub expires: jiff::Timestamp,
}

/// Files to be written, in this order: each only refers to ones before it.
#[derive(Debug, Clone)]
pub struct Published {
    /// Path below the store, and content.
    pub files: Vec<(PathBuf, Vec<u8>)>,
    /// The versions that they carry.
    pub versions: Versions,
}

fn runtime() -> Result<tokio::runtime::Runtime, RepositoryError> {
    tokio::runtime::Builder::new_current_thread().build().map_err(make)
}

fn sources(keys: &[&KeyPair]) -> Vec<Box<dyn KeySource>> {
    keys.iter().map(|k| Box::new((*k).clone()) as Box<dyn KeySource>).collect()
}

/// Signs a role and writes it the same way each time: keys in order, so that equal content has equal bytes.
fn sign<R>(role: R, root: &schema::Root, keys: &[&KeyPair]) -> Result<Vec<u8>, RepositoryError>
where
    R: schema::Role + Serialize + Clone,
{
    let holder = KeyHolder::Root(root.clone());
    let rng = aws_lc_rs::rand::SystemRandom::new();
    let sources = sources(keys);
    let signed = runtime()?.block_on(SignedRole::new(role, &holder, &sources, &rng)).map_err(make)?;
    let ordered: BTreeMap<String, serde_json::Value> =
        serde_json::from_value(serde_json::to_value(signed.signed()).map_err(make)?).map_err(make)?;
    serde_json::to_vec(&ordered).map_err(make)
}

fn one(n: u64) -> NonZeroU64 {
    NonZeroU64::new(n.max(1)).unwrap_or(NonZeroU64::MIN)
}

fn hashes_of(bytes: &[u8]) -> Hashes {
    Hashes { sha256: digest(&SHA256, bytes).as_ref().to_vec().into(), _extra: HashMap::new() }
}

/// Makes the first list of keys (`1.root.json`).
///
/// # Errors
/// When it cannot be signed.
pub fn first_root(keys: &StoreKeys, expires: jiff::Timestamp) -> Result<Vec<u8>, RepositoryError> {
    let (root_key, publish_key) = (keys.root.tuf_key(), keys.publish.tuf_key());
    let (root_id, publish_id) = (root_key.key_id().map_err(make)?, publish_key.key_id().map_err(make)?);
    let by = |id: &Decoded<Hex>| RoleKeys { keyids: vec![id.clone()], threshold: one(1), _extra: HashMap::new() };
    let root = schema::Root {
        spec_version: SPEC_VERSION.into(),
        consistent_snapshot: true,
        version: one(1),
        expires,
        roles: HashMap::from([
            (RoleType::Root, by(&root_id)),
            (RoleType::Targets, by(&publish_id)),
            (RoleType::Snapshot, by(&publish_id)),
            (RoleType::Timestamp, by(&publish_id)),
        ]),
        keys: HashMap::from([(root_id, root_key), (publish_id, publish_key)]),
        _extra: HashMap::new(),
    };
    sign(root.clone(), &root, &[&keys.root])
}

/// The fingerprints of the keys that sign the list of keys: SHA-256 key ids in hexadecimal (specification 4.2).
///
/// # Errors
/// When the bytes are no root metadata.
pub fn root_key_ids(root: &[u8]) -> Result<Vec<String>, RepositoryError> {
    let root: Signed<schema::Root> = serde_json::from_slice(root).map_err(make)?;
    let role = root.signed.roles.get(&RoleType::Root);
    let mut ids: Vec<String> = role.iter().flat_map(|r| r.keyids.iter().map(|id| hex::encode(id.as_ref()))).collect();
    ids.sort();
    Ok(ids)
}

/// Signs an index: everything a store must hold so that it is vouched for.
///
/// # Errors
/// When the key is not one that the root names for publishing.
pub fn publish(
    root: &[u8],
    key: &KeyPair,
    index: &[u8],
    before: Versions,
    expires: jiff::Timestamp,
) -> Result<Published, RepositoryError> {
    let signed_root: Signed<schema::Root> = serde_json::from_slice(root).map_err(make)?;
    let root = &signed_root.signed;
    let next = Versions {
        root: root.version.get(),
        targets: before.targets + 1,
        snapshot: before.snapshot + 1,
        timestamp: before.timestamp + 1,
    };
    let mut targets = schema::Targets::new(SPEC_VERSION.into(), one(next.targets), expires);
    targets.delegations = None;
    let target = schema::Target {
        length: index.len() as u64,
        hashes: hashes_of(index),
        custom: HashMap::new(),
        _extra: HashMap::new(),
    };
    targets.add_target(TargetName::new(INDEX).map_err(make)?, target);
    let targets = sign(targets, root, &[key])?;

    let mut snapshot = schema::Snapshot::new(SPEC_VERSION.into(), one(next.snapshot), expires);
    let meta = schema::Metafile {
        hashes: Some(hashes_of(&targets)),
        length: Some(targets.len() as u64),
        version: one(next.targets),
        _extra: HashMap::new(),
    };
    snapshot.meta.insert("targets.json".into(), meta);
    let snapshot = sign(snapshot, root, &[key])?;

    let mut timestamp = schema::Timestamp::new(SPEC_VERSION.into(), one(next.timestamp), expires);
    let meta = schema::Metafile {
        hashes: Some(hashes_of(&snapshot)),
        length: Some(snapshot.len() as u64),
        version: one(next.snapshot),
        _extra: HashMap::new(),
    };
    timestamp.meta.insert("snapshot.json".into(), meta);
    let timestamp = sign(timestamp, root, &[key])?;

    let index_name = format!("{}.{INDEX}", hex::encode(digest(&SHA256, index).as_ref()));
    let files = vec![
        (Path::new("targets").join(index_name), index.to_vec()),
        (Path::new("metadata").join(format!("{}.targets.json", next.targets)), targets),
        (Path::new("metadata").join(format!("{}.snapshot.json", next.snapshot)), snapshot),
        (Path::new("metadata").join("timestamp.json"), timestamp),
    ];
    Ok(Published { files, versions: next })
}

/// Follows the chain from a pinned root to the index.
///
/// # Errors
/// When any link of it does not hold.
pub fn load(pinned_root: &[u8], store: &Path, scratch: &[PathBuf]) -> Result<Loaded, RepositoryError> {
    let url = |name: &str| {
        Url::from_directory_path(store.join(name))
            .map_err(|()| make(std::io::Error::other("the store's path is not absolute")))
    };
    let (metadata, targets) = (url("metadata")?, url("targets")?);
    // Fresh for each run: the library compares its clock and the versions with what an earlier run left here, and a
    // stick that once was used on a machine set to a far year must not refuse to load for ever after.
    let datastore = scratch_folder(scratch)?;
    let limits = Limits {
        max_root_size: MAX_METADATA,
        max_targets_size: MAX_METADATA,
        max_timestamp_size: MAX_METADATA,
        max_snapshot_size: MAX_METADATA,
        max_root_updates: 64,
    };
    runtime()?.block_on(async {
        let loader = RepositoryLoader::new(&pinned_root, metadata, targets)
            .transport(FilesystemTransport)
            .limits(limits)
            .datastore(datastore.path())
            .expiration_enforcement(ExpirationEnforcement::Unsafe);
        let repo = loader.load().await.map_err(|e| RepositoryError::Metadata(Box::new(e)))?;
        let versions = Versions {
            root: repo.root().signed.version.get(),
            targets: repo.targets().signed.version.get(),
            snapshot: repo.snapshot().signed.version.get(),
            timestamp: repo.timestamp().signed.version.get(),
        };
        let expires = [
            repo.root().signed.expires,
            repo.targets().signed.expires,
            repo.snapshot().signed.expires,
            repo.timestamp().signed.expires,
        ];
        let name = TargetName::new(INDEX).map_err(make)?;
        let length = repo.targets().signed.targets.get(&name).map_or(0, |t| t.length);
        if length > MAX_INDEX {
            return Err(RepositoryError::Index("it is larger than is sensible".into()));
        }
        let stream = repo.read_target(&name).await.map_err(|e| RepositoryError::Index(Box::new(e)))?;
        let stream = stream.ok_or_else(|| RepositoryError::Index("it is missing".into()))?;
        let index = stream.into_vec().await.map_err(|e| RepositoryError::Index(Box::new(e)))?;
        Ok(Loaded {
            index: Verified(index),
            versions,
            expires: expires.into_iter().min().unwrap_or(jiff::Timestamp::UNIX_EPOCH),
        })
    })
}

/// A private folder in the first place that takes one: memory before disk, since the disk may be full.
fn scratch_folder(places: &[PathBuf]) -> Result<tempfile::TempDir, RepositoryError> {
    let mut last = std::io::Error::from(std::io::ErrorKind::NotFound);
    for place in places {
        match tempfile::Builder::new().prefix("veritum-").tempdir_in(place) {
            Ok(dir) => return Ok(dir),
            Err(e) => last = e,
        }
    }
    Err(RepositoryError::Scratch(last))
}
