//! `undo` and `recover`.

use std::collections::HashMap;

use super::own_watch::OwnWatch;
use super::programs::still_running;
use super::regenerate::{regenerate, regenerated};
use super::session::Session;
use super::{Agreement, Engine, WorkError};
use crate::change::{
    ChangeContext, ChangeError, ChangeLog, Locks, RecoveredChange, Refusal, RoundReceipt, Standing, StateFolder, Task,
    UndoPlan, UndoRound, Verb, latest_run, plan_undo, recover, standings, unfinished,
};
use crate::event::{Observer, Uninterruptible};
use crate::homes::{HomeContext, running_apps};
use crate::model::{ActionKind, PackageId, Subject, readable};
use crate::plan::{ActionKey, DiskRange, DiskWrite, PlannedAction, ToolChange};
use crate::platform::debian::Debian;
use crate::platform::{Package, Platform as _};
use crate::report::{
    ActionReport, RangeReport, RecoverReport, RefusalReport, RunningReport, UndoReport, UndoneChange, VariableReport,
    WrittenReport,
};
use crate::system::System;

impl Engine {
    /// Undoes changes: the one that is named, or all of the latest run. `ask` shows the plans first.
    ///
    /// # Errors
    /// When there is nothing to undo, or the disk failed.
    pub fn undo(
        &self,
        change: Option<u64>,
        plan_only: bool,
        observer: &dyn Observer,
        ask: &mut dyn FnMut(&UndoReport) -> Agreement,
    ) -> Result<UndoReport, WorkError> {
        let none = || match change {
            Some(number) => WorkError::unknown_change(&number.to_string()),
            None => WorkError::NothingToUndo,
        };
        let state = self.system.state()?.ok_or_else(none)?;
        let context = self.context(&state, observer);
        if let Some(number) = unfinished(&state)?.first() {
            return Err(ChangeError::Earlier(*number).into());
        }
        let numbers = match change {
            Some(number) => vec![number],
            None => latest_run(&state)?,
        };
        if numbers.is_empty() {
            return Err(WorkError::NothingToUndo);
        }
        refuse_undone(&context, &numbers)?;
        let homes = homes_of(&self.system, &context, &numbers)?;
        let mut locks = match plan_only {
            true => Locks::default(),
            false => undo_locks(self, &context, &numbers, &homes)?,
        };
        // Examined again: only now nothing else can change.
        if let Some(number) = unfinished(&state)?.first() {
            return Err(ChangeError::Earlier(*number).into());
        }
        if change.is_none() && latest_run(&state)? != numbers {
            return Err(ChangeError::Overtaken.into());
        }
        refuse_undone(&context, &numbers)?;
        let mut report = UndoReport {
            format: UndoReport::FORMAT.into(),
            plan_only: true,
            changes: Vec::new(),
            running: RunningReport::default(),
        };
        for number in &numbers {
            let home = homes.get(number);
            let plan = undo_plan(&self.system, at_home(context, home), *number, None)?;
            let (tools, refused) = tool_undos(&self.system, &plan);
            let mut shown = shown(&plan, home);
            shown.actions.extend(tools.iter().map(|(_, back)| tool_action(back)));
            shown.refused.extend(refused);
            report.changes.push(shown);
        }
        if plan_only || report.changes.iter().all(|c| c.actions.is_empty()) || ask(&report) == Agreement::No {
            return Ok(report);
        }
        report.plan_only = false;
        report.changes.clear();
        let steady = Uninterruptible(observer);
        let mut receipts: Vec<(u64, RoundReceipt)> = Vec::new();
        for (at, number) in numbers.into_iter().enumerate() {
            // Planned again: what an earlier undo of this run restored is only there now.
            let home = homes.get(&number);
            let plan = undo_plan(&self.system, at_home(context, home), number, None)?;
            // The changes of one run are undone together: it can be stopped only before the first took effect.
            let context = if at == 0 { context } else { ChangeContext { observer: &steady, ..context } };
            report.changes.push(undo_one(&self.system, context, plan, (home, &mut locks), &mut receipts)?);
        }
        report.running =
            still_running(&self.system, &context, receipts.iter().map(|(change, receipt)| (*change, receipt)));
        Ok(report)
    }

