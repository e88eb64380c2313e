//! The status of a file, folder or other object on a disk.

use serde::{Deserialize, Serialize};

/// The kind of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum FileKind {
    /// A regular file.
    File,
    /// A folder.
    Folder,
    /// A symbolic link.
    #[serde(rename = "symlink")]
    Link,
    /// A named pipe.
    Pipe,
    /// A socket.
    Socket,
    /// A character or block device.
    Device,
}

impl FileKind {
    /// The word for people and JSON.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::File => "file",
            Self::Folder => "folder",
            Self::Link => "symlink",
            Self::Pipe => "pipe",
            Self::Socket => "socket",
            Self::Device => "device",
        }
    }
}

/// A time as the file system records it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct Instant {
    /// Seconds since the epoch.
    pub s: i64,
    /// Nanoseconds within the second.
    pub n: u32,
}

/// An inode: device and number.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Identity {
    /// The device.
    pub dev: u64,
    /// The inode's number.
    pub ino: u64,
}

/// The status of a place (lstat(2)).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Stat {
    /// Kind.
    pub kind: FileKind,
    /// The lower twelve bits of the mode.
    pub mode: u32,
    /// User id.
    pub uid: u32,
    /// Group id.
    pub gid: u32,
    /// Size in bytes.
    pub size: u64,
    /// Modification time.
    pub mtime: Instant,
    /// Change time of the inode.
    pub ctime: Instant,
    /// Its inode.
    pub id: Identity,
    /// The number of names of the inode.
    pub names: u64,
    /// The device number of a device node, else 0.
    pub rdev: u64,
}
