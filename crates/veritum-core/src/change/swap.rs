//! Exchanging: each staged object with the existing one, in one step of the kernel.
//!
//! Every step first examines the present state, so that it can be repeated after an interruption: the same functions serve
//! an undisturbed run and recovery.

use std::cell::RefCell;
use std::collections::{HashMap, HashSet};
use std::io;
use std::os::fd::AsFd;

use super::attributes;
use super::backup::{is_it, keep_one, restore_kept, sync_kept, take_away, tidy};
use super::committed::{Committed, has};
use super::context::ChangeContext;
use super::moves::{Attempt, Caution};
use super::record::ParentTime;
use super::site::{CHANGED, GONE, MOVED, SwapSite, TAKEN_AWAY};
use super::slot::placed;
use crate::event::{Event, Phase};
use crate::model::{FileKind, Instant, Stat, SystemPath};
use crate::plan::{ActionOutcome, Operation, PlannedAction};

/// Completes a committed round. Idempotent.
pub(super) fn forward(context: &ChangeContext<'_>, committed: &Committed<'_>) -> io::Result<Vec<ActionOutcome>> {
    attributes::clear(context, committed.cleared)?;
    context.observer.on_event(Event::Begin {
        phase: Phase::Exchanging,
        items: committed.actions.len() as u64,
        bytes: 0,
    });
    let mut failures: HashMap<u32, String> = committed.given_up.clone();
    for action in committed.actions {
        if failures.contains_key(&action.index) {
            continue;
        }
        let Some(site) = SwapSite::open(context, committed, action)? else {
            failures.insert(action.index, GONE.into());
            continue;
        };
        if let Err(why) = exchange(context, committed, &site, action)? {
            failures.insert(action.index, why);
        }
        context.observer.on_event(Event::Advance { items: 1, bytes: 0 });
    }
    sync_parents(context, committed)?;
    context.observer.on_event(Event::End);
    context.observer.on_event(Event::Begin { phase: Phase::Keeping, items: committed.actions.len() as u64, bytes: 0 });
    let mut outcomes = Vec::new();
    for action in committed.actions {
        let failed = failures.remove(&action.index);
        let Some(site) = SwapSite::open(context, committed, action)? else {
            let failed = Some(failed.unwrap_or_else(|| GONE.into()));
            outcomes.push(ActionOutcome { index: action.index, failed, placed: None, kept: None });
            continue;
        };
        if failed.is_some() {
            let kept = take_away(context, committed, &site, action)?;
            outcomes.push(ActionOutcome { index: action.index, failed, placed: None, kept });
            continue;
        }
        let parent = action.place.parent().unwrap_or_else(SystemPath::root);
        if committed.folders.was_moved(context, &parent)? {
            back_one(context, committed, &site, action)?;
            outcomes.push(ActionOutcome { index: action.index, failed: Some(MOVED.into()), placed: None, kept: None });
            continue;
        }
        let kept = keep_one(context, committed, &site, action)?;
        if action.operation == Operation::SetAside && kept.is_none() {
            outcomes.push(ActionOutcome {
                index: action.index,
                failed: Some(TAKEN_AWAY.into()),
                placed: None,
                kept: None,
            });
            continue;
        }
        // What is where something was set aside was put there by another program.
        let placed = if action.operation == Operation::SetAside { None } else { placed(&site.dir, &site.name)? };
        outcomes.push(ActionOutcome { index: action.index, failed: None, placed, kept });
        context.observer.on_event(Event::Acted(&action.place));
    }
    sync_kept(context, committed)?;
    // What was just set aside stays there.
    let failed: HashSet<u32> = outcomes.iter().filter(|o| o.failed.is_some()).map(|o| o.index).collect();
    tidy(context, committed, |action| failed.contains(&action.index))?;
    set_times(context, committed, |parent| parent.after.unwrap_or(parent.mtime))?;
    attributes::put_back(context, committed.cleared)?;
    sync_parents(context, committed)?;
    context.observer.on_event(Event::End);
    Ok(outcomes)
}

