//! Signatures, keys and chains of trust. The only code that creates [`Verified`].
//!
//! The chain of a store: file ← manifest ← signed index ← trusted key. The store's metadata is a repository as in The Update
//! Framework specification 1.0 (roles root, targets, snapshot, timestamp).
//!
//! The chain of a repository: file ← package ← index ← signed release file ← the vendor's key, built in or trusted by the
//! administrator.

mod doubts;
mod facts;
mod key_folders;
mod keys;
mod metadata;
pub mod openpgp;
mod pins;
mod seen;
mod signed;
mod vendors;

pub use doubts::Doubts;
pub use facts::{FactKind, Facts};
pub use key_folders::KeyFolders;
pub use keys::{KeyPair, KeysError, StoreKeys};
pub use metadata::{Loaded, MetadataError, Published, Versions, first_root, load, publish, root_key_ids};
pub use pins::{Pin, PinError, Pins, SeenVersions};
pub use seen::SeenReleases;
pub use signed::{Broken, ReadFile, SignedFiles, is_root, signed_files};
pub use vendors::VendorKeys;

use std::io::{self, Read as _, Seek as _};

use aws_lc_rs::digest::{Context, SHA256};

use crate::model::Digest;
use crate::platform::debian::apt::FileSum;

/// A value whose chain of trust was followed to its end. Only this module creates one.
#[derive(Debug, Clone)]
pub struct Verified<T>(T);

/// Bytes that differ from the verified ones.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("checksum differs from the signed one")]
pub struct NotAuthentic;

impl<T> Verified<T> {
    /// The verified value.
    pub fn get(&self) -> &T {
        &self.0
    }

    /// The value, without the proof.
    pub fn into_inner(self) -> T {
        self.0
    }

    /// A part of the verified value.
    ///
    /// The closure can only return a part of it, so nothing else becomes verified.
    pub fn part<U: ?Sized>(&self, which: impl for<'b> FnOnce(&'b T) -> &'b U) -> Verified<&U> {
        Verified(which(&self.0))
    }

    /// Derives a value from the verified one alone.
    ///
    /// # Errors
    /// Those of the function.
    pub fn derive<U, E>(self, how: impl FnOnce(T) -> Result<U, E>) -> Result<Verified<U>, E> {
        how(self.0).map(Verified)
    }

    /// As [`derive`](Self::derive), for functions that cannot fail.
    pub fn map<U>(self, how: impl FnOnce(T) -> U) -> Verified<U> {
        Verified(how(self.0))
    }
}

impl<'a, T> Verified<&'a Option<T>> {
    /// The verified value, if there is one.
    #[must_use]
    pub fn flipped(self) -> Option<Verified<&'a T>> {
        self.0.as_ref().map(Verified)
    }
}

impl<T: Clone> Verified<&T> {
    /// An owned copy.
    #[must_use]
    pub fn cloned(&self) -> Verified<T> {
        Verified(self.0.clone())
    }
}

/// SHA-256 in hexadecimal.
#[must_use]
pub fn sha256_hex(bytes: &[u8]) -> String {
    hex::encode(sha256(bytes))
}

/// SHA-256.
#[must_use]
pub fn sha256(bytes: &[u8]) -> [u8; 32] {
    let mut sha256 = [0; 32];
    sha256.copy_from_slice(aws_lc_rs::digest::digest(&SHA256, bytes).as_ref());
    sha256
}

/// A reader that computes the SHA-256 of what is read through it: a file on a medium that others write to may change after
/// it was verified.
pub struct Digesting<R> {
    from: R,
    context: Context,
}

impl<R> Digesting<R> {
    /// Wraps a reader.
    #[must_use]
    pub fn new(from: R) -> Self {
        Self { from, context: Context::new(&SHA256) }
    }

    /// The SHA-256 of everything read.
    #[must_use]
    pub fn finish(self) -> [u8; 32] {
        let mut sha256 = [0; 32];
        sha256.copy_from_slice(self.context.finish().as_ref());
        sha256
    }
}

impl<R: io::Read> io::Read for Digesting<R> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        let n = self.from.read(into)?;
        self.context.update(&into[..n]);
        Ok(n)
    }
}

/// Verifies bytes by a verified size and SHA-256.
///
/// # Errors
/// When they differ.
pub fn verify_sum(bytes: Vec<u8>, by: &Verified<FileSum>) -> Result<Verified<Vec<u8>>, NotAuthentic> {
    let FileSum { size, sha256 } = by.0;
    let same = bytes.len() as u64 == size && aws_lc_rs::digest::digest(&SHA256, &bytes).as_ref() == sha256;
    if same { Ok(Verified(bytes)) } else { Err(NotAuthentic) }
}

/// Verifies a file's content by a verified size and SHA-256; it is read from beginning to end, and is at its beginning
/// afterwards.
///
/// # Errors
/// When it cannot be read, or differs.
pub fn verify_file(
    mut file: std::fs::File,
    by: &Verified<FileSum>,
) -> io::Result<Result<Verified<std::fs::File>, NotAuthentic>> {
    let FileSum { size, sha256 } = by.0;
    file.rewind()?;
    let mut context = Context::new(&SHA256);
    let mut piece = vec![0; 256 * 1024];
    let mut left = size;
    loop {
        let n = file.read(&mut piece)?;
        if n == 0 {
            break;
        }
        let Some(rest) = left.checked_sub(n as u64) else { return Ok(Err(NotAuthentic)) };
        left = rest;
        context.update(&piece[..n]);
    }
    file.rewind()?;
    let same = left == 0 && context.finish().as_ref() == sha256;
    Ok(if same { Ok(Verified(file)) } else { Err(NotAuthentic) })
}

/// Verifies bytes by a verified digest.
///
/// # Errors
/// When they differ.
pub fn verify_digest(bytes: Vec<u8>, by: Verified<&Digest>) -> Result<Verified<Vec<u8>>, NotAuthentic> {
    if Digest::hash(&bytes) == *by.0 { Ok(Verified(bytes)) } else { Err(NotAuthentic) }
}

/// For tests of the modules above: a value without a chain of trust.
#[cfg(test)]
pub(crate) mod testing {
    pub(crate) fn verified<T>(it: T) -> super::Verified<T> {
        super::Verified(it)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_the_signed_bytes_are_trusted() {
        let index = Verified(vec![Digest::hash(b"timetable")]);
        assert_eq!(verify_digest(b"timetable".to_vec(), index.part(|i| &i[0])).unwrap().get(), b"timetable");
        assert_eq!(verify_digest(b"timetablf".to_vec(), index.part(|i| &i[0])).unwrap_err(), NotAuthentic);
    }
}
