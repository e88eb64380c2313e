//! The state folder: change logs, backups and the lock.

use std::io;
use std::os::fd::AsFd;
use std::path::{Path, PathBuf};

use super::journal::{ChangeLog, JournalError};
use crate::machine::{Dir, Machine};
use crate::model::{AreaName, FileKind, SystemPath, quoted};

/// The state folder on the machine, unless the administrator names another.
const PLACE: &str = "/var/lib/veritum";
/// Released when the disk is full.
const RESERVE: u64 = 4 << 20;

/// Why the state folder cannot be used.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum StateError {
    /// It cannot be opened, created or read.
    #[error("{place} cannot be used")]
    Io {
        /// The place.
        place: String,
        /// The source.
        source: io::Error,
    },
    /// It is not a private folder.
    #[error("{place} is not a private folder of its owner")]
    NotOurs {
        /// The place.
        place: String,
    },
}

/// The state folder of a machine.
#[derive(Debug, Clone)]
pub struct StateFolder {
    dir: Dir,
    shown: String,
    /// Its path on the machine; `None` when it is elsewhere.
    inside: Option<SystemPath>,
    /// The areas of this version; empty for any area.
    areas: Vec<AreaName>,
}

impl StateFolder {
    /// The same for a version with these areas: a log of a change in another area comes from a newer version.
    #[must_use]
    pub fn knowing(self, areas: &[AreaName]) -> Self {
        Self { areas: areas.to_vec(), ..self }
    }

    /// Whether this version has an area.
    pub(super) fn knows(&self, area: &AreaName) -> bool {
        self.areas.is_empty() || self.areas.contains(area)
    }

    /// Opens the state folder if it exists; creates nothing.
    ///
    /// # Errors
    /// When something else is there, or it cannot be read.
    pub fn find(machine: &Machine, elsewhere: Option<&Path>) -> Result<Option<Self>, StateError> {
        match elsewhere {
            Some(path) => Self::open_elsewhere(machine, path),
            None => Self::open_inside(machine, false),
        }
    }

    /// Opens the state folder, and creates it if it does not exist.
    ///
    /// # Errors
    /// As [`StateFolder::find`], or when it cannot be created.
    pub fn make(machine: &Machine, elsewhere: Option<&Path>) -> Result<Self, StateError> {
        let found = match elsewhere {
            Some(path) => {
                use std::os::unix::fs::DirBuilderExt as _;
                let io = |source| StateError::Io { place: path.display().to_string(), source };
                std::fs::DirBuilder::new().recursive(true).mode(0o700).create(path).map_err(io)?;
                Self::open_elsewhere(machine, path)?
            }
            None => Self::open_inside(machine, true)?,
        };
        found.ok_or_else(|| StateError::Io { place: PLACE.into(), source: io::ErrorKind::NotFound.into() })
    }

    fn open_elsewhere(machine: &Machine, path: &Path) -> Result<Option<Self>, StateError> {
        let shown = path.display().to_string();
        let io = |source| StateError::Io { place: path.display().to_string(), source };
        let path: PathBuf = match path.canonicalize() {
            Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(None),
            other => other.map_err(io)?,
        };
        let dir = machine.wrap(machine.disk().open_root(&path).map_err(io)?);
        // Others with write access could forge a change log for recovery.
        if dir.look_self().map_err(io)?.mode & 0o022 != 0 {
            return Err(StateError::NotOurs { place: shown });
        }
        Ok(Some(Self { dir, shown, inside: None, areas: Vec::new() }))
    }

