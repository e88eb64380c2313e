//! [`Entry`]: one file, folder or link that a package ships, as its .deb file describes it.

use std::borrow::Cow;

use super::{Digest, SystemPath};

/// What a package ships at a path.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum EntryKind {
    /// A regular file.
    File {
        /// Its size in bytes.
        size: u64,
        /// BLAKE3 of the content.
        digest: Digest,
        /// The first name of its hard-link group, if the package ships it as a hard link to another file.
        same_as: Option<SystemPath>,
    },
    /// A folder.
    Folder,
    /// A symlink.
    Link {
        /// Its target, in bytes.
        target: Vec<u8>,
    },
    /// A named pipe.
    Fifo,
    /// A character (`block` false) or block device.
    Device {
        /// Whether it is a block device.
        block: bool,
        /// Major number.
        major: u32,
        /// Minor number.
        minor: u32,
    },
}

impl EntryKind {
    /// The word for people and JSON.
    #[must_use]
    pub fn word(&self) -> &'static str {
        match self {
            Self::File { .. } => "file",
            Self::Folder => "folder",
            Self::Link { .. } => "link",
            Self::Fifo => "pipe",
            Self::Device { .. } => "device",
        }
    }
}

/// An owner as packages record it: the name counts if the machine has it, else the id.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Owner {
    /// The name; empty if the package records none. Nearly always root's, which needs no memory.
    pub name: Cow<'static, str>,
    /// The id recorded in the package.
    pub id: u32,
}

impl Owner {
    /// root, id 0.
    #[must_use]
    pub fn root() -> Self {
        Self { name: Cow::Borrowed("root"), id: 0 }
    }
}

/// One file, folder or link that a package ships.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// Its path, as the package spells it.
    pub path: SystemPath,
    /// Its kind.
    pub kind: EntryKind,
    /// The lower twelve bits of the mode.
    pub mode: u32,
    /// The owning user.
    pub user: Owner,
    /// The owning group.
    pub group: Owner,
    /// Modification time in seconds since the epoch.
    pub mtime: i64,
    /// Whether it is a configuration file (a conffile, Debian Policy 10.7).
    pub settings: bool,
    /// Whether the package's own scripts set its owner, mode or capabilities.
    pub configured: bool,
    /// Whether those scripts set capabilities (capabilities(7)), whatever the administrator configures.
    pub capable: bool,
}
