//! [`Keyring`]: the keys that may sign for a source, and when each was valid.

use pgp::composed::{Deserializable as _, SignedPublicKey, SignedPublicSubKey};
use pgp::packet::{KeyFlags, RevocationCode, Signature, SignatureType, UserId};
use pgp::types::{KeyDetails, Tag};

use super::{fingerprint, is_strong, is_strong_key};

/// Larger keyring files are refused.
const MAX_BYTES: usize = 16 << 20;
/// Further certificates in one file are ignored.
const MAX_CERTIFICATES: usize = 1000;

/// Why a keyring cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum KeyringError {
    /// It contains no readable key.
    #[error("contains no readable key")]
    NoKeys,
    /// It is in GnuPG's keybox format.
    #[error("a keybox file, which apt does not read either")]
    KeyBox,
    /// It is too large.
    #[error("exceeds the size limit")]
    TooLarge,
}

/// The keys that may sign for a source.
#[derive(Debug, Clone, Default)]
pub struct Keyring {
    certificates: Vec<Certificate>,
    /// Whether part of it could not be read.
    damaged: bool,
    /// Identifies this keyring: a digest of everything it was read from.
    made_from: [u8; 32],
}

/// A key with its subkeys and its self-signatures.
#[derive(Debug, Clone)]
pub struct Certificate {
    pub(super) key: SignedPublicKey,
    fingerprint: String,
}

/// Why a key was not valid at a time.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Unfit {
    /// It was revoked.
    Revoked,
    /// It had expired, or did not exist yet.
    Expired,
    /// It is not a signing key, or is too weak.
    NotForSigning,
}

impl Keyring {
    /// Reads a keyring file: one or more certificates, binary or armoured.
    ///
    /// # Errors
    /// When it contains no readable key.
    pub fn read(bytes: &[u8]) -> Result<Self, KeyringError> {
        if bytes.len() > MAX_BYTES {
            return Err(KeyringError::TooLarge);
        }
        if bytes.get(8..12) == Some(b"KBXf") {
            return Err(KeyringError::KeyBox);
        }
        let (mut certificates, mut damaged) = (Vec::new(), false);
        if bytes.first().is_some_and(|b| b & 0x80 != 0) {
            certificates
                .extend(certificates_of(SignedPublicKey::from_bytes_many(bytes).into_iter().flatten(), &mut damaged));
        } else {
            for block in armoured_blocks(bytes) {
                match SignedPublicKey::from_armor_many(block) {
                    Ok((keys, _)) => certificates.extend(certificates_of(keys, &mut damaged)),
                    Err(_) => damaged = true,
                }
            }
        }
        if certificates.is_empty() {
            return Err(KeyringError::NoKeys);
        }
        Ok(Self { certificates, damaged, made_from: mixed(&[b"read", bytes]) })
    }

    /// Adds another keyring's keys. If both have a key, the signatures of both copies count: an older copy may lack a
    /// revocation or a later expiry.
    pub fn extend(&mut self, other: Self) {
        self.made_from = mixed(&[b"extend", &self.made_from, &other.made_from]);
        for certificate in other.certificates {
            match self.certificates.iter_mut().find(|c| c.fingerprint == certificate.fingerprint) {
                Some(known) => known.merge(certificate.key),
                None => self.certificates.push(certificate),
            }
        }
    }

    /// Adds the other keyring's copies of keys that are in this one, and none of its other keys.
    pub fn refresh(&mut self, other: &Self) {
        self.made_from = mixed(&[b"refresh", &self.made_from, &other.made_from]);
        for known in &mut self.certificates {
            let copies = other.certificates.iter().filter(|c| c.fingerprint == known.fingerprint);
            let copies: Vec<SignedPublicKey> = copies.map(|c| c.key.clone()).collect();
            copies.into_iter().for_each(|copy| known.merge(copy));
        }
    }

    /// Keeps only keys with one of these fingerprints, of the primary key or a subkey.
    pub fn keep(&mut self, fingerprints: &[String]) {
        self.made_from = mixed(&[b"keep", &self.made_from, fingerprints.join(" ").as_bytes()]);
        self.certificates.retain(|c| {
            let mut all =
                std::iter::once(c.fingerprint.clone()).chain(c.key.public_subkeys.iter().map(|s| fingerprint(&s.key)));
            all.any(|f| fingerprints.contains(&f))
        });
    }

