//! `repair updates`: what is damaged goes aside, lists are fetched afresh, and then the proof that updates come.

use std::collections::HashSet;
use std::sync::PoisonError;

use super::cleared::{Cleared, answered, beside, renamed, shown};
use super::clearing::{Ready, staying};
use super::proof::not_tried;
use super::repair::{Agreement, Preview, planned};
use super::updates::{AskArchives, LocksHeld, UpdatesPart};
use super::{Engine, WorkError};
use crate::change::{ChangeContext, ChangeError, Locks, OpenChange, RoundReceipt, Verb, unfinished};
use crate::event::{Observer, Uninterruptible};
use crate::model::{self, ActionKind, ActionResult, Area, Scope, SystemPath};
use crate::plan::Plan;
use crate::platform::Platform as _;
use crate::platform::debian::Debian;
use crate::platform::services::PausedUnit;
use crate::report::{ActionReport, ProofOutcome, RepairReport};
use crate::store::NoContents;

/// With other lists more may come to light, once.
const MAX_ROUNDS: usize = 2;

/// How far the caches are cleared.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct ClearUpdates {
    /// All of both caches goes aside, not only what is damaged.
    pub everything: bool,
    /// Nothing is done: the plan is only shown.
    pub plan_only: bool,
}

/// A repair of updates that is under way.
struct Job<'a> {
    context: ChangeContext<'a>,
    /// Begun when there is something to be done.
    change: Option<OpenChange<'a>>,
    number: Option<u64>,
    receipts: Vec<RoundReceipt>,
    /// What was done beside the files.
    beside: Vec<ActionReport>,
    /// Actions that were agreed to, by place.
    tried: HashSet<SystemPath>,
}

impl<'a> Job<'a> {
    fn new(context: ChangeContext<'a>) -> Self {
        let (receipts, beside, tried) = (Vec::new(), Vec::new(), HashSet::new());
        Self { context, change: None, number: None, receipts, beside, tried }
    }

    fn change(&mut self, run: &str, now: jiff::Timestamp) -> Result<&mut OpenChange<'a>, WorkError> {
        if self.change.is_none() {
            let change = OpenChange::begin(self.context, Verb::Repair, Area::Updates, None, run, now)?;
            self.number = Some(change.number());
            self.change = Some(change);
        }
        match &mut self.change {
            Some(change) => Ok(change),
            None => Err(WorkError::Stopped),
        }
    }
}

