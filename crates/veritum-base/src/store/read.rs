//! Reading a store whose chain of trust is valid.

use std::collections::HashMap;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use super::files::{self, read};
use super::head::located;
use super::index::{DebRef, Index, IndexEntry};
use super::records::{Records, RecordsRef};
use super::remote::{Reach, Remote};
use super::unpack::{other_content, packed_at_most, right, unpack_all, unpack_in_pieces};
use super::{Location, MAX_MANIFEST, MAX_RECORDS, Manifest, StoreError, at};
use crate::model::{Digest, PackageId};
use crate::platform::debian::apt::FileSum;
use crate::trust::{self, Pins, SeenVersions, Verified};

/// Contents up to this size are verified in memory; larger ones are decompressed twice: to verify, and to return.
pub(super) const IN_MEMORY: u64 = 32 << 20;

/// A trusted store with its signed index.
#[derive(Debug)]
pub struct Store {
    /// The folder, or its local copy.
    path: PathBuf,
    remote: Option<Remote>,
    root: Vec<u8>,
    index: Verified<HashMap<PackageId, IndexEntry>>,
    /// BLAKE3 of the signed index.
    index_digest: Digest,
    expires: jiff::Timestamp,
    versions: trust::Versions,
    /// Why the newest versions seen could not be saved.
    doubt: Option<String>,
}

/// A store whose keys could be trusted, for `store trust` to show.
#[derive(Debug, Clone)]
pub struct TrustCandidate {
    /// Its location.
    pub location: Location,
    /// Fingerprints of the keys that sign its root metadata.
    pub fingerprints: Vec<String>,
    /// Whether exactly these are trusted already.
    pub pinned: bool,
    root: Vec<u8>,
}

impl TrustCandidate {
    /// Trusts it.
    ///
    /// # Errors
    /// When the administrator's folder cannot be written.
    pub fn pin(&self, pins: &Pins, now: jiff::Timestamp) -> Result<(), StoreError> {
        Ok(pins.add(&self.root, &self.location.to_string(), now)?)
    }
}

/// Examines a store that is not trusted yet: its keys, and whether its metadata is valid under them.
///
/// # Errors
/// When there is no store, it was never signed, or its chain is inconsistent.
pub fn candidate(location: &Location, pins: &Pins, reach: &Reach) -> Result<TrustCandidate, StoreError> {
    let (path, remote) = reached(location, reach)?;
    let location = remote.as_ref().map_or_else(|| path.clone().into(), Remote::location);
    let root = root_of(&path)?;
    let chain = |source| StoreError::Chain { path: location.to_string().into(), source };
    require_files(&path)?;
    trust::load(&root, &path, &reach.scratch).map_err(chain)?;
    let fingerprints = trust::root_key_ids(&root).map_err(chain)?;
    let pinned = pins.find(&root)?.is_some();
    Ok(TrustCandidate { fingerprints, pinned, root, location })
}

/// A store's folder or its local copy, with what is needed to download the rest.
fn reached(location: &Location, reach: &Reach) -> Result<(PathBuf, Option<Remote>), StoreError> {
    match location {
        Location::Folder(folder) => Ok((located(folder)?, None)),
        Location::Url(url) => {
            let remote = Remote::open(url, reach)?;
            let named = |e| match e {
                StoreError::Newer { found, .. } => StoreError::Newer { path: url.into(), found },
                StoreError::NotAStore { .. } => StoreError::NotAStore { path: url.into() },
                other => other,
            };
            Ok((located(remote.folder()).map_err(named)?, Some(remote)))
        }
    }
}

/// Refuses a store with other objects than files among its signed ones: reading a pipe would wait without end.
fn require_files(store: &Path) -> Result<(), StoreError> {
    for folder in ["metadata", "targets"] {
        for entry in std::fs::read_dir(store.join(folder)).into_iter().flatten().flatten() {
            if !entry.file_type().is_ok_and(|t| t.is_file()) {
                return Err(at(&entry.path())(io::Error::new(io::ErrorKind::InvalidData, "not a regular file")));
            }
        }
    }
    Ok(())
}

