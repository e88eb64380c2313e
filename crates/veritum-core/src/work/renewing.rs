//! `repair updates`: what is damaged goes aside, lists are fetched afresh, and then the proof that updates come.

use std::collections::HashSet;
use std::sync::PoisonError;

use super::cleared::{Cleared, beside, renamed, shown};
use super::consent::{Agreement, Ask, Preview};
use super::session::Session;
use super::{Engine, WorkError};
use crate::areas::updates::{
    AskArchives, ClearUpdates, LocksHeld, Ready, UpdatesPart, asides, look, not_tried, planned_updates, proof, ready,
    services_in_the_way, staying,
};
use crate::areas::{Cx, Failed, How, UPDATES};
use crate::change::{ChangeContext, ChangeError, Locks, Verb, unfinished};
use crate::event::{Observer, Uninterruptible};
use crate::model::{self, ActionKind, ActionResult, Scope, SystemPath};
use crate::plan::Plan;
use crate::platform::Platform as _;
use crate::platform::debian::Debian;
use crate::platform::services::PausedUnit;
use crate::report::{ActionReport, ProofOutcome, RepairReport};
use crate::store::NoContents;

/// With other lists more may come to light, once.
const MAX_ROUNDS: usize = 2;

/// A repair of updates that is under way.
struct Job<'a> {
    context: ChangeContext<'a>,
    session: Session<'a>,
    /// What was done beside the files.
    beside: Vec<ActionReport>,
    /// Actions that were agreed to, by place.
    tried: HashSet<SystemPath>,
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
        ask: &mut Ask<'_>,
    ) -> Result<RepairReport, WorkError> {
        if wanted.plan_only {
            let state = self.system.state()?;
            let _lock = self.system.shared_lock(state.as_ref())?;
            let ready = self.with_updates(observer, |cx| ready(cx, wanted, LocksHeld::ByOthers))?;
            return Ok(self.told(true, &ready, None));
        }
        let report = self.clear_caches(wanted, observer, ask)?;
        // Declined as a whole: then nothing else is asked.
        if report.proof.is_none() {
            return Ok(report);
        }
        self.finish_installs(report, observer, ask)
    }

    /// Does something with the context of a look at updates alone.
    pub(super) fn with_updates<T>(
        &self,
        observer: &dyn Observer,
        work: impl FnOnce(&Cx<'_>) -> Result<T, WorkError>,
    ) -> Result<T, WorkError> {
        let (scope, none) = (Scope { areas: vec![UPDATES], ..Scope::default() }, Failed::new());
        work(&Cx::new(self.supply(), &scope, vec![UPDATES], How::plain(&none), observer))
    }

    fn clear_caches(
        &self,
        wanted: ClearUpdates,
        observer: &dyn Observer,
        ask: &mut Ask<'_>,
    ) -> Result<RepairReport, WorkError> {
        self.system.require_writable()?;
        let in_the_way = self.with_updates(observer, services_in_the_way)?;
        let state = self.system.make_state()?;
        let context = self.context(&state, observer);
        let mut locks = context.lock_own()?;
        if let Some(number) = unfinished(&state)?.first() {
            return Err(ChangeError::Earlier(*number).into());
        }
        let session = Session::new(context, &self.system.settings, Verb::Repair, UPDATES);
        let mut job = Job { context, session, beside: Vec::new(), tried: HashSet::new() };
        let cleared = self.clear(wanted, &in_the_way, &mut locks, &mut job, ask);
        // What is put back takes these locks itself.
        locks.keep_own();
        // Whatever went wrong: what is held is put back, and the change ended, as far as that can be done.
        let lasting =
            matches!(cleared, Err(WorkError::Change(ChangeError::Unfinished { .. } | ChangeError::ServiceHeld { .. })));
        match lasting {
            true => job.session.leave(),
            false => job.session.end(0)?,
        }
        cleared
    }

    fn clear(
        &self,
        wanted: ClearUpdates,
        in_the_way: &[PausedUnit],
        locks: &mut Locks,
        job: &mut Job<'_>,
        ask: &mut Ask<'_>,
    ) -> Result<RepairReport, WorkError> {
        let observer = job.context.observer;
        if self.hold_services(in_the_way, job, ask)? == Agreement::No {
            return Ok(self.declined());
        }
        job.context.lock_too(locks, &Debian.update_locks())?;
        let mut ready = self.with_updates(observer, |cx| ready(cx, wanted, LocksHeld::ByUs))?;
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
            job.session.round(actions, &NoContents, 0)?;
        }
        let fetched = self
            .supply()
            .with_archive(|archive| archive.fetch_lists(&self.system.machine, &mut ready.renewals, observer));
        // Once something took effect it is told, whatever was stopped after that.
        let stopped = match fetched {
            Err(_) if job.session.receipts.is_empty() => return Err(WorkError::Stopped),
            fetched => fetched.is_err(),
        };
        ready.plan = match stopped {
            true => Plan::default(),
            false => self.with_updates(observer, |cx| {
                Ok(planned_updates(cx, &ready.part, &ready.asides, (&ready.renewals, &ready.renewals)))
            })?,
        };
        let last = self.change_updates(&ready, job, ask)?;
        let waiting = &last.as_ref().unwrap_or(&ready.part).waiting;
        let proof = if stopped {
            Err(WorkError::Stopped)
        } else {
            self.with_updates(observer, |cx| proof(cx, &ready.renewals, waiting))
        };
        let proof = match proof {
            Err(WorkError::Stopped) if !job.session.receipts.is_empty() => not_tried(waiting, "it was stopped"),
            proof => proof?,
        };
        if proof.outcome != ProofOutcome::Failed {
            self.forget_failures(&ready.part, job)?;
        }
        let beside = std::mem::take(&mut job.beside);
        if job.session.number.is_none() {
            let mut report = self.told(false, &ready, None);
            report.proof = Some(proof);
            return Ok(report);
        }
        let remain = last.as_ref().unwrap_or(&ready.part).examined.problems().count() as u64;
        // What was held takes these locks itself when it is put back.
        locks.keep_own();
        job.session.end(remain)?;
        // What was held is as it was only now.
        let last = match last.filter(|_| beside.is_empty()) {
            Some(last) => last,
            None => self.with_updates(&Uninterruptible(observer), |cx| look(cx, LocksHeld::ByUs, AskArchives::No))?,
        };
        let number = job.session.number.unwrap_or_default();
        let cleared = Cleared { number, receipts: std::mem::take(&mut job.session.receipts), beside, last };
        let mut report = self.told(false, &ready, Some(&cleared));
        report.proof = Some(proof);
        Ok(report)
    }

    /// Asks whether services that hold a lock may be held for the time of the repair, and holds them.
    fn hold_services(
        &self,
        units: &[PausedUnit],
        job: &mut Job<'_>,
        ask: &mut Ask<'_>,
    ) -> Result<Agreement, WorkError> {
        let check = self.blank_report(&Scope { areas: vec![UPDATES], ..Scope::default() });
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
            let now = self.with_updates(job.context.observer, services_in_the_way)?;
            let same = names(&now) == names(&units);
            units = now;
            if same {
                break;
            }
        }
        let name = format!("veritum-recovery-{}", self.system.settings.run);
        // Where the service manager cannot watch over us, a mask that only holds for this run of the machine must do.
        if !self.system.settings.recovery.is_empty() {
            let _ = self.system.services.run_beside(&name, &self.system.settings.recovery);
        }
        job.session.change()?.pause(units)?;
        actions.iter_mut().for_each(|action| action.result = ActionResult::Done);
        job.beside.extend(actions);
        Ok(Agreement::Yes)
    }

    /// Has the service manager forget failures whose cause is gone.
    fn forget_failures(&self, part: &UpdatesPart, job: &mut Job<'_>) -> Result<(), WorkError> {
        let forgets = |f: &&model::Finding| f.is_mended_by(model::ActionKind::ForgetFailure);
        for finding in part.examined.problems().filter(forgets) {
            let Some(unit) = finding.subject.name() else { continue };
            let why = job.session.delegate(ActionKind::ForgetFailure, (unit, "failed"), &mut |services| {
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
        ask: &mut Ask<'_>,
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
        ask: &mut Ask<'_>,
    ) -> Result<Option<UpdatesPart>, WorkError> {
        let observer = job.context.observer;
        let contents = self.supply().contents();
        let mut plan = ready.plan.clone();
        plan.actions.retain(|action| !job.tried.contains(&action.place));
        let mut last = None;
        let rounds = job.session.receipts.len() + MAX_ROUNDS;
        while !plan.actions.is_empty() && job.session.receipts.len() < rounds {
            job.tried.extend(plan.actions.iter().map(|action| action.place.clone()));
            job.session.round(std::mem::take(&mut plan.actions), &contents, 0)?;
            // The lists are other ones now: whatever was read of them is read again.
            *self.open.archive.write().unwrap_or_else(PoisonError::into_inner) = None;
            let (part, next) = self.with_updates(&Uninterruptible(observer), |cx| {
                let part = look(cx, LocksHeld::ByUs, AskArchives::No)?;
                let asides = asides(cx, &part, ClearUpdates::default());
                let plan = planned_updates(cx, &part, &asides, (&[], &ready.renewals));
                Ok((part, plan))
            })?;
            plan = next;
            plan.actions.retain(|action| !job.tried.contains(&action.place));
            let more: Vec<ActionReport> = plan.actions.iter().map(ActionReport::planned).map(renamed).collect();
            if !more.is_empty() && self.asked(&part, &plan, more, None, ask) == Agreement::No {
                plan.actions.clear();
            }
            last = Some(part);
        }
        Ok(last)
    }
}
