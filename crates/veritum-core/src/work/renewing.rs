//! `repair updates`: what is damaged goes aside, lists are fetched afresh, and then the proof that updates come.

use std::collections::{HashMap, HashSet};
use std::sync::PoisonError;
use std::time::Instant;

use super::repair::{Agreement, Preview, carried_out, planned};
use super::updates::{LocksHeld, UpdatesPart, watch};
use super::{WorkError, Workshop};
use crate::archive::{Asked, Renewal};
use crate::change::{ChangeError, Desk, OpenChange, RoundReceipt, Verb, unfinished};
use crate::check::locks;
use crate::event::{Observer, Steady};
use crate::model::{self, Area, FileKind, FindingId, Stat, Subject, SystemPath, Verdict};
use crate::plan::{Aside, Coming, Left, Plan, UpdateRules, leave_the_rest, plan_updates};
use crate::platform::debian::apt::{AptConf, BINARY_CACHES, CACHE, LISTS};
use crate::report::{ActionReport, AreaChange, CheckReport, RepairReport, RunningReport};

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
    plan: Plan,
}

/// What was done.
struct Cleared {
    number: u64,
    receipts: Vec<RoundReceipt>,
    /// What was found afterwards.
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
        self.refuse_held_locks(observer)?;
        let state = self.make_state()?;
        let desk = self.desk(&state, observer);
        let _locks = self.update_locks(&desk)?;
        if let Some(number) = unfinished(&self.machine, &state)?.first() {
            return Err(ChangeError::Earlier(*number).into());
        }
        let mut ready = self.ready(wanted, LocksHeld::ByUs, observer)?;
        if ready.plan.doubt.is_some() {
            return Ok(self.told(false, &ready, None));
        }
        let actions = shown(&ready);
        let stay = if wanted.everything { (0, 0) } else { ready.part.right_downloads };
        if !actions.is_empty() && self.asked(&ready.part, &ready.plan, actions, Some(stay), ask) == Agreement::No {
            return Ok(self.told(true, &ready, None));
        }
        self.with_archive(|archive| archive.fetch_lists(&self.machine, &mut ready.renewals, observer))
            .map_err(|_| WorkError::Stopped)?;
        ready.plan = self.planned_updates(&ready.part, &ready.asides, &ready.renewals);
        let done = match ready.plan.actions.is_empty() {
            true => None,
            false => Some(self.change_updates(desk, &ready, ask)?),
        };
        let last = done.as_ref().map_or(&ready.part, |done| &done.last);
        let proof = self.proof(&ready.renewals, &last.waiting, observer)?;
        let mut report = self.told(false, &ready, done.as_ref());
        report.proof = Some(proof);
        Ok(report)
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

    /// Refuses to begin while a program holds a lock that is needed, and says which and whether it works.
    fn refuse_held_locks(&self, observer: &dyn Observer) -> Result<(), WorkError> {
        let (mut watched, _) = self.lock_holders();
        watch(&mut watched, Instant::now(), observer)?;
        let held = locks(&watched).into_findings().into_iter().min_by_key(|finding| finding.verdict);
        match held {
            None => Ok(()),
            Some(finding) => Err(WorkError::LockHeld {
                path: finding.subject.as_path().cloned().unwrap_or_else(SystemPath::root),
                who: finding.cause.clone().unwrap_or_default(),
                stuck: finding.verdict == Verdict::Stuck,
            }),
        }
    }

    fn ready(&self, wanted: ClearUpdates, held: LocksHeld, observer: &dyn Observer) -> Result<Ready, WorkError> {
        let part = self.updates(held, observer)?;
        let renewals = match self.settings.archive.network {
            true => {
                let old_is_fine = AptConf::of(&self.machine).is_off("Acquire::Check-Valid-Until");
                let asked = Asked { all_anew: wanted.everything, old_is_fine };
                self.with_archive(|archive| archive.renewals(&self.machine, asked, observer))
                    .map_err(|_| WorkError::Stopped)?
            }
            false => Vec::new(),
        };
        let asides = self.asides(&part, wanted);
        let plan = self.planned_updates(&part, &asides, &renewals);
        Ok(Ready { part, renewals, asides, plan })
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
        let rules = UpdateRules {
            protection: &self.protection,
            place: &|path| self.place_of_file(path),
            owner: self.settings.policy.owner_of_root.unwrap_or((0, 0)),
            despite_disk: self.settings.despite_disk,
        };
        let mut plan = plan_updates(&part.findings, asides, &coming, &rules);
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

    /// Where a file really lies, and what stands there.
    fn place_of_file(&self, path: &SystemPath) -> Option<(SystemPath, Option<Stat>)> {
        let parent = self.machine.resolve(&path.parent()?).ok()?;
        let place = parent.child(path.name()).ok()?;
        let dir = self.machine.dir(&parent).ok()?;
        Some((place, dir.look(path.name()).ok()?))
    }

    /// Carries out what was planned, and looks again: with other lists, more may come to light.
    fn change_updates(
        &self,
        desk: Desk<'_>,
        ready: &Ready,
        ask: &mut dyn FnMut(&Preview<'_>) -> Agreement,
    ) -> Result<Cleared, WorkError> {
        let contents = self.contents();
        let problems = ready.part.area.problems;
        let mut change =
            OpenChange::begin(desk, Verb::Repair, Area::Updates, None, &self.settings.run, self.settings.now)?;
        let (number, mut receipts) = (change.number(), Vec::new());
        let mut plan = ready.plan.clone();
        let mut tried: HashSet<SystemPath> = HashSet::new();
        let mut last = None;
        while !plan.actions.is_empty() && receipts.len() < MAX_ROUNDS {
            tried.extend(plan.actions.iter().map(|action| action.place.clone()));
            match change.round(std::mem::take(&mut plan.actions), &contents) {
                Ok(receipt) => receipts.push(receipt),
                Err(e @ ChangeError::Unfinished { .. }) => return Err(e.into()),
                Err(e) => {
                    change.end(answered(&receipts), problems, self.settings.now)?;
                    return Err(e.into());
                }
            }
            // The lists are other ones now: whatever was read of them is read again.
            *self.archive.write().unwrap_or_else(PoisonError::into_inner) = None;
            let part = self.updates(LocksHeld::ByUs, &Steady(desk.observer))?;
            plan = self.planned_updates(&part, &self.asides(&part, ClearUpdates::default()), &[]);
            plan.actions.retain(|action| !tried.contains(&action.place));
            let more: Vec<ActionReport> = plan.actions.iter().map(planned).map(renamed).collect();
            if !more.is_empty() && self.asked(&part, &plan, more, None, ask) == Agreement::No {
                plan.actions.clear();
            }
            last = Some(part);
        }
        let last = match last {
            Some(last) => last,
            None => self.updates(LocksHeld::ByUs, &Steady(desk.observer))?,
        };
        change.end(answered(&receipts), last.area.problems, self.settings.now)?;
        Ok(Cleared { number, receipts, last })
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
            ..self.blank_report(&crate::check::Scope { areas: vec![Area::Updates], ..Default::default() })
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
            (Some(_), _) => receipts.iter().flat_map(carried_out).map(renamed).collect(),
            (None, true) => shown(ready),
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
    let mut all: Vec<ActionReport> = ready.plan.actions.iter().map(planned).map(renamed).collect();
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
