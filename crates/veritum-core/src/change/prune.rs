//! Limits the space of backups: a change's backups are deleted after 30 days, and earlier if all of them together take more
//! than a tenth of their file system; never those of the latest run, and never what is set aside in a home.
//!
//! The deletion is recorded first, so that an undo reports it correctly; the next change deletes what an interruption
//! leaves.

use std::collections::{BTreeMap, BTreeSet};
use std::io;

use super::context::ChangeContext;
use super::journal::Journal;
use super::overview::ChangeSummary;
use super::record::Record;
use crate::machine::Dir;
use crate::model::FileKind;
use crate::plan::KeptFolder;

/// Backups are kept for this long.
const KEPT_DAYS: i64 = 30;
/// The part of a file system that backups may take, as a divisor.
const SHARE: u64 = 10;
/// Deeper folders are left.
const MAX_DEPTH: usize = 256;

/// The changes whose backups can be deleted. Pure: `limits` has the bytes that each folder's backups may take.
fn to_release(
    changes: &[ChangeSummary],
    limits: &BTreeMap<KeptFolder, u64>,
    run: &str,
    now: jiff::Timestamp,
) -> BTreeSet<u64> {
    let oldest = now.checked_sub(jiff::SignedDuration::from_hours(24 * KEPT_DAYS)).unwrap_or(jiff::Timestamp::MIN);
    let eligible = |c: &&ChangeSummary| {
        let here = c.kept.iter().any(|(folder, _)| limits.contains_key(folder));
        c.ended.is_some() && !c.released && c.run != run && here
    };
    let mut released: BTreeSet<u64> =
        changes.iter().filter(eligible).filter(|c| c.ended < Some(oldest)).map(|c| c.change).collect();
    for (folder, limit) in limits {
        let bytes =
            |c: &ChangeSummary| c.kept.iter().filter(|(f, _)| f == folder).map(|(_, bytes)| *bytes).sum::<u64>();
        let kept = |c: &&ChangeSummary| !c.released && !released.contains(&c.change);
        let mut total: u64 = changes.iter().filter(kept).map(bytes).sum();
        let oldest_first: Vec<&ChangeSummary> = changes.iter().filter(kept).filter(eligible).collect();
        for change in oldest_first {
            if total <= *limit {
                break;
            }
            total -= bytes(change);
            released.insert(change.change);
        }
    }
    released
}

/// Deletes backups that need not be kept. The caller holds the lock; the next change tries again what fails.
pub(super) fn prune(context: &ChangeContext<'_>, run: &str, now: jiff::Timestamp) {
    let Ok(overview) = context.state.overview() else { return };
    let folders: BTreeSet<&KeptFolder> = overview.changes.iter().flat_map(|c| c.kept.iter().map(|(f, _)| f)).collect();
    let mut limits = BTreeMap::new();
    for folder in folders {
        if let Some(limit) = limit(context, folder) {
            limits.insert(folder.clone(), limit);
        }
    }
    for number in to_release(&overview.changes, &limits, run, now) {
        let _ = record(context, number, now);
    }
    let Ok(overview) = context.state.overview() else { return };
    for change in overview.changes.iter().filter(|c| c.released) {
        for (folder, _) in &change.kept {
            let _ = delete(context, folder, change.change);
        }
    }
}

fn record(context: &ChangeContext<'_>, number: u64, now: jiff::Timestamp) -> io::Result<()> {
    let dir = context.state.sub(&format!("changes/{number}"))?;
    let Ok(Some(log)) = context.state.change(number) else { return Ok(()) };
    Journal::reopen(dir, &log)?.add(&Record::Released { at: now })
}

/// The limit for the backups of a folder.
fn limit(context: &ChangeContext<'_>, folder: &KeptFolder) -> Option<u64> {
    let dir = match folder {
        KeptFolder::State => context.state.dir().clone(),
        KeptFolder::Top(top) => context.machine.dir(top).ok()?,
        KeptFolder::Aside(_) => return None,
    };
    Some(dir.disk().room(dir.fd()).ok()?.total / SHARE)
}

fn delete(context: &ChangeContext<'_>, folder: &KeptFolder, change: u64) -> io::Result<()> {
    let all = match folder {
        KeptFolder::State => context.state.sub("kept")?,
        KeptFolder::Top(top) => super::slot::private(&context.machine.dir(top)?, b".veritum-kept")?,
        KeptFolder::Aside(_) => return Ok(()),
    };
    remove(&all, change.to_string().as_bytes(), 0)
}

/// Deletes everything under a name of ours. Symlinks are not followed.
fn remove(dir: &Dir, name: &[u8], depth: usize) -> io::Result<()> {
    let disk = dir.disk();
    let Some(stat) = dir.look(name)? else { return Ok(()) };
    if stat.kind != FileKind::Folder {
        return disk.unlink(dir.fd(), name);
    }
    if depth > MAX_DEPTH || disk.mount_of_name(dir.fd(), name)? != disk.mount_of(dir.fd())? {
        return Err(io::ErrorKind::Unsupported.into());
    }
    let inner = dir.beside(disk.open_dir(dir.fd(), name)?);
    for (below, _) in disk.list(inner.fd())? {
        remove(&inner, &below, depth + 1)?;
    }
    disk.remove_dir(dir.fd(), name)
}

#[cfg(test)]
mod tests {
    use super::super::record::Verb;
    use super::*;
    use crate::model::AreaName;

    fn kept(change: u64, days_ago: i64, bytes: u64) -> ChangeSummary {
        let ended = jiff::Timestamp::UNIX_EPOCH - jiff::SignedDuration::from_hours(24 * days_ago);
        ChangeSummary {
            change,
            verb: Verb::Repair,
            area: AreaName::new("files"),
            of: None,
            savepoint: None,
            home: None,
            started: ended,
            run: change.to_string(),
            ended: Some(ended),
            released: false,
            beside: false,
            places: 1,
            revertible: 1,
            kept: vec![(KeptFolder::State, bytes)],
            packages: Vec::new(),
        }
    }

    fn released(changes: &[ChangeSummary], limit: u64) -> Vec<u64> {
        let limits = BTreeMap::from([(KeptFolder::State, limit)]);
        to_release(changes, &limits, "9", jiff::Timestamp::UNIX_EPOCH).into_iter().collect()
    }

    #[test]
    fn backups_are_given_up_after_thirty_days_but_never_those_of_the_latest_run() {
        let changes = [kept(1, 31, 5), kept(2, 29, 5), kept(9, 400, 5)];
        assert_eq!(released(&changes, 1000), [1]);
    }

    #[test]
    fn the_oldest_go_first_where_all_together_take_too_much() {
        let changes = [kept(1, 3, 40), kept(2, 2, 40), kept(3, 1, 40), kept(9, 0, 40)];
        assert_eq!(released(&changes, 160), [0u64; 0]);
        assert_eq!(released(&changes, 159), [1]);
        assert_eq!(released(&changes, 81), [1, 2]);
        assert_eq!(released(&changes, 0), [1, 2, 3], "the latest stays, whatever it takes");
    }

    #[test]
    fn what_is_unfinished_or_in_a_home_is_kept() {
        let mut changes = [kept(1, 90, 40), kept(2, 90, 40)];
        changes[0].ended = None;
        changes[1].kept = vec![(KeptFolder::Aside("2026".into()), 40)];
        assert_eq!(released(&changes, 0), [0u64; 0]);
    }
}
