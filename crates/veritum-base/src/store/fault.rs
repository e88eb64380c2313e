//! [`StoreFault`]: a part of a store that differs from what was signed.

use std::io;

use super::StoreError;
use super::files::{MANIFESTS, OBJECTS, name_of};
use super::index::IndexEntry;
use super::pointers::pointer_name;
use crate::model::{Digest, Harm};

/// A part of a store.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Part {
    /// A signed file, or the store's head.
    Signed {
        /// Its name below the store's folder.
        name: String,
    },
    /// What says that a package was taken in, for the next signing.
    Pointer(IndexEntry),
    /// A package's manifest.
    Manifest(IndexEntry),
    /// A content.
    Content {
        /// BLAKE3 of the plain content.
        digest: Digest,
        /// Its plain size.
        size: u64,
    },
}

impl Part {
    /// Its file, below the store's folder.
    #[must_use]
    pub fn name(&self) -> String {
        match self {
            Self::Signed { name } => name.clone(),
            Self::Pointer(entry) => format!("filled/{}", pointer_name(&entry.package)),
            Self::Manifest(entry) => name_of(MANIFESTS, &entry.manifest),
            Self::Content { digest, .. } => name_of(OBJECTS, digest),
        }
    }
}

/// What is wrong with a part.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Trouble {
    /// It is not there.
    Missing,
    /// It is not what was signed.
    Altered,
    /// It cannot be read: the medium's own word.
    Unreadable(String),
}

impl Trouble {
    /// What an error on the way to a file means: without a word of the kernel's, its content is at fault.
    pub(super) fn for_error(error: &io::Error) -> Self {
        match (error.kind(), error.raw_os_error()) {
            (io::ErrorKind::NotFound | io::ErrorKind::NotADirectory, _) => Self::Missing,
            (_, None) => Self::Altered,
            _ => Self::Unreadable(crate::model::error_words(error)),
        }
    }
}

/// A part of a store that is not as it was signed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StoreFault {
    /// The part.
    pub part: Part,
    /// What is wrong.
    pub trouble: Trouble,
    /// What it would have harmed.
    pub harm: Harm,
}

/// What a failing file of a store means.
pub(super) fn trouble_of(error: &StoreError) -> Trouble {
    match error {
        StoreError::File { source, .. } => Trouble::for_error(source),
        _ => Trouble::Altered,
    }
}

/// A signed file that does not hold.
pub(super) fn signed_fault(name: &str, trouble: Trouble) -> StoreFault {
    StoreFault { part: Part::Signed { name: name.to_owned() }, trouble, harm: Harm::default() }
}

/// A manifest that does not hold.
#[must_use]
pub fn manifest_fault(entry: &IndexEntry, trouble: Trouble) -> StoreFault {
    let harm = Harm { packages: vec![entry.package.clone()], ..Harm::default() };
    StoreFault { part: Part::Manifest(entry.clone()), trouble, harm }
}
