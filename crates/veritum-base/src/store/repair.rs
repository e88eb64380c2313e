//! Repairing a store: damaged parts are set aside, and replacements come in completely or not at all.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use super::fault::Part;
use super::files::{self, readable_by_all, write_whole};
use super::fill::lock;
use super::incoming::{Incoming, add_deb, deb_ref};
use super::index::IndexEntry;
use super::pointers::write_pointer;
use super::publish::rebuilt_index;
use super::read::Store;
use super::unverified::{HEAD, ROOT, UnverifiedStore};
use super::{ASIDE, Contents, FORMAT, StoreError, at};
use crate::model::{ContentHasher, Digest};
use crate::trust::{Pins, SeenVersions};

/// The fastest level, and it still halves a system's size.
const LEVEL: i32 = 1;

/// A store under repair, locked for other processes.
#[derive(Debug)]
pub struct StoreRepair {
    store: PathBuf,
    aside: PathBuf,
    incoming: Incoming,
    _lock: fs::File,
}

impl StoreRepair {
    /// Starts a repair; the folder for what is set aside is named after the run.
    ///
    /// # Errors
    /// When the store cannot be written, or another process is writing to it.
    pub fn begin(store: &Path, run: &str) -> Result<Self, StoreError> {
        let store = store.canonicalize().map_err(at(store))?;
        for name in super::FOLDERS {
            let folder = store.join(name);
            match fs::create_dir(&folder) {
                Err(e) if e.kind() != io::ErrorKind::AlreadyExists => return Err(at(&folder)(e)),
                _ => {}
            }
        }
        let lock = lock(&store)?;
        let incoming = Incoming::begin(&store)?;
        let run: String = run.chars().filter(|c| c.is_ascii_alphanumeric() || *c == '-').collect();
        Ok(Self { aside: store.join(ASIDE).join(run), store, incoming, _lock: lock })
    }

