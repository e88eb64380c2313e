//! [`renew`]: after a repair, whole contents take the places of damaged ones in the pools.

use std::io;
use std::os::fd::AsFd as _;

use super::SavepointError;
use super::linkable::Linkable;
use super::make::folders;
use super::manifest::{Entry, What};
use super::parts::Savepoints;
use super::pools::Pools;
use crate::change::{ChangeContext, StateFolder};
use crate::history;
use crate::model::{Digest, SystemPath};
use crate::platform::Installed;
use crate::scan::ChangedTimes;

/// A file that a repair wrote.
#[derive(Debug, Clone)]
pub struct WrittenFile {
    /// Its path, without symlinks before the last name.
    pub place: SystemPath,
    /// Its content.
    pub digest: Digest,
    /// Its size in bytes.
    pub size: u64,
}

/// Replaces contents in the pools that are damaged and that a repair has just restored; returns their number. The damaged file may
/// have been the pool's own: a second name of it.
///
/// # Errors
/// When the pools cannot be read or written; the repair is valid nevertheless.
pub fn renew(
    context: &ChangeContext<'_>,
    installed: &Installed,
    notes: Option<&StateFolder>,
    threads: &rayon::ThreadPool,
    written: &[WrittenFile],
) -> Result<u64, SavepointError> {
    let Some(savepoints) = Savepoints::find(context.state)?.filter(|_| !written.is_empty()) else { return Ok(0) };
    let numbers = savepoints.numbers()?;
    if numbers.is_empty() {
        return Ok(0);
    }
    let pools = Pools::open(*context, &folders(&savepoints, &numbers), threads);
    let is_held = |digest: &Digest| pools.all().iter().any(|pool| pool.held(digest).is_some());
    let damaged = |file: &&WrittenFile| is_held(&file.digest) && !pools.is_whole(&file.digest, file.size, &[]);
    let damaged: Vec<&WrittenFile> = written.iter().filter(damaged).collect();
    if damaged.is_empty() {
        return Ok(0);
    }
    let linkable = Linkable::read(context.machine, installed, threads);
    let mut times = ChangedTimes::new();
    let mut renewed = 0;
    for file in damaged {
        let at = SavepointError::at(&file.place);
        let removed = pools.remove(&file.digest).map_err(&at)?;
        times.extend(removed.map(|(before, after)| (before.id, (before.ctime, after.ctime))));
        add(context, &pools, &linkable, file).map_err(&at)?;
        renewed += 1;
    }
    for pool in pools.all() {
        pool.sync().map_err(SavepointError::at(&SystemPath::root()))?;
    }
    if let Some(notes) = notes {
        let _ = history::change_times(notes, &times);
    }
    Ok(renewed)
}

fn add(context: &ChangeContext<'_>, pools: &Pools<'_>, linkable: &Linkable, file: &WrittenFile) -> io::Result<()> {
    let folder = file.place.parent().unwrap_or_else(SystemPath::root);
    let dir = context.machine.dir(&folder)?;
    let (open, stat) = dir.disk().open_seen(dir.fd(), file.place.name())?;
    let attributes = super::walk::in_hex(dir.disk().xattrs(open.as_fd())?);
    let locked = super::walk::locked_of(dir.disk(), open.as_fd())?;
    let what = What::File { size: stat.size, digest: file.digest, hard_link_of: None };
    let (mode, uid, gid, mtime) = (stat.mode, stat.uid, stat.gid, stat.mtime);
    let entry = Entry { path: file.place.clone(), what, mode, uid, gid, mtime, attributes, locked };
    let by_link = linkable.has(&entry, &stat).then(|| (&dir, file.place.name()));
    let pool = pools.for_folder(stat.id.dev, &folder)?;
    pool.add(&file.digest, open.as_fd(), &stat, by_link).map(drop)
}
