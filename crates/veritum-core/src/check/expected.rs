//! [`Expected`]: one thing that should be somewhere; and what a check is asked to look at, by which rules.

use crate::model::{Area, Authority, Digest, Md5, SystemPath};
use crate::platform::Component;

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
    /// Whose it is: position in [`Reference::components`](super::Reference::components).
    pub component: usize,
    /// Further components that ship the same thing (folders, shared files).
    pub also: Vec<usize>,
    /// Who answers for it.
    pub authority: Authority,
    /// What.
    pub kind: ExpectedKind,
    /// How; nothing is known of it from the machine's own records.
    pub meta: Option<Meta>,
    /// Other owners and modes that other components give the same folder.
    pub other_metas: Vec<Meta>,
    /// What the administrator's override says.
    pub overridden: Option<Meta>,
    /// Whether it is a settings file.
    pub settings: bool,
    /// Whether the component's own scripts set owner, mode or privileges.
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

/// An installed component with who answers for it.
#[derive(Debug, Clone)]
pub struct Owned {
    /// The component.
    pub component: Component,
    /// Who answers for it.
    pub authority: Authority,
}

/// What the caller wants to be looked at.
#[derive(Debug, Clone, Default)]
pub struct Scope {
    /// The areas that were named; without any, all that are there, or, when paths or components are named, their files.
    pub areas: Vec<Area>,
    /// Only these paths and what lies below them; empty for all.
    pub paths: Vec<SystemPath>,
    /// Only these components; empty for all.
    pub components: Vec<String>,
    /// Only these applications, by their ids; empty for all.
    pub apps: Vec<String>,
}

impl Scope {
    /// Whether all files are looked at, when files are.
    #[must_use]
    pub fn is_all(&self) -> bool {
        self.paths.is_empty() && self.components.is_empty()
    }

    /// Whether nothing was named at all.
    #[must_use]
    pub fn is_whole(&self) -> bool {
        self.is_all() && self.areas.is_empty() && self.apps.is_empty()
    }

    /// Whether an area was named.
    #[must_use]
    pub fn names(&self, area: Area) -> bool {
        self.areas.contains(&area)
    }

    /// Whether an area is to be looked at.
    #[must_use]
    pub fn wants(&self, area: Area) -> bool {
        let named = match area {
            // Of a record nothing is known among the files.
            Area::Files => !self.components.is_empty() || self.paths.iter().any(|path| !is_record(path)),
            // A component is what its records say of it; and a record can be named by its path.
            Area::Records => self.areas.is_empty() && (!self.components.is_empty() || self.paths.iter().any(is_record)),
            Area::Apps => !self.apps.is_empty(),
            Area::Store | Area::Updates => false,
        };
        // Updates and applications are looked at when they are named.
        let by_itself = !matches!(area, Area::Updates | Area::Apps);
        self.is_whole() && by_itself || self.names(area) || named
    }
}

/// Whether a path lies in the package database.
fn is_record(path: &SystemPath) -> bool {
    path.is_within(&SystemPath::literal("/var/lib/dpkg"))
}

/// Rules that the operator sets.
#[derive(Debug, Clone, Default)]
pub struct Policy {
    /// Every owner is expected to be this user and group, and owners are not judged (a machine built by an ordinary
    /// user).
    pub owner_of_root: Option<(u32, u32)>,
}
