//! From what is wrong with the package database to actions. Pure.

use std::collections::HashMap;

use super::{RecordContent, RecordFault, RecordFix};
use crate::machine::ProtectionPolicy;
use crate::model::{self, Action, Digest, Finding, LinkTarget, Remedy, SystemPath, Verdict};
use crate::plan::{DiskDoubt, Item, ItemKind, Left, Operation, PlaceOf, Plan, PlannedAction};
use crate::platform::debian::database::Database;

/// The input of the planning.
pub struct RecordRules<'a> {
    /// Places that must not be changed.
    pub protection: &'a dyn ProtectionPolicy,
    /// The locations of records.
    pub place: &'a PlaceOf<'a>,
    /// User and group of the database's files.
    pub owner: (u32, u32),
    /// The modification time of what is written, in seconds.
    pub mtime: i64,
    /// Whether unreadable records are replaced, as the administrator requested.
    pub ignore_disk_errors: bool,
}

/// The plan, with the contents to write.
#[derive(Debug, Clone, Default)]
pub struct RecordPlan {
    /// The actions, and what is not repaired.
    pub plan: Plan,
    /// Generated contents, by their digest.
    pub made: HashMap<Digest, Vec<u8>>,
}

/// Plans the repair of the package database; adds the remedy to each finding.
#[must_use]
pub fn plan_records(faults: &mut [RecordFault], database: &Database, rules: &RecordRules<'_>) -> RecordPlan {
    let mut planner = Planner { rules, planned: RecordPlan::default() };
    let unreadable = faults.iter().filter(|f| f.finding.verdict == Verdict::Unreadable).count() as u64;
    if unreadable > 0 && !rules.ignore_disk_errors {
        planner.planned.plan.doubt = Some(DiskDoubt::ReadErrors { files: unreadable });
    }
    let mut entries: HashMap<(String, String), Vec<u8>> = HashMap::new();
    let mut of_status: Vec<usize> = Vec::new();
    for (at, fault) in faults.iter_mut().enumerate() {
        match &fault.fix {
            Ok(RecordFix::Entry { key, text, .. }) => {
                entries.insert(key.clone(), text.clone());
                of_status.push(at);
            }
            Ok(RecordFix::Status) => of_status.push(at),
            Ok(fix) => {
                let operation = planner.operation(fix);
                planner.plan(&mut [fault], operation);
            }
            Err(unknown) => planner.left(&mut fault.finding, &unknown.reason, unknown.next.clone()),
        }
    }
    if !of_status.is_empty() {
        let operation = planner.write(&RecordContent::Bytes(database.composed(&entries)), 0o644);
        let mut parts: Vec<&mut RecordFault> =
            faults.iter_mut().enumerate().filter(|(at, _)| of_status.contains(at)).map(|(_, f)| f).collect();
        planner.plan(&mut parts, operation);
    }
    planner.planned
}

struct Planner<'a> {
    rules: &'a RecordRules<'a>,
    planned: RecordPlan,
}

impl Planner<'_> {
    fn left(&mut self, finding: &mut Finding, reason: &str, next: Option<Action>) {
        finding.action = finding.action.take().or_else(|| next.clone());
        self.planned.plan.left.push(Left::new(finding, reason.to_owned(), next));
    }

    /// One action for findings on one file.
    fn plan(&mut self, faults: &mut [&mut RecordFault], operation: Operation) {
        let Some(listed) = faults.first().and_then(|f| f.finding.subject.as_path().cloned()) else { return };
        let refuse = |this: &mut Self, faults: &mut [&mut RecordFault], reason: &str, next: Option<Action>| {
            for fault in faults {
                this.left(&mut fault.finding, reason, next.clone());
            }
        };
        let unreadable = faults.iter().any(|f| f.finding.verdict == Verdict::Unreadable);
        if unreadable && !self.rules.ignore_disk_errors {
            let next = "back up the users' files first, then test the disk";
            return refuse(self, faults, "the disk reports read errors", Some(next.into()));
        }
        let Some((place, before)) = (self.rules.place)(&listed) else {
            return refuse(self, faults, "its folder does not exist", None);
        };
        if let Some(reason) = self.rules.protection.reason(&place) {
            return refuse(self, faults, &format!("not changed: {reason}"), None);
        }
        let action = match operation {
            Operation::SetAside => model::ActionKind::SetAside,
            Operation::SetMeta { .. } => model::ActionKind::SetMode,
            _ => model::ActionKind::Restore,
        };
        for fault in faults.iter_mut() {
            let from = fault
                .finding
                .verified_by
                .map(|v| if v == model::Authority::Repository { "repository" } else { "store" });
            fault.finding.remedy = Some(Remedy { action, from: from.map(str::to_owned), download: None });
        }
        self.planned.plan.push(PlannedAction {
            findings: faults.iter().map(|f| f.finding.id.clone()).collect(),
            listed,
            package: faults.first().and_then(|f| f.finding.package.clone()).filter(|_| faults.len() == 1),
            ..PlannedAction::new(place, before, operation)
        });
    }

    fn operation(&mut self, fix: &RecordFix) -> Operation {
        match fix {
            RecordFix::Write { content, mode } => self.write(content, *mode),
            RecordFix::Link(target) => {
                Operation::Put(vec![self.item(ItemKind::Link(LinkTarget(target.clone())), 0o777)])
            }
            RecordFix::Mode(mode) => {
                let (uid, gid) = self.rules.owner;
                Operation::SetMeta { mode: *mode, uid, gid }
            }
            RecordFix::SetAside | RecordFix::Entry { .. } | RecordFix::Status => Operation::SetAside,
        }
    }

    fn write(&mut self, content: &RecordContent, mode: u32) -> Operation {
        let (digest, size) = match content {
            RecordContent::Member { digest, size, .. } => (*digest, *size),
            RecordContent::Bytes(bytes) => {
                let digest = Digest::hash(bytes);
                self.planned.made.insert(digest, bytes.clone());
                (digest, bytes.len() as u64)
            }
        };
        Operation::Put(vec![self.item(ItemKind::File { size, digest }, mode)])
    }

    fn item(&self, kind: ItemKind, mode: u32) -> Item {
        Item::new(SystemPath::root(), kind, mode, self.rules.owner, self.rules.mtime)
    }
}