fn exchange(
    context: &ChangeContext<'_>,
    committed: &Committed<'_>,
    site: &SwapSite,
    action: &PlannedAction,
) -> io::Result<Result<(), String>> {
    let (temp, there) = site.looks()?;
    match &action.operation {
        Operation::SetMeta { mode, uid, gid } => return set_meta(committed, site, action, there, (*mode, *uid, *gid)),
        Operation::SetAside => return set_aside(context, committed, site, action, (temp, there)),
        Operation::Free => return free(committed, site, action, there),
        Operation::Put(_) | Operation::Return { .. } => {}
    }
    let staged = committed.staged.get(&action.index).copied();
    if !has(temp, staged) {
        return Ok(if has(there, staged) { Ok(()) } else { Err("something else is there now".into()) });
    }
    let moved = match (action.before, there) {
        (None, None) => site.free_move(&site.temp, &site.name, Caution::Promised)?,
        (Some(before), Some(now)) if committed.is_as_observed(&before, &now) => {
            match context.protection.reason_at(&action.place, &site.dir, &site.name)? {
                Some(why) => Err(why),
                None => site.swap(&before, Caution::Promised)?,
            }
        }
        _ => Err(CHANGED.into()),
    };
    if moved.is_err() {
        return Ok(moved);
    }
    if let Some(displaced) = site.dir.look(&site.temp)? {
        // Checked again under the staged name, which only we use: something protected may have been moved into it.
        if let Some(why) = context.protection.reason_at(&action.place, &site.dir, &site.temp)? {
            or_error(swap_back(site)?)?;
            return Ok(Err(why));
        }
        committed.remember(&displaced);
    }
    let now = site.dir.disk().look(site.dir.fd(), &site.name)?;
    committed.remember(&now);
    Ok(Ok(()))
}

/// Moves an existing object to its backup name: checked immediately before, and again afterwards.
fn set_aside(
    context: &ChangeContext<'_>,
    committed: &Committed<'_>,
    site: &SwapSite,
    action: &PlannedAction,
    (temp, there): (Option<Stat>, Option<Stat>),
) -> io::Result<Result<(), String>> {
    let before = action.before.map(|b| b.id);
    match (temp, there) {
        (Some(_), _) if has(temp, before) => {}
        (None, Some(now)) if action.before.is_some_and(|b| committed.is_as_observed(&b, &now)) => {
            if let Some(why) = context.protection.reason_at(&action.place, &site.dir, &site.name)? {
                return Ok(Err(why));
            }
            if let Err(why) = site.free_move(&site.name, &site.temp, Caution::Looked)? {
                return Ok(Err(why));
            }
            // A hard link of the same file may come next: the move changed its change time.
            committed.remember(&site.dir.disk().look(site.dir.fd(), &site.temp)?);
        }
        // It was kept already; what another program has put in its place since stays.
        (None, _) if committed.is_kept(context, action)? => return Ok(Ok(())),
        _ => return Ok(Err(CHANGED.into())),
    }
    if let Some(why) = context.protection.reason_at(&action.place, &site.dir, &site.temp)? {
        or_error(site.free_move(&site.temp, &site.name, Caution::Looked)?)?;
        return Ok(Err(why));
    }
    Ok(Ok(()))
}

/// Deletes a file that can be downloaded again, if it is still the observed one.
fn free(
    committed: &Committed<'_>,
    site: &SwapSite,
    action: &PlannedAction,
    there: Option<Stat>,
) -> io::Result<Result<(), String>> {
    match (action.before, there) {
        (Some(before), Some(now)) if before.kind == FileKind::File && committed.is_as_observed(&before, &now) => {
            site.dir.disk().unlink(site.dir.fd(), &site.name)?;
            Ok(Ok(()))
        }
        // An interruption came after it was deleted.
        (Some(_), None) if !committed.fresh => Ok(Ok(())),
        _ => Ok(Err(CHANGED.into())),
    }
}

fn set_meta(
    committed: &Committed<'_>,
    site: &SwapSite,
    action: &PlannedAction,
    there: Option<Stat>,
    (mode, uid, gid): (u32, u32, u32),
) -> io::Result<Result<(), String>> {
    let (Some(before), Some(now)) = (action.before, there) else { return Ok(Err(CHANGED.into())) };
    let untouched = committed.is_as_observed(&before, &now);
    if before.id != now.id || before.kind != now.kind || committed.fresh && !untouched {
        return Ok(Err(CHANGED.into()));
    }
    let disk = site.dir.disk();
    let open = match now.kind {
        FileKind::Folder => disk.open_dir(site.dir.fd(), &site.name)?,
        _ => disk.open_file(site.dir.fd(), &site.name)?,
    };
    if disk.look_open(open.as_fd())?.id != before.id {
        return Ok(Err(CHANGED.into()));
    }
    if (now.uid, now.gid) != (uid, gid) {
        disk.set_owner(site.dir.fd(), &site.name, uid, gid)?;
    }
    disk.set_mode(open.as_fd(), mode)?;
    disk.sync(open.as_fd())?;
    committed.remember(&disk.look(site.dir.fd(), &site.name)?);
    Ok(Ok(()))
}

