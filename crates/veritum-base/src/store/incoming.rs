//! Files on their way into a store, each complete or absent.

use std::collections::HashSet;
use std::fs;
use std::io::{self, Read, Seek as _, Write as _};
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use aws_lc_rs::digest::{Context, SHA256};

use super::files::{self, readable_by_all};
use super::index::{DebRef, IndexEntry};
use super::making::ManifestMaker;
use super::records::{Records, RecordsRef};
use super::{Manifest, StoreError, at};
use crate::formats::deb::read_deb;
use crate::formats::deb::{Deb, DebError};
use crate::model::{ContentHasher, Digest, EntryKind, SystemPath};
use crate::trust::Digesting;

/// Contents up to this size are digested before compression, so that known ones are not compressed.
const SMALL: u64 = 1 << 20;
/// The fastest level, and it still halves a system's size; adding packages should be quick.
const LEVEL: i32 = 1;
/// The prefix of a running import's unfinished work.
const UNFINISHED: &str = "fill-";

/// Incoming objects: written under `incoming/`, and renamed only when they are durable.
#[derive(Debug)]
pub(super) struct Incoming {
    store: PathBuf,
    folder: tempfile::TempDir,
    claimed: Mutex<HashSet<Digest>>,
    waiting: Mutex<Vec<(PathBuf, PathBuf)>>,
}

impl Incoming {
    pub(super) fn begin(store: &Path) -> Result<Self, StoreError> {
        let parent = store.join("incoming");
        // The store is locked, so this is left from an interrupted run.
        if let Ok(left) = fs::read_dir(&parent) {
            for entry in left.flatten().filter(|e| e.file_name().to_string_lossy().starts_with(UNFINISHED)) {
                fs::remove_dir_all(entry.path()).map_err(at(&parent))?;
            }
        }
        fs::create_dir_all(&parent).map_err(at(&parent))?;
        let folder = tempfile::Builder::new().prefix(UNFINISHED).tempdir_in(&parent).map_err(at(&parent))?;
        Ok(Self { store: store.to_owned(), folder, claimed: Mutex::default(), waiting: Mutex::default() })
    }

    /// The store.
    pub(super) fn store(&self) -> &Path {
        &self.store
    }

    /// Adds a manifest's uncompressed bytes; returns their digest.
    pub(super) fn manifest(&self, plain: &[u8]) -> io::Result<Digest> {
        let digest = Digest::hash(plain);
        self.put_small(plain, &digest, files::manifest(&self.store, &digest))?;
        Ok(digest)
    }

    /// The folder for unfinished work.
    pub(super) fn folder(&self) -> &Path {
        self.folder.path()
    }

    /// Whether this call is the one to add that content.
    fn claim(&self, digest: &Digest, place: &Path) -> bool {
        !place.exists() && self.claimed.lock().unwrap_or_else(std::sync::PoisonError::into_inner).insert(*digest)
    }

    fn wait(&self, from: PathBuf, to: PathBuf) {
        self.waiting.lock().unwrap_or_else(std::sync::PoisonError::into_inner).push((from, to));
    }

    fn put_small(&self, bytes: &[u8], digest: &Digest, place: PathBuf) -> io::Result<()> {
        if self.claim(digest, &place) {
            let temp = self.folder.path().join(format!("{digest}.small"));
            fs::write(&temp, zstd::bulk::compress(bytes, LEVEL)?)?;
            fs::set_permissions(&temp, readable_by_all())?;
            self.wait(temp, place);
        }
        Ok(())
    }

    fn object(&self, bytes: &[u8]) -> io::Result<Digest> {
        let digest = Digest::hash(bytes);
        self.put_small(bytes, &digest, files::object(&self.store, &digest))?;
        Ok(digest)
    }

    /// Adds a content of known size.
    fn content(&self, size: u64, from: &mut dyn Read) -> io::Result<Digest> {
        if size <= SMALL {
            let mut bytes = Vec::with_capacity(usize::try_from(size).unwrap_or(0));
            from.read_to_end(&mut bytes)?;
            return self.object(&bytes);
        }
        let mut temp = tempfile::Builder::new().permissions(readable_by_all()).tempfile_in(self.folder.path())?;
        let mut hasher = ContentHasher::blake3();
        let mut encoder = zstd::Encoder::new(&mut temp, LEVEL)?;
        let mut piece = vec![0; 256 * 1024];
        loop {
            let n = from.read(&mut piece)?;
            if n == 0 {
                break;
            }
            hasher.update(&piece[..n]);
            encoder.write_all(&piece[..n])?;
        }
        encoder.finish()?;
        let digest = hasher.finish().0.unwrap_or_else(|| Digest::hash(b""));
        let place = files::object(&self.store, &digest);
        if self.claim(&digest, &place) {
            let path = self.folder.path().join(format!("{digest}.large"));
            temp.persist(&path).map_err(|e| e.error)?;
            self.wait(path, place);
        }
        Ok(digest)
    }

