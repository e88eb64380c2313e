//! Installations that were begun: the package tool finishes them, as a step of its own after `repair updates`.

use std::sync::atomic::AtomicBool;

use super::consent::{Agreement, Ask, Preview};
use super::session::Session;
use super::{Engine, WorkError};
use crate::areas::updates::{AskArchives, LocksHeld, UpdatesPart, look};
use crate::areas::{UPDATES, fill};
use crate::change::{ChangeError, Verb, unfinished};
use crate::event::{Event, Flow, Observer, Uninterruptible};
use crate::model::{self, ActionKind, ActionResult, FileKind, Finding, FindingId, SystemPath};
use crate::plan::Left;
use crate::platform::Platform as _;
use crate::platform::debian::Debian;
use crate::platform::delegate::ToolOutput;
use crate::report::{ActionReport, AreaChange, CheckReport, RepairReport};
use crate::system::ToolRunner;

const DPKG: &str = "/usr/bin/dpkg";
/// Questions about settings files are answered by keeping what is there.
const CONFIGURE: [&str; 4] = ["--force-confdef", "--force-confold", "--configure", "--pending"];

fn run_dpkg(way: &ToolRunner, words: &[&str], stop: &AtomicBool) -> std::io::Result<ToolOutput> {
    // The lock of the front end stays ours; the tool takes its own.
    way.run(DPKG, words, &[("DPKG_FRONTEND_LOCKED", "1".into())], stop)
}

/// Whether the package tool can finish what a finding tells of.
pub(super) fn can_be_finished(finding: &Finding) -> bool {
    finding.is_mended_by(model::ActionKind::Configure)
}

impl Engine {
    /// Has the package tool finish the installations that a repair found begun; `ask` is shown which.
    pub(super) fn finish_installs(
        &mut self,
        mut report: RepairReport,
        observer: &dyn Observer,
        ask: &mut Ask<'_>,
    ) -> Result<RepairReport, WorkError> {
        let last = report.after.as_ref().unwrap_or(&report.before);
        let begun: Vec<Finding> = last.findings.iter().filter(|f| can_be_finished(f)).cloned().collect();
        // Who stopped the one does not want the other.
        if begun.is_empty() || observer.on_event(Event::Advance { items: 0, bytes: 0 }) == Flow::Stop {
            return Ok(report);
        }
        let way = match self.way_to_configure() {
            Ok(way) => way,
            Err((reason, next)) => {
                leave(&mut report, &begun, &reason, &next);
                return Ok(report);
            }
        };
        let mut actions: Vec<ActionReport> = begun.iter().map(planned).collect();
        let preview = Preview { bytes: 0, left: &[], ..Preview::new(last, actions.clone()) };
        if ask(&preview) == Agreement::No {
            leave(&mut report, &begun, "nobody agreed to it", "dpkg --configure -a, as root on that system");
            return Ok(report);
        }
        let (number, failed) = self.configure(&way, &begun, observer)?;
        self.system.read_again()?;
        let part = self.with_updates(&Uninterruptible(observer), |cx| look(cx, LocksHeld::ByUs, AskArchives::No))?;
        let still = |id: &FindingId| part.examined.problems().any(|f| f.id == *id);
        for action in &mut actions {
            let stays = action.findings.iter().any(still);
            action.result = if stays { ActionResult::Failed } else { ActionResult::Done };
            action.why = failed.clone().filter(|_| stays);
        }
        let put_right = actions.iter().filter(|action| action.result == ActionResult::Done).count() as u64;
        let after = merged(report.after.take().unwrap_or_else(|| report.before.clone()), &part);
        let why = failed.unwrap_or_else(|| "the package tool ran, and did not finish it".into());
        let remaining = begun.iter().filter(|f| still(&f.id));
        let remaining = remaining.map(|f| Left::of(f, why.clone(), Some("dpkg --configure -a tells more".into())));
        for area in &mut report.areas {
            area.remaining.retain(|left| !begun.iter().any(|f| f.id == left.finding));
        }
        let remaining = remaining.collect();
        report.areas.push(AreaChange { area: UPDATES, change: Some(number), actions, put_right, remaining });
        report.after = Some(after);
        report.plan_only = false;
        Ok(report)
    }

