//! Results as plain versioned data: the documents of `--json`. Their schemas are generated from these types.
//!
//! Readers that ignore unknown keys keep working: keys are added, and their meaning never changes.

mod apps;
mod change;
mod disks;
mod explain;
mod proof;
mod rescue;
mod reset;
mod returned;
mod savepoints;
mod starts;
mod status;
mod store_add;
mod updates;

pub use apps::{
    AppLine, AppReport, AppSizes, AppState, AppsReport, CardOrigin, CardReport, HomeLeft, HomePart, HomeReport,
    PartReport,
};
pub use change::{
    ActionReport, AreaChange, ChangeLine, ChangeState, ChangesReport, DamagedChange, HomeLine, KeptFile, LineReport,
    ProgramReport, RangeReport, RecoverReport, RefusalReport, RepairReport, RunningReport, UndoReport, UndoneChange,
    VariableReport, WrittenReport,
};
pub use disks::{DiskLine, DisksReport, VolumeAccess, VolumeLine};
pub use explain::{ChainLink, ExplainReport, FirstDifference, to_do};
pub use proof::{ProofOutcome, ProofReport, ProvedPackage, ProvedSource};
pub use rescue::{
    BackHome, Count, DataKind, DeletedItem, IncompleteFile, KindCount, LostItem, MissingFile, RescueBackReport,
    RescueDeletedReport, RescueImageReport, RescueReport, RescueVerifyReport, RescuedHome,
};
pub use reset::{Difference, Fate, HomeReset, OwnReport, ResetPart, ResetReport, RunningApp};
pub use returned::{AccountChanges, Consequences, LostFile, ReturnReport, StayReason, StayingPackage, StayingPlace};
pub use savepoints::{ExcludedPlace, PackageChange, SavepointLine, SavepointReport, SavepointsReport, UnrecordedFile};
pub use starts::{StartWay, StartsReport};
pub use status::{ComputerReport, LastCheck, RecentReport, StatusReport, StoreLine};
pub use store_add::{RefusedPackage, StoreAddReport};
pub use updates::{UpdateKind, UpdateLine, UpdateRun, UpdatesReport};

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::model::{Action, AreaName, Authority, Finding, PackageId, SystemPath, word_enum};
use crate::plan::{DiskDoubt, Left};
use crate::platform::InstallState;

/// The outcome of a check, most serious first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Outcome {
    /// A problem was found.
    Damaged,
    /// Nothing could be examined.
    Unchecked,
    /// No problem was found, but part of it is verified only by the local package database, or not at all.
    OkLimited,
    /// Everything matches a trusted reference.
    Ok,
}

impl Outcome {
    /// The word for people and for JSON.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Damaged => "damaged",
            Self::Unchecked => "unchecked",
            Self::OkLimited => "ok-limited",
            Self::Ok => "ok",
        }
    }
}

/// The machine.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct MachineReport {
    /// Its root on the host.
    pub root: String,
    /// The name of its system.
    pub system: String,
    /// Its host name.
    pub hostname: String,
    /// The number of installed packages, if they were counted.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub packages: u64,
    /// Whether it is the running system.
    pub live: bool,
}

#[allow(clippy::trivially_copy_pass_by_ref, reason = "serde passes a reference")]
fn is_zero(number: &u64) -> bool {
    *number == 0
}

/// The result of one area.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct AreaReport {
    /// The area.
    pub area: AreaName,
    /// The outcome.
    pub outcome: Outcome,
    /// The number of items examined.
    pub examined: u64,
    /// The number of bytes read.
    pub bytes: u64,
    /// The duration in seconds.
    pub seconds: f64,
    /// The number of problems.
    pub problems: u64,
    /// The number of problems that `repair` can answer.
    pub repairable: u64,
    /// The number of items by the authority that verifies them.
    pub verified_by: BTreeMap<Authority, u64>,
    /// The number of items that only the local database verifies and that could only be seen to exist.
    pub presence_only: u64,
    /// How far it went, if it can go further.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub extent: Option<String>,
}

/// What was not examined.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct UnexaminedReport {
    /// The area.
    pub area: AreaName,
    /// The reason.
    pub reason: String,
    /// The number of items.
    pub count: u64,
    /// An example.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub example: Option<SystemPath>,
}

word_enum! {
    /// The state of a repository's suite.
    pub enum SourceState {
        /// It verifies its packages.
        Verified = "verified",
        /// Its signature is not accepted.
        Refused = "refused",
        /// It cannot be used.
        Unusable = "unusable",
        /// None of its files are available.
        Absent = "absent",
    }
}

/// A repository's suite and its state.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct SourceReport {
    /// URL and suite.
    pub source: String,
    /// The state.
    pub standing: SourceState,
    /// Why it is not used, or which of its indexes are not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
    /// What a person can do about it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub action: Option<Action>,
    /// The vendor's key, by fingerprint.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<String>,
    /// The date of the release, RFC 3339 in UTC.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub dated: Option<String>,
    /// Whether it has expired. It still verifies packages installed from it.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub expired: bool,
}

/// A package that a repair would download first.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct DownloadReport {
    /// The package.
    pub package: PackageId,
    /// Its size in bytes.
    pub bytes: u64,
    /// The repository's URL and suite.
    pub from: String,
    /// Why the download failed, if it was tried.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failed: Option<String>,
}

/// Packages whose files were compared with the local package database only: contents, and not of all files.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct UnverifiedReport {
    /// The number of packages.
    pub packages: u64,
    /// The number of them that can be downloaded, by the available lists.
    pub fetchable: u64,
    /// The size of these packages in bytes.
    pub bytes: u64,
}

