//! What `status` reports a machine.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{DamagedChange, MachineReport, Outcome, SourceReport};
use crate::model::Authority;
use crate::platform::LogKind;

/// The last check, as it is kept.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct LastCheck {
    /// When, RFC 3339 in UTC.
    pub at: String,
    /// What it came to.
    pub outcome: Outcome,
    /// Problems.
    pub problems: u64,
    /// Of them, how many a repair can answer.
    #[serde(default)]
    pub repairable: u64,
    /// Whether it covered every area, with users' homes and the network.
    #[serde(default)]
    pub everything: bool,
    /// Of them, how many each package has, by its name.
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
    /// Whether everything can be read (root, or the owner of a demo machine).
    pub full_rights: bool,
    /// People who log in.
    pub users: Vec<String>,
    /// Who answers for how many packages.
    pub verified_by: BTreeMap<Authority, u64>,
    /// The store, when one is used.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub store: Option<StoreLine>,
    /// The repositories that the machine gets packages from, as far as their lists are available.
    pub sources: Vec<SourceReport>,
    /// Why the store cannot be used.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub store_trouble: Option<String>,
    /// Whether the only reason is that its keys are not trusted yet.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub store_untrusted: bool,
    /// The computer that this runs on: not always the one whose disk is mounted.
    pub computer: ComputerReport,
    /// Bytes free on the file system of the machine's root; none where it does not say.
    pub free_bytes: Option<u64>,
    /// Whether that file system is mounted read-only.
    pub read_only: bool,
    /// Errors that the kernel has counted on the machine's file systems.
    pub disk_errors: u64,
    /// Why a restart of the machine is due; empty when none is.
    pub restart_due: Vec<String>,
    /// What was installed, updated and removed recently, newest first.
    pub recent: Vec<RecentReport>,
    /// Packages whose installation stopped half-way, or whose configure step is not done.
    pub half_installed: Vec<String>,
    /// Changes that were interrupted.
    pub unfinished_changes: Vec<u64>,
    /// Changes whose logs are damaged.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub damaged_changes: Vec<DamagedChange>,
    /// How many changes there are.
    pub changes: u64,
    /// Bytes kept for undo.
    pub kept_bytes: u64,
    /// The last check of the whole machine.
    pub last_check: Option<LastCheck>,
    /// Whether something was changed or undone since then.
    pub changed_since_check: bool,
    /// What cannot be examined here, and why.
    pub not_here: Vec<String>,
}

impl StatusReport {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.status/1";
}

/// A computer's hardware, as far as it says.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ComputerReport {
    /// Maker and model; empty where it does not say.
    pub model: String,
    /// The processor's name.
    pub processor: String,
    /// Its hardware threads.
    pub threads: u64,
    /// Memory in bytes.
    pub memory_bytes: u64,
}

/// Something that was done to a package, as the machine's own log says it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct RecentReport {
    /// When, in the machine's own time, without a zone.
    pub at: String,
    /// The subject.
    pub what: LogKind,
    /// The package.
    pub package: String,
    /// Its architecture, where the log says it.
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
    /// Where it is.
    pub location: String,
    /// Its packages.
    pub packages: u64,
    /// Fingerprints of the trusted keys.
    pub keys: Vec<String>,
    /// When its signatures expire, RFC 3339 in UTC.
    pub expires: String,
    /// Which signing this is, counted from 1.
    pub signing: u64,
}
