//! Rescued files restored in homes: each home a change of its own, which `undo` undoes.

use std::collections::{BTreeMap, HashSet};
use std::path::PathBuf;
use std::sync::Arc;

use super::session::Session;
use super::undo::recover_one;
use super::{Agreement, Engine, WorkError};
use crate::apps::Bases;
use crate::areas::APPS;
use crate::change::{ChangeContext, ChangeError, RoundReceipt, Verb, unfinished};
use crate::event::{Event, Flow, Observer, Phase};
use crate::homes::{HomeContext, OpenHome};
use crate::machine::Disk;
use crate::model::{SystemPath, error_chain, error_words};
use crate::plan::{ItemKind, Operation, PlannedAction};
use crate::report::{BackHome, MissingFile, RescueBackReport};
use crate::rescue::manifest::{EntryLine, Manifest};
use crate::rescue::{BackPlan, BackRules, RescueError, StoredContents, bytes_of, find_rescued};
use crate::system::System;

/// A round has at most so many files, and about so many bytes: an interruption loses one round.
const ROUND_FILES: usize = 10_000;
const ROUND_BYTES: u64 = 1 << 30;
/// A change has at most about so many actions: its log is read as a whole.
const CHANGE_ACTIONS: usize = 20_000;

/// What is restored.
#[derive(Debug, Clone)]
pub struct BackWanted {
    /// The folder with the rescued files, or the one above it.
    pub from: PathBuf,
    /// Only these users' files; all users' if empty.
    pub users: Vec<String>,
    /// Which of them.
    pub rules: BackRules,
}

/// A home with its plan.
struct Planned {
    context: HomeContext,
    plan: BackPlan,
    /// The position of its entry in the report.
    at: usize,
}

impl Engine {
    /// Restores rescued files in the homes of the users of the same names. Missing files are created, older ones are
    /// replaced and set aside; newer ones stay unless it is wanted otherwise. `ask` shows the plan first.
    ///
    /// # Errors
    /// When there is no manifest that can be used, a user is unknown, or a change stays unfinished.
    pub fn restore_rescued(
        &self,
        wanted: &BackWanted,
        plan_only: bool,
        disk: &Arc<dyn Disk>,
        observer: &dyn Observer,
        ask: &mut dyn FnMut(&RescueBackReport) -> Agreement,
    ) -> Result<RescueBackReport, RescueError> {
        let (folder, top) = find_rescued(&wanted.from, disk)?;
        let manifest =
            Manifest::read(&top).map_err(|source| RescueError::Manifest { place: folder.clone(), source })?;
        let contents = StoredContents::new(top, folder.clone(), manifest.entries.values());
        let run = manifest.first.unwrap_or_default();
        let mut report = RescueBackReport {
            format: RescueBackReport::FORMAT.into(),
            source: folder.display().to_string(),
            from: run.host,
            plan_only: true,
            homes: Vec::new(),
            damaged_lines: manifest.damaged,
            stopped: false,
        };
        let by_user = of_users(manifest.entries.into_values(), &wanted.users)?;
        observer.on_event(Event::Begin { phase: Phase::Homes, items: by_user.len() as u64, bytes: 0 });
        let mut homes = Vec::new();
        for (user, entries) in by_user {
            homes.extend(home_planned(&self.system, user, &entries, wanted, observer, &mut report));
            if observer.on_event(Event::Advance { items: 1, bytes: 0 }) == Flow::Stop {
                return Err(RescueError::Stopped);
            }
        }
        observer.on_event(Event::End);
        if homes.is_empty() || plan_only {
            return Ok(RescueBackReport { plan_only, ..report });
        }
        self.system.require_writable()?;
        let state = self.system.make_state()?;
        let context = self.context(&state, observer);
        let _lock = context.lock_own().map_err(WorkError::from)?;
        if let Some(number) = unfinished(&state).map_err(WorkError::from)?.first() {
            return Err(WorkError::from(ChangeError::Earlier(*number)).into());
        }
        if ask(&report) == Agreement::No {
            return Ok(report);
        }
        report.plan_only = false;
        for home in homes {
            let at = home.at;
            match put_back(&self.system, context, home, &contents, &mut report.homes[at]) {
                // One home must not keep the others' files from being restored.
                Err(WorkError::Change(ChangeError::Unfinished { change, source })) => {
                    report.homes[at].trouble = Some(error_words(&source));
                    recover_one(self, &state, change, observer)?;
                }
                stopped => report.stopped = stopped?,
            }
            if report.stopped {
                break;
            }
        }
        Ok(report)
    }
}

/// The rescued files by user, each in the order of their paths.
fn of_users(
    entries: impl Iterator<Item = EntryLine>,
    only: &[String],
) -> Result<BTreeMap<String, Vec<EntryLine>>, WorkError> {
    let mut by_user: BTreeMap<String, Vec<EntryLine>> = BTreeMap::new();
    entries.for_each(|entry| by_user.entry(entry.user.clone()).or_default().push(entry));
    if let Some(unknown) = only.iter().find(|user| !by_user.contains_key(*user)) {
        let known = by_user.into_keys().collect();
        return Err(WorkError::Unknown { what: "user", name: unknown.clone(), known, listed_by: None });
    }
    by_user.retain(|user, _| only.is_empty() || only.contains(user));
    by_user.values_mut().for_each(|entries| entries.sort_by(|a, b| a.path.cmp(&b.path)));
    Ok(by_user)
}

