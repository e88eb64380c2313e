//! Undoing what was done in a home: what the application has made there since is set aside in turn, and what its user
//! has put among it since stays.

use std::collections::BTreeSet;
use std::io;

use super::context::ChangeContext;
use super::keep::Kept;
use super::slot::{BackupSlot, placed};
use crate::machine::Dir;
use crate::model::{FileKind, PackageId, SystemPath};
use crate::plan::{Operation, Placed, PlannedAction};

/// What is not undone, and why.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Refusal {
    /// The place.
    pub place: SystemPath,
    /// The package.
    pub package: Option<PackageId>,
    /// The reason.
    pub why: String,
}

const OWN_NOW: &str = "user data is there now";
const LOST: &str = "the files that were moved aside were moved or changed";
const NO_FOLDER: &str = "its folder no longer exists";
/// Folders within what is restored are looked into so deep.
const MAX_DEPTH: usize = 128;

/// What is to be done to take one action in a home back, and what cannot be.
#[derive(Default)]
pub(super) struct Merge {
    pub(super) actions: Vec<PlannedAction>,
    pub(super) refused: Vec<Refusal>,
}

impl Merge {
    fn refuse(&mut self, place: &SystemPath, why: &str) {
        self.refused.push(Refusal { place: place.clone(), package: None, why: why.to_owned() });
    }
}

/// Plans how to take one action back; `back` is its inverse.
pub(super) fn merge(context: ChangeContext<'_>, back: PlannedAction) -> io::Result<Merge> {
    let mut merge = Merge::default();
    let parent = back.place.parent().unwrap_or_else(SystemPath::root);
    let Ok(dir) = context.machine.dir(&parent) else {
        merge.refuse(&back.place, NO_FOLDER);
        return Ok(merge);
    };
    let Operation::Return { change, round, index, kept, folder } = &back.operation else {
        put_aside(context, &dir, &back, &mut merge)?;
        return Ok(merge);
    };
    let slot = Kept { folder, change: *change, round: *round, index: *index, place: &back.place }.find(&context)?;
    let now = slot.as_ref().map(BackupSlot::placed).transpose()?.flatten();
    // What was taken out of a folder meanwhile, by an undo or by hand, is no reason to leave the rest there.
    let same_time = |now: &Placed| now.stat.kind == FileKind::Folder || kept.stat.mtime == now.stat.mtime;
    let as_kept = |now: &Placed| kept.is_still(now) && same_time(now);
    let (Some(slot), Some(now)) = (slot, now.filter(as_kept)) else {
        merge.refuse(&back.place, LOST);
        return Ok(merge);
    };
    // The very thing is back already, under this name as well.
    if dir.look(back.place.name())?.is_some_and(|there| there.id == now.stat.id) {
        return Ok(merge);
    }
    bring(context, &dir, &slot, now, &back, &mut merge, 0)?;
    Ok(merge)
}

/// Brings one thing back from where it is set aside.
fn bring(
    context: ChangeContext<'_>,
    dir: &Dir,
    slot: &BackupSlot,
    kept: Placed,
    back: &PlannedAction,
    merge: &mut Merge,
    depth: usize,
) -> io::Result<()> {
    let Operation::Return { change, round, index, folder, .. } = &back.operation else { return Ok(()) };
    let name = back.place.name();
    let there = dir.look(name)?;
    let guarded = match &there {
        Some(_) => context.protection.reason_at(&back.place, dir, name)?.is_some(),
        None => context.protection.reason(&back.place).is_some(),
    };
    if !guarded {
        let operation =
            Operation::Return { change: *change, round: *round, index: *index, kept, folder: folder.clone() };
        merge.actions.push(PlannedAction { before: there, operation, ..back.clone() });
        return Ok(());
    }
    let both = kept.stat.kind == FileKind::Folder && there.is_some_and(|there| there.kind == FileKind::Folder);
    if !both || depth > MAX_DEPTH {
        merge.refuse(&back.place, OWN_NOW);
        return Ok(());
    }
    // The user's own is in the folder that is there now: that one stays, and what is in the two changes places.
    let (old, new) = (slot.inner()?, dir.beside(dir.disk().open_dir(dir.fd(), name)?));
    let names = |dir: &Dir| -> io::Result<BTreeSet<Vec<u8>>> {
        Ok(dir.disk().list(dir.fd())?.into_iter().map(|(name, _)| name).collect())
    };
    let (olds, news) = (names(&old)?, names(&new)?);
    for name in olds.union(&news) {
        let Ok(place) = back.place.child(name) else { continue };
        let inner = PlannedAction { place: place.clone(), listed: place, before: None, ..back.clone() };
        match olds.contains(name).then(|| placed(&old, name)).transpose()?.flatten() {
            Some(kept) => {
                bring(context, &new, &BackupSlot::of_a_user(old.clone(), name), kept, &inner, merge, depth + 1)?
            }
            None => put_aside(context, &new, &PlannedAction { operation: Operation::SetAside, ..inner }, merge)?,
        }
    }
    Ok(())
}

/// Sets aside what is there now, when all of it is the application's; within folders that hold the user's own as well,
/// what is not.
fn put_aside(context: ChangeContext<'_>, dir: &Dir, back: &PlannedAction, merge: &mut Merge) -> io::Result<()> {
    let name = back.place.name();
    let Some(there) = dir.look(name)? else { return Ok(()) };
    if context.protection.reason_at(&back.place, dir, name)?.is_none() {
        merge.actions.push(PlannedAction { before: Some(there), operation: Operation::SetAside, ..back.clone() });
    } else if there.kind == FileKind::Folder && context.protection.reason(&back.place).is_none() {
        inside(context, dir, back, merge)?;
    }
    // What is the user's own stays, and that is no refusal: it was not there when the change was made.
    Ok(())
}

fn inside(context: ChangeContext<'_>, dir: &Dir, back: &PlannedAction, merge: &mut Merge) -> io::Result<()> {
    let Ok(fd) = dir.disk().open_dir(dir.fd(), back.place.name()) else { return Ok(()) };
    let inner = dir.beside(fd);
    let mut names: Vec<Vec<u8>> = inner.disk().list(inner.fd())?.into_iter().map(|(name, _)| name).collect();
    names.sort();
    for name in names {
        let Ok(place) = back.place.child(&name) else { continue };
        put_aside(context, &inner, &PlannedAction { place: place.clone(), listed: place, ..back.clone() }, merge)?;
    }
    Ok(())
}
