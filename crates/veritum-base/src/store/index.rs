//! The signed index of a store (`veritum.index/1`): the manifest of each package.

use serde::{Deserialize, Serialize};

use crate::model::{Digest, PackageId};

/// The .deb file from which a package was added.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, schemars::JsonSchema)]
pub struct DebRef {
    /// SHA-256 of the `.deb` file, as in signed repositories.
    pub sha256: String,
    /// Its size in bytes.
    pub size: u64,
}

/// One package of an index; also the record of an added package in `filled/`.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, schemars::JsonSchema)]
pub struct IndexEntry {
    /// The package.
    pub package: PackageId,
    /// BLAKE3 of the uncompressed manifest.
    pub manifest: Digest,
    /// Its size in bytes.
    pub manifest_size: u64,
    /// The number of the manifest's entries.
    pub entries: u64,
    /// The uncompressed size of its contents in bytes.
    pub bytes: u64,
    /// Its source.
    pub deb: DebRef,
    /// Whether the store has none of its contents: then it can verify files but not restore them.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub manifest_only: bool,
}

/// The signed index.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Index {
    /// `veritum.index/1`.
    pub format: String,
    /// The packages, in order.
    pub packages: Vec<IndexEntry>,
}

impl Index {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.index/1";
}
