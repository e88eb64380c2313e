//! [`Session`]: one change from its beginning to its end, whatever happens between.

use std::collections::HashSet;

use crate::change::{ChangeContext, ChangeError, OpenChange, RoundReceipt, UndoRound, Verb};
use crate::model::{ActionKind, AreaName, FindingId};
use crate::plan::PlannedAction;
use crate::platform::services::{PausedUnit, Services};
use crate::store::Contents;
use crate::system::Settings;

/// A change that begins when something is first done, and is ended unless it is left unfinished for recovery.
pub(super) struct Session<'a> {
    context: ChangeContext<'a>,
    settings: &'a Settings,
    verb: Verb,
    area: AreaName,
    of: Option<u64>,
    open: Option<OpenChange<'a>>,
    /// How much was answered next to the rounds.
    beside: u64,
    is_paused: bool,
    /// The change's number, once it has begun.
    pub(super) number: Option<u64>,
    /// What came of its rounds.
    pub(super) receipts: Vec<RoundReceipt>,
}

impl<'a> Session<'a> {
    /// Nothing is begun yet. The caller holds the locks.
    pub(super) fn new(context: ChangeContext<'a>, settings: &'a Settings, verb: Verb, area: AreaName) -> Self {
        Self {
            context,
            settings,
            verb,
            area,
            of: None,
            open: None,
            beside: 0,
            is_paused: false,
            number: None,
            receipts: Vec::new(),
        }
    }

    /// The same for one that takes another change back.
    pub(super) fn undoing(self, change: u64) -> Self {
        Self { of: Some(change), ..self }
    }

    /// The open change, begun when it is not yet.
    ///
    /// # Errors
    /// When the state folder cannot be written, or an earlier change is unfinished.
    pub(super) fn change(&mut self) -> Result<&mut OpenChange<'a>, ChangeError> {
        if self.open.is_none() {
            let Self { verb, of, settings, .. } = *self;
            let open = OpenChange::begin(self.context, verb, self.area.clone(), of, &settings.run, settings.now)?;
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

    /// Carries out one round of an undo.
    ///
    /// # Errors
    /// As [`attempt`](Self::attempt).
    pub(super) fn undo_round(&mut self, round: UndoRound) -> Result<&RoundReceipt, ChangeError> {
        self.attempt(0, |change| change.undo_round(round))
    }

    /// Carries out a round; when it fails, the change is ended with what earlier rounds did, unless it is unfinished.
    ///
    /// # Errors
    /// When it was undone, or could not be finished.
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

    /// Has one of the system's own tools do something, said before; answers why it was not done.
    ///
    /// # Errors
    /// When the log cannot be written.
    pub(super) fn delegate(
        &mut self,
        action: ActionKind,
        (subject, before): (&str, &str),
        work: &mut dyn FnMut(&dyn Services) -> Result<(), String>,
    ) -> Result<Option<String>, ChangeError> {
        self.change()?.delegate(action.word(), subject, before, work)
    }

    /// Counts what was answered next to the rounds.
    pub(super) fn answered_beside(&mut self, count: u64) {
        self.beside += count;
    }

    /// Ends the change when one has begun, with how many findings remain.
    ///
    /// # Errors
    /// When the log cannot be written, or a service that was held not be put back.
    pub(super) fn end(&mut self, remaining: u64) -> Result<(), ChangeError> {
        match self.open.take() {
            Some(open) => open.end(self.answered() + self.beside, remaining, self.settings.now),
            None => Ok(()),
        }
    }

    /// Leaves the change as it is, for recovery.
    pub(super) fn leave(&mut self) {
        self.open = None;
    }

    /// How much its rounds answered: findings; where there are none, as in an undo, what was done.
    fn answered(&self) -> u64 {
        let done = |receipt: &'_ RoundReceipt, index| {
            receipt.outcomes.iter().any(|outcome| outcome.index == index && outcome.failed.is_none())
        };
        let all = self.receipts.iter().flat_map(|r| r.actions.iter().filter(move |action| done(r, action.index)));
        match self.verb {
            Verb::Repair => all.flat_map(|action| &action.findings).collect::<HashSet<&FindingId>>().len() as u64,
            _ => all.count() as u64,
        }
    }
}
