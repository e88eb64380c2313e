//! Who vouches: signatures, keys, chains. The only maker of [`Verified`].
//!
//! The chain of a store: file ← manifest ← signed index ← pinned key. The store's metadata is a repository after
//! The Update Framework specification 1.0 (roles root, targets, snapshot, timestamp).

mod keys;
mod pins;
mod repository;

pub use keys::{KeyPair, KeysError, StoreKeys};
pub use pins::{Pin, PinError, Pins, SeenVersions};
pub use repository::{Loaded, Published, RepositoryError, Versions, first_root, load, publish, root_key_ids};

use crate::model::Digest;

/// Something whose chain of trust was followed to its end. Only this room makes one.
#[derive(Debug, Clone)]
pub struct Verified<T>(T);

/// Bytes that are not the ones that were vouched for.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("its content is not the one that was signed")]
pub struct NotVouched;

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
}

/// Vouches for bytes by a digest that is itself vouched for.
///
/// # Errors
/// When they are other bytes.
pub fn vouch(bytes: Vec<u8>, by: Verified<&Digest>) -> Result<Verified<Vec<u8>>, NotVouched> {
    if Digest::of(&bytes) == *by.0 { Ok(Verified(bytes)) } else { Err(NotVouched) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_the_signed_bytes_are_vouched_for() {
        let index = Verified(vec![Digest::of(b"timetable")]);
        assert_eq!(vouch(b"timetable".to_vec(), index.part(|i| &i[0])).unwrap().get(), b"timetable");
        assert_eq!(vouch(b"timetablf".to_vec(), index.part(|i| &i[0])).unwrap_err(), NotVouched);
    }
}
