//! What has to be right before the rest can even be known: the store's signed files, then the package database, with the
//! parts of the store that it is put right from.

use super::check::{Checked, Wanted};
use super::records::RecordsPart;
use super::repair::{Agreement, Done, Failed, Preview, carried_out, planned, report, still_or_later};
use super::store::{Depth, StorePart};
use super::supplies::Stores;
use super::{Engine, WorkError};
use crate::change::{ChangeContext, RoundReceipt};
use crate::event::{Observer, Uninterruptible};
use crate::model::{ActionResult, Area, Finding, Scope, SystemPath};
use crate::plan::Left;
use crate::report::{ActionReport, AreaChange, CheckReport, RepairReport};

/// What came of putting the package database right.
pub(super) enum Ahead {
    /// The repair ends here: nothing may be written, or nobody agreed.
    Ended(Box<RepairReport>),
    /// It was put right.
    Done(Box<DoneAhead>),
}

/// What was done before the rest could be known.
pub(super) struct DoneAhead {
    first: Checked,
    store: Vec<ActionReport>,
    records: Option<(u64, RoundReceipt)>,
}

/// Whether something must be right before the rest can be known.
pub(super) fn is_needed(first: &Checked) -> bool {
    first.records.as_ref().is_some_and(|part| !part.planned.plan.actions.is_empty())
}