    fn open_inside(machine: &Machine, make: bool) -> Result<Option<Self>, StateError> {
        let io = |source| StateError::Io { place: PLACE.into(), source };
        let listed = SystemPath::literal(PLACE);
        let parent = listed.parent().unwrap_or_else(SystemPath::root);
        // Symlinks in its path (a moved /var) are followed inside the machine; the folder itself must not be a symlink, or it
        // could be under a user's control.
        let parent = match machine.resolve(&parent) {
            Err(e) if e.kind() == io::ErrorKind::NotFound && !make => return Ok(None),
            other => other.map_err(io)?,
        };
        let dir = machine.dir(&parent).map_err(io)?;
        if machine.extent().judge(&dir).map_err(io)?.is_err() {
            return Err(StateError::NotOurs { place: PLACE.into() });
        }
        let name = listed.name();
        match dir.look(name).map_err(io)? {
            None if !make => return Ok(None),
            None => {
                let before = dir.look_self().map_err(io)?.mtime;
                dir.disk().make_dir(dir.fd(), name).map_err(io)?;
                // The machine's own folder keeps its times.
                let _ = dir.disk().set_mtime(dir.fd(), b"", before);
                dir.disk().sync(dir.fd()).map_err(io)?;
            }
            Some(stat) => {
                let parent_owner = dir.look_self().map_err(io)?.uid;
                let ours = stat.kind == FileKind::Folder && stat.mode & 0o022 == 0 && stat.uid == parent_owner;
                if !ours {
                    return Err(StateError::NotOurs { place: PLACE.into() });
                }
            }
        }
        let place = parent.child(name).map_err(|e| io(io::Error::new(io::ErrorKind::InvalidInput, e)))?;
        let dir = machine.dir(&place).map_err(io)?;
        Ok(Some(Self { dir, shown: PLACE.into(), inside: Some(place), areas: Vec::new() }))
    }

    /// The folder, for people.
    #[must_use]
    pub fn shown(&self) -> &str {
        &self.shown
    }

    /// The folder.
    #[must_use]
    pub fn dir(&self) -> &Dir {
        &self.dir
    }

    /// Its path on the running system.
    ///
    /// # Errors
    /// When the kernel does not name it.
    pub fn path(&self) -> io::Result<PathBuf> {
        let own = std::os::fd::AsRawFd::as_raw_fd(&self.dir.fd());
        std::fs::read_link(format!("/proc/self/fd/{own}"))
    }

    /// Its path on the machine; `None` when it is elsewhere.
    #[must_use]
    pub fn inside(&self) -> Option<&SystemPath> {
        self.inside.as_ref()
    }

