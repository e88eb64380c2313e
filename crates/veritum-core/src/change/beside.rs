//! Parts of a change that are not files: services that are stopped during it, runs of the system's own tools, and bytes of disks.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::journal::ChangeLog;
use super::record::Record;
use crate::model::{ActionKind, word_enum};
use crate::plan::{ActionKey, DiskWrite, FirmwareChange, ToolChange};
use crate::platform::services::PausedUnit;

word_enum! {
    /// The result of an action, by the change log.
    pub enum LoggedResult {
        /// It was done.
        Done = "done",
        /// It was not done; the log contains the reason.
        NotDone = "not done",
        /// The log ends before the result.
        Unfinished = "unfinished",
    }
}

/// A task for one of the system's own tools.
#[derive(Debug, Clone)]
pub struct Task<'a> {
    /// What it does.
    pub action: ActionKind,
    /// The subject.
    pub subject: &'a str,
    /// The earlier state.
    pub before: &'a str,
    /// What it changes, if another run of the tool undoes it.
    pub changes: Option<ToolChange>,
    /// The run of the undone change that it reverts.
    pub reverts: Option<ActionKey>,
}

impl<'a> Task<'a> {
    /// A task that is not undone.
    #[must_use]
    pub fn lasting(action: ActionKind, subject: &'a str, before: &'a str) -> Self {
        Self { action, subject, before, changes: None, reverts: None }
    }

    pub(super) fn record(self) -> Record {
        Record::Delegated {
            what: self.action.word().to_owned(),
            subject: self.subject.to_owned(),
            before: self.before.to_owned(),
            changes: self.changes.map(Box::new),
            reverts: self.reverts,
        }
    }
}

/// A run of one of the system's own tools that another run undoes, by its change log.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ToolRecord {
    /// Identifies it within its change.
    pub key: ActionKey,
    /// What it changed.
    pub changes: ToolChange,
    /// The run of the undone change that it reverts.
    pub reverts: Option<ActionKey>,
    /// Whether it was done; `None` if the log ends before the result.
    pub done: Option<bool>,
}

/// One action of a change that is not about files, by its change log.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Beside {
    /// The action: the word of an [`ActionKind`], or of a newer version.
    pub what: String,
    /// The subject.
    pub subject: String,
    /// The earlier state, where a tool of the system changed it.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub before: String,
    /// What was found meanwhile, where it sets something back.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub found: Option<String>,
    /// Whether `undo` undoes it.
    #[serde(default)]
    pub undoable: bool,
    /// The result.
    pub result: LoggedResult,
    /// The reason if it was not done.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
}

impl ChangeLog {
    /// Units that are stopped and were not restored yet.
    #[must_use]
    pub fn paused(&self) -> Vec<PausedUnit> {
        let mut held = Vec::new();
        for record in &self.records {
            match record {
                Record::Paused { units } => held.extend(units.iter().cloned()),
                Record::Resumed => held.clear(),
                _ => {}
            }
        }
        held
    }

    /// Bytes of a disk whose writing was interrupted.
    #[must_use]
    pub fn open_write(&self) -> Option<&DiskWrite> {
        let is_one = |record: &&Record| matches!(record, Record::Disk { .. } | Record::DiskDone { .. });
        match self.records.iter().rev().find(is_one) {
            Some(Record::Disk { write, .. }) => Some(write),
            _ => None,
        }
    }

    /// Variables of the firmware whose writing was interrupted.
    #[must_use]
    pub fn open_firmware(&self) -> Option<&FirmwareChange> {
        let is_one = |record: &&Record| matches!(record, Record::Delegated { .. } | Record::DelegatedDone { .. });
        match self.records.iter().rev().find(is_one) {
            Some(Record::Delegated { changes: Some(changes), .. }) => match &**changes {
                ToolChange::Firmware(change) => Some(change),
                _ => None,
            },
            _ => None,
        }
    }

    /// The runs of tools that other runs undo, and bytes of disks, in order.
    #[must_use]
    pub fn tools(&self) -> Vec<ToolRecord> {
        let mut all: Vec<ToolRecord> = Vec::new();
        let mut is_last = false;
        for record in &self.records {
            match record {
                Record::Delegated { changes: Some(changes), reverts, .. } => {
                    let key = ActionKey { round: 0, index: u32::try_from(all.len() + 1).unwrap_or(u32::MAX) };
                    all.push(ToolRecord { key, changes: (**changes).clone(), reverts: *reverts, done: None });
                    is_last = true;
                }
                Record::Delegated { changes: None, .. } => is_last = false,
                Record::Disk { write, reverts, .. } => {
                    let key = ActionKey { round: 0, index: u32::try_from(all.len() + 1).unwrap_or(u32::MAX) };
                    let changes = ToolChange::Disk((**write).clone());
                    all.push(ToolRecord { key, changes, reverts: *reverts, done: None });
                    is_last = true;
                }
                Record::DelegatedDone { failed } | Record::DiskDone { failed } if is_last => {
                    if let Some(last) = all.last_mut() {
                        last.done = Some(failed.is_none());
                    }
                }
                _ => {}
            }
        }
        all
    }

    /// These actions, in order.
    #[must_use]
    pub fn beside(&self) -> Vec<Beside> {
        let mut all: Vec<Beside> = Vec::new();
        let new = |what: &str, subject: &str| Beside {
            what: what.to_owned(),
            subject: subject.to_owned(),
            before: String::new(),
            found: None,
            undoable: false,
            result: LoggedResult::Unfinished,
            why: None,
        };
        for record in &self.records {
            match record {
                Record::Paused { units } => {
                    all.extend(units.iter().map(|unit| new(ActionKind::Pause.word(), &unit.name)))
                }
                Record::Resumed => {
                    all.iter_mut()
                        .filter(|one| one.what == ActionKind::Pause.word())
                        .for_each(|one| one.result = LoggedResult::Done);
                }
                Record::Delegated { what, subject, before, changes, .. } => all.push(Beside {
                    before: before.clone(),
                    found: changes.as_ref().and_then(|changes| changes.found()).map(str::to_owned),
                    undoable: changes.is_some(),
                    ..new(what, subject)
                }),
                Record::Disk { what, subject, .. } => all.push(Beside { undoable: true, ..new(what, subject) }),
                Record::DelegatedDone { failed } | Record::DiskDone { failed } => {
                    if let Some(last) = all.last_mut() {
                        last.result = if failed.is_none() { LoggedResult::Done } else { LoggedResult::NotDone };
                        last.why.clone_from(failed);
                    }
                }
                _ => {}
            }
        }
        all
    }
}
