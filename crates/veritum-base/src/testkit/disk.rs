//! [`TestDisk`]: the real disk, with a fault at the n-th changing operation.

use std::ffi::{OsStr, OsString};
use std::io;
use std::ops::Range;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::path::Path;
use std::sync::Mutex;

use crate::machine::{Disk, Exchange, FreeSpace, LiveDisk, Name, Node};
use crate::model::{FileKind, Identity, Instant, Stat};

/// The fault.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Accident {
    /// None; operations are counted.
    None,
    /// The n-th operation (from 0) fails with this error number; later ones succeed.
    Fail(usize, i32),
    /// The n-th operation and all later ones fail: the process was killed. Earlier ones are kept.
    Stop(usize),
    /// The power is cut at the n-th operation: what was not synced is lost.
    Cut(usize),
}

/// Operations that a file system does not support.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Lack {
    /// None.
    Nothing,
    /// Renames with a flag: exchanging, and moving only to a free name.
    Exchange,
    /// Those renames, and hard links.
    Names,
    /// Moving a file or symlink to another folder, as on overlay file systems.
    Moving,
}

/// How to revert an operation that never reached the medium.
enum Reverse {
    Unlink(OwnedFd, Vec<u8>),
    RemoveDir(OwnedFd, Vec<u8>),
    Rename {
        from: OwnedFd,
        old: Vec<u8>,
        to: OwnedFd,
        new: Vec<u8>,
        how: Exchange,
    },
    /// Moves a removed name back.
    Bring(OwnedFd, Vec<u8>, String),
    Mode(OwnedFd, u32),
    Owner(OwnedFd, Vec<u8>, u32, u32),
    Mtime(OwnedFd, Vec<u8>, Instant),
}

#[derive(Default)]
struct Unsynced {
    count: usize,
    over: bool,
    names: Vec<Reverse>,
    /// Files with content only in memory, with their sizes at the last sync.
    contents: Vec<(Identity, OwnedFd, u64)>,
}

/// A disk with a fault.
///
/// The model of a power cut: names and metadata reach the medium in order, as on journalling file systems, all of
/// them with any sync; a file's content only with a sync of that file or of the whole file system. Removed names
/// are kept in a hidden folder until then.
pub struct TestDisk {
    live: LiveDisk,
    accident: Accident,
    lack: Lack,
    limbo: tempfile::TempDir,
    state: Mutex<Unsynced>,
    at_stop: Option<Box<dyn Fn() + Send + Sync>>,
    /// The size that file systems seem to have, in bytes.
    size: Option<u64>,
    /// The space that seems to be free, in bytes.
    free: Option<u64>,
}

impl std::fmt::Debug for TestDisk {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "TestDisk({:?})", self.accident)
    }
}

fn io_error() -> io::Error {
    io::Error::from_raw_os_error(rustix::io::Errno::IO.raw_os_error())
}

impl TestDisk {
    /// A disk with this fault.
    #[must_use]
    pub fn new(accident: Accident) -> Self {
        Self::lacking(Lack::Nothing, accident)
    }

    /// A disk with limited capabilities and this fault.
    ///
    /// # Panics
    /// When no temporary folder can be created.
    #[must_use]
    pub fn lacking(lack: Lack, accident: Accident) -> Self {
        let limbo = tempfile::tempdir().expect("a limbo");
        Self { live: LiveDisk, accident, lack, limbo, state: Mutex::default(), at_stop: None, size: None, free: None }
    }

    /// A disk that also calls a function at the n-th operation, such as a real power cut.
    #[must_use]
    pub fn stopping_with(n: usize, what: impl Fn() + Send + Sync + 'static) -> Self {
        Self { at_stop: Some(Box::new(what)), ..Self::new(Accident::Stop(n)) }
    }

    /// The same disk, whose file systems seem to have this size in bytes.
    #[must_use]
    pub fn of_size(self, bytes: u64) -> Self {
        Self { size: Some(bytes), ..self }
    }

    /// The same disk, of which so many bytes seem to be free.
    #[must_use]
    pub fn with_free(self, bytes: u64) -> Self {
        Self { free: Some(bytes), ..self }
    }