pub(super) fn root_of(path: &Path) -> Result<Vec<u8>, StoreError> {
    match read(&path.join("metadata/1.root.json"), 1 << 20) {
        Err(StoreError::File { source, .. }) if source.kind() == io::ErrorKind::NotFound => {
            Err(StoreError::NotAStore { path: path.to_owned() })
        }
        other => other,
    }
}

/// The highest versions ever seen of a trusted store; zeros when unknown.
#[must_use]
pub fn seen(path: &Path, pins: &Pins) -> trust::Versions {
    let seen = root_of(path).ok().and_then(|root| pins.seen(&root).ok());
    seen.unwrap_or_default().highest
}

impl Store {
    /// Opens a trusted store and follows its chain to the signed index.
    ///
    /// # Errors
    /// When it is not trusted, its chain is invalid, or it is older than before.
    pub fn open(location: &Location, pins: &Pins, reach: &Reach, now: jiff::Timestamp) -> Result<Self, StoreError> {
        let (path, remote) = reached(location, reach)?;
        let named = remote.as_ref().map_or_else(|| path.clone(), |r| r.location().to_string().into());
        let root = root_of(&path)?;
        if pins.find(&root)?.is_none() {
            let here = named.to_string_lossy();
            let other_keys = pins.all().iter().any(|p| p.location == here);
            return Err(StoreError::NotTrusted { path: named, other_keys });
        }
        if !path.join("metadata/timestamp.json").exists() {
            return Err(StoreError::Unpublished { path: named });
        }
        require_files(&path)?;
        let chain = |source| StoreError::Chain { path: named.clone(), source };
        let loaded = trust::load(&root, &path, &reach.scratch).map_err(chain)?;
        // Over a network an old copy could be served forever: only there expiry matters.
        if let Some(remote) = remote.as_ref().filter(|_| loaded.expires < now) {
            return Err(StoreError::Expired { url: remote.location().to_string(), expires: loaded.expires });
        }
        let seen = pins.seen(&root)?.highest;
        if let Some(role) = loaded.versions.older_than(&seen) {
            let of = |v: &trust::Versions| match role {
                "root" => v.root,
                "timestamp" => v.timestamp,
                "snapshot" => v.snapshot,
                _ => v.targets,
            };
            return Err(StoreError::RolledBack { path: named, role, found: of(&loaded.versions), seen: of(&seen) });
        }
        let highest = loaded.versions.highest(&seen);
        let doubts = trust::Doubts::default();
        if highest != seen {
            doubts.note(pins.keep_seen(&root, &SeenVersions { highest }));
        }
        let by_package = |index: Index| index.packages.into_iter().map(|e| (e.package.clone(), e)).collect();
        let index_digest = Digest::hash(loaded.index.get());
        let index = loaded.index.derive(|bytes| read_index(&bytes, &path).map(by_package))?;
        Ok(Self {
            path,
            remote,
            root,
            index_digest,
            index,
            expires: loaded.expires,
            versions: loaded.versions,
            doubt: doubts.all().pop(),
        })
    }

    /// Its location.
    #[must_use]
    pub fn location(&self) -> Location {
        self.remote.as_ref().map_or_else(|| self.path.clone().into(), Remote::location)
    }

    /// Why the newest versions seen of it could not be saved, if so.
    #[must_use]
    pub fn doubt(&self) -> Option<&str> {
        self.doubt.as_deref()
    }

    /// Whether it is on a web server.
    #[must_use]
    pub fn is_remote(&self) -> bool {
        self.remote.is_some()
    }

    /// Its folder or its local copy.
    #[must_use]
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Whether a content exists locally.
    pub(super) fn is_kept(&self, digest: &Digest) -> bool {
        files::object(&self.path, digest).is_file()
    }

    /// Discards a downloaded content.
    pub(super) fn forget_content(&self, digest: &Digest) {
        if let Some(remote) = &self.remote {
            remote.forget(files::OBJECTS, digest);
        }
    }

