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
        /// Its name, relative to the store's folder.
        name: String,
    },
    /// The record of an added package, for the next signing.
    Pointer(IndexEntry),
    /// A package's manifest.
    Manifest(IndexEntry),
    /// A content.
    Content {
        /// BLAKE3 of the uncompressed content.
        digest: Digest,
        /// Its uncompressed size.
        size: u64,
    },
}

impl Part {
    /// Its file, relative to the store's folder.
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

/// The fault of a part.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Trouble {
    /// It does not exist.
    Missing,
    /// It differs from what was signed.
    Altered,
    /// It cannot be read; the kernel's error.
    Unreadable(String),
}

impl Trouble {
    /// The fault behind an error: unless the kernel reports one, the content is damaged.
    pub(super) fn for_error(error: &io::Error) -> Self {
        match (error.kind(), error.raw_os_error()) {
            (io::ErrorKind::NotFound | io::ErrorKind::NotADirectory, _) => Self::Missing,
            (_, None) => Self::Altered,
            _ => Self::Unreadable(crate::model::error_words(error)),
        }
    }
}

/// A part of a store that differs from what was signed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StoreFault {
    /// The part.
    pub part: Part,
    /// The fault.
    pub trouble: Trouble,
    /// What it would have affected.
    pub harm: Harm,
}

/// The fault behind an error on a store's file.
pub(super) fn trouble_of(error: &StoreError) -> Trouble {
    match error {
        StoreError::File { source, .. } => Trouble::for_error(source),
        _ => Trouble::Altered,
    }
}

/// An invalid signed file.
pub(super) fn signed_fault(name: &str, trouble: Trouble) -> StoreFault {
    StoreFault { part: Part::Signed { name: name.to_owned() }, trouble, harm: Harm::default() }
}

/// An invalid manifest.
#[must_use]
pub fn manifest_fault(entry: &IndexEntry, trouble: Trouble) -> StoreFault {
    let harm = Harm { packages: vec![entry.package.clone()], ..Harm::default() };
    StoreFault { part: Part::Manifest(entry.clone()), trouble, harm }
}
