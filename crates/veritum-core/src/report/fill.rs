//! What a filling of a store from a machine's components comes to.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::DownloadReport;
use crate::model::ComponentId;

/// What `store fill --installed` would take in, and took in (`veritum.fill/1`).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct FillReport {
    /// `veritum.fill/1`.
    pub format: String,
    /// Whether it was only shown.
    pub plan_only: bool,
    /// Where the store lies.
    pub location: String,
    /// Installed components that the store had already.
    pub known: u64,
    /// Components to be taken over from other stores.
    pub from_stores: u64,
    /// Components whose packages are at hand.
    pub at_hand: u64,
    /// Bytes of those packages.
    pub at_hand_bytes: u64,
    /// Packages that are downloaded first.
    pub downloads: Vec<DownloadReport>,
    /// Bytes that the store is going to need, estimated.
    pub room_needed: u64,
    /// Bytes that are free where it lies.
    pub room_free: Option<u64>,
    /// Components that cannot be had, and why.
    pub refused: Vec<RefusedComponent>,
    /// Components that were taken in.
    pub added: Vec<ComponentId>,
    /// What failed on the way, and why.
    pub failed: Vec<(String, String)>,
}

impl FillReport {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.fill/1";
}

/// A component that cannot be had.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct RefusedComponent {
    /// Which.
    pub component: ComponentId,
    /// Why.
    pub why: String,
}