    /// Sets aside a file of the store, or any object in its place.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub fn set_aside(&self, name: &Path) -> Result<(), StoreError> {
        let from = self.store.join(name);
        if fs::symlink_metadata(&from).is_err() {
            return Ok(());
        }
        let mut to = self.aside.join(name);
        if let Some(folder) = to.parent() {
            fs::create_dir_all(folder).map_err(at(folder))?;
        }
        // A second round of the same run may set aside the same name.
        let mut more = 1;
        while fs::symlink_metadata(&to).is_ok() {
            more += 1;
            to = self.aside.join(format!("{}.{more}", name.display()));
        }
        fs::rename(&from, &to).map_err(at(&from))
    }

    /// Adds a content from a source.
    ///
    /// # Errors
    /// When the source lacks it, or its bytes differ; then the old content is still in place.
    pub fn content(&self, digest: &Digest, size: u64, from: &dyn Contents) -> Result<(), StoreError> {
        let place = files::object(&self.store, digest);
        let mut temp = tempfile::Builder::new()
            .permissions(readable_by_all())
            .tempfile_in(self.incoming.folder())
            .map_err(at(&place))?;
        let mut hasher = ContentHasher::blake3();
        let mut encoder = zstd::Encoder::new(&mut temp, LEVEL).map_err(at(&place))?;
        from.copy(digest, size, &mut |piece| {
            hasher.update(piece);
            io::Write::write_all(&mut encoder, piece)
        })?;
        encoder.finish().map_err(at(&place))?;
        if hasher.finish().0 != Some(*digest) {
            return Err(StoreError::Damaged { digest: *digest });
        }
        temp.as_file().sync_all().map_err(at(&place))?;
        self.make_way(&Part::Content { digest: *digest, size })?;
        temp.persist(&place).map(drop).map_err(|e| at(&place)(e.error))
    }

    /// Adds a manifest from another store.
    ///
    /// # Errors
    /// When that one is invalid as well.
    pub fn manifest(&self, entry: &IndexEntry, from: &Store) -> Result<(), StoreError> {
        let place = files::manifest(&self.store, &entry.manifest);
        let bytes = from.manifest_bytes(entry).map_err(at(&place))?;
        let packed = zstd::bulk::compress(&bytes, LEVEL).map_err(at(&place))?;
        self.make_way(&Part::Manifest(entry.clone()))?;
        write_whole(&place, &packed)
    }

    /// Adds everything that the store lacks of a package; its damaged parts must have been set aside before.
    /// Returns whether it was the package of the index entry.
    ///
    /// # Errors
    /// When the package cannot be read, or the store cannot be written.
    pub fn deb(&self, mut file: fs::File, label: &Path, entry: &IndexEntry) -> Result<bool, StoreError> {
        let deb = deb_ref(&mut file, label)?;
        // A package without stored contents stays so.
        let taken = add_deb(&self.incoming, file, label, deb, !entry.manifest_only)?;
        self.incoming.settle()?;
        Ok(taken.manifest == entry.manifest)
    }

    /// Writes the record of an added package.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub fn pointer(&self, entry: &IndexEntry) -> Result<(), StoreError> {
        self.make_way(&Part::Pointer(entry.clone()))?;
        write_pointer(&self.store, entry)
    }

    /// Writes a signed file that [`known`] can derive.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub fn known(&self, name: &str, root: &[u8]) -> Result<(), StoreError> {
        let bytes = known(&self.store, name, root).ok_or_else(|| StoreError::NotACopy { path: self.store.clone() })?;
        self.make_way(&Part::Signed { name: name.to_owned() })?;
        write_whole(&self.store.join(name), &bytes)
    }

    /// Replaces all signed files with another copy's. Versions older than those seen by the administrator are refused.
    ///
    /// # Errors
    /// When the other copy's are invalid, or older.
    pub fn signed(&self, unverified_store: &UnverifiedStore, from: &Store, pins: &Pins) -> Result<(), StoreError> {
        let path = || from.path().to_owned();
        let files =
            from.signed_files_for(&unverified_store.root).ok_or_else(|| StoreError::NotACopy { path: path() })?;
        let SeenVersions { highest } = pins.seen(&unverified_store.root)?;
        if let Some(role) = files.versions.older_than(&highest) {
            return Err(StoreError::RolledBack {
                path: path(),
                role,
                found: files.versions.timestamp,
                seen: highest.timestamp,
            });
        }
        for (name, bytes) in &files.files {
            if files::read(&self.store.join(name), bytes.len() as u64).is_ok_and(|there| there == *bytes) {
                continue;
            }
            self.make_way(&Part::Signed { name: name.clone() })?;
            write_whole(&self.store.join(name), bytes)?;
        }
        Ok(())
    }

    /// Makes everything durable.
    ///
    /// # Errors
    /// When the store's disk fails.
    pub fn end(self) -> Result<(), StoreError> {
        files::sync_all(&self.store)
    }

    /// Sets aside what is in a part's place, and repairs its folder.
    fn make_way(&self, part: &Part) -> Result<(), StoreError> {
        let name = part.name();
        let parent = Path::new(&name).parent().unwrap_or(Path::new(""));
        let folder = self.store.join(parent);
        if !fs::symlink_metadata(&folder).is_ok_and(|m| m.is_dir()) {
            self.set_aside(parent)?;
            fs::create_dir_all(&folder).map_err(at(&folder))?;
        }
        self.set_aside(Path::new(&name))
    }
}

/// The expected bytes of a signed file, as far as they follow from the trusted root metadata and the added packages.
#[must_use]
pub fn known(store: &Path, name: &str, root: &[u8]) -> Option<Vec<u8>> {
    match name {
        HEAD => Some(format!("{{\"format\":\"{FORMAT}\"}}\n").into_bytes()),
        ROOT => Some(root.to_vec()),
        other => rebuilt_index(store, other),
    }
}
