//! What a change does next to files: services that are held for its time, and what the system's own tools are asked to do.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::journal::ChangeLog;
use super::record::Record;
use crate::model::{ActionKind, word_enum};
use crate::platform::services::PausedUnit;

word_enum! {
    /// What a change's log says of one thing that was to be done.
    pub enum LoggedResult {
        /// It was done.
        Done = "done",
        /// It was not, and the log says why.
        NotDone = "not done",
        /// The log ends before it.
        Unfinished = "unfinished",
    }
}

/// One thing that a change did next to files, as its change log says it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Beside {
    /// What: the word of an [`ActionKind`], or one of a newer version.
    pub what: String,
    /// What it was done to.
    pub subject: String,
    /// What came of it.
    pub result: LoggedResult,
    /// Why it was not done.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
}

impl ChangeLog {
    /// Units that are held and were not put back yet.
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

    /// What was done next to files, in order.
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