    /// The changes that were interrupted.
    ///
    /// # Errors
    /// When a change log cannot be read.
    pub fn interrupted(&self) -> Result<Vec<u64>, WorkError> {
        match self.system.state()? {
            Some(state) => Ok(unfinished(&state)?),
            None => Ok(Vec::new()),
        }
    }

    /// Completes or undoes what was interrupted.
    ///
    /// # Errors
    /// When a change log is damaged, or the disk fails again.
    pub fn recover(&self, observer: &dyn Observer) -> Result<RecoverReport, WorkError> {
        let mut report = RecoverReport { format: RecoverReport::FORMAT.into(), changes: Vec::new() };
        let Some(state) = self.system.state()? else { return Ok(report) };
        let open = unfinished(&state)?;
        if open.is_empty() {
            return Ok(report);
        }
        self.system.require_writable()?;
        let context = self.context(&state, observer);
        let mut locks = context.lock_own()?;
        for number in unfinished(&state)? {
            if let Some(recovered) = recover_with(self, &state, number, &mut locks, observer)? {
                report.changes.push(recovered);
            }
        }
        Ok(report)
    }
}

/// The homes that changes concern, each accessed with its owner's rights.
fn homes_of(
    system: &System,
    context: &ChangeContext<'_>,
    numbers: &[u64],
) -> Result<HashMap<u64, HomeContext>, WorkError> {
    let mut homes = HashMap::new();
    for number in numbers {
        let log = context
            .state
            .change(*number)
            .map_err(|source| ChangeError::Journal { change: *number, source })?
            .ok_or_else(|| WorkError::unknown_change(&number.to_string()))?;
        if let Some(home) = &log.begin.home {
            homes.insert(*number, system.home_again(home)?);
        }
    }
    Ok(homes)
}

/// The locks for undoing these changes; if an application whose data would move is running, that is an error.
fn undo_locks(
    engine: &Engine,
    context: &ChangeContext<'_>,
    numbers: &[u64],
    homes: &HashMap<u64, HomeContext>,
) -> Result<Locks, WorkError> {
    for home in homes.values() {
        refuse_running(&engine.system, home)?;
    }
    let is_of_files = |number: &u64| !homes.contains_key(number) && has_rounds(context.state, *number);
    if numbers.iter().any(is_of_files) {
        return engine.locks(context, &Debian.update_locks());
    }
    engine.system.require_writable()?;
    Ok(context.lock_own()?)
}

fn refuse_running(system: &System, home: &HomeContext) -> Result<(), WorkError> {
    let running = match &home.home.card {
        Some(card) if system.machine.is_live() => {
            running_apps(card.programs(), Some(&home.home.app), home.home.owner, &home.home.place)
        }
        _ => Vec::new(),
    };
    if running.is_empty() {
        return Ok(());
    }
    let pids = running.iter().map(|process| process.pid).collect();
    Err(WorkError::AppRuns { app: home.home.app.clone(), user: home.home.user.clone(), pids })
}

/// Refuses changes that are completely undone already, and names the change to undo instead.
fn refuse_undone(context: &ChangeContext<'_>, numbers: &[u64]) -> Result<(), WorkError> {
    let overview = context.state.overview().map_err(ChangeError::from)?;
    let standings = standings(context.state, &overview.changes)?;
    for number in numbers {
        let elsewhere = standings.actions(*number).map(|(_, standing)| match standing {
            Standing::Stands(by) if by == *number => None,
            other => Some(other),
        });
        let elsewhere: Option<Vec<Standing>> = elsewhere.collect();
        let why = match elsewhere.as_ref().and_then(|all| all.iter().max_by_key(|s| matches!(s, Standing::Stands(_)))) {
            None => continue,
            Some(Standing::Reverted(by)) => {
                format!("{number} was undone by change {by}; `veritum undo {by}` redoes it")
            }
            Some(Standing::Stands(by)) => {
                format!("{number} was redone by change {by}; `veritum undo {by}` undoes it")
            }
        };
        let what = "change to undo";
        return Err(WorkError::Unknown { what, name: why, known: Vec::new(), listed_by: Some("list changes") });
    }
    Ok(())
}

