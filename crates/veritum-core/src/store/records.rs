//! What the package database should hold for a component, so that its records can be put right later.

use serde::{Deserialize, Serialize};

use crate::model::{Digest, SystemPath};

/// Where a component's [`Records`] lie among the store's objects.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct RecordsRef {
    /// BLAKE3 of the records' JSON.
    pub blake3: Digest,
    /// Its size in bytes.
    pub size: u64,
}

/// One further member of a package's control part, kept as an object of the store.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct RecordMember {
    /// Its name: `postinst`, `triggers`, `shlibs`, …
    pub name: String,
    /// BLAKE3 of its content.
    pub blake3: Digest,
    /// Its size in bytes.
    pub size: u64,
}

/// What the package database should hold for a component.
///
/// The list of paths is not repeated: it is the manifest's entries in their order, after `/.`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Records {
    /// `veritum.records/1`.
    pub format: String,
    /// The control file as it is.
    pub control: String,
    /// The settings files, in the package's order.
    pub conffiles: Vec<SystemPath>,
    /// The `md5sums` member as text, when the package has one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub md5sums: Option<String>,
    /// All other members: maintainer scripts, triggers, templates.
    pub members: Vec<RecordMember>,
}

impl Records {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.records/1";
}
