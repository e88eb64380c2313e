//! The document of `status`.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{DamagedChange, MachineReport, Outcome, SourceReport};
use crate::machine::MachineTimeZone;
use crate::model::Authority;
use crate::platform::LogKind;

/// The summary of the last check.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct LastCheck {
    /// The time, RFC 3339 in UTC.
    pub at: String,
    /// The outcome.
    pub outcome: Outcome,
    /// The number of problems.
    pub problems: u64,
    /// The number of problems that a repair can answer.
    #[serde(default)]
    pub repairable: u64,
    /// Whether it covered every area, with users' homes and the network.
    #[serde(default)]
    pub everything: bool,
    /// The number of packages by the authority that verified them.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub verified_by: BTreeMap<Authority, u64>,
    /// The number of problems of each package, by its name.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub packages: BTreeMap<String, u64>,
}

/// What `status` prints (`veritum.status/1`).
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct StatusReport {
    /// `veritum.status/1`.
    pub format: String,
    /// The machine.
    pub machine: MachineReport,
    /// The machine's time zone, in which its logs are written.
    pub time_zone: MachineTimeZone,
    /// Whether everything can be read (root, or the owner of a demo machine).
    pub full_rights: bool,
    /// Login users.
    pub users: Vec<String>,
    /// The number of packages by the authority that can verify them.
    pub verified_by: BTreeMap<Authority, u64>,
    /// Whether these are the numbers of the last check, which may have used other references and found other packages.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub verified_at_last_check: bool,
    /// The store, if one is used.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub store: Option<StoreLine>,
    /// The machine's repositories, as far as their lists are available.
    pub sources: Vec<SourceReport>,
    /// Why the store cannot be used.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub store_trouble: Option<String>,
    /// Whether the only reason is that its keys are not trusted yet.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub store_untrusted: bool,
    /// The computer on which Veritum runs: not always the one whose disk is mounted.
    pub computer: ComputerReport,
    /// Bytes free on the file system of the machine's root; `None` where it is unknown.
    pub free_bytes: Option<u64>,
    /// Whether that file system is mounted read-only.
    pub read_only: bool,
    /// Errors that the kernel has counted on the machine's file systems.
    pub disk_errors: u64,
    /// Why a restart of the machine is due; empty if none is.
    pub restart_due: Vec<String>,
    /// What was installed, updated and removed recently, newest first.
    pub recent: Vec<RecentReport>,
    /// Packages whose installation is unfinished.
    pub half_installed: Vec<String>,
    /// Changes that were interrupted.
    pub unfinished_changes: Vec<u64>,
    /// Changes whose logs are damaged.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub damaged_changes: Vec<DamagedChange>,
    /// The number of changes.
    pub changes: u64,
    /// The size of all backups in bytes.
    pub kept_bytes: u64,
    /// The number of savepoints.
    #[serde(default)]
    pub savepoints: u64,
    /// When the latest was made, RFC 3339 in UTC.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub last_savepoint: Option<String>,
    /// Whether apt makes savepoints before it changes packages.
    #[serde(default)]
    pub automatic_savepoints: bool,
    /// The last check of the whole machine.
    pub last_check: Option<LastCheck>,
    /// Whether something was changed or undone since that check.
    pub changed_since_check: bool,
    /// What cannot be examined here, and why.
    pub not_here: Vec<String>,
}

impl StatusReport {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.status/1";
}

/// A computer's hardware, as far as it is known.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ComputerReport {
    /// Maker and model; empty where unknown.
    pub model: String,
    /// The processor's name.
    pub processor: String,
    /// The number of hardware threads.
    pub threads: u64,
    /// Memory in bytes.
    pub memory_bytes: u64,
}

/// One entry of the machine's package log.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct RecentReport {
    /// When, RFC 3339 in UTC: the log's local time, converted by the machine's time zone.
    pub at: String,
    /// What was done.
    pub what: LogKind,
    /// The package.
    pub package: String,
    /// Its architecture, if logged.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub arch: String,
    /// The version before.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// The version after.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<String>,
}

/// A store, in a line.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct StoreLine {
    /// Its location.
    pub location: String,
    /// The number of packages.
    pub packages: u64,
    /// Fingerprints of the trusted keys.
    pub keys: Vec<String>,
    /// When its signatures expire, RFC 3339 in UTC.
    pub expires: String,
    /// The version of its signatures, counted from 1.
    pub signing: u64,
}
