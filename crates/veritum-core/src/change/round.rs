//! Carrying out a change: its rounds, each completely or not at all.

use std::collections::{BTreeMap, HashMap};
use std::io;

use super::beside::Task;
use super::committed::Committed;
use super::context::ChangeContext;
use super::folders::Folders;
use super::journal::{FORMAT, Journal};
use super::keep::folder_for;
use super::obstacles::{self, Blocked};
use super::prune::prune;
use super::record::{Begin, ParentTime, Purpose, Record};
use super::stage::{StageError, Staging, stage};
use super::swap::{backward, forward};
use super::{ChangeError, JournalError};
use super::{UndoRound, aside, attributes, overview};
use crate::event::{Event, Flow, Phase};
use crate::model::{Identity, Instant, SystemPath};
use crate::plan::{ActionKey, ActionOutcome, Item, ItemKind, KeptFolder, Operation, PlannedAction};
use crate::platform::services::{self, PausedUnit, Services};
use crate::store::{Contents, NoContents};

/// The result of a round.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct RoundReceipt {
    /// Its number within the change, from 1; 0 when nothing was left to try.
    pub round: u32,
    /// The actions that were tried.
    pub actions: Vec<PlannedAction>,
    /// Their results.
    pub outcomes: Vec<ActionOutcome>,
    /// Actions with obstacles.
    pub blocked: Vec<Blocked>,
}

/// A change in progress. It must be ended, or recovery will find it unfinished.
#[must_use = "end() must be called, or the change stays unfinished"]
pub struct OpenChange<'a> {
    pub(super) context: ChangeContext<'a>,
    pub(super) number: u64,
    journal: Journal,
    run: String,
    rounds: u32,
    /// The number of writes to disks.
    pub(super) writes: u32,
    paused: Vec<PausedUnit>,
    /// The folder of the home for what is set aside.
    aside: Option<String>,
    /// Whether a round is undone when one of its actions fails.
    is_whole: bool,
    /// The times that folders get.
    times: FolderTimes,
}

/// Times of folders.
pub type FolderTimes = BTreeMap<SystemPath, Instant>;

impl<'a> OpenChange<'a> {
    /// Begins a change with the next free number. The caller holds the locks.
    ///
    /// No change begins while an earlier one is unfinished: an unreadable log counts as ended if there is a later one.
    ///
    /// # Errors
    /// When the state folder cannot be written, or an earlier change is or may be unfinished.
    pub fn begin(
        context: ChangeContext<'a>,
        purpose: Purpose,
        run: &str,
        now: jiff::Timestamp,
    ) -> Result<Self, ChangeError> {
        if let Some(earlier) = overview::unfinished(context.state)?.first() {
            return Err(ChangeError::Earlier(*earlier));
        }
        let number = context.state.next_change()?;
        let at = |source: io::Error| ChangeError::Journal { change: number, source: JournalError::Io(source) };
        context.state.keep_reserve();
        let dir = context.state.make_sub(&format!("changes/{number}")).map_err(at)?;
        let journal = Journal::create(dir).map_err(at)?;
        let aside = context.home.map(|_| aside::name_of(now, number));
        let mut change = Self {
            context,
            number,
            journal,
            run: run.to_owned(),
            rounds: 0,
            writes: 0,
            paused: Vec::new(),
            aside,
            is_whole: false,
            times: FolderTimes::new(),
        };
        let begin = Begin {
            format: FORMAT.into(),
            writer: env!("CARGO_PKG_VERSION").into(),
            change: number,
            verb: purpose.verb,
            area: purpose.area,
            of: purpose.of,
            savepoint: purpose.savepoint,
            home: context.home.cloned().map(Box::new),
            started: now,
            run: run.to_owned(),
        };
        change.record(&Record::Begin(begin)).map_err(at)?;
        Ok(change)
    }

    /// The folder of the home for what is set aside, if the change concerns a home.
    #[must_use]
    pub fn aside(&self) -> Option<&str> {
        self.aside.as_deref()
    }

    /// Its number.
    #[must_use]
    pub fn number(&self) -> u64 {
        self.number
    }

    pub(super) fn record(&mut self, record: &Record) -> io::Result<()> {
        let added = match self.journal.add(record) {
            Err(e) if e.kind() == io::ErrorKind::StorageFull => {
                self.context.state.spend_reserve();
                self.journal.add(record)
            }
            other => other,
        };
        added.map(|()| {
            self.context.observer.on_event(Event::Recorded(record.kind()));
        })
    }

