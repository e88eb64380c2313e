//! Attributes that lock a file (chattr(1): immutable, append-only): cleared during a round if the administrator allows it,
//! and set again afterwards, also by recovery.

use std::io;
use std::os::fd::{AsFd, OwnedFd};

use super::context::{ChangeContext, folder};
use super::record::ClearedFlags;

use crate::model::{FileKind, Stat, SystemPath};

/// Inode flags of chattr(1).
const IMMUTABLE: u32 = 0x10;
const APPEND_ONLY: u32 = 0x20;
const LOCKING: u32 = IMMUTABLE | APPEND_ONLY;

/// The word for the flags that lock a file; `None` without such flags.
pub(super) fn word_of(flags: u32) -> Option<&'static str> {
    if flags & IMMUTABLE != 0 {
        Some("marked immutable")
    } else if flags & APPEND_ONLY != 0 {
        Some("marked append-only")
    } else {
        None
    }
}

/// Clears the locking flags of these places; returns their status afterwards, since clearing changes the change time.
pub(super) fn clear(context: &ChangeContext<'_>, places: &[ClearedFlags]) -> io::Result<Vec<Stat>> {
    each(context, places, |disk_flags, _| disk_flags & !LOCKING)
}

/// Sets the flags again on whatever is at these places now.
pub(super) fn put_back(context: &ChangeContext<'_>, places: &[ClearedFlags]) -> io::Result<Vec<Stat>> {
    each(context, places, |disk_flags, cleared| disk_flags | cleared.flags & LOCKING)
}

fn each(
    context: &ChangeContext<'_>,
    places: &[ClearedFlags],
    flags: impl Fn(u32, &ClearedFlags) -> u32,
) -> io::Result<Vec<Stat>> {
    let mut stats = Vec::new();
    for cleared in places {
        // A change log is foreign bytes: it cannot make us touch users' places.
        if context.protection.reason(&cleared.place).is_some() {
            continue;
        }
        let Some(open) = open(context, &cleared.place)? else { continue };
        let disk = context.machine.disk();
        let Some(now) = disk.flags(open.as_fd())? else { continue };
        let wanted = flags(now, cleared);
        if wanted != now {
            disk.set_flags(open.as_fd(), wanted)?;
        }
        stats.push(disk.look_open(open.as_fd())?);
    }
    Ok(stats)
}

/// Opens a place to examine its flags; `None` when there is nothing that has flags.
fn open(context: &ChangeContext<'_>, place: &SystemPath) -> io::Result<Option<OwnedFd>> {
    let parent = place.parent().unwrap_or_else(SystemPath::root);
    let Some(dir) = folder(context, &parent)? else { return Ok(None) };
    match dir.look(place.entry())?.map(|s| s.kind) {
        Some(FileKind::File) => dir.disk().open_file(dir.fd(), place.entry()).map(Some),
        Some(FileKind::Folder) => dir.disk().open_dir(dir.fd(), place.entry()).map(Some),
        _ => Ok(None),
    }
}
