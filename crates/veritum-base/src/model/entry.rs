//! [`Entry`]: one thing that a package ships, as its .deb file describes it.

use std::borrow::Cow;

use super::{Digest, SystemPath};

/// What a package ships at a path.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum EntryKind {
    /// A regular file of `size` bytes with that content.
    File {
        /// Bytes.
        size: u64,
        /// BLAKE3 of the content.
        digest: Digest,
        /// The first name of its hard-link group, when the package ships it as a hard link of another file.
        same_as: Option<SystemPath>,
    },
    /// A folder.
    Folder,
    /// A symbolic link with that target, as it is written.
    Link {
        /// The target's bytes.
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
    /// The word for people and for JSON.
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

/// An owner as packages name them: the name counts where the machine knows it, else the number.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Owner {
    /// The name, empty when the package gave none. Nearly always root's, which costs no memory.
    pub name: Cow<'static, str>,
    /// The number in the package.
    pub id: u32,
}

impl Owner {
    /// root, number 0.
    #[must_use]
    pub fn root() -> Self {
        Self { name: Cow::Borrowed("root"), id: 0 }
    }
}

/// One thing that a package ships.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// Where, in the spelling that the package uses.
    pub path: SystemPath,
    /// The kind.
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
    /// Whether the package's own scripts set its owner, mode or privileges.
    pub configured: bool,
    /// Whether they give it capabilities (capabilities(7)), whatever the administrator answers.
    pub capable: bool,
}
