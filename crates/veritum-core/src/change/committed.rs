//! [`Committed`]: a round after its commit record, for carrying it out, undoing it and recovery.

use std::cell::RefCell;
use std::collections::{BTreeMap, HashMap};
use std::io;

use super::context::{ChangeContext, folder};
use super::folders::Folders;
use super::journal::RoundLog;
use super::keep::Kept;
use super::record::{ClearedFlags, ParentTime};
use crate::model::{FileKind, Identity, Instant, Stat, SystemPath};
use crate::plan::{KeptFolder, Operation, PlannedAction};

/// A round after its commit record.
pub(super) struct Committed<'a> {
    pub(super) change: u64,
    pub(super) round: u32,
    pub(super) actions: &'a [PlannedAction],
    pub(super) parents: &'a [ParentTime],
    pub(super) cleared: &'a [ClearedFlags],
    pub(super) staged: HashMap<u32, Identity>,
    pub(super) given_up: HashMap<u32, String>,
    /// Whether this is the run that staged it, or recovery.
    pub(super) fresh: bool,
    /// Change times that our own renames and links caused: they do not indicate another program's change.
    pub(super) ours: RefCell<HashMap<Identity, Instant>>,
    /// The folders in which it works.
    pub(super) folders: &'a Folders,
}

impl<'a> Committed<'a> {
    pub(super) fn from_log(change: u64, log: &RoundLog<'a>, folders: &'a Folders) -> Self {
        Self {
            change,
            round: log.round,
            actions: log.actions,
            parents: log.parents,
            cleared: log.cleared,
            staged: log.staged.unwrap_or_default().iter().copied().collect(),
            given_up: log.given_up.iter().cloned().collect(),
            fresh: false,
            ours: RefCell::default(),
            folders,
        }
    }

    /// Finds the folders of a home that contain temporary names of this round.
    pub(super) fn find_moved(&self, context: &ChangeContext<'_>) -> io::Result<()> {
        if context.home.is_none() {
            return Ok(());
        }
        let mut missing: BTreeMap<SystemPath, Vec<Vec<u8>>> = BTreeMap::new();
        for action in self.actions {
            let Some(parent) = action.place.parent() else { continue };
            let temp = staged_name(self.change, self.round, action.index);
            let names = [[temp.as_slice(), super::site::ASIDE].concat(), temp];
            if self.is_missing(context, action, &parent, &names)? {
                missing.entry(parent).or_default().extend(names);
            }
        }
        missing.iter().try_for_each(|(parent, names)| self.folders.find(context, parent, names))
    }

    /// Whether what an action moved is at none of the places where this round leaves it.
    fn is_missing(
        &self,
        context: &ChangeContext<'_>,
        action: &PlannedAction,
        parent: &SystemPath,
        names: &[Vec<u8>],
    ) -> io::Result<bool> {
        let here = folder(context, parent)?;
        let look = |name: &[u8]| here.as_ref().and_then(|dir| dir.look(name).ok().flatten());
        let is_there = |id: Option<Identity>| id.is_some() && has(look(action.place.entry()), id);
        if names.iter().any(|name| look(name).is_some()) || self.is_kept(context, action)? {
            return Ok(false);
        }
        let staged = self.staged.get(&action.index).copied();
        Ok(match &action.operation {
            Operation::SetAside => action.before.is_some() && !is_there(action.before.map(|b| b.id)),
            Operation::Return { change, round, index, folder, kept, .. } => {
                let from = Kept::to_return(folder, (*change, *round, *index), kept, &action.place).find(context)?;
                let is_kept = from.map(|slot| slot.look()).transpose()?.flatten().is_some();
                !is_kept && !is_there(staged) && !is_there(Some(kept.stat.id))
            }
            _ => false,
        })
    }

    pub(super) fn keeps(&self, action: &PlannedAction) -> KeptFolder {
        let parent = action.place.parent().unwrap_or_else(SystemPath::root);
        super::record::keeps_of(self.parents, &parent)
    }

    /// Where an action's displaced object is kept.
    pub(super) fn kept<'b>(&self, action: &'b PlannedAction, folder: &'b KeptFolder) -> Kept<'b> {
        let is_folder = action.before.is_some_and(|before| before.kind == FileKind::Folder);
        Kept { folder, change: self.change, round: self.round, index: action.index, place: &action.place, is_folder }
    }

    /// Whether an action's displaced object is kept already.
    pub(super) fn is_kept(&self, context: &ChangeContext<'_>, action: &PlannedAction) -> io::Result<bool> {
        match self.kept(action, &self.keeps(action)).find(context)? {
            Some(slot) => Ok(slot.look()?.is_some()),
            None => Ok(false),
        }
    }

    /// Whether what is there is what was observed.
    pub(super) fn is_as_observed(&self, before: &Stat, now: &Stat) -> bool {
        let same = (before.id, before.kind, before.size, before.mtime) == (now.id, now.kind, now.size, now.mtime);
        // Of a folder only the identity counts: its size and time change with its contents.
        let same = same || before.kind == FileKind::Folder && (before.id, before.kind) == (now.id, now.kind);
        let by_us = self.ours.borrow().get(&now.id) == Some(&now.ctime);
        // An interruption may have reverted our rename and left its change time: in recovery identity, size and modification
        // time decide, and what is displaced is kept in any case.
        let unknown = !self.fresh || before.kind == FileKind::Folder;
        same && (before.ctime == now.ctime || by_us || unknown)
    }

    pub(super) fn remember(&self, stat: &Stat) {
        self.ours.borrow_mut().insert(stat.id, stat.ctime);
    }
}

pub(super) fn has(stat: Option<Stat>, id: Option<Identity>) -> bool {
    stat.is_some_and(|s| Some(s.id) == id)
}

/// The staged name of an action. No suffix that any daemon processes.
pub(super) fn staged_name(change: u64, round: u32, index: u32) -> Vec<u8> {
    format!(".veritum-{change}-{round}-{index}").into_bytes()
}
