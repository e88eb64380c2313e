//! [`ChangeContext`]: the input of a change, and its locks.

use std::io;

use rustix::io::Errno;

use super::ChangeError;
use super::disk_write::Disks;
use super::moves::is_errno;
use super::record::HomeOf;
use super::state::StateFolder;
use crate::event::Observer;
use crate::machine::{Dir, Held, LockError, Machine, ProtectionPolicy, lock_exclusive};
use crate::model::SystemPath;
use crate::platform::services::Services;

/// The input of a change: the machine, its state folder, its protected places.
#[derive(Clone, Copy)]
pub struct ChangeContext<'a> {
    /// The machine.
    pub machine: &'a Machine,
    /// Its state folder.
    pub state: &'a StateFolder,
    /// Places that must not be changed.
    pub protection: &'a dyn ProtectionPolicy,
    /// Receives events.
    pub observer: &'a dyn Observer,
    /// Whether locking attributes may be cleared during a round.
    pub clear_immutable: bool,
    /// The service manager.
    pub services: &'a dyn Services,
    /// The disks that are written to other than through their file systems.
    pub disks: &'a dyn Disks,
    /// The home, if the change is about one: the machine is then seen from it, with its owner's rights.
    pub home: Option<&'a HomeOf>,
}

/// Veritum's own lock and the package tools', held together.
#[derive(Debug, Default)]
#[must_use = "the locks are released when this is dropped"]
pub struct Locks {
    /// Each lock with its path; Veritum's own has no path, and a missing lock file has no handle.
    held: Vec<(Option<SystemPath>, Option<Held>)>,
}

impl Locks {
    /// Releases the package tools' locks, and keeps Veritum's own.
    pub fn keep_own(&mut self) {
        self.held.retain(|(path, _)| path.is_none());
    }

    /// Whether this run holds a lock of the package tools.
    #[must_use]
    pub fn holds(&self, path: &SystemPath) -> bool {
        self.held.iter().any(|(held, _)| held.as_ref() == Some(path))
    }

    /// The package tools' locks that this run holds.
    #[must_use]
    pub fn paths(&self) -> Vec<SystemPath> {
        self.held.iter().filter_map(|(path, _)| path.clone()).collect()
    }

    /// Releases one lock of the package tools, for a tool that takes it itself.
    pub fn let_go(&mut self, path: &SystemPath) {
        self.held.retain(|(held, _)| held.as_ref() != Some(path));
    }
}

impl ChangeContext<'_> {
    /// Takes Veritum's own lock, then the package tools'.
    ///
    /// # Errors
    /// When another program is changing the machine.
    pub fn lock(&self, package_locks: &[SystemPath]) -> Result<Locks, ChangeError> {
        let mut locks = self.lock_own()?;
        self.lock_too(&mut locks, package_locks)?;
        Ok(locks)
    }

    /// Takes Veritum's own lock only.
    ///
    /// # Errors
    /// When another Veritum is changing the machine.
    pub fn lock_own(&self) -> Result<Locks, ChangeError> {
        let own = lock_exclusive(self.state.dir(), b"lock").map_err(|e| match e {
            LockError::Busy => ChangeError::Busy,
            LockError::Io(source) => ChangeError::State(self.state.io()(source)),
        })?;
        Ok(Locks { held: vec![(None, Some(own))] })
    }

    /// Takes further locks of the package tools, except those held already.
    ///
    /// # Errors
    /// When a package tool is running.
    pub fn lock_too(&self, locks: &mut Locks, package_locks: &[SystemPath]) -> Result<(), ChangeError> {
        for path in package_locks {
            if !locks.holds(path) {
                locks.held.push((Some(path.clone()), self.take(path)?));
            }
        }
        Ok(())
    }

    /// Takes one lock of the package tools; `None` if its file does not exist or is read-only.
    fn take(&self, path: &SystemPath) -> Result<Option<Held>, ChangeError> {
        // A missing lock file is not created: no package tool has ever run here.
        let Ok(real) = self.machine.resolve(path) else { return Ok(None) };
        let Some(dir) = real.parent().and_then(|p| self.machine.dir(&p).ok()) else { return Ok(None) };
        match lock_exclusive(&dir, real.name()) {
            Ok(lock) => Ok(Some(lock)),
            Err(LockError::Busy) => Err(ChangeError::PackageTool { path: path.clone() }),
            Err(LockError::Io(e)) if e.kind() == io::ErrorKind::PermissionDenied => {
                Err(ChangeError::NoRights { path: path.clone() })
            }
            // On a read-only file system no package tool can be running.
            Err(LockError::Io(e)) if e.kind() == io::ErrorKind::ReadOnlyFilesystem => Ok(None),
            Err(LockError::Io(source)) => Err(ChangeError::TakenBack { place: path.clone(), source }),
        }
    }
}

/// Opens a folder of the machine; `None` when it no longer exists, or another object is in its place.
pub(super) fn folder(context: &ChangeContext<'_>, place: &SystemPath) -> io::Result<Option<Dir>> {
    match context.machine.dir(place) {
        Err(e) if is_errno(&e, Errno::NOENT) || is_errno(&e, Errno::NOTDIR) || is_errno(&e, Errno::LOOP) => Ok(None),
        other => other.map(Some),
    }
}
