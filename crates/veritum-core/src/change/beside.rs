//! Parts of a change that are not files: services that are stopped during it, and runs of the system's own tools.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::journal::ChangeLog;
use super::record::Record;
use crate::model::{ActionKind, word_enum};
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

/// One action of a change that is not about files, by its change log.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Beside {
    /// The action: the word of an [`ActionKind`], or of a newer version.
    pub what: String,
    /// The subject.
    pub subject: String,
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

    /// These actions, in order.
    #[must_use]
    pub fn beside(&self) -> Vec<Beside> {
        let mut all: Vec<Beside> = Vec::new();
        let new = |what: &str, subject: &str| Beside {
            what: what.to_owned(),
            subject: subject.to_owned(),
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
                Record::Delegated { what, subject, .. } => all.push(new(what, subject)),
                Record::DelegatedDone { failed } => {
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
