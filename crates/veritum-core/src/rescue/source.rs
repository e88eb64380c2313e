//! [`Source`]: homes to copy from, on a mounted system or read from a disk by own code.

use std::io;
use std::ops::Range;

use crate::model::{Identity, Instant, SystemPath};
use crate::report::DataKind;

/// Deeper folders are not searched.
pub(super) const MAX_DEPTH: usize = 250;

/// A home.
#[derive(Debug, Clone)]
pub struct HomePlace {
    /// The user.
    pub user: String,
    /// Its path on the machine.
    pub place: SystemPath,
}

/// What an [`Item`] is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ItemKind {
    /// A folder.
    Folder,
    /// A regular file.
    File,
    /// A symlink with its target.
    Link(Vec<u8>),
}

/// A file, folder or symlink in a home.
#[derive(Debug, Clone)]
pub struct Item {
    /// The position of its home in the source.
    pub home: usize,
    /// Its path relative to the home; empty for the home itself.
    pub path: Vec<u8>,
    /// What it is.
    pub is: ItemKind,
    /// What it is to its user.
    pub kind: DataKind,
    /// The size of its content in bytes.
    pub size: u64,
    /// Its permissions.
    pub mode: u32,
    /// Its owner.
    pub uid: u32,
    /// Its group.
    pub gid: u32,
    /// When its content was changed.
    pub mtime: Instant,
    /// Its inode, if it has other names; for disks read by own code always.
    pub inode: Option<Identity>,
}

/// The content of a file.
pub trait Content {
    /// Its size in bytes and when it was changed, as of now; the first time as of when it was opened.
    ///
    /// # Errors
    /// When it cannot be determined.
    fn status(&self) -> io::Result<(u64, Instant)>;
    /// Reads from a place on; fewer bytes only at its end.
    ///
    /// # Errors
    /// When the medium cannot be read there.
    fn read_at(&self, at: u64, into: &mut [u8]) -> io::Result<usize>;
    /// Where the next bytes that were written are; all else reads as zeros.
    ///
    /// # Errors
    /// When it cannot be determined.
    fn written_after(&self, at: u64) -> io::Result<Option<Range<u64>>>;
    /// The size of what can be read by itself, in bytes: unreadable places are narrowed down to that.
    fn grain(&self) -> u64 {
        4096
    }
    /// Extended attributes that users set (`user.*`), each with its value.
    ///
    /// # Errors
    /// When they cannot be read.
    fn attributes(&self) -> io::Result<Vec<(Vec<u8>, Vec<u8>)>>;
}

/// Something in a home that is not copied, and why.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NotCopied {
    /// The position of its home in the source.
    pub home: usize,
    /// Its path relative to the home.
    pub path: Vec<u8>,
    /// The reason.
    pub why: String,
}

/// What is in the homes.
#[derive(Debug, Default)]
pub struct Found {
    /// Files, folders and symlinks; folders before what is in them.
    pub items: Vec<Item>,
    /// What could not be read.
    pub unread: Vec<NotCopied>,
    /// The number of pipes, sockets and devices: they have no content.
    pub special: u64,
}

/// Homes to copy from.
pub trait Source: Sync {
    /// The homes.
    fn homes(&self) -> &[HomePlace];
    /// Lists everything in a home; `go_on` is asked from time to time.
    fn list(&self, home: usize, found: &mut Found, go_on: &dyn Fn() -> bool);
    /// Opens a file that was listed.
    ///
    /// # Errors
    /// When it cannot be opened, or is no regular file any more.
    fn open(&self, item: &Item) -> io::Result<Box<dyn Content + '_>>;
    /// Opens several files, in this order.
    fn open_all(&self, items: &[&Item]) -> Vec<io::Result<Box<dyn Content + '_>>> {
        items.iter().map(|item| self.open(item)).collect()
    }
}