fn home_planned(
    system: &System,
    user: String,
    entries: &[EntryLine],
    wanted: &BackWanted,
    observer: &dyn Observer,
    report: &mut RescueBackReport,
) -> Option<Planned> {
    let mut told = BackHome { user, ..BackHome::default() };
    let planned = match home_of(system, &told.user) {
        Ok((home, group)) => {
            told.home = Some(home.place.clone());
            let go_on = || observer.on_event(Event::Advance { items: 0, bytes: 0 }) == Flow::Continue;
            let plan = BackPlan::new(&home, group, entries, &wanted.rules, &go_on);
            (told.wanted, told.same) = (plan.wanted, plan.same);
            told.replaced.clone_from(&plan.replaced);
            told.newer.clone_from(&plan.newer);
            told.whole.clone_from(&plan.whole);
            told.incomplete.clone_from(&plan.incomplete);
            let missing = |(path, why): &(SystemPath, String)| missing(&told.user, path, why);
            told.missing = plan.obstacles.iter().map(missing).collect();
            told.free_bytes = home.dir().disk().room(home.dir().fd()).map_or(0, |room| room.bytes);
            let bases = home.bases().unwrap_or_else(|_| Bases::default());
            Some((HomeContext::of_all_files(home, bases), plan))
        }
        Err(why) => {
            told.trouble = Some(why);
            None
        }
    };
    report.homes.push(told);
    let at = report.homes.len() - 1;
    let (context, plan) = planned.filter(|(_, plan)| plan.actions().next().is_some())?;
    Some(Planned { context, plan, at })
}

/// The home of a user of this system, and its group.
fn home_of(system: &System, user: &str) -> Result<(OpenHome, u32), String> {
    let accounts = system
        .users_named(Some(user))
        .map_err(|_| "there is no user of that name on this system: create one first".to_owned())?;
    let (_, home) = system.open_homes(&accounts).pop().ok_or("the home does not exist yet")?;
    let home = home.map_err(|e| error_words(&e))?;
    let group = home.dir().look_self().map_err(|e| error_words(&e))?.gid;
    Ok((home, group))
}

fn missing(user: &str, path: &SystemPath, why: &str) -> MissingFile {
    MissingFile { user: user.to_owned(), path: path.clone(), why: why.to_owned() }
}

/// Carries out the plan of one home; returns whether it was interrupted.
fn put_back(
    system: &System,
    context: ChangeContext<'_>,
    home: Planned,
    contents: &StoredContents,
    told: &mut BackHome,
) -> Result<bool, WorkError> {
    let Planned { context: home, plan, .. } = home;
    let begin = || Session::new(home.context(context), &system.settings, Verb::RescueBack, APPS);
    let mut session = begin();
    let (mut actions, mut stopped) = (0, false);
    let gaps: HashSet<SystemPath> = told.incomplete.drain(..).collect();
    told.replaced.clear();
    for round in rounds(plan) {
        if actions > CHANGE_ACTIONS {
            finish(&mut session, told)?;
            (session, actions) = (begin(), 0);
        }
        actions += round.len();
        match session.round(round, contents, 0) {
            Ok(receipt) => tally(receipt, &gaps, told),
            Err(ChangeError::Stopped) => stopped = true,
            Err(e @ ChangeError::Unfinished { .. }) => return Err(e.into()),
            Err(e) => told.trouble = Some(error_chain(&e)),
        }
        let done: u64 = session.receipts.iter().map(|receipt| receipt.outcomes.len() as u64).sum();
        session.answered_beside(done);
        session.receipts.clear();
        stopped |= context.observer.on_event(Event::Advance { items: 0, bytes: 0 }) == Flow::Stop;
        if stopped || told.trouble.is_some() {
            break;
        }
    }
    finish(&mut session, told)?;
    Ok(stopped)
}

fn finish(session: &mut Session<'_>, told: &mut BackHome) -> Result<(), WorkError> {
    session.end(0)?;
    told.changes.extend(session.number.filter(|number| !told.changes.contains(number)));
    Ok(())
}

/// The actions in rounds: folders first, hard links last.
fn rounds(plan: BackPlan) -> Vec<Vec<PlannedAction>> {
    let mut rounds = vec![Vec::new()];
    for actions in [plan.folders, plan.files, plan.names] {
        let mut bytes = 0;
        for action in actions {
            let round = rounds.last_mut().expect("BUG: there is a first round");
            let is_full = round.len() >= ROUND_FILES || bytes >= ROUND_BYTES;
            bytes = if is_full { 0 } else { bytes } + bytes_of(&action);
            let index = if is_full { 1 } else { u32::try_from(round.len() + 1).unwrap_or(u32::MAX) };
            let action = PlannedAction { index, ..action };
            if is_full { rounds.push(vec![action]) } else { round.push(action) }
        }
        rounds.push(Vec::new());
    }
    rounds.retain(|round| !round.is_empty());
    rounds
}

fn tally(receipt: &RoundReceipt, gaps: &HashSet<SystemPath>, told: &mut BackHome) {
    let is_folder = |action: &PlannedAction| matches!(&action.operation, Operation::Put(items) if items.first().is_some_and(|item| item.kind == ItemKind::Folder));
    // Outcomes are in the order of the actions.
    let failed: BTreeMap<u32, &String> =
        receipt.outcomes.iter().filter_map(|outcome| Some((outcome.index, outcome.failed.as_ref()?))).collect();
    for action in &receipt.actions {
        match failed.get(&action.index) {
            Some(why) => told.missing.push(missing(&told.user, &action.place, why)),
            None if is_folder(action) => {}
            None => {
                told.restored.files += 1;
                told.restored.bytes += bytes_of(action);
                told.replaced.extend(action.before.map(|_| action.place.clone()));
                told.incomplete.extend(gaps.get(&action.place).cloned());
            }
        }
    }
    told.missing.extend(receipt.blocked.iter().map(|blocked| missing(&told.user, &blocked.place, &blocked.why)));
}