/// Undoes a round, committed or not. Idempotent. Returns the actions whose displaced object stays in the backups, as another
/// program has put something in its place since.
pub(super) fn backward(context: &ChangeContext<'_>, committed: &Committed<'_>) -> io::Result<Vec<u32>> {
    attributes::clear(context, committed.cleared)?;
    let (mut first_error, mut kept) = (None, Vec::new());
    for action in committed.actions.iter().rev() {
        let back = |site: Option<SwapSite>| site.map_or(Ok(()), |site| back_one(context, committed, &site, action));
        match SwapSite::open(context, committed, action)
            .and_then(back)
            .and_then(|()| committed.is_kept(context, action))
        {
            Ok(is_kept) => kept.extend(is_kept.then_some(action.index)),
            Err(e) => drop(first_error.get_or_insert(e)),
        }
    }
    if let Some(e) = first_error {
        return Err(e);
    }
    tidy(context, committed, |_| true)?;
    set_times(context, committed, |parent| parent.mtime)?;
    attributes::put_back(context, committed.cleared)?;
    sync_parents(context, committed)?;
    Ok(kept)
}

fn back_one(
    context: &ChangeContext<'_>,
    committed: &Committed<'_>,
    site: &SwapSite,
    action: &PlannedAction,
) -> io::Result<()> {
    let (temp, there) = site.looks()?;
    let staged = committed.staged.get(&action.index).copied();
    match &action.operation {
        Operation::SetMeta { .. } => {
            if let (Some(was), Some(now)) = (action.before, there)
                && was.id == now.id
                && (was.mode, was.uid, was.gid) != (now.mode, now.uid, now.gid)
            {
                let relaxed = Committed {
                    fresh: false,
                    ours: RefCell::default(),
                    given_up: HashMap::new(),
                    staged: HashMap::new(),
                    ..*committed
                };
                let _ = set_meta(&relaxed, site, action, there, (was.mode, was.uid, was.gid))?;
            }
        }
        // Deleted files can be downloaded again; before the commit nothing was deleted.
        Operation::Free => {}
        Operation::SetAside => {
            if there.is_some_and(|there| action.before.is_none_or(|was| was.id != there.id)) {
                keep_one(context, committed, site, action)?;
                return Ok(());
            }
            restore_kept(context, committed, site, action, temp)?;
            let (temp, there) = site.looks()?;
            if there.is_none() && temp.zip(action.before).is_some_and(|(temp, was)| is_it(&was, &temp)) {
                or_error(site.free_move(&site.temp, &site.name, Caution::Looked)?)?;
            }
        }
        Operation::Put(_) | Operation::Return { .. } => {
            if staged.is_some() && has(there, staged) {
                restore_kept(context, committed, site, action, temp)?;
                let displaced = site.dir.look(&site.temp)?;
                match action.before {
                    Some(was) if displaced.is_some_and(|d| is_it(&was, &d)) => or_error(swap_back(site)?)?,
                    None => or_error(site.free_move(&site.name, &site.temp, Caution::Looked)?)?,
                    Some(_) => return Err(io::Error::other("the displaced file was not found")),
                }
            }
            take_away(context, committed, site, action)?;
        }
    }
    Ok(())
}

/// Exchanges back: whatever is there now is expected.
fn swap_back(site: &SwapSite) -> Attempt {
    match site.dir.look(&site.name)? {
        Some(now) => site.swap(&now, Caution::Looked),
        None => site.free_move(&site.temp, &site.name, Caution::Looked),
    }
}

/// While undoing, no action can be skipped: what fails is an error, and the change stays unfinished.
fn or_error(tried: Result<(), String>) -> io::Result<()> {
    tried.map_err(io::Error::other)
}

/// Sets the folders' times.
fn set_times(
    context: &ChangeContext<'_>,
    committed: &Committed<'_>,
    time: impl Fn(&ParentTime) -> Instant,
) -> io::Result<()> {
    for parent in committed.parents {
        let Some(dir) = committed.folders.get(context, &parent.place)? else { continue };
        let time = time(parent);
        if dir.look_self()?.mtime != time {
            dir.disk().set_mtime(dir.fd(), b"", time)?;
        }
    }
    Ok(())
}

/// More folders than this are made durable together.
const FEW_FOLDERS: usize = 16;

fn sync_parents(context: &ChangeContext<'_>, committed: &Committed<'_>) -> io::Result<()> {
    let mut devices = HashSet::new();
    for parent in committed.parents {
        if context.home.is_none() && committed.parents.len() > FEW_FOLDERS {
            let Some(dir) = committed.folders.get(context, &parent.place)? else { continue };
            if devices.insert(dir.look_self()?.id.dev) {
                dir.disk().sync_all(dir.fd())?;
            }
            continue;
        }
        let Some(dir) = committed.folders.get(context, &parent.place)? else { continue };
        dir.disk().sync(dir.fd())?;
    }
    Ok(())
}
