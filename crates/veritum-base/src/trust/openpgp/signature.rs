//! Opens signed texts: their content is returned only if a signature is accepted.

use pgp::composed::{CleartextSignedMessage, Deserializable as _, DetachedSignature};
use pgp::packet::{Signature, SignatureType};
use pgp::types::VerifyingKey;

use super::is_strong;
use super::keyring::{Certificate, Keyring, Unfit, created};
use crate::trust::Verified;

/// Larger signed texts are refused; the largest release file of Debian has a thirtieth of it.
pub(super) const MAX_SIGNED: usize = 32 << 20;
/// A clock may be wrong by a day before a signature counts as made in the future, in seconds.
const CLOCK_TOLERANCE: i64 = 24 * 3600;
/// Texts with more signatures are refused.
const MAX_SIGNATURES: usize = 50;

/// Why a signed text is not accepted. Fingerprints are upper-case hexadecimal.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum SignatureError {
    /// It is not signed, or malformed.
    #[error("not a signed text ({0})")]
    Shape(String),
    /// It is too large.
    #[error("exceeds the size limit")]
    TooLarge,
    /// A known key's signature does not match these bytes.
    #[error("BAD signature by key {key}")]
    Bad {
        /// The primary key.
        key: String,
    },
    /// It is not signed by any of the keys that may sign for it.
    #[error("signed only by keys that are not in the keyring ({})", keys.join(", "))]
    UnknownKeys {
        /// The signers named in the signatures.
        keys: Vec<String>,
    },
    /// The signature uses a weak digest.
    #[error("the signature by key {key} uses a weak digest")]
    WeakDigest {
        /// The primary key.
        key: String,
    },
    /// The key was revoked.
    #[error("key {key} is revoked")]
    Revoked {
        /// The primary key.
        key: String,
    },
    /// The key had expired when the signature was made.
    #[error("key {key} had expired when it signed this")]
    KeyExpired {
        /// The primary key.
        key: String,
    },
    /// The key may not sign, or is too weak.
    #[error("key {key} is not a signing key")]
    NotForSigning {
        /// The primary key.
        key: String,
    },
    /// The signature is dated in the future.
    #[error("signed at {at}, which is in the future according to this computer's clock")]
    Future {
        /// Its time.
        at: jiff::Timestamp,
    },
    /// The signature is valid, but only the machine itself knows the key.
    #[error("signed by {key}, which you have not trusted yet")]
    OnlyHere {
        /// The primary key.
        key: String,
    },
}

/// An accepted signed text.
#[derive(Debug, Clone)]
pub struct Signed {
    /// The signed content, and nothing else.
    pub text: Verified<Vec<u8>>,
    /// The primary key, by fingerprint.
    pub key: String,
    /// When it was signed.
    pub at: jiff::Timestamp,
}

/// Opens a text with its signature (cleartext signature framework, RFC 9580, section 7).
///
/// `known` decides whether a primary key, by its fingerprint, is built in or trusted by the administrator.
///
/// # Errors
/// When no signature is accepted, or one of a known key is bad.
pub fn open_clear(
    bytes: &[u8],
    keyring: &Keyring,
    known: &dyn Fn(&str) -> bool,
    now: jiff::Timestamp,
) -> Result<Signed, SignatureError> {
    let shape = |what: &str| SignatureError::Shape(what.to_owned());
    if bytes.len() > MAX_SIGNED {
        return Err(SignatureError::TooLarge);
    }
    let text = std::str::from_utf8(bytes).map_err(|_| shape("not UTF-8"))?;
    if !text.starts_with("-----BEGIN PGP SIGNED MESSAGE-----") {
        return Err(shape("no OpenPGP header"));
    }
    let (message, _) = CleartextSignedMessage::from_string(text).map_err(|_| shape("malformed"))?;
    let signed = message.signed_text();
    let text = signed.replace("\r\n", "\n").into_bytes();
    judge(message.signatures(), signed.as_bytes(), text, keyring, known, now)
}

/// Opens a text with detached signatures.
///
/// # Errors
/// As [`open_clear`].
pub fn open_detached(
    text: Vec<u8>,
    signatures: &[u8],
    keyring: &Keyring,
    known: &dyn Fn(&str) -> bool,
    now: jiff::Timestamp,
) -> Result<Signed, SignatureError> {
    if text.len() > MAX_SIGNED || signatures.len() > 1 << 20 {
        return Err(SignatureError::TooLarge);
    }
    let none = || SignatureError::Shape("unreadable signature".into());
    let read: Vec<Signature> = if signatures.first().is_some_and(|b| b & 0x80 != 0) {
        let all = DetachedSignature::from_bytes_many(signatures).map_err(|_| none())?;
        all.take(MAX_SIGNATURES).filter_map(Result::ok).map(|s| s.signature).collect()
    } else {
        let (all, _) = DetachedSignature::from_armor_many(signatures).map_err(|_| none())?;
        all.take(MAX_SIGNATURES).filter_map(Result::ok).map(|s| s.signature).collect()
    };
    let copy = text.clone();
    judge(&read, &copy, text, keyring, known, now)
}

