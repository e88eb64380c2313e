//! Moving an object to a free name, on every kind of file system.

use std::io;

use rustix::io::Errno;

use crate::machine::{Dir, Exchange};
use crate::model::FileKind;

/// An error of the disk, or done, or the reason why this one action fails.
pub(super) type Attempt = io::Result<Result<(), String>>;

pub(super) fn is_errno(error: &io::Error, kind: Errno) -> bool {
    error.raw_os_error() == Some(kind.raw_os_error())
}

/// Whether a file system does not support this kind of rename.
pub(super) fn unknown_here(error: &io::Error) -> bool {
    is_errno(error, Errno::INVAL) || is_errno(error, Errno::NOSYS) || is_errno(error, Errno::NOTSUP)
}

/// What the file system does not support is a reason, not a failure of the disk.
pub(super) fn or_reason(result: io::Result<()>) -> Attempt {
    match result {
        Ok(()) => Ok(Ok(())),
        Err(e) if is_errno(&e, Errno::XDEV) => {
            Ok(Err("in a lower layer of an overlay file system: cannot be moved atomically".into()))
        }
        Err(e) if unknown_here(&e) => Ok(Err("its file system supports neither atomic exchange nor hard links".into())),
        Err(e) => Err(e),
    }
}

/// Creates a hard link.
///
/// # Errors
/// Some file systems report "not permitted" because they do not support hard links, or have too many
/// already.
pub(super) fn second_name(from: &Dir, old: &[u8], to: &Dir, new: &[u8]) -> io::Result<()> {
    match from.disk().hard_link(from.fd(), old, to.fd(), new) {
        Err(e) if is_errno(&e, Errno::PERM) || is_errno(&e, Errno::MLINK) => Err(Errno::NOTSUP.into()),
        other => other,
    }
}

/// How to move to a free name where the file system guarantees nothing (no flags, no hard links).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Caution {
    /// Do not move: another program may take the name at that moment.
    Promised,
    /// Move after a look: the name is one of ours, or the change is being undone and must continue.
    Looked,
}

/// Moves to a free name; idempotent after an interruption.
///
/// # Errors
/// When the name is taken, or the file system does not support it.
pub(super) fn move_to_free(from: &Dir, old: &[u8], to: &Dir, new: &[u8], caution: Caution) -> io::Result<()> {
    let disk = from.disk();
    let what = match disk.rename(from.fd(), old, to.fd(), new, Exchange::IntoNothing) {
        Err(e) if unknown_here(&e) => disk.look(from.fd(), old)?,
        other => return other,
    };
    match to.look(new)? {
        // The hard link was created before an interruption; only the first name is left to remove.
        Some(there) if there.id == what.id && what.kind != FileKind::Folder => return disk.unlink(from.fd(), old),
        Some(_) => return Err(Errno::EXIST.into()),
        None => {}
    }
    // A rename of a folder replaces at most an empty folder.
    if what.kind == FileKind::Folder {
        return disk.rename(from.fd(), old, to.fd(), new, Exchange::Replace);
    }
    match second_name(from, old, to, new) {
        Err(e) if unknown_here(&e) && caution == Caution::Looked => {
            return disk.rename(from.fd(), old, to.fd(), new, Exchange::Replace);
        }
        other => other?,
    }
    // Durable before the first name is removed: not every file system keeps the order.
    disk.sync(to.fd())?;
    disk.unlink(from.fd(), old)
}