fn undo_plan(
    system: &System,
    context: ChangeContext<'_>,
    number: u64,
    only: Option<u32>,
) -> Result<UndoPlan, WorkError> {
    let mut plan = plan_undo(context, number, only)?.ok_or_else(|| WorkError::unknown_change(&number.to_string()))?;
    if is_return(context.state, number) {
        refuse_whole(&mut plan);
        return Ok(plan);
    }
    // A package that was updated since has other files: restoring older ones would damage it.
    for round in &mut plan.rounds {
        round.retain(|action| {
            let why = action.package.as_ref().and_then(|package| other_version(system, package));
            let kept = why.is_none();
            plan.refused.extend(why.map(|why| Refusal {
                place: action.place.clone(),
                package: action.package.clone(),
                why,
            }));
            kept
        });
    }
    plan.rounds.retain(|round| !round.actions.is_empty());
    Ok(plan)
}

/// Whether a change returned to a savepoint, or undid or redid one that did.
fn is_return(state: &StateFolder, number: u64) -> bool {
    let log = |number: u64| state.change(number).ok().flatten();
    let undone = |log: &ChangeLog| log.begin.of.and_then(|of| state.change(of).ok().flatten());
    std::iter::successors(log(number), undone).any(|log| log.begin.verb == Verb::Return)
}

/// Files of a return belong together, and to one state of the package database: if one of them was changed since, none is
/// undone. Configuration files may differ.
fn refuse_whole(plan: &mut UndoPlan) {
    if plan.refused.iter().any(|refusal| !refusal.place.is_within_place("/etc")) {
        plan.rounds.clear();
    }
}

/// Why files of an earlier version of a package are not restored.
fn other_version(system: &System, package: &PackageId) -> Option<String> {
    let same = |c: &&Package| c.id.name == package.name && c.id.arch == package.arch;
    match system.installed.packages.iter().find(same) {
        Some(now) if now.id.version == package.version => None,
        Some(now) => Some(format!("its package was updated to {} since", now.id.version)),
        None => Some("its package was removed since".into()),
    }
}

