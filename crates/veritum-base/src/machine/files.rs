//! [`Machine`]: the system that is examined or repaired.

use std::collections::VecDeque;
use std::io;
use std::os::fd::{AsFd, OwnedFd};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::dir::Dir;
use super::disk::Disk;
use super::extent::Extent;
use super::identity::{Identified, Users};
use crate::model::{FileKind, Identity, Stat, SystemPath};

/// More symlinks than this in one path are a loop, as in Linux.
const MAX_LINKS: usize = 40;
/// Larger configuration files are not read, in bytes.
const MAX_CONFIG: u64 = 4 << 20;

/// Why the machine cannot be used.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum MachineError {
    /// The folder cannot be opened.
    #[error("cannot open the folder {}", path.display())]
    Open {
        /// The folder's path on the host.
        path: PathBuf,
        /// The cause.
        source: io::Error,
    },
    /// The folder contains no supported system.
    #[error("no installed system in {}", path.display())]
    NoSystem {
        /// The folder's path on the host.
        path: PathBuf,
    },
    /// A file of the machine cannot be read.
    #[error("{path} cannot be read")]
    Read {
        /// The path on the machine.
        path: SystemPath,
        /// The cause.
        source: io::Error,
    },
}

/// The system that Veritum works on: live (`/`) or mounted elsewhere.
#[derive(Debug)]
pub struct Machine {
    path: PathBuf,
    root: Dir,
    /// The folder of the machine that the root handle refers to; `/`, except for a machine that is seen from a user's home.
    seen_from: SystemPath,
    root_id: Identity,
    live: bool,
    extent: Extent,
    identified: Identified,
    users: Users,
}

impl Machine {
    /// Opens the machine whose root is at `path` on the host.
    ///
    /// # Errors
    /// When the folder cannot be opened.
    pub fn open(path: &Path, disk: Arc<dyn Disk>) -> Result<Self, MachineError> {
        let at = |source| MachineError::Open { path: path.to_owned(), source };
        let path_full = path.canonicalize().map_err(at)?;
        let fd = disk.open_root(&path_full).map_err(at)?;
        let root = Dir { disk, fd: Arc::new(fd) };
        let root_id = root.look_self().map_err(at)?.id;
        let live = Self::is_own_root(&*root.disk, root_id);
        let mut machine = Self {
            path: path_full,
            root,
            seen_from: SystemPath::root(),
            root_id,
            live,
            extent: Extent::default(),
            identified: Identified::default(),
            users: Users::default(),
        };
        machine.identified = Identified::read(&machine);
        machine.users = Users::read(&machine);
        machine.extent = Extent::read(&machine);
        Ok(machine)
    }

    /// The same machine as seen from one of its folders, through a handle that may come from another process: nothing outside
    /// that folder can be reached, and no other file system is part of it.
    ///
    /// # Errors
    /// When the kernel does not report the handle's mount.
    pub fn seen_from(&self, folder: SystemPath, handle: Dir) -> io::Result<Self> {
        let mut extent = Extent::default();
        extent.add(handle.disk().mount_of(handle.fd())?);
        Ok(Self {
            path: self.path.clone(),
            root: handle,
            seen_from: folder,
            root_id: self.root_id,
            live: self.live,
            extent,
            identified: self.identified.clone(),
            users: self.users.clone(),
        })
    }

    fn is_own_root(disk: &dyn Disk, id: Identity) -> bool {
        let own = disk.open_root(Path::new("/")).and_then(|fd| disk.look_open(fd.as_fd()));
        own.is_ok_and(|stat| stat.id == id)
    }

    /// The root's path on the host.
    #[must_use]
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Whether it is the running system itself.
    #[must_use]
    pub fn is_live(&self) -> bool {
        self.live
    }

    /// Whether this folder is the root of another running process (a container or a chroot): such a system is checked but not
    /// changed. Only root can see other users' processes.
    #[must_use]
    pub fn is_in_use(&self) -> bool {
        if self.live {
            return false;
        }
        let disk = &self.root.disk;
        let Ok(processes) = std::fs::read_dir("/proc") else { return false };
        let is_number = |p: &std::fs::DirEntry| p.file_name().as_encoded_bytes().iter().all(u8::is_ascii_digit);
        let same = |p: std::fs::DirEntry| {
            let root = disk.open_root(&p.path().join("root")).and_then(|fd| disk.look_open(fd.as_fd()));
            root.is_ok_and(|stat| stat.id == self.root_id)
        };
        processes.flatten().filter(is_number).any(same)
    }

