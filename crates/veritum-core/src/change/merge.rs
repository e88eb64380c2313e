//! Undoing a change in a home: files that the application has created since are set aside in turn, and files that the user
//! has added since stay.

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
    /// Its path.
    pub place: SystemPath,
    /// The package.
    pub package: Option<PackageId>,
    /// The reason.
    pub why: String,
}

const OWN_NOW: &str = "user data is there now";
const LOST: &str = "the files that were moved aside were moved or changed";
const NO_FOLDER: &str = "its folder no longer exists";
/// Deeper folders within what is restored are not examined.
const MAX_DEPTH: usize = 128;

/// The actions that undo one action in a home, and what cannot be undone.
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

/// Plans how to undo one action; `back` is its inverse.
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
    let slot = Kept::to_return(folder, (*change, *round, *index), kept, &back.place).find(&context)?;
    let now = slot.as_ref().map(BackupSlot::placed).transpose()?.flatten();
    // What was removed from a folder in the meantime, by an undo or by hand, does not prevent restoring the rest.
    let same_time = |now: &Placed| now.stat.kind == FileKind::Folder || kept.stat.mtime == now.stat.mtime;
    let as_kept = |now: &Placed| kept.is_still(now) && same_time(now);
    let (Some(slot), Some(now)) = (slot, now.filter(as_kept)) else {
        merge.refuse(&back.place, LOST);
        return Ok(merge);
    };
    // The same file is back already, under this name as well.
    if dir.look(back.place.name())?.is_some_and(|there| there.id == now.stat.id) {
        return Ok(merge);
    }
    bring(context, &dir, &slot, now, &back, &mut merge, 0)?;
    Ok(merge)
}

/// Restores one object from where it is set aside.
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
    // User data is in the present folder: that one stays, and its contents and the kept ones are exchanged one by one.
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

/// Sets aside what is there, if all of it is the application's; within folders that contain user data as well, the parts
/// that are not.
fn put_aside(context: ChangeContext<'_>, dir: &Dir, back: &PlannedAction, merge: &mut Merge) -> io::Result<()> {
    let name = back.place.name();
    let Some(there) = dir.look(name)? else { return Ok(()) };
    if context.protection.reason_at(&back.place, dir, name)?.is_none() {
        merge.actions.push(PlannedAction { before: Some(there), operation: Operation::SetAside, ..back.clone() });
    } else if there.kind == FileKind::Folder && context.protection.reason(&back.place).is_none() {
        inside(context, dir, back, merge)?;
    }
    // User data stays, and that is not a refusal: it was not there when the change was made.
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
