//! Who verifies: signatures, keys, chains. The only maker of [`Verified`].
//!
//! The chain of a store: file ← manifest ← signed index ← trusted key. The store's metadata is a repository after
//! The Update Framework specification 1.0 (roles root, targets, snapshot, timestamp).
//!
//! The chain of a repository: file ← package ← index ← signed release file ← vendor's key, one that Veritum ships or the
//! administrator has trusted.

mod doubts;
mod facts;
mod keys;
mod metadata;
pub mod openpgp;
mod pins;
mod seen;
mod signed;
mod vendors;

pub use doubts::Doubts;
pub use facts::{FactKind, Facts};
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

/// Something whose chain of trust was followed to its end. Only this module makes one.
#[derive(Debug, Clone)]
pub struct Verified<T>(T);

/// Bytes that are not the ones that were verified.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("checksum differs from the signed one")]
pub struct NotAuthentic;

impl<T> Verified<T> {
    /// What was verified.
    pub fn get(&self) -> &T {
        &self.0
    }

    /// What was verified, without the proof.
    pub fn into_inner(self) -> T {
        self.0
    }

    /// A part of what was verified.
    ///
    /// The closure can only answer with something inside of it, so nothing foreign slips in.
    pub fn part<U: ?Sized>(&self, which: impl for<'b> FnOnce(&'b T) -> &'b U) -> Verified<&U> {
        Verified(which(&self.0))
    }

    /// Derives something from what was verified and from nothing else.
    ///
    /// # Errors
    /// Those of the derivation.
    pub fn derive<U, E>(self, how: impl FnOnce(T) -> Result<U, E>) -> Result<Verified<U>, E> {
        how(self.0).map(Verified)
    }

    /// As [`derive`](Self::derive), where nothing can go wrong.
    pub fn map<U>(self, how: impl FnOnce(T) -> U) -> Verified<U> {
        Verified(how(self.0))
    }
}

impl<'a, T> Verified<&'a Option<T>> {
    /// What was verified, when there is any of it.
    #[must_use]
    pub fn flipped(self) -> Option<Verified<&'a T>> {
        self.0.as_ref().map(Verified)
    }
}

impl<T: Clone> Verified<&T> {
    /// A copy of its own.
    #[must_use]
    pub fn cloned(&self) -> Verified<T> {
        Verified(self.0.clone())
    }
}

/// SHA-256 in hexadecimal.
#[must_use]
pub fn sha256_hex(bytes: &[u8]) -> String {
    hex::encode(aws_lc_rs::digest::digest(&SHA256, bytes).as_ref())
}

/// Digests what is read through it (SHA-256): a file on a medium that others write to may change after it was verified.
pub struct Digesting<R> {
    from: R,
    context: Context,
}

impl<R> Digesting<R> {
    /// Reads from there.
    #[must_use]
    pub fn new(from: R) -> Self {
        Self { from, context: Context::new(&SHA256) }
    }

    /// The digest of all that was read.
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

/// Verifies bytes by a size and a SHA-256 that are themselves verified.
///
/// # Errors
/// When they are other bytes.
pub fn verify_sum(bytes: Vec<u8>, by: &Verified<FileSum>) -> Result<Verified<Vec<u8>>, NotAuthentic> {
    let FileSum { size, sha256 } = by.0;
    let same = bytes.len() as u64 == size && aws_lc_rs::digest::digest(&SHA256, &bytes).as_ref() == sha256;
    if same { Ok(Verified(bytes)) } else { Err(NotAuthentic) }
}

/// Verifies a file's content by a size and a SHA-256 that are themselves verified; it is read from its beginning
/// to its end, and is at its beginning again.
///
/// # Errors
/// When it cannot be read, or has another content.
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

/// Verifies bytes by a digest that is itself verified.
///
/// # Errors
/// When they are other bytes.
pub fn verify_digest(bytes: Vec<u8>, by: Verified<&Digest>) -> Result<Verified<Vec<u8>>, NotAuthentic> {
    if Digest::hash(&bytes) == *by.0 { Ok(Verified(bytes)) } else { Err(NotAuthentic) }
}

/// For tests of the modules above: a chain that no one followed.
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
