//! Results as plain versioned data: what `--json` prints. Schemas are generated from these types.
//!
//! A reader that ignores keys it does not know keeps working: keys are added, never given another meaning.

mod apps;
mod change;
mod explain;
mod fill;
mod proof;
mod reset;
mod status;
mod updates;

pub use apps::{
    AppLine, AppReport, AppSizes, AppState, AppsReport, CardOrigin, CardReport, HomeLeft, HomePart, HomeReport,
    PartReport,
};
pub use change::{
    ActionReport, AreaChange, ChangeLine, ChangeState, ChangesReport, DamagedChange, HomeLine, KeptFile, ProgramReport,
    RecoverReport, RefusalReport, RepairReport, RunningReport, UndoReport, UndoneChange,
};
pub use explain::{ChainLink, ExplainReport, FirstDifference, to_do};
pub use fill::{FillReport, RefusedPackage};
pub use proof::{ProofOutcome, ProofReport, ProvedPackage, ProvedSource};
pub use reset::{Difference, Fate, HomeReset, OwnReport, ResetPart, ResetReport, RunningApp};
pub use status::{ComputerReport, LastCheck, RecentReport, StatusReport, StoreLine};
pub use updates::{UpdateKind, UpdateLine, UpdateRun, UpdatesReport};

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::model::{Action, AreaName, Authority, Finding, PackageId, SystemPath, word_enum};
use crate::plan::{DiskDoubt, Left};
use crate::platform::InstallState;

/// What a check came to, gravest first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Outcome {
    /// Something is not as it should be.
    Damaged,
    /// Nothing could be examined.
    Unchecked,
    /// Nothing wrong was found, but some of it is verified only by the machine itself, or not at all.
    OkLimited,
    /// Everything is as a trusted reference says.
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

/// The machine, in a few words.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct MachineReport {
    /// Its root on the host.
    pub root: String,
    /// What it calls its system.
    pub system: String,
    /// Its name.
    pub hostname: String,
    /// Installed packages.
    pub packages: u64,
    /// Whether it is the running system.
    pub live: bool,
}

/// What came of one area.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct AreaReport {
    /// The area.
    pub area: AreaName,
    /// What it came to.
    pub outcome: Outcome,
    /// Things examined.
    pub examined: u64,
    /// Bytes read.
    pub bytes: u64,
    /// Seconds it took.
    pub seconds: f64,
    /// Problems found.
    pub problems: u64,
    /// Of them, those that `repair` would repaired.
    pub repairable: u64,
    /// Things examined, by who answers for them.
    pub verified_by: BTreeMap<Authority, u64>,
    /// Of those that only the machine answers for: how many could only be seen to exist.
    pub presence_only: u64,
    /// How far it went, where it can go further.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub extent: Option<String>,
}

/// Something not examined.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct UnexaminedReport {
    /// The area.
    pub area: AreaName,
    /// The reason.
    pub reason: String,
    /// How many things.
    pub count: u64,
    /// One of them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub example: Option<SystemPath>,
}

word_enum! {
    /// How a repository's suite is.
    pub enum SourceState {
        /// It verifies its packages.
        Verified = "verified",
        /// It is signed, and the signature does not count.
        Refused = "refused",
        /// It cannot be used.
        Unusable = "unusable",
        /// Nothing of it is available.
        Absent = "absent",
    }
}

/// Where a repository's suite is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct SourceReport {
    /// URL and suite.
    pub source: String,
    /// How it is.
    pub standing: SourceState,
    /// Why it does not count, or which of its indexes do not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
    /// What a person can do about that.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub action: Option<Action>,
    /// The vendor's key, by fingerprint.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<String>,
    /// When the release was made, RFC 3339 in UTC.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub dated: Option<String>,
    /// Whether it no longer counts as new. It still verifies what was installed from it.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub expired: bool,
}

