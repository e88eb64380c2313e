//! A store on a web server: its files are fetched when they are first needed, into a folder of the same layout.
//!
//! The signed files are fetched again each time a store is opened; manifests and contents are named by their digests, so
//! what was fetched once stays right. The caller that reads verifies: nothing here is believed because of where it came from.

use std::fmt;
use std::fs::{self, File};
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::files;
use super::{Location, StoreError, unverified};
use crate::model::Digest;
use crate::trust;

/// The largest of the files that are not named by a digest.
const MAX_SIGNED: u64 = 64 << 20;
/// Lists of keys that may follow the first one.
const MAX_ROOTS: u64 = 64;

/// Why a file could not be had.
pub type FetchFailure = Box<dyn std::error::Error + Send + Sync>;

/// Gets files from a web server.
pub trait Fetch: fmt::Debug + Send + Sync {
    /// Writes a file, at most so many bytes; answers whether there is such a file at all.
    ///
    /// # Errors
    /// When it cannot be had, or is larger; what was written by then is useless.
    fn fetch(&self, url: &str, most: u64, to: &mut dyn Write) -> Result<bool, FetchFailure>;
}

/// What is needed to reach stores that are no folders.
#[derive(Debug, Clone)]
pub struct Reach {
    /// How to get files; none where the network must not be used.
    pub fetch: Option<Arc<dyn Fetch>>,
    /// Where what was fetched is kept; it may be emptied at any time.
    pub keep: PathBuf,
    /// Private places for short work, the best first.
    pub scratch: Vec<PathBuf>,
}

impl Reach {
    /// For folders only.
    #[must_use]
    pub fn folders_only(scratch: Vec<PathBuf>) -> Self {
        Self { fetch: None, keep: PathBuf::new(), scratch }
    }
}

/// The other end of a store whose files are fetched.
#[derive(Debug, Clone)]
pub(super) struct Remote {
    url: String,
    fetch: Arc<dyn Fetch>,
    folder: PathBuf,
    /// Where nothing can be kept: gone with the last use.
    _short: Option<Arc<tempfile::TempDir>>,
}

impl Remote {
    /// Fetches what a store's chain of trust needs, into a folder of its layout.
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
        // Which files there are, as they say themselves; whether they may be believed is decided by who reads.
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

    /// The folder that is for the store.
    pub(super) fn folder(&self) -> &Path {
        &self.folder
    }

    pub(super) fn location(&self) -> Location {
        Location::Url(self.url.clone())
    }

    /// Signed files of earlier times are useless, and would only be in the way of who follows the chain.
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

    /// Opens a file that is named by a digest, fetched before or now; and whether it was fetched just now.
    pub(super) fn file(&self, kind: (&str, &str), digest: &Digest, most: u64) -> io::Result<(File, bool)> {
        let name = files::name_of(kind, digest);
        let path = self.folder.join(&name);
        match files::open(&path) {
            Ok(file) => return Ok((file, false)),
            Err(e) if e.kind() == io::ErrorKind::NotFound => {}
            // Whatever is there is no file of ours.
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

    /// Throws away what was fetched and turned out to be something else.
    pub(super) fn forget(&self, kind: (&str, &str), digest: &Digest) {
        let _ = fs::remove_file(self.folder.join(files::name_of(kind, digest)));
    }
}

/// The folder that is for a store: kept for the next time where that can be.
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