    /// The root's inode.
    #[must_use]
    pub fn root_id(&self) -> Identity {
        self.root_id
    }

    /// The disk.
    #[must_use]
    pub fn disk(&self) -> &Arc<dyn Disk> {
        &self.root.disk
    }

    /// The file systems that belong to it.
    #[must_use]
    pub fn extent(&self) -> &Extent {
        &self.extent
    }

    /// The system's name, version and host name.
    #[must_use]
    pub fn identified(&self) -> &Identified {
        &self.identified
    }

    /// Its users and groups.
    #[must_use]
    pub fn users(&self) -> &Users {
        &self.users
    }

    /// Opens the folder at a path without symlinks; a symlink in the path is an error (`ELOOP`).
    ///
    /// # Errors
    /// When it does not exist, is not a folder, or its path contains a symlink.
    pub fn dir(&self, physical: &SystemPath) -> io::Result<Dir> {
        let below = physical
            .below(&self.seen_from)
            .ok_or_else(|| io::Error::new(io::ErrorKind::PermissionDenied, "outside the root folder"))?;
        if below.is_empty() {
            return Ok(self.root.clone());
        }
        let fd = self.root.disk.open_dir(self.root.fd(), below)?;
        Ok(self.root.beside(fd))
    }

    /// Wraps a handle on this machine's disk that was opened elsewhere (a state folder outside the root).
    #[must_use]
    pub fn wrap(&self, fd: OwnedFd) -> Dir {
        self.root.beside(fd)
    }

    /// Resolves every symlink in a path, including the last name, inside the root.
    ///
    /// Absolute symlinks begin at the machine's root and `..` stops there, as in the running system.
    ///
    /// # Errors
    /// When part of the path is missing, or symlinks form a loop.
    pub fn resolve(&self, path: &SystemPath) -> io::Result<SystemPath> {
        let mut todo: VecDeque<Vec<u8>> = path.names().map(<[u8]>::to_vec).collect();
        let mut at: Vec<Vec<u8>> = Vec::new();
        let mut links = 0;
        while let Some(name) = todo.pop_front() {
            if name == b".." {
                at.pop();
                continue;
            }
            let here = SystemPath::below_root(&at.join(&b'/')).map_err(invalid)?;
            let dir = self.dir(&here)?;
            let stat = dir.disk.look(dir.fd(), &name)?;
            if stat.kind != FileKind::Link {
                at.push(name);
                continue;
            }
            links += 1;
            if links > MAX_LINKS {
                return Err(io::Error::from_raw_os_error(rustix::io::Errno::LOOP.raw_os_error()));
            }
            let target = dir.disk.read_link(dir.fd(), &name)?;
            if target.starts_with(b"/") {
                at.clear();
            }
            for name in target.split(|b| *b == b'/').rev().filter(|n| !n.is_empty() && *n != b".") {
                todo.push_front(name.to_vec());
            }
        }
        SystemPath::below_root(&at.join(&b'/')).map_err(invalid)
    }

    /// Examines a path without symlinks before its last name; `None` when it does not exist.
    ///
    /// # Errors
    /// Every other failure.
    pub fn look(&self, physical: &SystemPath) -> io::Result<Option<Stat>> {
        let Some(parent) = physical.parent() else { return self.root.look_self().map(Some) };
        match self.dir(&parent) {
            Ok(dir) => dir.look(physical.name()),
            Err(e) if e.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(e) => Err(e),
        }
    }

    /// Reads a configuration file of the machine, following symlinks inside it; `None` when it does not exist.
    ///
    /// # Errors
    /// When it exists and cannot be read.
    pub fn read_config(&self, path: &SystemPath) -> Result<Option<Vec<u8>>, MachineError> {
        self.read_up_to(path, MAX_CONFIG)
    }

    /// Reads a file of at most `limit` bytes, following symlinks inside the machine; `None` when it does not exist.
    ///
    /// # Errors
    /// When it exists and cannot be read.
    pub fn read_up_to(&self, path: &SystemPath, limit: u64) -> Result<Option<Vec<u8>>, MachineError> {
        let read = || {
            let physical = self.resolve(path)?;
            let Some(parent) = physical.parent() else { return Err(io::ErrorKind::IsADirectory.into()) };
            self.dir(&parent)?.read(physical.name(), limit)
        };
        match read() {
            Ok(bytes) => Ok(Some(bytes)),
            Err(e) if e.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(source) => Err(MachineError::Read { path: path.clone(), source }),
        }
    }
}

