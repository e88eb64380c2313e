//! Documents of what was changed, undone, or recovered.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{CheckReport, OwnReport, ProofReport};
use crate::change::{Recovered, RoundReceipt, Verb};
use crate::model::{
    ActionKind, ActionResult, AreaName, FileKind, FindingId, PackageId, Subject, SystemPath, word_enum,
};
use crate::plan::{Item, ItemKind, Left, Operation, PlannedAction};

/// What is done about one place, before and after.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct ActionReport {
    /// The findings it answers.
    pub findings: Vec<FindingId>,
    /// What it is done to.
    pub subject: Subject,
    /// Where, as the machine lists it, when it is a path.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub path: Option<SystemPath>,
    /// The package.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub package: Option<PackageId>,
    /// What is done.
    pub action: ActionKind,
    /// Things put (a folder counts all that is in it).
    pub things: u64,
    /// Bytes of files that are written, moved or deleted; those in a folder that is moved as one are not counted.
    pub bytes: u64,
    /// What came of it.
    pub result: ActionResult,
    /// Why it failed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
}

impl ActionReport {
    /// An action on a subject, as it is planned.
    #[must_use]
    pub fn on(action: ActionKind, subject: Subject, findings: Vec<FindingId>) -> Self {
        let (result, things) = (ActionResult::Planned, 1);
        Self { findings, subject, path: None, package: None, action, things, bytes: 0, result, why: None }
    }

    /// An action at a place, as it is planned.
    #[must_use]
    pub fn planned(action: &PlannedAction) -> Self {
        let items: &[Item] = if let Operation::Put(items) = &action.operation { items } else { &[] };
        let size = |item: &Item| if let ItemKind::File { size, .. } = item.kind { size } else { 0 };
        Self {
            path: Some(action.listed.clone()),
            package: action.package.clone(),
            things: items.len().max(1) as u64,
            bytes: match (&action.operation, action.before) {
                (Operation::Free | Operation::SetAside, Some(before)) if before.kind == FileKind::File => before.size,
                (Operation::Return { kept, .. }, _) if kept.stat.kind == FileKind::File => kept.stat.size,
                _ => items.iter().map(size).sum(),
            },
            ..Self::on(action.operation.kind(), Subject::path(&action.listed), action.findings.clone())
        }
    }

    /// The actions of a round with their results; `renews` if the files were downloaded again.
    #[must_use]
    pub fn carried_out(receipt: &RoundReceipt, renews: bool) -> Vec<Self> {
        let done = |action: &PlannedAction| {
            let outcome = receipt.outcomes.iter().find(|outcome| outcome.index == action.index);
            let planned = Self::planned(action);
            let kind = if renews && planned.action == ActionKind::Restore { ActionKind::Renew } else { planned.action };
            let planned = Self { action: kind, ..planned };
            planned.settled(outcome.and_then(|outcome| outcome.failed.clone()))
        };
        receipt.actions.iter().map(done).collect()
    }

    /// The same with what came of it: done, unless there is a reason why it failed.
    #[must_use]
    pub fn settled(self, why: Option<String>) -> Self {
        Self { result: ActionResult::from_failure(why.as_deref()), why, ..self }
    }
}

/// What one area's part of a repair came to.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct AreaChange {
    /// The area.
    pub area: AreaName,
    /// The change's number; none when nothing was changed.
    pub change: Option<u64>,
    /// Each action with its result.
    pub actions: Vec<ActionReport>,
    /// How many problems were repaired.
    pub repaired: u64,
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
    /// What still runs on what was replaced.
    #[serde(flatten)]
    pub running: RunningReport,
    /// The check before.
    pub before: CheckReport,
    /// The check after, when something was changed.
    pub after: Option<CheckReport>,
    /// Whether updates come again, when updates were to be repaired.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub proof: Option<ProofReport>,
}

impl RepairReport {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.repair/1";

    /// A repair of which nothing is reported but what it was about.
    #[must_use]
    pub fn new(plan_only: bool, areas: Vec<AreaChange>, before: CheckReport) -> Self {
        let (running, format) = (RunningReport::default(), Self::FORMAT.into());
        Self { format, plan_only, areas, running, before, after: None, proof: None }
    }