    /// Carries out one round.
    ///
    /// # Errors
    /// When it was undone, or could not be completed.
    pub fn round(&mut self, actions: Vec<PlannedAction>, contents: &dyn Contents) -> Result<RoundReceipt, ChangeError> {
        self.settling_round(actions, Vec::new(), contents)
    }

    /// Carries out one round of which everything takes effect or nothing; afterwards these folders get these times.
    ///
    /// # Errors
    /// When it was undone, or could not be completed; [`ChangeError::NotWhole`] when one of the actions is impossible.
    pub fn whole_round(
        &mut self,
        actions: Vec<PlannedAction>,
        contents: &dyn Contents,
        times: FolderTimes,
    ) -> Result<RoundReceipt, ChangeError> {
        self.is_whole = true;
        self.times = times;
        self.settling_round(actions, Vec::new(), contents)
    }

    /// Carries out one round of an undo of which everything takes effect or nothing.
    ///
    /// # Errors
    /// As [`OpenChange::whole_round`].
    pub fn whole_undo_round(&mut self, round: UndoRound) -> Result<RoundReceipt, ChangeError> {
        self.is_whole = true;
        self.undo_round(round)
    }

    /// Carries out one round of an undo.
    ///
    /// # Errors
    /// As [`OpenChange::round`].
    pub fn undo_round(&mut self, round: UndoRound) -> Result<RoundReceipt, ChangeError> {
        self.times = round.times;
        self.settling_round(round.actions, round.settles, &NoContents)
    }

    fn settling_round(
        &mut self,
        actions: Vec<PlannedAction>,
        mut settles: Vec<ActionKey>,
        contents: &dyn Contents,
    ) -> Result<RoundReceipt, ChangeError> {
        let mut reverts: HashMap<u32, ActionKey> = actions.iter().filter_map(|a| Some((a.index, a.reverts?))).collect();
        let (actions, blocked, cleared) = obstacles::sift(&self.context, actions);
        for action in &actions {
            reverts.remove(&action.index);
        }
        if let Some(first) = blocked.first().filter(|_| self.is_whole) {
            return Err(first.clone().into());
        }
        // Actions with obstacles are not completely reverted.
        settles.retain(|key| !reverts.values().any(|blocked| blocked == key));
        if actions.is_empty() {
            return Ok(RoundReceipt { round: 0, actions, outcomes: Vec::new(), blocked });
        }
        obstacles::require_room(&self.context, &actions)?;
        let place = actions[0].place.clone();
        if let Some(home) = self.context.home {
            let unusable = |source| ChangeError::NotAside { home: home.place.clone(), source };
            aside::require(&self.context, &home.place).map_err(unusable)?;
        }
        let folders = Folders::default();
        let parents = self
            .parents(&actions, &folders)
            .map_err(|source| ChangeError::TakenBack { place: place.clone(), source })?;
        let round = self.rounds + 1;
        let plan = Record::Plan {
            round,
            actions: actions.clone(),
            parents: parents.clone(),
            cleared: cleared.clone(),
            settles,
            whole: self.is_whole,
        };
        self.record(&plan).map_err(|source| no_room_or(&actions, place.clone(), source))?;
        self.rounds = round;
        let mut committed = Committed {
            change: self.number,
            round,
            actions: &actions,
            parents: &parents,
            cleared: &cleared,
            staged: HashMap::new(),
            given_up: HashMap::new(),
            fresh: true,
            ours: std::cell::RefCell::default(),
            folders: &folders,
        };
        match attributes::clear(&self.context, &cleared) {
            Ok(stats) => committed.ours.borrow_mut().extend(stats.iter().map(|s| (s.id, s.ctime))),
            Err(source) => return Err(self.roll_back(&committed, ChangeError::TakenBack { place, source })),
        }
        let commit = match self.stage_all(&mut committed, contents) {
            Ok(commit) => commit,
            Err(e) => return Err(self.roll_back(&committed, e)),
        };
        let given_up = committed.given_up.iter().next().map(|(index, why)| (*index, why.clone()));
        if let Some(error) = given_up.filter(|_| self.is_whole).map(|(index, why)| not_whole(&actions, index, why)) {
            return Err(self.roll_back(&committed, error));
        }
        if let Err(source) = self.record(&commit) {
            return Err(self.roll_back(&committed, no_room_or(&actions, place, source)));
        }
        let outcomes = match forward(&self.context, &committed) {
            Ok(outcomes) => outcomes,
            Err(source) => {
                if let Err(e) = self.record(&Record::Back { round }) {
                    return Err(ChangeError::Unfinished { change: self.number, source: e });
                }
                let error = no_room_or(&actions, place, source);
                return Err(self.roll_back(&committed, error));
            }
        };
        let failed = outcomes.iter().find_map(|outcome| Some((outcome.index, outcome.failed.clone()?)));
        if let Some((index, why)) = failed.filter(|_| self.is_whole) {
            if let Err(source) = self.record(&Record::Back { round }) {
                return Err(ChangeError::Unfinished { change: self.number, source });
            }
            return Err(self.roll_back(&committed, not_whole(&actions, index, why)));
        }
        let done = Record::Done { round, outcomes: outcomes.clone() };
        self.record(&done).map_err(|source| ChangeError::Unfinished { change: self.number, source })?;
        Ok(RoundReceipt { round, actions, outcomes, blocked })
    }

