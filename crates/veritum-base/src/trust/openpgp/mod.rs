//! OpenPGP signatures of repositories (RFC 9580): a library verifies them, the acceptance policy is ours.
//!
//! A signature is accepted when a key of the source's keyring made it while that key was valid, with a strong digest, and
//! the key is built in or trusted by the administrator. A single bad signature by a key of the keyring invalidates
//! all others.

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

/// RSA keys below 2048 bits are too weak; the exponent has three bytes, and each number has a length of two.
const MIN_RSA_BYTES: usize = 2 + 256 + 2 + 1;

/// Digests that cannot be forged today.
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

/// Whether a key's algorithm and size cannot be broken today.
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
