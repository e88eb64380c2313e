//! Files of a store on the host: bounded reading, writing that is whole or not there.

use std::fs;
use std::io::{self, Read, Write as _};
use std::path::{Path, PathBuf};

use super::{StoreError, at};
use crate::model::Digest;

/// Reads a file of at most `limit` bytes.
pub(super) fn read(path: &Path, limit: u64) -> Result<Vec<u8>, StoreError> {
    let file = fs::File::open(path).map_err(at(path))?;
    let mut bytes = Vec::new();
    file.take(limit + 1).read_to_end(&mut bytes).map_err(at(path))?;
    if bytes.len() as u64 > limit {
        return Err(at(path)(io::Error::new(io::ErrorKind::FileTooLarge, "larger than is sensible")));
    }
    Ok(bytes)
}

/// Writes a file beside its place, makes it durable, and gives it its name in one step.
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

/// Where a content or manifest named by a digest lies.
pub(super) fn named(store: &Path, folder: &str, digest: &Digest, suffix: &str) -> PathBuf {
    let hex = digest.to_hex();
    store.join(folder).join(&hex[..2]).join(format!("{}{suffix}", &hex[2..]))
}

/// Where a content lies.
pub(super) fn object(store: &Path, digest: &Digest) -> PathBuf {
    named(store, "objects", digest, ".zst")
}

/// Where a manifest lies.
pub(super) fn manifest(store: &Path, digest: &Digest) -> PathBuf {
    named(store, "manifests", digest, ".json.zst")
}

/// Makes everything written to the store's file system durable.
pub(super) fn sync_all(store: &Path) -> Result<(), StoreError> {
    let dir = fs::File::open(store).map_err(at(store))?;
    rustix::fs::syncfs(&dir).map_err(|e| at(store)(e.into()))
}

/// Refuses a place that is not a folder of its own: a link in a store could lead what is written anywhere.
pub(super) fn require_folder(path: &Path) -> Result<(), StoreError> {
    if fs::symlink_metadata(path).map_err(at(path))?.is_dir() {
        Ok(())
    } else {
        Err(at(path)(io::Error::new(io::ErrorKind::NotADirectory, "it is not a folder of the store")))
    }
}
