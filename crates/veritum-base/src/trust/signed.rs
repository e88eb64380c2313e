//! The signed files of a store, one by one: finds the first invalid one, and recognises an intact copy of all of them.
//!
//! Reading a store goes through the library of The Update Framework; this follows the same chain (specification 1.0.33,
//! 5.4 to 5.7) only to find where it breaks, and to copy sets of files from one copy of a store to another.

use aws_lc_rs::digest::{SHA256, digest};
use serde::Serialize;
use serde::de::DeserializeOwned;
use tough::schema::{self, Hashes, Signed};

use super::metadata::{INDEX, MAX_INDEX, MAX_METADATA, Versions};

/// An invalid signed file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Broken {
    /// The file, relative to the store's folder.
    pub name: String,
    /// Whether it is missing.
    pub missing: bool,
    /// The error.
    pub why: String,
}

/// A consistent set of a store's signed files, in the order of writing: each refers only to earlier ones.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SignedFiles {
    /// Name relative to the store's folder, and content.
    pub files: Vec<(String, Vec<u8>)>,
    /// Their versions.
    pub versions: Versions,
}

/// Reads a file of a store by its relative name, limited in bytes; `None` when it does not exist.
pub type ReadFile<'a> = dyn Fn(&str, u64) -> Result<Option<Vec<u8>>, String> + 'a;

/// Whether bytes are root metadata signed by its own keys: damaged bytes never are.
#[must_use]
pub fn is_root(bytes: &[u8]) -> bool {
    serde_json::from_slice::<Signed<schema::Root>>(bytes).is_ok_and(|root| root.signed.verify_role(&root).is_ok())
}

/// Follows the chain from a trusted root to the index.
///
/// # Errors
/// The first invalid file.
pub fn signed_files(root: &[u8], read: &ReadFile<'_>) -> Result<SignedFiles, Broken> {
    let broken = |name: &str, why: &str| Broken { name: name.to_owned(), missing: false, why: why.to_owned() };
    let get = |name: &str, most: u64| match read(name, most) {
        Ok(Some(bytes)) => Ok(bytes),
        Ok(None) => Err(Broken { name: name.to_owned(), missing: true, why: "missing".into() }),
        Err(why) => Err(broken(name, &why)),
    };
    let root: Signed<schema::Root> =
        serde_json::from_slice(root).map_err(|_| broken("metadata/1.root.json", "not a list of keys"))?;
    let root = root.signed;

    let timestamp_name = "metadata/timestamp.json";
    let timestamp_bytes = get(timestamp_name, MAX_METADATA)?;
    let timestamp: Signed<schema::Timestamp> = signed_by(&root, timestamp_name, &timestamp_bytes)?;
    let meta = timestamp.signed.meta.get("snapshot.json");
    let meta = meta.ok_or_else(|| broken(timestamp_name, "names no snapshot"))?;

    let snapshot_name = format!("metadata/{}.snapshot.json", meta.version);
    let snapshot_bytes = get(&snapshot_name, MAX_METADATA)?;
    require_hash(&snapshot_name, &snapshot_bytes, meta.hashes.as_ref())?;
    let snapshot: Signed<schema::Snapshot> = signed_by(&root, &snapshot_name, &snapshot_bytes)?;
    let meta = snapshot.signed.meta.get("targets.json");
    let meta = meta.ok_or_else(|| broken(&snapshot_name, "names no list of targets"))?;

    let targets_name = format!("metadata/{}.targets.json", meta.version);
    let targets_bytes = get(&targets_name, MAX_METADATA)?;
    require_hash(&targets_name, &targets_bytes, meta.hashes.as_ref())?;
    let targets: Signed<schema::Targets> = signed_by(&root, &targets_name, &targets_bytes)?;
    let target = targets.signed.targets.iter().find(|(name, _)| name.raw() == INDEX).map(|(_, target)| target);
    let target = target.ok_or_else(|| broken(&targets_name, "names no index"))?;

    let index_name = format!("targets/{}.{INDEX}", hex::encode(&target.hashes.sha256));
    let index = get(&index_name, target.length.min(MAX_INDEX))?;
    require_hash(&index_name, &index, Some(&target.hashes))?;
    Ok(SignedFiles {
        versions: Versions {
            root: root.version.get(),
            targets: targets.signed.version.get(),
            snapshot: snapshot.signed.version.get(),
            timestamp: timestamp.signed.version.get(),
        },
        files: vec![
            (index_name, index),
            (targets_name, targets_bytes),
            (snapshot_name, snapshot_bytes),
            (timestamp_name.to_owned(), timestamp_bytes),
        ],
    })
}

fn signed_by<R>(root: &schema::Root, name: &str, bytes: &[u8]) -> Result<Signed<R>, Broken>
where
    R: schema::Role + Serialize + DeserializeOwned,
{
    let broken = |why: &str| Broken { name: name.to_owned(), missing: false, why: why.to_owned() };
    let role: Signed<R> = serde_json::from_slice(bytes).map_err(|_| broken("cannot be read"))?;
    root.verify_role(&role).map_err(|_| broken("the signature is not valid"))?;
    Ok(role)
}

fn require_hash(name: &str, bytes: &[u8], hashes: Option<&Hashes>) -> Result<(), Broken> {
    let same = hashes.is_none_or(|h| digest(&SHA256, bytes).as_ref() == &h.sha256[..]);
    let why = "checksum differs from the signed one".to_owned();
    if same { Ok(()) } else { Err(Broken { name: name.to_owned(), missing: false, why }) }
}
