//! Carries out one step of a repair.

use std::collections::HashSet;
use std::ffi::OsString;
use std::os::unix::ffi::OsStrExt as _;

use super::consent::Preview;
use super::repair_state::{RepairState, ids};
use super::session::Session;
use super::{Engine, WorkError};
use crate::areas::store::{StoreRepairPlan, repair_store};
use crate::areas::{Area, DiskWork, Failed, FileWork, How, Step, ToolRun, Work};
use crate::change::{ChangeError, Locks, RangeBytes, Task};
use crate::devices::{DiskSet, PatchedRange};
use crate::model::{ActionKind, ActionResult, AreaName, Digest, SystemPath, error_chain, error_words};
use crate::plan::{DiskIdentity, DiskRange, DiskWrite, ToolChange};
use crate::platform::services::PausedUnit;
use crate::report::ActionReport;
use crate::supply::Made;
use crate::system::System;

/// Whether the locks of an area are held.
pub(super) enum LockState {
    /// They were held already.
    Held,
    /// They were taken now, after the area was examined.
    Taken,
    /// They cannot be taken, with the reason.
    Refused(String),
}

/// Takes the locks of an area, after pausing the services that hold them where the user agrees.
///
/// # Errors
/// If another program holds one and nothing has been changed yet; afterwards that is reported.
pub(super) fn take_locks(
    engine: &Engine,
    run: &mut RepairState<'_>,
    area: &dyn Area,
    session: &mut Session<'_>,
) -> Result<LockState, WorkError> {
    let locks = area.locks();
    if locks.iter().all(|lock| run.locks.holds(lock)) {
        return Ok(LockState::Held);
    }
    match pause_and_lock(engine, run, area, session, &locks) {
        Err(e @ (WorkError::LockHeld { .. } | WorkError::Change(ChangeError::PackageTool { .. })))
            if run.done.did_something() =>
        {
            Ok(LockState::Refused(error_chain(&e)))
        }
        other => other,
    }
}

fn pause_and_lock(
    engine: &Engine,
    run: &mut RepairState<'_>,
    area: &dyn Area,
    session: &mut Session<'_>,
    locks: &[SystemPath],
) -> Result<LockState, WorkError> {
    let none = Failed::new();
    // While the user reads the question, a service may end, start another unit, or begin to install.
    loop {
        let cx = engine.cx(run.scope, How::repair(&none), run.observer);
        let Some(step) = area.before(&cx, &run.locks.paths())? else { break };
        if run.consent.covers(&step) {
            let Work::Pause(units) = &step.work else { break };
            pause(&engine.system, units, session)?;
            let done = step.shows.iter().map(|action| action.clone().settled(None));
            run.done.did(&area.about().name, session.number, done.collect());
            break;
        }
        let report = engine.report(run.scope, &run.now);
        let preview = Preview::new(&report, &[(&area.about().name, &step)]);
        if !run.consent.to(&Preview { further: true, ..preview }) {
            return Ok(LockState::Refused("a service holds the lock, and you chose not to stop it".into()));
        }
    }
    session.context().lock_too(&mut run.locks, locks)?;
    // The services may have fetched other lists in the meantime.
    engine.supply().forget_offered();
    engine.supply().forget_lists();
    Ok(LockState::Taken)
}

/// Stops units until the change ends.
fn pause(system: &System, units: &[PausedUnit], session: &mut Session<'_>) -> Result<(), WorkError> {
    let name = format!("veritum-recovery-{}", system.settings.run);
    // Where the service manager cannot run the guard, a mask until the next boot must do.
    if !system.settings.recovery.is_empty() {
        let _ = system.services.run_beside(&name, &system.settings.recovery);
    }
    Ok(session.pause(units.to_vec())?)
}

