//! [`make`]: makes a savepoint.
//!
//! The order: contents into the pools → parts → all durable → head → the shared record. An interruption before the head leaves
//! contents that the next savepoint uses or removes, and nothing that counts as a savepoint.

use std::collections::{BTreeSet, HashSet};

use super::SavepointError;
use super::keep::{Keeper, Kept, with_time};
use super::list::parts_of;
use super::manifest::{Entry, InstalledPackage};
use super::parts::{FORMAT, Head, Part, Savepoints};
use super::pools::Pools;
use super::prune::{Pruned, prune};
use super::read::{SystemRead, read_walked, walk_system};
use crate::change::{ChangeContext, StateFolder};
use crate::history;
use crate::model::{Stat, SystemPath};
use crate::plan::KeptFolder;
use crate::platform::Installed;
use crate::scan::{ChangedTimes, KnownContent, Remembered, RememberedParts};

/// Files that changed so shortly before are read again by the next savepoint, in seconds.
const STEP: i64 = 2;
/// Further files that could not be kept are counted only.
const MAX_MISSING: usize = 1000;

/// Why a savepoint is made.
#[derive(Debug, Clone, Default)]
pub struct Reason {
    /// The reason, for people.
    pub text: String,
    /// Whether it is made without being asked for.
    pub automatic: bool,
    /// The package tool's process before whose changes it is made, with its start time.
    pub before: Option<String>,
}

/// A savepoint that was made.
#[derive(Debug)]
pub struct Made {
    /// Its head.
    pub head: Head,
    /// The number of contents that the pools lacked.
    pub added: u64,
    /// The number of bytes that were copied for it, before compression.
    pub copied: u64,
    /// The number of files that were read.
    pub read: u64,
    /// Savepoints that were removed to make room.
    pub removed: Vec<u64>,
}

/// What a savepoint is made of.
pub struct Making<'a> {
    /// The machine and its state folder.
    pub context: &'a ChangeContext<'a>,
    /// The installed packages.
    pub installed: &'a Installed,
    /// The folder with the shared record.
    pub notes: Option<&'a StateFolder>,
    /// The pool of threads.
    pub threads: &'a rayon::ThreadPool,
    /// When packages were changed; only asked for where savepoints must be removed, as it takes time.
    pub changes: &'a dyn Fn() -> Vec<jiff::Timestamp>,
    /// The time now.
    pub now: jiff::Timestamp,
}

/// Makes a savepoint, and removes old ones where there is not enough space. The caller holds Veritum's own lock.
///
/// # Errors
/// When there is no free space, the disk failed, or the observer stopped the run: then there is no new savepoint.
pub fn make(making: &Making<'_>, reason: Reason) -> Result<Made, SavepointError> {
    let Making { context, installed, notes, threads, changes, now } = *making;
    let known = || notes.map(history::known_contents).unwrap_or_default();
    let savepoints = Savepoints::make(context.state)?;
    let interrupted = savepoints.begin()?;
    let numbers = savepoints.numbers()?;
    let last = numbers.last().and_then(|number| savepoints.head(*number).ok());
    // Both take about as long.
    let (walked, (known_at_first, folders)) = threads.join(
        || walk_system(context.machine, &[], threads, context.observer),
        || (known(), folders(&savepoints, &numbers)),
    );
    let mut read = read_walked(context.machine, walked?, &known_at_first, threads, context.observer)?;
    let pools = Pools::open_after(*context, &folders, Some(&read), threads);
    for pool in pools.all() {
        pool.make_private().map_err(SavepointError::at(&SystemPath::root()))?;
    }
    let Pruned { removed, times, has_leftovers } = prune(context, &savepoints, &pools, (changes, now), interrupted)?;
    let known = if times.is_empty() {
        known_at_first
    } else {
        if let Some(notes) = notes {
            let _ = history::change_times(notes, &times);
        }
        read.stats.iter_mut().for_each(|stat| *stat = with_time(stat, &times));
        known()
    };
    let keeper = Keeper { context, pools: &pools, known: &known, installed, threads };
    let kept = keeper.keep(&read)?;
    drop_failed(&mut read, &kept);
    let entries = read.entries.len() as u64;
    let parts = savepoints.add_entries(&read.entries, threads)?;
    let packages = savepoints.add_packages(&InstalledPackage::all(installed))?;
    if kept.is_unsettled {
        for pool in pools.all() {
            pool.sync().map_err(SavepointError::at(&SystemPath::root()))?;
        }
    }
    // What an earlier savepoint has is durable.
    let durable: HashSet<&Part> = last.iter().flat_map(parts_of).collect();
    if !parts.iter().chain([&packages]).all(|part| durable.contains(part)) {
        savepoints.sync()?;
    }
    // Those that cannot be opened now stay in the list, for earlier savepoints.
    let mut folders = folders;
    folders.extend(pools.all().iter().map(|pool| pool.folder.clone()));
    let head = Head {
        format: FORMAT.into(),
        veritum: env!("CARGO_PKG_VERSION").into(),
        savepoint: numbers.last().map_or(1, |last| last + 1),
        made: now,
        reason: reason.text,
        automatic: reason.automatic,
        before: reason.before,
        system: context.machine.identified().system.clone(),
        entries,
        parts,
        packages,
        pools: folders.into_iter().collect(),
        missing: read.missing.iter().take(MAX_MISSING).cloned().collect(),
    };
    savepoints.add_head(&head)?;
    if !has_leftovers {
        savepoints.end();
    }
    if let Some(notes) = notes.filter(|_| read.read > 0 || kept.added > 0 || !kept.times.is_empty()) {
        let _ = history::keep_contents(notes, &record(&read, &pools, &kept.times, now, &known), &kept.times);
    }
    let made = Made { head, added: kept.added, copied: kept.copied, read: read.read, removed };
    // Dropping a hundred thousand small allocations happens beside the rest of the work.
    threads.spawn(move || drop((read, known)));
    Ok(made)
}

