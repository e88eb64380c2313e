//! [`Destination`]: the folder on another disk that files are copied to, and what its file system can keep.

use std::io;
use std::os::fd::{AsFd as _, BorrowedFd};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use super::stored_names::NameRules;
use crate::machine::{Dir, Disk, Exchange};
use crate::model::{Instant, SystemPath};

/// The folder of files that are not complete yet.
pub(super) const PARTS: &[u8] = b".veritum-parts";

/// Parts are in so many folders, so that threads do not wait for each other.
pub(super) const PART_FOLDERS: usize = 8;

/// A file that is not complete yet.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Part {
    /// The number of its folder.
    pub(super) folder: usize,
    /// Its name there.
    pub(super) name: Vec<u8>,
}

/// Why nothing more can be copied to the destination.
#[derive(Debug, thiserror::Error)]
#[error("cannot write to {}", place.display())]
pub struct DestinationError {
    /// What cannot be written.
    pub place: PathBuf,
    /// The cause.
    pub source: io::Error,
}

/// What the destination's file system can keep of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Abilities {
    /// How it treats names.
    pub names: NameRules,
    /// Whether it has symlinks.
    pub symlinks: bool,
    /// Whether a file can have several names.
    pub hard_links: bool,
    /// Whether it keeps permissions.
    pub modes: bool,
    /// Whether this process can give files to their owners there.
    pub owners: bool,
    /// Whether it keeps attributes that users set.
    pub attributes: bool,
}

/// The destination.
#[derive(Debug)]
pub struct Destination {
    disk: Arc<dyn Disk>,
    /// Its path on the host, for people.
    path: PathBuf,
    top: Dir,
    parts: Dir,
    part_folders: Vec<Dir>,
    /// The folder that was opened last: files of one folder follow each other.
    last: Mutex<Option<(SystemPath, Dir)>>,
    /// What its file system can keep.
    pub can: Abilities,
}

impl Destination {
    /// Opens or creates the folder of this name in a folder of the host, and finds out what its file system can keep.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn open(disk: Arc<dyn Disk>, above: &Path, name: &str) -> Result<Self, DestinationError> {
        let path = above.join(name);
        let fail = |source: io::Error| DestinationError { place: path.clone(), source };
        let open = || -> io::Result<Self> {
            let root = Dir::handed_over(disk.clone(), disk.open_root(above)?);
            let top = folder_in(&root, name.as_bytes())?;
            let parts = folder_in(&top, PARTS)?;
            let folder = |number: usize| folder_in(&parts, number.to_string().as_bytes());
            let part_folders = (0..PART_FOLDERS).map(folder).collect::<io::Result<Vec<Dir>>>()?;
            part_folders.iter().for_each(clear);
            let can = abilities(&part_folders[0])?;
            let last = Mutex::new(None);
            Ok(Self { disk: disk.clone(), path: path.clone(), top, parts, part_folders, last, can })
        };
        open().map_err(fail)
    }

    /// The folder itself.
    #[must_use]
    pub fn top(&self) -> &Dir {
        &self.top
    }

    /// A folder of files that are not complete yet.
    pub(super) fn parts(&self, number: usize) -> &Dir {
        &self.part_folders[number]
    }

    /// Removes a file that is not complete.
    pub(super) fn discard_part(&self, part: &Part) {
        // What cannot be removed now is removed at the end.
        let _ = self.disk.unlink(self.parts(part.folder).fd(), &part.name);
    }

    /// The error that something stored cannot be written.
    #[must_use]
    pub fn failed(&self, stored: &SystemPath, source: io::Error) -> DestinationError {
        use std::os::unix::ffi::OsStrExt as _;
        let place = self.path.join(std::ffi::OsStr::from_bytes(stored.relative()));
        DestinationError { place, source }
    }

    /// Opens a stored folder.
    ///
    /// # Errors
    /// When it cannot be opened.
    pub fn folder(&self, stored: &SystemPath) -> Result<Dir, DestinationError> {
        let mut last = self.last.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((_, dir)) = last.as_ref().filter(|(known, _)| known == stored) {
            return Ok(dir.clone());
        }
        let opened = self.disk.open_dir(self.top.fd(), stored.relative());
        let dir = opened.map(|fd| self.top.beside(fd)).map_err(|e| self.failed(stored, e))?;
        *last = Some((stored.clone(), dir.clone()));
        Ok(dir)
    }

    /// Creates a stored folder, if it does not exist yet.
    ///
    /// # Errors
    /// When it cannot be created.
    pub fn make_folder(&self, stored: &SystemPath) -> Result<(), DestinationError> {
        let above = stored.parent().unwrap_or_else(SystemPath::root);
        let dir = self.folder(&above)?;
        folder_in(&dir, stored.name()).map(drop).map_err(|e| self.failed(stored, e))
    }

    /// Writes everything to the medium.
    ///
    /// # Errors
    /// When that is not possible.
    pub fn sync(&self) -> Result<(), DestinationError> {
        self.disk.sync_all(self.top.fd()).map_err(|e| self.failed(&SystemPath::root(), e))
    }

    /// Moves a complete file to its place; `false` if there is something of that name already.
    ///
    /// # Errors
    /// When it cannot be moved.
    pub(super) fn finish(&self, part: &Part, stored: &SystemPath) -> Result<bool, DestinationError> {
        let dir = self.folder(&stored.parent().unwrap_or_else(SystemPath::root))?;
        let (from, part) = (self.parts(part.folder).fd(), &part.name[..]);
        let moved = match self.disk.rename(from, part, dir.fd(), stored.name(), Exchange::IntoNothing) {
            // Some file systems cannot move only to a free name.
            Err(e) if is_unsupported(&e) => match dir.look(stored.name()) {
                Ok(None) => self.disk.rename(from, part, dir.fd(), stored.name(), Exchange::Replace),
                Ok(Some(_)) => return Ok(false),
                Err(e) => Err(e),
            },
            moved => moved,
        };
        match moved {
            Err(e) if e.kind() == io::ErrorKind::AlreadyExists => Ok(false),
            moved => moved.map(|()| true).map_err(|e| self.failed(stored, e)),
        }
    }

    /// Sets the owner, the permissions and the time of a stored file or folder, as far as the file system keeps them; `handle` is
    /// that of a file that is still open.
    pub fn set_status(&self, dir: &Dir, name: &[u8], handle: Option<BorrowedFd<'_>>, of: &StoredStatus) {
        // What cannot be kept is in the manifest.
        if self.can.owners {
            let _ = self.disk.set_owner(dir.fd(), name, of.uid, of.gid);
        }
        if let Some(mode) = of.mode.filter(|_| self.can.modes) {
            // Without the permission to run with another user's rights.
            let mode = mode & 0o777;
            let _ = match handle {
                Some(handle) => self.disk.set_mode(handle, mode),
                None => self.disk.open_dir(dir.fd(), name).and_then(|fd| self.disk.set_mode(fd.as_fd(), mode)),
            };
        }
        let _ = self.disk.set_mtime(dir.fd(), name, of.mtime);
    }

    /// Removes what was created to find out what can be kept, where nothing is copied.
    pub fn discard(&self) {
        self.close();
        let above = self.path.parent().and_then(|above| self.disk.open_root(above).ok());
        let name = self.path.file_name().map(std::ffi::OsStr::as_encoded_bytes);
        if let (Some(above), Some(name)) = (above, name) {
            let _ = self.disk.remove_dir(above.as_fd(), name);
        }
    }

    /// Removes the folder of files that are not complete, at the end.
    pub fn close(&self) {
        for (number, folder) in self.part_folders.iter().enumerate() {
            clear(folder);
            let _ = self.disk.remove_dir(self.parts.fd(), number.to_string().as_bytes());
        }
        let _ = self.disk.remove_dir(self.top.fd(), PARTS);
    }
}