    /// Reads a file named by a digest and verifies it with `verify`. A downloaded file that is invalid is never kept, and
    /// downloaded again unless it is new.
    pub(super) fn part<T>(
        &self,
        kind: (&str, &str),
        digest: &Digest,
        most: u64,
        verified: &mut dyn FnMut(fs::File) -> io::Result<T>,
    ) -> io::Result<T> {
        let Some(remote) = &self.remote else {
            return verified(files::open(&self.path.join(files::name_of(kind, digest)))?);
        };
        loop {
            let (file, fresh) = remote.file(kind, digest, most)?;
            match verified(file) {
                Err(e) if e.kind() == io::ErrorKind::InvalidData => {
                    remote.forget(kind, digest);
                    if fresh {
                        return Err(e);
                    }
                }
                other => return other,
            }
        }
    }

    /// Fingerprints of the trusted keys.
    #[must_use]
    pub fn fingerprints(&self) -> Vec<String> {
        trust::root_key_ids(&self.root).unwrap_or_default()
    }

    /// When its signatures expire. They verify an installed version even after that.
    #[must_use]
    pub fn expires(&self) -> jiff::Timestamp {
        self.expires
    }

    /// The digest of its signed index.
    #[must_use]
    pub fn index_digest(&self) -> Digest {
        self.index_digest
    }

    /// The versions of its signed metadata.
    #[must_use]
    pub fn versions(&self) -> trust::Versions {
        self.versions
    }

    /// Its packages, in no particular order.
    pub fn packages(&self) -> impl Iterator<Item = &IndexEntry> {
        self.index.get().values()
    }

    /// Whether it has a manifest of exactly this package.
    #[must_use]
    pub fn has(&self, id: &PackageId) -> bool {
        self.index.get().contains_key(id)
    }

    /// The verified manifest of exactly this package; `None` when the store has none.
    ///
    /// # Errors
    /// When it is missing or differs from the signed one.
    pub fn manifest(&self, id: &PackageId) -> Result<Option<Verified<Manifest>>, StoreError> {
        let Some(entry) = self.index.get().get(id) else { return Ok(None) };
        let fail = |source: Box<dyn std::error::Error + Send + Sync>| StoreError::Manifest {
            package: Box::new(id.clone()),
            source,
        };
        let bytes = self.packed_manifest(entry).map_err(|e| fail(e.into()))?;
        let listed = self.index.part(|index| &index[id].manifest);
        let manifest = trust::verify_digest(bytes, listed).map_err(|e| fail(e.into()))?;
        let manifest = manifest.derive(|bytes| Manifest::decode(&bytes)).map_err(|e| fail(e.into()))?;
        if manifest.get().package != *id {
            return Err(fail("manifest of a different package".into()));
        }
        Ok(Some(manifest))
    }

    /// The expected entries of the package database for the package of a manifest of this store.
    ///
    /// # Errors
    /// When they are missing or differ from what was signed.
    pub fn records(&self, of: Verified<&RecordsRef>) -> Result<Verified<Records>, StoreError> {
        let RecordsRef { blake3, size } = of.get();
        let mut bytes = Vec::new();
        if *size > MAX_RECORDS {
            return Err(StoreError::Damaged { digest: *blake3 });
        }
        self.copy(blake3, *size, &mut |piece| {
            bytes.extend_from_slice(piece);
            Ok(())
        })?;
        let damaged = |_| StoreError::Damaged { digest: *blake3 };
        let bytes = trust::verify_digest(bytes, of.part(|r| &r.blake3)).map_err(damaged)?;
        bytes.derive(|bytes| Records::decode(&bytes)).map_err(|_| StoreError::Damaged { digest: *blake3 })
    }

    /// The signed entry of a package.
    #[must_use]
    pub fn entry(&self, id: &PackageId) -> Option<&IndexEntry> {
        self.index.get().get(id)
    }

    /// The .deb file from which a package was added, verified by the store's owner.
    #[must_use]
    pub fn deb(&self, id: &PackageId) -> Option<Verified<FileSum>> {
        let DebRef { sha256, size } = &self.entry(id)?.deb;
        let sum = FileSum::parse(sha256, &size.to_string())?;
        Some(self.index.part(|index| &index[id].deb).map(|_| sum))
    }

