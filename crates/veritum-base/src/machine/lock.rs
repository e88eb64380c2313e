//! Locks: Veritum's own and dpkg's.
//!
//! Open-file-description locks (fcntl(2), `F_OFD_SETLK`): they conflict with the POSIX locks of dpkg and apt, and unlike
//! those they are not released when another handle of the same file is closed.

use std::io;
use std::os::fd::{AsFd, OwnedFd};

use nix::fcntl::{FcntlArg, fcntl};
use nix::libc;

use super::Dir;

/// The number of attempts, and the time between them.
const TRIES: u32 = 15;
const PAUSE: std::time::Duration = std::time::Duration::from_millis(20);

/// A lock that is held until this is dropped.
#[derive(Debug)]
#[must_use = "the lock is released when this is dropped"]
pub struct Held {
    _file: OwnedFd,
}

/// Why a lock was not taken.
#[derive(Debug, thiserror::Error)]
pub enum LockError {
    /// Another process holds it.
    #[error("locked by another process")]
    Busy,
    /// It cannot be opened or locked.
    #[error("cannot be locked")]
    Io(#[source] io::Error),
}

fn open(dir: &Dir, name: &[u8]) -> io::Result<OwnedFd> {
    match dir.disk().open_append(dir.fd(), name) {
        Err(e) if e.kind() == io::ErrorKind::NotFound => dir.disk().create(dir.fd(), name),
        other => other,
    }
}

fn lock(file: OwnedFd, kind: libc::c_int) -> Result<Held, LockError> {
    let whole = libc::flock {
        l_type: kind as libc::c_short,
        l_whence: libc::SEEK_SET as libc::c_short,
        l_start: 0,
        l_len: 0,
        l_pid: 0,
    };
    // A child process that was just started holds every open file until it executes its own program: try again briefly.
    for _ in 0..TRIES {
        match fcntl(file.as_fd(), FcntlArg::F_OFD_SETLK(&whole)) {
            Ok(_) => return Ok(Held { _file: file }),
            Err(nix::errno::Errno::EAGAIN | nix::errno::Errno::EACCES) => std::thread::sleep(PAUSE),
            Err(e) => return Err(LockError::Io(e.into())),
        }
    }
    Err(LockError::Busy)
}

/// Takes a write lock on a file of that folder; creates the file if it does not exist.
///
/// # Errors
/// [`LockError::Busy`] when another process holds it.
pub fn lock_exclusive(dir: &Dir, name: &[u8]) -> Result<Held, LockError> {
    lock(open(dir, name).map_err(LockError::Io)?, libc::F_WRLCK)
}

/// Takes a read lock on a file of that folder; never creates it.
///
/// # Errors
/// [`LockError::Busy`] when another process holds a write lock.
pub fn lock_shared(dir: &Dir, name: &[u8]) -> Result<Held, LockError> {
    let file = dir.disk().open_file(dir.fd(), name).map_err(LockError::Io)?;
    lock(file, libc::F_RDLCK)
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use super::*;
    use crate::machine::{LiveDisk, Machine};
    use crate::model::SystemPath;

    #[test]
    fn a_second_holder_is_refused_and_the_lock_survives_closing_another_handle() {
        let place = tempfile::tempdir().unwrap();
        let machine = Machine::open(place.path(), Arc::new(LiveDisk)).unwrap();
        let dir = machine.dir(&SystemPath::root()).unwrap();
        let first = lock_exclusive(&dir, b"lock").unwrap();
        drop(std::fs::read(place.path().join("lock")).unwrap());
        assert!(matches!(lock_exclusive(&dir, b"lock"), Err(LockError::Busy)));
        assert!(matches!(lock_shared(&dir, b"lock"), Err(LockError::Busy)));
        drop(first);
        assert!(lock_shared(&dir, b"lock").is_ok());
    }
}
