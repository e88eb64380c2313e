//! Applications that the desktop does not know of, though they are there: its own tool lists them anew, as a step of its own
//! after their files are right.

use super::repair::{Agreement, Preview};
use super::{Engine, WorkError};
use crate::areas::apps::REGISTRY;
use crate::change::{ChangeError, OpenChange, Verb, unfinished};
use crate::event::{Event, Flow, Observer};
use crate::model::{ActionKind, ActionResult, Area, Finding, Scope, SystemPath, error_words};
use crate::plan::Left;
use crate::report::{ActionReport, AreaChange, RepairReport};

impl Engine {
    /// Gives findings that the desktop's own tool answers their remedy, where it can be run.
    pub(super) fn can_register(&self, finding: &Finding) -> bool {
        finding.needs_registering() && self.tool_runner().is_ok() && self.has_registry()
    }

    fn has_registry(&self) -> bool {
        self.machine.resolve(&SystemPath::literal(REGISTRY.program)).is_ok()
    }

    /// Has the desktop's own tool list the applications anew, when a repair found that it does not know of some.
    pub(super) fn register(
        &self,
        mut report: RepairReport,
        scope: &Scope,
        observer: &dyn Observer,
        ask: &mut dyn FnMut(&Preview<'_>) -> Agreement,
    ) -> Result<RepairReport, WorkError> {
        let last = report.after.as_ref().unwrap_or(&report.before);
        let unknown: Vec<Finding> =
            last.findings.iter().filter(|f| f.is_mended_by(ActionKind::Register)).cloned().collect();
        // Who stopped the one does not want the other.
        if unknown.is_empty() || observer.on_event(Event::Advance { items: 0, bytes: 0 }) == Flow::Stop {
            return Ok(report);
        }
        let mut actions = planned_registrations(&unknown);
        let preview = Preview {
            check: last,
            actions: actions.clone(),
            bytes: 0,
            left: &[],
            further: false,
            ahead: false,
            stay: None,
        };
        let by_hand = self.by_hand(&format!("{} {}", REGISTRY.program, REGISTRY.folder));
        if ask(&preview) == Agreement::No {
            leave(&mut report, &unknown, "nobody agreed to it", &by_hand);
            return Ok(report);
        }
        let (number, failed) = self.registered(&unknown, observer)?;
        let part = self.apps_part(scope);
        for action in &mut actions {
            let stays = part.findings.iter().any(|f| action.findings.contains(&f.id));
            action.result = if stays { ActionResult::Failed } else { ActionResult::Done };
            action.why =
                stays.then(|| failed.clone().unwrap_or_else(|| "the desktop's tool ran, and did not list it".into()));
        }
        let put_right = actions.iter().filter(|action| action.result == ActionResult::Done).count() as u64;
        for area in &mut report.areas {
            // Told on its own below, with what came of it.
            area.actions.retain(|action| action.action != ActionKind::Register);
            area.remaining.retain(|left| !unknown.iter().any(|f| f.id == left.finding));
        }
        let still = |f: &&Finding| part.findings.iter().any(|now| now.id == f.id);
        let why = failed.unwrap_or_else(|| "the desktop's tool did not list it".into());
        let remaining = unknown.iter().filter(still).map(|f| Left::of(f, why.clone(), Some(by_hand.clone()))).collect();
        let mut after = report.after.take().unwrap_or_else(|| report.before.clone());
        after.findings.retain(|f| f.area != Area::Apps);
        after.findings.extend(part.findings);
        after.left.retain(|left| after.findings.iter().any(|f| f.id == left.finding));
        for area in after.areas.iter_mut().filter(|area| area.area == Area::Apps) {
            *area = part.area.clone();
        }
        after.outcome = after.areas.iter().map(|a| a.outcome).min().unwrap_or(part.area.outcome);
        report.areas.push(AreaChange { area: Area::Apps, change: Some(number), actions, put_right, remaining });
        report.after = Some(after);
        report.plan_only = false;
        Ok(report)
    }

    /// Runs the tool as a change of its own; answers why it failed.
    fn registered(&self, unknown: &[Finding], observer: &dyn Observer) -> Result<(u64, Option<String>), WorkError> {
        self.require_writable()?;
        let state = self.make_state()?;
        let context = self.context(&state, observer);
        let _lock = context.lock_own()?;
        if let Some(number) = unfinished(&state)?.first() {
            return Err(ChangeError::Earlier(*number).into());
        }
        let mut change =
            OpenChange::begin(context, Verb::Repair, Area::Apps, None, &self.settings.run, self.settings.now)?;
        let number = change.number();
        let names: Vec<String> = unknown.iter().map(|f| f.subject.to_string()).collect();
        let failed = change.delegate("register", &names.join(" "), "unregistered", &mut |_| {
            let way = self.tool_runner().map_err(str::to_owned)?;
            let ran =
                way.run(REGISTRY.program, &[REGISTRY.folder], &[], &self.settings.stop).map_err(|e| error_words(&e))?;
            if ran.is_fine() { Ok(()) } else { Err(format!("the desktop's tool failed: {}", ran.last_line())) }
        })?;
        let answered = if failed.is_none() { unknown.len() as u64 } else { 0 };
        change.end(answered, unknown.len() as u64 - answered, self.settings.now)?;
        Ok((number, failed))
    }
}

/// What would be done about those that the desktop's own tool answers.
pub(super) fn planned_registrations(findings: &[Finding]) -> Vec<ActionReport> {
    let action = |finding: &Finding| ActionReport {
        findings: vec![finding.id.clone()],
        subject: finding.subject.clone(),
        path: finding.subject.as_path().cloned(),
        component: finding.component.clone(),
        action: ActionKind::Register,
        things: 1,
        bytes: 0,
        result: ActionResult::Planned,
        why: None,
    };
    findings.iter().filter(|finding| finding.is_mended_by(ActionKind::Register)).map(action).collect()
}

/// Says of each why it is left, and what a person can type.
fn leave(report: &mut RepairReport, unknown: &[Finding], reason: &str, next: &str) {
    for area in report.areas.iter_mut().filter(|area| area.area == Area::Apps) {
        area.remaining.retain(|left| !unknown.iter().any(|f| f.id == left.finding));
        area.remaining.extend(unknown.iter().map(|f| Left::of(f, reason.to_owned(), Some(next.to_owned()))));
    }
}
