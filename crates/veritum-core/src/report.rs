//! Results as plain versioned data: what `--json` prints. Schemas are generated from these types.
//!
//! A reader that ignores keys it does not know keeps working: keys are added, never given another meaning.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::change::Verb;
use crate::model::{Area, ComponentId, Finding, FindingId, SystemPath, Voucher};
use crate::plan::{DiskDoubt, Left};

/// What a check came to, gravest first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum OutcomeWord {
    /// Something is not as it should be.
    Problems,
    /// Nothing could be examined.
    Unexamined,
    /// Nothing wrong was found, but some of it is vouched for only by the machine itself, or not at all.
    SoundAsKnown,
    /// Everything is as a trusted reference says.
    Sound,
}

impl OutcomeWord {
    /// The word for people and for JSON.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Problems => "problems",
            Self::Unexamined => "unexamined",
            Self::SoundAsKnown => "sound as known",
            Self::Sound => "sound",
        }
    }
}

/// The machine, in a few words.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct MachineReport {
    /// Its root on the host.
    pub target: String,
    /// What it calls its system.
    pub system: String,
    /// Its name.
    pub hostname: String,
    /// Installed components.
    pub components: u64,
    /// Whether it is the running system.
    pub live: bool,
}

/// What came of one area.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct AreaReport {
    /// Which.
    pub area: Area,
    /// What it came to.
    pub outcome: OutcomeWord,
    /// Things examined.
    pub examined: u64,
    /// Bytes read.
    pub bytes: u64,
    /// Seconds it took.
    pub seconds: f64,
    /// Problems found.
    pub problems: u64,
    /// Of them, those that `repair` would put right.
    pub repairable: u64,
    /// Things examined, by who answers for them.
    pub vouched: BTreeMap<Voucher, u64>,
    /// Of those that only the machine answers for: how many could only be seen to exist.
    pub presence_only: u64,
}

/// Something not examined.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct UnexaminedReport {
    /// The area.
    pub area: Area,
    /// Why.
    pub reason: String,
    /// How many things.
    pub count: u64,
    /// One of them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub example: Option<SystemPath>,
}

/// What `check` found (`veritum.check/1`).
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct CheckReport {
    /// `veritum.check/1`.
    pub format: String,
    /// When, RFC 3339 in UTC.
    pub at: String,
    /// The gravest outcome of all areas.
    pub outcome: OutcomeWord,
    /// The machine.
    pub machine: MachineReport,
    /// Where the reference comes from, in a sentence.
    pub reference: String,
    /// The areas.
    pub areas: Vec<AreaReport>,
    /// Problems.
    pub findings: Vec<Finding>,
    /// Notes.
    pub notes: Vec<Finding>,
    /// Notes on things owned by no component beyond those listed.
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
    /// Whether the check was limited to something named.
    pub limited: bool,
}

impl CheckReport {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.check/1";

    /// What this check would have come to after a repair, of which only what was touched was checked again.
    #[must_use]
    pub fn put_right_to(&self, after: &CheckReport) -> Self {
        let mut whole = self.clone();
        let problems = after.problems();
        if let Some(area) = whole.areas.first_mut() {
            area.problems = problems;
        }
        if problems == 0 {
            let weak = whole.areas.iter().any(|a| a.vouched.contains_key(&Voucher::Itself));
            whole.outcome = if weak { OutcomeWord::SoundAsKnown } else { OutcomeWord::Sound };
        }
        whole
    }

    /// How many problems in all.
    #[must_use]
    pub fn problems(&self) -> u64 {
        self.areas.iter().map(|a| a.problems).sum()
    }
}

/// What is done about one place, before and after.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct ActionReport {
    /// The findings it answers.
    pub findings: Vec<FindingId>,
    /// Where, as the machine lists it.
    pub path: SystemPath,
    /// Whose.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub component: Option<ComponentId>,
    /// What is done, in a word: `restore`, `relink`, `set-mode`, `bring-back`, `set-aside`.
    pub action: String,
    /// Things put (a folder counts all that is in it).
    pub things: u64,
    /// Bytes written.
    pub bytes: u64,
    /// `planned`, `done`, or `failed`.
    pub result: String,
    /// Why it failed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
}

/// What one area's part of a repair came to.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct AreaChange {
    /// The area.
    pub area: Area,
    /// The change's number; none when nothing was changed.
    pub change: Option<u64>,
    /// Each action with its result.
    pub actions: Vec<ActionReport>,
    /// How many problems were put right.
    pub put_right: u64,
    /// What remains, and why.
    pub remaining: Vec<Left>,
}

/// What `repair` did (`veritum.repair/1`).
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct RepairReport {
    /// `veritum.repair/1`.
    pub format: String,
    /// Whether anything was to be changed, or only shown.
    pub plan_only: bool,
    /// Areas.
    pub areas: Vec<AreaChange>,
    /// Whether programs or the machine must be restarted.
    pub restart_due: bool,
    /// The check before.
    pub before: CheckReport,
    /// The check after, when something was changed.
    pub after: Option<CheckReport>,
}

impl RepairReport {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.repair/1";
}

/// What `undo` did (`veritum.undo/1`).
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct UndoReport {
    /// `veritum.undo/1`.
    pub format: String,
    /// Whether it was only shown.
    pub plan_only: bool,
    /// One for each change taken back, newest first.
    pub changes: Vec<UndoneChange>,
}

impl UndoReport {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.undo/1";
}