fn judge(
    signatures: &[Signature],
    signed: &[u8],
    text: Vec<u8>,
    keyring: &Keyring,
    known: &dyn Fn(&str) -> bool,
    now: jiff::Timestamp,
) -> Result<Signed, SignatureError> {
    if signatures.is_empty() || signatures.len() > MAX_SIGNATURES {
        return Err(SignatureError::Shape("no readable signature".into()));
    }
    let mut good: Option<(String, i64)> = None;
    let mut trouble: Option<SignatureError> = None;
    for signature in signatures {
        match judge_signature(signature, signed, keyring, known, now) {
            Ok(signer) => {
                good.get_or_insert(signer);
            }
            // A bad signature that names a known key is an alarm, not to be ignored.
            Err(bad @ SignatureError::Bad { .. }) => return Err(bad),
            Err(other) if trouble.as_ref().is_none_or(|t| weight(&other) < weight(t)) => trouble = Some(other),
            Err(_) => {}
        }
    }
    match (good, trouble) {
        (Some((key, at)), _) => {
            let at = jiff::Timestamp::from_second(at).unwrap_or(jiff::Timestamp::UNIX_EPOCH);
            Ok(Signed { text: Verified(text), key, at })
        }
        (None, Some(trouble)) => Err(trouble),
        (None, None) => Err(SignatureError::Shape("no signature".into())),
    }
}

/// Which error is reported when there are several: the one that a person can resolve best.
fn weight(error: &SignatureError) -> u8 {
    match error {
        SignatureError::Revoked { .. } => 0,
        SignatureError::OnlyHere { .. } => 1,
        SignatureError::Future { .. } => 2,
        SignatureError::KeyExpired { .. } => 3,
        SignatureError::WeakDigest { .. } => 4,
        SignatureError::NotForSigning { .. } => 5,
        _ => 6,
    }
}

/// Verifies one signature; returns the signer's fingerprint and its time.
fn judge_signature(
    signature: &Signature,
    signed: &[u8],
    keyring: &Keyring,
    known: &dyn Fn(&str) -> bool,
    now: jiff::Timestamp,
) -> Result<(String, i64), SignatureError> {
    if !matches!(signature.typ(), Some(SignatureType::Binary | SignatureType::Text)) {
        return Err(SignatureError::Shape("unsupported signature type".into()));
    }
    let at = created(signature);
    let mut named: Option<&Certificate> = None;
    for certificate in keyring.certificates() {
        let primary = &certificate.key.primary_key;
        let mut keys: Vec<(bool, Result<(), Unfit>)> = Vec::new();
        if made_by(signature, primary) {
            keys.push((signature.verify(primary, signed).is_ok(), certificate.primary_fit(at)));
        }
        for subkey in certificate.key.public_subkeys.iter().filter(|s| made_by(signature, &s.key)) {
            keys.push((signature.verify(&subkey.key, signed).is_ok(), certificate.subkey_fit(subkey, at)));
        }
        if !keys.is_empty() {
            named = Some(certificate);
        }
        if let Some((_, fit)) = keys.into_iter().find(|(holds, _)| *holds) {
            let key = certificate.fingerprint().to_owned();
            return counts(signature, &key, fit, at, known, now).map(|()| (key, at));
        }
    }
    match named {
        Some(certificate) => Err(SignatureError::Bad { key: certificate.fingerprint().to_owned() }),
        None => Err(SignatureError::UnknownKeys { keys: makers(signature) }),
    }
}

/// Whether a valid signature is also accepted.
fn counts(
    signature: &Signature,
    key: &str,
    fit: Result<(), Unfit>,
    at: i64,
    known: &dyn Fn(&str) -> bool,
    now: jiff::Timestamp,
) -> Result<(), SignatureError> {
    let key = key.to_owned();
    if !is_strong(signature) {
        return Err(SignatureError::WeakDigest { key });
    }
    match fit {
        Err(Unfit::Revoked) => return Err(SignatureError::Revoked { key }),
        Err(Unfit::Expired) => return Err(SignatureError::KeyExpired { key }),
        Err(Unfit::NotForSigning) => return Err(SignatureError::NotForSigning { key }),
        Ok(()) => {}
    }
    today(&key, at, known, now)
}

/// What must be judged again at every use: whether the signature's time has come, and whether the key is accepted.
pub(super) fn today(
    key: &str,
    at: i64,
    known: &dyn Fn(&str) -> bool,
    now: jiff::Timestamp,
) -> Result<(), SignatureError> {
    if at > now.as_second() + CLOCK_TOLERANCE {
        let at = jiff::Timestamp::from_second(at).unwrap_or(jiff::Timestamp::MAX);
        return Err(SignatureError::Future { at });
    }
    if known(key) { Ok(()) } else { Err(SignatureError::OnlyHere { key: key.to_owned() }) }
}

/// Whether a signature names this key as its signer; one without a name could be anyone's.
fn made_by(signature: &Signature, key: &impl VerifyingKey) -> bool {
    let (prints, ids) = (signature.issuer_fingerprint(), signature.issuer_key_id());
    match prints.is_empty() {
        false => prints.iter().any(|f| **f == key.fingerprint()),
        true => ids.is_empty() || ids.iter().any(|id| **id == key.legacy_key_id()),
    }
}

fn makers(signature: &Signature) -> Vec<String> {
    let prints: Vec<String> =
        signature.issuer_fingerprint().iter().map(|f| f.to_string().to_ascii_uppercase()).collect();
    match prints.is_empty() {
        false => prints,
        true => signature.issuer_key_id().iter().map(|id| id.to_string().to_ascii_uppercase()).collect(),
    }
}
