//! The signed index of a store (`veritum.index/1`): which package has which manifest.

use serde::{Deserialize, Serialize};

use crate::model::{Digest, PackageId};

/// Which .deb file a package was taken from.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, schemars::JsonSchema)]
pub struct DebRef {
    /// SHA-256 of the `.deb` file, as signed repositories name it.
    pub sha256: String,
    /// Its size in bytes.
    pub size: u64,
}

/// One package of an index; also what waits in `filled/` for the next signing.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, schemars::JsonSchema)]
pub struct IndexEntry {
    /// Which package.
    pub package: PackageId,
    /// BLAKE3 of the manifest's plain bytes.
    pub manifest: Digest,
    /// Their number.
    pub manifest_size: u64,
    /// How many entries the manifest has.
    pub entries: u64,
    /// How many bytes its contents have, unpacked.
    pub bytes: u64,
    /// Where it came from.
    pub deb: DebRef,
    /// Whether the store keeps none of its contents: then it verifies them and gives nothing back.
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
