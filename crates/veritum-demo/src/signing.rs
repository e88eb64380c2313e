//! OpenPGP keys of made-up vendors, and their signatures: the same bytes from the same seed.

use pgp::composed::{
    ArmorOptions, CleartextSignedMessage, DetachedSignature, KeyType, SecretKeyParamsBuilder, SignedKeyDetails,
    SignedPublicKey, SignedPublicSubKey, SignedSecretKey, SubkeyParamsBuilder,
};
use pgp::crypto::hash::HashAlgorithm;
use pgp::errors::Error;
use pgp::packet::{
    KeyFlags, RevocationCode, Signature, SignatureConfig, SignatureType, Subpacket, SubpacketData, UserId,
};
use pgp::ser::Serialize as _;
use pgp::types::{Duration, KeyDetails as _, PacketHeaderVersion, Password, SignedUser, SigningKey, Tag, Timestamp};
use rand_chacha::ChaCha20Rng;
use rand_chacha::rand_core::SeedableRng as _;

/// The parameters of a vendor's key.
#[derive(Debug, Clone)]
pub struct KeyShape {
    /// Its user id.
    pub user: &'static str,
    /// Its creation time, in seconds since the epoch.
    pub made: i64,
    /// Its lifetime in seconds; 0 for unlimited.
    pub lasts: u32,
    /// The time and reason of its revocation.
    pub revoked: Option<(i64, RevocationCode)>,
    /// The time of the signing subkey's revocation.
    pub subkey_revoked: Option<i64>,
    /// Whether the subkey may sign and confirms the primary key.
    pub subkey_signs: [bool; 2],
    /// The digest of its self-signatures.
    pub hash: HashAlgorithm,
    /// RSA of this many bits, instead of Ed25519.
    pub rsa: Option<u32>,
}

impl Default for KeyShape {
    fn default() -> Self {
        Self {
            user: "Foreshore Archive <archive@foreshore.example>",
            made: crate::NOW - 400 * 86_400,
            lasts: 0,
            revoked: None,
            subkey_revoked: None,
            subkey_signs: [true, true],
            hash: HashAlgorithm::Sha512,
            rsa: None,
        }
    }
}

/// A vendor's key: it signs with a subkey, as real repositories do.
#[derive(Debug, Clone)]
pub struct VendorKey {
    secret: SignedSecretKey,
    public: SignedPublicKey,
}

fn time(seconds: i64) -> Timestamp {
    Timestamp::from_secs(u32::try_from(seconds).unwrap_or(0))
}

/// A self-signature before it is signed.
fn statement(
    key: &impl SigningKey,
    typ: SignatureType,
    hash: HashAlgorithm,
    at: i64,
    more: Vec<SubpacketData>,
) -> Result<SignatureConfig, Error> {
    let mut config = SignatureConfig::v4(typ, key.algorithm(), hash);
    let mut all =
        vec![SubpacketData::SignatureCreationTime(time(at)), SubpacketData::IssuerFingerprint(key.fingerprint())];
    all.extend(more);
    config.hashed_subpackets = all.into_iter().map(Subpacket::regular).collect::<Result<_, _>>()?;
    config.unhashed_subpackets = vec![Subpacket::regular(SubpacketData::IssuerKeyId(key.legacy_key_id()))?];
    Ok(config)
}

impl VendorKey {
    /// Generates a key from a seed.
    ///
    /// # Errors
    /// When no key can have these parameters.
    pub fn new(seed: u64, shape: &KeyShape) -> Result<Self, Error> {
        let mut rng = ChaCha20Rng::seed_from_u64(seed);
        let kind = || shape.rsa.map_or(KeyType::Ed25519Legacy, KeyType::Rsa);
        let subkey = SubkeyParamsBuilder::default()
            .key_type(kind())
            .can_sign(true)
            .created_at(time(shape.made))
            .build()
            .map_err(|e| Error::from(e.to_string()))?;
        let secret = SecretKeyParamsBuilder::default()
            .key_type(kind())
            .can_certify(true)
            .can_sign(false)
            .created_at(time(shape.made))
            .primary_user_id(shape.user.to_owned())
            .subkeys(vec![subkey])
            .build()
            .map_err(|e| Error::from(e.to_string()))?
            .generate(&mut rng)?;
        let public = public_key(&secret, shape)?;
        Ok(Self { secret, public })
    }

    /// The primary key's fingerprint, upper-case hexadecimal.
    #[must_use]
    pub fn fingerprint(&self) -> String {
        self.public.primary_key.fingerprint().to_string().to_ascii_uppercase()
    }

    /// The key as a keyring file, binary.
    ///
    /// # Errors
    /// Never in practice.
    pub fn keyring(&self) -> Result<Vec<u8>, Error> {
        self.public.to_bytes()
    }