    /// Adds a file of another store unchanged, after verifying it.
    pub(super) fn packed(
        &self,
        from: &Path,
        digest: &Digest,
        place: PathBuf,
        is_right: impl FnOnce(&Path) -> bool,
    ) -> io::Result<bool> {
        if !self.claim(digest, &place) {
            return Ok(true);
        }
        let temp = self.folder.path().join(format!("{digest}.other"));
        io::copy(&mut files::open(from)?, &mut fs::File::create(&temp)?)?;
        fs::set_permissions(&temp, readable_by_all())?;
        if is_right(&temp) {
            self.wait(temp, place);
            return Ok(true);
        }
        self.claimed.lock().unwrap_or_else(std::sync::PoisonError::into_inner).remove(digest);
        fs::remove_file(&temp)?;
        Ok(false)
    }

    /// Makes the incoming objects durable, then renames them.
    pub(super) fn settle(&self) -> Result<(), StoreError> {
        files::sync_all(&self.store)?;
        let waiting = std::mem::take(&mut *self.waiting.lock().unwrap_or_else(std::sync::PoisonError::into_inner));
        for (from, to) in waiting {
            if let Some(folder) = to.parent() {
                fs::create_dir_all(folder).map_err(at(folder))?;
                files::require_folder(folder)?;
            }
            fs::rename(&from, &to).map_err(at(&to))?;
        }
        Ok(())
    }
}

/// Adds a package, with its contents only if wanted; the file is at its beginning.
pub(super) fn add_deb(
    incoming: &Incoming,
    file: fs::File,
    path: &Path,
    deb_ref: DebRef,
    contents: bool,
) -> Result<IndexEntry, StoreError> {
    let mut sink = ManifestMaker::new(|_: &SystemPath, size, content: &mut dyn Read| match contents {
        true => incoming.content(size, content),
        false => digest_of(content),
    });
    let failed = |source| StoreError::Deb { path: path.to_owned(), source };
    // On a medium that others write to, the bytes may have changed since they were digested.
    let mut from = io::BufReader::with_capacity(128 * 1024, Digesting::sha256(file));
    let deb = read_deb(&mut from, &mut sink).map_err(failed)?;
    io::copy(&mut from, &mut io::sink()).map_err(at(path))?;
    if hex::encode(from.into_inner().finish()) != deb_ref.sha256 {
        return Err(failed(DebError::Shape("changed while it was read".into())));
    }
    let entries = sink.into_entries();
    // Debian's packages contain none (Debian Policy 10.6): a repair would create it with its owner and mode.
    if let Some(node) = entries.iter().find(|e| matches!(e.kind, EntryKind::Device { .. })) {
        return Err(failed(DebError::Shape(format!("contains a device node: {}", node.path))));
    }
    let records = keep_records(incoming, &deb).map_err(|e| failed(e.into()))?;
    let count = entries.len() as u64;
    let bytes =
        entries.iter().map(|e| if let EntryKind::File { size, same_as: None, .. } = e.kind { size } else { 0 }).sum();
    let manifest = Manifest { package: deb.id.clone(), records: Some(records), entries };
    let plain = manifest.encode().map_err(|e| failed(DebError::Shape(e.to_string())))?;
    let digest = incoming.manifest(&plain).map_err(at(path))?;
    Ok(IndexEntry {
        package: deb.id,
        manifest: digest,
        manifest_size: plain.len() as u64,
        entries: count,
        bytes,
        deb: deb_ref,
        manifest_only: !contents,
    })
}

fn digest_of(from: &mut dyn Read) -> io::Result<Digest> {
    let mut hasher = ContentHasher::blake3();
    let mut piece = vec![0; 128 * 1024];
    loop {
        match from.read(&mut piece)? {
            0 => return Ok(hasher.finish().0.unwrap_or_else(|| Digest::hash(b""))),
            n => hasher.update(&piece[..n]),
        }
    }
}

/// SHA-256 and size of a file, which is at its beginning before and after.
pub(super) fn deb_ref(file: &mut fs::File, path: &Path) -> Result<DebRef, StoreError> {
    file.rewind().map_err(at(path))?;
    let mut context = Context::new(&SHA256);
    let mut piece = vec![0; 256 * 1024];
    let mut size = 0;
    loop {
        match file.read(&mut piece).map_err(at(path))? {
            0 => {
                file.rewind().map_err(at(path))?;
                return Ok(DebRef { sha256: hex::encode(context.finish().as_ref()), size });
            }
            n => {
                context.update(&piece[..n]);
                size += n as u64;
            }
        }
    }
}

fn keep_records(incoming: &Incoming, deb: &Deb) -> io::Result<RecordsRef> {
    let records = Records::for_deb(deb);
    for member in &records.members {
        if let Some(content) = deb.members.get(&member.name) {
            incoming.object(content)?;
        }
    }
    let bytes = serde_json::to_vec(&records)?;
    Ok(RecordsRef { blake3: incoming.object(&bytes)?, size: bytes.len() as u64 })
}
