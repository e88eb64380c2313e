//! [`Expected`]: one expected file, folder or link, and the rules by which it is judged.

use crate::model::{Authority, Digest, Md5, SystemPath};
use crate::platform::Package;

/// What is expected.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ExpectedKind {
    /// A file with that content.
    File {
        /// Its size in bytes.
        size: u64,
        /// BLAKE3.
        digest: Digest,
    },
    /// A file of which only a recorded MD5 is known.
    Recorded(Md5),
    /// Anything; the package database does not record the type.
    Something,
    /// A folder.
    Folder,
    /// A symlink with that target.
    Link(Vec<u8>),
    /// A named pipe.
    Fifo,
    /// A device.
    Device {
        /// Whether it is a block device.
        block: bool,
        /// Major number.
        major: u32,
        /// Minor number.
        minor: u32,
    },
}

/// Expected owner, mode and time.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Meta {
    /// Mode bits.
    pub mode: u32,
    /// User id on this machine.
    pub uid: u32,
    /// Group id on this machine.
    pub gid: u32,
    /// Modification time, seconds.
    pub mtime: i64,
}

/// One expected file, folder or link.
#[derive(Debug, Clone)]
pub struct Expected {
    /// Its path in the listed spelling, after diversions.
    pub listed: SystemPath,
    /// The package that owns it: position in [`Reference::packages`](super::Reference::packages).
    pub package: usize,
    /// The authority that verifies it.
    pub authority: Authority,
    /// The kind.
    pub kind: ExpectedKind,
    /// Owner, mode and time; `None` if only the local package database is available.
    pub meta: Option<Meta>,
    /// Whether it is a configuration file.
    pub settings: bool,
    /// Whether the package's own scripts set owner, mode or capabilities.
    pub configured: bool,
    /// Whether they set capabilities without asking the administrator.
    pub capable: bool,
    /// Its hard-link group: position in [`Reference::groups`](super::Reference::groups).
    pub group: Option<u32>,
    /// What few entries have. A check of a whole system holds a hundred thousand of them.
    pub rare: Option<Box<Rare>>,
}

/// What few expected entries have.
#[derive(Debug, Clone, Default)]
pub struct Rare {
    /// Further packages that ship the same (folders, shared files).
    pub also: Vec<usize>,
    /// Other owners and modes that other packages give the same folder.
    pub other_metas: Vec<Meta>,
    /// The administrator's override.
    pub overridden: Option<Meta>,
}

impl Expected {
    /// Further packages that ship the same (folders, shared files).
    #[must_use]
    pub fn also(&self) -> &[usize] {
        self.rare.as_ref().map_or(&[], |rare| &rare.also)
    }

    /// Other owners and modes that other packages give the same folder.
    #[must_use]
    pub fn other_metas(&self) -> &[Meta] {
        self.rare.as_ref().map_or(&[], |rare| &rare.other_metas)
    }

    /// The administrator's override.
    #[must_use]
    pub fn overridden(&self) -> Option<Meta> {
        self.rare.as_ref().and_then(|rare| rare.overridden)
    }

    /// What few entries have, to be changed.
    pub(crate) fn rare_mut(&mut self) -> &mut Rare {
        self.rare.get_or_insert_default()
    }
}

/// Names of one file.
#[derive(Debug, Clone, Default)]
pub struct Group {
    /// Positions in [`Reference::expected`](super::Reference::expected).
    pub members: Vec<usize>,
}

/// An installed package and the authority that verifies it.
#[derive(Debug, Clone)]
pub struct Owned {
    /// The package.
    pub package: Package,
    /// The authority.
    pub authority: Authority,
}

/// The administrator's rules.
#[derive(Debug, Clone, Default)]
pub struct Policy {
    /// Every owner is expected to be this user and group, and owners are not compared (a machine built by an ordinary
    /// user).
    pub owner_of_root: Option<(u32, u32)>,
}
