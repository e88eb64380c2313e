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

use crate::model::{ContentHasher, Digest};
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

/// A reader that digests what is read through it: a file on a medium that others write to may change after it was
/// verified.
pub struct Digesting<R> {
    from: R,
    hasher: Hasher,
}

enum Hasher {
    Sha256(Context),
    Blake3(Box<blake3::Hasher>),
}

impl<R> Digesting<R> {
    /// Wraps a reader, for SHA-256.
    #[must_use]
    pub fn sha256(from: R) -> Self {
        Self { from, hasher: Hasher::Sha256(Context::new(&SHA256)) }
    }

    /// Wraps a reader, for BLAKE3.
    #[must_use]
    pub fn blake3(from: R) -> Self {
        Self { from, hasher: Hasher::Blake3(Box::default()) }
    }

    /// The digest of everything read.
    #[must_use]
    pub fn finish(self) -> [u8; 32] {
        match self.hasher {
            Hasher::Sha256(context) => {
                let mut sha256 = [0; 32];
                sha256.copy_from_slice(context.finish().as_ref());
                sha256
            }
            Hasher::Blake3(hasher) => hasher.finalize().into(),
        }
    }
}

impl<R: io::Read> io::Read for Digesting<R> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        let n = self.from.read(into)?;
        match &mut self.hasher {
            Hasher::Sha256(context) => context.update(&into[..n]),
            Hasher::Blake3(hasher) => drop(hasher.update(&into[..n])),
        }
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

/// The digests of a file's content as it was read, for [`verify_by_sums`].
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct FileSums {
    /// The number of bytes.
    pub(crate) bytes: u64,
    pub(crate) sha256: [u8; 32],
    /// BLAKE3: much faster when the content is read again, to see that it is the same.
    pub(crate) blake3: Option<Digest>,
}

impl FileSums {
    /// The number of bytes.
    #[must_use]
    pub fn bytes(&self) -> u64 {
        self.bytes
    }

    /// SHA-256.
    #[must_use]
    pub fn sha256(&self) -> &[u8; 32] {
        &self.sha256
    }

    /// BLAKE3, if it was computed.
    #[must_use]
    pub fn blake3(&self) -> Option<Digest> {
        self.blake3
    }
}

/// Verifies a file by the digests of its content. The caller reads it again, and compares the BLAKE3 of what it reads.
///
/// # Errors
/// When they differ from the verified ones.
pub fn verify_by_sums(
    file: std::fs::File,
    sums: &FileSums,
    by: &Verified<FileSum>,
) -> Result<Verified<std::fs::File>, NotAuthentic> {
    let is_same = sums.bytes == by.0.size && sums.sha256 == by.0.sha256;
    if is_same { Ok(Verified(file)) } else { Err(NotAuthentic) }
}

