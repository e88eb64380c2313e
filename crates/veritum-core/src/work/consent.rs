//! [`Consent`]: what was shown and agreed to. Its only record: the user is never asked twice about the same action.

use std::collections::HashSet;

use crate::areas::{After, Checked, FileWork, Stays, Step, Work};
use crate::model::{ActionKind, AreaName, Subject};
use crate::plan::ToolChange;
use crate::report::{ActionReport, CheckReport};

/// The preview before the question.
#[derive(Debug)]
pub struct Preview<'a> {
    /// The check before.
    pub check: &'a CheckReport,
    /// The actions.
    pub actions: Vec<ActionReport>,
    /// Remarks for the user before the question, one sentence each.
    pub remarks: Vec<String>,
    /// The areas of the actions.
    pub areas: Vec<AreaName>,
    /// The size of the files to restore on the machine, in bytes.
    pub written: u64,
    /// Whether replaced files are kept, so that the repair can be undone.
    pub keeps: bool,
    /// Whether packages' own scripts would run, which may change anything.
    pub runs_scripts: bool,
    /// Intact files that a user might expect to be removed.
    pub stays: Vec<Stays>,
    /// Whether this was found only after the agreed actions were done.
    pub further: bool,
}

impl<'a> Preview<'a> {
    /// The preview of these steps, each with its area, after a check.
    pub(super) fn new(check: &'a CheckReport, steps: &[(&AreaName, &Step)]) -> Self {
        let actions = steps.iter().flat_map(|(_, step)| &step.shows).cloned().collect();
        let (mut remarks, mut areas): (Vec<String>, Vec<AreaName>) = Default::default();
        for (area, step) in steps {
            let new: Vec<String> = step.remarks.iter().filter(|remark| !remarks.contains(remark)).cloned().collect();
            remarks.extend(new);
            if areas.last() != Some(*area) {
                areas.push((*area).clone());
            }
        }
        let keeps = steps.iter().any(|(_, step)| kept_by(step).next().is_some());
        let restores = |work: &Work| matches!(work, Work::Disk(_)) || matches!(work, Work::Files(work) if !work.renews);
        let restored = steps.iter().filter(|(_, step)| restores(&step.work));
        let written = restored.flat_map(|(_, step)| kept_by(step)).map(|action| action.bytes).sum();
        let runs_scripts = steps.iter().any(|(_, step)| matches!(&step.work, Work::Tool(tool) if tool.runs_scripts));
        Self { check, actions, remarks, areas, written, keeps, runs_scripts, stays: Vec::new(), further: false }
    }
}

/// The actions of a step that keep what was there.
fn kept_by(step: &Step) -> impl Iterator<Item = &ActionReport> {
    let keeps = match &step.work {
        Work::Files(_) | Work::Fetched(_) | Work::Disk(_) => true,
        Work::Change(change) => matches!(change, ToolChange::Firmware(_)),
        _ => false,
    };
    step.shows.iter().filter(move |action| keeps && action.action.is_undoable())
}

/// The answer to the question.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Agreement {
    /// Go on.
    Yes,
    /// Change nothing.
    No,
}

/// Asks the question.
pub(super) type Ask<'a> = dyn FnMut(&Preview<'_>) -> Agreement + 'a;

/// The identity of an action for consent.
type Key = (ActionKind, Subject);

fn key(action: &ActionReport) -> Key {
    (action.action, action.subject.clone())
}

/// The actions that the user agreed to or declined, and those that were tried.
pub(super) struct Consent<'a> {
    ask: &'a mut Ask<'a>,
    agreed: HashSet<Key>,
    declined: HashSet<Key>,
    tried: HashSet<Key>,
}

impl<'a> Consent<'a> {
    /// A record without any preview.
    pub(super) fn new(ask: &'a mut Ask<'a>) -> Self {
        Self { ask, agreed: HashSet::new(), declined: HashSet::new(), tried: HashSet::new() }
    }

    /// Asks about a preview and records the answer.
    pub(super) fn to(&mut self, preview: &Preview<'_>) -> bool {
        let agreed = (self.ask)(preview) == Agreement::Yes;
        let answered = if agreed { &mut self.agreed } else { &mut self.declined };
        answered.extend(preview.actions.iter().map(key));
        agreed
    }

    /// Records that a step was tried.
    pub(super) fn tried(&mut self, step: &Step) {
        self.tried.extend(step.shows.iter().map(key));
    }

    /// Whether the user agreed to every action of a step.
    pub(super) fn covers(&self, step: &Step) -> bool {
        step.shows.iter().all(|action| self.agreed.contains(&key(action)))
    }

    /// Splits a step by what was agreed to; actions that were not shown yet are asked about. Parts of the store belong together:
    /// without an answer to new ones, the store is not changed. What is tried once in a run is not tried again.
    pub(super) fn allowed(&mut self, check: &dyn Fn() -> CheckReport, area: &AreaName, step: &Step) -> Option<Step> {
        // Findings that another area's repair answers have no action of their own.
        if matches!(&step.work, Work::Files(work) if work.plan.actions.is_empty()) {
            return None;
        }
        if step.work.is_tried_once() && step.shows.iter().all(|action| self.tried.contains(&key(action))) {
            return None;
        }
        let is_new =
            |action: &&ActionReport| !self.agreed.contains(&key(action)) && !self.declined.contains(&key(action));
        let new: Vec<ActionReport> = step.shows.iter().filter(is_new).cloned().collect();
        if !new.is_empty() {
            let new = Step { shows: new, ..step.clone() };
            self.to(&Preview { further: true, ..Preview::new(&check(), &[(area, &new)]) });
        }
        if self.covers(step) {
            return Some(step.clone());
        }
        let Work::Files(FileWork { plan, made, renews, .. }) = &step.work else { return None };
        let mut plan = plan.clone();
        plan.actions.retain(|action| self.agreed.contains(&key(&ActionReport::planned(action))));
        if plan.actions.is_empty() {
            return None;
        }
        let shows = plan.actions.iter().map(ActionReport::planned).collect();
        let work = Work::Files(FileWork { plan, made: made.clone(), renews: *renews, failed: None });
        Some(Step { shows, work, ..step.clone() })
    }
}

