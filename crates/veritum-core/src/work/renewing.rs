//! `repair updates`: what is damaged goes aside, lists are fetched afresh, and then the proof that updates come.

use std::collections::{HashMap, HashSet};
use std::sync::PoisonError;
use std::time::Instant;

use super::finishing;
use super::repair::{Agreement, Preview, carried_out, planned};
use super::updates::{AskArchives, LocksHeld, UpdatesPart, watch};
use super::{WorkError, Workshop};
use crate::archive::{Asked, Renewal};
use crate::change::{ChangeError, Desk, Locks, OpenChange, RoundReceipt, Verb, unfinished};
use crate::check::{RightDownload, Scope, locks};
use crate::event::{Observer, Steady};
use crate::model::{self, Area, FileKind, FindingId, Stat, Subject, SystemPath, Verdict};
use crate::plan::{Aside, Coming, Left, Plan, UpdateRules, leave_the_rest, plan_room, plan_updates};
use crate::platform::Platform as _;
use crate::platform::debian::Debian;
use crate::platform::debian::apt::{AptConf, BINARY_CACHES, CACHE, LISTS, LOCKS, UNITS};
use crate::platform::services::PausedUnit;
use crate::report::{ActionReport, AreaChange, CheckReport, ProofWord, RepairReport, RunningReport};
use crate::store::NoContents;

/// Where a file really lies, and what stands there.
type PlaceOf<'a> = dyn Fn(&SystemPath) -> Option<(SystemPath, Option<Stat>)> + 'a;

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

/// What is known before anybody is asked.
struct Ready {
    part: UpdatesPart,
    renewals: Vec<Renewal>,
    asides: Vec<Aside>,
    /// What is taken away first, to make room.
    frees: Plan,
    plan: Plan,
}

/// A repair of updates that is under way.
struct Job<'a> {
    desk: Desk<'a>,
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
    fn new(desk: Desk<'a>) -> Self {
        let (receipts, beside, tried) = (Vec::new(), Vec::new(), HashSet::new());
        Self { desk, change: None, number: None, receipts, beside, tried }
    }

    fn change(&mut self, run: &str, now: jiff::Timestamp) -> Result<&mut OpenChange<'a>, WorkError> {
        if self.change.is_none() {
            let change = OpenChange::begin(self.desk, Verb::Repair, Area::Updates, None, run, now)?;
            self.number = Some(change.number());
            self.change = Some(change);
        }
        match &mut self.change {
            Some(change) => Ok(change),
            None => Err(WorkError::Stopped),
        }
    }
}

/// What was done, and what was found afterwards.
struct Cleared {
    number: u64,
    receipts: Vec<RoundReceipt>,
    beside: Vec<ActionReport>,
    last: UpdatesPart,
}

impl Workshop {
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
        let desk = self.desk(&state, observer);
        let mut locks = desk.lock_own()?;
        if let Some(number) = unfinished(&self.machine, &state)?.first() {
            return Err(ChangeError::Earlier(*number).into());
        }
        let mut job = Job::new(desk);
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
        let observer = job.desk.observer;
        if !in_the_way.is_empty() && self.hold_services(in_the_way, job, ask)? == Agreement::No {
            let ready = self.ready(wanted, LocksHeld::ByOthers, observer)?;
            return Ok(self.told(true, &ready, None));
        }
        job.desk.lock_too(locks, &Debian.update_locks())?;
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
        self.with_archive(|archive| archive.fetch_lists(&self.machine, &mut ready.renewals, observer))
            .map_err(|_| WorkError::Stopped)?;
        ready.plan = self.planned_updates(&ready.part, &ready.asides, &ready.renewals);
        let last = self.change_updates(&ready, job, ask)?;
        let proof = self.proof(&ready.renewals, &last.as_ref().unwrap_or(&ready.part).waiting, observer)?;
        if proof.outcome != ProofWord::Failed {
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
            None => self.updates(LocksHeld::ByUs, AskArchives::No, &Steady(observer))?,
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
        let mut actions: Vec<ActionReport> = units.iter().map(|unit| beside("pause", &unit.name, Vec::new())).collect();
        let check = self.blank_report(&Scope { areas: vec![Area::Updates], ..Scope::default() });
        let shown = actions.clone();
        let preview =
            Preview { check: &check, actions: shown, bytes: 0, left: &[], further: false, ahead: true, stay: None };
        if ask(&preview) == Agreement::No {
            return Ok(Agreement::No);
        }
        let change = job.change(&self.settings.run, self.settings.now)?;
        let name = format!("veritum-recovery-{}", self.settings.run);
        // Where the service manager cannot watch over us, a mask that only holds for this run of the machine must do.
        if !self.settings.recovery.is_empty() {
            let _ = self.services.run_beside(&name, &self.settings.recovery);
        }
        change.pause(units.to_vec())?;
        actions.iter_mut().for_each(|action| action.result = "done".into());
        job.beside.extend(actions);
        Ok(Agreement::Yes)
    }