    fn state(&self) -> std::sync::MutexGuard<'_, Unsynced> {
        self.state.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
    }

    /// The number of changing operations so far.
    #[must_use]
    pub fn operations(&self) -> usize {
        self.state().count
    }

    /// Whether the fault has occurred.
    #[must_use]
    pub fn happened(&self) -> bool {
        let n = self.state().count;
        match self.accident {
            Accident::None => false,
            Accident::Fail(at, _) | Accident::Stop(at) | Accident::Cut(at) => n > at,
        }
    }

    /// Makes every later operation fail: the process was killed.
    pub fn stop(&self) {
        self.state().over = true;
    }

    /// Counts a changing operation, and triggers the fault.
    fn step(&self) -> io::Result<()> {
        let mut state = self.state();
        let at = state.count;
        state.count += 1;
        if state.over {
            return Err(io_error());
        }
        match self.accident {
            Accident::Fail(n, errno) if n == at => Err(io::Error::from_raw_os_error(errno)),
            Accident::Stop(n) if n == at => {
                state.over = true;
                if let Some(what) = &self.at_stop {
                    what();
                }
                Err(io_error())
            }
            Accident::Cut(n) if n == at => {
                state.over = true;
                self.lose(&mut state);
                Err(io_error())
            }
            _ => Ok(()),
        }
    }

    fn look_step(&self) -> io::Result<()> {
        if self.state().over { Err(io_error()) } else { Ok(()) }
    }

    fn lose(&self, state: &mut Unsynced) {
        for (_, file, length) in state.contents.drain(..) {
            self.live.truncate(file.as_fd(), length).expect("a lost content can be cut off");
        }
        for reverse in state.names.drain(..).rev() {
            let done = match reverse {
                Reverse::Unlink(dir, name) => self.live.unlink(dir.as_fd(), &name),
                Reverse::RemoveDir(dir, name) => self.live.remove_dir(dir.as_fd(), &name),
                Reverse::Rename { from, old, to, new, how } => {
                    self.live.rename(from.as_fd(), &old, to.as_fd(), &new, how)
                }
                Reverse::Bring(dir, name, limbo) => {
                    std::fs::File::open(self.limbo.path()).map(OwnedFd::from).and_then(|from| {
                        self.live.rename(from.as_fd(), limbo.as_bytes(), dir.as_fd(), &name, Exchange::IntoNothing)
                    })
                }
                Reverse::Mode(file, mode) => self.live.set_mode(file.as_fd(), mode),
                Reverse::Owner(dir, name, uid, gid) => self.live.set_owner(dir.as_fd(), &name, uid, gid),
                Reverse::Mtime(dir, name, time) => self.live.set_mtime(dir.as_fd(), &name, time),
            };
            // A removed name cannot be removed twice.
            assert!(done.is_ok() || done.as_ref().is_err_and(|e| e.kind() == io::ErrorKind::NotFound), "{done:?}");
        }
    }

    fn later(&self, reverse: Reverse) {
        self.state().names.push(reverse);
    }

    /// Moves a name to the hidden folder, from which a power cut restores it; where it cannot be moved it is deleted.
    fn to_limbo(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<()> {
        let limbo = self.state().names.len().to_string();
        let to = OwnedFd::from(std::fs::File::open(self.limbo.path())?);
        match self.live.rename(dir, name, to.as_fd(), limbo.as_bytes(), Exchange::Replace) {
            Ok(()) => self.later(Reverse::Bring(own(dir)?, name.to_vec(), limbo)),
            Err(_) => self.live.unlink(dir, name)?,
        }
        Ok(())
    }

    fn can(&self, from: BorrowedFd<'_>, old: &Name, to: BorrowedFd<'_>, how: Exchange) -> io::Result<()> {
        use rustix::io::Errno;
        let folder = self.live.look(from, old)?.kind == FileKind::Folder;
        match self.lack {
            Lack::Exchange | Lack::Names if how != Exchange::Replace => Err(Errno::INVAL.into()),
            Lack::Moving if !folder && self.live.look_open(from)?.id != self.live.look_open(to)?.id => {
                Err(Errno::XDEV.into())
            }
            _ => Ok(()),
        }
    }

    fn has_content(&self, file: BorrowedFd<'_>, synced: u64) -> io::Result<()> {
        let id = self.live.look_open(file)?.id;
        let mut state = self.state();
        if !state.contents.iter().any(|(known, ..)| *known == id) {
            state.contents.push((id, file.try_clone_to_owned()?, synced));
        }
        Ok(())
    }
}

