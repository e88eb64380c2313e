//! The documents of repair, undo and recovery.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{CheckReport, OwnReport, ProofReport};
use crate::change::{RecoveredChange, RoundReceipt, Verb};
use crate::model::{
    ActionKind, ActionResult, AreaName, FileKind, FindingId, PackageId, Subject, SystemPath, word_enum,
};
use crate::plan::{Item, ItemKind, Left, Operation, PlannedAction, VariableChange};

/// What is written to a disk, or into lines of a file.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
pub struct WrittenReport {
    /// Where it comes from, in words.
    pub source: String,
    /// The bytes of disks that are written.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub ranges: Vec<RangeReport>,
    /// The lines of files that are changed.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub lines: Vec<LineReport>,
    /// The variables of the firmware that are written.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub variables: Vec<VariableReport>,
}

/// A variable of the firmware, as it is and as it becomes, in words.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct VariableReport {
    /// Its name.
    pub name: String,
    /// What it is.
    pub from: String,
    /// What it becomes.
    pub to: String,
}

impl VariableReport {
    /// Of a change.
    #[must_use]
    pub fn of(change: &VariableChange) -> Self {
        Self { name: change.name.clone(), from: change.before_words(), to: change.after_words() }
    }
}

/// Bytes of a disk.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct RangeReport {
    /// The disk.
    pub disk: String,
    /// The first byte.
    pub from: u64,
    /// The first byte behind them.
    pub to: u64,
}

/// A line of a file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct LineReport {
    /// The file.
    pub path: SystemPath,
    /// The line, from 1.
    pub line: u64,
    /// The line as it is.
    pub from: String,
    /// The line as it becomes.
    pub to: String,
}

/// One action, before and after.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct ActionReport {
    /// The findings it answers.
    pub findings: Vec<FindingId>,
    /// Its subject.
    pub subject: Subject,
    /// The path, as the machine lists it, if the subject has one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub path: Option<SystemPath>,
    /// The package.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub package: Option<PackageId>,
    /// The action.
    pub action: ActionKind,
    /// The number of entries (a folder that is created counts with all its entries; one that is moved counts as one).
    pub things: u64,
    /// Whether it is a folder that is moved with everything in it.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub folder: bool,
    /// Bytes of files that are written, moved or deleted; those in a folder that is moved as one are not counted.
    pub bytes: u64,
    /// What is written to a disk, or into lines of a file, exactly.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub written: Option<WrittenReport>,
    /// The result.
    pub result: ActionResult,
    /// Why it failed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
}

impl ActionReport {
    /// A planned action on a subject.
    #[must_use]
    pub fn on(action: ActionKind, subject: Subject, findings: Vec<FindingId>) -> Self {
        let (result, things) = (ActionResult::Planned, 1);
        let (path, package, folder, bytes, written, why) = (None, None, false, 0, None, None);
        Self { findings, subject, path, package, action, things, folder, bytes, written, result, why }
    }

    /// A planned action at a place.
    #[must_use]
    pub fn planned(action: &PlannedAction) -> Self {
        let items: &[Item] = if let Operation::Put(items) = &action.operation { items } else { &[] };
        let size = |item: &Item| if let ItemKind::File { size, .. } = item.kind { size } else { 0 };
        Self {
            path: Some(action.listed.clone()),
            package: action.package.clone(),
            things: items.len().max(1) as u64,
            folder: match (&action.operation, action.before) {
                (Operation::Free | Operation::SetAside, Some(before)) => before.kind == FileKind::Folder,
                (Operation::Return { kept, .. }, _) => kept.stat.kind == FileKind::Folder,
                _ => false,
            },
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

    /// The same with its result: done, unless there is a reason why it failed.
    #[must_use]
    pub fn settled(self, why: Option<String>) -> Self {
        Self { result: ActionResult::from_failure(why.as_deref()), why, ..self }
    }
}

/// The part of a repair in one area.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct AreaChange {
    /// The area.
    pub area: AreaName,
    /// The change's number; none when nothing was changed.
    pub change: Option<u64>,
    /// Each action with its result.
    pub actions: Vec<ActionReport>,
    /// The number of problems repaired.
    pub repaired: u64,
    /// What is not repaired, and why.
    pub remaining: Vec<Left>,
}

/// What `repair` did (`veritum.repair/1`).
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct RepairReport {
    /// `veritum.repair/1`.
    pub format: String,
    /// Whether it was only shown.
    pub plan_only: bool,
    /// The areas.
    pub areas: Vec<AreaChange>,
    /// Programs that still use replaced files.
    #[serde(flatten)]
    pub running: RunningReport,
    /// The check before.
    pub before: CheckReport,
    /// The check after, if something was changed.
    pub after: Option<CheckReport>,
    /// The test whether updates work, if updates were to be repaired.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub proof: Option<ProofReport>,
}

impl RepairReport {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.repair/1";

