//! A store on a web server: its files are downloaded when first needed, into a folder of the same layout.
//!
//! The signed files are downloaded each time a store is opened; manifests and contents are named by their digests, so they
//! remain valid once downloaded. The caller verifies them: nothing is trusted because of its source.

use std::fmt;
use std::fs::{self, File};
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::files;
use super::{Location, StoreError, unverified};
use crate::model::Digest;
use crate::trust;

/// The limit for files that are not named by a digest.
const MAX_SIGNED: u64 = 64 << 20;
/// The maximum number of root metadata files after the first.
const MAX_ROOTS: u64 = 64;

/// Why a file could not be downloaded.
pub type FetchFailure = Box<dyn std::error::Error + Send + Sync>;

/// Downloads files from a web server.
pub trait Fetch: fmt::Debug + Send + Sync {
    /// Writes a file, limited in bytes; returns whether it exists on the server.
    ///
    /// # Errors
    /// When it cannot be downloaded, or is larger; what was written must be discarded.
    fn fetch(&self, url: &str, most: u64, to: &mut dyn Write) -> Result<bool, FetchFailure>;
}

/// What is needed to reach stores that are not folders.
#[derive(Debug, Clone)]
pub struct Reach {
    /// The download client; `None` when the network must not be used.
    pub fetch: Option<Arc<dyn Fetch>>,
    /// The folder for downloads; it may be emptied at any time.
    pub keep: PathBuf,
    /// Private folders for temporary work, the best first.
    pub scratch: Vec<PathBuf>,
}

impl Reach {
    /// For stores in folders only.
    #[must_use]
    pub fn folders_only(scratch: Vec<PathBuf>) -> Self {
        Self { fetch: None, keep: PathBuf::new(), scratch }
    }
}

/// The server of a store whose files are downloaded.
#[derive(Debug, Clone)]
pub(super) struct Remote {
    url: String,
    fetch: Arc<dyn Fetch>,
    folder: PathBuf,
    /// A temporary folder, where downloads cannot be kept.
    _short: Option<Arc<tempfile::TempDir>>,
}

impl Remote {
    /// Downloads the files of a store's chain of trust into a folder of the same layout.
    pub(super) fn open(url: &str, reach: &Reach) -> Result<Self, StoreError> {
        let unusable = |source: FetchFailure| StoreError::Remote { url: url.to_owned(), source };
        let fetch = reach.fetch.clone().ok_or_else(|| unusable("network use is disabled".into()))?;
        let (folder, short) = folder_for(url, reach).map_err(|e| unusable(e.into()))?;
        let remote = Self { url: url.to_owned(), fetch, folder, _short: short };
        let wanted = |name: &str, most: u64| remote.get(name, most).map_err(unusable);
        let head = wanted(unverified::HEAD, 64 * 1024)?.ok_or_else(|| StoreError::NotAStore { path: url.into() })?;
        let root = wanted(unverified::ROOT, 1 << 20)?.ok_or_else(|| StoreError::NotAStore { path: url.into() })?;
        let mut fetched = vec![(unverified::HEAD.to_owned(), head), (unverified::ROOT.to_owned(), root.clone())];
        let mut newest = root.clone();
        for version in 2..=MAX_ROOTS {
            let name = format!("metadata/{version}.root.json");
            let Some(next) = wanted(&name, 1 << 20)? else { break };
            newest.clone_from(&next);
            fetched.push((name, next));
        }
        // The files that the metadata names; whether they are valid is decided by the reader.
        let read = |name: &str, most: u64| remote.get(name, most).map_err(|e| e.to_string());
        match trust::signed_files(&newest, &read) {
            Ok(signed) => fetched.extend(signed.files),
            Err(broken) if broken.missing && broken.name == "metadata/timestamp.json" => {
                return Err(StoreError::Unpublished { path: url.into() });
            }
            Err(broken) => {
                let why = format!("{}: {}", broken.name, broken.why);
                return Err(unusable(why.into()));
            }
        }
        let mut names: Vec<String> = Vec::new();
        for (name, bytes) in fetched {
            files::write_whole(&remote.folder.join(&name), &bytes)?;
            names.push(name);
        }
        remote.forget_others(&names);
        Ok(remote)
    }

    /// The local folder for the store.
    pub(super) fn folder(&self) -> &Path {
        &self.folder
    }

    pub(super) fn location(&self) -> Location {
        Location::Url(self.url.clone())
    }

    /// Earlier signed files are useless, and would mislead readers of the chain.
    fn forget_others(&self, names: &[String]) {
        for folder in ["metadata", "targets"] {
            for entry in fs::read_dir(self.folder.join(folder)).into_iter().flatten().flatten() {
                let name = format!("{folder}/{}", entry.file_name().to_string_lossy());
                if !names.contains(&name) {
                    let _ = fs::remove_file(entry.path());
                }
            }
        }
    }

    fn get(&self, name: &str, most: u64) -> Result<Option<Vec<u8>>, FetchFailure> {
        let mut bytes = Vec::new();
        let there = self.fetch.fetch(&format!("{}/{name}", self.url), most.min(MAX_SIGNED), &mut bytes)?;
        Ok(there.then_some(bytes))
    }

    /// Opens a file named by a digest, downloaded before or now; also returns whether it was downloaded now.
    pub(super) fn file(&self, kind: (&str, &str), digest: &Digest, most: u64) -> io::Result<(File, bool)> {
        let name = files::name_of(kind, digest);
        let path = self.folder.join(&name);
        match files::open(&path) {
            Ok(file) => return Ok((file, false)),
            Err(e) if e.kind() == io::ErrorKind::NotFound => {}
            // Another type of object in its place is not our file.
            Err(_) => fs::remove_file(&path)?,
        }
        let folder = path.parent().unwrap_or(&self.folder);
        fs::create_dir_all(folder)?;
        let mut temp = tempfile::Builder::new().prefix(".new-").tempfile_in(folder)?;
        let there = self.fetch.fetch(&format!("{}/{name}", self.url), most, temp.as_file_mut());
        if !there.map_err(io::Error::other)? {
            return Err(io::ErrorKind::NotFound.into());
        }
        temp.persist(&path).map_err(|e| e.error)?;
        Ok((files::open(&path)?, true))
    }

    /// Discards a downloaded file that is invalid.
    pub(super) fn forget(&self, kind: (&str, &str), digest: &Digest) {
        let _ = fs::remove_file(self.folder.join(files::name_of(kind, digest)));
    }
}

/// The local folder for a store: kept for the next time, where possible.
fn folder_for(url: &str, reach: &Reach) -> io::Result<(PathBuf, Option<Arc<tempfile::TempDir>>)> {
    let kept = reach.keep.join("stores").join(&Digest::hash(url.as_bytes()).to_hex()[..16]);
    if !reach.keep.as_os_str().is_empty() && fs::create_dir_all(&kept).is_ok() && files::is_writable(&kept) {
        return Ok((kept.canonicalize()?, None));
    }
    let mut last = io::Error::from(io::ErrorKind::NotFound);
    for place in &reach.scratch {
        match tempfile::Builder::new().prefix("veritum-").tempdir_in(place) {
            Ok(dir) => return Ok((dir.path().canonicalize()?, Some(Arc::new(dir)))),
            Err(e) => last = e,
        }
    }
    Err(last)
}
