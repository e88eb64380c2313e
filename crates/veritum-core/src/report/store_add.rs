//! The result of adding packages to a store.

use std::path::Path;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::DownloadReport;
use crate::model::{PackageId, error_chain};
use crate::store::FillSummary;

/// What `store add` would add, and added (`veritum.store-add/1`).
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct StoreAddReport {
    /// `veritum.store-add/1`.
    pub format: String,
    /// Whether it was only shown.
    pub plan_only: bool,
    /// The store's location.
    pub location: String,
    /// Packages that were already in the store.
    pub known: u64,
    /// Packages that other stores provide.
    pub from_stores: u64,
    /// Packages whose .deb files are available.
    pub available: u64,
    /// The size of those .deb files in bytes.
    pub available_bytes: u64,
    /// Packages that are downloaded first.
    pub downloads: Vec<DownloadReport>,
    /// The space that the store will need, in bytes, estimated.
    pub room_needed: u64,
    /// The free space on the store's file system, in bytes; `None` where it is unknown.
    pub room_free: Option<u64>,
    /// Installed packages that are not available, each with the reason.
    pub refused: Vec<RefusedPackage>,
    /// Packages that were added.
    pub added: Vec<PackageId>,
    /// Files that could not be added, each with the reason.
    pub failed: Vec<(String, String)>,
}

impl StoreAddReport {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.store-add/1";

    /// A report about a store to which nothing was added yet.
    #[must_use]
    pub fn new(location: &Path) -> Self {
        Self { format: Self::FORMAT.into(), location: location.display().to_string(), ..Self::default() }
    }

    /// Records what was added and what failed.
    pub fn push(&mut self, summary: FillSummary) {
        self.added.extend(summary.added);
        let failed = |refused: &crate::store::Refused| (refused.path.display().to_string(), error_chain(&refused.why));
        self.failed.extend(summary.refused.iter().map(failed));
    }
}

/// An installed package that is not available.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct RefusedPackage {
    /// The package.
    pub package: PackageId,
    /// The reason.
    pub why: String,
}