    /// What one area's part came to, when there is one.
    #[must_use]
    pub fn area(&self, area: AreaName) -> Option<&AreaChange> {
        self.areas.iter().find(|change| change.area == area)
    }
}

/// What must be started again before a change is of use to it (on a running system).
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct RunningReport {
    /// Whether programs or the machine must be restarted.
    pub restart_due: bool,
    /// Programs that still run on files that were replaced.
    pub programs: Vec<ProgramReport>,
    /// How many running programs could not be looked into.
    pub programs_unseen: u64,
}

/// A service or program that still runs on files that were replaced.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ProgramReport {
    /// The system service, as the service manager calls it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub service: Option<String>,
    /// The program's name.
    pub name: String,
    /// Its numbers.
    pub pids: Vec<u32>,
}

/// What `undo` did (`veritum.undo/1`).
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct UndoReport {
    /// `veritum.undo/1`.
    pub format: String,
    /// Whether it was only shown.
    pub plan_only: bool,
    /// One for each change undone, newest first.
    pub changes: Vec<UndoneChange>,
    /// What still runs on what was undone.
    #[serde(flatten)]
    pub running: RunningReport,
}

impl UndoReport {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.undo/1";

    /// That there is nothing to undo.
    #[must_use]
    pub fn nothing() -> Self {
        Self { format: Self::FORMAT.into(), plan_only: true, changes: Vec::new(), running: RunningReport::default() }
    }
}

/// One change undone.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct UndoneChange {
    /// The change that was undone.
    pub of: u64,
    /// The number of the change that did it; none when nothing was done.
    pub change: Option<u64>,
    /// Each action with its result.
    pub actions: Vec<ActionReport>,
    /// What was not undone, and why.
    pub refused: Vec<RefusalReport>,
    /// Whose home it was about, when it was about one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// The proof that nothing else of the user's own was touched there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub own: Option<OwnReport>,
}

/// Something not undone.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct RefusalReport {
    /// The path.
    pub path: SystemPath,
    /// The package.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub package: Option<String>,
    /// The reason.
    pub why: String,
}

/// What `recover` did (`veritum.recover/1`).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct RecoverReport {
    /// `veritum.recover/1`.
    pub format: String,
    /// Each interrupted change and what became of it.
    pub changes: Vec<(u64, Recovered)>,
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
    /// What it was for; none where its log cannot be read.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub verb: Option<Verb>,
    /// Which change it undoes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub of: Option<u64>,
    /// The area; none where its log cannot be read.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub area: Option<AreaName>,
    /// Whose home it was about, and which application's things there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub home: Option<HomeLine>,
    /// When it began, RFC 3339 in UTC.
    pub started: String,
    /// How it is now.
    pub state: ChangeState,
    /// Places that it touched.
    pub places: u64,
    /// Bytes that it keeps.
    pub kept_bytes: u64,
    /// Packages that it touched.
    pub packages: Vec<String>,
    /// What is wrong with its change log.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trouble: Option<String>,
}

word_enum! {
    /// How a change is now.
    pub enum ChangeState {
        /// What it did is.
        Done = "done",
        /// All of it was undone.
        Undone = "undone",
        /// Part of it was undone.
        PartlyUndone = "undone in part",
        /// It did nothing.
        NothingDone = "nothing done",
        /// It was interrupted.
        Unfinished = "unfinished",
        /// Its log cannot be read.
        Unreadable = "unreadable",
    }
}

/// The home that a change was about.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct HomeLine {
    /// The user.
    pub user: String,
    /// The application's id.
    pub app: String,
}

/// A change whose log is damaged (`veritum.damaged-change/1`): it cannot be undone by Veritum.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct DamagedChange {
    /// `veritum.damaged-change/1`.
    pub format: String,
    /// Its number.
    pub change: u64,
    /// What is wrong with its log.
    pub why: String,
    /// Whether it has ended for certain; if not, nothing is changed until its log is set aside.
    pub ended: bool,
    /// The folder of its log, as this computer reaches it.
    pub folder: String,
    /// What its readable records show of the files that it replaced.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub kept: Vec<KeptFile>,
}

impl DamagedChange {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.damaged-change/1";
}

/// A file that a change replaced, and where it is kept.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct KeptFile {
    /// Its path.
    pub path: SystemPath,
    /// Where it is kept, as this computer reaches it.
    pub kept: String,
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