    /// Whether part of what was read is not a readable key: keys may be missing.
    #[must_use]
    pub fn is_damaged(&self) -> bool {
        self.damaged
    }

    /// A digest of everything that this keyring was read from, and how.
    #[must_use]
    pub fn made_from(&self) -> &[u8; 32] {
        &self.made_from
    }

    /// The certificates.
    #[must_use]
    pub fn certificates(&self) -> &[Certificate] {
        &self.certificates
    }
}

fn mixed(parts: &[&[u8]]) -> [u8; 32] {
    let mut context = aws_lc_rs::digest::Context::new(&aws_lc_rs::digest::SHA256);
    for part in parts {
        context.update(&(part.len() as u64).to_le_bytes());
        context.update(part);
    }
    let mut digest = [0; 32];
    digest.copy_from_slice(context.finish().as_ref());
    digest
}

/// The readable keys of a sequence; others are skipped.
fn certificates_of<E>(keys: impl Iterator<Item = Result<SignedPublicKey, E>>, damaged: &mut bool) -> Vec<Certificate> {
    keys.take(MAX_CERTIFICATES)
        .inspect(|key| *damaged |= key.is_err())
        .filter_map(Result::ok)
        .map(|key| Certificate { fingerprint: fingerprint(&key.primary_key), key })
        .collect()
}

/// Adds signatures that are not known yet: each costs a verification when the key is used.
fn add_new(known: &mut Vec<Signature>, more: Vec<Signature>) {
    for one in more {
        if !known.contains(&one) {
            known.push(one);
        }
    }
}

/// A file of armoured keys may contain several blocks.
fn armoured_blocks(bytes: &[u8]) -> impl Iterator<Item = &[u8]> {
    const BEGIN: &[u8] = b"-----BEGIN PGP PUBLIC KEY BLOCK-----";
    let starts: Vec<usize> = memchr::memmem::find_iter(bytes, BEGIN).take(MAX_CERTIFICATES).collect();
    let ends: Vec<usize> = starts.iter().skip(1).copied().chain([bytes.len()]).collect();
    starts.into_iter().zip(ends).map(|(from, to)| &bytes[from..to])
}

impl Certificate {
    /// The primary key's fingerprint, upper-case hexadecimal.
    #[must_use]
    pub fn fingerprint(&self) -> &str {
        &self.fingerprint
    }

    /// The certificate as armoured text.
    #[must_use]
    pub fn armoured(&self) -> String {
        self.key.to_armored_string(pgp::composed::ArmorOptions::default()).unwrap_or_default()
    }

    /// The key's user id, for people.
    #[must_use]
    pub fn user(&self) -> String {
        let user = self.key.details.users.first().map(|u| String::from_utf8_lossy(u.id.id()).into_owned());
        user.unwrap_or_default().chars().filter(|c| !c.is_control()).take(120).collect()
    }

    fn merge(&mut self, copy: SignedPublicKey) {
        let details = &mut self.key.details;
        add_new(&mut details.revocation_signatures, copy.details.revocation_signatures);
        add_new(&mut details.direct_signatures, copy.details.direct_signatures);
        for user in copy.details.users {
            match details.users.iter_mut().find(|u| u.id == user.id) {
                Some(known) => add_new(&mut known.signatures, user.signatures),
                None => details.users.push(user),
            }
        }
        for subkey in copy.public_subkeys {
            match self.key.public_subkeys.iter_mut().find(|s| s.key == subkey.key) {
                Some(known) => add_new(&mut known.signatures, subkey.signatures),
                None => self.key.public_subkeys.push(subkey),
            }
        }
    }

    /// Whether the primary key could sign at a time (seconds since the epoch).
    pub(super) fn primary_fit(&self, at: i64) -> Result<(), Unfit> {
        let primary = &self.key.primary_key;
        let flags = self.alive(at)?.key_flags();
        // A self-signature without flags does not restrict the primary key.
        let may_sign = flags.sign() || flags == KeyFlags::default();
        if may_sign && is_strong_key(primary) { Ok(()) } else { Err(Unfit::NotForSigning) }
    }

