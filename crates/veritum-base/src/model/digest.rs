//! Digests of contents: BLAKE3 for verification, MD5 only for comparison with the local package database.

use std::fmt;

use md5::Digest as _;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

/// A BLAKE3 digest of uncompressed content; written as 64 hexadecimal digits, as `b3sum` prints it.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Digest([u8; 32]);

/// An MD5 digest as dpkg records it. For comparison with the local package database only, never a reason for trust.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub struct Md5([u8; 16]);

/// Why a text is not a digest.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("expected {expected} hexadecimal digits")]
pub struct DigestError {
    expected: usize,
}

/// The value of each hexadecimal digit; 0xff for other bytes. A large manifest has a hundred thousand digests: a table is
/// three times as fast as comparisons.
const NIBBLES: [u8; 256] = {
    let mut table = [0xff; 256];
    let mut at = 0u8;
    while at < 16 {
        let digit = b"0123456789abcdef"[at as usize];
        table[digit as usize] = at;
        table[digit.to_ascii_uppercase() as usize] = at;
        at += 1;
    }
    table
};

impl Digest {
    /// The digest of these bytes.
    #[must_use]
    pub fn hash(bytes: &[u8]) -> Self {
        Self(*blake3::hash(bytes).as_bytes())
    }

    /// Reads 64 hexadecimal digits.
    ///
    /// # Errors
    /// When the text is anything else.
    pub fn from_hex(text: &str) -> Result<Self, DigestError> {
        let digits: &[u8; 64] = text.as_bytes().try_into().map_err(|_| DigestError { expected: 64 })?;
        let mut bytes = [0; 32];
        let mut none = 0;
        for (byte, pair) in bytes.iter_mut().zip(digits.chunks_exact(2)) {
            let (high, low) = (NIBBLES[usize::from(pair[0])], NIBBLES[usize::from(pair[1])]);
            none |= high | low;
            *byte = high << 4 | low & 0x0f;
        }
        // A valid digit's value has an empty upper half; any other byte's does not.
        if none & 0xf0 == 0 { Ok(Self(bytes)) } else { Err(DigestError { expected: 64 }) }
    }

    /// The 64 hexadecimal digits, in lower case.
    #[must_use]
    pub fn to_hex(&self) -> String {
        hex::encode(self.0)
    }

    /// The raw bytes.
    #[must_use]
    pub fn as_bytes(&self) -> &[u8; 32] {
        &self.0
    }

    /// A digest from its raw bytes.
    #[must_use]
    pub fn from_bytes(bytes: [u8; 32]) -> Self {
        Self(bytes)
    }
}

impl Md5 {
    /// The 32 hexadecimal digits.
    #[must_use]
    pub fn to_hex(&self) -> String {
        hex::encode(self.0)
    }

    /// The digest of these bytes.
    #[must_use]
    pub fn hash(bytes: &[u8]) -> Self {
        Self(md5::Md5::digest(bytes).into())
    }

    /// Reads 32 hexadecimal digits.
    ///
    /// # Errors
    /// When the text is anything else.
    pub fn from_hex(text: &[u8]) -> Result<Self, DigestError> {
        let mut bytes = [0; 16];
        hex::decode_to_slice(text, &mut bytes).map_err(|_| DigestError { expected: 32 })?;
        Ok(Self(bytes))
    }

    /// The raw bytes.
    #[must_use]
    pub fn as_bytes(&self) -> &[u8; 16] {
        &self.0
    }

    /// A digest from its raw bytes.
    #[must_use]
    pub fn from_bytes(bytes: [u8; 16]) -> Self {
        Self(bytes)
    }
}

/// Digests content while it is read: one or both kinds in one pass.
#[derive(Default)]
pub struct ContentHasher {
    blake3: Option<Box<blake3::Hasher>>,
    md5: Option<md5::Md5>,
}

impl ContentHasher {
    /// A hasher for BLAKE3.
    #[must_use]
    pub fn blake3() -> Self {
        Self { blake3: Some(Box::default()), md5: None }
    }

    /// A hasher for MD5.
    #[must_use]
    pub fn md5() -> Self {
        Self { blake3: None, md5: Some(md5::Md5::new()) }
    }

    /// Adds the next bytes.
    pub fn update(&mut self, bytes: &[u8]) {
        if let Some(hasher) = &mut self.blake3 {
            hasher.update(bytes);
        }
        if let Some(hasher) = &mut self.md5 {
            hasher.update(bytes);
        }
    }

    /// The digests of all bytes added.
    #[must_use]
    pub fn finish(self) -> (Option<Digest>, Option<Md5>) {
        (self.blake3.map(|h| Digest(*h.finalize().as_bytes())), self.md5.map(|h| Md5(h.finalize().into())))
    }
}

impl fmt::Debug for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.to_hex())
    }
}

impl fmt::Debug for Md5 {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&hex::encode(self.0))
    }
}

impl fmt::Display for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.to_hex())
    }
}

impl Serialize for Digest {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let mut text = [0; 64];
        hex::encode_to_slice(self.0, &mut text).map_err(serde::ser::Error::custom)?;
        to.serialize_str(std::str::from_utf8(&text).map_err(serde::ser::Error::custom)?)
    }
}

impl<'de> Deserialize<'de> for Digest {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        /// Parses in place: a `String` for each of a hundred thousand digests would cost more than the digests.
        struct Reads;
        impl serde::de::Visitor<'_> for Reads {
            type Value = Digest;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("64 hexadecimal digits")
            }

            fn visit_str<E: serde::de::Error>(self, text: &str) -> Result<Digest, E> {
                Digest::from_hex(text).map_err(E::custom)
            }
        }
        from.deserialize_str(Reads)
    }
}

impl schemars::JsonSchema for Digest {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "Digest".into()
    }
    fn json_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
        schemars::json_schema!({"type": "string", "pattern": "^[0-9a-f]{64}$", "description": "BLAKE3 of the uncompressed content."})
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_published_test_vectors_hold() {
        assert_eq!(Digest::hash(b"").to_hex(), "af1349b9f5f9a1a6a0404dea36dcc9499bcb25c9adc112b7cc9a93cae41f3262");
        assert_eq!(Md5::hash(b"abc"), Md5::from_hex(b"900150983cd24fb0d6963f7d28e17f72").unwrap());
    }

    #[test]
    fn a_hasher_fed_in_pieces_agrees_with_one_call() {
        let mut hasher = ContentHasher::blake3();
        hasher.update(b"ferry ");
        hasher.update(b"timetable");
        assert_eq!(hasher.finish(), (Some(Digest::hash(b"ferry timetable")), None));
    }

    proptest::proptest! {
        #[test]
        fn a_digest_is_restored_from_its_digits_and_one_foreign_sign_is_none(bytes: Vec<u8>, at in 0usize..64, sign: char) {
            let digest = Digest::hash(&bytes);
            proptest::prop_assert_eq!(Digest::from_hex(&digest.to_hex()), Ok(digest));
            let mut text: Vec<char> = digest.to_hex().chars().collect();
            text[at] = sign;
            let text: String = text.into_iter().collect();
            proptest::prop_assert_eq!(Digest::from_hex(&text).is_ok(), sign.is_ascii_hexdigit());
        }
    }

    #[test]
    fn short_or_foreign_text_is_no_digest() {
        assert!(Digest::from_hex("af13").is_err());
        assert!(Digest::from_hex(&"g".repeat(64)).is_err());
        assert_eq!(Digest::from_hex(&Digest::hash(b"a").to_hex().to_uppercase()), Ok(Digest::hash(b"a")));
        assert!(Md5::from_hex(b"").is_err());
    }
}
