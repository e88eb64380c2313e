//! `repair`: check, show, ask, change, check again until it is stable.

use std::collections::{HashMap, HashSet};

use super::check::Checked;
use super::{WorkError, Workshop};
use crate::change::{ChangeError, Desk, OpenChange, RoundReceipt, Verb, unfinished};
use crate::check::Scope;
use crate::event::{Observer, Steady};
use crate::history;
use crate::model::{Area, ComponentId, FindingId, SystemPath};
use crate::plan::{Action, Deed, Item, ItemKind, Left, Plan};
use crate::report::{ActionReport, AreaChange, CheckReport, DownloadReport, RepairReport, RunningReport};

/// Downloads that were tried and did not come about, with the reason.
type Failed = HashMap<ComponentId, String>;

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
}

impl<'a> Preview<'a> {
    fn of<'b>(checked: &'a Checked, actions: impl Iterator<Item = &'b Action>, further: bool) -> Self {
        let actions: Vec<ActionReport> = actions.map(planned).collect();
        let bytes = actions.iter().map(|a| a.bytes).sum();
        Self { check: &checked.report, actions, bytes, left: &checked.plan.left, further }
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

impl Workshop {
    /// Shows what a repair would do, changes nothing.
    ///
    /// # Errors
    /// As [`Workshop::check`].
    pub fn plan_repair(&mut self, scope: &Scope, observer: &dyn Observer) -> Result<RepairReport, WorkError> {
        self.require_store_sound()?;
        self.require_named(scope)?;
        let state = self.state()?;
        let _lock = self.shared_lock(state.as_ref())?;
        let checked = self.checked(scope, false, &HashMap::new(), observer)?;
        Ok(report(true, None, &checked, Vec::new(), None))
    }