/// One change taken back.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct UndoneChange {
    /// The change that was taken back.
    pub of: u64,
    /// The number of the change that did it; none when nothing was done.
    pub change: Option<u64>,
    /// Each action with its result.
    pub actions: Vec<ActionReport>,
    /// What was not taken back, and why.
    pub refused: Vec<RefusalReport>,
}

/// Something not taken back.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct RefusalReport {
    /// Where.
    pub path: SystemPath,
    /// Whose.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub component: Option<String>,
    /// Why.
    pub why: String,
}

/// What `recover` did (`veritum.recover/1`).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct RecoverReport {
    /// `veritum.recover/1`.
    pub format: String,
    /// Each interrupted change and what became of it: `finished`, `taken-back`, `closed`.
    pub changes: Vec<(u64, String)>,
}

impl RecoverReport {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.recover/1";
}

/// One change in a list.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ChangeLine {
    /// Its number.
    pub change: u64,
    /// What it was for.
    pub verb: Verb,
    /// Which change it takes back.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub of: Option<u64>,
    /// The area.
    pub area: Area,
    /// When it began, RFC 3339 in UTC.
    pub started: String,
    /// `done`, `undone`, `nothing done`, `unfinished` or `unreadable`.
    pub state: String,
    /// Places that it touched.
    pub places: u64,
    /// Bytes that it keeps.
    pub kept_bytes: u64,
    /// Components that it touched.
    pub components: Vec<String>,
    /// What is wrong with its journal.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trouble: Option<String>,
}

/// What `list changes` prints (`veritum.changes/1`).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ChangesReport {
    /// `veritum.changes/1`.
    pub format: String,
    /// The changes, oldest first.
    pub changes: Vec<ChangeLine>,
}

impl ChangesReport {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.changes/1";
}

/// One component in a list.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ComponentLine {
    /// Which.
    pub component: ComponentId,
    /// Who answers for it.
    pub vouched_by: Voucher,
    /// `in-place`, `unconfigured` or `half-way`.
    pub progress: String,
    /// What it is.
    pub summary: String,
}

/// What `list components` prints (`veritum.components/1`).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ComponentsReport {
    /// `veritum.components/1`.
    pub format: String,
    /// The components.
    pub components: Vec<ComponentLine>,
}

impl ComponentsReport {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.components/1";
}

/// The last check, as it is kept.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct LastCheck {
    /// When, RFC 3339 in UTC.
    pub at: String,
    /// What it came to.
    pub outcome: OutcomeWord,
    /// Problems.
    pub problems: u64,
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
    /// Who answers for how many components.
    pub vouched: BTreeMap<Voucher, u64>,
    /// The store, when one is used.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub store: Option<StoreLine>,
    /// Why the store cannot be used.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub store_trouble: Option<String>,
    /// Components whose installation stopped half-way, or whose configure step is not done.
    pub half_installed: Vec<String>,
    /// Changes that were interrupted.
    pub unfinished_changes: Vec<u64>,
    /// How many changes there are.
    pub changes: u64,
    /// Bytes kept for undo.
    pub kept_bytes: u64,
    /// The last check of the whole machine.
    pub last_check: Option<LastCheck>,
    /// Whether something was changed or taken back since then.
    pub changed_since_check: bool,
    /// What cannot be examined here, and why.
    pub not_here: Vec<String>,
}

impl StatusReport {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.status/1";
}

/// A store, in a line.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct StoreLine {
    /// Where it lies.
    pub location: String,
    /// Its components.
    pub components: u64,
    /// Fingerprints of the pinned keys.
    pub keys: Vec<String>,
    /// When its signatures expire, RFC 3339 in UTC.
    pub expires: String,
    /// Which signing this is, counted from 1.
    pub signing: u64,
}

/// One link of a chain of trust, from the thing to the key.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ChainLink {
    /// What.
    pub what: String,
    /// Its name, digest or fingerprint.
    pub name: String,
}

/// Where two contents first differ.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct FirstDifference {
    /// Bytes before it.
    pub offset: u64,
    /// The line that it is in, for text.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub line: Option<u64>,
    /// Up to 16 expected bytes from there, in hexadecimal.
    pub expected: String,
    /// Up to 16 found bytes from there, in hexadecimal.
    pub found: String,
}

/// What `explain` says of a path or finding (`veritum.explain/1`).
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct ExplainReport {
    /// `veritum.explain/1`.
    pub format: String,
    /// The path that was asked for.
    pub path: SystemPath,
    /// The components that own it.
    pub owners: Vec<ComponentId>,
    /// The finding, when something is not as it should be, or a note.
    pub finding: Option<Finding>,
    /// How it should be.
    pub expected: Option<crate::model::State>,
    /// How it is.
    pub found: Option<crate::model::State>,
    /// Where the contents first differ.
    pub differs: Option<FirstDifference>,
    /// Why the reference is believed.
    pub chain: Vec<ChainLink>,
    /// What a repair would leave, and why.
    pub left: Option<Left>,
    /// A sentence when there is nothing to compare with.
    pub remark: Option<String>,
}

impl ExplainReport {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.explain/1";
}

/// What `store` commands print (`veritum.store-report/1`).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct StoreReport {
    /// `veritum.store-report/1`.
    pub format: String,
    /// Where the store lies.
    pub location: String,
    /// What was done: `created`, `filled`, `published`, `trusted`, `shown`.
    pub done: String,
    /// Its components, as far as the command looked.
    pub components: Vec<ComponentId>,
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
