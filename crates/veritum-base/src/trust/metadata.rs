//! A store's signed metadata, written and read as in The Update Framework specification 1.0.33.
//!
//! `metadata/N.root.json`, `N.targets.json`, `N.snapshot.json`, `timestamp.json`, and one target, the index, under
//! `targets/SHA256.index.json` (consistent snapshots, specification 6.2). Expiry is read but not enforced here: an
//! installed version is verified even by expired signatures.

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
pub(super) const INDEX: &str = "index.json";
/// Larger indexes are refused: 100,000 packages need a third of it.
pub(super) const MAX_INDEX: u64 = 64 << 20;
pub(super) const MAX_METADATA: u64 = 1 << 20;

/// Why signed metadata cannot be used.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum MetadataError {
    /// The metadata is damaged, incomplete, or not signed by valid keys.
    #[error("the store's signed metadata is not valid")]
    Metadata(#[source] Box<tough::error::Error>),
    /// The signed index is missing or differs from the signed one.
    #[error("the store's index differs from the signed one")]
    Index(#[source] Box<dyn std::error::Error + Send + Sync>),
    /// No temporary folder could be created for the verification.
    #[error("cannot create a temporary folder")]
    Scratch(#[source] std::io::Error),
    /// Something cannot be encoded.
    #[error("cannot create the metadata")]
    Make(#[source] Box<dyn std::error::Error + Send + Sync>),
}

fn make<E: std::error::Error + Send + Sync + 'static>(error: E) -> MetadataError {
    MetadataError::Make(Box::new(error))
}

/// The version numbers of the four roles.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, PartialOrd, Serialize, Deserialize)]
pub struct Versions {
    /// The root metadata: keys.
    pub root: u64,
    /// The list of targets.
    pub targets: u64,
    /// The set of metadata.
    pub snapshot: u64,
    /// The version of the newest set.
    pub timestamp: u64,
}

impl Versions {
    /// The role that is older here than in `before`, if any.
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

    /// The higher version of each role.
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

/// Metadata with valid signatures.
#[derive(Debug)]
pub struct Loaded {
    /// The index's content.
    pub index: Verified<Vec<u8>>,
    /// The versions found.
    pub versions: Versions,
    /// The earliest expiry of all roles.
    pub expires: jiff::Timestamp,
}

/// Files to write, in this order: each refers only to earlier ones.
#[derive(Debug, Clone)]
pub struct Published {
    /// Path relative to the store, and content.
    pub files: Vec<(PathBuf, Vec<u8>)>,
    /// Their versions.
    pub versions: Versions,
}

fn runtime() -> Result<tokio::runtime::Runtime, MetadataError> {
    tokio::runtime::Builder::new_current_thread().build().map_err(make)
}

fn sources(keys: &[&KeyPair]) -> Vec<Box<dyn KeySource>> {
    keys.iter().map(|k| Box::new((*k).clone()) as Box<dyn KeySource>).collect()
}

/// Signs a role deterministically: keys sorted, so that equal content has equal bytes.
fn sign<R>(role: R, root: &schema::Root, keys: &[&KeyPair]) -> Result<Vec<u8>, MetadataError>
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

/// Creates the first root metadata (`1.root.json`).
///
/// # Errors
/// When it cannot be signed.
pub fn first_root(keys: &StoreKeys, expires: jiff::Timestamp) -> Result<Vec<u8>, MetadataError> {
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

/// The fingerprints of the root keys: SHA-256 key ids in hexadecimal (specification 4.2).
///
/// # Errors
/// When the bytes are not root metadata.
pub fn root_key_ids(root: &[u8]) -> Result<Vec<String>, MetadataError> {
    let root: Signed<schema::Root> = serde_json::from_slice(root).map_err(make)?;
    let role = root.signed.roles.get(&RoleType::Root);
    let mut ids: Vec<String> = role.iter().flat_map(|r| r.keyids.iter().map(|id| hex::encode(id.as_ref()))).collect();
    ids.sort();
    Ok(ids)
}

/// Signs an index, which lists everything that a store contains.
///
/// # Errors
/// When the key is not a publishing key of the root.
pub fn publish(
    root: &[u8],
    key: &KeyPair,
    index: &[u8],
    before: Versions,
    expires: jiff::Timestamp,
) -> Result<Published, MetadataError> {
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

/// Follows the chain from a trusted root to the index.
///
/// # Errors
/// When any part of it is invalid.
pub fn load(pinned_root: &[u8], store: &Path, scratch: &[PathBuf]) -> Result<Loaded, MetadataError> {
    let url = |name: &str| {
        Url::from_directory_path(store.join(name))
            .map_err(|()| make(std::io::Error::other("the store's path is not absolute")))
    };
    let (metadata, targets) = (url("metadata")?, url("targets")?);
    // Empty for each run: the library compares its clock and the versions with an earlier run's data there, and a
    // stick once used on a machine with a clock far in the future must still load afterwards.
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
        let repo = loader.load().await.map_err(|e| MetadataError::Metadata(Box::new(e)))?;
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
            return Err(MetadataError::Index("exceeds the size limit".into()));
        }
        let stream = repo.read_target(&name).await.map_err(|e| MetadataError::Index(Box::new(e)))?;
        let stream = stream.ok_or_else(|| MetadataError::Index("missing".into()))?;
        let index = stream.into_vec().await.map_err(|e| MetadataError::Index(Box::new(e)))?;
        Ok(Loaded {
            index: Verified(index),
            versions,
            expires: expires.into_iter().min().unwrap_or(jiff::Timestamp::UNIX_EPOCH),
        })
    })
}

/// A private folder in the first usable place: memory before disk, since the disk may be full.
fn scratch_folder(places: &[PathBuf]) -> Result<tempfile::TempDir, MetadataError> {
    let mut last = std::io::Error::from(std::io::ErrorKind::NotFound);
    for place in places {
        match tempfile::Builder::new().prefix("veritum-").tempdir_in(place) {
            Ok(dir) => return Ok(dir),
            Err(e) => last = e,
        }
    }
    Err(MetadataError::Scratch(last))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    const INDEX_BYTES: &[u8] = br#"{"format":"veritum.index/1","components":[]}"#;

    fn keys(n: u8) -> StoreKeys {
        let pair = |n: u8| KeyPair::from_seed(&[n; 32]).unwrap();
        StoreKeys { root: pair(n), publish: pair(n + 1) }
    }

    fn at(second: i64) -> jiff::Timestamp {
        jiff::Timestamp::from_second(second).unwrap()
    }

    /// A published store, and its root metadata.
    struct Shop {
        dir: tempfile::TempDir,
        root: Vec<u8>,
        keys: StoreKeys,
        versions: Versions,
    }

    impl Shop {
        fn new() -> Self {
            let dir = tempfile::tempdir().unwrap();
            let keys = keys(1);
            let root = first_root(&keys, at(4_000_000_000)).unwrap();
            let mut engine = Self { dir, root, keys, versions: Versions::default() };
            std::fs::create_dir(engine.dir.path().join("metadata")).unwrap();
            std::fs::create_dir(engine.dir.path().join("targets")).unwrap();
            std::fs::write(engine.dir.path().join("metadata/1.root.json"), &engine.root).unwrap();
            engine.publish(INDEX_BYTES, at(4_000_000_000));
            engine
        }

        fn publish(&mut self, index: &[u8], expires: jiff::Timestamp) {
            let made = publish(&self.root, &self.keys.publish, index, self.versions, expires).unwrap();
            for (path, bytes) in &made.files {
                std::fs::write(self.dir.path().join(path), bytes).unwrap();
            }
            self.versions = made.versions;
        }

        fn load(&self) -> Result<Loaded, MetadataError> {
            load(&self.root, self.dir.path(), &[std::env::temp_dir()])
        }

        fn files(&self) -> Vec<PathBuf> {
            let list = |name: &str| std::fs::read_dir(self.dir.path().join(name)).unwrap().flatten().map(|e| e.path());
            let mut files: Vec<_> = list("metadata").chain(list("targets")).collect();
            files.sort();
            files
        }
    }

    #[test]
    fn what_was_signed_is_restored_with_its_versions_and_expiry() {
        let mut engine = Shop::new();
        let first = engine.load().unwrap();
        assert_eq!(first.index.get(), INDEX_BYTES);
        assert_eq!(first.versions, Versions { root: 1, targets: 1, snapshot: 1, timestamp: 1 });
        engine.publish(b"{}", at(3_000_000_000));
        let second = engine.load().unwrap();
        assert_eq!((second.index.get().as_slice(), second.versions.timestamp), (b"{}".as_slice(), 2));
        assert_eq!(second.expires, at(3_000_000_000));
        assert_eq!(first.versions.older_than(&second.versions), Some("timestamp"));
        assert_eq!(second.versions.older_than(&first.versions), None);
        assert_eq!(first.versions.highest(&second.versions), second.versions);
    }

    #[test]
    fn the_same_index_is_signed_to_the_same_bytes() {
        let (one, two) = (Shop::new(), Shop::new());
        for (a, b) in one.files().iter().zip(two.files()) {
            assert_eq!((a.file_name(), std::fs::read(a).unwrap()), (b.file_name(), std::fs::read(&b).unwrap()));
        }
    }

    #[test]
    fn expiry_tells_how_old_it_is_and_keeps_nothing_from_being_read() {
        let mut engine = Shop::new();
        engine.publish(INDEX_BYTES, at(1_000_000_000));
        assert_eq!(engine.load().unwrap().expires, at(1_000_000_000));
    }

    #[test]
    fn a_key_that_the_root_does_not_name_signs_nothing() {
        let engine = Shop::new();
        let stranger = keys(7);
        assert!(publish(&engine.root, &stranger.publish, b"{}", engine.versions, at(4_000_000_000)).is_err());
        // Not even the root key: it names keys, and verifies no content.
        assert!(publish(&engine.root, &engine.keys.root, b"{}", engine.versions, at(4_000_000_000)).is_err());
    }

    #[test]
    fn a_store_of_a_stranger_does_not_hold_under_our_root() {
        let (ours, dir) = (Shop::new(), tempfile::tempdir().unwrap());
        let theirs = keys(7);
        let root = first_root(&theirs, at(4_000_000_000)).unwrap();
        assert_ne!(root_key_ids(&root).unwrap(), root_key_ids(&ours.root).unwrap());
        for name in ["metadata", "targets"] {
            std::fs::create_dir(dir.path().join(name)).unwrap();
        }
        std::fs::write(dir.path().join("metadata/1.root.json"), &root).unwrap();
        for (path, bytes) in
            publish(&root, &theirs.publish, b"{}", Versions::default(), at(4_000_000_000)).unwrap().files
        {
            std::fs::write(dir.path().join(path), bytes).unwrap();
        }
        assert!(load(&root, dir.path(), &[std::env::temp_dir()]).is_ok());
        let refused = load(&ours.root, dir.path(), &[std::env::temp_dir()]).unwrap_err();
        assert!(matches!(refused, MetadataError::Metadata(_)), "{refused:?}");
    }

    #[test]
    fn each_missing_file_is_an_error_of_its_kind() {
        for at in 0..Shop::new().files().len() {
            let engine = Shop::new();
            let file = &engine.files()[at];
            let name = file.file_name().unwrap().to_string_lossy().into_owned();
            std::fs::remove_file(file).unwrap();
            match engine.load() {
                // The trusted copy is what counts; the store's own is for those who have none yet.
                Ok(_) => assert_eq!(name, "1.root.json"),
                Err(MetadataError::Index(_)) => assert!(name.ends_with("index.json"), "{name}"),
                Err(MetadataError::Metadata(_)) => assert!(!name.ends_with("index.json"), "{name}"),
                Err(e) => panic!("{name}: {e:?}"),
            }
        }
    }

    #[test]
    fn without_any_place_for_short_work_that_is_said() {
        let none = [PathBuf::from("/nowhere/at/all")];
        let engine = Shop::new();
        assert!(matches!(load(&engine.root, engine.dir.path(), &none), Err(MetadataError::Scratch(_))));
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(200))]

        #[test]
        fn one_altered_byte_is_refused_or_is_none_that_counts(file in 0usize..5, at: prop::sample::Index, bit in 0u8..8) {
            let engine = Shop::new();
            let path = &engine.files()[file % engine.files().len()];
            let mut bytes = std::fs::read(path).unwrap();
            let at = at.index(bytes.len());
            bytes[at] ^= 1 << bit;
            std::fs::write(path, &bytes).unwrap();
            // White space outside of what is signed may change; what is verified may not.
            if let Ok(loaded) = engine.load() {
                prop_assert_eq!(loaded.index.get().as_slice(), INDEX_BYTES);
                prop_assert_eq!(loaded.versions, engine.versions);
            }
        }
    }
}
