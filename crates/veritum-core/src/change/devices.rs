//! [`adopt`]: the device numbers in the log of an interrupted change become those of now. After a restart, or from rescue media, a disk
//! may have another number; inodes keep theirs.

use std::collections::{HashMap, HashSet};

use super::committed::staged_name;
use super::context::{ChangeContext, folder};
use super::journal::{ChangeLog, RoundLog};
use super::record::Record;
use crate::model::{Identity, Stat, SystemPath};
use crate::plan::{Operation, PlannedAction};

/// Replaces device numbers in the last round of a log, as far as objects that the log names are there under another one.
pub(super) fn adopt(context: &ChangeContext<'_>, change: u64, log: &mut ChangeLog) {
    let found =
        log.rounds().ok().and_then(|rounds| rounds.last().map(|last| (last.round, devices(context, change, last))));
    let Some((number, devices)) = found.filter(|(_, devices)| !devices.is_empty()) else { return };
    let now = |id: &mut Identity| id.dev = devices.get(&id.dev).copied().unwrap_or(id.dev);
    for record in &mut log.records {
        match record {
            Record::Plan { round, actions, .. } if *round == number => {
                for action in actions {
                    if let Some(before) = &mut action.before {
                        now(&mut before.id);
                    }
                    if let Operation::Return { kept, .. } = &mut action.operation {
                        now(&mut kept.stat.id);
                    }
                }
            }
            Record::Commit { round, staged, .. } if *round == number => {
                staged.iter_mut().for_each(|(_, id)| now(id));
            }
            _ => {}
        }
    }
}

/// The present numbers of devices that have another one: where one of the round's objects is at one of its names.
fn devices(context: &ChangeContext<'_>, change: u64, round: &RoundLog<'_>) -> HashMap<u64, u64> {
    let staged: HashMap<u32, Identity> = round.staged.unwrap_or_default().iter().copied().collect();
    let mut found: HashMap<u64, HashSet<u64>> = HashMap::new();
    for action in round.actions {
        let ids = [staged.get(&action.index).copied(), action.before.map(|before| before.id)];
        for now in objects(context, change, round.round, action) {
            for id in ids.into_iter().flatten().filter(|id| id.ino == now.id.ino) {
                found.entry(id.dev).or_default().insert(now.id.dev);
            }
        }
    }
    // What is still true stays, and so does what is not clear.
    let other = |(then, now): (u64, HashSet<u64>)| match now.into_iter().collect::<Vec<_>>()[..] {
        [only] if only != then => Some((then, only)),
        _ => None,
    };
    found.into_iter().filter_map(other).collect()
}

/// What is at an action's place, and at the temporary names beside it.
fn objects(context: &ChangeContext<'_>, change: u64, round: u32, action: &PlannedAction) -> Vec<Stat> {
    let parent = action.place.parent().unwrap_or_else(SystemPath::root);
    let Ok(Some(dir)) = folder(context, &parent) else { return Vec::new() };
    let temp = staged_name(change, round, action.index);
    let aside = [temp.as_slice(), super::site::ASIDE].concat();
    [action.place.entry(), &temp, &aside].into_iter().filter_map(|name| dir.look(name).ok().flatten()).collect()
}
