//! `repair`: examine, show, ask; then for each area: change, examine again until nothing changes, and confirm.

use std::cell::OnceCell;
use std::collections::HashSet;

use super::check::{resolve, told_downloads};
use super::consent::{Ask, Consent, Preview, first_shown, staying};
use super::examine::{check_all, check_area};
use super::programs::still_running;
use super::repair_state::{RepairState, ids};
use super::repaired::Repaired;
use super::session::Session;
use super::steps::{LockState, carry_out, take_locks};
use super::{Engine, WorkError};
use crate::areas::{AREAS, After, Area, Checked, Evidence, FILES, Failed, How, Step, When, is_repaired};
use crate::change::{ChangeError, Locks, StateFolder, Verb, unfinished};
use crate::event::{Event, Flow, Observer, Uninterruptible};
use crate::model::{AreaName, FindingId, Scope, SystemPath};
use crate::platform::Platform as _;
use crate::platform::debian::Debian;
use crate::report::{CheckReport, ProofOutcome, RepairReport, RunningReport};
use crate::repository::Lacking;

/// The maximum number of rounds of an area.
const MAX_ROUNDS: usize = 3;

/// The result of examining everything.
struct Look {
    checked: Checked,
    evidence: Evidence,
    failed: Failed,
    report: CheckReport,
}

