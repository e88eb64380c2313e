//! [`Session`]: one change from its beginning to its end, whatever happens in between.

use std::collections::HashSet;

use crate::change::{
    ChangeContext, ChangeError, FolderTimes, OpenChange, Purpose, RangeBytes, RoundReceipt, Task, UndoRound, Verb,
};
use crate::model::{AreaName, FindingId};
use crate::plan::{ActionKey, DiskWrite, PlannedAction};
use crate::platform::services::{PausedUnit, Services};
use crate::store::Contents;
use crate::system::Settings;

/// A change that begins with the first action, and is ended unless it is left unfinished for recovery.
pub(super) struct Session<'a> {
    context: ChangeContext<'a>,
    settings: &'a Settings,
    purpose: Purpose,
    open: Option<OpenChange<'a>>,
    /// The number of findings answered other than by rounds.
    beside: u64,
    is_paused: bool,
    /// The change's number, once it has begun.
    pub(super) number: Option<u64>,
    /// The results of its rounds.
    pub(super) receipts: Vec<RoundReceipt>,
}

impl<'a> Session<'a> {
    /// A session without a change yet. The caller holds the locks.
    pub(super) fn new(context: ChangeContext<'a>, settings: &'a Settings, verb: Verb, area: AreaName) -> Self {
        Self {
            context,
            settings,
            purpose: Purpose::new(verb, area),
            open: None,
            beside: 0,
            is_paused: false,
            number: None,
            receipts: Vec::new(),
        }
    }

    /// The same for a change that undoes another.
    pub(super) fn undoing(self, change: u64) -> Self {
        Self { purpose: Purpose { of: Some(change), ..self.purpose.clone() }, ..self }
    }

    /// The same for a change that returns to a savepoint.
    pub(super) fn returning_to(self, savepoint: u64) -> Self {
        Self { purpose: Purpose { savepoint: Some(savepoint), ..self.purpose.clone() }, ..self }
    }