/// What `check` found (`veritum.check/1`).
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct CheckReport {
    /// `veritum.check/1`.
    pub format: String,
    /// The time, RFC 3339 in UTC.
    pub at: String,
    /// The most serious outcome of all areas.
    pub outcome: Outcome,
    /// The machine.
    pub machine: MachineReport,
    /// The source of the reference, in a sentence.
    pub reference: String,
    /// Installed packages by the authority that verifies them.
    pub packages: BTreeMap<Authority, u64>,
    /// The repositories that were used, and their states.
    pub sources: Vec<SourceReport>,
    /// Packages that a repair would download first.
    pub downloads: Vec<DownloadReport>,
    /// The areas.
    pub areas: Vec<AreaReport>,
    /// Problems.
    pub findings: Vec<Finding>,
    /// Notes.
    pub notes: Vec<Finding>,
    /// The number of notes on unowned files that are not listed.
    pub more_strays: u64,
    /// What was not examined.
    pub unexamined: Vec<UnexaminedReport>,
    /// Changes that were interrupted.
    pub unfinished_changes: Vec<u64>,
    /// Findings that `repair` would not repair, and why.
    pub left: Vec<Left>,
    /// Reasons to doubt the disk.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub doubt: Option<DiskDoubt>,
    /// What could not be verified for lack of packages.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unverified: Option<UnverifiedReport>,
    /// The number of items that are verified less strongly than required.
    #[serde(default, skip_serializing_if = "is_none")]
    pub too_weak: u64,
    /// Why the newest signed versions could not be saved: an older copy would not be noticed the next time.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub not_remembered: Vec<String>,
    /// Whether it was interrupted before everything was examined.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub stopped: bool,
    /// Whether it was limited to a scope.
    pub limited: bool,
    /// Whether users' homes and the network were included (`all`).
    pub everything: bool,
}

fn is_none(count: &u64) -> bool {
    *count == 0
}

impl AreaReport {
    /// Records how many items are verified less strongly than required: then the outcome is `damaged`.
    #[must_use]
    pub fn require(&mut self, least: Authority) -> u64 {
        let weaker = self.verified_by.iter().filter(|(authority, _)| **authority > least).map(|(_, count)| count).sum();
        if weaker > 0 {
            self.outcome = Outcome::Damaged;
        }
        weaker
    }
}

impl CheckReport {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.check/1";

    /// A document without results.
    #[must_use]
    pub fn blank(at: jiff::Timestamp) -> Self {
        Self {
            format: Self::FORMAT.into(),
            at: at.to_string(),
            outcome: Outcome::Unchecked,
            machine: MachineReport::default(),
            reference: String::new(),
            packages: BTreeMap::new(),
            sources: Vec::new(),
            downloads: Vec::new(),
            areas: Vec::new(),
            findings: Vec::new(),
            notes: Vec::new(),
            more_strays: 0,
            unexamined: Vec::new(),
            // Used by `check`; a repair refuses to start during an unfinished change.
            unfinished_changes: Vec::new(),
            left: Vec::new(),
            doubt: None,
            unverified: None,
            too_weak: 0,
            not_remembered: Vec::new(),
            stopped: false,
            limited: false,
            everything: false,
        }
    }

    /// The state of this check after a repair, of which only what was changed was checked again.
    #[must_use]
    pub fn repaired_to(&self, after: &CheckReport) -> Self {
        let mut whole = self.clone();
        let problems = after.problems();
        for area in &mut whole.areas {
            if let Some(now) = after.areas.iter().find(|a| a.area == area.area) {
                (area.problems, area.repairable) = (now.problems, now.repairable);
            }
        }
        whole.findings.clone_from(&after.findings);
        if problems == 0 {
            let weak = whole.areas.iter().any(|a| a.verified_by.contains_key(&Authority::Local));
            whole.outcome = match (whole.too_weak, weak) {
                (1.., _) => Outcome::Damaged,
                (0, true) => Outcome::OkLimited,
                (0, false) => Outcome::Ok,
            };
        }
        whole
    }

    /// The result of an area, if it was examined.
    #[must_use]
    pub fn area(&self, area: AreaName) -> Option<&AreaReport> {
        self.areas.iter().find(|report| report.area == area)
    }

    /// The number of all problems.
    #[must_use]
    pub fn problems(&self) -> u64 {
        self.areas.iter().map(|a| a.problems).sum()
    }
}

/// One package in a list.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct PackageLine {
    /// The package.
    pub package: PackageId,
    /// The authority that verifies it.
    pub verified_by: Authority,
    /// How far its installation got.
    pub progress: InstallState,
    /// Its one-line description.
    pub summary: String,
}

/// What `list packages` prints (`veritum.packages/1`).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct PackagesReport {
    /// `veritum.packages/1`.
    pub format: String,
    /// The packages.
    pub packages: Vec<PackageLine>,
}

impl PackagesReport {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.packages/1";
}

/// What `store create`, `store sign`, `store trust` and `store show` print (`veritum.store-report/1`).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct StoreReport {
    /// `veritum.store-report/1`.
    pub format: String,
    /// The location of the store, or of the keyring file.
    pub location: String,
    /// What was done: `created`, `signed`, `trusted`, `trusted already`, `declined` or `shown`.
    pub done: String,
    /// The packages that were shown.
    pub packages: Vec<PackageId>,
    /// Fingerprints of its keys.
    pub keys: Vec<String>,
}

impl StoreReport {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.store-report/1";
}
