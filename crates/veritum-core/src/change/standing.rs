//! Which actions of past changes are in effect, and which change must be undone to undo them. Pure.
//!
//! A change is undone by another change, which can be undone in turn, and either may be possible only in part. So
//! each action is tracked separately: an undo records, with each of its actions, the action that it reverts, and, with
//! each round, the actions that it reverts completely.

use std::collections::{BTreeMap, HashMap, HashSet};

use super::Record;
use super::beside::ToolRecord;
use super::journal::ChangeLog;
use crate::plan::{ActionKey, Operation, ToolChange};

/// The state of an action of a change.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Standing {
    /// In effect; undoing that change reverts it: its own, or the one that last redid it.
    Stands(u64),
    /// Reverted; undoing that change redoes it.
    Reverted(u64),
}

/// The actions of some changes, with the state of each.
#[derive(Debug, Default)]
pub struct Standings {
    of: BTreeMap<u64, BTreeMap<ActionKey, Standing>>,
    originals: HashSet<u64>,
}

impl Standings {
    /// Tracks every action of these changes; changes that an undo among them refers to must be among them, too.
    #[must_use]
    pub fn new(logs: &[ChangeLog]) -> Self {
        let mut standings = Self::default();
        let mut undos: HashMap<u64, Vec<Undo>> = HashMap::new();
        // A change is only undone by later ones.
        let mut newest_first: Vec<&ChangeLog> = logs.iter().collect();
        newest_first.sort_by_key(|log| std::cmp::Reverse(log.begin.change));
        for log in newest_first {
            let number = log.begin.change;
            let later = undos.remove(&number).unwrap_or_default();
            let own: BTreeMap<ActionKey, Standing> =
                effective(log).into_iter().map(|key| (key, standings.follow(number, key, &later))).collect();
            match log.begin.of {
                Some(of) => undos.entry(of).or_default().push(Undo::new(log)),
                None => drop(standings.originals.insert(number)),
            }
            standings.of.insert(number, own);
        }
        standings
    }

    fn follow(&self, number: u64, key: ActionKey, later: &[Undo]) -> Standing {
        let Some((undo, by)) = later.iter().find_map(|undo| Some((undo, undo.reverts.get(&key)?))) else {
            return Standing::Stands(number);
        };
        let mut holder = undo.change;
        for action in by {
            match self.of.get(&undo.change).and_then(|own| own.get(action)) {
                Some(Standing::Reverted(by)) => return Standing::Stands(*by),
                Some(Standing::Stands(by)) => holder = *by,
                None => {}
            }
        }
        Standing::Reverted(holder)
    }

    /// The state of an action; `None` when it did nothing.
    #[must_use]
    pub fn get(&self, change: u64, key: ActionKey) -> Option<Standing> {
        self.of.get(&change)?.get(&key).copied()
    }

    /// The state of each action of a change.
    pub fn actions(&self, change: u64) -> impl Iterator<Item = (ActionKey, Standing)> + '_ {
        self.of.get(&change).into_iter().flatten().map(|(key, standing)| (*key, *standing))
    }

    /// Whether nothing that a change did is still in effect, although it did something.
    #[must_use]
    pub fn is_reverted(&self, change: u64) -> bool {
        let mut all = self.actions(change).peekable();
        all.peek().is_some() && all.all(|(_, standing)| matches!(standing, Standing::Reverted(_)))
    }

    /// Whether some of what a change did is reverted.
    #[must_use]
    pub fn is_touched(&self, change: u64) -> bool {
        self.actions(change).any(|(_, standing)| matches!(standing, Standing::Reverted(_)))
    }

    /// The changes whose undoing reverts actions of a change in this list that is not an undo itself.
    #[must_use]
    pub fn in_effect(&self) -> HashSet<u64> {
        let originals = self.of.iter().filter(|(change, _)| self.originals.contains(change));
        let standing = originals.flat_map(|(_, actions)| actions.values()).filter_map(|standing| match standing {
            Standing::Stands(by) => Some(*by),
            Standing::Reverted(_) => None,
        });
        standing.collect()
    }
}

/// What an undo reverts: each action that it settles, and by which of its own.
struct Undo {
    change: u64,
    reverts: HashMap<ActionKey, Vec<ActionKey>>,
}

impl Undo {
    fn new(log: &ChangeLog) -> Self {
        let mut reverts: HashMap<ActionKey, Vec<ActionKey>> = HashMap::new();
        let rounds = log.rounds().unwrap_or_default();
        let done: HashSet<u32> = rounds.iter().filter(|r| r.outcomes.is_some()).map(|r| r.round).collect();
        for record in &log.records {
            if let Record::Plan { round, settles, .. } = record
                && done.contains(round)
            {
                reverts.extend(settles.iter().map(|key| (*key, Vec::new())));
            }
        }
        for round in &rounds {
            let failed: HashSet<u32> =
                round.outcomes.unwrap_or_default().iter().filter(|o| o.failed.is_some()).map(|o| o.index).collect();
            for action in round.actions {
                let Some(key) = action.reverts else { continue };
                if failed.contains(&action.index) {
                    reverts.remove(&key);
                } else if let Some(by) = reverts.get_mut(&key) {
                    by.push(ActionKey { round: round.round, index: action.index });
                }
            }
        }
        for tool in log.tools().into_iter().filter(|tool| tool.done == Some(true)) {
            if let Some(key) = tool.reverts {
                reverts.entry(key).or_default().push(tool.key);
            }
        }
        Self { change: log.begin.change, reverts }
    }
}

/// The actions of a change that took effect and can be reverted. Of a tool whose result is not known, or that failed after it may have
/// changed something, that is found out when it is undone.
pub(super) fn effective(log: &ChangeLog) -> Vec<ActionKey> {
    let may_have = |tool: &ToolRecord| tool.done != Some(false) || matches!(tool.changes, ToolChange::Correction(_));
    let tools = log.tools().into_iter().filter(may_have);
    let mut keys: Vec<ActionKey> = tools.map(|tool| tool.key).collect();
    for round in log.rounds().unwrap_or_default() {
        let outcomes: HashMap<u32, _> = round.outcomes.unwrap_or_default().iter().map(|o| (o.index, o)).collect();
        let took_effect = round.actions.iter().filter(|action| {
            let outcome = outcomes.get(&action.index).filter(|o| o.failed.is_none());
            outcome.is_some_and(|outcome| match action.operation {
                Operation::Free => false,
                Operation::SetMeta { .. } => true,
                _ => outcome.kept.is_some() || outcome.placed.is_some(),
            })
        });
        keys.extend(took_effect.map(|action| ActionKey { round: round.round, index: action.index }));
    }
    keys
}