    /// The open change, begun if it is not yet.
    ///
    /// # Errors
    /// When the state folder cannot be written, or an earlier change is unfinished.
    pub(super) fn change(&mut self) -> Result<&mut OpenChange<'a>, ChangeError> {
        if self.open.is_none() {
            let settings = self.settings;
            let open = OpenChange::begin(self.context, self.purpose.clone(), &settings.run, settings.now)?;
            self.number = Some(open.number());
            self.open = Some(open);
        }
        self.open.as_mut().ok_or(ChangeError::Stopped)
    }

    /// The context of the change.
    pub(super) fn context(&self) -> ChangeContext<'a> {
        self.context
    }

    /// Stops units of the service manager until the change ends.
    ///
    /// # Errors
    /// If one cannot be stopped; all are then as before, or the change is left for recovery.
    pub(super) fn pause(&mut self, units: Vec<PausedUnit>) -> Result<(), ChangeError> {
        let paused = self.change()?.pause(units);
        self.is_paused = paused.is_ok();
        if matches!(paused, Err(ChangeError::Unfinished { .. } | ChangeError::ServiceHeld { .. })) {
            self.leave();
        }
        paused
    }

    /// Whether units are stopped until the change ends.
    pub(super) fn is_paused(&self) -> bool {
        self.is_paused
    }

    /// Carries out one round.
    ///
    /// # Errors
    /// As [`attempt`](Self::attempt).
    pub(super) fn round(
        &mut self,
        actions: Vec<PlannedAction>,
        contents: &dyn Contents,
        remaining: u64,
    ) -> Result<&RoundReceipt, ChangeError> {
        self.attempt(remaining, |change| change.round(actions, contents))
    }

    /// Carries out one round of which everything takes effect or nothing.
    ///
    /// # Errors
    /// As [`attempt`](Self::attempt).
    pub(super) fn whole_round(
        &mut self,
        actions: Vec<PlannedAction>,
        contents: &dyn Contents,
        times: FolderTimes,
    ) -> Result<&RoundReceipt, ChangeError> {
        self.attempt(0, |change| change.whole_round(actions, contents, times))
    }

    /// Carries out one round of an undo.
    ///
    /// # Errors
    /// As [`attempt`](Self::attempt).
    pub(super) fn undo_round(&mut self, round: UndoRound) -> Result<&RoundReceipt, ChangeError> {
        self.attempt(0, |change| change.undo_round(round))
    }

    /// Carries out one round of an undo of which everything takes effect or nothing.
    ///
    /// # Errors
    /// As [`attempt`](Self::attempt).
    pub(super) fn whole_undo_round(&mut self, round: UndoRound) -> Result<&RoundReceipt, ChangeError> {
        self.attempt(0, |change| change.whole_undo_round(round))
    }

    /// Carries out a round; if it fails, the change is ended with what earlier rounds did, unless it is unfinished.
    ///
    /// # Errors
    /// When it was undone, or could not be completed.
    fn attempt(
        &mut self,
        remaining: u64,
        round: impl FnOnce(&mut OpenChange<'a>) -> Result<RoundReceipt, ChangeError>,
    ) -> Result<&RoundReceipt, ChangeError> {
        match round(self.change()?) {
            Ok(receipt) => self.receipts.push(receipt),
            // An unfinished one is left for recovery.
            Err(e @ ChangeError::Unfinished { .. }) => {
                self.leave();
                return Err(e);
            }
            Err(e) => {
                self.end(remaining)?;
                return Err(e);
            }
        }
        self.receipts.last().ok_or(ChangeError::Stopped)
    }

    /// Runs one of the system's own tools, recorded before; returns the reason if it failed.
    ///
    /// # Errors
    /// When the log cannot be written.
    pub(super) fn delegate(
        &mut self,
        task: Task<'_>,
        work: &mut dyn FnMut(&dyn Services) -> Result<(), String>,
    ) -> Result<Option<String>, ChangeError> {
        self.change()?.delegate(task, work)
    }

    /// Writes bytes of a disk; returns the reason if it failed.
    ///
    /// # Errors
    /// When what is there cannot be kept, or writing could neither be completed nor undone: then the change is left for recovery.
    pub(super) fn write_disk(
        &mut self,
        write: DiskWrite,
        bytes: (&RangeBytes, &RangeBytes),
        reverts: Option<ActionKey>,
    ) -> Result<Option<String>, ChangeError> {
        let subject = write.parts.join(", ");
        let written = self.change()?.write_disk(write, bytes, (&subject, reverts));
        match &written {
            Err(ChangeError::Unfinished { .. }) => self.leave(),
            Err(_) => self.end(0)?,
            Ok(_) => {}
        }
        written
    }

    /// Counts findings answered other than by rounds.
    pub(super) fn answered_beside(&mut self, count: u64) {
        self.beside += count;
    }

    /// Ends the change if one has begun, with the number of remaining findings.
    ///
    /// # Errors
    /// When the log cannot be written, or a stopped service cannot be restored.
    pub(super) fn end(&mut self, remaining: u64) -> Result<(), ChangeError> {
        match self.open.take() {
            Some(open) => open.end(self.answered() + self.beside, remaining, self.settings.now),
            None => Ok(()),
        }
    }

    /// Leaves the change unfinished, for recovery.
    pub(super) fn leave(&mut self) {
        self.open = None;
    }

    /// The number of findings that its rounds answered; without findings, as in an undo, the number of actions.
    fn answered(&self) -> u64 {
        let done = |receipt: &'_ RoundReceipt, index| {
            receipt.outcomes.iter().any(|outcome| outcome.index == index && outcome.failed.is_none())
        };
        let all = self.receipts.iter().flat_map(|r| r.actions.iter().filter(move |action| done(r, action.index)));
        match self.purpose.verb {
            Verb::Repair => all.flat_map(|action| &action.findings).collect::<HashSet<&FindingId>>().len() as u64,
            _ => all.count() as u64,
        }
    }
}
