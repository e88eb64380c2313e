//! [`Disk`]: the few operations on which everything above is built.

use std::ffi::OsString;
use std::fmt;
use std::io;
use std::ops::Range;
use std::os::fd::{BorrowedFd, OwnedFd};
use std::path::Path;

use crate::model::{FileKind, Instant, Stat};

/// A single name within a folder, in bytes.
pub type Name = [u8];

/// How a rename treats an existing destination.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Exchange {
    /// Both names exist and are exchanged (`RENAME_EXCHANGE`).
    Swap,
    /// The destination must not exist (`RENAME_NOREPLACE`).
    IntoNothing,
    /// The destination is replaced: only used for temporary names of Veritum's own, or for files that have another name.
    Replace,
}

/// A special file (mknod(2)); devices with their major and minor numbers.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Node {
    /// A named pipe.
    Pipe,
    /// A block device.
    Block(u32, u32),
    /// A character device.
    Character(u32, u32),
}

/// The free space of a file system.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct FreeSpace {
    /// Bytes available to this process.
    pub bytes: u64,
    /// The file system's size in bytes.
    pub total: u64,
    /// Inodes available to this process; `u64::MAX` where the file system does not count them.
    pub inodes: u64,
    /// The size of a block in bytes.
    pub block: u64,
    /// Whether it is mounted read-only.
    pub read_only: bool,
}

/// Where the content of a file is on disks that are not mounted: the position of its volume, and there each piece, by its first byte and its
/// size, in the order of the file.
pub type RawPlaces = (usize, Vec<(u64, u64)>);

/// A disk, accessed through handles. Every method is one system call or a short loop of one.
///
/// Names are single names in an open folder; no method follows a symlink. Implementations: the real one
/// ([`super::LiveDisk`]) and one for tests that fails.
pub trait Disk: Send + Sync + fmt::Debug {
    // --- reading ---

