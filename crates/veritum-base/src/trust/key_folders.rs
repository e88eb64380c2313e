//! Where the private keys of stores are: recorded when a store is created, so that `store sign` finds them again.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use super::pins::{PinError, read_json, write_json};

/// The folders of private keys by store; both are absolute paths. The keys themselves are never copied.
#[derive(Debug, Clone)]
pub struct KeyFolders {
    folder: PathBuf,
}

impl KeyFolders {
    /// Those recorded in the administrator's trust folder; it need not exist.
    #[must_use]
    pub fn in_folder(trust: &Path) -> Self {
        Self { folder: trust.to_owned() }
    }

    fn path(&self) -> PathBuf {
        self.folder.join("key-folders.json")
    }

    /// The folder with a store's private keys, if it is recorded.
    #[must_use]
    pub fn find(&self, store: &Path) -> Option<PathBuf> {
        let mut all = self.read().ok()?;
        all.remove(absolute(store).to_str()?).map(PathBuf::from)
    }

    /// Records the folder with a store's private keys. A path that is not UTF-8 is not recorded.
    ///
    /// # Errors
    /// When the trust folder cannot be written, or the record cannot be read.
    pub fn record(&self, store: &Path, keys: &Path) -> Result<(), PinError> {
        let (store, keys) = (absolute(store), absolute(keys));
        let (Some(store), Some(keys)) = (store.to_str(), keys.to_str()) else { return Ok(()) };
        let mut all = self.read()?;
        all.insert(store.to_owned(), keys.to_owned());
        write_json(&self.folder, &self.path(), &all)
    }

    fn read(&self) -> Result<BTreeMap<String, String>, PinError> {
        Ok(read_json(&self.path())?.unwrap_or_default())
    }
}

fn absolute(path: &Path) -> PathBuf {
    path.canonicalize().or_else(|_| std::path::absolute(path)).unwrap_or_else(|_| path.to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_recorded_folder_is_found_by_any_spelling_of_the_store() {
        let dir = tempfile::tempdir().unwrap();
        let (store, keys) = (dir.path().join("store"), dir.path().join("keys"));
        std::fs::create_dir_all(&store).unwrap();
        let folders = KeyFolders::in_folder(&dir.path().join("trust"));
        assert_eq!(folders.find(&store), None);
        folders.record(&store, &keys).unwrap();
        std::os::unix::fs::symlink(&store, dir.path().join("link")).unwrap();
        assert_eq!(folders.find(&dir.path().join("link")), Some(std::path::absolute(&keys).unwrap()));
        assert_eq!(folders.find(&dir.path().join("other")), None);
        std::fs::write(folders.path(), "[").unwrap();
        assert_eq!(folders.find(&store), None);
        assert!(folders.record(&store, &keys).is_err());
    }
}