impl Engine {
    /// Puts the package database right, and before it the store; `ask` is shown both.
    pub(super) fn put_records_right(
        &self,
        first: (Checked, Failed),
        scope: &Scope,
        context: ChangeContext<'_>,
        observer: &dyn Observer,
        ask: &mut dyn FnMut(&Preview<'_>) -> Agreement,
    ) -> Result<Ahead, WorkError> {
        let (first, failed) = first;
        if first.plan.doubt.is_some() {
            return Ok(Ahead::Ended(Box::new(report(false, &first, Done::default()))));
        }
        let store = first.store.as_ref().filter(|part| !part.plan.is_empty());
        let mut shown = store.map(StorePart::actions).unwrap_or_default();
        shown.extend(record_actions(&first).iter().map(planned));
        let ahead = scope.wants(Area::Files);
        if ask(&Preview { ahead, ..Preview::of(&first, shown, false) }) == Agreement::No {
            return Ok(Ahead::Ended(Box::new(report(true, &first, Done::default()))));
        }
        let mut mended = Vec::new();
        let mut now: Option<Checked> = None;
        if let Some(part) = store {
            mended = self.repair_store(part, observer)?;
            let wanted = Wanted { store: self.depth(scope), fresh: true, ..Wanted::files(scope, &failed) };
            now = Some(self.checked(wanted, &Uninterruptible(observer))?);
        }
        let looked = now.as_ref().unwrap_or(&first);
        let part = looked.records.as_ref().filter(|_| !record_actions(looked).is_empty());
        let records = match part {
            Some(part) if is_shown(part, &first) || asks_for(part, looked, ahead, ask) => {
                Some(self.change_records(context, part)?)
            }
            _ => None,
        };
        Ok(Ahead::Done(Box::new(DoneAhead { first, store: mended, records })))
    }

    /// Puts the signed files of the store right, and goes on with the rest; none when that cannot be done.
    pub(super) fn repair_unverified_store(
        &mut self,
        scope: &Scope,
        observer: &dyn Observer,
        ask: &mut dyn FnMut(&Preview<'_>) -> Agreement,
    ) -> Result<Option<RepairReport>, WorkError> {
        let none = Failed::new();
        let store = Scope { areas: vec![Area::Store], ..Scope::default() };
        let wanted = Wanted { store: Some(Depth::Whole), ..Wanted::files(&store, &none) };
        let checked = self.checked(wanted, observer)?;
        let Some(part) = checked.store.as_ref().filter(|part| !part.plan.is_empty()) else { return Ok(None) };
        if ask(&Preview::of(&checked, part.actions(), false)) == Agreement::No {
            return Ok(Some(report(true, &checked, Done::default())));
        }
        let actions = self.repair_store(part, observer)?;
        self.use_stores(Stores::open(&self.settings));
        if self.depth(scope).is_none() || !self.own_opened {
            let after = self.checked(wanted, observer)?;
            let done = Done { store: actions, after: Some(after.report), ..Done::default() };
            return Ok(Some(report(false, &checked, done)));
        }
        // What they say of the rest is only known now: its plan is shown on its own.
        let mut rest = self.repair(scope, observer, ask)?;
        rest.before.findings.splice(0..0, checked.report.findings.iter().cloned());
        let told = rest.before.areas.iter_mut().filter(|a| a.area == Area::Store);
        told.for_each(|area| area.problems += checked.report.problems());
        add_store_actions(&mut rest.areas, actions);
        rest.plan_only = false;
        if rest.after.is_none() {
            let mut after = rest.before.clone();
            after.findings.retain(|f| !checked.report.findings.iter().any(|gone| gone.id == f.id));
            let told = after.areas.iter_mut().filter(|a| a.area == Area::Store);
            told.for_each(|area| area.problems -= checked.report.problems());
            rest.after = Some(after);
        }
        Ok(Some(rest))
    }
}

fn record_actions(checked: &Checked) -> &[crate::plan::PlannedAction] {
    checked.records.as_ref().map(|part| part.planned.plan.actions.as_slice()).unwrap_or_default()
}

/// Shows what a store that was put right brought to light.
fn asks_for(part: &RecordsPart, looked: &Checked, ahead: bool, ask: &mut dyn FnMut(&Preview<'_>) -> Agreement) -> bool {
    let shown = part.planned.plan.actions.iter().map(planned).collect();
    ask(&Preview { ahead, ..Preview::of(looked, shown, true) }) == Agreement::Yes
}

/// Whether a plan for the records has no place that was not shown before.
fn is_shown(part: &RecordsPart, before: &Checked) -> bool {
    let known: Vec<&SystemPath> = record_actions(before).iter().map(|a| &a.place).collect();
    part.planned.plan.actions.iter().all(|a| known.contains(&&a.place))
}

impl DoneAhead {
    /// The report of the whole repair, when this is that of the rest.
    pub(super) fn before_rest(self, rest: RepairReport) -> RepairReport {
        let after = rest.after.unwrap_or_else(|| rest.before.clone());
        // What was touched last was looked at last: of the records the look before that is the latest.
        let after = with_records_of(after, &rest.before);
        let of_records =
            |report: &CheckReport| report.areas.iter().find(|a| a.area == Area::Records).map_or(0, |a| a.problems);
        let right = of_records(&self.first.report).saturating_sub(of_records(&after));
        let findings: Vec<&Finding> = after.findings.iter().filter(|f| f.area == Area::Records).collect();
        let left = |f: &&Finding| after.left.iter().find(|l| l.finding == f.id).cloned();
        let known = |f: &&Finding| self.first.report.findings.iter().any(|before| before.id == f.id);
        let again = |f: &&Finding| Left::of(f, still_or_later(known(f)).into(), None);
        let area = AreaChange {
            area: Area::Records,
            change: self.records.as_ref().map(|(number, _)| *number),
            actions: self.records.iter().flat_map(|(_, receipt)| carried_out(receipt)).collect(),
            put_right: right,
            remaining: findings.iter().map(|f| left(f).unwrap_or_else(|| again(f))).collect(),
        };
        let mut areas = rest.areas;
        add_store_actions(&mut areas, self.store);
        areas.retain(|a| a.area != Area::Records);
        let at = areas.iter().take_while(|a| a.area == Area::Store).count();
        areas.insert(at, area);
        let before = self.first.report;
        RepairReport { plan_only: false, areas, before, after: Some(after), ..rest }
    }
}

/// Tells in the report what was done to the store before the rest.
fn add_store_actions(areas: &mut Vec<AreaChange>, actions: Vec<ActionReport>) {
    if actions.is_empty() {
        return;
    }
    let right = actions.iter().filter(|a| a.result == ActionResult::Done).count() as u64;
    match areas.iter_mut().find(|a| a.area == Area::Store) {
        Some(area) => {
            area.actions.splice(0..0, actions);
            area.put_right += right;
        }
        None => {
            let area = AreaChange { area: Area::Store, change: None, actions, put_right: right, remaining: Vec::new() };
            areas.insert(0, area);
        }
    }
}

/// A check with what an earlier one found of the records, where it did not look at them itself.
pub(super) fn with_records_of(mut after: CheckReport, before: &CheckReport) -> CheckReport {
    if after.areas.iter().any(|a| a.area == Area::Records) {
        return after;
    }
    let of_records: Vec<Finding> = before.findings.iter().filter(|f| f.area == Area::Records).cloned().collect();
    after.areas.splice(0..0, before.areas.iter().filter(|a| a.area == Area::Records).cloned());
    after.left.extend(before.left.iter().filter(|l| of_records.iter().any(|f| f.id == l.finding)).cloned());
    after.findings.splice(0..0, of_records);
    after.outcome = after.areas.iter().map(|a| a.outcome).min().unwrap_or(after.outcome);
    after
}