/// A package that a repair would download first.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct DownloadReport {
    /// The package.
    pub package: PackageId,
    /// Bytes.
    pub bytes: u64,
    /// The repository's URL and suite.
    pub from: String,
    /// Why it could not be got, when that was tried.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failed: Option<String>,
}

/// Packages whose files were compared with the machine's own database only: contents, and of many files not even those.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct UnverifiedReport {
    /// How many.
    pub packages: u64,
    /// The packages of how many of them can be downloaded, as far as the lists available show.
    pub fetchable: u64,
    /// Bytes of these packages.
    pub bytes: u64,
}

/// What `check` found (`veritum.check/1`).
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct CheckReport {
    /// `veritum.check/1`.
    pub format: String,
    /// When, RFC 3339 in UTC.
    pub at: String,
    /// The gravest outcome of all areas.
    pub outcome: Outcome,
    /// The machine.
    pub machine: MachineReport,
    /// Where the reference comes from, in a sentence.
    pub reference: String,
    /// Installed packages, by who answers for them.
    pub packages: BTreeMap<Authority, u64>,
    /// The repositories that were asked, and where they are.
    pub sources: Vec<SourceReport>,
    /// Packages that a repair would download first.
    pub downloads: Vec<DownloadReport>,
    /// The areas.
    pub areas: Vec<AreaReport>,
    /// Problems.
    pub findings: Vec<Finding>,
    /// Notes.
    pub notes: Vec<Finding>,
    /// Notes on things owned by no package beyond those listed.
    pub more_strays: u64,
    /// What was not examined.
    pub unexamined: Vec<UnexaminedReport>,
    /// Changes that were interrupted.
    pub unfinished_changes: Vec<u64>,
    /// Findings that `repair` would leave, and why.
    pub left: Vec<Left>,
    /// Reasons to doubt the disk.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub doubt: Option<DiskDoubt>,
    /// What could not be verified for want of packages.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unverified: Option<UnverifiedReport>,
    /// Things that are verified more weakly than was required.
    #[serde(default, skip_serializing_if = "is_none")]
    pub too_weak: u64,
    /// Why the newest signed versions seen could not be remembered: an older copy would not be noticed the next time.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub not_remembered: Vec<String>,
    /// Whether a person interrupted the run before everything was examined.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub stopped: bool,
    /// Whether the check was limited to something named.
    pub limited: bool,
    /// Whether users' homes and the network were included (`all`).
    pub everything: bool,
}

fn is_none(count: &u64) -> bool {
    *count == 0
}

impl AreaReport {
    /// Counts things that are verified more weakly than is required as a problem of the whole; how many there are.
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

    /// A document in which nothing is reported yet.
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
            // Reported by `check`; a repair has refused to begin while there was one.
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

    /// What this check would have come to after a repair, of which only what was touched was checked again.
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

    /// What came of one area, when it was examined.
    #[must_use]
    pub fn area(&self, area: AreaName) -> Option<&AreaReport> {
        self.areas.iter().find(|report| report.area == area)
    }

    /// How many problems in all.
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
    /// Who answers for it.
    pub verified_by: Authority,
    /// How far its installation got.
    pub progress: InstallState,
    /// What it is.
    pub summary: String,
}

/// What `list components` prints (`veritum..deb files/1`).
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

/// What `store` commands print (`veritum.store-report/1`).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct StoreReport {
    /// `veritum.store-report/1`.
    pub format: String,
    /// Where the store is.
    pub location: String,
    /// What was done: `created`, `filled`, `published`, `trusted`, `shown`.
    pub done: String,
    /// Its packages, as far as the command looked.
    pub packages: Vec<PackageId>,
    /// Packages that were known already.
    pub known: u64,
    /// Packages that were not taken, and why.
    pub refused: Vec<(String, String)>,
    /// Fingerprints of its keys.
    pub keys: Vec<String>,
}

impl StoreReport {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.store-report/1";
}
