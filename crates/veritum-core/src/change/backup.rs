//! An action's displaced object: to the backups, and back beside its place.

use std::collections::{BTreeSet, HashSet};
use std::io;

use super::aside;
use super::committed::{Committed, has};
use super::context::ChangeContext;
use super::keep::Kept;
use super::site::SwapSite;
use super::slot::{BackupSlot, keep};
use super::stage::discard;
use crate::model::{FileKind, Stat};
use crate::plan::{KeptFolder, Operation, Placed, PlannedAction};

/// Moves what an action displaced to the backups; returns it, unless the action displaces nothing.
pub(super) fn keep_one(
    context: &ChangeContext<'_>,
    committed: &Committed<'_>,
    site: &SwapSite,
    action: &PlannedAction,
) -> io::Result<Option<Placed>> {
    if matches!(action.operation, Operation::SetMeta { .. } | Operation::Free) {
        return Ok(None);
    }
    let Some(before) = action.before else { return Ok(None) };
    let to = committed.kept(action, &committed.keeps(action)).make(context)?;
    // It only has its second name if another program's object came between the two steps.
    for name in [&site.temp, &site.aside] {
        if !has(site.dir.look(name)?, Some(before.id)) {
            continue;
        }
        match to.look()? {
            // A complete copy exists already (where a rename is not possible): only the name is left to remove.
            Some(copy) if is_it(&before, &copy) => site.dir.disk().unlink(site.dir.fd(), name)?,
            Some(_) => return Err(io::ErrorKind::AlreadyExists.into()),
            None => keep(&site.dir, name, &to)?,
        }
    }
    // The backups of the system are made durable together, before the done record.
    if context.home.is_some() {
        to.sync()?;
    }
    to.placed()
}

/// Removes what was staged for a failed action; an earlier backup returns to the backups, and a displaced object is kept even
/// if another program has put something in its place since.
pub(super) fn take_away(
    context: &ChangeContext<'_>,
    committed: &Committed<'_>,
    site: &SwapSite,
    action: &PlannedAction,
) -> io::Result<Option<Placed>> {
    let before = action.before.map(|b| b.id);
    let displaced = |name: &[u8]| site.dir.look(name).map(|now| now.is_some() && has(now, before));
    if displaced(&site.temp)? {
        return keep_one(context, committed, site, action);
    }
    let is_kept = displaced(&site.aside)? || committed.is_kept(context, action)?;
    let kept = if is_kept { keep_one(context, committed, site, action)? } else { None };
    let Some(temp) = site.dir.look(&site.temp)? else { return Ok(kept) };
    match &action.operation {
        Operation::Return { change, round, index, kept: earlier, folder, .. } if is_it(&earlier.stat, &temp) => {
            let back = Kept::to_return(folder, (*change, *round, *index), earlier, &action.place).make(context)?;
            if temp.kind != FileKind::Folder && back.look()?.is_some() {
                // It never left: this is its second name, or a copy.
                site.dir.disk().unlink(site.dir.fd(), &site.temp)?;
            } else {
                keep(&site.dir, &site.temp, &back)?;
                back.sync()?;
            }
        }
        // After the exchange this name has the displaced object: it must never be removed.
        Operation::Put(_) if committed.staged.get(&action.index).is_none_or(|id| *id == temp.id) => {
            discard(&site.dir, &site.temp)?;
        }
        _ => {}
    }
    Ok(kept)
}

/// Whether this is the displaced object, or its copy where it could not be moved.
pub(super) fn is_it(before: &Stat, now: &Stat) -> bool {
    let shape = |s: &Stat| (s.kind, s.size, s.mtime);
    before.id == now.id || before.kind != FileKind::Folder && shape(before) == shape(now)
}

/// Moves this round's backups back next to their places.
pub(super) fn restore_kept(
    context: &ChangeContext<'_>,
    committed: &Committed<'_>,
    site: &SwapSite,
    action: &PlannedAction,
    temp: Option<Stat>,
) -> io::Result<()> {
    let Some(before) = action.before else { return Ok(()) };
    let Some(from) = committed.kept(action, &committed.keeps(action)).find(context)? else { return Ok(()) };
    from.discard_part()?;
    match (from.look()?, temp) {
        (None, _) => return Ok(()),
        // It was being kept by a second name or a copy, and never left: only that name is superfluous.
        (Some(double), Some(temp)) if temp.id == before.id && double.kind != FileKind::Folder => {
            from.unlink()?;
        }
        (Some(_), Some(_)) => return Ok(()),
        (Some(_), None) => keep(&from.dir, &from.name, &BackupSlot::ours(&site.dir, &site.temp))?,
    }
    from.sync()
}

/// Removes empty folders where a user's data was set aside or restored from; `undone` selects the
/// actions that set nothing aside in the end.
pub(super) fn tidy(
    context: &ChangeContext<'_>,
    committed: &Committed<'_>,
    undone: impl Fn(&PlannedAction) -> bool,
) -> io::Result<()> {
    if context.home.is_none() {
        return Ok(());
    }
    let mut seen = HashSet::new();
    for action in committed.actions {
        let from = if let Operation::Return { folder, .. } = &action.operation { Some(folder.clone()) } else { None };
        for folder in from.into_iter().chain(undone(action).then(|| committed.keeps(action))) {
            if let KeptFolder::Aside(name) = folder
                && seen.insert((name.clone(), action.place.parent()))
            {
                aside::tidy(context, &name, &action.place)?;
            }
        }
    }
    Ok(())
}

/// Makes the backups durable.
pub(super) fn sync_kept(context: &ChangeContext<'_>, committed: &Committed<'_>) -> io::Result<()> {
    let folders: BTreeSet<&KeptFolder> = committed.parents.iter().map(|parent| &parent.keeps).collect();
    folders.into_iter().try_for_each(|folder| super::keep::sync(context, folder, committed.change))
}
