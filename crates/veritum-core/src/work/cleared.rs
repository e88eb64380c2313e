//! What a repair of updates tells, before and after.

use super::{Engine, finishing};
use crate::areas::updates::{Ready, UpdatesPart, findings_of, left_of, planned_updates};
use crate::areas::{UPDATES, fill};
use crate::change::RoundReceipt;
use crate::event::NoObserver;
use crate::model::{self, ActionKind, FindingId, Scope, Subject};
use crate::plan::{Left, Plan};
use crate::report::{ActionReport, AreaChange, CheckReport, RepairReport};

/// What was done, and what was found afterwards.
pub(super) struct Cleared {
    pub(super) number: u64,
    pub(super) receipts: Vec<RoundReceipt>,
    pub(super) beside: Vec<ActionReport>,
    pub(super) last: UpdatesPart,
}

impl Engine {
    /// What was found as the document of a check.
    pub(super) fn update_report(&self, part: &UpdatesPart, plan: &Plan) -> CheckReport {
        let mut report = self.blank_report(&Scope { areas: vec![UPDATES], ..Scope::default() });
        fill(&[&part.examined], &mut report, None);
        (report.left, report.doubt) = (plan.left.clone(), plan.doubt.clone());
        CheckReport { sources: self.supply().source_reports(), limited: true, ..report }
    }

    /// That nothing was done, and nothing looked at, since nobody agreed to what comes first.
    pub(super) fn declined(&self) -> RepairReport {
        let scope = Scope { areas: vec![UPDATES], ..Scope::default() };
        RepairReport::new(true, Vec::new(), self.blank_report(&scope))
    }

    pub(super) fn told(&self, plan_only: bool, ready: &Ready, done: Option<&Cleared>) -> RepairReport {
        let before = self.update_report(&ready.part, &ready.plan);
        let after = done.map(|done| {
            let renewals = (ready.renewals.as_slice(), ready.renewals.as_slice());
            let plan = self.with_updates(&NoObserver, |cx| Ok(planned_updates(cx, &done.last, &[], renewals)));
            let plan = plan.unwrap_or_default();
            self.update_report(&done.last, &plan)
        });
        let receipts = done.map(|done| done.receipts.as_slice()).unwrap_or_default();
        let actions: Vec<ActionReport> = match (done, plan_only) {
            (Some(done), _) => {
                let files = receipts.iter().flat_map(ActionReport::carried_out).map(renamed);
                done.beside.iter().cloned().chain(files).collect()
            }
            (None, true) => {
                let begun = ready.part.examined.problems().filter(|f| finishing::can_be_finished(f));
                shown(ready).into_iter().chain(begun.map(finishing::planned)).collect()
            }
            (None, false) => Vec::new(),
        };
        let last = after.as_ref().unwrap_or(&before);
        let left = |finding: &model::Finding| {
            let failed = actions.iter().find(|a| a.findings.contains(&finding.id)).and_then(|a| a.why.clone());
            let blocked = receipts.iter().flat_map(|r| &r.blocked).find_map(|blocked| {
                let same = finding.subject.as_path()?.name() == blocked.place.name();
                same.then(|| (blocked.why.clone(), blocked.next.clone()))
            });
            let known = ready
                .frees
                .left
                .iter()
                .chain(&ready.plan.left)
                .chain(&last.left)
                .find(|left| left.finding == finding.id);
            match (known, failed.map(|why| (why, None)).or(blocked)) {
                (_, Some((why, next))) => Left::of(finding, why, next),
                (Some(left), None) => left.clone(),
                (None, None) => left_of(&ready.renewals, finding),
            }
        };
        let frees = &ready.frees.left;
        let otherwise = |left: &&Left| !frees.iter().any(|one| one.finding == left.finding);
        let planned_left = || before.left.iter().filter(otherwise).chain(frees).cloned().collect();
        let remaining = if plan_only { planned_left() } else { last.findings.iter().map(left).collect() };
        let put_right = before.problems().saturating_sub(last.problems());
        let change = done.map(|done| done.number);
        let area = AreaChange { area: UPDATES, change, actions, put_right, remaining };
        RepairReport { after, ..RepairReport::new(plan_only, vec![area], before) }
    }
}

/// What would be done, as it is shown: a source's lists as one.
pub(super) fn shown(ready: &Ready) -> Vec<ActionReport> {
    let forgets = |f: &&model::Finding| f.is_mended_by(model::ActionKind::ForgetFailure);
    let failures = ready.part.examined.problems().filter(forgets);
    let mut all: Vec<ActionReport> =
        ready.frees.actions.iter().chain(&ready.plan.actions).map(ActionReport::planned).map(renamed).collect();
    all.extend(
        failures.map(|f| beside(ActionKind::ForgetFailure, f.subject.name().unwrap_or_default(), vec![f.id.clone()])),
    );
    for renewal in ready.renewals.iter().filter(|renewal| renewal.brings_something()) {
        let source = renewal.source.words();
        let (things, bytes) = renewal.to_come();
        let findings = findings_of(&ready.part, &source);
        // Its lists as they are go when the new ones come.
        all.retain(|action| !action.path.as_ref().is_some_and(|path| renewal.has(path)));
        let shown = ActionReport::on(ActionKind::Renew, Subject::Source { name: source }, findings);
        all.push(ActionReport { things, bytes, ..shown });
    }
    all
}

/// Something that is done beside the files.
pub(super) fn beside(action: ActionKind, unit: &str, findings: Vec<FindingId>) -> ActionReport {
    ActionReport::on(action, Subject::Service { name: unit.to_owned() }, findings)
}

/// What is put in the place of lists was fetched, not restored.
pub(super) fn renamed(action: ActionReport) -> ActionReport {
    let renew = action.action == ActionKind::Restore;
    ActionReport { action: if renew { ActionKind::Renew } else { action.action }, ..action }
}
