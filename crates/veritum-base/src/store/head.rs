//! The head of a store: its identity and format.

use std::io;
use std::path::{Path, PathBuf};

use super::files::read;
use super::{FORMAT, StoreError, at};

/// The store's absolute path, if there is a store of a supported format.
pub(super) fn located(path: &Path) -> Result<PathBuf, StoreError> {
    let none = || StoreError::NotAStore { path: path.to_owned() };
    let path =
        path.canonicalize().map_err(|e| if e.kind() == io::ErrorKind::NotFound { none() } else { at(path)(e) })?;
    let text = match read(&path.join("store.json"), 64 * 1024) {
        Err(StoreError::File { source, .. })
            if matches!(source.kind(), io::ErrorKind::NotFound | io::ErrorKind::NotADirectory) =>
        {
            return Err(none());
        }
        other => other?,
    };
    #[derive(serde::Deserialize)]
    struct Head {
        format: String,
    }
    let head: Head = serde_json::from_slice(&text).map_err(|_| none())?;
    if head.format != FORMAT {
        return Err(StoreError::Newer { path, found: head.format.chars().take(60).collect() });
    }
    Ok(path)
}