/// Carries out one step and returns whether anything was done.
pub(super) fn carry_out(
    engine: &Engine,
    run: &mut RepairState<'_>,
    area: &AreaName,
    step: &Step,
    session: Option<&mut Session<'_>>,
    written: &mut HashSet<SystemPath>,
) -> Result<bool, WorkError> {
    run.consent.tried(step);
    match (&step.work, session) {
        (Work::Store(work), _) => put_store(engine, run, area, work, &step.shows),
        // Without a state folder nothing on the machine is changed.
        (_, None) => Ok(false),
        (Work::Files(work), Some(session)) => put_files(engine, run, area, work, session, written),
        (Work::Fetched(files), Some(session)) => {
            let none = Failed::new();
            let fetched = files.fetch(&engine.cx(run.scope, How::repair(&none), run.observer));
            let done = match fetched {
                // What has been done is reported even if the run is stopped now.
                Err(WorkError::Stopped) if run.done.did_something() => {
                    run.stopped = true;
                    return Ok(false);
                }
                Ok(FileWork { failed: Some(why), .. }) => {
                    run.done.put_off(step, &why);
                    return Ok(false);
                }
                fetched => put_files(engine, run, area, &fetched?, session, written)?,
            };
            engine.supply().forget_lists();
            Ok(done)
        }
        (Work::Tool(tool), Some(session)) => {
            let why = run_tool(&engine.system, tool, &step.shows, session, &mut run.locks)?;
            let done = why.is_none();
            run.done.ran(area, session.number, (tool, why), &step.shows);
            Ok(settled(step, session, done))
        }
        (Work::Change(change), Some(session)) => {
            let why = change_by_tool(&engine.system, session, change, &step.shows)?;
            let actions = step.shows.iter().map(|action| action.clone().settled(why.clone())).collect();
            run.done.did(area, session.number, actions);
            Ok(settled(step, session, why.is_none()))
        }
        (Work::Disk(work), Some(session)) => {
            let why = write_to_disk(session, work)?;
            let actions = step.shows.iter().map(|action| action.clone().settled(why.clone())).collect();
            run.done.did(area, session.number, actions);
            Ok(settled(step, session, why.is_none()))
        }
        (Work::Pause(units), Some(session)) => pause(&engine.system, units, session).map(|()| true),
        (Work::ForgetFailure(unit), Some(session)) => {
            let task = Task::lasting(ActionKind::ForgetFailure, unit, "failed");
            let why =
                session.delegate(task, &mut |services| services.forget_failure(unit).map_err(|e| error_chain(&e)))?;
            let actions = step.shows.iter().map(|action| action.clone().settled(why.clone())).collect();
            run.done.did(area, session.number, actions);
            Ok(settled(step, session, why.is_none()))
        }
    }
}

/// Repairs the store, which belongs to the administrator and is not part of a change.
fn put_store(
    engine: &Engine,
    run: &mut RepairState<'_>,
    area: &AreaName,
    work: &StoreRepairPlan,
    shows: &[ActionReport],
) -> Result<bool, WorkError> {
    let none = Failed::new();
    let cx = engine.cx(run.scope, How::plain(&none), run.observer);
    let actions = repair_store(&cx, work, shows.to_vec())?;
    let done = actions.iter().any(|action| action.result == ActionResult::Done);
    run.done.did(area, None, actions);
    Ok(done)
}

fn put_files(
    engine: &Engine,
    run: &mut RepairState<'_>,
    area: &AreaName,
    FileWork { plan, made, renews, .. }: &FileWork,
    session: &mut Session<'_>,
    written: &mut HashSet<SystemPath>,
) -> Result<bool, WorkError> {
    if plan.actions.is_empty() {
        return Ok(false);
    }
    engine.supply().unpack_for(&plan.actions);
    written.extend(plan.actions.iter().map(|action| action.place.clone()));
    let contents = Made { made, then: engine.supply().contents() };
    let remaining = ids(&run.now, area).len() as u64;
    let receipt = session.round(plan.actions.clone(), &contents, remaining)?.clone();
    run.done.changed(area, session.number, &receipt, *renews);
    run.done.blocked(&receipt.blocked, &plan.actions);
    Ok(receipt.outcomes.iter().any(|outcome| outcome.failed.is_none()))
}