fn undo_one(
    system: &System,
    context: ChangeContext<'_>,
    plan: UndoPlan,
    (home, locks): (Option<&HomeContext>, &mut Locks),
    receipts: &mut Vec<(u64, RoundReceipt)>,
) -> Result<UndoneChange, WorkError> {
    let mut done = shown(&plan, home);
    let (tools, tools_refused) = tool_undos(system, &plan);
    done.refused.extend(tools_refused);
    if plan.rounds.is_empty() && tools.is_empty() {
        return Ok(done);
    }
    let moved: Vec<PlannedAction> = plan.rounds.iter().flat_map(|round| round.actions.clone()).collect();
    // Where a user's own files are what is undone, they are not compared.
    let watched = home.filter(|home| home.home.card.is_some());
    let mut watch = watched.map(|home| OwnWatch::begin(home, &moved, false, context.observer));
    let context = at_home(context, home);
    let mut session = Session::new(context, &system.settings, Verb::Undo, plan.area.clone()).undoing(plan.of);
    done.change = Some(session.change()?.number());
    done.actions.clear();
    for (at, round) in plan.rounds.into_iter().enumerate() {
        let round = match at {
            0 => round,
            _ => match earlier_round(system, context, plan.of, round.of, &mut done)? {
                Some(round) => round,
                None => continue,
            },
        };
        let owners: HashMap<_, _> =
            round.actions.iter().filter_map(|a| Some((a.place.clone(), a.package.as_ref()?.name.clone()))).collect();
        let receipt = match is_return(context.state, plan.of) {
            true => session.whole_undo_round(round)?,
            false => session.undo_round(round)?,
        };
        done.actions.extend(ActionReport::carried_out(receipt, false));
        done.refused.extend(receipt.blocked.iter().map(|b| RefusalReport {
            path: b.place.clone(),
            package: owners.get(&b.place).cloned(),
            why: b.why.clone(),
        }));
    }
    for (key, back) in tools {
        if let ToolChange::Disk(write) = back {
            done.actions.push(write_back(system, &mut session, &plan.tools, (key, write))?);
            continue;
        }
        let back = back.in_change(session.change()?.number());
        let shows = tool_action(&back);
        let (subject, before) = (shows.subject.to_string(), back.before_words());
        let (changes, reverts) = (Some(back.clone()), Some(key));
        let task = Task { changes, reverts, ..Task::lasting(shows.action, &subject, &before) };
        let why = session.delegate(task, &mut |_| system.change_by_tool(&back))?;
        session.answered_beside(u64::from(why.is_none()));
        done.actions.push(shows.settled(why));
    }
    let log = context.state.change(plan.of).ok().flatten();
    if let Some((package, names)) = log.as_ref().and_then(regenerated) {
        let why = regenerate(system, &mut session, locks, &package, &names)?;
        let subject = Subject::Package { name: package };
        let action = ActionReport::on(ActionKind::Regenerate, subject, Vec::new());
        done.actions.push(action.settled(why));
    }
    session.end(0)?;
    // Programs do not run from what is displaced in a home.
    if home.is_none() {
        let number = session.number.unwrap_or_default();
        receipts.extend(session.receipts.into_iter().map(|receipt| (number, receipt)));
    }
    done.own = watch.as_mut().zip(home).and_then(|(watch, home)| watch.end(home, context.observer));
    Ok(done)
}

/// Writes back what a write to a disk replaced.
fn write_back(
    system: &System,
    session: &mut Session<'_>,
    originals: &[(ActionKey, ToolChange)],
    (key, write): (ActionKey, DiskWrite),
) -> Result<ActionReport, WorkError> {
    let shows = tool_action(&ToolChange::Disk(write.clone()));
    let original = originals.iter().find_map(|(of, change)| match change {
        ToolChange::Disk(original) if *of == key => Some(original),
        _ => None,
    });
    let bytes =
        original.ok_or_else(|| "its record is lost".to_owned()).and_then(|original| system.bytes_back(original));
    let why = match bytes {
        Ok((now, before)) => session.write_disk(write, (&now, &before), Some(key))?,
        Err(why) => Some(why),
    };
    session.answered_beside(u64::from(why.is_none()));
    Ok(shows.settled(why))
}

/// How the system's own tools undo what they changed, by what is there now; and what is not undone.
fn tool_undos(system: &System, plan: &UndoPlan) -> (Vec<(ActionKey, ToolChange)>, Vec<RefusalReport>) {
    let (mut tools, mut refused): (Vec<(ActionKey, ToolChange)>, _) = (Vec::new(), Vec::new());
    for (key, change) in &plan.tools {
        let earlier: Vec<&ToolChange> = tools.iter().map(|(_, back)| back).collect();
        match system.tool_inverse(change, &earlier) {
            Ok(back) => tools.push((*key, back)),
            Err(why) => refused.push(RefusalReport { path: change.place(), package: None, why }),
        }
    }
    (tools, refused)
}