/// The steps of the first preview: all steps, up to one after which nothing is known; the steps of an area follow those that
/// must be done `before` it.
pub(super) fn first_shown<'a>(checked: &'a Checked, before: &'a [(AreaName, Step)]) -> Vec<(&'a AreaName, &'a Step)> {
    let mut shown: Vec<(&AreaName, &Step)> = Vec::new();
    let doubt = checked.doubt().is_some();
    for examined in checked.areas() {
        // A disk in doubt is not written to.
        let mut steps = examined.steps.iter().filter(|step| !(doubt && step.work.is_on_machine())).peekable();
        if steps.peek().is_some() {
            shown.extend(before.iter().filter(|(area, _)| *area == examined.area).map(|(area, step)| (area, step)));
        }
        for step in steps {
            shown.push((&examined.area, step));
            if step.after == After::Unknown {
                return shown;
            }
        }
    }
    shown
}

/// The intact files that these areas keep.
pub(super) fn staying(checked: &Checked, areas: &[AreaName]) -> Vec<Stays> {
    checked.areas().filter(|examined| areas.contains(&examined.area)).filter_map(|examined| examined.stays).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::areas::{STORE, UPDATES};
    use crate::model::Subject;

    fn shown(names: &[&str]) -> Vec<ActionReport> {
        let subject = |name: &&str| Subject::Service { name: (*name).to_owned() };
        names.iter().map(|name| ActionReport::on(ActionKind::ForgetFailure, subject(name), Vec::new())).collect()
    }

    fn step(names: &[&str]) -> Step {
        Step::new(shown(names), Work::ForgetFailure(names[0].to_owned()))
    }

    fn blank() -> CheckReport {
        CheckReport::blank(jiff::Timestamp::UNIX_EPOCH)
    }

    /// What was asked about, with each answer as it is wanted.
    fn with(answers: &[Agreement], work: impl FnOnce(&mut Consent<'_>)) -> Vec<Vec<String>> {
        let (mut asked, mut answers) = (Vec::new(), answers.iter());
        let mut ask = |preview: &Preview<'_>| {
            asked.push(preview.actions.iter().map(|action| action.subject.to_string()).collect());
            *answers.next().expect("no further question is asked")
        };
        work(&mut Consent::new(&mut ask));
        asked
    }

    #[test]
    fn what_was_agreed_to_is_done_and_only_what_is_new_is_asked_about() {
        let asked = with(&[Agreement::Yes, Agreement::Yes], |consent| {
            let (known, more) = (step(&["quay"]), step(&["quay", "pier"]));
            assert!(consent.to(&Preview::new(&blank(), &[(&UPDATES, &known)])));
            assert!(consent.covers(&known) && !consent.covers(&more));
            assert!(consent.allowed(&blank, &UPDATES, &known).is_some());
            let allowed = consent.allowed(&blank, &UPDATES, &more).unwrap();
            assert_eq!(allowed.shows, more.shows, "with what was agreed to before");
        });
        assert_eq!(asked, [vec!["quay"], vec!["pier"]]);
    }

    #[test]
    fn what_was_declined_is_neither_done_nor_asked_about_again() {
        let asked = with(&[Agreement::Yes, Agreement::No], |consent| {
            consent.to(&Preview::new(&blank(), &[(&UPDATES, &step(&["quay"]))]));
            for _ in 0..3 {
                assert!(consent.allowed(&blank, &UPDATES, &step(&["quay", "pier"])).is_none());
            }
            assert!(consent.allowed(&blank, &UPDATES, &step(&["quay"])).is_some());
        });
        assert_eq!(asked, [vec!["quay"], vec!["pier"]]);
    }

    #[test]
    fn what_a_tool_was_tried_for_once_is_not_tried_again() {
        with(&[Agreement::Yes], |consent| {
            let step = step(&["quay"]);
            consent.to(&Preview::new(&blank(), &[(&UPDATES, &step)]));
            consent.tried(&step);
            assert!(consent.allowed(&blank, &UPDATES, &step).is_none());
        });
    }

    #[test]
    fn of_areas_that_are_shown_one_after_the_other_each_is_named_once_and_a_remark_is_told_once() {
        let (one, two) = (step(&["quay"]).remarked("It rains."), step(&["pier"]).remarked("It rains."));
        let check = blank();
        let preview = Preview::new(&check, &[(&STORE, &one), (&STORE, &two), (&UPDATES, &one)]);
        assert_eq!((preview.areas, preview.remarks), (vec![STORE, UPDATES], vec!["It rains.".to_owned()]));
        assert!(!preview.keeps && preview.written == 0, "nothing of it is kept for an undo");
    }
}