impl Engine {
    /// Plans a repair without changing anything; `show` receives the preview.
    ///
    /// # Errors
    /// As [`Engine::check`].
    pub fn plan_repair(
        &mut self,
        scope: &Scope,
        observer: &dyn Observer,
        show: &mut dyn FnMut(&Preview<'_>),
    ) -> Result<RepairReport, WorkError> {
        self.require_store_sound(scope)?;
        let scope = resolve(self, scope, observer)?;
        let scope = &with_files(self, scope, observer)?;
        self.supply().forget_offered();
        let state = self.system.state()?;
        let _lock = self.system.shared_lock(state.as_ref())?;
        let none = Failed::new();
        let cx = self.cx(scope, How { plans: true, ..How::plain(&none) }, observer);
        // The holder of a lock is reported as a finding here.
        let before = |area: &&dyn Area| Some((area.about().name.clone(), area.before(&cx, &[]).ok().flatten()?));
        let before: Vec<(AreaName, Step)> =
            AREAS.iter().filter(|area| is_repaired(**area, scope)).copied().filter_map(|area| before(&area)).collect();
        let checked = check_all(&cx)?;
        let report = self.report(scope, &checked);
        let steps = first_shown(&checked, &before);
        if !steps.is_empty() {
            show(&shown(&report, &checked, &steps));
        }
        let planned = steps.iter().map(|(area, step)| ((*area).clone(), step.shows.clone())).collect();
        Ok(Repaired::new(report, planned).only_planned(true))
    }

    /// Repairs the scope in working order; `ask` shows the plan before anything is done, and later what the repair
    /// revealed.
    ///
    /// # Errors
    /// When nothing could be done, or the disk failed; what had been done by then is in the change log.
    pub fn repair(
        &mut self,
        scope: &Scope,
        observer: &dyn Observer,
        ask: &mut Ask<'_>,
    ) -> Result<RepairReport, WorkError> {
        self.require_store_sound(scope)?;
        let scope = resolve(self, scope, observer)?;
        let scope = &with_files(self, scope, observer)?;
        self.supply().forget_offered();
        let state = OnceCell::new();
        let (locks, before) = hold(self, scope, &state, observer)?;
        let Look { checked, evidence, failed, report } = look(self, scope, observer)?;
        let steps = first_shown(&checked, &before);
        let planned = steps.iter().map(|(area, step)| ((*area).clone(), step.shows.clone())).collect();
        let done = Repaired::new(report.clone(), planned);
        let mut consent = Consent::new(ask);
        if !steps.is_empty() && !consent.to(&shown(&report, &checked, &steps)) {
            return Ok(done.only_planned(true));
        }
        let mut run = RepairState {
            scope,
            observer,
            consent,
            state: &state,
            locks,
            now: checked,
            evidence,
            failed,
            whole: report,
            done,
            receipts: Vec::new(),
            stale: Vec::new(),
            stopped: false,
            proof: None,
        };
        for area in AREAS.iter().filter(|area| is_repaired(**area, scope)) {
            // What it rests on was changed since it was planned.
            if area.about().repaired_by_name && run.stale.contains(&area.about().name) {
                look_again(self, &mut run, *area, scope, &HashSet::new())?;
            }
            repair_area(self, &mut run, *area)?;
            if run.stopped {
                break;
            }
        }
        // Homes are examined once more at the end; they were not changed before.
        self.homes.look_again();
        for area in AREAS.iter().filter(|area| run.stale.contains(&area.about().name)).collect::<Vec<_>>() {
            look_again(self, &mut run, *area, scope, &HashSet::new())?;
        }
        Ok(finished(self, run))
    }
}

/// The scope with the files of packages on which an area rests whose repair was named: they are repaired with it.
fn with_files(engine: &Engine, mut scope: Scope, observer: &dyn Observer) -> Result<Scope, WorkError> {
    let none = Failed::new();
    let named = |area: &&&dyn Area| area.about().repaired_by_name && is_repaired(**area, &scope);
    for area in AREAS.iter().filter(named).collect::<Vec<_>>() {
        let cx = engine.cx_for(vec![area.about().name.clone()], &scope, How::plain(&none), observer);
        let files = check_area(&cx, *area, &Checked::default())?.of_files;
        drop(cx);
        if !files.is_empty() && !scope.names(&FILES) {
            scope.areas.push(FILES);
            scope.paths.extend(files);
        }
    }
    Ok(scope)
}

/// Takes the locks that are held until the end of the repair, so that nothing changes in between. Also returns what must be
/// done before an area's locks can be taken; those are taken when it is the area's turn.
fn hold(
    engine: &Engine,
    scope: &Scope,
    state: &OnceCell<StateFolder>,
    observer: &dyn Observer,
) -> Result<(Locks, Vec<(AreaName, Step)>), WorkError> {
    let none = Failed::new();
    let cx = engine.cx(scope, How::repair(&none), observer);
    let (mut wanted, mut before) = (Vec::new(), Vec::new());
    let mut holds = false;
    for area in AREAS.iter().filter(|area| is_repaired(**area, scope)) {
        let locks = area.locks();
        holds |= !locks.is_empty();
        match area.before(&cx, &[])? {
            Some(step) => before.push((area.about().name.clone(), step)),
            None => wanted.extend(locks),
        }
    }
    let locks = if holds { hold_machine(engine, state, &wanted, observer)? } else { Locks::default() };
    Ok((locks, before))
}

fn hold_machine(
    engine: &Engine,
    cell: &OnceCell<StateFolder>,
    package_locks: &[SystemPath],
    observer: &dyn Observer,
) -> Result<Locks, WorkError> {
    let state = engine.system.make_state()?;
    let locks = engine.locks(&engine.context(&state, observer), package_locks)?;
    if let Some(number) = unfinished(&state)?.first() {
        return Err(ChangeError::Earlier(*number).into());
    }
    let _ = cell.set(state);
    Ok(locks)
}

/// Examines the scope; downloads what a repair would lack, and examines again with it. Downloads may reveal more problems of
/// the same packages, but not of others: once is enough.
fn look(engine: &Engine, scope: &Scope, observer: &dyn Observer) -> Result<Look, WorkError> {
    let none = Failed::new();
    let cx = engine.cx(scope, How { fetch: true, ..How::repair(&none) }, observer);
    let checked = check_all(&cx)?;
    let report = engine.report(scope, &checked);
    let lacking: Vec<Lacking> = checked.downloads().into_iter().map(|(lacking, _)| lacking).collect();
    if checked.doubt().is_some() || lacking.is_empty() {
        return Ok(Look { checked, evidence: cx.into_evidence(), failed: Failed::new(), report });
    }
    if !engine.system.settings.answerable {
        return Err(WorkError::CannotAsk);
    }
    let failed = engine.supply().download(&lacking, observer)?;
    let cx = engine.cx(scope, How { fetch: true, ..How::repair(&failed) }, observer);
    let checked = check_all(&cx)?;
    let evidence = cx.into_evidence();
    let downloads = told_downloads(&report, &lacking, &failed);
    let report = CheckReport { downloads, ..engine.report(scope, &checked) };
    Ok(Look { checked, evidence, failed, report })
}

/// Repairs one area, in rounds; what depends on it is examined again.
fn repair_area(engine: &mut Engine, run: &mut RepairState<'_>, area: &dyn Area) -> Result<(), WorkError> {
    for _ in 0..MAX_ROUNDS {
        if rounds(engine, run, area)? == After::Known {
            return Ok(());
        }
        engine.reload()?;
        let (look, stopped) = match look(engine, run.scope, run.observer) {
            // What was done is reported; nothing else is started.
            Err(WorkError::Stopped) => (look(engine, run.scope, &Uninterruptible(run.observer))?, true),
            look => (look?, false),
        };
        let Look { checked, evidence, failed, report } = look;
        (run.now, run.evidence, run.failed, run.whole) = (checked, evidence, failed, report);
        run.done.saw(&run.now);
        run.stale.clear();
        run.stopped |= stopped;
        if run.stopped {
            return Ok(());
        }
    }
    Ok(())
}

/// The rounds of one area, as one change; returns what is known about later findings.
fn rounds(engine: &Engine, run: &mut RepairState<'_>, area: &dyn Area) -> Result<After, WorkError> {
    let name = &area.about().name;
    let steps = allowed(engine, run, name, |when| when == When::InTurn);
    let on_machine = run.now.get(name).is_some_and(|examined| examined.steps.iter().any(|s| s.work.is_on_machine()));
    if on_machine && run.state.get().is_none() {
        run.locks = hold_machine(engine, run.state, &Debian.locks(), run.observer)?;
    }
    let context = run.state.get().map(|state| engine.context(state, run.observer));
    let mut session = context.map(|context| Session::new(context, &engine.system.settings, Verb::Repair, name.clone()));
    let after = rounds_in(engine, run, area, steps, session.as_mut());
    if let Some(session) = &mut session {
        if session.is_paused() {
            // The stopped services take these locks themselves when they are started again.
            run.locks.keep_own();
            run.stale.push(name.clone());
        }
        let remaining = run.now.get(name).map_or(0, |examined| examined.problems().count() as u64);
        let ended = session.end(remaining);
        let number = session.number.unwrap_or_default();
        run.receipts.extend(session.receipts.drain(..).map(|receipt| (number, receipt)));
        ended?;
    }
    after
}

fn rounds_in(
    engine: &Engine,
    run: &mut RepairState<'_>,
    area: &dyn Area,
    mut steps: Vec<Step>,
    mut session: Option<&mut Session<'_>>,
) -> Result<After, WorkError> {
    let name = &area.about().name;
    let mut written: HashSet<SystemPath> = HashSet::new();
    let narrow = narrowed(run.scope, name, &run.now);
    if !steps.is_empty()
        && let Some(session) = session.as_deref_mut()
    {
        match take_locks(engine, run, area, session)? {
            LockState::Held => {}
            LockState::Taken => {
                look_again(engine, run, area, &narrow, &written)?;
                run.done.found_again(name, run.now.get(name).into_iter().flat_map(|examined| examined.problems()));
                steps = allowed(engine, run, name, |when| when == When::InTurn);
            }
            LockState::Refused(why) => {
                give_up(engine, run, area, &why);
                return Ok(After::Known);
            }
        }
    }
    let mut known: HashSet<FindingId> = ids(&run.now, name);
    for _ in 0..MAX_ROUNDS {
        let problems = ids(&run.now, name).len();
        let mut went_on = false;
        let mut after = After::Known;
        for step in &steps {
            went_on |= carry_out(engine, run, name, step, session.as_deref_mut(), &mut written)?;
            after = if step.after == After::Known { after } else { step.after };
            if run.stopped {
                break;
            }
        }
        if steps.is_empty() {
            break;
        }
        run.stopped |= run.observer.on_event(Event::Advance { items: 0, bytes: 0 }) == Flow::Stop;
        if after != After::Known {
            return Ok(after);
        }
        run.changed(area);
        look_again(engine, run, area, &narrow, &written)?;
        let now = ids(&run.now, name);
        let new = now.iter().any(|id| known.insert(id.clone()));
        if run.stopped || !went_on || !(now.len() < problems || new) {
            break;
        }
        steps = allowed(engine, run, name, |when| when == When::InTurn);
    }
    confirm(engine, run, area, session)?;
    Ok(After::Known)
}

/// Skips an area, and records the reason for each problem that its steps would have answered.
fn give_up(engine: &Engine, run: &mut RepairState<'_>, area: &dyn Area, why: &str) {
    let steps: Vec<Step> = run.now.get(&area.about().name).map(|examined| examined.steps.clone()).unwrap_or_default();
    steps.iter().for_each(|step| run.done.put_off(step, why));
    let cx = engine.cx(run.scope, How::repair(&run.failed), run.observer);
    let not_confirmed = area.not_confirmed(&cx, why);
    run.proof = not_confirmed.or(run.proof.take());
}

/// Confirms the area, then carries out the steps that wait for it.
fn confirm(
    engine: &Engine,
    run: &mut RepairState<'_>,
    area: &dyn Area,
    mut session: Option<&mut Session<'_>>,
) -> Result<(), WorkError> {
    let name = &area.about().name;
    if run.stopped || run.now.doubt().is_some() || run.now.get(name).is_none() {
        return Ok(());
    }
    let confirmed = {
        let cx = engine.cx_for(vec![name.clone()], run.scope, How::repair(&run.failed), run.observer);
        area.confirm(&cx)
    };
    let proof = match confirmed {
        // What has been done is reported even if the run is stopped now.
        Err(WorkError::Stopped) if run.done.did_something() => {
            run.stopped = true;
            return Ok(());
        }
        confirmed => confirmed?,
    };
    let failed = proof.as_ref().is_some_and(|proof| proof.outcome == ProofOutcome::Failed);
    run.proof = proof.or(run.proof.take());
    for step in allowed(engine, run, name, |when| when != When::InTurn) {
        match step.when {
            When::Confirmed(reason) if failed => run.done.put_off(&step, reason),
            _ => {
                carry_out(engine, run, name, &step, session.as_deref_mut(), &mut HashSet::new())?;
                run.stale.push(name.clone());
            }
        }
    }
    Ok(())
}

/// Examines again what a round can have affected: after one on the machine, that area; after one on the store, everything
/// that depends on available contents.
fn look_again(
    engine: &Engine,
    run: &mut RepairState<'_>,
    area: &dyn Area,
    narrow: &Scope,
    written: &HashSet<SystemPath>,
) -> Result<(), WorkError> {
    let observer = &Uninterruptible(run.observer);
    run.stale.retain(|stale| *stale != area.about().name);
    if area.about().is_of_machine {
        run.evidence = Evidence::default();
        let scope = if area.about().by_package { narrow } else { run.scope };
        let how = How { written: Some(written), ..How::repair(&run.failed) };
        let cx = engine.cx_for(vec![area.about().name.clone()], scope, how, observer);
        let examined = check_area(&cx, area, &run.now)?;
        run.now.replace(examined);
        run.done.saw(&run.now);
        return Ok(());
    }
    let how = How { fresh: true, ..How::repair(&run.failed) };
    let cx = engine.cx(run.scope, how, observer).with_evidence(std::mem::take(&mut run.evidence));
    for area in AREAS.iter().filter(|area| area.about().by_reference) {
        if run.now.get(&area.about().name).is_none() {
            continue;
        }
        let examined = check_area(&cx, *area, &run.now)?;
        run.now.replace(examined);
    }
    run.evidence = cx.into_evidence();
    run.done.saw(&run.now);
    Ok(())
}

/// The steps of an area that may be carried out: none if the disk is in doubt, and none without the user's agreement.
fn allowed(engine: &Engine, run: &mut RepairState<'_>, area: &AreaName, is_due: impl Fn(When) -> bool) -> Vec<Step> {
    let RepairState { now, consent, scope, .. } = run;
    let Some(examined) = now.get(area) else { return Vec::new() };
    let doubt = now.doubt().is_some();
    let steps = examined.steps.iter().filter(|step| is_due(step.when) && !(doubt && step.work.is_on_machine()));
    let report = || engine.report(scope, now);
    steps.filter_map(|step| consent.allowed(&report, area, step)).collect()
}

/// The document of a repair at its end.
fn finished(engine: &Engine, mut run: RepairState<'_>) -> RepairReport {
    if run.stopped && run.proof.is_none() {
        let cx = engine.cx(run.scope, How::repair(&run.failed), run.observer);
        let wanted = AREAS.iter().filter(|area| is_repaired(**area, run.scope));
        run.proof = wanted.filter_map(|area| area.not_confirmed(&cx, "interrupted")).next();
    }
    if !run.done.has_something_to_report() {
        return RepairReport { proof: run.proof, ..run.done.only_planned(false) };
    }
    if let Some(state) = run.state.get() {
        engine.renew_kept(state, &run.receipts, run.observer);
    }
    let after = engine.report(run.scope, &run.now);
    let running = run.state.get().map_or_else(RunningReport::default, |state| {
        let receipts = run.receipts.iter().map(|(change, receipt)| (*change, receipt));
        still_running(&engine.system, &engine.context(state, run.observer), receipts)
    });
    if run.scope.is_whole() {
        engine.system.note_last_check(&run.whole.repaired_to(&after));
    }
    RepairReport { proof: run.proof, ..run.done.finish(after, running) }
}

/// The preview of the first question.
fn shown<'a>(report: &'a CheckReport, checked: &Checked, steps: &[(&AreaName, &Step)]) -> Preview<'a> {
    let preview = Preview::new(report, steps);
    Preview { stays: staying(checked, &preview.areas), ..preview }
}

/// After a round only the affected packages are examined again; what was written, on the medium.
fn narrowed(scope: &Scope, area: &AreaName, checked: &Checked) -> Scope {
    if !scope.is_all() {
        return scope.clone();
    }
    let problems = checked.areas().flat_map(|examined| examined.problems());
    let mut packages: Vec<String> =
        problems.filter_map(|f| f.package.as_ref()).map(|package| package.name.clone()).collect();
    packages.sort();
    packages.dedup();
    Scope { packages, reach: scope.reach, ..Scope::only(area.clone()) }
}
