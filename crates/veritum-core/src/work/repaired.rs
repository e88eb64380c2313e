//! [`Repaired`]: what a repair did, area by area, and its document.

use crate::areas::Checked;
use crate::change::{Blocked, RoundReceipt};
use crate::model::{AreaName, Finding, FindingId, quoted};
use crate::plan::Left;
use crate::report::{ActionReport, AreaChange, CheckReport, RepairReport, RunningReport};

/// What was done in one area.
#[derive(Debug, Default)]
pub(super) struct AreaWork {
    area: AreaName,
    change: Option<u64>,
    actions: Vec<ActionReport>,
    blocked: Vec<(Blocked, ActionReport)>,
}

/// What a repair did so far.
#[derive(Debug)]
pub(super) struct Repaired {
    before: CheckReport,
    planned: Vec<(AreaName, Vec<ActionReport>)>,
    areas: Vec<AreaWork>,
}

impl Repaired {
    /// Nothing was done yet.
    pub(super) fn new(before: CheckReport, checked: &Checked) -> Self {
        let shows = |examined: &crate::areas::Examined| {
            let all = examined.steps.iter().flat_map(|step| step.shows.iter().cloned());
            (examined.area.clone(), all.collect())
        };
        Self { before, planned: checked.areas().map(shows).collect(), areas: Vec::new() }
    }

    /// Whether anything was carried out, or tried.
    pub(super) fn did_something(&self) -> bool {
        !self.areas.is_empty()
    }

    /// Notes what was done in an area.
    pub(super) fn did(&mut self, area: &AreaName, actions: Vec<ActionReport>) {
        self.work(area).actions.extend(actions);
    }

    /// Notes what came of the rounds of a change.
    pub(super) fn changed(&mut self, area: &AreaName, change: u64, receipt: &RoundReceipt) {
        let work = self.work(area);
        work.change = Some(change);
        work.actions.extend(ActionReport::carried_out(receipt));
    }

    /// Notes that something stood in the way of actions, by what was planned.
    pub(super) fn blocked(&mut self, area: &AreaName, blocked: &[Blocked], planned: &[crate::plan::PlannedAction]) {
        let work = self.work(area);
        for one in blocked {
            let action = planned.iter().find(|action| action.place == one.place);
            work.blocked.extend(action.map(|action| (one.clone(), ActionReport::planned(action))));
        }
    }

    fn work(&mut self, area: &AreaName) -> &mut AreaWork {
        let at = self.areas.iter().position(|work| work.area == *area).unwrap_or_else(|| {
            self.areas.push(AreaWork { area: area.clone(), ..AreaWork::default() });
            self.areas.len() - 1
        });
        &mut self.areas[at]
    }

    /// The document of a repair of which nothing was carried out: it was only to be shown, or was declined, or there was nothing
    /// to be done.
    pub(super) fn only_planned(self, plan_only: bool) -> RepairReport {
        let planned = |area: &AreaName| {
            let found = self.planned.iter().find(|(of, _)| of == area);
            found.map(|(_, actions)| actions.clone()).unwrap_or_default()
        };
        let change = |report: &crate::report::AreaReport| AreaChange {
            change: None,
            actions: planned(&report.area),
            put_right: 0,
            remaining: left_in(&self.before, &report.area),
            area: report.area.clone(),
        };
        let areas = self.before.areas.iter().map(change).collect();
        RepairReport::new(plan_only, areas, self.before)
    }

    /// The document of a repair: what is there no longer was put right, whatever is there remains, each with the reason.
    pub(super) fn finish(mut self, after: CheckReport, running: RunningReport) -> RepairReport {
        let areas: Vec<AreaName> = after.areas.iter().map(|report| report.area.clone()).collect();
        let areas = areas.into_iter().map(|area| self.area_change(area, &after)).collect();
        RepairReport { running, after: Some(after), ..RepairReport::new(false, areas, self.before) }
    }

    fn area_change(&mut self, area: AreaName, after: &CheckReport) -> AreaChange {
        let AreaWork { change, actions, blocked, .. } = std::mem::take(self.work(&area));
        let of_area = |finding: &&Finding| finding.area == area;
        let before: Vec<&FindingId> = self.before.findings.iter().filter(of_area).map(|finding| &finding.id).collect();
        let now: Vec<&Finding> = after.findings.iter().filter(of_area).collect();
        let put_right = before.iter().filter(|id| !now.iter().any(|finding| finding.id == ***id)).count() as u64;
        let remaining = now.iter().map(|finding| {
            let by_this = |action: &ActionReport| action.findings.contains(&finding.id);
            if let Some((why, action)) = blocked.iter().find(|(_, action)| by_this(action)) {
                let left = Left::of(finding, why.why.clone(), why.next.clone());
                return Left { subject: action.subject.clone(), path: action.path.clone(), ..left };
            }
            if let Some(left) = after.left.iter().find(|left| left.finding == finding.id) {
                return left.clone();
            }
            let failed = actions.iter().find(|action| by_this(action)).and_then(|action| action.why.clone());
            let reason = failed.unwrap_or_else(|| still_or_later(before.contains(&&finding.id)).into());
            Left::of(finding, reason, Some(format!("veritum explain {}", typed(finding))))
        });
        AreaChange { change, put_right, remaining: remaining.collect(), actions, area }
    }
}

/// What a repair would leave in an area.
fn left_in(report: &CheckReport, area: &AreaName) -> Vec<Left> {
    let is_of =
        |left: &&Left| report.findings.iter().any(|finding| finding.id == left.finding && finding.area == *area);
    report.left.iter().filter(is_of).cloned().collect()
}

/// What a person types to have a finding explained.
fn typed(finding: &Finding) -> String {
    match finding.subject.as_path() {
        Some(path) => quoted(path.as_bytes()),
        None => finding.id.as_str().to_owned(),
    }
}

/// Why a finding is there after a repair that had no reason to leave it.
pub(super) fn still_or_later(was_known: bool) -> &'static str {
    if was_known {
        "it is so again, or still, after the repair"
    } else {
        "it came to light later, or was damaged meanwhile"
    }
}