    fn packed_manifest(&self, entry: &IndexEntry) -> io::Result<Vec<u8>> {
        let size = entry.manifest_size;
        if size > MAX_MANIFEST {
            return Err(io::Error::new(io::ErrorKind::InvalidData, "exceeds the size limit"));
        }
        let mut read = |file| match self.is_remote() {
            false => unpack_all(file, size),
            // It is verified before it is kept.
            true => right(unpack_all(file, size), &entry.manifest),
        };
        self.part(files::MANIFESTS, &entry.manifest, packed_at_most(size), &mut read)
    }

    /// A manifest's bytes, verified against its index entry.
    ///
    /// # Errors
    /// When they are missing or differ.
    pub(super) fn manifest_bytes(&self, entry: &IndexEntry) -> io::Result<Vec<u8>> {
        let bytes = self.packed_manifest(entry)?;
        match Digest::hash(&bytes) == entry.manifest {
            true => Ok(bytes),
            false => Err(other_content()),
        }
    }

    /// Whether the manifest of an index entry exists and is intact.
    #[must_use]
    pub fn has_manifest(&self, entry: &IndexEntry) -> bool {
        self.manifest_bytes(entry).is_ok()
    }

    /// Whether the manifest of an index entry exists.
    #[must_use]
    pub fn has_manifest_file(&self, entry: &IndexEntry) -> bool {
        self.is_remote() || files::manifest(&self.path, &entry.manifest).is_file()
    }

    /// The trusted root metadata.
    #[must_use]
    pub fn root(&self) -> &[u8] {
        &self.root
    }
}

fn read_index(bytes: &[u8], path: &Path) -> Result<Index, StoreError> {
    #[derive(serde::Deserialize)]
    struct Head {
        format: String,
    }
    let broken = |e: serde_json::Error| at(&path.join("targets"))(io::Error::new(io::ErrorKind::InvalidData, e));
    let head: Head = serde_json::from_slice(bytes).map_err(broken)?;
    if head.format != Index::FORMAT {
        return Err(StoreError::Newer { path: path.to_owned(), found: head.format.chars().take(60).collect() });
    }
    serde_json::from_slice(bytes).map_err(broken)
}

/// The source of contents for a repair.
pub trait Contents: Sync {
    /// Passes on a content in pieces, after all of it was verified.
    ///
    /// # Errors
    /// When the source lacks it, or its bytes differ; whatever was passed on must be discarded then.
    fn copy(&self, digest: &Digest, size: u64, to: &mut dyn FnMut(&[u8]) -> io::Result<()>) -> Result<(), StoreError>;

    /// Whether it has this content, judged by names only.
    fn has_content(&self, digest: &Digest) -> bool;
}

/// An empty source: for work that only moves files, or without a store.
#[derive(Debug, Clone, Copy, Default)]
pub struct NoContents;

impl Contents for NoContents {
    fn copy(&self, digest: &Digest, _: u64, _: &mut dyn FnMut(&[u8]) -> io::Result<()>) -> Result<(), StoreError> {
        Err(StoreError::Absent { digest: *digest })
    }

    fn has_content(&self, _: &Digest) -> bool {
        false
    }
}

impl Contents for Store {
    fn copy(&self, digest: &Digest, size: u64, to: &mut dyn FnMut(&[u8]) -> io::Result<()>) -> Result<(), StoreError> {
        let path = files::object(&self.path, digest);
        let failed = |e: io::Error| match e.kind() {
            io::ErrorKind::NotFound => StoreError::Absent { digest: *digest },
            io::ErrorKind::InvalidData => StoreError::Damaged { digest: *digest },
            _ => at(&path)(e),
        };
        let most = packed_at_most(size);
        if size <= IN_MEMORY {
            let mut read = |file| right(unpack_all(file, size), digest);
            let bytes = self.part(files::OBJECTS, digest, most, &mut read).map_err(failed)?;
            return to(&bytes).map_err(at(&path));
        }
        let mut read = |file| unpack_in_pieces(file, digest, size, &mut |_| Ok(())).map_err(|_| other_content());
        self.part(files::OBJECTS, digest, most, &mut read).map_err(failed)?;
        unpack_in_pieces(files::open(&path).map_err(at(&path))?, digest, size, to).map_err(at(&path))
    }

    fn has_content(&self, digest: &Digest) -> bool {
        // A server's files are not listed; its index says what it should have.
        self.is_remote() || files::object(&self.path, digest).is_file()
    }
}