    fn parents(&self, actions: &[PlannedAction], folders: &Folders) -> io::Result<Vec<ParentTime>> {
        let mut parents: BTreeMap<SystemPath, ParentTime> = BTreeMap::new();
        // In a home a folder is created for what is set aside: the home's own times are restored.
        let home = self.context.home.map(|home| home.place.clone());
        for place in actions.iter().filter_map(|a| a.place.parent()).chain(home).chain(self.times.keys().cloned()) {
            if !parents.contains_key(&place) {
                let after = self.times.get(&place).copied();
                let dir = match folders.get(&self.context, &place)? {
                    // It comes, or goes, with the change.
                    None if after.is_some() => continue,
                    other => other.ok_or(io::ErrorKind::NotFound)?,
                };
                let mtime = dir.look_self()?.mtime;
                let keeps = match &self.aside {
                    Some(name) => KeptFolder::Aside(name.clone()),
                    None => folder_for(&self.context, &place)?,
                };
                parents.insert(place.clone(), ParentTime { place, mtime, after, keeps });
            }
        }
        Ok(parents.into_values().collect())
    }

    fn stage_all(&self, committed: &mut Committed<'_>, contents: &dyn Contents) -> Result<Record, ChangeError> {
        let actions = committed.actions;
        let folders = committed.folders;
        let staging = Staging { change: self.number, round: committed.round, actions, contents, folders };
        let bytes = actions.iter().map(bytes_of).sum();
        self.context.observer.on_event(Event::Begin { phase: Phase::Staging, items: actions.len() as u64, bytes });
        let mut given_up: Vec<(u32, String)> = Vec::new();
        for action in actions {
            match stage(&self.context, staging, action) {
                Ok(Some(stat)) => {
                    committed.staged.insert(action.index, stat.id);
                    committed.ours.borrow_mut().insert(stat.id, stat.ctime);
                }
                Ok(None) => {}
                Err(StageError::GivenUp(why)) => given_up.push((action.index, why)),
                Err(StageError::Disk(source)) => return Err(no_room_or(actions, action.place.clone(), source)),
            }
            let flow = self.context.observer.on_event(Event::Advance { items: 1, bytes: bytes_of(action) });
            // After a round took effect the change is completed: its check and its last record are part of it.
            if flow == Flow::Stop && committed.round == 1 {
                return Err(ChangeError::Stopped);
            }
        }
        self.sync_file_systems(committed).map_err(|source| no_room_or(actions, actions[0].place.clone(), source))?;
        self.context.observer.on_event(Event::End);
        committed.given_up = given_up.iter().cloned().collect();
        let mut staged: Vec<(u32, Identity)> = committed.staged.iter().map(|(i, id)| (*i, *id)).collect();
        staged.sort_by_key(|(index, _)| *index);
        staged.retain(|(index, _)| !committed.given_up.contains_key(index));
        Ok(Record::Commit { round: committed.round, staged, given_up })
    }

    fn sync_file_systems(&self, committed: &Committed<'_>) -> io::Result<()> {
        let mut seen = Vec::new();
        for parent in committed.parents {
            let Some(dir) = committed.folders.get(&self.context, &parent.place)? else { continue };
            let device = dir.look_self()?.id.dev;
            if !seen.contains(&device) {
                seen.push(device);
                dir.disk().sync_all(dir.fd())?;
            }
        }
        Ok(())
    }

