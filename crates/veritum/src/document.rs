//! The common part of every JSON document: version, machine, host, time, totals and exit status.

use std::collections::BTreeMap;

use indexmap::IndexMap;
use schemars::{JsonSchema, Schema, schema_for};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use veritum_core::model::ActionResult;
use veritum_core::report::{
    AppReport, AppsReport, ChangesReport, CheckReport, DamagedChange, DisksReport, ExplainReport, Fate, MachineReport,
    PackagesReport, RecoverReport, RepairReport, RescueBackReport, RescueDeletedReport, RescueImageReport,
    RescueReport, RescueVerifyReport, ResetReport, ReturnReport, SavepointReport, SavepointsReport, StartsReport,
    StatusReport, StoreAddReport, StoreReport, UndoReport, UpdatesReport,
};

use crate::errors::ErrorReport;
use crate::render::explain::ChangeReport;

/// Counts by name.
pub(crate) type Totals = BTreeMap<&'static str, u64>;

/// A result that is printed as one JSON document.
pub(crate) trait Document: Serialize + JsonSchema {
    /// Its totals.
    fn totals(&self) -> Totals;
}

impl Document for CheckReport {
    fn totals(&self) -> Totals {
        let repairable = self.areas.iter().map(|area| area.repairable).sum();
        let notes = self.notes.len() as u64 + self.more_strays;
        [("problems", self.problems()), ("repairable", repairable), ("notes", notes)].into()
    }
}

impl Document for RepairReport {
    fn totals(&self) -> Totals {
        let repaired = self.areas.iter().map(|area| area.repaired).sum();
        let left = self.areas.iter().map(|area| area.remaining.len() as u64).sum();
        [("problems", self.before.problems()), ("repaired", repaired), ("left", left)].into()
    }
}

impl Document for UndoReport {
    fn totals(&self) -> Totals {
        let actions = || self.changes.iter().flat_map(|change| &change.actions);
        let done = actions().filter(|action| action.result == ActionResult::Done);
        let bytes = done.clone().map(|action| action.bytes).sum();
        let refused = self.changes.iter().map(|change| change.refused.len() as u64).sum();
        [
            ("planned", actions().count() as u64),
            ("restored", done.count() as u64),
            ("bytes", bytes),
            ("refused", refused),
        ]
        .into()
    }
}

impl Document for ResetReport {
    fn totals(&self) -> Totals {
        // Folders are moved as one: their contents are counted by part.
        let parts = || self.homes.iter().flat_map(|home| &home.parts).filter(|part| part.fate == Fate::SetAside);
        let done = self.homes.iter().filter(|home| home.change.is_some());
        let moved = done.flat_map(|home| &home.parts).filter(|part| part.fate == Fate::SetAside);
        let moved_files = moved.map(|part| part.files).sum();
        let (files, bytes) = (parts().map(|part| part.files).sum(), parts().map(|part| part.bytes).sum());
        [("files", files), ("bytes", bytes), ("moved_files", moved_files)].into()
    }
}

impl Document for RescueReport {
    fn totals(&self) -> Totals {
        let missing = self.missing.len() as u64 + self.incomplete.len() as u64;
        [
            ("wanted", self.wanted.files),
            ("copied", self.copied.files),
            ("bytes", self.copied.bytes),
            ("known", self.known.files),
            ("missing", missing),
        ]
        .into()
    }
}

impl Document for RescueImageReport {
    fn totals(&self) -> Totals {
        let missing = Self::bytes_of(&self.unreadable) + Self::bytes_of(&self.pending);
        [("bytes", self.read_bytes), ("missing_bytes", missing)].into()
    }
}

impl Document for RescueBackReport {
    fn totals(&self) -> Totals {
        let restored = self.homes.iter().map(|home| home.restored.files).sum();
        let missing = self.homes.iter().map(|home| home.missing.len() as u64).sum();
        [("restored", restored), ("missing", missing)].into()
    }
}

impl Document for RescueVerifyReport {
    fn totals(&self) -> Totals {
        [("intact", self.intact.files), ("problems", self.problems.len() as u64)].into()
    }
}

impl Document for SavepointReport {
    fn totals(&self) -> Totals {
        let missing = self.missing.len() as u64;
        [("entries", self.entries), ("copied_bytes", self.copied_bytes), ("missing", missing)].into()
    }
}

impl Document for ReturnReport {
    fn totals(&self) -> Totals {
        let bytes = self.actions.iter().map(|action| action.bytes).sum();
        [
            ("packages", self.packages.len() as u64),
            ("actions", self.actions.len() as u64),
            ("bytes", bytes),
            ("staying", self.staying.len() as u64),
            ("lost", self.lost.len() as u64),
        ]
        .into()
    }
}

impl Document for StoreAddReport {
    fn totals(&self) -> Totals {
        let refused = self.refused.len() as u64 + self.failed.len() as u64;
        [("added", self.added.len() as u64), ("known", self.known), ("refused", refused)].into()
    }
}

impl Document for StoreReport {
    fn totals(&self) -> Totals {
        [("packages", self.packages.len() as u64)].into()
    }
}

impl Document for StatusReport {
    fn totals(&self) -> Totals {
        let problems = self.last_check.as_ref().map_or(0, |last| last.problems);
        [("packages", self.machine.packages), ("changes", self.changes), ("problems", problems)].into()
    }
}

impl Document for ExplainReport {
    fn totals(&self) -> Totals {
        let problems = self.finding.as_ref().is_some_and(|finding| finding.verdict.is_problem());
        [("problems", u64::from(problems))].into()
    }
}