    /// Opens a folder of the host by its host path: the only method that accepts a host path.
    fn open_root(&self, path: &Path) -> io::Result<OwnedFd>;
    /// Opens the folder at `path` below `root`; a symlink in the path is an error.
    fn open_dir(&self, root: BorrowedFd<'_>, path: &Name) -> io::Result<OwnedFd>;
    /// Opens a regular file for reading, without blocking, following symlinks or updating its access time; also returns the
    /// status of the opened file.
    fn open_seen(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<(OwnedFd, Stat)>;
    /// Opens a regular file as [`open_seen`](Self::open_seen) does.
    fn open_file(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<OwnedFd> {
        Ok(self.open_seen(dir, name)?.0)
    }
    /// Examines a name without following symlinks.
    fn look(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<Stat>;
    /// Examines an open handle.
    fn look_open(&self, file: BorrowedFd<'_>) -> io::Result<Stat>;
    /// The mount that an open handle is on.
    fn mount_of(&self, file: BorrowedFd<'_>) -> io::Result<u64>;
    /// The position of the volume that a mount is, among the disks from which the system is read without being mounted; `None` for
    /// what the kernel has mounted.
    fn raw_volume(&self, _mount: u64) -> Option<usize> {
        None
    }
    /// Where the content of a file is, on a system that is read without being mounted.
    ///
    /// # Errors
    /// Why its content has no places of its own, or must not be written there.
    fn raw_places(&self, _file: BorrowedFd<'_>) -> Result<RawPlaces, &'static str> {
        Err("its file system is mounted")
    }
    /// The mount that a name is on: it differs from its folder's when something is mounted on it.
    fn mount_of_name(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<u64>;
    /// Reads the next bytes.
    fn read(&self, file: BorrowedFd<'_>, into: &mut [u8]) -> io::Result<usize>;
    /// Reads the bytes from a place on, up to the buffer's size; fewer only at the end of the file.
    fn read_at(&self, file: BorrowedFd<'_>, at: u64, into: &mut [u8]) -> io::Result<usize>;
    /// Where the next bytes that were written are, from a place on; `None` if there are none. What is left out reads as zeros.
    fn written_after(&self, file: BorrowedFd<'_>, at: u64) -> io::Result<Option<Range<u64>>>;
    /// Reads a link's target.
    fn read_link(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<Vec<u8>>;
    /// Lists a folder's names, without `.` and `..`; the kind is a hint, where the file system provides one.
    fn list(&self, dir: BorrowedFd<'_>) -> io::Result<Vec<(Vec<u8>, Option<FileKind>)>>;
    /// Lists a folder's names with their inode numbers, as the folder has them: those of mount points, and of files of overlay file
    /// systems, can be others than those of [`Disk::look`]. 0 where they are not known.
    fn list_inodes(&self, dir: BorrowedFd<'_>) -> io::Result<Vec<(Vec<u8>, u64)>> {
        Ok(self.list(dir)?.into_iter().map(|(name, _)| (name, 0)).collect())
    }
    /// Lists extended attributes of an open file or folder.
    fn xattrs(&self, file: BorrowedFd<'_>) -> io::Result<Vec<(OsString, Vec<u8>)>>;
    /// Whether an open file carries file capabilities (capabilities(7)).
    fn has_capabilities(&self, file: BorrowedFd<'_>) -> io::Result<bool>;
    /// Inode flags (`chattr`) of an open file or folder; `None` where the file system has none.
    fn flags(&self, file: BorrowedFd<'_>) -> io::Result<Option<u32>>;
    /// The free space of an open handle's file system.
    fn room(&self, dir: BorrowedFd<'_>) -> io::Result<FreeSpace>;
    /// Whether an open folder is on an overlay file system, where a hard link to a file of a lower layer copies its content.
    fn is_overlay(&self, _dir: BorrowedFd<'_>) -> io::Result<bool> {
        Ok(false)
    }
    /// Drops a file's cached pages, so that the next read comes from the medium.
    fn forget(&self, file: BorrowedFd<'_>) -> io::Result<()>;
    /// Asks the medium for a file's first bytes, without waiting for them: they are read soon.
    fn read_ahead(&self, _file: BorrowedFd<'_>, _bytes: u64) {}

    // --- changing ---

    /// Creates a new, empty, private file (mode 0600); the name must be free.
    fn create(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<OwnedFd>;
    /// Opens a file created by Veritum for appending.
    fn open_append(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<OwnedFd>;
    /// Appends all of these bytes.
    fn write(&self, file: BorrowedFd<'_>, bytes: &[u8]) -> io::Result<()>;
    /// Writes all of these bytes from a place on.
    fn write_at(&self, file: BorrowedFd<'_>, at: u64, bytes: &[u8]) -> io::Result<()>;
    /// Creates a folder with mode 0700.
    fn make_dir(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<()>;
    /// Creates a symlink.
    fn make_link(&self, dir: BorrowedFd<'_>, name: &Name, target: &[u8]) -> io::Result<()>;
    /// Creates a special file with this mode, whatever the process's mask.
    fn make_node(&self, dir: BorrowedFd<'_>, name: &Name, node: Node, mode: u32) -> io::Result<()>;
    /// Creates a hard link to a file or symlink.
    fn hard_link(&self, from: BorrowedFd<'_>, old: &Name, to: BorrowedFd<'_>, new: &Name) -> io::Result<()>;
    /// Makes an empty file share the blocks of another one (`FICLONE`); later writes to either do not affect the other.
    ///
    /// # Errors
    /// Where the file system cannot do that (the default), or the two are on different ones.
    fn clone_file(&self, _from: BorrowedFd<'_>, _to: BorrowedFd<'_>) -> io::Result<()> {
        Err(rustix::io::Errno::NOTSUP.into())
    }
    /// Renames a name.
    fn rename(&self, from: BorrowedFd<'_>, old: &Name, to: BorrowedFd<'_>, new: &Name, how: Exchange)
    -> io::Result<()>;
    /// Unlinks a file or symlink. Only used on names that Veritum created.
    fn unlink(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<()>;
    /// Removes an empty folder. Only used on folders that Veritum created.
    fn remove_dir(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<()>;
    /// Sets the owner of a name without following symlinks.
    fn set_owner(&self, dir: BorrowedFd<'_>, name: &Name, uid: u32, gid: u32) -> io::Result<()>;
    /// Sets the mode of an open file or folder.
    fn set_mode(&self, file: BorrowedFd<'_>, mode: u32) -> io::Result<()>;
    /// Sets the modification time of a name without following symlinks; the access time is kept.
    fn set_mtime(&self, dir: BorrowedFd<'_>, name: &Name, mtime: Instant) -> io::Result<()>;
    /// Sets an extended attribute of an open file.
    fn set_xattr(&self, file: BorrowedFd<'_>, name: &std::ffi::OsStr, value: &[u8]) -> io::Result<()>;
    /// Sets inode flags of an open file.
    fn set_flags(&self, file: BorrowedFd<'_>, flags: u32) -> io::Result<()>;
    /// Truncates a file created by Veritum to a length.
    fn truncate(&self, file: BorrowedFd<'_>, len: u64) -> io::Result<()>;
    /// Makes a file's content and metadata, or a folder's names, durable.
    fn sync(&self, file: BorrowedFd<'_>) -> io::Result<()>;
    /// Makes everything written to a file system durable.
    fn sync_all(&self, dir: BorrowedFd<'_>) -> io::Result<()>;
}
