//! Unpacks verified packages: their file lists, and the contents that a repair needs.

use std::collections::{HashMap, HashSet};
use std::fs::File;
use std::io::{self, BufReader, Read, Write};
use std::path::{Path, PathBuf};

use crate::formats::deb::DebError;
use crate::formats::deb::{read_deb, read_verified_deb};
use crate::model::{ContentHasher, Digest, EntryKind, PackageId, SystemPath};
use crate::platform::debian::apt::FileSum;
use crate::store::{Manifest, ManifestMaker, Records, StoreError};
use crate::trust::{Digesting, Verified};

/// Why a package cannot be used although it is the signed one.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum UnpackError {
    /// Its bytes changed between verification and unpacking.
    #[error("the .deb file changed while it was read")]
    Changed,
    /// It cannot be read.
    #[error(transparent)]
    Deb(#[from] DebError),
    /// Its own name differs from its name in the index.
    #[error("the .deb file contains {0} instead")]
    Other(PackageId),
    /// Its contents cannot be stored during the repair.
    #[error("contents cannot be unpacked")]
    FreeSpace(#[from] io::Error),
}

/// The manifest of a verified package, and the expected entries of the package database for it. The file is read again, and
/// must still have this BLAKE3, or the signed SHA-256 if none is given.
pub(super) fn manifest(
    deb: Verified<File>,
    blake3: Option<Digest>,
    sum: &FileSum,
    id: &PackageId,
) -> Result<Verified<(Manifest, Records)>, UnpackError> {
    let mut sink =
        ManifestMaker::new(|_: &SystemPath, size, content: &mut dyn Read| copy(content, size, &mut io::sink()));
    let read = deb.derive(|file| {
        let (file, right) = match blake3 {
            Some(blake3) => (Digesting::blake3(file), *blake3.as_bytes()),
            None => (Digesting::sha256(file), sum.sha256),
        };
        let mut from = BufReader::with_capacity(128 * 1024, file);
        let read = read_verified_deb(&mut from, &mut sink)?;
        io::copy(&mut from, &mut io::sink())?;
        if from.into_inner().finish() == right { Ok(read) } else { Err(UnpackError::Changed) }
    })?;
    let entries = sink.into_entries();
    read.derive(|read| {
        if read.id != *id {
            return Err(UnpackError::Other(read.id));
        }
        let records = Records::for_deb(&read);
        Ok((Manifest { package: read.id, records: None, entries }, records))
    })
}

/// Copies a content and digests it.
fn copy(from: &mut dyn Read, size: u64, to: &mut dyn Write) -> io::Result<Digest> {
    let mut hasher = ContentHasher::blake3();
    let mut piece = vec![0; usize::try_from(size.clamp(1, 128 * 1024)).unwrap_or(1)];
    loop {
        let n = from.read(&mut piece)?;
        if n == 0 {
            break;
        }
        hasher.update(&piece[..n]);
        to.write_all(&piece[..n])?;
    }
    Ok(hasher.finish().0.unwrap_or_else(|| Digest::hash(b"")))
}

/// Contents that were unpacked for a repair, in a private folder that is deleted with this value.
#[derive(Debug)]
pub(super) struct Unpacked {
    folder: tempfile::TempDir,
    have: HashSet<Digest>,
}

impl Unpacked {
    /// A folder with enough free space: the first of the places that has it.
    pub(super) fn with_room(places: &[PathBuf], bytes: u64) -> io::Result<Self> {
        let room = |place: &&PathBuf| {
            let free = rustix::fs::statvfs(place.as_path()).map(|s| s.f_bavail.saturating_mul(s.f_frsize));
            free.is_ok_and(|free| free / 20 * 19 > bytes)
        };
        let none =
            || io::Error::new(io::ErrorKind::StorageFull, "no folder has enough free space to unpack the contents");
        for place in places.iter().filter(room) {
            if let Ok(folder) = tempfile::Builder::new().prefix("veritum-").tempdir_in(place) {
                return Ok(Self { folder, have: HashSet::new() });
            }
        }
        Err(none())
    }

    fn path(&self, digest: &Digest) -> PathBuf {
        self.folder.path().join(digest.to_hex())
    }

    /// The path in the folder for a content.
    pub(super) fn place(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    /// Stores a content.
    pub(super) fn keep(&mut self, bytes: &[u8]) -> io::Result<Digest> {
        let digest = Digest::hash(bytes);
        std::fs::write(self.path(&digest), bytes)?;
        self.have.insert(digest);
        Ok(digest)
    }

    pub(super) fn has(&self, digest: &Digest) -> bool {
        self.have.contains(digest)
    }

    /// Unpacks the wanted files of a package; each is kept only if its digest is the manifest's.
    pub(super) fn unpack(
        &mut self,
        deb: Verified<File>,
        manifest: &Manifest,
        wanted: &HashSet<Digest>,
    ) -> Result<(), UnpackError> {
        let mut from: HashMap<&SystemPath, Digest> = HashMap::new();
        for entry in &manifest.entries {
            if let EntryKind::File { digest, same_as: None, .. } = &entry.kind
                && wanted.contains(digest)
            {
                from.insert(&entry.path, *digest);
            }
        }
        let folder = self.folder.path().to_owned();
        let mut got = Vec::new();
        let mut sink = ManifestMaker::new(|path: &SystemPath, _, content: &mut dyn Read| {
            let Some(digest) = from.get(path) else { return Ok(Digest::hash(b"")) };
            let place = folder.join(digest.to_hex());
            let found = copy(content, u64::MAX, &mut File::create(&place)?)?;
            if found == *digest {
                got.push(*digest);
            } else {
                std::fs::remove_file(&place)?;
            }
            Ok(found)
        });
        let read = read_deb(BufReader::with_capacity(128 * 1024, deb.into_inner()), &mut sink);
        drop(sink);
        // Contents that were read before an error are valid nevertheless.
        self.have.extend(got);
        read.map(drop).map_err(UnpackError::from)
    }

    /// Passes on a content in pieces, after all of it was read and verified.
    pub(super) fn copy(
        &self,
        digest: &Digest,
        size: u64,
        to: &mut dyn FnMut(&[u8]) -> io::Result<()>,
    ) -> Result<(), StoreError> {
        let path = self.path(digest);
        let at = |path: &Path, source| StoreError::File { path: path.to_owned(), source };
        let mut file = File::open(&path).map_err(|_| StoreError::Absent { digest: *digest })?;
        let length = file.metadata().map_err(|e| at(&path, e))?.len();
        let found = copy(&mut file, length, &mut io::sink()).map_err(|e| at(&path, e))?;
        if length != size || found != *digest {
            return Err(StoreError::Damaged { digest: *digest });
        }
        let mut file = File::open(&path).map_err(|e| at(&path, e))?;
        let mut piece = vec![0; 256 * 1024];
        loop {
            match file.read(&mut piece).map_err(|e| at(&path, e))? {
                0 => return Ok(()),
                n => to(&piece[..n]).map_err(|e| at(&path, e))?,
            }
        }
    }
}