    /// A repair without results.
    #[must_use]
    pub fn new(plan_only: bool, areas: Vec<AreaChange>, before: CheckReport) -> Self {
        let (running, format) = (RunningReport::default(), Self::FORMAT.into());
        Self { format, plan_only, areas, running, before, after: None, proof: None }
    }

    /// The part in one area, if there is one.
    #[must_use]
    pub fn area(&self, area: AreaName) -> Option<&AreaChange> {
        self.areas.iter().find(|change| change.area == area)
    }
}

/// What must be restarted before a change takes effect (on a running system).
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct RunningReport {
    /// Whether programs or the machine must be restarted.
    pub restart_due: bool,
    /// Programs that still use replaced files.
    pub programs: Vec<ProgramReport>,
    /// The number of running programs that could not be examined.
    pub programs_unseen: u64,
}

/// A service or program that still uses replaced files.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ProgramReport {
    /// The service manager's name of its service.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub service: Option<String>,
    /// The program's name.
    pub name: String,
    /// Its process ids.
    pub pids: Vec<u32>,
}

/// What `undo` did (`veritum.undo/1`).
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct UndoReport {
    /// `veritum.undo/1`.
    pub format: String,
    /// Whether it was only shown.
    pub plan_only: bool,
    /// The undone changes, newest first.
    pub changes: Vec<UndoneChange>,
    /// Programs that still use the files that the undo replaced.
    #[serde(flatten)]
    pub running: RunningReport,
}

impl UndoReport {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.undo/1";

    /// A report that there is nothing to undo.
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
    /// The number of the change that undid it; `None` when nothing was done.
    pub change: Option<u64>,
    /// Each action with its result.
    pub actions: Vec<ActionReport>,
    /// What was not undone, and why.
    pub refused: Vec<RefusalReport>,
    /// The user whose home it concerned, if any.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// The comparison of the user data before and after.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub own: Option<OwnReport>,
}

/// What was not undone.
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
    /// Each interrupted change with its result.
    pub changes: Vec<RecoveredChange>,
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
    /// Its purpose; `None` where its log cannot be read.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub verb: Option<Verb>,
    /// The change that it undoes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub of: Option<u64>,
    /// The savepoint that it returned to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub savepoint: Option<u64>,
    /// The area; none where its log cannot be read.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub area: Option<AreaName>,
    /// The home and application that it concerns, if any.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub home: Option<HomeLine>,
    /// When it began, RFC 3339 in UTC.
    pub started: String,
    /// Its state.
    pub state: ChangeState,
    /// The number of places that it touched.
    pub places: u64,
    /// The size of its backups in bytes.
    pub kept_bytes: u64,
    /// The packages that it touched.
    pub packages: Vec<String>,
    /// The error in its change log.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trouble: Option<String>,
}

word_enum! {
    /// The state of a change.
    pub enum ChangeState {
        /// In effect.
        Done = "done",
        /// Completely undone.
        Undone = "undone",
        /// Partly undone.
        PartlyUndone = "undone in part",
        /// It did nothing.
        NothingDone = "nothing done",
        /// It was interrupted.
        Unfinished = "unfinished",
        /// Its log cannot be read.
        Unreadable = "unreadable",
    }
}

/// The home that a change concerns.
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
    /// The error in its log.
    pub why: String,
    /// Whether it is known to have ended; if not, nothing is changed until its log is moved aside.
    pub ended: bool,
    /// The folder of its log, as this computer reaches it.
    pub folder: String,
    /// The files that it replaced, by its readable records.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub kept: Vec<KeptFile>,
}

impl DamagedChange {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.damaged-change/1";
}

/// A file that a change replaced, and its backup.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct KeptFile {
    /// Its path.
    pub path: SystemPath,
    /// The backup, as this computer reaches it.
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