    /// Whether a subkey and its primary key could sign at a time.
    pub(super) fn subkey_fit(&self, subkey: &SignedPublicSubKey, at: i64) -> Result<(), Unfit> {
        self.alive(at)?;
        let primary = &self.key.primary_key;
        let sound = |s: &&Signature| is_strong(s) && s.verify_subkey_binding(primary, &subkey.key).is_ok();
        let mut revocations = subkey.signatures.iter().filter(|s| s.typ() == Some(SignatureType::SubkeyRevocation));
        if revocations.any(|r| revokes(r, at) && sound(&r)) {
            return Err(Unfit::Revoked);
        }
        let bindings = subkey.signatures.iter().filter(|s| s.typ() == Some(SignatureType::SubkeyBinding));
        let latest = newest_first(bindings).into_iter().find(sound).ok_or(Unfit::NotForSigning)?;
        // A signing subkey must itself confirm the primary key (RFC 9580, 5.2.1.8).
        let agrees = latest
            .embedded_signature()
            .is_some_and(|back| is_strong(back) && back.verify_primary_key_binding(&subkey.key, primary).is_ok());
        if !latest.key_flags().sign() || !agrees || !is_strong_key(&subkey.key) {
            return Err(Unfit::NotForSigning);
        }
        lasts(&subkey.key, latest, at)
    }

    /// The primary key's self-signature, if the key was neither revoked nor expired.
    fn alive(&self, at: i64) -> Result<&Signature, Unfit> {
        let primary = &self.key.primary_key;
        let revoked = |r: &Signature| {
            r.typ() == Some(SignatureType::KeyRevocation) && revokes(r, at) && r.verify_key(primary).is_ok()
        };
        if self.key.details.revocation_signatures.iter().any(revoked) {
            return Err(Unfit::Revoked);
        }
        let statement = self.latest_statement().ok_or(Unfit::NotForSigning)?;
        lasts(primary, statement, at).map(|()| statement)
    }

    /// The latest valid self-signature: direct, or on one of its user ids.
    fn latest_statement(&self) -> Option<&Signature> {
        let primary = &self.key.primary_key;
        let direct = self.key.details.direct_signatures.iter().map(|s| (s, None));
        let users = &self.key.details.users;
        let of_users = users.iter().flat_map(|user| user.signatures.iter().map(move |s| (s, Some(&user.id))));
        let mut all: Vec<_> = direct.chain(of_users).filter(|(s, _)| is_strong(s)).collect();
        all.sort_by_key(|(s, _)| std::cmp::Reverse(created(s)));
        // Each costs a verification, so the newest is tried first, and usually is the only one.
        let sound = |(s, user): &(&Signature, Option<&UserId>)| match user {
            Some(user) => s.is_certification() && s.verify_certification(primary, Tag::UserId, *user).is_ok(),
            None => s.typ() == Some(SignatureType::Key) && s.verify_key(primary).is_ok(),
        };
        all.into_iter().find(sound).map(|(s, _)| s)
    }
}

fn newest_first<'a>(signatures: impl Iterator<Item = &'a Signature>) -> Vec<&'a Signature> {
    let mut all: Vec<&Signature> = signatures.collect();
    all.sort_by_key(|s| std::cmp::Reverse(created(s)));
    all
}

pub(super) fn created(signature: &Signature) -> i64 {
    signature.created().map_or(0, |t| i64::from(t.as_secs()))
}

/// Whether a revocation invalidates what was signed at a time. A retired or replaced key's earlier signatures remain
/// valid; a compromised key's do not (RFC 9580, 5.2.3.31).
fn revokes(revocation: &Signature, at: i64) -> bool {
    let only_later =
        matches!(revocation.revocation_reason_code(), Some(RevocationCode::KeyRetired | RevocationCode::KeySuperseded));
    !only_later || created(revocation) <= at
}

fn lasts(key: &impl KeyDetails, statement: &Signature, at: i64) -> Result<(), Unfit> {
    let from = i64::from(key.created_at().as_secs());
    let lasts = statement.key_expiration_time().map_or(0, |d| i64::from(d.as_secs()));
    // A lifetime of zero means no expiry.
    if at < from || lasts > 0 && at >= from + lasts { Err(Unfit::Expired) } else { Ok(()) }
}