    /// Repairs what is named, or everything; `ask` is shown the plan first.
    ///
    /// # Errors
    /// When nothing could be done, or the disk failed; what had been done by then is in the journal.
    pub fn repair(
        &mut self,
        scope: &Scope,
        observer: &dyn Observer,
        ask: &mut dyn FnMut(&Preview<'_>) -> Agreement,
    ) -> Result<RepairReport, WorkError> {
        self.require_store_sound()?;
        self.require_named(scope)?;
        let state = self.make_state()?;
        let desk = self.desk(&state, observer);
        let _locks = self.locks(&desk)?;
        if let Some(number) = unfinished(&self.machine, &state)?.first() {
            return Err(ChangeError::Earlier(*number).into());
        }
        let (checked, failed) = self.with_downloads(scope, observer)?;
        if checked.plan.actions.is_empty() || checked.plan.doubt.is_some() {
            return Ok(report(false, None, &checked, Vec::new(), None));
        }
        if ask(&Preview::of(&checked, checked.plan.actions.iter(), false)) == Agreement::No {
            return Ok(report(true, None, &checked, Vec::new(), None));
        }
        let (number, receipts, after) = self.rounds(desk, scope, &checked, &failed, observer, ask)?;
        if scope.is_all() {
            let _ = history::keep_last_check(&state, &checked.report.put_right_to(&after));
        }
        let running = self.still_running(&desk, receipts.iter().map(|r| (number, r)));
        Ok(RepairReport { running, ..report(false, Some(number), &checked, receipts, Some(after)) })
    }

    /// Checks; downloads what a repair would lack, and checks again with it.
    fn with_downloads(&self, scope: &Scope, observer: &dyn Observer) -> Result<(Checked, Failed), WorkError> {
        let mut failed = Failed::new();
        let mut checked = self.checked(scope, false, &failed, observer)?;
        let may = checked.plan.doubt.is_none();
        // What is downloaded may show more that is wrong with the same components, not with others: once is enough.
        if may && !checked.downloads.is_empty() {
            let told = std::mem::take(&mut checked.report.downloads);
            failed = self.download(&checked.downloads, observer)?;
            checked = self.checked(scope, false, &failed, observer)?;
            checked.report.downloads =
                told.into_iter().map(|d| DownloadReport { failed: failed.get(&d.component).cloned(), ..d }).collect();
        }
        Ok((checked, failed))
    }

    /// One to three rounds, until findings no longer shrink.
    fn rounds(
        &self,
        desk: Desk<'_>,
        scope: &Scope,
        first: &Checked,
        failed: &Failed,
        observer: &dyn Observer,
        ask: &mut dyn FnMut(&Preview<'_>) -> Agreement,
    ) -> Result<(u64, Vec<RoundReceipt>, CheckReport), WorkError> {
        let contents = self.contents();
        let mut change =
            OpenChange::begin(desk, Verb::Repair, Area::Files, None, &self.settings.run, self.settings.now)?;
        let number = change.number();
        let mut receipts: Vec<RoundReceipt> = Vec::new();
        let mut plan: Plan = first.plan.clone();
        let mut problems = first.report.problems();
        let mut known: HashSet<FindingId> = first.report.findings.iter().map(|f| f.id.clone()).collect();
        let mut agreed: HashSet<SystemPath> = plan.actions.iter().map(|a| a.place.clone()).collect();
        let narrowed = narrowed(scope, first);
        let mut after = None;
        for round in 1..=MAX_ROUNDS {
            self.unpack_for(&plan.actions);
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
            let next = self.checked(&narrowed, true, failed, &Steady(observer))?;
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
    let is_new = |action: &&Action| !agreed.contains(&action.place);
    if plan.actions.iter().any(|a| is_new(&a)) {
        let preview = Preview::of(next, plan.actions.iter().filter(is_new), true);
        match ask(&preview) {
            Agreement::Yes => agreed.extend(plan.actions.iter().map(|a| a.place.clone())),
            Agreement::No => plan.actions.retain(|action| agreed.contains(&action.place)),
        }
    }
    plan
}

/// After a round only the components that were touched are looked at again, on the medium.
fn narrowed(scope: &Scope, checked: &Checked) -> Scope {
    if !scope.is_all() {
        return scope.clone();
    }
    let mut components: Vec<String> =
        checked.report.findings.iter().filter_map(|f| f.component.as_ref()).map(|c| c.name.clone()).collect();
    components.sort();
    components.dedup();
    Scope { paths: Vec::new(), components }
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
pub(super) fn planned(action: &Action) -> ActionReport {
    let items: &[Item] = if let Deed::Put(items) = &action.deed { items } else { &[] };
    let linked =
        items.first().is_some_and(|i| matches!(i.kind, ItemKind::NameOf { .. } | ItemKind::NameOfAction { .. }));
    let word = match &action.deed {
        Deed::Put(_) if linked => "relink",
        Deed::Put(_) => "restore",
        Deed::SetMeta { .. } => "set-mode",
        Deed::Return { .. } => "bring-back",
        Deed::SetAside => "set-aside",
    };
    ActionReport {
        findings: action.findings.clone(),
        path: action.listed.clone(),
        component: action.component.clone(),
        action: word.into(),
        things: items.len().max(1) as u64,
        bytes: items.iter().map(|i| if let ItemKind::File { size, .. } = i.kind { size } else { 0 }).sum(),
        result: "planned".into(),
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
        report.result = if report.why.is_none() { "done" } else { "failed" }.into();
        reports.push(report);
    }
    reports
}

fn report(
    plan_only: bool,
    change: Option<u64>,
    checked: &Checked,
    receipts: Vec<RoundReceipt>,
    after: Option<CheckReport>,
) -> RepairReport {
    let actions: Vec<ActionReport> = match receipts.is_empty() {
        true => checked.plan.actions.iter().map(planned).collect(),
        false => receipts.iter().flat_map(carried_out).collect(),
    };
    let mut remaining: Vec<Left> = Vec::new();
    let final_left = after.as_ref().map_or(&checked.report.left, |a| &a.left);
    remaining.extend(final_left.iter().cloned());
    for receipt in &receipts {
        for blocked in &receipt.blocked {
            let action = receipts
                .iter()
                .flat_map(|r| &r.actions)
                .chain(&checked.plan.actions)
                .find(|a| a.place == blocked.place);
            let Some(action) = action else { continue };
            for finding in &action.findings {
                remaining.retain(|l| l.finding != *finding);
                remaining.push(Left {
                    finding: finding.clone(),
                    path: action.listed.clone(),
                    reason: blocked.why.clone(),
                    next: blocked.next.clone(),
                });
            }
        }
    }
    let still = |left: &Left| after.as_ref().is_none_or(|a| a.findings.iter().any(|f| f.id == left.finding));
    remaining.retain(still);
    if let Some(after) = &after {
        for finding in &after.findings {
            if remaining.iter().any(|l| l.finding == finding.id) {
                continue;
            }
            let Some(path) = finding.subject.as_path() else { continue };
            let failed = actions.iter().find(|a| a.findings.contains(&finding.id)).and_then(|a| a.why.clone());
            let reason = failed.unwrap_or_else(|| "it came to light later, or was damaged again".into());
            remaining.push(Left {
                finding: finding.id.clone(),
                path: path.clone(),
                reason,
                next: Some(format!("veritum explain {}", crate::model::quoted(path.as_bytes()))),
            });
        }
    }
    let put_right = after.as_ref().map_or(0, |a| checked.report.problems().saturating_sub(a.problems()));
    let area = AreaChange { area: Area::Files, change, actions, put_right, remaining };
    RepairReport {
        format: RepairReport::FORMAT.into(),
        plan_only,
        areas: vec![area],
        running: RunningReport::default(),
        before: checked.report.clone(),
        after,
    }
}