    /// Has the service manager forget failures whose cause is gone.
    fn forget_failures(&self, part: &UpdatesPart, job: &mut Job<'_>) -> Result<(), WorkError> {
        let forgets =
            |f: &&model::Finding| f.remedy.as_ref().is_some_and(|remedy| remedy.action == model::Action::ForgetFailure);
        for finding in part.findings.iter().filter(forgets) {
            let Some(unit) = finding.subject.name() else { continue };
            let change = job.change(&self.settings.run, self.settings.now)?;
            let why = change.delegate("forget-failure", unit, "failed", &mut |services| {
                services.forget_failure(unit).map_err(|e| model::error_chain(&e))
            })?;
            let result = if why.is_none() { "done" } else { "failed" }.into();
            job.beside.push(ActionReport { result, why, ..beside("forget-failure", unit, vec![finding.id.clone()]) });
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

    /// The units that stand in the way of a repair because they hold a lock that it needs, with how they stand.
    ///
    /// # Errors
    /// When a program holds one that is no such service, or installs something: that is never stopped.
    fn services_in_the_way(&self, observer: &dyn Observer) -> Result<Vec<PausedUnit>, WorkError> {
        let (mut watched, _) = self.lock_holders();
        watch(&mut watched, Instant::now(), observer)?;
        let mut units: Vec<PausedUnit> = Vec::new();
        for one in watched.iter().filter(|one| one.holder.is_some()) {
            let service = one.worker.as_ref().and_then(|worker| worker.service.clone());
            let service = service.filter(|name| UNITS.contains(&name.as_str()) && fetches_only(&one.path));
            let found = service.map(|name| self.with_what_starts_it(&name)).unwrap_or_default();
            if found.is_empty() {
                let held = locks(std::slice::from_ref(one)).into_findings().pop();
                return Err(WorkError::LockHeld {
                    path: one.path.clone(),
                    who: held.as_ref().and_then(|finding| finding.cause.clone()).unwrap_or_default(),
                    stuck: held.is_some_and(|finding| finding.verdict == Verdict::Stuck),
                });
            }
            units.extend(found);
        }
        units.dedup();
        Ok(units)
    }

    /// A service with its timer and path, as far as the service manager knows them; what starts it first.
    fn with_what_starts_it(&self, service: &str) -> Vec<PausedUnit> {
        let stem = service.strip_suffix(".service").unwrap_or(service);
        let names = [format!("{stem}.timer"), format!("{stem}.path"), service.to_owned()];
        let look = |name: String| Some(PausedUnit { before: self.services.look(&name).ok().flatten()?, name });
        names.into_iter().filter_map(look).collect()
    }

    fn ready(&self, wanted: ClearUpdates, held: LocksHeld, observer: &dyn Observer) -> Result<Ready, WorkError> {
        let part = self.updates(held, AskArchives::No, observer)?;
        let renewals = match self.settings.archive.network {
            true => {
                let old_is_fine = AptConf::of(&self.machine).is_off("Acquire::Check-Valid-Until");
                let asked = Asked { only_releases: false, all_anew: wanted.everything, old_is_fine };
                self.with_archive(|archive| archive.renewals(&self.machine, asked, observer))
                    .map_err(|_| WorkError::Stopped)?
            }
            false => Vec::new(),
        };
        let asides = self.asides(&part, wanted);
        let plan = self.planned_updates(&part, &asides, &renewals);
        let files: Vec<SystemPath> = part.to_free.iter().map(|one| one.path.clone()).collect();
        let answers: Vec<FindingId> =
            part.findings.iter().filter(|f| f.verdict == Verdict::NoRoom).map(|f| f.id.clone()).collect();
        let frees = plan_room(&files, &answers, &self.update_rules(&|path| self.place_of_file(path)));
        Ok(Ready { part, renewals, asides, frees, plan })
    }

    /// What goes aside unless a new list takes its place: what is damaged, or all of both caches.
    fn asides(&self, part: &UpdatesPart, wanted: ClearUpdates) -> Vec<Aside> {
        let aside = |f: &&model::Finding| f.remedy.as_ref().is_some_and(|r| r.action == model::Action::SetAside);
        let of_path = |f: &model::Finding| Some((f.subject.as_path()?.clone(), vec![f.id.clone()]));
        let mut all: HashMap<SystemPath, Vec<FindingId>> =
            part.findings.iter().filter(aside).filter_map(of_path).collect();
        for (source, paths) in &part.wrong_lists {
            for path in paths {
                all.insert(path.clone(), findings_of(part, source));
            }
        }
        if wanted.everything {
            for path in self.all_of_both_caches() {
                all.entry(path).or_default();
            }
        }
        let mut all: Vec<Aside> = all.into_iter().map(|(path, findings)| Aside { path, findings }).collect();
        all.sort_by(|a, b| a.path.cmp(&b.path));
        all
    }

    /// Downloads, lists, what is under way of both, and what apt makes of the lists; not the locks.
    fn all_of_both_caches(&self) -> Vec<SystemPath> {
        let mut all = Vec::new();
        for folder in [CACHE, LISTS] {
            for folder in [folder.to_owned(), format!("{folder}/partial")] {
                let Ok(folder) = SystemPath::parse(folder.as_bytes()) else { continue };
                let dir = self.machine.resolve(&folder).and_then(|real| self.machine.dir(&real));
                let names = dir.and_then(|dir| dir.disk().list(dir.fd())).unwrap_or_default();
                let files = names.into_iter().filter(|(name, kind)| {
                    name != b"lock"
                        && name != b"partial"
                        && !name.starts_with(b".veritum-")
                        && *kind != Some(FileKind::Folder)
                });
                all.extend(files.filter_map(|(name, _)| folder.child(&name).ok()));
            }
        }
        all.extend(BINARY_CACHES.map(SystemPath::literal));
        all
    }

    fn planned_updates(&self, part: &UpdatesPart, asides: &[Aside], renewals: &[Renewal]) -> Plan {
        let mut coming = Vec::new();
        for renewal in renewals {
            let findings = findings_of(part, &renewal.source.words());
            coming.extend(renewal.lists().iter().map(|list| Coming { list, findings: findings.clone() }));
        }
        let place = |path: &SystemPath| self.place_of_file(path);
        let mut plan = plan_updates(&part.findings, asides, &coming, &self.update_rules(&place));
        leave_the_rest(&mut plan, &part.findings);
        let answered = |finding: &model::Finding| plan.actions.iter().any(|a| a.findings.contains(&finding.id));
        let comes = |finding: &model::Finding| {
            renewals.iter().any(|r| Some(r.source.words().as_str()) == finding.subject.name() && r.brings_something())
        };
        let renewed = |f: &&model::Finding| f.remedy.as_ref().is_some_and(|r| r.action == model::Action::Renew);
        let left: Vec<Left> = part
            .findings
            .iter()
            .filter(|f| renewed(f) && !answered(f) && !comes(f))
            .map(|f| Left::of(f, reason_of(renewals, f), None))
            .collect();
        plan.left.extend(left);
        plan
    }

    fn update_rules<'a>(&'a self, place: &'a PlaceOf<'a>) -> UpdateRules<'a> {
        UpdateRules {
            protection: &self.protection,
            place,
            owner: self.settings.policy.owner_of_root.unwrap_or((0, 0)),
            despite_disk: self.settings.despite_disk,
        }
    }

