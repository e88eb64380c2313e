//! One step of a repair, carried out.

use std::collections::HashSet;
use std::ffi::OsString;

use super::consent::Preview;
use super::run::{Run, ids};
use super::session::Session;
use super::{Engine, WorkError};
use crate::areas::store::repair_store;
use crate::areas::{Area, Failed, FileWork, How, Step, ToolRun, Work};
use crate::change::Locks;
use crate::model::{ActionKind, ActionResult, AreaName, SystemPath, error_chain, error_words};
use crate::platform::services::PausedUnit;
use crate::report::ActionReport;
use crate::supply::Made;
use crate::system::System;

/// Does what must be done before the locks of an area can be had, and takes them; answers whether anything was, so that the area
/// is not as it was looked at.
pub(super) fn clear_the_way(
    engine: &Engine,
    run: &mut Run<'_>,
    area: &dyn Area,
    session: &mut Session<'_>,
) -> Result<bool, WorkError> {
    let locks = area.locks();
    if locks.iter().all(|lock| run.locks.holds(lock)) {
        return Ok(false);
    }
    let none = Failed::new();
    // While somebody thinks about it, it may end, or begin to do what is never interrupted.
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
            return Ok(false);
        }
    }
    session.context().lock_too(&mut run.locks, &locks)?;
    // What was fetched meanwhile makes other lists.
    engine.supply().forget_offered();
    engine.supply().forget_lists();
    Ok(true)
}

/// Holds units until the change ends.
fn pause(system: &System, units: &[PausedUnit], session: &mut Session<'_>) -> Result<(), WorkError> {
    let name = format!("veritum-recovery-{}", system.settings.run);
    // Where the service manager cannot watch over us, a mask that only holds for this run of the machine must do.
    if !system.settings.recovery.is_empty() {
        let _ = system.services.run_beside(&name, &system.settings.recovery);
    }
    Ok(session.pause(units.to_vec())?)
}

/// Carries out one step; answers whether anything was done.
pub(super) fn carry_out(
    engine: &Engine,
    run: &mut Run<'_>,
    area: &AreaName,
    step: &Step,
    session: Option<&mut Session<'_>>,
    written: &mut HashSet<SystemPath>,
) -> Result<bool, WorkError> {
    run.consent.tried(step);
    if let Work::Store(work) = &step.work {
        let none = Failed::new();
        let cx = engine.cx(run.scope, How::plain(&none), run.observer);
        let actions = repair_store(&cx, work, step.shows.clone())?;
        let done = actions.iter().any(|action| action.result == ActionResult::Done);
        run.done.did(area, None, actions);
        return Ok(done);
    }
    let Some(session) = session else { return Ok(false) };
    match &step.work {
        Work::Store(_) => Ok(false),
        Work::Files(work) => put_files(engine, run, area, work, session, written),
        Work::Fetched(files) => {
            let none = Failed::new();
            let fetched = files.fetch(&engine.cx(run.scope, How::repair(&none), run.observer));
            let done = match fetched {
                // Once something took effect it is told, whatever was stopped after that.
                Err(WorkError::Stopped) if run.done.did_something() => {
                    run.stopped = true;
                    return Ok(false);
                }
                fetched => put_files(engine, run, area, &fetched?, session, written)?,
            };
            engine.supply().forget_lists();
            Ok(done)
        }
        Work::Tool(tool) => {
            let why = run_tool(&engine.system, tool, &step.shows, session, &mut run.locks)?;
            let done = why.is_none();
            run.done.ran(area, session.number, (tool, why), &step.shows);
            Ok(settled(step, session, done))
        }
        Work::Pause(units) => pause(&engine.system, units, session).map(|()| true),
        Work::ForgetFailure(unit) => {
            let why = session.delegate(ActionKind::ForgetFailure, (unit, "failed"), &mut |services| {
                services.forget_failure(unit).map_err(|e| error_chain(&e))
            })?;
            let actions = step.shows.iter().map(|action| action.clone().settled(why.clone())).collect();
            run.done.did(area, session.number, actions);
            Ok(settled(step, session, why.is_none()))
        }
    }
}

fn put_files(
    engine: &Engine,
    run: &mut Run<'_>,
    area: &AreaName,
    FileWork { plan, made, renews }: &FileWork,
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

/// Has one of the system's own tools do something; answers why it failed.
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
    let failed = session.delegate(tool.action, (&names.join(" "), tool.before), &mut |_| {
        let runner = system.tool_runner().map_err(str::to_owned)?;
        let stop = &system.settings.stop;
        let ran = runner.run(tool.program, &words, &environment, stop).map_err(|e| error_words(&e))?;
        if ran.is_fine() { Ok(()) } else { Err(format!("{} failed: {}", tool.called, ran.last_line())) }
    })?;
    session.context().lock_too(locks, &tool.takes_locks)?;
    Ok(failed)
}

/// Counts the findings of a step that was done beside the files.
fn settled(step: &Step, session: &mut Session<'_>, done: bool) -> bool {
    if done {
        session.answered_beside(step.shows.iter().map(|action| action.findings.len() as u64).sum());
    }
    done
}