impl Engine {
    /// Clears what keeps updates from coming, fetches lists afresh, and proves that updates come.
    ///
    /// # Errors
    /// When somebody else works on the machine, or the disk failed; what had been done by then is in the journal.
    pub fn repair_updates(
        &mut self,
        wanted: ClearUpdates,
        observer: &dyn Observer,
        ask: &mut dyn FnMut(&Preview<'_>) -> Agreement,
    ) -> Result<RepairReport, WorkError> {
        if wanted.plan_only {
            let state = self.state()?;
            let _lock = self.shared_lock(state.as_ref())?;
            let ready = self.ready(wanted, LocksHeld::ByOthers, observer)?;
            return Ok(self.told(true, &ready, None));
        }
        let report = self.clear_caches(wanted, observer, ask)?;
        // Declined as a whole: then nothing else is asked.
        if report.proof.is_none() {
            return Ok(report);
        }
        self.finish_installs(report, observer, ask)
    }

    fn clear_caches(
        &self,
        wanted: ClearUpdates,
        observer: &dyn Observer,
        ask: &mut dyn FnMut(&Preview<'_>) -> Agreement,
    ) -> Result<RepairReport, WorkError> {
        self.require_writable()?;
        let in_the_way = self.services_in_the_way(observer)?;
        let state = self.make_state()?;
        let context = self.context(&state, observer);
        let mut locks = context.lock_own()?;
        if let Some(number) = unfinished(&state)?.first() {
            return Err(ChangeError::Earlier(*number).into());
        }
        let mut job = Job::new(context);
        let cleared = self.clear(wanted, &in_the_way, &mut locks, &mut job, ask);
        // What is put back takes these locks itself.
        locks.keep_own();
        // Whatever went wrong: what is held is put back, and the change ended, as far as that can be done.
        let lasting =
            matches!(cleared, Err(WorkError::Change(ChangeError::Unfinished { .. } | ChangeError::ServiceHeld { .. })));
        if let Some(change) = job.change.take().filter(|_| !lasting) {
            change.end(answered(&job.receipts), 0, self.settings.now)?;
        }
        cleared
    }

    fn clear(
        &self,
        wanted: ClearUpdates,
        in_the_way: &[PausedUnit],
        locks: &mut Locks,
        job: &mut Job<'_>,
        ask: &mut dyn FnMut(&Preview<'_>) -> Agreement,
    ) -> Result<RepairReport, WorkError> {
        let observer = job.context.observer;
        if self.hold_services(in_the_way, job, ask)? == Agreement::No {
            return Ok(self.declined());
        }
        job.context.lock_too(locks, &Debian.update_locks())?;
        let mut ready = self.ready(wanted, LocksHeld::ByUs, observer)?;
        if ready.plan.doubt.is_some() {
            return Ok(self.told(false, &ready, None));
        }
        let actions = shown(&ready);
        let stay = if wanted.everything { (0, 0) } else { staying(&ready) };
        if !actions.is_empty() && self.asked(&ready.part, &ready.plan, actions, Some(stay), ask) == Agreement::No {
            return Ok(self.told(true, &ready, None));
        }
        // What is fetched may need the room already.
        if !ready.frees.actions.is_empty() {
            let actions = std::mem::take(&mut ready.frees.actions);
            job.tried.extend(actions.iter().map(|action| action.place.clone()));
            let change = job.change(&self.settings.run, self.settings.now)?;
            let receipt = change.round(actions, &NoContents)?;
            job.receipts.push(receipt);
        }
        let fetched = self.with_archive(|archive| archive.fetch_lists(&self.machine, &mut ready.renewals, observer));
        // Once something took effect it is told, whatever was stopped after that.
        let stopped = match fetched {
            Err(_) if job.receipts.is_empty() => return Err(WorkError::Stopped),
            fetched => fetched.is_err(),
        };
        ready.plan = match stopped {
            true => Plan::default(),
            false => self.planned_updates(&ready.part, &ready.asides, (&ready.renewals, &ready.renewals)),
        };
        let last = self.change_updates(&ready, job, ask)?;
        let waiting = &last.as_ref().unwrap_or(&ready.part).waiting;
        let proof = if stopped { Err(WorkError::Stopped) } else { self.proof(&ready.renewals, waiting, observer) };
        let proof = match proof {
            Err(WorkError::Stopped) if !job.receipts.is_empty() => not_tried(waiting, "it was stopped"),
            proof => proof?,
        };
        if proof.outcome != ProofOutcome::Failed {
            self.forget_failures(&ready.part, job)?;
        }
        let beside = std::mem::take(&mut job.beside);
        let Some(change) = job.change.take() else {
            let mut report = self.told(false, &ready, None);
            report.proof = Some(proof);
            return Ok(report);
        };
        let remain = last.as_ref().map_or(ready.part.area.problems, |last| last.area.problems);
        // What was held takes these locks itself when it is put back.
        locks.keep_own();
        change.end(answered(&job.receipts), remain, self.settings.now)?;
        // What was held is as it was only now.
        let last = match last.filter(|_| beside.is_empty()) {
            Some(last) => last,
            None => self.updates(LocksHeld::ByUs, AskArchives::No, &Uninterruptible(observer))?,
        };
        let number = job.number.unwrap_or_default();
        let cleared = Cleared { number, receipts: std::mem::take(&mut job.receipts), beside, last };
        let mut report = self.told(false, &ready, Some(&cleared));
        report.proof = Some(proof);
        Ok(report)
    }

    /// Asks whether services that hold a lock may be held for the time of the repair, and holds them.
    fn hold_services(
        &self,
        units: &[PausedUnit],
        job: &mut Job<'_>,
        ask: &mut dyn FnMut(&Preview<'_>) -> Agreement,
    ) -> Result<Agreement, WorkError> {
        let check = self.blank_report(&Scope { areas: vec![Area::Updates], ..Scope::default() });
        let names = |units: &[PausedUnit]| units.iter().map(|unit| unit.name.clone()).collect::<Vec<_>>();
        let mut units = units.to_vec();
        let mut actions: Vec<ActionReport>;
        loop {
            if units.is_empty() {
                return Ok(Agreement::Yes);
            }
            actions = units.iter().map(|unit| beside(ActionKind::Pause, &unit.name, Vec::new())).collect();
            let shown = actions.clone();
            let preview =
                Preview { check: &check, actions: shown, bytes: 0, left: &[], further: false, ahead: true, stay: None };
            if ask(&preview) == Agreement::No {
                return Ok(Agreement::No);
            }
            // While somebody thought about it, it may have ended, or begun to install: that is never stopped.
            let now = self.services_in_the_way(job.context.observer)?;
            let same = names(&now) == names(&units);
            units = now;
            if same {
                break;
            }
        }
        let change = job.change(&self.settings.run, self.settings.now)?;
        let name = format!("veritum-recovery-{}", self.settings.run);
        // Where the service manager cannot watch over us, a mask that only holds for this run of the machine must do.
        if !self.settings.recovery.is_empty() {
            let _ = self.services.run_beside(&name, &self.settings.recovery);
        }
        change.pause(units)?;
        actions.iter_mut().for_each(|action| action.result = ActionResult::Done);
        job.beside.extend(actions);
        Ok(Agreement::Yes)
    }

    /// Has the service manager forget failures whose cause is gone.
    fn forget_failures(&self, part: &UpdatesPart, job: &mut Job<'_>) -> Result<(), WorkError> {
        let forgets = |f: &&model::Finding| f.is_mended_by(model::ActionKind::ForgetFailure);
        for finding in part.findings.iter().filter(forgets) {
            let Some(unit) = finding.subject.name() else { continue };
            let change = job.change(&self.settings.run, self.settings.now)?;
            let why = change.delegate("forget-failure", unit, "failed", &mut |services| {
                services.forget_failure(unit).map_err(|e| model::error_chain(&e))
            })?;
            let result = ActionResult::from_failure(why.as_deref());
            job.beside.push(ActionReport {
                result,
                why,
                ..beside(ActionKind::ForgetFailure, unit, vec![finding.id.clone()])
            });
        }
        Ok(())
    }

    /// Shows what would be done, and asks.
    fn asked(
        &self,
        part: &UpdatesPart,
        plan: &Plan,
        actions: Vec<ActionReport>,
        stay: Option<(u64, u64)>,
        ask: &mut dyn FnMut(&Preview<'_>) -> Agreement,
    ) -> Agreement {
        let check = self.update_report(part, plan);
        let bytes = actions.iter().map(|a| a.bytes).sum();
        let further = stay.is_none();
        ask(&Preview { check: &check, actions, bytes, left: &plan.left, further, ahead: false, stay })
    }

    /// Carries out what was planned, and looks again: with other lists, more may come to light. Answers what was found then.
    fn change_updates(
        &self,
        ready: &Ready,
        job: &mut Job<'_>,
        ask: &mut dyn FnMut(&Preview<'_>) -> Agreement,
    ) -> Result<Option<UpdatesPart>, WorkError> {
        let observer = job.context.observer;
        let contents = self.contents();
        let mut plan = ready.plan.clone();
        plan.actions.retain(|action| !job.tried.contains(&action.place));
        let mut last = None;
        let rounds = job.receipts.len() + MAX_ROUNDS;
        while !plan.actions.is_empty() && job.receipts.len() < rounds {
            job.tried.extend(plan.actions.iter().map(|action| action.place.clone()));
            let change = job.change(&self.settings.run, self.settings.now)?;
            let receipt = change.round(std::mem::take(&mut plan.actions), &contents)?;
            job.receipts.push(receipt);
            // The lists are other ones now: whatever was read of them is read again.
            *self.archive.write().unwrap_or_else(PoisonError::into_inner) = None;
            let part = self.updates(LocksHeld::ByUs, AskArchives::No, &Uninterruptible(observer))?;
            plan = self.planned_updates(&part, &self.asides(&part, ClearUpdates::default()), (&[], &ready.renewals));
            plan.actions.retain(|action| !job.tried.contains(&action.place));
            let more: Vec<ActionReport> = plan.actions.iter().map(planned).map(renamed).collect();
            if !more.is_empty() && self.asked(&part, &plan, more, None, ask) == Agreement::No {
                plan.actions.clear();
            }
            last = Some(part);
        }
        Ok(last)
    }
}
