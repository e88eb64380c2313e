//! A trusted store that cannot be opened: finds the damaged signed files.

use std::io;
use std::path::{Path, PathBuf};

use super::FORMAT;
use super::fault::{StoreFault, Trouble, signed_fault, trouble_of};
use super::files;
use super::{Store, StoreError};
use crate::trust::{Pins, SignedFiles, is_root, signed_files};

/// The store's own copy of the root metadata.
pub(super) const ROOT: &str = "metadata/1.root.json";
/// The head of a store.
pub(super) const HEAD: &str = "store.json";

/// A trusted store with damaged signed files.
#[derive(Debug, Clone)]
pub struct UnverifiedStore {
    /// Its location.
    pub path: PathBuf,
    /// The trusted root metadata.
    pub(super) root: Vec<u8>,
    /// The invalid files; of a chain only the first.
    pub faults: Vec<StoreFault>,
    /// The error of each.
    pub why: String,
}

impl UnverifiedStore {
    /// The trusted root metadata.
    #[must_use]
    pub fn root(&self) -> &[u8] {
        &self.root
    }

    /// Whether another store's signed files are an intact copy of this one's.
    #[must_use]
    pub fn is_copied_by(&self, other: &Store) -> bool {
        other.signed_files_for(&self.root).is_some()
    }
}

/// Examines the signed files of a store that could not be opened; `None` when damage is not the reason: it was never
/// trusted, has a newer format, or has other keys now.
#[must_use]
pub fn unverified_store(path: &Path, pins: &Pins) -> Option<UnverifiedStore> {
    let path = path.canonicalize().ok()?;
    let mut faults = Vec::new();
    let mut why = String::new();
    let own = files::read(&path.join(ROOT), 1 << 20);
    let pinned = own.as_ref().ok().filter(|own| pins.find(own).ok().flatten().is_some());
    let root = match pinned {
        Some(own) => own.clone(),
        // Intact, but not the trusted store: another one.
        None if own.as_ref().is_ok_and(|own| is_root(own)) => return None,
        None => {
            let here = path.to_string_lossy();
            let pin = pins.all().into_iter().filter(|p| p.location == here).max_by_key(|p| p.pinned)?;
            faults.push(signed_fault(ROOT, own.as_ref().err().map_or(Trouble::Altered, trouble_of)));
            why = "its list of keys is damaged; your trusted copy is intact".into();
            pin.root.into_bytes()
        }
    };
    match head(&path) {
        Ok(format) if format == FORMAT => {}
        Ok(format) if is_newer(&format) => return None,
        found => {
            let trouble = found.err().unwrap_or(Trouble::Altered);
            faults.push(signed_fault(HEAD, trouble));
            why = "damaged".into();
        }
    }
    let read = |name: &str, most: u64| read_below(&path, name, most);
    if let Err(broken) = signed_files(&root, &read) {
        let trouble = if broken.missing { Trouble::Missing } else { Trouble::Altered };
        faults.push(signed_fault(&broken.name, trouble));
        why = broken.why;
    }
    (!faults.is_empty()).then_some(UnverifiedStore { path, root, faults, why })
}

/// Whether a head has this kind of format in another version; anything else is damage.
fn is_newer(format: &str) -> bool {
    format.strip_prefix("veritum.store/").is_some_and(|n| !n.is_empty() && n.bytes().all(|b| b.is_ascii_digit()))
}

fn head(path: &Path) -> Result<String, Trouble> {
    #[derive(serde::Deserialize)]
    struct Head {
        format: String,
    }
    let text = files::read(&path.join(HEAD), 64 * 1024).map_err(|e| trouble_of(&e))?;
    serde_json::from_slice::<Head>(&text).map(|head| head.format).map_err(|_| Trouble::Altered)
}

fn read_below(store: &Path, name: &str, most: u64) -> Result<Option<Vec<u8>>, String> {
    match files::read(&store.join(name), most) {
        Ok(bytes) => Ok(Some(bytes)),
        Err(StoreError::File { source, .. }) if source.kind() == io::ErrorKind::NotFound => Ok(None),
        Err(e) => Err(crate::model::error_chain(&e)),
    }
}

impl Store {
    /// The signed files of this store, if it has the same root metadata as another one and they are consistent.
    #[must_use]
    pub fn signed_files_for(&self, root: &[u8]) -> Option<SignedFiles> {
        let read = |name: &str, most: u64| read_below(self.path(), name, most);
        (self.root() == root).then(|| signed_files(root, &read).ok())?
    }
}
