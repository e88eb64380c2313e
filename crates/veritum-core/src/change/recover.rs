//! After an interruption: completes what was committed, undoes what was not. Idempotent.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::beside::LoggedResult;
use super::committed::Committed;
use super::context::ChangeContext;
use super::disk_write;
use super::firmware_write;
use super::folders::Folders;
use super::journal::{ChangeLog, Journal, RoundLog};
use super::record::Record;
use super::swap::{backward, forward};
use super::{ChangeError, JournalError, overview};
use crate::event::Event;
use crate::model::{ActionKind, word_enum};
use crate::plan::ActionOutcome;
use crate::platform::services;

word_enum! {
    /// What recovery did with a change.
    pub enum Recovered {
        /// Its last round was committed, and was completed.
        Finished = "finished",
        /// Its last round was undone, if it had one: it was not committed, or could not be completed whole.
        TakenBack = "taken-back",
        /// All its rounds were complete; its last record was missing, or the result of a tool.
        Closed = "closed",
    }
}

/// The result for one change.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct RecoveredChange {
    /// Its number.
    pub change: u64,
    /// The result.
    pub result: Recovered,
    /// Why a committed round that takes effect as a whole was undone nevertheless, or what is not known of the last action.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
}

/// Completes or undoes the last round of a change. The caller holds the locks; `let_go` releases those of the package tools
/// before services that take them are started again.
///
/// # Errors
/// When the change log is damaged, or the disk fails again.
pub fn recover(
    context: ChangeContext<'_>,
    number: u64,
    now: jiff::Timestamp,
    let_go: &mut dyn FnMut(),
) -> Result<Option<RecoveredChange>, ChangeError> {
    let at = |source| ChangeError::Journal { change: number, source };
    let Some(mut log) = context.state.change(number).map_err(at)? else { return Ok(None) };
    if log.end().is_some() {
        return Ok(None);
    }
    super::devices::adopt(&context, number, &mut log);
    let io = |source: std::io::Error| at(JournalError::Io(source));
    let dir = context.state.sub(&format!("changes/{number}")).map_err(io)?;
    let mut journal = Journal::reopen(dir, &log).map_err(io)?;
    let mut add = |record: &Record| -> Result<(), ChangeError> {
        journal.add(record).map_err(io)?;
        context.observer.on_event(Event::Recorded(record.kind()));
        Ok(())
    };
    let round = match log.open_write() {
        Some(write) => disk_write::recover(&context, number, write).map(|done| {
            let why = done.err();
            let result = if why.is_none() { Recovered::Finished } else { Recovered::TakenBack };
            (result, Some(Record::DiskDone { failed: why.clone() }), why)
        }),
        None => {
            match log.open_firmware().and_then(|change| firmware_write::finish(&context.disks.firmware(), change)) {
                Some(done) => {
                    let why = done.err();
                    let result = if why.is_none() { Recovered::Finished } else { Recovered::TakenBack };
                    Ok((result, Some(Record::DelegatedDone { failed: why.clone() }), why))
                }
                None => last_round(context, number, &log, &mut add),
            }
        }
    };
    // Whatever the result of the round: services are started again.
    let paused = log.paused();
    let_go();
    let resumed = services::resume(context.services, &paused).map_err(|(unit, source)| ChangeError::ServiceHeld {
        change: number,
        unit,
        source,
    });
    let (result, record, why) = round?;
    let mut answered = answered_by(&log);
    if let Some(record) = record {
        if let Record::Done { outcomes, .. } = &record {
            answered += outcomes.iter().filter(|o| o.failed.is_none()).count() as u64;
        }
        add(&record)?;
        log.open_write().into_iter().for_each(|write| disk_write::discard_new(context.state, write));
    }
    resumed?;
    if !paused.is_empty() {
        add(&Record::Resumed)?;
    }
    add(&Record::End { ended: now, answered, remaining: 0 })?;
    overview::refresh(context.state);
    Ok(Some(RecoveredChange { change: number, result, why }))
}

fn answered_by(log: &ChangeLog) -> u64 {
    let done = log.records.iter().map(|r| match r {
        Record::Done { outcomes, .. } => outcomes.iter().filter(|o| o.failed.is_none()).count(),
        _ => 0,
    });
    done.sum::<usize>() as u64
}

fn last_round(
    context: ChangeContext<'_>,
    number: u64,
    log: &ChangeLog,
    add: &mut dyn FnMut(&Record) -> Result<(), ChangeError>,
) -> Result<(Recovered, Option<Record>, Option<String>), ChangeError> {
    let rounds = log.rounds().map_err(|source| ChangeError::Journal { change: number, source })?;
    let Some(last) = rounds.last().filter(|r| r.is_open()) else {
        let is_beside = |r: &Record| matches!(r, Record::Delegated { .. } | Record::Disk { .. });
        let is_untouched = rounds.is_empty() && !log.records.iter().any(is_beside);
        let result = if is_untouched { Recovered::TakenBack } else { Recovered::Closed };
        return Ok((result, None, not_known(log)));
    };
    let folders = Folders::default();
    let committed = Committed::from_log(number, last, &folders);
    committed.find_moved(&context).map_err(|source| ChangeError::Unfinished { change: number, source })?;
    let unfinished = |source| ChangeError::Unfinished { change: number, source };
    let mut not_possible = None;
    if last.staged.is_some() && !last.back {
        let outcomes = forward(&context, &committed).map_err(unfinished)?;
        not_possible = failure(last, &outcomes).filter(|_| last.whole);
        if not_possible.is_none() {
            return Ok((Recovered::Finished, Some(Record::Done { round: last.round, outcomes }), None));
        }
        add(&Record::Back { round: last.round })?;
    }
    let kept = backward(&context, &committed).map_err(unfinished)?;
    let why = not_possible.clone().unwrap_or_else(|| "interrupted".into());
    Ok((Recovered::TakenBack, Some(Record::TakenBack { round: last.round, why, kept }), not_possible))
}

/// What is not known of the last action, if that was a tool's, or one on the firmware of another computer: whether it was done.
fn not_known(log: &ChangeLog) -> Option<String> {
    let last = log.beside().pop().filter(|last| last.result == LoggedResult::Unfinished)?;
    let kind = ActionKind::from_word(&last.what).filter(|kind| *kind != ActionKind::Pause)?;
    Some(format!("it is not known whether this was done: {}: {}", last.subject, kind.label()))
}

/// The first action that failed, and why.
fn failure(round: &RoundLog<'_>, outcomes: &[ActionOutcome]) -> Option<String> {
    let (index, why) = outcomes.iter().find_map(|outcome| Some((outcome.index, outcome.failed.as_ref()?)))?;
    let action = round.actions.iter().find(|action| action.index == index)?;
    Some(format!("{}: {why}", action.place))
}