fn tool_action(change: &ToolChange) -> ActionReport {
    let place = change.place();
    if let ToolChange::Disk(write) = change {
        let disk = readable(place.as_bytes());
        let range = |range: &DiskRange| RangeReport { disk: disk.clone(), from: range.at, to: range.at + range.size };
        let source = "what was there before, as it is kept".to_owned();
        let ranges = write.ranges.iter().map(range).collect();
        let written = WrittenReport { source, ranges, ..WrittenReport::default() };
        let subject = Subject::Volume { name: write.parts.join(", ") };
        let action = ActionReport::on(change.kind(), subject, Vec::new());
        return ActionReport { bytes: write.size(), written: Some(written), ..action };
    }
    if let ToolChange::Firmware(firmware) = change {
        let source = "what was there before, as it is kept".to_owned();
        let variables = firmware.variables.iter().map(VariableReport::of).collect();
        let written = Some(WrittenReport { source, variables, ..WrittenReport::default() });
        let subject = Subject::Volume { name: firmware.part.clone() };
        return ActionReport { written, ..ActionReport::on(change.kind(), subject, Vec::new()) };
    }
    ActionReport { path: Some(place.clone()), ..ActionReport::on(change.kind(), Subject::path(&place), Vec::new()) }
}

/// Plans an earlier round again: its results are only there now that the later ones are undone.
fn earlier_round(
    system: &System,
    context: ChangeContext<'_>,
    change: u64,
    round: u32,
    done: &mut UndoneChange,
) -> Result<Option<UndoRound>, WorkError> {
    let plan = undo_plan(system, context, change, Some(round))?;
    let new = shown(&plan, None).refused.into_iter().filter(|r| !done.refused.contains(r)).collect::<Vec<_>>();
    done.refused.extend(new);
    Ok(plan.rounds.into_iter().next())
}

/// Completes or undoes one change in a home; the caller holds Veritum's own lock.
pub(super) fn recover_one(
    engine: &Engine,
    state: &StateFolder,
    number: u64,
    observer: &dyn Observer,
) -> Result<Option<RecoveredChange>, WorkError> {
    let home = home_of(&engine.system, state, number)?;
    let context = engine.context(state, observer);
    Ok(recover(at_home(context, home.as_ref()), number, engine.system.settings.now, &mut || ())?)
}

fn recover_with(
    engine: &Engine,
    state: &StateFolder,
    number: u64,
    locks: &mut Locks,
    observer: &dyn Observer,
) -> Result<Option<RecoveredChange>, WorkError> {
    let home = home_of(&engine.system, state, number)?;
    let context = engine.context(state, observer);
    if home.is_none() && has_rounds(state, number) {
        context.lock_too(locks, &Debian.update_locks())?;
    }
    Ok(recover(at_home(context, home.as_ref()), number, engine.system.settings.now, &mut || locks.keep_own())?)
}

/// The home that a change concerns.
fn home_of(system: &System, state: &StateFolder, number: u64) -> Result<Option<HomeContext>, WorkError> {
    let log = state.change(number).map_err(|source| ChangeError::Journal { change: number, source })?;
    log.and_then(|log| log.begin.home).map(|home| system.home_again(&home)).transpose()
}

/// Whether a change came to its first round: until then it affects services only.
fn has_rounds(state: &StateFolder, number: u64) -> bool {
    match state.change(number) {
        Ok(log) => log.is_some_and(|log| log.rounds().map_or(true, |rounds| !rounds.is_empty())),
        Err(_) => true,
    }
}

/// The context of the home that a change concerns, or this context if there is none.
fn at_home<'a>(context: ChangeContext<'a>, home: Option<&'a HomeContext>) -> ChangeContext<'a> {
    home.map_or(context, |home| home.context(context))
}

fn shown(plan: &UndoPlan, home: Option<&HomeContext>) -> UndoneChange {
    UndoneChange {
        user: home.map(|home| home.home.user.clone()),
        own: None,
        of: plan.of,
        change: None,
        actions: plan.rounds.iter().flat_map(|r| &r.actions).map(ActionReport::planned).collect(),
        refused: plan
            .refused
            .iter()
            .map(|r| RefusalReport {
                path: r.place.clone(),
                package: r.package.as_ref().map(|c| c.name.clone()),
                why: r.why.clone(),
            })
            .collect(),
    }
}
