//! `repair`: check, show, ask, change, check again until it is stable.

use std::collections::{HashMap, HashSet};

use super::ahead::{self, Ahead, with_records_of};
use super::check::{Checked, Wanted};
use super::store::StorePart;
use super::{Engine, WorkError};
use crate::change::{ChangeContext, ChangeError, OpenChange, RoundReceipt, Verb, unfinished};
use crate::event::{Event, Flow, Observer, Uninterruptible};
use crate::model::{ActionResult, Area, ComponentId, FindingId, Scope, Subject, SystemPath};
use crate::plan::{Item, ItemKind, Left, Operation, Plan, PlannedAction};
use crate::report::{ActionReport, AreaChange, CheckReport, DownloadReport, RepairReport, RunningReport};

/// Downloads that were tried and did not come about, with the reason.
pub(super) type Failed = HashMap<ComponentId, String>;

/// A repair ends after so many rounds even when findings still change.
const MAX_ROUNDS: usize = 3;

/// What is shown before the question.
#[derive(Debug)]
pub struct Preview<'a> {
    /// The check before.
    pub check: &'a CheckReport,
    /// What would be done.
    pub actions: Vec<ActionReport>,
    /// Bytes that would be written.
    pub bytes: u64,
    /// What would be left, and why.
    pub left: &'a [Left],
    /// Whether this came to light only after what was agreed to was done.
    pub further: bool,
    /// Whether this comes ahead of the rest, which is looked at anew and asked about after it.
    pub ahead: bool,
    /// Of updates: how many downloads are right and stay, with their bytes.
    pub stay: Option<(u64, u64)>,
}

impl<'a> Preview<'a> {
    pub(super) fn of(checked: &'a Checked, actions: Vec<ActionReport>, further: bool) -> Self {
        let bytes = actions.iter().map(|a| a.bytes).sum();
        Self { check: &checked.report, actions, bytes, left: &checked.report.left, further, ahead: false, stay: None }
    }
}

/// The answer to the question.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Agreement {
    /// Go on.
    Yes,
    /// Change nothing.
    No,
}

impl Engine {
    /// Shows what a repair would do, changes nothing.
    ///
    /// # Errors
    /// As [`Engine::check`].
    pub fn plan_repair(&mut self, scope: &Scope, observer: &dyn Observer) -> Result<RepairReport, WorkError> {
        self.require_store_sound(scope)?;
        let scope = &self.with_apps(scope)?;
        self.find_forgotten();
        self.require_named(scope)?;
        self.require_there(scope)?;
        let state = self.state()?;
        let _lock = self.shared_lock(state.as_ref())?;
        let none = Failed::new();
        let wanted = Wanted { store: self.depth(scope), ..Wanted::files(scope, &none) };
        let checked = self.checked(wanted, observer)?;
        Ok(report(true, &checked, Done::default()))
    }

