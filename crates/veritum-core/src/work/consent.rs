//! [`Consent`]: what was shown and agreed to. The one memory of it: nobody is asked twice about the same.

use std::collections::HashSet;

use crate::areas::{After, Checked, FileWork, Step, Work};
use crate::model::{ActionKind, Subject};
use crate::plan::Left;
use crate::report::{ActionReport, CheckReport};

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
    /// Whether the rest is looked at anew after this, and what is new then asked about.
    pub ahead: bool,
    /// Of updates: how many downloads are right and stay, with their bytes.
    pub stay: Option<(u64, u64)>,
}

impl<'a> Preview<'a> {
    /// These actions, on what a check found.
    pub(super) fn new(check: &'a CheckReport, actions: Vec<ActionReport>) -> Self {
        let bytes = actions.iter().map(|a| a.bytes).sum();
        Self { check, actions, bytes, left: &check.left, further: false, ahead: false, stay: None }
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

/// Whoever is asked.
pub(super) type Ask<'a> = dyn FnMut(&Preview<'_>) -> Agreement + 'a;

/// What was shown and agreed to.
pub(super) struct Consent<'a> {
    ask: &'a mut Ask<'a>,
    agreed: HashSet<(ActionKind, Subject)>,
}

fn key(action: &ActionReport) -> (ActionKind, Subject) {
    (action.action, action.subject.clone())
}

impl<'a> Consent<'a> {
    /// Nothing was shown yet.
    pub(super) fn new(ask: &'a mut Ask<'a>) -> Self {
        Self { ask, agreed: HashSet::new() }
    }

    /// Shows what would be done; what is agreed to is remembered.
    pub(super) fn to(&mut self, preview: &Preview<'_>) -> bool {
        if (self.ask)(preview) == Agreement::No {
            return false;
        }
        self.agreed.extend(preview.actions.iter().map(key));
        true
    }

    /// What of a step is agreed to; what nobody has been shown yet is asked about. Parts of the store belong together: without an
    /// answer to what is new, it stays as it is.
    pub(super) fn allowed(&mut self, check: &dyn Fn() -> CheckReport, step: &Step) -> Option<Step> {
        let new: Vec<ActionReport> =
            step.shows.iter().filter(|action| !self.agreed.contains(&key(action))).cloned().collect();
        if new.is_empty() || self.to(&Preview { further: true, ..Preview::new(&check(), new) }) {
            return Some(step.clone());
        }
        let Work::Files(FileWork { plan, made }) = &step.work else { return None };
        let mut plan = plan.clone();
        plan.actions.retain(|action| self.agreed.contains(&key(&ActionReport::planned(action))));
        if plan.actions.is_empty() {
            return None;
        }
        let shows = plan.actions.iter().map(ActionReport::planned).collect();
        Some(Step { shows, work: Work::Files(FileWork { plan, made: made.clone() }), ..*step })
    }
}

/// What is shown first: every step, but those that can only be known once another is done.
pub(super) fn first_shown(checked: &Checked) -> (Vec<ActionReport>, bool) {
    let (mut shown, mut ahead) = (Vec::new(), false);
    let doubt = checked.doubt().is_some();
    for step in checked.areas().flat_map(|examined| &examined.steps) {
        // A disk that is in doubt is written nowhere.
        if doubt && step.work.is_on_machine() {
            continue;
        }
        shown.extend(step.shows.iter().cloned());
        ahead |= step.after != After::Known;
        if step.after == After::Unknown {
            break;
        }
    }
    (shown, ahead)
}