fn own(fd: BorrowedFd<'_>) -> io::Result<OwnedFd> {
    fd.try_clone_to_owned()
}

impl Disk for TestDisk {
    fn open_root(&self, path: &Path) -> io::Result<OwnedFd> {
        self.live.open_root(path)
    }
    fn open_dir(&self, root: BorrowedFd<'_>, path: &Name) -> io::Result<OwnedFd> {
        self.look_step()?;
        self.live.open_dir(root, path)
    }
    fn open_seen(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<(OwnedFd, Stat)> {
        self.look_step()?;
        self.live.open_seen(dir, name)
    }
    fn look(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<Stat> {
        self.look_step()?;
        self.live.look(dir, name)
    }
    fn look_open(&self, file: BorrowedFd<'_>) -> io::Result<Stat> {
        self.live.look_open(file)
    }
    fn mount_of(&self, file: BorrowedFd<'_>) -> io::Result<u64> {
        self.live.mount_of(file)
    }
    fn mount_of_name(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<u64> {
        self.live.mount_of_name(dir, name)
    }
    fn read(&self, file: BorrowedFd<'_>, into: &mut [u8]) -> io::Result<usize> {
        self.look_step()?;
        self.live.read(file, into)
    }
    fn read_at(&self, file: BorrowedFd<'_>, at: u64, into: &mut [u8]) -> io::Result<usize> {
        self.look_step()?;
        self.live.read_at(file, at, into)
    }
    fn written_after(&self, file: BorrowedFd<'_>, at: u64) -> io::Result<Option<Range<u64>>> {
        self.live.written_after(file, at)
    }
    fn read_link(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<Vec<u8>> {
        self.look_step()?;
        self.live.read_link(dir, name)
    }
    fn list(&self, dir: BorrowedFd<'_>) -> io::Result<Vec<(Vec<u8>, Option<FileKind>)>> {
        self.look_step()?;
        self.live.list(dir)
    }
    fn list_inodes(&self, dir: BorrowedFd<'_>) -> io::Result<Vec<(Vec<u8>, u64)>> {
        self.look_step()?;
        self.live.list_inodes(dir)
    }
    fn xattrs(&self, file: BorrowedFd<'_>) -> io::Result<Vec<(OsString, Vec<u8>)>> {
        self.live.xattrs(file)
    }
    fn has_capabilities(&self, file: BorrowedFd<'_>) -> io::Result<bool> {
        self.live.has_capabilities(file)
    }
    fn flags(&self, file: BorrowedFd<'_>) -> io::Result<Option<u32>> {
        self.live.flags(file)
    }
    fn room(&self, dir: BorrowedFd<'_>) -> io::Result<FreeSpace> {
        let room = self.live.room(dir)?;
        Ok(FreeSpace { total: self.size.unwrap_or(room.total), bytes: self.free.unwrap_or(room.bytes), ..room })
    }
    fn is_overlay(&self, dir: BorrowedFd<'_>) -> io::Result<bool> {
        self.live.is_overlay(dir)
    }
    fn forget(&self, file: BorrowedFd<'_>) -> io::Result<()> {
        self.live.forget(file)
    }

    fn create(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<OwnedFd> {
        self.step()?;
        let file = self.live.create(dir, name)?;
        self.later(Reverse::Unlink(own(dir)?, name.to_vec()));
        Ok(file)
    }
    fn open_append(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<OwnedFd> {
        self.look_step()?;
        self.live.open_append(dir, name)
    }
    fn write(&self, file: BorrowedFd<'_>, bytes: &[u8]) -> io::Result<()> {
        self.step()?;
        self.has_content(file, self.live.look_open(file)?.size)?;
        self.live.write(file, bytes)
    }
    fn write_at(&self, file: BorrowedFd<'_>, at: u64, bytes: &[u8]) -> io::Result<()> {
        self.step()?;
        self.has_content(file, self.live.look_open(file)?.size)?;
        self.live.write_at(file, at, bytes)
    }
    fn make_dir(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<()> {
        self.step()?;
        self.live.make_dir(dir, name)?;
        self.later(Reverse::RemoveDir(own(dir)?, name.to_vec()));
        Ok(())
    }
    fn make_link(&self, dir: BorrowedFd<'_>, name: &Name, target: &[u8]) -> io::Result<()> {
        self.step()?;
        self.live.make_link(dir, name, target)?;
        self.later(Reverse::Unlink(own(dir)?, name.to_vec()));
        Ok(())
    }
    fn make_node(&self, dir: BorrowedFd<'_>, name: &Name, node: Node, mode: u32) -> io::Result<()> {
        self.step()?;
        self.live.make_node(dir, name, node, mode)?;
        self.later(Reverse::Unlink(own(dir)?, name.to_vec()));
        Ok(())
    }
    fn hard_link(&self, from: BorrowedFd<'_>, old: &Name, to: BorrowedFd<'_>, new: &Name) -> io::Result<()> {
        self.step()?;
        if self.lack == Lack::Names {
            return Err(rustix::io::Errno::PERM.into());
        }
        self.live.hard_link(from, old, to, new)?;
        self.later(Reverse::Unlink(own(to)?, new.to_vec()));
        Ok(())
    }
    fn clone_file(&self, from: BorrowedFd<'_>, to: BorrowedFd<'_>) -> io::Result<()> {
        self.step()?;
        self.has_content(to, self.live.look_open(to)?.size)?;
        self.live.clone_file(from, to)
    }
    fn rename(
        &self,
        from: BorrowedFd<'_>,
        old: &Name,
        to: BorrowedFd<'_>,
        new: &Name,
        how: Exchange,
    ) -> io::Result<()> {
        self.step()?;
        self.can(from, old, to, how)?;
        if how == Exchange::Replace && self.live.look(to, new).is_ok() {
            self.to_limbo(to, new)?;
        }
        self.live.rename(from, old, to, new, how)?;
        self.later(Reverse::Rename { from: own(to)?, old: new.to_vec(), to: own(from)?, new: old.to_vec(), how });
        Ok(())
    }
    fn unlink(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<()> {
        self.step()?;
        self.to_limbo(dir, name)
    }
    fn remove_dir(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<()> {
        self.step()?;
        self.live.remove_dir(dir, name)
    }
    fn set_owner(&self, dir: BorrowedFd<'_>, name: &Name, uid: u32, gid: u32) -> io::Result<()> {
        self.step()?;
        let before = self.live.look(dir, name)?;
        self.live.set_owner(dir, name, uid, gid)?;
        self.later(Reverse::Owner(own(dir)?, name.to_vec(), before.uid, before.gid));
        Ok(())
    }
    fn set_mode(&self, file: BorrowedFd<'_>, mode: u32) -> io::Result<()> {
        self.step()?;
        let before = self.live.look_open(file)?.mode;
        self.live.set_mode(file, mode)?;
        self.later(Reverse::Mode(own(file)?, before));
        Ok(())
    }
    fn set_mtime(&self, dir: BorrowedFd<'_>, name: &Name, mtime: Instant) -> io::Result<()> {
        self.step()?;
        let before = if name.is_empty() { self.live.look_open(dir)? } else { self.live.look(dir, name)? };
        self.live.set_mtime(dir, name, mtime)?;
        self.later(Reverse::Mtime(own(dir)?, name.to_vec(), before.mtime));
        Ok(())
    }
    fn set_xattr(&self, file: BorrowedFd<'_>, name: &OsStr, value: &[u8]) -> io::Result<()> {
        self.step()?;
        self.live.set_xattr(file, name, value)
    }
    fn set_flags(&self, file: BorrowedFd<'_>, flags: u32) -> io::Result<()> {
        self.step()?;
        self.live.set_flags(file, flags)
    }
    fn truncate(&self, file: BorrowedFd<'_>, len: u64) -> io::Result<()> {
        self.step()?;
        self.live.truncate(file, len)
    }
    fn sync(&self, file: BorrowedFd<'_>) -> io::Result<()> {
        self.step()?;
        // With a real power cut, syncs must be real; otherwise the model is enough.
        if self.at_stop.is_some() {
            self.live.sync(file)?;
        }
        let id = self.live.look_open(file)?.id;
        let mut state = self.state();
        state.names.clear();
        state.contents.retain(|(known, ..)| *known != id);
        Ok(())
    }
    fn sync_all(&self, dir: BorrowedFd<'_>) -> io::Result<()> {
        self.step()?;
        if self.at_stop.is_some() {
            self.live.sync_all(dir)?;
        }
        let mut state = self.state();
        state.names.clear();
        state.contents.clear();
        Ok(())
    }
}
