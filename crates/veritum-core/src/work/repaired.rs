//! [`Repaired`]: what a repair did, area by area, and its document.

use std::collections::HashSet;

use crate::areas::{Checked, Examined, Step, ToolRun};
use crate::change::{Blocked, RoundReceipt};
use crate::model::{Action, ActionResult, AreaName, Finding, FindingId, Subject, quoted};
use crate::plan::{Left, PlannedAction};
use crate::report::{ActionReport, AreaChange, AreaReport, CheckReport, RepairReport, RunningReport};

/// The actions of one change in one area.
#[derive(Debug, Default)]
struct AreaWork {
    area: AreaName,
    change: Option<u64>,
    actions: Vec<ActionReport>,
}

/// Why a finding was not repaired, and what to do next.
#[derive(Debug)]
struct Reason {
    finding: FindingId,
    why: String,
    next: Option<Action>,
    /// The planned action, if its subject is not the finding's.
    about: Option<ActionReport>,
}

/// A problem as it is counted.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
struct Problem {
    id: FindingId,
    subject: Subject,
}

impl Problem {
    fn new(finding: &Finding) -> Self {
        Self { id: finding.id.clone(), subject: finding.subject.clone() }
    }
}

/// What a repair did so far.
#[derive(Debug)]
pub(super) struct Repaired {
    before: CheckReport,
    /// The problems of areas that were examined again after their locks were taken.
    anew: Vec<(AreaName, Vec<Problem>)>,
    planned: Vec<(AreaName, Vec<ActionReport>)>,
    areas: Vec<AreaWork>,
    reasons: Vec<Reason>,
    /// Problems found when an area was examined again.
    later: HashSet<Problem>,
    /// Findings that a tool of the system should answer.
    by_tools: Vec<FindingId>,
}

impl Repaired {
    /// A repair that has not begun, with its planned actions by area.
    pub(super) fn new(before: CheckReport, planned: Vec<(AreaName, Vec<ActionReport>)>) -> Self {
        let (anew, areas, reasons, later, by_tools) = Default::default();
        Self { before, anew, planned, areas, reasons, later, by_tools }
    }

    /// Whether anything was carried out, or tried.
    pub(super) fn did_something(&self) -> bool {
        !self.areas.is_empty()
    }

    /// Whether there is more to report than the plan.
    pub(super) fn has_something_to_report(&self) -> bool {
        self.did_something() || !self.reasons.is_empty()
    }