    /// The key as armoured text.
    ///
    /// # Errors
    /// Never in practice.
    pub fn armoured(&self) -> Result<String, Error> {
        self.public.to_armored_string(ArmorOptions::default())
    }

    fn signature(&self, typ: SignatureType, hash: HashAlgorithm, at: i64, data: &[u8]) -> Result<Signature, Error> {
        let key = &self.secret.secret_subkeys[0].key;
        statement(key, typ, hash, at, Vec::new())?.sign(key, &Password::empty(), data)
    }
}

fn public_key(secret: &SignedSecretKey, shape: &KeyShape) -> Result<SignedPublicKey, Error> {
    let none = Password::empty();
    let primary = &secret.primary_key;
    let public = primary.public_key();
    let mut flags = KeyFlags::default();
    flags.set_certify(true);
    let mut more = vec![SubpacketData::KeyFlags(flags), SubpacketData::IsPrimary(true)];
    if shape.lasts > 0 {
        more.push(SubpacketData::KeyExpirationTime(duration(shape.lasts)));
    }
    let user = UserId::from_str(PacketHeaderVersion::New, shape.user)?;
    let certificate = statement(primary, SignatureType::CertPositive, shape.hash, shape.made, more)?
        .sign_certification(primary, public, &none, Tag::UserId, &user)?;
    let mut revocations = Vec::new();
    if let Some((at, reason)) = shape.revoked {
        let why = SubpacketData::RevocationReason(reason, b"made for a test".to_vec().into());
        revocations.push(
            statement(primary, SignatureType::KeyRevocation, shape.hash, at, vec![why])?
                .sign_key(primary, &none, public)?,
        );
    }
    let details =
        SignedKeyDetails::new(revocations, Vec::new(), vec![SignedUser::new(user, vec![certificate])], Vec::new());
    let subkey = &secret.secret_subkeys[0].key;
    let mut signatures = vec![binding(secret, shape)?];
    if let Some(at) = shape.subkey_revoked {
        let config = statement(primary, SignatureType::SubkeyRevocation, shape.hash, at, Vec::new())?;
        signatures.push(config.sign_subkey_binding(primary, public, &none, subkey.public_key())?);
    }
    let subkey = SignedPublicSubKey { key: subkey.public_key().clone(), signatures };
    Ok(SignedPublicKey::new(public.clone(), details, vec![subkey]))
}

/// The primary key's binding signature for its subkey, with the subkey's own inside.
fn binding(secret: &SignedSecretKey, shape: &KeyShape) -> Result<Signature, Error> {
    let none = Password::empty();
    let (primary, subkey) = (&secret.primary_key, &secret.secret_subkeys[0].key);
    let [signs, agrees] = shape.subkey_signs;
    let mut flags = KeyFlags::default();
    flags.set_sign(signs);
    let mut more = vec![SubpacketData::KeyFlags(flags)];
    if agrees {
        let back = statement(subkey, SignatureType::KeyBinding, shape.hash, shape.made, Vec::new())?
            .sign_primary_key_binding(subkey, subkey.public_key(), &none, primary.public_key())?;
        more.push(SubpacketData::EmbeddedSignature(Box::new(back)));
    }
    if shape.lasts > 0 {
        more.push(SubpacketData::KeyExpirationTime(duration(shape.lasts)));
    }
    statement(primary, SignatureType::SubkeyBinding, shape.hash, shape.made, more)?.sign_subkey_binding(
        primary,
        primary.public_key(),
        &none,
        subkey.public_key(),
    )
}

fn duration(seconds: u32) -> Duration {
    Duration::from_secs(seconds)
}

/// How something is signed.
#[derive(Debug, Clone, Copy)]
pub struct Signing<'a> {
    /// The keys.
    pub keys: &'a [&'a VendorKey],
    /// The digest.
    pub hash: HashAlgorithm,
    /// The time, in seconds since the epoch.
    pub at: i64,
}

/// Signs a text with the cleartext signature framework.
///
/// # Errors
/// Never in practice.
pub fn sign_clear(text: &str, how: Signing<'_>) -> Result<String, Error> {
    // Trailing spaces of lines and the last line break are not signed.
    let message = CleartextSignedMessage::new_many(text.trim_end_matches('\n'), |signed| {
        how.keys.iter().map(|k| k.signature(SignatureType::Text, how.hash, how.at, signed.as_bytes())).collect()
    })?;
    message.to_armored_string(ArmorOptions::default())
}

/// Signs bytes with a detached, armoured signature.
///
/// # Errors
/// Never in practice.
pub fn sign_detached(bytes: &[u8], how: Signing<'_>) -> Result<Vec<u8>, Error> {
    let mut all = Vec::new();
    for key in how.keys {
        let signature = DetachedSignature::new(key.signature(SignatureType::Binary, how.hash, how.at, bytes)?);
        all.extend(signature.to_bytes()?);
    }
    Ok(all)
}
