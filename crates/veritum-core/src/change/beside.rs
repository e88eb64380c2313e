//! What a change does beside files: services that are held for its time, and what the system's own tools are asked to do.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::journal::ChangeLog;
use super::record::Record;
use crate::platform::services::PausedUnit;

/// One thing that a change did beside files, as its journal tells it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Beside {
    /// What, in a word: `pause`, `forget-failure`, `configure`.
    pub what: String,
    /// What it was done to.
    pub subject: String,
    /// What came of it: `done`, `not done`, or `unfinished`.
    pub result: String,
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

    /// What was done beside files, in order.
    #[must_use]
    pub fn beside(&self) -> Vec<Beside> {
        let mut all: Vec<Beside> = Vec::new();
        let new = |what: &str, subject: &str| Beside {
            what: what.to_owned(),
            subject: subject.to_owned(),
            result: "unfinished".into(),
            why: None,
        };
        for record in &self.records {
            match record {
                Record::Paused { units } => all.extend(units.iter().map(|unit| new("pause", &unit.name))),
                Record::Resumed => {
                    all.iter_mut().filter(|one| one.what == "pause").for_each(|one| one.result = "done".into());
                }
                Record::Delegated { what, subject, .. } => all.push(new(what, subject)),
                Record::DelegatedDone { failed } => {
                    if let Some(last) = all.last_mut() {
                        last.result = if failed.is_none() { "done" } else { "not done" }.into();
                        last.why.clone_from(failed);
                    }
                }
                _ => {}
            }
        }
        all
    }
}