    /// Where a file really lies, and what stands there.
    fn place_of_file(&self, path: &SystemPath) -> Option<(SystemPath, Option<Stat>)> {
        let parent = self.machine.resolve(&path.parent()?).ok()?;
        let place = parent.child(path.name()).ok()?;
        let dir = self.machine.dir(&parent).ok()?;
        Some((place, dir.look(path.name()).ok()?))
    }

    /// Carries out what was planned, and looks again: with other lists, more may come to light. Answers what was found then.
    fn change_updates(
        &self,
        ready: &Ready,
        job: &mut Job<'_>,
        ask: &mut dyn FnMut(&Preview<'_>) -> Agreement,
    ) -> Result<Option<UpdatesPart>, WorkError> {
        let observer = job.desk.observer;
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
            let part = self.updates(LocksHeld::ByUs, AskArchives::No, &Steady(observer))?;
            plan = self.planned_updates(&part, &self.asides(&part, ClearUpdates::default()), &[]);
            plan.actions.retain(|action| !job.tried.contains(&action.place));
            let more: Vec<ActionReport> = plan.actions.iter().map(planned).map(renamed).collect();
            if !more.is_empty() && self.asked(&part, &plan, more, None, ask) == Agreement::No {
                plan.actions.clear();
            }
            last = Some(part);
        }
        Ok(last)
    }

