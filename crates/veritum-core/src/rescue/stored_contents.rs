//! [`StoredContents`]: the contents of rescued files, each verified while it is passed on.

use std::collections::HashMap;
use std::io;
use std::os::fd::AsFd as _;
use std::path::PathBuf;

use super::manifest::EntryLine;
use crate::machine::Dir;
use crate::model::{ContentHasher, Digest, SystemPath};
use crate::store::{Contents, StoreError};

/// So much is read at once, in bytes.
const PIECE: usize = 512 << 10;

/// Rescued files by their digests.
#[derive(Debug)]
pub struct StoredContents {
    top: Dir,
    path: PathBuf,
    stored: HashMap<Digest, SystemPath>,
}

impl StoredContents {
    /// The files of a rescue in this open folder; `path` is its path for people.
    pub fn new<'e>(top: Dir, path: PathBuf, entries: impl Iterator<Item = &'e EntryLine>) -> Self {
        let stored = entries.filter_map(|entry| Some((entry.blake3?, entry.stored.clone()?))).collect();
        Self { top, path, stored }
    }

    fn passed_on(
        &self,
        stored: &SystemPath,
        digest: &Digest,
        to: &mut dyn FnMut(&[u8]) -> io::Result<()>,
    ) -> io::Result<()> {
        let disk = self.top.disk();
        let above = stored.parent().unwrap_or_else(SystemPath::root);
        let folder = disk.open_dir(self.top.fd(), above.relative())?;
        let file = disk.open_file(folder.as_fd(), stored.name())?;
        let mut hasher = ContentHasher::blake3();
        let mut piece = vec![0; PIECE];
        loop {
            let read = disk.read(file.as_fd(), &mut piece)?;
            if read == 0 {
                break;
            }
            hasher.update(&piece[..read]);
            to(&piece[..read])?;
        }
        match hasher.finish().0 == Some(*digest) {
            true => Ok(()),
            false => Err(io::Error::new(io::ErrorKind::InvalidData, "the copy does not match the manifest")),
        }
    }
}

impl Contents for StoredContents {
    fn copy(&self, digest: &Digest, _: u64, to: &mut dyn FnMut(&[u8]) -> io::Result<()>) -> Result<(), StoreError> {
        use std::os::unix::ffi::OsStrExt as _;
        let stored = self.stored.get(digest).ok_or(StoreError::Absent { digest: *digest })?;
        let path = || self.path.join(std::ffi::OsStr::from_bytes(stored.relative()));
        self.passed_on(stored, digest, to).map_err(|source| StoreError::File { path: path(), source })
    }

    fn has_content(&self, digest: &Digest) -> bool {
        self.stored.contains_key(digest)
    }
}