    /// Records the problems of an area that was examined again after its locks were taken.
    pub(super) fn found_again<'a>(&mut self, area: &AreaName, problems: impl Iterator<Item = &'a Finding>) {
        self.anew.push((area.clone(), problems.map(Problem::new).collect()));
    }

    /// Records the problems that are known after a part of the repair; those it revealed count as well.
    pub(super) fn saw(&mut self, now: &Checked) {
        self.later.extend(now.areas().flat_map(Examined::problems).map(Problem::new));
    }

    /// Records actions in an area, with the number of their change if there is one.
    pub(super) fn did(&mut self, area: &AreaName, change: Option<u64>, actions: Vec<ActionReport>) {
        let is_it = |work: &&mut AreaWork| work.area == *area && (work.change == change || change.is_none());
        match self.areas.iter_mut().find(is_it) {
            Some(work) => work.actions.extend(actions),
            None => self.areas.push(AreaWork { area: area.clone(), change, actions }),
        }
    }

    /// Records the results of a round of a change.
    pub(super) fn changed(&mut self, area: &AreaName, change: Option<u64>, receipt: &RoundReceipt, renews: bool) {
        self.did(area, change, ActionReport::carried_out(receipt, renews));
    }

    /// Records why planned actions were not carried out.
    pub(super) fn blocked(&mut self, blocked: &[Blocked], planned: &[PlannedAction]) {
        for one in blocked {
            let Some(action) = planned.iter().find(|action| action.place == one.place) else { continue };
            let about = ActionReport::planned(action);
            for finding in &about.findings {
                let (finding, about) = (finding.clone(), Some(about.clone()));
                self.reasons.push(Reason { finding, why: one.why.clone(), next: one.next.clone(), about });
            }
        }
    }

    /// Records that a tool of the system ran; the next examination shows whether it answered the findings.
    pub(super) fn ran(
        &mut self,
        area: &AreaName,
        change: Option<u64>,
        (tool, why): (&ToolRun, Option<String>),
        shows: &[ActionReport],
    ) {
        self.did(area, change, shows.iter().map(|action| action.clone().settled(why.clone())).collect());
        let why = why.unwrap_or_else(|| format!("{} ran but did not repair it", tool.called));
        let next = Some(Action::explained("for details run", tool.by_hand.clone()));
        for finding in shows.iter().flat_map(|action| &action.findings) {
            self.by_tools.push(finding.clone());
            self.reasons.push(Reason { finding: finding.clone(), why: why.clone(), next: next.clone(), about: None });
        }
    }

    /// Records that a step was skipped, and why.
    pub(super) fn put_off(&mut self, step: &Step, why: &str) {
        for finding in step.shows.iter().flat_map(|action| &action.findings) {
            let (finding, why) = (finding.clone(), why.to_owned());
            self.reasons.push(Reason { finding, why, next: None, about: None });
        }
    }

    /// The document of a repair that did nothing: it was only shown, was declined, or had nothing to do.
    pub(super) fn only_planned(self, plan_only: bool) -> RepairReport {
        let planned = |area: &AreaName| {
            self.planned.iter().filter(|(of, _)| of == area).flat_map(|(_, actions)| actions.clone()).collect()
        };
        let change = |report: &AreaReport| AreaChange {
            change: None,
            actions: planned(&report.area),
            repaired: 0,
            remaining: left_in(&self.before, &report.area),
            area: report.area.clone(),
        };
        let areas = self.before.areas.iter().map(change).collect();
        RepairReport::new(plan_only, areas, self.before)
    }

    /// The document of a repair: problems that no longer exist were repaired, the others remain, each with the reason.
    pub(super) fn finish(mut self, after: CheckReport, running: RunningReport) -> RepairReport {
        self.judge_tools(&after);
        let areas = after.areas.iter().flat_map(|report| self.area_changes(&report.area, &after)).collect();
        RepairReport { running, after: Some(after), ..RepairReport::new(false, areas, self.before) }
    }

    /// Judges the actions of tools by the findings that are left, not by their exit status.
    fn judge_tools(&mut self, after: &CheckReport) {
        let Self { areas, reasons, by_tools, .. } = self;
        for action in areas.iter_mut().flat_map(|work| &mut work.actions) {
            if action.findings.is_empty() || !action.findings.iter().all(|id| by_tools.contains(id)) {
                continue;
            }
            let still = action.findings.iter().find(|id| after.findings.iter().any(|finding| finding.id == **id));
            let why = still.and_then(|id| reasons.iter().find(|reason| reason.finding == *id));
            action.result = ActionResult::from_failure(still.map(|id| id.as_str()));
            action.why = why.map(|reason| reason.why.clone());
        }
    }

    /// The changes of an area; the totals are in the first.
    fn area_changes(&self, area: &AreaName, after: &CheckReport) -> Vec<AreaChange> {
        let works = self.areas.iter().filter(|work| work.area == *area);
        let change = |work: &AreaWork| AreaChange {
            area: area.clone(),
            change: work.change,
            actions: work.actions.clone(),
            repaired: 0,
            remaining: Vec::new(),
        };
        let mut all: Vec<AreaChange> = works.map(change).collect();
        if all.is_empty() {
            all.push(change(&AreaWork { area: area.clone(), ..AreaWork::default() }));
        }
        let before = self.problems_before(area);
        let now: Vec<&Finding> = after.findings.iter().filter(|finding| finding.area == *area).collect();
        if let Some(first) = all.first_mut() {
            let came = self.came_to_light(area, &before);
            let known: Vec<&Problem> = before.iter().chain(&came).collect();
            // A subject that now has another problem was not repaired.
            let is_new = |finding: &Finding| !known.iter().any(|problem| problem.id == finding.id);
            let still =
                |problem: &Problem| now.iter().any(|f| f.id == problem.id || f.subject == problem.subject && is_new(f));
            first.repaired = known.iter().filter(|problem| !still(problem)).count() as u64;
            first.remaining = now.iter().map(|finding| self.remaining(finding, &before, after)).collect();
        }
        all
    }

    /// Problems of an area that appeared later and were acted on.
    fn came_to_light(&self, area: &AreaName, before: &[Problem]) -> Vec<Problem> {
        let works = self.areas.iter().filter(|work| work.area == *area);
        let done = works.flat_map(|work| &work.actions).filter(|action| action.result == ActionResult::Done);
        let answered: HashSet<&FindingId> = done.flat_map(|action| &action.findings).collect();
        let later = self.later.iter().filter(|problem| answered.contains(&problem.id));
        later.filter(|problem| !before.iter().any(|known| known.id == problem.id)).cloned().collect()
    }

    fn problems_before(&self, area: &AreaName) -> Vec<Problem> {
        match self.anew.iter().rev().find(|(of, _)| of == area) {
            Some((_, found)) => found.clone(),
            None => self.before.findings.iter().filter(|finding| finding.area == *area).map(Problem::new).collect(),
        }
    }

    /// Why a finding remains after the repair.
    fn remaining(&self, finding: &Finding, before: &[Problem], after: &CheckReport) -> Left {
        let known = self.reasons.iter().rev().find(|reason| reason.finding == finding.id);
        if let Some(Reason { why, next, about, .. }) = known {
            let left = Left::new(finding, why.clone(), next.clone());
            return match about {
                Some(action) => Left { subject: action.subject.clone(), path: action.path.clone(), ..left },
                None => left,
            };
        }
        if let Some(left) = after.left.iter().find(|left| left.finding == finding.id) {
            return left.clone();
        }
        let mut actions = self.areas.iter().flat_map(|work| &work.actions);
        let failed = actions.find(|action| action.findings.contains(&finding.id)).and_then(|action| action.why.clone());
        let reason =
            failed.unwrap_or_else(|| still_or_later(before.iter().any(|problem| problem.id == finding.id)).into());
        Left::new(finding, reason, Some(Action::command(format!("veritum explain {}", typed(finding)))))
    }
}