/// Runs one of the system's own tools; returns the reason if it failed.
fn run_tool(
    system: &System,
    tool: &ToolRun,
    shows: &[ActionReport],
    session: &mut Session<'_>,
    locks: &mut Locks,
) -> Result<Option<String>, WorkError> {
    let names: Vec<String> = shows.iter().map(|action| action.subject.to_string()).collect();
    let words: Vec<&str> = tool.words.iter().map(String::as_str).collect();
    let environment: Vec<(&str, OsString)> =
        tool.environment.iter().map(|(name, value)| (*name, OsString::from(value))).collect();
    tool.takes_locks.iter().for_each(|path| locks.let_go(path));
    let names = names.join(" ");
    let failed = session.delegate(Task::lasting(tool.action, &names, tool.before), &mut |_| {
        let runner = system.tool_runner().map_err(str::to_owned)?;
        let stop = &system.settings.stop;
        let ran = runner.run(tool.program, &words, &environment, stop).map_err(|e| error_words(&e))?;
        if ran.is_fine() { Ok(()) } else { Err(format!("{} failed: {}", tool.called, ran.why())) }
    })?;
    // If another program has taken one since, the next step that needs it reports that.
    let _ = session.context().lock_too(locks, &tool.takes_locks);
    Ok(failed)
}

/// Has one of the system's own tools change something that can be undone; returns the reason if it failed.
pub(super) fn change_by_tool(
    system: &System,
    session: &mut Session<'_>,
    change: &ToolChange,
    shows: &[ActionReport],
) -> Result<Option<String>, WorkError> {
    let Some(shown) = shows.first() else { return Ok(None) };
    let change = &change.clone().in_change(session.change()?.number());
    let (subject, before) = (shown.subject.to_string(), change.before_words());
    let changes = Some(change.clone());
    let task = Task { changes, ..Task::lasting(shown.action, &subject, &before) };
    Ok(session.delegate(task, &mut |_| system.change_by_tool(change))?)
}

/// Writes bytes of a disk; returns the reason if it failed, or what is there could not be kept.
pub(super) fn write_to_disk(session: &mut Session<'_>, work: &DiskWork) -> Result<Option<String>, WorkError> {
    let DiskWork { path, patches, parts, only_start } = work;
    let set = DiskSet::open(std::slice::from_ref(path))?;
    let ranges = match patches.ranges(&*set.disks[0].device) {
        Ok(ranges) => ranges,
        Err(e) => return Ok(Some(format!("what is there cannot be read: {}", error_words(&e)))),
    };
    let named = std::path::absolute(path).ok().and_then(|path| SystemPath::parse(path.as_os_str().as_bytes()).ok());
    let Some(named) = named else { return Ok(Some("its path cannot be used here".to_owned())) };
    let disk = DiskIdentity::of(&set, 0, named, &ranges);
    let range = |range: &PatchedRange| DiskRange {
        at: range.at,
        size: range.new.len() as u64,
        old: Digest::hash(&range.old),
        new: Digest::hash(&range.new),
    };
    let write = DiskWrite {
        disk,
        parts: parts.clone(),
        ranges: ranges.iter().map(range).collect(),
        kept: String::new(),
        only_start: *only_start,
    };
    let (old, new): (RangeBytes, RangeBytes) = ranges.into_iter().map(|range| (range.old, range.new)).unzip();
    Ok(session.write_disk(write, (&old, &new), None)?)
}

/// Counts the findings that a step answered without changing files.
fn settled(step: &Step, session: &mut Session<'_>, done: bool) -> bool {
    if done {
        session.answered_beside(step.shows.iter().map(|action| action.findings.len() as u64).sum());
    }
    done
}