impl Machine {
    /// The kind of file at a path, without following a symlink there; `None` if it does not exist or cannot be examined.
    #[must_use]
    pub fn kind_at(&self, path: &SystemPath) -> Option<FileKind> {
        let place = self.resolve(&path.parent()?).ok()?.child(path.name()).ok()?;
        self.look(&place).ok()?.map(|stat| stat.kind)
    }

    /// Whether a path exists and is not a regular file.
    #[must_use]
    pub fn is_no_file(&self, path: &SystemPath) -> bool {
        self.kind_at(path).is_some_and(|kind| kind != FileKind::File)
    }

    /// Reads at most the last `most` bytes of a file of any size; `None` when it does not exist.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn read_end(&self, path: &SystemPath, most: u64) -> Result<Option<Vec<u8>>, MachineError> {
        let read = || -> io::Result<Vec<u8>> {
            let physical = self.resolve(path)?;
            let Some(parent) = physical.parent() else { return Err(io::ErrorKind::IsADirectory.into()) };
            let dir = self.dir(&parent)?;
            let (file, stat) = dir.disk().open_seen(dir.fd(), physical.name())?;
            rustix::fs::seek(&file, rustix::fs::SeekFrom::Start(stat.size.saturating_sub(most)))?;
            let mut bytes = vec![0; usize::try_from(most.min(stat.size)).unwrap_or(0)];
            let mut have = 0;
            while have < bytes.len() {
                match dir.disk().read(file.as_fd(), &mut bytes[have..])? {
                    0 => break,
                    n => have += n,
                }
            }
            bytes.truncate(have);
            Ok(bytes)
        };
        match read() {
            Ok(bytes) => Ok(Some(bytes)),
            Err(e) if e.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(source) => Err(MachineError::Read { path: path.clone(), source }),
        }
    }
}

fn invalid(error: crate::model::PathError) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidInput, error)
}

#[cfg(test)]
mod tests {
    use std::fs;
    use std::os::unix::fs::symlink;

    use super::*;
    use crate::machine::LiveDisk;

    fn machine() -> (tempfile::TempDir, Machine) {
        let dir = tempfile::tempdir().unwrap();
        fs::create_dir_all(dir.path().join("usr/lib")).unwrap();
        fs::write(dir.path().join("usr/lib/os-release"), "ID=foreshore\n").unwrap();
        symlink("usr/lib", dir.path().join("lib")).unwrap();
        symlink("/usr/lib/os-release", dir.path().join("abs")).unwrap();
        symlink("../../../../../../etc/passwd", dir.path().join("climb")).unwrap();
        symlink("round", dir.path().join("round")).unwrap();
        let machine = Machine::open(dir.path(), Arc::new(LiveDisk)).unwrap();
        (dir, machine)
    }

    #[test]
    fn links_are_followed_inside_the_root_only() {
        let (_keep, machine) = machine();
        let real = SystemPath::literal("/usr/lib/os-release");
        for path in ["/abs", "/lib/os-release"] {
            assert_eq!(machine.resolve(&SystemPath::literal(path)).unwrap(), real);
        }
        // The host's own /etc/passwd exists; inside this root it does not.
        assert_eq!(machine.resolve(&SystemPath::literal("/climb")).unwrap_err().kind(), io::ErrorKind::NotFound);
        assert!(machine.resolve(&SystemPath::literal("/round")).is_err());
    }

    #[test]
    fn a_folder_is_never_opened_through_a_link() {
        let (_keep, machine) = machine();
        assert!(machine.dir(&SystemPath::literal("/lib")).is_err());
        assert!(machine.dir(&SystemPath::literal("/usr/lib")).is_ok());
    }

    #[test]
    fn reading_is_bounded_and_a_missing_file_is_no_error() {
        let (_keep, machine) = machine();
        assert!(machine.read_up_to(&SystemPath::literal("/abs"), 3).is_err());
        assert_eq!(machine.read_config(&SystemPath::literal("/abs")).unwrap().as_deref(), Some(&b"ID=foreshore\n"[..]));
        assert!(machine.read_config(&SystemPath::literal("/etc/nothing")).unwrap().is_none());
    }
}
