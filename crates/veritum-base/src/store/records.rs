//! The expected entries of the package database for a package, so that its records can be repaired later.

use serde::{Deserialize, Serialize};

use crate::formats::deb::Deb;
use crate::model::{Digest, SystemPath, from_readable, readable};

/// The location of a package's [`Records`] among the store's objects.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct RecordsRef {
    /// BLAKE3 of the records' JSON.
    pub blake3: Digest,
    /// Its size in bytes.
    pub size: u64,
}

/// One further member of a package's control part, an object of the store.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct RecordMember {
    /// Its name: `postinst`, `triggers`, `shlibs`, …
    pub name: String,
    /// BLAKE3 of its content.
    pub blake3: Digest,
    /// Its size in bytes.
    pub size: u64,
}

/// The expected entries of the package database for a package.
///
/// The list of paths is not repeated: it is the manifest's entries in order, after `/.`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Records {
    /// `veritum.records/1`.
    pub format: String,
    /// The control file, unchanged.
    pub control: String,
    /// The configuration files, in the package's order.
    pub conffiles: Vec<SystemPath>,
    /// The `md5sums` member as text, if the package has one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub md5sums: Option<String>,
    /// All other members: maintainer scripts, triggers, templates.
    pub members: Vec<RecordMember>,
}

impl Records {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.records/1";

    /// The records of a package's control part.
    #[must_use]
    pub fn for_deb(deb: &Deb) -> Self {
        let line = |path: &SystemPath| [path.as_bytes(), b"\n"].concat();
        let plain: Vec<u8> = deb.settings.iter().flat_map(line).collect();
        // Other lines of `conffiles` than paths cannot be derived from the list of paths.
        let follows = |name: &str, content: &[u8]| name == "md5sums" || name == "conffiles" && content == plain;
        let others = deb.members.iter().filter(|(name, content)| !follows(name, content));
        let member = |(name, content): (&String, &Vec<u8>)| RecordMember {
            name: name.clone(),
            blake3: Digest::hash(content),
            size: content.len() as u64,
        };
        Self {
            format: Self::FORMAT.into(),
            control: deb.control.clone(),
            conffiles: deb.settings.clone(),
            md5sums: deb.members.get("md5sums").map(|b| readable(b)),
            members: others.map(member).collect(),
        }
    }

    /// Parses records.
    ///
    /// # Errors
    /// When they have another format, or are malformed.
    pub fn decode(bytes: &[u8]) -> Result<Self, serde_json::Error> {
        let records: Self = serde_json::from_slice(bytes)?;
        match records.format == Self::FORMAT {
            true => Ok(records),
            false => Err(serde::de::Error::custom("unsupported format")),
        }
    }

    /// The `md5sums` member byte by byte.
    #[must_use]
    pub fn md5sums_bytes(&self) -> Option<Vec<u8>> {
        self.md5sums.as_deref().and_then(from_readable)
    }

    /// The `conffiles` member, one path per line; empty when there are none.
    #[must_use]
    pub fn conffiles_bytes(&self) -> Option<Vec<u8>> {
        let line = |path: &SystemPath| [path.as_bytes(), b"\n"].concat();
        (!self.conffiles.is_empty()).then(|| self.conffiles.iter().flat_map(line).collect())
    }
}
