//! OpenPGP signatures of repositories (RFC 9580): the mathematics from a library, the policy our own.
//!
//! A signature counts when a key of the source's keyring made it, at a time at which that key was good, with a digest
//! that cannot be forged, and when the key is one that Veritum ships or that the administrator has trusted. A single bad
//! signature by a key of the keyring spoils all others next to it.

mod keyring;
mod remembered;
mod signature;

pub use keyring::{Certificate, Keyring, KeyringError};
pub use remembered::open_remembered;
pub use signature::{SignatureError, Signed, open_clear, open_detached};

use pgp::crypto::hash::HashAlgorithm;
use pgp::packet::Signature;
use pgp::ser::Serialize as _;
use pgp::types::{KeyDetails, PublicParams};

/// RSA keys below 2048 bits can be broken; the exponent is three bytes long, and each number has a length of two.
const MIN_RSA_BYTES: usize = 2 + 256 + 2 + 1;

/// Digests that no one can forge today.
fn is_strong(signature: &Signature) -> bool {
    matches!(
        signature.hash_alg(),
        Some(
            HashAlgorithm::Sha256
                | HashAlgorithm::Sha384
                | HashAlgorithm::Sha512
                | HashAlgorithm::Sha3_256
                | HashAlgorithm::Sha3_512
        )
    )
}

/// Whether a key's kind and size are ones that no one can break today.
fn is_strong_key(key: &impl KeyDetails) -> bool {
    match key.public_params() {
        PublicParams::RSA(rsa) => rsa.write_len() >= MIN_RSA_BYTES,
        PublicParams::ECDSA(_) | PublicParams::EdDSALegacy(_) | PublicParams::Ed25519(_) | PublicParams::Ed448(_) => {
            true
        }
        _ => false,
    }
}

fn fingerprint(key: &impl KeyDetails) -> String {
    key.fingerprint().to_string().to_ascii_uppercase()
}