/// Removes old savepoints where there is not enough space; returns their numbers. The caller holds Veritum's own lock.
///
/// # Errors
/// When a savepoint cannot be removed.
pub fn make_room(making: &Making<'_>) -> Result<Vec<u64>, SavepointError> {
    let Some(savepoints) = Savepoints::find(making.context.state)? else { return Ok(Vec::new()) };
    let interrupted = savepoints.begin()?;
    let numbers = savepoints.numbers()?;
    let pools = Pools::open(*making.context, &folders(&savepoints, &numbers), making.threads);
    let when = (making.changes, making.now);
    let Pruned { removed, times, has_leftovers } = prune(making.context, &savepoints, &pools, when, interrupted)?;
    if !has_leftovers {
        savepoints.end();
    }
    if let Some(notes) = making.notes {
        let _ = history::change_times(notes, &times);
    }
    Ok(removed)
}

/// The folders of contents that earlier savepoints name. Each names those of all before it, too.
pub(super) fn folders(savepoints: &Savepoints, numbers: &[u64]) -> BTreeSet<KeptFolder> {
    let last = numbers.iter().rev().find_map(|number| savepoints.head(*number).ok());
    last.into_iter().flat_map(|head| head.pools).chain([KeptFolder::State]).collect()
}

/// Files whose content could not be kept are not part of the savepoint.
fn drop_failed(read: &mut SystemRead, kept: &Kept) {
    if kept.failed.is_empty() {
        return;
    }
    let why = |entry: &Entry| entry.content().and_then(|(digest, _)| kept.failed.get(&digest).cloned());
    let reasons: Vec<Option<String>> = read.entries.iter().map(why).collect();
    read.leave_out(&reasons);
}

/// The contents of all files of the system and of the pools that are settled.
fn record(
    read: &SystemRead,
    pools: &Pools<'_>,
    times: &ChangedTimes,
    began: jiff::Timestamp,
    known: &[Remembered],
) -> RememberedParts {
    let settled = began.as_second().saturating_sub(STEP);
    let is_known = |stat: &Stat| known.iter().any(|known| known.content(stat).is_some());
    let of_system = read.entries.iter().zip(&read.stats).filter_map(|(entry, stat)| {
        let (digest, _) = entry.content()?;
        let now = with_time(stat, times);
        let plain = entry.attributes.is_empty() && entry.locked == 0;
        // What is known already was recorded after its last change, however recent that is.
        let is_settled = stat.ctime.s < settled || now.ctime != stat.ctime || is_known(stat);
        is_settled.then_some((now, KnownContent { digest, plain }))
    });
    let mut all: Vec<_> = of_system.collect();
    for pool in pools.all() {
        // A hard link's inode is one of the system's, or was: what is known of it stays known.
        let own = pool
            .index()
            .apart()
            .into_iter()
            .filter(|(digest, held)| held.stat.names == 1 || super::pools::is_known(held, digest, known));
        all.extend(own.map(|(digest, held)| (held.stat, KnownContent { digest, plain: false })));
    }
    // A system's file comes first: of it more is known.
    all.sort_by_key(|(stat, known)| (stat.id, !known.plain));
    all.dedup_by_key(|(stat, _)| stat.id);
    RememberedParts::of_contents(all.iter().map(|(stat, known)| (stat, *known)))
}