/// What a repair would leave in an area.
fn left_in(report: &CheckReport, area: &AreaName) -> Vec<Left> {
    let is_of =
        |left: &&Left| report.findings.iter().any(|finding| finding.id == left.finding && finding.area == *area);
    report.left.iter().filter(is_of).cloned().collect()
}

/// The command that explains a finding.
fn typed(finding: &Finding) -> String {
    match finding.subject.as_path() {
        Some(path) => quoted(path.as_bytes()),
        None => finding.id.as_str().to_owned(),
    }
}

/// Why a finding exists after a repair that had no reason to skip it.
pub(super) fn still_or_later(was_known: bool) -> &'static str {
    if was_known { "still there after the repair" } else { "found by the final check" }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::areas::{FILES, fill};
    use crate::model::{ActionKind, Verdict};

    fn problem(name: &str, verdict: Verdict) -> Finding {
        Finding::on(FILES, Subject::Service { name: name.to_owned() }, verdict)
    }

    fn check(findings: &[Finding]) -> CheckReport {
        let mut report = CheckReport::blank(jiff::Timestamp::UNIX_EPOCH);
        fill(&[&Examined { findings: findings.to_vec(), ..Examined::new(FILES) }], &mut report, None);
        report
    }

    /// The counts of repaired and remaining problems, from those found before, later and now, and those acted on.
    fn counted(before: &[Finding], later: &[Finding], now: &[Finding], done: &[&Finding]) -> (u64, usize) {
        let mut repaired = Repaired::new(check(before), Vec::new());
        let mut seen = Checked::default();
        seen.replace(Examined { findings: later.to_vec(), ..Examined::new(FILES) });
        repaired.saw(&seen);
        let action = |f: &&Finding| ActionReport::on(ActionKind::Restore, f.subject.clone(), vec![f.id.clone()]);
        repaired.did(&FILES, Some(1), done.iter().map(|f| action(f).settled(None)).collect());
        let report = repaired.finish(check(now), RunningReport::default());
        let [area] = report.areas.as_slice() else { panic!("{:?}", report.areas) };
        (area.repaired, area.remaining.len())
    }

    #[test]
    fn what_is_there_no_longer_was_repaired_and_what_came_to_light_counts_when_something_was_done_about_it() {
        let [quay, pier, sand] = ["quay", "pier", "sand"].map(|name| problem(name, Verdict::Altered));
        let both = [quay.clone(), pier.clone()];
        assert_eq!(counted(&both, &[], std::slice::from_ref(&pier), &[&quay]), (1, 1));
        assert_eq!(counted(&both, std::slice::from_ref(&sand), &[], &[&quay, &pier, &sand]), (3, 0));
        assert_eq!(counted(&both, std::slice::from_ref(&sand), &[], &[&quay, &pier]), (2, 0), "that went by itself");
        assert_eq!(counted(&both, &[], std::slice::from_ref(&sand), &[&quay, &pier]), (2, 1), "that is new");
    }

    #[test]
    fn what_has_become_another_problem_of_the_same_thing_was_not_repaired() {
        let (before, after) = (problem("quay", Verdict::Altered), problem("quay", Verdict::Missing));
        assert_eq!(counted(std::slice::from_ref(&before), &[], std::slice::from_ref(&after), &[&before]), (0, 1));
        let both = [before.clone(), after.clone()];
        assert_eq!(counted(&both, &[], std::slice::from_ref(&after), &[&before]), (1, 1), "they were two");
    }
}
