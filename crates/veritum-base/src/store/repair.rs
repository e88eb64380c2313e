//! Putting a store right: what is damaged is set aside, what belongs there comes in whole or not at all.

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

/// Fast, and still halves a system's size.
const LEVEL: i32 = 1;

/// A store that is being repaired; no one else works on it meanwhile.
#[derive(Debug)]
pub struct StoreRepair {
    store: PathBuf,
    aside: PathBuf,
    incoming: Incoming,
    _lock: fs::File,
}

impl StoreRepair {
    /// Begins; what is set aside is in a folder that is named after the run.
    ///
    /// # Errors
    /// When the store cannot be written, or a person else works on it.
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

    /// Moves a file of the store, or whatever is in its place, out of use.
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
        // A second round of the same run may put the same name aside.
        let mut more = 1;
        while fs::symlink_metadata(&to).is_ok() {
            more += 1;
            to = self.aside.join(format!("{}.{more}", name.display()));
        }
        fs::rename(&from, &to).map_err(at(&from))
    }

    /// Brings in a content from somewhere that has it.
    ///
    /// # Errors
    /// When the source has it not, or other bytes; then what was there is still there.
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

    /// Brings in a manifest that another store has.
    ///
    /// # Errors
    /// When that one's is not the right one either.
    pub fn manifest(&self, entry: &IndexEntry, from: &Store) -> Result<(), StoreError> {
        let place = files::manifest(&self.store, &entry.manifest);
        let bytes = from.manifest_bytes(entry).map_err(at(&place))?;
        let packed = zstd::bulk::compress(&bytes, LEVEL).map_err(at(&place))?;
        self.make_way(&Part::Manifest(entry.clone()))?;
        write_whole(&place, &packed)
    }

    /// Brings in everything that the store lacks of a package; what is damaged of it must have been put aside before.
    /// Answers whether it was the package that the entry means.
    ///
    /// # Errors
    /// When the package cannot be read, or the store not be written.
    pub fn deb(&self, mut file: fs::File, label: &Path, entry: &IndexEntry) -> Result<bool, StoreError> {
        let deb = deb_ref(&mut file, label)?;
        // A package that is kept without contents stays so.
        let taken = add_deb(&self.incoming, file, label, deb, !entry.manifest_only)?;
        self.incoming.settle()?;
        Ok(taken.manifest == entry.manifest)
    }

    /// Writes what says that a package was taken in.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub fn pointer(&self, entry: &IndexEntry) -> Result<(), StoreError> {
        self.make_way(&Part::Pointer(entry.clone()))?;
        write_pointer(&self.store, entry)
    }

    /// Writes a signed file that [`known`] knows.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub fn known(&self, name: &str, root: &[u8]) -> Result<(), StoreError> {
        let bytes = known(&self.store, name, root).ok_or_else(|| StoreError::NotACopy { path: self.store.clone() })?;
        self.make_way(&Part::Signed { name: name.to_owned() })?;
        write_whole(&self.store.join(name), &bytes)
    }

    /// Takes over all signed files of another copy of the store. Older ones than the administrator has seen are refused.
    ///
    /// # Errors
    /// When the other copy's do not hold, or are older.
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

    /// Ends: everything durable.
    ///
    /// # Errors
    /// When the store's disk fails.
    pub fn end(self) -> Result<(), StoreError> {
        files::sync_all(&self.store)
    }

    /// Puts aside what is where a part belongs, and sees to the folder around it.
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

/// What a signed file should be, as far as the trusted list of keys and what was taken in show it.
#[must_use]
pub fn known(store: &Path, name: &str, root: &[u8]) -> Option<Vec<u8>> {
    match name {
        HEAD => Some(format!("{{\"format\":\"{FORMAT}\"}}\n").into_bytes()),
        ROOT => Some(root.to_vec()),
        other => rebuilt_index(store, other),
    }
}