    fn roll_back(&mut self, committed: &Committed<'_>, error: ChangeError) -> ChangeError {
        let kept = match backward(&self.context, committed) {
            Ok(kept) => kept,
            Err(source) => return ChangeError::Unfinished { change: self.number, source },
        };
        let why = crate::model::error_chain(&error);
        match self.record(&Record::TakenBack { round: committed.round, why, kept }) {
            Ok(()) => error,
            Err(source) => ChangeError::Unfinished { change: self.number, source },
        }
    }

    /// Stops units during the change and prevents their start. Units that are held already stay so.
    ///
    /// # Errors
    /// When one cannot be held; then all are restored.
    pub fn pause(&mut self, units: Vec<PausedUnit>) -> Result<(), ChangeError> {
        let number = self.number;
        self.record(&Record::Paused { units: units.clone() })
            .map_err(|source| ChangeError::Unfinished { change: number, source })?;
        self.paused.extend(units.iter().cloned());
        let paused = services::pause(self.context.services, &units);
        paused.map_err(|(unit, source)| match self.resume() {
            Ok(()) => ChangeError::Service { change: number, unit, source },
            Err(e) => e,
        })
    }

    /// Restores the units.
    ///
    /// # Errors
    /// When one cannot be restored: the change stays unfinished, so that recovery tries again.
    pub fn resume(&mut self) -> Result<(), ChangeError> {
        if self.paused.is_empty() {
            return Ok(());
        }
        let change = self.number;
        services::resume(self.context.services, &self.paused).map_err(|(unit, source)| ChangeError::ServiceHeld {
            change,
            unit,
            source,
        })?;
        self.paused.clear();
        self.record(&Record::Resumed).map_err(|source| ChangeError::Unfinished { change, source })
    }

    /// Runs a tool of the system: recorded before, with the result afterwards. Returns the reason if it failed.
    ///
    /// # Errors
    /// When a record cannot be written.
    pub fn delegate(
        &mut self,
        task: Task<'_>,
        work: &mut dyn FnMut(&dyn Services) -> Result<(), String>,
    ) -> Result<Option<String>, ChangeError> {
        let unfinished = |change| move |source| ChangeError::Unfinished { change, source };
        self.record(&task.record()).map_err(unfinished(self.number))?;
        let failed = work(self.context.services).err();
        self.record(&Record::DelegatedDone { failed: failed.clone() }).map_err(unfinished(self.number))?;
        Ok(failed)
    }

    /// Ends the change; held units are restored before.
    ///
    /// # Errors
    /// When the last record cannot be written, or a unit cannot be restored; the rounds have taken effect nevertheless.
    pub fn end(mut self, answered: u64, remaining: u64, now: jiff::Timestamp) -> Result<(), ChangeError> {
        self.resume()?;
        let number = self.number;
        self.record(&Record::End { ended: now, answered, remaining })
            .map_err(|source| ChangeError::Unfinished { change: number, source })?;
        // The context of a home gives access to that home only.
        if self.context.home.is_none() {
            prune(&self.context, &self.run, now);
        }
        overview::refresh(self.context.state);
        Ok(())
    }
}

impl Drop for OpenChange<'_> {
    /// Whatever else failed: services are started again. Recovery repeats it, which is idempotent.
    fn drop(&mut self) {
        let _ = services::resume(self.context.services, &self.paused);
    }
}

fn not_whole(actions: &[PlannedAction], index: u32, why: String) -> ChangeError {
    let place = actions.iter().find(|action| action.index == index).map(|action| action.place.clone());
    ChangeError::NotWhole { place: place.unwrap_or_else(SystemPath::root), why, next: None }
}

fn bytes_of(action: &PlannedAction) -> u64 {
    let size = |item: &Item| if let ItemKind::File { size, .. } = item.kind { size } else { 0 };
    if let Operation::Put(items) = &action.operation { items.iter().map(size).sum() } else { 0 }
}

/// Reports a full disk as such, with the missing bytes as far as the plan knows.
fn no_room_or(actions: &[PlannedAction], place: SystemPath, source: io::Error) -> ChangeError {
    if matches!(source.kind(), io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded) {
        ChangeError::NoRoom { place, missing: actions.iter().map(bytes_of).sum::<u64>().max(4096) }
    } else {
        ChangeError::TakenBack { place, source }
    }
}
