//! [`Expected`]: one thing that should be somewhere; and the rules by which it is judged.

use crate::model::{Authority, Digest, Md5, SystemPath};
use crate::platform::Package;

/// What should be there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ExpectedKind {
    /// A file of that content.
    File {
        /// Bytes.
        size: u64,
        /// BLAKE3.
        digest: Digest,
    },
    /// A file of which only a recorded MD5 is known.
    Recorded(Md5),
    /// Something; the machine's records do not say what.
    Something,
    /// A folder.
    Folder,
    /// A link with that target.
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

/// Owner, mode and time as they should be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Meta {
    /// Mode bits.
    pub mode: u32,
    /// User number on this machine.
    pub uid: u32,
    /// Group number on this machine.
    pub gid: u32,
    /// Modification time, seconds.
    pub mtime: i64,
}

/// One thing that should be there.
#[derive(Debug, Clone)]
pub struct Expected {
    /// Where, in the listed spelling, after diversions.
    pub listed: SystemPath,
    /// Whose it is: position in [`Reference::packages`](super::Reference::packages).
    pub package: usize,
    /// Further packages that ship the same thing (folders, shared files).
    pub also: Vec<usize>,
    /// Who answers for it.
    pub authority: Authority,
    /// The kind.
    pub kind: ExpectedKind,
    /// How; nothing is known of it from the local package database.
    pub meta: Option<Meta>,
    /// Other owners and modes that other packages give the same folder.
    pub other_metas: Vec<Meta>,
    /// What the administrator's override says.
    pub overridden: Option<Meta>,
    /// Whether it is a configuration file.
    pub settings: bool,
    /// Whether the package's own scripts set owner, mode or privileges.
    pub configured: bool,
    /// Whether they give it capabilities, whatever the administrator answers.
    pub capable: bool,
    /// Which hard-link group it belongs to: position in [`Reference::groups`](super::Reference::groups).
    pub group: Option<usize>,
}

/// Names that are one file.
#[derive(Debug, Clone, Default)]
pub struct Group {
    /// Positions in [`Reference::expected`](super::Reference::expected).
    pub members: Vec<usize>,
}

/// An installed package with who answers for it.
#[derive(Debug, Clone)]
pub struct Owned {
    /// The package.
    pub package: Package,
    /// Who answers for it.
    pub authority: Authority,
}

/// Rules that the administrator sets.
#[derive(Debug, Clone, Default)]
pub struct Policy {
    /// Every owner is expected to be this user and group, and owners are not judged (a machine built by an ordinary
    /// user).
    pub owner_of_root: Option<(u32, u32)>,
}