    /// Repairs what is named, or everything, the store first; `ask` is shown the plan before anything is done.
    ///
    /// # Errors
    /// When nothing could be done, or the disk failed; what had been done by then is in the journal.
    pub fn repair(
        &mut self,
        scope: &Scope,
        observer: &dyn Observer,
        ask: &mut dyn FnMut(&Preview<'_>) -> Agreement,
    ) -> Result<RepairReport, WorkError> {
        self.require_store_sound(scope)?;
        let scope = self.with_apps(scope)?;
        self.find_forgotten();
        self.require_named(&scope)?;
        self.require_there(&scope)?;
        let report = self.repair_parts(&scope, observer, ask)?;
        // How applications hang in the desktop comes last: it is made of their files.
        if scope.wants(Area::Apps) { self.register(report, &scope, observer, ask) } else { Ok(report) }
    }

    fn repair_parts(
        &mut self,
        scope: &Scope,
        observer: &dyn Observer,
        ask: &mut dyn FnMut(&Preview<'_>) -> Agreement,
    ) -> Result<RepairReport, WorkError> {
        // Before its signed files are right nobody knows what the rest should be.
        if self.depth(scope).is_some()
            && self.unverified_store().is_some()
            && let Some(done) = self.repair_unverified_store(scope, observer, ask)?
        {
            return Ok(done);
        }
        if !scope.wants(Area::Files) && !scope.wants(Area::Records) {
            let first = self.with_downloads(scope, observer)?;
            return self.repair_all(scope, first, None, observer, ask);
        }
        let state = self.make_state()?;
        let ahead = {
            let context = self.context(&state, observer);
            let _locks = self.locks(&context)?;
            if let Some(number) = unfinished(&state)?.first() {
                return Err(ChangeError::Earlier(*number).into());
            }
            let first = self.with_downloads(scope, observer)?;
            if !ahead::is_needed(&first.0) {
                return self.repair_all(scope, first, Some(context), observer, ask);
            }
            match self.put_records_right(first, scope, context, observer, ask)? {
                Ahead::Ended(report) => return Ok(*report),
                Ahead::Done(done) => done,
            }
        };
        // Only now is it known what is installed: the rest is looked at anew, and its plan shown on its own.
        self.read_again()?;
        let context = self.context(&state, observer);
        let _locks = self.locks(&context)?;
        let again = self.with_downloads(scope, observer)?;
        let rest = self.repair_all(scope, again, Some(context), observer, ask)?;
        Ok(ahead.before_rest(rest))
    }

    /// Repairs what was looked at: the store, then, with a desk, the files.
    pub(super) fn repair_all(
        &self,
        scope: &Scope,
        first: (Checked, Failed),
        context: Option<ChangeContext<'_>>,
        observer: &dyn Observer,
        ask: &mut dyn FnMut(&Preview<'_>) -> Agreement,
    ) -> Result<RepairReport, WorkError> {
        let (first, failed) = first;
        let to_store = first.store.as_ref().is_some_and(|part| !part.plan.is_empty());
        let to_files = !first.plan.actions.is_empty() && first.plan.doubt.is_none();
        if !to_store && !to_files {
            return Ok(report(false, &first, Done::default()));
        }
        let mut shown = first.store.as_ref().map(StorePart::actions).unwrap_or_default();
        if to_files {
            shown.extend(first.plan.actions.iter().map(planned));
        }
        if ask(&Preview::of(&first, shown, false)) == Agreement::No {
            return Ok(report(true, &first, Done::default()));
        }
        let agreed: HashSet<SystemPath> = first.plan.actions.iter().map(|a| a.place.clone()).collect();
        let wanted = Wanted { store: self.depth(scope), ..Wanted::files(scope, &failed) };
        let mut done = Done::default();
        let mut now: Option<Checked> = None;
        let mut known: HashSet<Subject> =
            first.store.iter().flat_map(StorePart::actions).map(|action| action.subject).collect();
        for _ in 0..MAX_ROUNDS {
            let looked = now.as_ref().unwrap_or(&first);
            let Some(part) = looked.store.as_ref().filter(|part| !part.plan.is_empty()) else { break };
            let new: Vec<ActionReport> = part.actions().into_iter().filter(|a| !known.contains(&a.subject)).collect();
            known.extend(new.iter().map(|action| action.subject.clone()));
            // Parts belong together: without an answer to what is new, the store stays as it is now.
            if !new.is_empty() && ask(&Preview::of(looked, new, true)) == Agreement::No {
                break;
            }
            let actions = self.repair_store(part, observer)?;
            let went_on = actions.iter().any(|a| a.result == ActionResult::Done);
            done.store.extend(actions);
            now = Some(self.checked(Wanted { fresh: true, ..wanted }, &Uninterruptible(observer))?);
            if observer.on_event(Event::Advance { items: 0, bytes: 0 }) == Flow::Stop {
                // What was done to the store stands and is told; nothing else is begun.
                done.after = now.map(|now| now.report);
                return Ok(report(false, &first, done));
            }
            if !went_on {
                break;
            }
        }
        let before_files = now.as_ref().unwrap_or(&first);
        if let (Some(context), true) = (context.filter(|_| scope.wants(Area::Files)), to_files || now.is_some()) {
            let mut agreed = agreed;
            let plan = match now.is_some() && before_files.plan.doubt.is_none() {
                true => agreed_to(before_files, &mut agreed, ask),
                false => before_files.plan.clone(),
            };
            if !plan.actions.is_empty() && plan.doubt.is_none() {
                let (number, receipts, after) =
                    self.rounds(context, scope, before_files, plan, agreed, &failed, observer, ask)?;
                if scope.is_whole() {
                    self.note_last_check(&before_files.report.put_right_to(&after));
                }
                done.running = self.still_running(&context, receipts.iter().map(|r| (number, r)));
                (done.change, done.receipts) = (Some(number), receipts);
                done.after = Some(with_records_of(with_store(after, before_files), &before_files.report));
            }
        }
        done.after = done.after.or_else(|| now.map(|now| now.report));
        Ok(report(false, &first, done))
    }

    /// Checks; downloads what a repair would lack, and checks again with it.
    pub(super) fn with_downloads(
        &self,
        scope: &Scope,
        observer: &dyn Observer,
    ) -> Result<(Checked, Failed), WorkError> {
        let mut failed = Failed::new();
        let depth = self.depth(scope);
        let wanted = Wanted { store: depth, fetch: true, ..Wanted::files(scope, &failed) };
        let mut checked = self.checked(wanted, observer)?;
        if checked.plan.doubt.is_none() && !checked.downloads.is_empty() {
            if !self.settings.answerable {
                return Err(WorkError::NobodyToAsk);
            }
            failed = self.download(&checked.downloads, observer)?;
            let wanted = Wanted { store: depth, fetch: true, ..Wanted::files(scope, &failed) };
            checked = self.checked_again(checked, wanted, observer)?;
        }
        Ok((checked, failed))
    }

    /// Checks again after downloads, of which is told what became of each. What is downloaded may show more that is wrong
    /// with the same components, not with others: once is enough.
    pub(super) fn checked_again(
        &self,
        before: Checked,
        wanted: Wanted<'_>,
        observer: &dyn Observer,
    ) -> Result<Checked, WorkError> {
        let mut checked = self.checked(wanted, observer)?;
        let told = before.report.downloads.into_iter().filter(|d| before.downloads.iter().any(|l| l.id == d.component));
        checked.report.downloads =
            told.map(|d| DownloadReport { failed: wanted.failed.get(&d.component).cloned(), ..d }).collect();
        Ok(checked)
    }

    /// One to three rounds, until findings no longer shrink.
    #[allow(clippy::too_many_arguments, reason = "each is a thing of its own")]
    fn rounds(
        &self,
        context: ChangeContext<'_>,
        scope: &Scope,
        first: &Checked,
        mut plan: Plan,
        mut agreed: HashSet<SystemPath>,
        failed: &Failed,
        observer: &dyn Observer,
        ask: &mut dyn FnMut(&Preview<'_>) -> Agreement,
    ) -> Result<(u64, Vec<RoundReceipt>, CheckReport), WorkError> {
        let contents = self.contents();
        let mut change =
            OpenChange::begin(context, Verb::Repair, Area::Files, None, &self.settings.run, self.settings.now)?;
        let number = change.number();
        let mut receipts: Vec<RoundReceipt> = Vec::new();
        let mut problems = problems_of_files(&first.report);
        let mut known: HashSet<FindingId> = first.report.findings.iter().map(|f| f.id.clone()).collect();
        let narrowed = narrowed(scope, first);
        let mut written: HashSet<SystemPath> = HashSet::new();
        let mut after = None;
        for round in 1..=MAX_ROUNDS {
            self.unpack_for(&plan.actions);
            written.extend(plan.actions.iter().map(|action| action.place.clone()));
            let receipt = match change.round(plan.actions, &contents) {
                Ok(receipt) => receipt,
                // What earlier rounds did stands; an unfinished one is left for recovery.
                Err(e @ ChangeError::Unfinished { .. }) => return Err(e.into()),
                Err(e) => {
                    let answered = answered(&receipts);
                    change.end(answered, problems, self.settings.now)?;
                    return Err(e.into());
                }
            };
            let did_something = receipt.outcomes.iter().any(|o| o.failed.is_none());
            receipts.push(receipt);
            let looked = Wanted { written: Some(&written), ..Wanted::files(&narrowed, failed) };
            let next = self.checked(looked, &Uninterruptible(observer))?;
            let shrank = next.report.problems() < problems;
            let new = next.report.findings.iter().any(|f| known.insert(f.id.clone()));
            problems = next.report.problems();
            // Only what is going to be carried out is asked about.
            let goes_on = round < MAX_ROUNDS && did_something && (shrank || new);
            plan = if goes_on { agreed_to(&next, &mut agreed, ask) } else { Plan::default() };
            // What was looked at again is our choice; whether something was named was the operator's.
            after = Some(CheckReport { limited: !scope.is_all(), ..next.report });
            if plan.actions.is_empty() {
                break;
            }
        }
        let answered = answered(&receipts);
        change.end(answered, problems, self.settings.now)?;
        let after = after.unwrap_or_else(|| first.report.clone());
        Ok((number, receipts, after))
    }
}

/// What is to be done in a further round: what nobody has been shown yet is asked about.
fn agreed_to(next: &Checked, agreed: &mut HashSet<SystemPath>, ask: &mut dyn FnMut(&Preview<'_>) -> Agreement) -> Plan {
    let mut plan = next.plan.clone();
    let is_new = |action: &&PlannedAction| !agreed.contains(&action.place);
    if plan.actions.iter().any(|a| is_new(&a)) {
        let preview = Preview::of(next, plan.actions.iter().filter(is_new).map(planned).collect(), true);
        match ask(&preview) {
            Agreement::Yes => agreed.extend(plan.actions.iter().map(|a| a.place.clone())),
            Agreement::No => plan.actions.retain(|action| agreed.contains(&action.place)),
        }
    }
    plan
}

/// After a round only the components that were touched are looked at again; what was written, on the medium.
fn narrowed(scope: &Scope, checked: &Checked) -> Scope {
    if !scope.is_all() {
        return scope.clone();
    }
    let mut components: Vec<String> =
        checked.report.findings.iter().filter_map(|f| f.component.as_ref()).map(|c| c.name.clone()).collect();
    components.sort();
    components.dedup();
    Scope { areas: vec![Area::Files], components, ..Scope::default() }
}

fn answered(receipts: &[RoundReceipt]) -> u64 {
    let done = |r: &RoundReceipt| {
        r.outcomes
            .iter()
            .filter(|o| o.failed.is_none())
            .filter_map(|o| r.actions.iter().find(|a| a.index == o.index))
            .map(|a| a.findings.len())
            .sum::<usize>()
    };
    receipts.iter().map(done).sum::<usize>() as u64
}

/// An action as it is planned.
pub(super) fn planned(action: &PlannedAction) -> ActionReport {
    let items: &[Item] = if let Operation::Put(items) = &action.operation { items } else { &[] };
    ActionReport {
        findings: action.findings.clone(),
        subject: Subject::path(&action.listed),
        path: Some(action.listed.clone()),
        component: action.component.clone(),
        action: action.operation.kind(),
        things: items.len().max(1) as u64,
        bytes: match (&action.operation, action.before) {
            (Operation::Free, Some(before)) => before.size,
            _ => items.iter().map(|i| if let ItemKind::File { size, .. } = i.kind { size } else { 0 }).sum(),
        },
        result: ActionResult::Planned,
        why: None,
    }
}

/// The actions of a round with what came of them.
pub(super) fn carried_out(receipt: &RoundReceipt) -> Vec<ActionReport> {
    let mut reports = Vec::new();
    for action in &receipt.actions {
        let mut report = planned(action);
        let outcome = receipt.outcomes.iter().find(|o| o.index == action.index);
        report.why = outcome.and_then(|o| o.failed.clone());
        report.result = ActionResult::from_failure(report.why.as_deref());
        reports.push(report);
    }
    reports
}

/// What a repair did.
#[derive(Default)]
pub(super) struct Done {
    /// What became of the store's parts.
    pub(super) store: Vec<ActionReport>,
    /// The change of the files.
    pub(super) change: Option<u64>,
    /// Its rounds.
    pub(super) receipts: Vec<RoundReceipt>,
    /// What still runs on what was replaced.
    pub(super) running: RunningReport,
    /// The check afterwards.
    pub(super) after: Option<CheckReport>,
}

/// A check of what was touched, with what the last look at the store found.
fn with_store(mut after: CheckReport, last: &Checked) -> CheckReport {
    if let Some(part) = &last.store {
        after.areas.insert(0, part.area.clone());
        after.findings.splice(0..0, part.findings.iter().cloned());
        after.notes.splice(0..0, part.notes.iter().cloned());
        after.left.splice(0..0, part.plan.left.iter().cloned());
        after.outcome = after.outcome.min(part.area.outcome);
    }
    after
}

fn problems_of_files(report: &CheckReport) -> u64 {
    report.areas.iter().filter(|a| a.area == Area::Files).map(|a| a.problems).sum()
}

pub(super) fn report(plan_only: bool, checked: &Checked, done: Done) -> RepairReport {
    let mut areas = Vec::new();
    let store_problems = checked.store.as_ref().is_some_and(|p| p.area.problems > 0 || !p.plan.is_empty());
    if store_problems || !done.store.is_empty() {
        areas.push(area_change(Area::Store, checked, &done));
    }
    if checked.records.as_ref().is_some_and(|p| p.area.problems > 0) {
        areas.push(area_change(Area::Records, checked, &done));
    }
    if checked.report.areas.iter().any(|a| a.area == Area::Files) {
        areas.push(area_change(Area::Files, checked, &done));
    }
    if checked.report.areas.iter().any(|a| a.area == Area::Apps) {
        areas.push(area_change(Area::Apps, checked, &done));
    }
    RepairReport {
        format: RepairReport::FORMAT.into(),
        plan_only,
        areas,
        running: done.running,
        before: checked.report.clone(),
        after: done.after,
        proof: None,
    }
}

/// What one area's part of a repair came to.
fn area_change(area: Area, checked: &Checked, done: &Done) -> AreaChange {
    let actions: Vec<ActionReport> = match area {
        Area::Store if done.after.is_none() => checked.store.as_ref().map(StorePart::actions).unwrap_or_default(),
        Area::Store => done.store.clone(),
        // Whatever was to be done about them was done, or declined, before the rest.
        Area::Records => {
            let part = checked.records.as_ref().filter(|_| done.after.is_none());
            part.map(|part| part.planned.plan.actions.iter().map(planned).collect()).unwrap_or_default()
        }
        // What keeps an application from being started comes right with files; listing it anew is told on its own when it is done.
        Area::Apps if done.after.is_none() => super::registering::planned_registrations(&checked.report.findings),
        Area::Apps => Vec::new(),
        _ if done.receipts.is_empty() && done.after.is_none() => checked.plan.actions.iter().map(planned).collect(),
        _ => done.receipts.iter().flat_map(carried_out).collect(),
    };
    let known =
        |left: &Left, report: &CheckReport| report.findings.iter().find(|f| f.id == left.finding).map(|f| f.area);
    let of_area = |left: &&Left| {
        let told = known(left, &checked.report).or_else(|| known(left, done.after.as_ref()?));
        told.unwrap_or(Area::Files) == area
    };
    let after = done.after.as_ref();
    let mut remaining: Vec<Left> =
        after.map_or(&checked.report.left, |a| &a.left).iter().filter(of_area).cloned().collect();
    if area == Area::Files {
        add_blocked(&mut remaining, checked, &done.receipts);
    }
    let still = |left: &Left| after.is_none_or(|a| a.findings.iter().any(|f| f.id == left.finding));
    remaining.retain(still);
    for finding in after.into_iter().flat_map(|a| &a.findings).filter(|f| f.area == area) {
        if remaining.iter().any(|l| l.finding == finding.id) {
            continue;
        }
        let failed = actions.iter().find(|a| a.findings.contains(&finding.id)).and_then(|a| a.why.clone());
        let before = checked.report.findings.iter().any(|f| f.id == finding.id);
        let reason = failed.unwrap_or_else(|| still_or_later(before).into());
        let next = match finding.subject.as_path() {
            Some(path) => crate::model::quoted(path.as_bytes()),
            None => finding.id.as_str().to_owned(),
        };
        remaining.push(Left::of(finding, reason, Some(format!("veritum explain {next}"))));
    }
    let problems = |report: &CheckReport| report.areas.iter().find(|a| a.area == area).map_or(0, |a| a.problems);
    let put_right = after.map_or(0, |after| problems(&checked.report).saturating_sub(problems(after)));
    AreaChange { area, change: done.change.filter(|_| area == Area::Files), actions, put_right, remaining }
}

/// Why a finding is there after a repair that had no reason to leave it.
pub(super) fn still_or_later(was_known: bool) -> &'static str {
    if was_known {
        "it is so again, or still, after the repair"
    } else {
        "it came to light later, or was damaged meanwhile"
    }
}

/// What stood in the way of actions, by the findings that they would have answered.
fn add_blocked(remaining: &mut Vec<Left>, checked: &Checked, receipts: &[RoundReceipt]) {
    for blocked in receipts.iter().flat_map(|r| &r.blocked) {
        let action =
            receipts.iter().flat_map(|r| &r.actions).chain(&checked.plan.actions).find(|a| a.place == blocked.place);
        let Some(action) = action else { continue };
        for finding in &action.findings {
            remaining.retain(|l| l.finding != *finding);
            remaining.push(Left {
                finding: finding.clone(),
                subject: Subject::path(&action.listed),
                path: Some(action.listed.clone()),
                reason: blocked.why.clone(),
                next: blocked.next.clone(),
            });
        }
    }
}