    /// What was found as the document of a check.
    fn update_report(&self, part: &UpdatesPart, plan: &Plan) -> CheckReport {
        CheckReport {
            outcome: part.area.outcome,
            areas: vec![part.area.clone()],
            findings: part.findings.clone(),
            notes: part.notes.clone(),
            unexamined: part.unexamined.clone(),
            sources: self.source_reports(),
            left: plan.left.clone(),
            doubt: plan.doubt.clone(),
            limited: true,
            ..self.blank_report(&Scope { areas: vec![Area::Updates], ..Scope::default() })
        }
    }

    fn told(&self, plan_only: bool, ready: &Ready, done: Option<&Cleared>) -> RepairReport {
        let before = self.update_report(&ready.part, &ready.plan);
        let after = done.map(|done| {
            let plan = self.planned_updates(&done.last, &[], &[]);
            self.update_report(&done.last, &plan)
        });
        let receipts = done.map(|done| done.receipts.as_slice()).unwrap_or_default();
        let actions: Vec<ActionReport> = match (done, plan_only) {
            (Some(done), _) => {
                let files = receipts.iter().flat_map(carried_out).map(renamed);
                done.beside.iter().cloned().chain(files).collect()
            }
            (None, true) => {
                let begun = ready.part.findings.iter().filter(|f| finishing::can_be_finished(f));
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
            let known = ready.plan.left.iter().chain(&last.left).find(|left| left.finding == finding.id);
            match (known, failed.map(|why| (why, None)).or(blocked)) {
                (_, Some((why, next))) => Left::of(finding, why, next),
                (Some(left), None) => left.clone(),
                (None, None) => Left::of(finding, reason_of(&ready.renewals, finding), None),
            }
        };
        let remaining = if plan_only { before.left.clone() } else { last.findings.iter().map(left).collect() };
        let put_right = before.problems().saturating_sub(last.problems());
        let change = done.map(|done| done.number);
        let area = AreaChange { area: Area::Updates, change, actions, put_right, remaining };
        RepairReport {
            format: RepairReport::FORMAT.into(),
            plan_only,
            areas: vec![area],
            running: RunningReport::default(),
            before,
            after,
            proof: None,
        }
    }
}

/// How many right downloads stay, and their bytes.
fn staying(ready: &Ready) -> (u64, u64) {
    let goes = |one: &&RightDownload| ready.part.to_free.contains(one);
    let stays: Vec<&RightDownload> = ready.part.right.iter().filter(|one| !goes(one)).collect();
    (stays.len() as u64, stays.iter().map(|one| one.bytes).sum())
}

/// Whether a lock is one of those under which nothing is installed, only fetched.
fn fetches_only(lock: &SystemPath) -> bool {
    LOCKS.contains(&lock.to_string().as_str())
}

/// Something that is done beside the files.
fn beside(action: &str, unit: &str, findings: Vec<FindingId>) -> ActionReport {
    ActionReport {
        findings,
        subject: Subject::Service { name: unit.to_owned() },
        path: None,
        component: None,
        action: action.to_owned(),
        things: 1,
        bytes: 0,
        result: "planned".into(),
        why: None,
    }
}

/// How many findings were answered.
fn answered(receipts: &[RoundReceipt]) -> u64 {
    let failed =
        |receipt: &RoundReceipt, index| receipt.outcomes.iter().any(|o| o.index == index && o.failed.is_some());
    let done = receipts.iter().flat_map(|r| r.actions.iter().filter(|a| !failed(r, a.index)));
    done.flat_map(|action| &action.findings).collect::<HashSet<_>>().len() as u64
}

/// Why something that could have been put right is not.
fn reason_of(renewals: &[Renewal], finding: &model::Finding) -> String {
    let source = finding.subject.name().unwrap_or_default();
    let renewal = renewals.iter().find(|renewal| renewal.source.words() == source);
    match (renewal.and_then(Renewal::error), &finding.subject) {
        (Some(e), _) => format!("it could not be fetched afresh: {e}"),
        (None, Subject::Service { .. }) => "updates do not come yet, so its failure stands".into(),
        (None, Subject::Source { .. }) if renewal.is_none() => "the network is not to be used".into(),
        _ => "it came to light later, or was damaged again".into(),
    }
}

/// The findings on a source's lists.
fn findings_of(part: &UpdatesPart, source: &str) -> Vec<FindingId> {
    let of = |f: &&model::Finding| f.remedy.is_some() && f.subject.name() == Some(source);
    part.findings.iter().filter(of).map(|f| f.id.clone()).collect()
}

/// What would be done, as it is shown: a source's lists as one.
fn shown(ready: &Ready) -> Vec<ActionReport> {
    let forgets =
        |f: &&model::Finding| f.remedy.as_ref().is_some_and(|remedy| remedy.action == model::Action::ForgetFailure);
    let failures = ready.part.findings.iter().filter(forgets);
    let mut all: Vec<ActionReport> =
        ready.frees.actions.iter().chain(&ready.plan.actions).map(planned).map(renamed).collect();
    all.extend(failures.map(|f| beside("forget-failure", f.subject.name().unwrap_or_default(), vec![f.id.clone()])));
    for renewal in ready.renewals.iter().filter(|renewal| renewal.brings_something()) {
        let source = renewal.source.words();
        let (things, bytes) = renewal.to_come();
        let findings = findings_of(&ready.part, &source);
        // Its lists as they are go when the new ones come.
        all.retain(|action| !action.path.as_ref().is_some_and(|path| renewal.has(path)));
        all.push(ActionReport {
            findings,
            subject: Subject::Source { name: source },
            path: None,
            component: None,
            action: "renew".into(),
            things,
            bytes,
            result: "planned".into(),
            why: None,
        });
    }
    all
}

/// What is put in the place of lists was fetched, not restored.
fn renamed(action: ActionReport) -> ActionReport {
    let renew = action.action == "restore";
    ActionReport { action: if renew { "renew".into() } else { action.action }, ..action }
}
