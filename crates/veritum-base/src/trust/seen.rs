//! The newest release seen of each repository: a repository must not go back in time.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use super::pins::{PinError, read_json, write_json};

/// The dates of the newest releases seen, by repository and suite; independent of the clock.
#[derive(Debug, Clone)]
pub struct SeenReleases {
    folder: PathBuf,
}

impl SeenReleases {
    /// The record in the administrator's trust folder; it need not exist.
    #[must_use]
    pub fn in_folder(trust: &Path) -> Self {
        Self { folder: trust.to_owned() }
    }

    fn path(&self) -> PathBuf {
        self.folder.join("repositories.json")
    }

    fn origins_path(&self) -> PathBuf {
        self.folder.join("origins.json")
    }

    fn origins(&self) -> Result<BTreeMap<String, String>, PinError> {
        Ok(read_json(&self.origins_path())?.unwrap_or_default())
    }

    /// The origin that a repository's suite had before, if it was another one. A release file without an origin is accepted.
    ///
    /// # Errors
    /// When the record exists and cannot be read.
    pub fn other_origin(&self, repositories: &str, origin: &str) -> Result<Option<String>, PinError> {
        let mut seen = self.origins()?;
        Ok(seen.remove(repositories).filter(|before| before != origin && !origin.is_empty()))
    }

    /// Saves the first origin that a repository's suite names.
    ///
    /// # Errors
    /// When the folder cannot be written, or the record cannot be read.
    pub fn keep_origin(&self, repositories: &str, origin: &str) -> Result<(), PinError> {
        let mut all = self.origins()?;
        if origin.is_empty() || all.contains_key(repositories) {
            return Ok(());
        }
        all.insert(repositories.to_owned(), origin.to_owned());
        write_json(&self.folder, &self.origins_path(), &all)
    }

    /// The newest release seen of a repository's suite.
    ///
    /// # Errors
    /// When the record exists and cannot be read: then a rollback of the repository could not be detected.
    pub fn newest(&self, repositories: &str) -> Result<Option<jiff::Timestamp>, PinError> {
        Ok(self.all()?.get(repositories).copied())
    }

    fn all(&self) -> Result<BTreeMap<String, jiff::Timestamp>, PinError> {
        Ok(read_json(&self.path())?.unwrap_or_default())
    }

    /// Saves a release's date if it is newer than the recorded one.
    ///
    /// # Errors
    /// When the folder cannot be written, or the record cannot be read.
    pub fn keep(&self, repositories: &str, date: jiff::Timestamp) -> Result<(), PinError> {
        let mut all = self.all()?;
        if all.get(repositories).is_some_and(|seen| *seen >= date) {
            return Ok(());
        }
        all.insert(repositories.to_owned(), date);
        write_json(&self.folder, &self.path(), &all)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_the_newest_date_is_kept() {
        let dir = tempfile::tempdir().unwrap();
        let seen = SeenReleases::in_folder(dir.path());
        let at = |s| jiff::Timestamp::from_second(s).unwrap();
        seen.keep("http://quay.example/ saltwort", at(200)).unwrap();
        seen.keep("http://quay.example/ saltwort", at(100)).unwrap();
        assert_eq!(seen.newest("http://quay.example/ saltwort").unwrap(), Some(at(200)));
        assert_eq!(seen.newest("other").unwrap(), None);
        seen.keep_origin("a", "").unwrap();
        assert_eq!(seen.other_origin("a", "Foreshore").unwrap(), None);
        seen.keep_origin("a", "Foreshore").unwrap();
        seen.keep_origin("a", "Saltmarsh").unwrap();
        assert_eq!(seen.other_origin("a", "Saltmarsh").unwrap().as_deref(), Some("Foreshore"));
        assert_eq!((seen.other_origin("a", "Foreshore").unwrap(), seen.other_origin("a", "").unwrap()), (None, None));
        std::fs::write(seen.path(), "[").unwrap();
        assert!(seen.newest("other").is_err());
    }
}
