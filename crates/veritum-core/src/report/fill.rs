//! What a filling of a store from a machine's packages comes to.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::DownloadReport;
use crate::model::PackageId;

/// What `store add --installed` would take in, and took in (`veritum.fill/1`).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct FillReport {
    /// `veritum.fill/1`.
    pub format: String,
    /// Whether it was only shown.
    pub plan_only: bool,
    /// Where the store is.
    pub location: String,
    /// Installed packages that the store had already.
    pub known: u64,
    /// Packages to be taken over from other stores.
    pub from_stores: u64,
    /// Packages whose .deb files are available.
    pub available: u64,
    /// Bytes of those packages.
    pub available_bytes: u64,
    /// Packages that are downloaded first.
    pub downloads: Vec<DownloadReport>,
    /// Bytes that the store is going to need, estimated.
    pub room_needed: u64,
    /// Bytes that are free where it is.
    pub room_free: Option<u64>,
    /// Packages that cannot be had, and why.
    pub refused: Vec<RefusedPackage>,
    /// Packages that were taken in.
    pub added: Vec<PackageId>,
    /// What failed on the way, and why.
    pub failed: Vec<(String, String)>,
}

impl FillReport {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.fill/1";
}

/// A package that cannot be had.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct RefusedPackage {
    /// The package.
    pub package: PackageId,
    /// The reason.
    pub why: String,
}