    pub(super) fn io(&self) -> impl Fn(io::Error) -> StateError + '_ {
        |source| StateError::Io { place: self.shown.clone(), source }
    }

    /// The error that something cannot be done in it.
    #[must_use]
    pub fn failed(&self, source: io::Error) -> super::ChangeError {
        StateError::Io { place: self.shown.clone(), source }.into()
    }

    /// The error that it is not on the machine.
    #[must_use]
    pub fn not_inside(&self) -> StateError {
        let source = io::Error::new(io::ErrorKind::Unsupported, "it is not on the machine itself");
        StateError::Io { place: self.shown.clone(), source }
    }

    /// Writes a program into it, durable and executable by its owner only.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn put_program(&self, path: &str, bytes: &[u8]) -> io::Result<()> {
        let (folder, name) = path.rsplit_once('/').unwrap_or((".", path));
        let (dir, new) = (self.make_sub(folder)?, format!("{name}.new"));
        let disk = dir.disk();
        if dir.look(new.as_bytes())?.is_some() {
            disk.unlink(dir.fd(), new.as_bytes())?;
        }
        let file = disk.create(dir.fd(), new.as_bytes())?;
        disk.write(file.as_fd(), bytes)?;
        disk.set_mode(file.as_fd(), 0o700)?;
        disk.sync(file.as_fd())?;
        drop(file);
        disk.rename(dir.fd(), new.as_bytes(), dir.fd(), name.as_bytes(), crate::machine::Exchange::Replace)?;
        disk.sync(dir.fd())
    }

    /// Opens a subfolder, by a short path of ours.
    pub(crate) fn sub(&self, path: &str) -> io::Result<Dir> {
        let fd = self.dir.disk().open_dir(self.dir.fd(), path.as_bytes())?;
        Ok(self.dir.beside(fd))
    }

    /// Opens a subfolder, and creates it, and those above it, if it does not exist.
    pub(crate) fn make_sub(&self, path: &str) -> io::Result<Dir> {
        let mut at = self.dir.clone();
        for name in path.split('/') {
            at = make_folder(&at, name.as_bytes())?;
        }
        Ok(at)
    }

    /// The numbers of all changes, in order. A name that is not a number is not ours and ignored.
    ///
    /// # Errors
    /// When the folder cannot be read.
    pub fn changes(&self) -> Result<Vec<u64>, StateError> {
        let dir = match self.sub("changes") {
            Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
            other => other.map_err(self.io())?,
        };
        let names = dir.disk().list(dir.fd()).map_err(self.io())?;
        let number = |name: &[u8]| {
            std::str::from_utf8(name).ok().filter(|n| !n.starts_with(['0', '+'])).and_then(|n| n.parse::<u64>().ok())
        };
        let mut numbers: Vec<u64> =
            names.iter().filter_map(|(name, _)| number(name)).filter(|n| *n > 0 && *n < u64::from(u32::MAX)).collect();
        numbers.sort_unstable();
        Ok(numbers)
    }

    /// The next number: one that no change has or had, including those moved aside (`7.damaged`), and no backups.
    pub(super) fn next_change(&self) -> Result<u64, StateError> {
        let mut last = 0;
        for folder in ["changes", "kept"] {
            let dir = match self.sub(folder) {
                Err(e) if e.kind() == io::ErrorKind::NotFound => continue,
                other => other.map_err(self.io())?,
            };
            for (name, _) in dir.disk().list(dir.fd()).map_err(self.io())? {
                let digits = name.split(|b| !b.is_ascii_digit()).next().unwrap_or_default();
                let number = std::str::from_utf8(digits).ok().and_then(|digits| digits.parse::<u32>().ok());
                last = last.max(number.map_or(0, u64::from));
            }
        }
        Ok(last + 1)
    }

    /// Reads a change's log; `None` when not even its first record is complete.
    ///
    /// # Errors
    /// When it cannot be read, is damaged, or has a newer format.
    pub fn change(&self, number: u64) -> Result<Option<ChangeLog>, JournalError> {
        let dir = match self.sub(&format!("changes/{number}")) {
            Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(None),
            other => other?,
        };
        match ChangeLog::read(&dir)? {
            Some(log) if log.begin.change != number => Err(JournalError::Damaged("the log of another change".into())),
            Some(log) if !self.knows(&log.begin.area) => {
                Err(JournalError::Newer(format!("the area {}", quoted(log.begin.area.word().as_bytes()))))
            }
            other => Ok(other),
        }
    }

    /// Reserves some free space for a full disk. Not having it is not an error.
    pub(super) fn keep_reserve(&self) {
        let disk = self.dir.disk();
        if self.dir.look(b"reserve").ok().flatten().is_some_and(|s| s.size >= RESERVE) {
            return;
        }
        let _ = disk.unlink(self.dir.fd(), b"reserve");
        let written = disk.create(self.dir.fd(), b"reserve").and_then(|file| {
            let zeros = vec![0u8; 64 * 1024];
            for _ in 0..RESERVE / zeros.len() as u64 {
                disk.write(file.as_fd(), &zeros)?;
            }
            Ok(())
        });
        if written.is_err() {
            let _ = disk.unlink(self.dir.fd(), b"reserve");
        }
    }

    /// Releases the reserve.
    pub(super) fn spend_reserve(&self) {
        let _ = self.dir.disk().unlink(self.dir.fd(), b"reserve");
        let _ = self.dir.disk().sync_all(self.dir.fd());
    }
}

/// Opens a folder of ours, and creates it if it does not exist.
pub(super) fn make_folder(above: &Dir, name: &[u8]) -> io::Result<Dir> {
    let disk = above.disk();
    match disk.open_dir(above.fd(), name) {
        Ok(fd) => Ok(above.beside(fd)),
        Err(e) if e.kind() == io::ErrorKind::NotFound => {
            disk.make_dir(above.fd(), name)?;
            disk.sync(above.fd())?;
            Ok(above.beside(disk.open_dir(above.fd(), name)?))
        }
        Err(e) => Err(e),
    }
}