/// Owner, permissions and time of a file.
#[derive(Debug, Clone, Copy)]
pub struct StoredStatus {
    /// Its owner.
    pub uid: u32,
    /// Its group.
    pub gid: u32,
    /// Its permissions; symlinks have none.
    pub mode: Option<u32>,
    /// When its content was changed.
    pub mtime: Instant,
}

/// A folder in an open folder: created if it does not exist.
fn folder_in(dir: &Dir, name: &[u8]) -> io::Result<Dir> {
    match dir.disk().make_dir(dir.fd(), name) {
        Err(e) if e.kind() != io::ErrorKind::AlreadyExists => Err(e),
        _ => dir.disk().open_dir(dir.fd(), name).map(|fd| dir.beside(fd)),
    }
}

fn is_unsupported(error: &io::Error) -> bool {
    use rustix::io::Errno;
    matches!(Errno::from_io_error(error), Some(Errno::INVAL | Errno::NOSYS | Errno::NOTSUP))
}

/// Removes what an interrupted run left in a folder of parts.
fn clear(folder: &Dir) {
    for (name, _) in folder.disk().list(folder.fd()).unwrap_or_default() {
        let _ = folder.disk().unlink(folder.fd(), &name);
    }
}

/// Whether something is possible; an error that says nothing about that is one.
fn is_possible(done: io::Result<()>) -> io::Result<bool> {
    use rustix::io::Errno;
    let failures = [Errno::NOSPC, Errno::DQUOT, Errno::IO, Errno::ROFS, Errno::NODEV, Errno::NXIO];
    match done {
        Ok(()) => Ok(true),
        Err(e) if Errno::from_io_error(&e).is_some_and(|errno| failures.contains(&errno)) => Err(e),
        Err(_) => Ok(false),
    }
}

/// Tries what the file system can keep, in an empty folder of its own.
fn abilities(parts: &Dir) -> io::Result<Abilities> {
    let (disk, fd) = (parts.disk(), parts.fd());
    let file = disk.create(fd, b"Probe")?;
    let plain = [&b"a:b?*<>|\\"[..], b"end. ", b"\xff\n"];
    let mut restricted = false;
    for name in plain {
        restricted |= !is_possible(disk.create(fd, name).map(drop))?;
    }
    let listed = disk.list(fd)?;
    let restricted = restricted || plain.iter().any(|name| !listed.iter().any(|(known, _)| known == name));
    let stat = disk.look(fd, b"Probe")?;
    let other = |id: u32| if id == 0 { 1 } else { 0 };
    let owners = is_possible(disk.set_owner(fd, b"Probe", other(stat.uid), other(stat.gid)))?;
    let given = disk.look(fd, b"Probe")?;
    let mut modes = true;
    for mode in [0o640, 0o601] {
        modes &= is_possible(disk.set_mode(file.as_fd(), mode))? && disk.look(fd, b"Probe")?.mode == mode;
    }
    let can = Abilities {
        names: NameRules { restricted, folds_case: disk.look(fd, b"pROBE").is_ok() },
        symlinks: is_possible(disk.make_link(fd, b"link", b"Probe"))?,
        hard_links: is_possible(disk.hard_link(fd, b"Probe", fd, b"second"))?,
        modes,
        owners: owners && given.uid != stat.uid && given.gid != stat.gid,
        attributes: is_possible(disk.set_xattr(file.as_fd(), "user.veritum".as_ref(), b"1"))?,
    };
    drop(file);
    clear(parts);
    Ok(can)
}
