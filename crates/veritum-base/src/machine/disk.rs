//! [`Disk`]: the few operations that everything above is made of.

use std::ffi::OsString;
use std::fmt;
use std::io;
use std::os::fd::{BorrowedFd, OwnedFd};
use std::path::Path;

use crate::model::{FileKind, Instant, Stat};

/// A single name within a folder, as bytes.
pub type Name = [u8];

/// How a rename treats what is at its destination.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Exchange {
    /// Both names exist and swap what they name (`RENAME_EXCHANGE`).
    Swap,
    /// The destination must not exist (`RENAME_NOREPLACE`).
    IntoNothing,
    /// What is at the destination is replaced: only ever over a name of our own, or one that has a second name.
    Replace,
}

/// What a file system has left.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct FreeSpace {
    /// Bytes free to us.
    pub bytes: u64,
    /// Bytes of the whole file system.
    pub total: u64,
    /// Inodes free to us; `u64::MAX` where the file system does not count them.
    pub inodes: u64,
    /// The size of a block in bytes.
    pub block: u64,
    /// Whether it is mounted read-only.
    pub read_only: bool,
}

/// One disk, reached by handles. Every method is one system call or a short loop of one.
///
/// Names are single names in an open folder; nothing here follows a link. Implementations: the real one
/// ([`super::LiveDisk`]) and the failing one of the test kit.
pub trait Disk: Send + Sync + fmt::Debug {
    // --- looking ---

    /// Opens a folder of the host by a path of the host: the only place where the outside is named.
    fn open_root(&self, path: &Path) -> io::Result<OwnedFd>;
    /// Opens the folder at `path` below `root`; a link on the way, or at its end, is an error.
    fn open_dir(&self, root: BorrowedFd<'_>, path: &Name) -> io::Result<OwnedFd>;
    /// Opens a regular file for reading, never blocking, never following, never touching its access time; with what
    /// the handle then shows.
    fn open_seen(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<(OwnedFd, Stat)>;
    /// Opens a regular file as [`open_seen`](Self::open_seen) does.
    fn open_file(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<OwnedFd> {
        Ok(self.open_seen(dir, name)?.0)
    }
    /// Examines a name without following it.
    fn look(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<Stat>;
    /// Examines an open handle.
    fn look_open(&self, file: BorrowedFd<'_>) -> io::Result<Stat>;
    /// Which mount an open handle is on.
    fn mount_of(&self, file: BorrowedFd<'_>) -> io::Result<u64>;
    /// Which mount a name is on: another one than its folder's when something is mounted on it.
    fn mount_of_name(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<u64>;
    /// Reads the next bytes.
    fn read(&self, file: BorrowedFd<'_>, into: &mut [u8]) -> io::Result<usize>;
    /// Reads a link's target.
    fn read_link(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<Vec<u8>>;
    /// Lists a folder's names, without `.` and `..`; the kind is a hint where the file system gives one.
    fn list(&self, dir: BorrowedFd<'_>) -> io::Result<Vec<(Vec<u8>, Option<FileKind>)>>;
    /// Lists extended attributes of an open file or folder.
    fn xattrs(&self, file: BorrowedFd<'_>) -> io::Result<Vec<(OsString, Vec<u8>)>>;
    /// Whether an open file carries file capabilities (capabilities(7)).
    fn has_capabilities(&self, file: BorrowedFd<'_>) -> io::Result<bool>;
    /// Inode flags (`chattr`) of an open file or folder; `None` where the file system has none.
    fn flags(&self, file: BorrowedFd<'_>) -> io::Result<Option<u32>>;
    /// What the file system of an open handle has left.
    fn room(&self, dir: BorrowedFd<'_>) -> io::Result<FreeSpace>;
    /// Lets go of a file's cached pages, so that the next reading comes from the medium.
    fn forget(&self, file: BorrowedFd<'_>) -> io::Result<()>;

    // --- changing ---

    /// Makes a new, empty, private file (mode 0600); the name must be free.
    fn create(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<OwnedFd>;
    /// Opens a file of our own for appending.
    fn open_append(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<OwnedFd>;
    /// Writes all of these bytes at the end.
    fn write(&self, file: BorrowedFd<'_>, bytes: &[u8]) -> io::Result<()>;
    /// Makes a folder, mode 0700.
    fn make_dir(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<()>;
    /// Makes a symbolic link.
    fn make_link(&self, dir: BorrowedFd<'_>, name: &Name, target: &[u8]) -> io::Result<()>;
    /// Makes a named pipe or a device.
    fn make_node(
        &self,
        dir: BorrowedFd<'_>,
        name: &Name,
        kind: FileKind,
        block: bool,
        rdev: (u32, u32),
    ) -> io::Result<()>;
    /// Gives a file or link a hard link.
    fn hard_link(&self, from: BorrowedFd<'_>, old: &Name, to: BorrowedFd<'_>, new: &Name) -> io::Result<()>;
    /// Renames.
    fn rename(&self, from: BorrowedFd<'_>, old: &Name, to: BorrowedFd<'_>, new: &Name, how: Exchange)
    -> io::Result<()>;
    /// Takes a name of a file or link away. Only ever called on names that we made.
    fn unlink(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<()>;
    /// Takes an empty folder away. Only ever called on folders that we made.
    fn remove_dir(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<()>;
    /// Sets the owner of a name, not following it.
    fn set_owner(&self, dir: BorrowedFd<'_>, name: &Name, uid: u32, gid: u32) -> io::Result<()>;
    /// Sets the mode of an open file or folder.
    fn set_mode(&self, file: BorrowedFd<'_>, mode: u32) -> io::Result<()>;
    /// Sets the modification time of a name, not following it; the access time stays.
    fn set_mtime(&self, dir: BorrowedFd<'_>, name: &Name, mtime: Instant) -> io::Result<()>;
    /// Sets an extended attribute of an open file.
    fn set_xattr(&self, file: BorrowedFd<'_>, name: &std::ffi::OsStr, value: &[u8]) -> io::Result<()>;
    /// Sets inode flags of an open file.
    fn set_flags(&self, file: BorrowedFd<'_>, flags: u32) -> io::Result<()>;
    /// Cuts a file of our own to a length.
    fn truncate(&self, file: BorrowedFd<'_>, len: u64) -> io::Result<()>;
    /// Makes a file's content and numbers durable, or a folder's names.
    fn sync(&self, file: BorrowedFd<'_>) -> io::Result<()>;
    /// Makes everything written to that file system durable.
    fn sync_all(&self, dir: BorrowedFd<'_>) -> io::Result<()>;
}
