//! Files of a store on the host: reading with limits, writing atomically.

use std::fs;
use std::io::{self, Read, Write as _};
use std::path::{Path, PathBuf};

use super::{StoreError, at};
use crate::model::Digest;

/// Opens a file for reading, without waiting for a pipe; only a regular file is accepted.
pub(super) fn open(path: &Path) -> io::Result<fs::File> {
    use std::os::unix::fs::OpenOptionsExt as _;
    let flags = rustix::fs::OFlags::NONBLOCK.bits().cast_signed();
    let file = fs::OpenOptions::new().read(true).custom_flags(flags).open(path)?;
    if file.metadata()?.is_file() {
        Ok(file)
    } else {
        Err(io::Error::new(io::ErrorKind::InvalidData, "not a regular file"))
    }
}

/// Reads a file of at most `limit` bytes.
pub(super) fn read(path: &Path, limit: u64) -> Result<Vec<u8>, StoreError> {
    let file = open(path).map_err(at(path))?;
    let mut bytes = Vec::new();
    file.take(limit + 1).read_to_end(&mut bytes).map_err(at(path))?;
    if bytes.len() as u64 > limit {
        return Err(at(path)(io::Error::new(io::ErrorKind::FileTooLarge, "exceeds the size limit")));
    }
    Ok(bytes)
}

/// Writes a temporary file next to its destination, makes it durable, and renames it.
pub(super) fn write_whole(path: &Path, bytes: &[u8]) -> Result<(), StoreError> {
    let folder = path.parent().unwrap_or(Path::new("."));
    fs::create_dir_all(folder).map_err(at(folder))?;
    let mut file = tempfile::Builder::new()
        .prefix(".new-")
        .permissions(readable_by_all())
        .tempfile_in(folder)
        .map_err(at(path))?;
    file.write_all(bytes).map_err(at(path))?;
    file.as_file().sync_all().map_err(at(path))?;
    file.persist(path).map_err(|e| at(path)(e.error))?;
    fs::File::open(folder).and_then(|d| d.sync_all()).map_err(at(folder))
}

pub(super) fn readable_by_all() -> fs::Permissions {
    std::os::unix::fs::PermissionsExt::from_mode(0o644)
}

/// Whether files can be created in a folder.
pub(super) fn is_writable(folder: &Path) -> bool {
    rustix::fs::access(folder, rustix::fs::Access::WRITE_OK).is_ok()
}

/// The folder and extension of files named by a digest.
pub(super) const OBJECTS: (&str, &str) = ("objects", ".zst");
/// See [`OBJECTS`].
pub(super) const MANIFESTS: (&str, &str) = ("manifests", ".json.zst");

/// The name of a file named by a digest, relative to the store's folder.
pub(super) fn name_of((folder, ending): (&str, &str), digest: &Digest) -> String {
    let hex = digest.to_hex();
    format!("{folder}/{}/{}{ending}", &hex[..2], &hex[2..])
}

/// The path of a content.
pub(super) fn object(store: &Path, digest: &Digest) -> PathBuf {
    store.join(name_of(OBJECTS, digest))
}

/// The path of a manifest.
pub(super) fn manifest(store: &Path, digest: &Digest) -> PathBuf {
    store.join(name_of(MANIFESTS, digest))
}

/// Makes everything written to the store's file system durable.
pub(super) fn sync_all(store: &Path) -> Result<(), StoreError> {
    let dir = fs::File::open(store).map_err(at(store))?;
    rustix::fs::syncfs(&dir).map_err(|e| at(store)(e.into()))
}

/// Refuses a place that is not a folder itself: a symlink in a store could redirect what is written.
pub(super) fn require_folder(path: &Path) -> Result<(), StoreError> {
    if fs::symlink_metadata(path).map_err(at(path))?.is_dir() {
        Ok(())
    } else {
        Err(at(path)(io::Error::new(io::ErrorKind::NotADirectory, "not a folder of the store")))
    }
}
