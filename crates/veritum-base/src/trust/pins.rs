//! What the administrator trusts: trusted roots of stores, and the highest versions seen.
//!
//! Stored with the administrator (`trust/` next to the configuration in use), never in a mounted machine. Versions are kept
//! without a clock.

use std::io;
use std::path::{Path, PathBuf};

use aws_lc_rs::digest::{SHA256, digest};
use serde::{Deserialize, Serialize};

use super::metadata::Versions;

/// Larger trusted key files are refused.
const MAX_PIN: u64 = 4 << 20;
const FORMAT: &str = "veritum.pin/1";

/// Why trusted keys cannot be read or saved.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum PinError {
    /// A file of the trust folder cannot be read or written.
    #[error("{} cannot be used", path.display())]
    File {
        /// The path.
        path: PathBuf,
        /// The cause.
        source: io::Error,
    },
    /// A file of the trust folder is damaged.
    #[error("{} is damaged", path.display())]
    Damaged {
        /// The path.
        path: PathBuf,
        /// The cause.
        source: serde_json::Error,
    },
    /// A file of the trust folder has the format of a newer Veritum.
    #[error("{} was written by a newer Veritum", path.display())]
    Newer {
        /// The path.
        path: PathBuf,
    },
}

/// A trusted root of a store.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Pin {
    format: String,
    /// The location of the store when it was trusted; for people, never compared.
    pub location: String,
    /// When it was trusted.
    pub pinned: jiff::Timestamp,
    /// The root metadata as text.
    pub root: String,
}

/// The highest versions seen of a trusted store.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct SeenVersions {
    /// Per role.
    pub highest: Versions,
}

/// The administrator's trust folder.
#[derive(Debug, Clone)]
pub struct Pins {
    folder: PathBuf,
}

impl Pins {
    /// The trusted keys in that folder; it need not exist.
    #[must_use]
    pub fn in_folder(folder: &Path) -> Self {
        Self { folder: folder.join("stores") }
    }

    fn name(root: &[u8]) -> String {
        hex::encode(&digest(&SHA256, root).as_ref()[..8])
    }

    fn file(&self, root: &[u8]) -> PathBuf {
        self.folder.join(format!("{}.json", Self::name(root)))
    }

    fn seen_file(&self, root: &[u8]) -> PathBuf {
        self.folder.join(format!("{}.seen", Self::name(root)))
    }

    /// The trusted key for exactly this root metadata.
    ///
    /// # Errors
    /// When it exists and cannot be read.
    pub fn find(&self, root: &[u8]) -> Result<Option<Pin>, PinError> {
        let path = self.file(root);
        let Some(pin) = read_json::<Pin>(&path)? else { return Ok(None) };
        if pin.format != FORMAT {
            return Err(PinError::Newer { path });
        }
        Ok((pin.root.as_bytes() == root).then_some(pin))
    }

    /// All trusted keys, by file name; unreadable ones are skipped.
    #[must_use]
    pub fn all(&self) -> Vec<Pin> {
        let Ok(entries) = std::fs::read_dir(&self.folder) else { return Vec::new() };
        let mut paths: Vec<PathBuf> =
            entries.flatten().map(|e| e.path()).filter(|p| p.extension().is_some_and(|e| e == "json")).collect();
        paths.sort();
        paths.iter().filter_map(|p| read_json::<Pin>(p).ok().flatten()).filter(|p| p.format == FORMAT).collect()
    }

    /// Trusts a root.
    ///
    /// # Errors
    /// When the folder cannot be written.
    pub fn add(&self, root: &[u8], location: &str, now: jiff::Timestamp) -> Result<(), PinError> {
        let root_text = String::from_utf8_lossy(root).into_owned();
        let pin = Pin { format: FORMAT.into(), location: location.to_owned(), pinned: now, root: root_text };
        write_json(&self.folder, &self.file(root), &pin)
    }

    /// The highest versions seen of the store with that root; zeros if none.
    ///
    /// # Errors
    /// When the record exists and cannot be read: then a rollback could not be detected.
    pub fn seen(&self, root: &[u8]) -> Result<SeenVersions, PinError> {
        Ok(read_json(&self.seen_file(root))?.unwrap_or_default())
    }

    /// Saves the highest versions seen.
    ///
    /// # Errors
    /// When the folder cannot be written (a read-only stick): the next run then has the same information as this one.
    pub fn keep_seen(&self, root: &[u8], seen: &SeenVersions) -> Result<(), PinError> {
        write_json(&self.folder, &self.seen_file(root), seen)
    }
}

pub(super) fn read_json<T: serde::de::DeserializeOwned>(path: &Path) -> Result<Option<T>, PinError> {
    use std::io::Read as _;
    let at = |source| PinError::File { path: path.to_owned(), source };
    let file = match std::fs::File::open(path) {
        Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(None),
        other => other.map_err(at)?,
    };
    let mut bytes = Vec::new();
    file.take(MAX_PIN).read_to_end(&mut bytes).map_err(at)?;
    serde_json::from_slice(&bytes).map(Some).map_err(|source| PinError::Damaged { path: path.to_owned(), source })
}

pub(super) fn write_json<T: Serialize>(folder: &Path, path: &Path, value: &T) -> Result<(), PinError> {
    let at = |source| PinError::File { path: path.to_owned(), source };
    let bytes = serde_json::to_vec_pretty(value).map_err(|e| at(e.into()))?;
    write_bytes(folder, path, &bytes)
}

/// Writes a file of the administrator's folder atomically.
pub(super) fn write_bytes(folder: &Path, path: &Path, bytes: &[u8]) -> Result<(), PinError> {
    let at = |source| PinError::File { path: path.to_owned(), source };
    std::fs::create_dir_all(folder).map_err(at)?;
    let mut file = tempfile::NamedTempFile::new_in(folder).map_err(at)?;
    std::io::Write::write_all(&mut file, bytes).map_err(at)?;
    file.as_file().sync_all().map_err(at)?;
    file.persist(path).map_err(|e| at(e.error))?;
    std::fs::File::open(folder).and_then(|d| d.sync_all()).map_err(at)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_the_very_root_that_was_pinned_is_found() {
        let dir = tempfile::tempdir().unwrap();
        let pins = Pins::in_folder(dir.path());
        assert_eq!(pins.find(b"root").unwrap(), None);
        pins.add(b"root", "/media/stick/store", jiff::Timestamp::UNIX_EPOCH).unwrap();
        assert_eq!(pins.find(b"root").unwrap().unwrap().location, "/media/stick/store");
        assert_eq!(pins.find(b"other").unwrap(), None);
        assert_eq!(pins.all().len(), 1);
    }

    #[test]
    fn a_damaged_record_of_versions_is_an_error_and_not_a_fresh_start() {
        let dir = tempfile::tempdir().unwrap();
        let pins = Pins::in_folder(dir.path());
        let seen = SeenVersions { highest: Versions { root: 1, targets: 5, snapshot: 5, timestamp: 5 } };
        pins.keep_seen(b"root", &seen).unwrap();
        assert_eq!(pins.seen(b"root").unwrap(), seen);
        std::fs::write(pins.seen_file(b"root"), "{").unwrap();
        assert!(matches!(pins.seen(b"root"), Err(PinError::Damaged { .. })));
    }
}