    /// Runs the package tool as a change of its own; answers why it failed.
    fn configure(
        &self,
        way: &ToolRunner,
        begun: &[Finding],
        observer: &dyn Observer,
    ) -> Result<(u64, Option<String>), WorkError> {
        let state = self.system.make_state()?;
        let context = self.context(&state, observer);
        let locks = Debian.locks();
        let mut held = context.lock(&locks)?;
        if let Some(number) = unfinished(&state)?.first() {
            return Err(ChangeError::Earlier(*number).into());
        }
        let mut session = Session::new(context, &self.system.settings, Verb::Repair, UPDATES);
        // All but the first: that one keeps other front ends off.
        locks.iter().skip(1).for_each(|path| held.let_go(path));
        let names: Vec<String> = begun.iter().map(|f| f.subject.to_string()).collect();
        let failed = session.delegate(ActionKind::Configure, (&names.join(" "), "begun"), &mut |_| {
            let ran = run_dpkg(way, &CONFIGURE, &self.system.settings.stop).map_err(|e| model::error_words(&e))?;
            if ran.is_fine() { Ok(()) } else { Err(format!("the package tool failed: {}", ran.last_line())) }
        })?;
        let answered = if failed.is_none() { begun.len() as u64 } else { 0 };
        session.answered_beside(answered);
        session.end(begun.len() as u64 - answered)?;
        Ok((session.number.unwrap_or_default(), failed))
    }

    /// How the machine's package tool can be run, or why it cannot, with the command that a person can type.
    fn way_to_configure(&self) -> Result<ToolRunner, (String, String)> {
        let by_hand = self.system.by_hand("dpkg --configure -a");
        let no = |why: &str| Err((why.to_owned(), by_hand.clone()));
        let way = match self.system.tool_runner() {
            Ok(way) => way,
            Err(why) => return no(why),
        };
        if matches!(way, ToolRunner::Here) {
            return Ok(way);
        }
        let null =
            self.system.machine.dir(&SystemPath::literal("/dev")).and_then(|dir| dir.look(b"null")).ok().flatten();
        if null.is_none_or(|stat| stat.kind != FileKind::Device) {
            return no("that system has no devices as long as it does not run, and its scripts need some");
        }
        match run_dpkg(&way, &["--version"], &self.system.settings.stop) {
            Ok(ran) if ran.is_fine() => Ok(way),
            Ok(ran) => no(&format!("that system cannot be entered ({})", ran.last_line())),
            Err(e) => no(&format!("that system cannot be entered ({})", model::error_words(&e))),
        }
    }
}

/// What would be done about it, as it is shown.
pub(super) fn planned(finding: &Finding) -> ActionReport {
    ActionReport::on(ActionKind::Configure, finding.subject.clone(), vec![finding.id.clone()])
}

/// Says of each why it is not finished, and what a person can type.
fn leave(report: &mut RepairReport, begun: &[Finding], reason: &str, next: &str) {
    for area in report.areas.iter_mut().filter(|area| area.area == UPDATES) {
        area.remaining.retain(|left| !begun.iter().any(|f| f.id == left.finding));
        area.remaining.extend(begun.iter().map(|f| Left::of(f, reason.to_owned(), Some(next.to_owned()))));
    }
}

/// A check's document with what was found of updates since.
fn merged(mut report: CheckReport, part: &UpdatesPart) -> CheckReport {
    let mut updates = report.clone();
    fill(&[&part.examined], &mut updates, None);
    report.findings.retain(|f| f.area != UPDATES);
    report.notes.retain(|f| f.area != UPDATES);
    report.areas.retain(|a| a.area != UPDATES);
    report.findings.extend(updates.findings);
    report.notes.extend(updates.notes);
    report.areas.extend(updates.areas);
    report.left.retain(|left| part.examined.problems().any(|f| f.id == left.finding));
    report.outcome = report.areas.iter().map(|a| a.outcome).min().unwrap_or(updates.outcome);
    report
}