impl Document for AppReport {
    fn totals(&self) -> Totals {
        [("problems", u64::from(self.finding.is_some()))].into()
    }
}

macro_rules! counted {
    ($($report:ty, $name:literal, $field:ident;)+) => {
        $(impl Document for $report {
            fn totals(&self) -> Totals {
                [($name, self.$field.len() as u64)].into()
            }
        })+
    };
}

counted! {
    PackagesReport, "packages", packages;
    ChangesReport, "changes", changes;
    RecoverReport, "changes", changes;
    UpdatesReport, "runs", runs;
    SavepointsReport, "savepoints", savepoints;
    DisksReport, "disks", disks;
    StartsReport, "ways", ways;
    AppsReport, "apps", apps;
    RescueDeletedReport, "deleted", deleted;
    ChangeReport, "files", places;
    DamagedChange, "backups", kept;
}

impl Document for ErrorReport {
    fn totals(&self) -> Totals {
        Totals::new()
    }
}

/// The common part of the documents of a run.
pub(crate) struct Head {
    /// The machine, if one was examined.
    pub(crate) machine: Option<MachineReport>,
    /// The start of the command.
    pub(crate) at: jiff::Timestamp,
}

/// Any JSON value, with objects in the order of their keys.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(untagged)]
pub(crate) enum Json {
    /// `null`.
    Null,
    /// `true`, `false`.
    Bool(bool),
    /// A number.
    Number(serde_json::Number),
    /// Text.
    Text(String),
    /// A list.
    List(Vec<Json>),
    /// An object.
    Object(IndexMap<String, Json>),
}

impl Json {
    fn new<T: Serialize + ?Sized>(value: &T) -> serde_json::Result<Self> {
        serde_json::from_str(&serde_json::to_string(value)?)
    }
}

/// A document: the common part first, then the result.
pub(crate) fn document<T: Document>(result: &T, head: &Head, status: u8) -> serde_json::Result<Json> {
    let mut own = match Json::new(result)? {
        Json::Object(own) => own,
        other => IndexMap::from([("result".to_owned(), other)]),
    };
    let mut taken = |name: &str| own.shift_remove(name);
    let (format, at, machine) = (taken("format"), taken("at"), taken("machine"));
    let mut whole = IndexMap::new();
    whole.extend(format.map(|format| ("format".to_owned(), format)));
    whole.insert("veritum".to_owned(), Json::Text(env!("CARGO_PKG_VERSION").into()));
    whole.insert("host".to_owned(), Json::Text(host()));
    whole.insert("at".to_owned(), at.unwrap_or_else(|| Json::Text(head.at.to_string())));
    whole.insert("exit_status".to_owned(), Json::Number(status.into()));
    whole.insert("machine".to_owned(), machine.map_or_else(|| Json::new(&head.machine), Ok)?);
    whole.insert("totals".to_owned(), Json::new(&result.totals())?);
    whole.extend(own);
    Ok(Json::Object(whole))
}

/// The name of the computer that runs Veritum: not always the machine that is examined.
fn host() -> String {
    rustix::system::uname().nodename().to_string_lossy().into_owned()
}

/// The schema of a document.
pub(crate) fn schema<T: Document>() -> Schema {
    let mut schema = schema_for!(T);
    let machine = schema_for!(MachineReport);
    let whole = schema.ensure_object();
    let text = |description: &str| json!({"type": "string", "description": description});
    let entries = [
        ("veritum", text("The version of Veritum.")),
        ("host", text("The name of the computer that ran Veritum.")),
        ("at", text("When the command began, RFC 3339 in UTC.")),
        ("exit_status", json!({"type": "integer", "minimum": 0, "description": "The exit status of the command."})),
        (
            "totals",
            json!({
                "type": "object",
                "additionalProperties": {"type": "integer", "minimum": 0},
                "description": "What the document counts as a whole.",
            }),
        ),
    ];
    let mut properties = whole.get("properties").and_then(Value::as_object).cloned().unwrap_or_default();
    let mut required = whole.get("required").and_then(Value::as_array).cloned().unwrap_or_default();
    for (name, property) in entries {
        properties.insert(name.into(), property);
        required.push(name.into());
    }
    if !properties.contains_key("machine") {
        let of_machine = machine.get("properties").cloned().unwrap_or_default();
        let property = json!({
            "type": ["object", "null"],
            "description": "The machine that was worked on, if there was one.",
            "properties": of_machine,
        });
        properties.insert("machine".into(), property);
        required.push("machine".into());
    }
    required.dedup();
    let mut known = std::collections::BTreeSet::new();
    required.retain(|name| known.insert(name.to_string()));
    whole.insert("properties".into(), Value::Object(properties));
    whole.insert("required".into(), Value::Array(required));
    schema
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_document_begins_with_what_every_document_has() {
        let head = Head { machine: None, at: jiff::Timestamp::UNIX_EPOCH };
        let report = CheckReport::blank(jiff::Timestamp::UNIX_EPOCH);
        let Json::Object(whole) = document(&report, &head, 1).unwrap() else { panic!("no object") };
        let keys: Vec<&String> = whole.keys().collect();
        let first = ["format", "veritum", "host", "at", "exit_status", "machine", "totals", "outcome"];
        assert_eq!(keys[..first.len()], first);
        assert_eq!(whole["exit_status"], Json::Number(1.into()));
    }
}