/// Derives a value from the content of a file while it is read for the first time; it counts only if the content has the
/// verified size and SHA-256.
///
/// # Errors
/// Those of reading, and of the function.
pub fn derive_from_file<T>(
    file: std::fs::File,
    by: &Verified<FileSum>,
    how: impl FnOnce(&mut dyn io::Read) -> io::Result<T>,
) -> io::Result<Result<Verified<T>, NotAuthentic>> {
    let FileSum { size, sha256 } = by.0;
    let mut from = Digesting::sha256(file.take(size.saturating_add(1)));
    let value = how(&mut from)?;
    io::copy(&mut from, &mut io::sink())?;
    let is_whole = from.from.limit() == 1;
    Ok(if from.finish() == sha256 && is_whole { Ok(Verified(value)) } else { Err(NotAuthentic) })
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

/// Verifies a file's content by a verified size and SHA-256. Once it was the right one, only its BLAKE3 is compared, which
/// takes a tenth of the time.
///
/// # Errors
/// When it cannot be read, or differs.
pub fn verify_file_again(
    mut file: std::fs::File,
    by: &Verified<FileSum>,
    facts: &Facts,
) -> io::Result<Result<(), NotAuthentic>> {
    let FileSum { size, sha256 } = by.0;
    let known = facts.get(FactKind::Sum, &sha256);
    let mut hasher = ContentHasher::blake3();
    let mut context = known.is_none().then(|| Context::new(&SHA256));
    let mut piece = vec![0; 256 * 1024];
    let mut length = 0;
    while length <= size {
        let n = file.read(&mut piece)?;
        if n == 0 {
            break;
        }
        length += n as u64;
        hasher.update(&piece[..n]);
        if let Some(context) = &mut context {
            context.update(&piece[..n]);
        }
    }
    let Some(blake3) = hasher.finish().0.filter(|_| length == size) else { return Ok(Err(NotAuthentic)) };
    let is_same = match (&known, context) {
        (Some(known), _) => known.get() == blake3.as_bytes(),
        (None, context) => context.is_some_and(|context| context.finish().as_ref() == sha256),
    };
    if is_same && known.is_none() {
        facts.keep(FactKind::Sum, &sha256, &Verified(blake3.as_bytes().to_vec()));
    }
    Ok(if is_same { Ok(()) } else { Err(NotAuthentic) })
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
    fn what_is_derived_from_a_file_counts_only_if_all_of_it_is_the_signed_one() {
        let derive = |content: &[u8], sum: FileSum| {
            let mut file = tempfile::tempfile().unwrap();
            io::Write::write_all(&mut file, content).unwrap();
            file.rewind().unwrap();
            let first = |from: &mut dyn io::Read| {
                let mut byte = [0];
                from.read_exact(&mut byte).map(|()| byte[0])
            };
            derive_from_file(file, &Verified(sum), first).unwrap().map(Verified::into_inner)
        };
        let sum = FileSum { size: 9, sha256: sha256(b"timetable") };
        assert_eq!(derive(b"timetable", sum), Ok(b't'));
        assert_eq!(derive(b"timetablf", sum), Err(NotAuthentic));
        assert_eq!(derive(b"timetables", sum), Err(NotAuthentic));
        assert_eq!(derive(b"timetable", FileSum { size: 8, ..sum }), Err(NotAuthentic));
    }

    #[test]
    fn a_file_that_was_verified_before_is_known_by_its_other_digest() {
        let dir = tempfile::tempdir().unwrap();
        let facts = Facts::in_folder(dir.path());
        let sum = Verified(FileSum { size: 9, sha256: sha256(b"timetable") });
        let verify = |content: &[u8]| {
            std::fs::write(dir.path().join("file"), content).unwrap();
            verify_file_again(std::fs::File::open(dir.path().join("file")).unwrap(), &sum, &facts).unwrap()
        };
        for wrong in [&b"timetablf"[..], b"timetables", b"timetabl", b""] {
            assert_eq!(verify(wrong), Err(NotAuthentic));
        }
        assert!(facts.get(FactKind::Sum, &sha256(b"timetable")).is_none(), "nothing is kept of what is wrong");
        assert_eq!(verify(b"timetable"), Ok(()));
        let kept = facts.get(FactKind::Sum, &sha256(b"timetable")).unwrap();
        assert_eq!(kept.get(), Digest::hash(b"timetable").as_bytes());
        assert_eq!(verify(b"timetable"), Ok(()));
        for wrong in [&b"timetablf"[..], b"timetables", b"timetabl", b""] {
            assert_eq!(verify(wrong), Err(NotAuthentic));
        }
    }

    #[test]
    fn only_the_signed_bytes_are_trusted() {
        let index = Verified(vec![Digest::hash(b"timetable")]);
        assert_eq!(verify_digest(b"timetable".to_vec(), index.part(|i| &i[0])).unwrap().get(), b"timetable");
        assert_eq!(verify_digest(b"timetablf".to_vec(), index.part(|i| &i[0])).unwrap_err(), NotAuthentic);
    }
}
