//! Plans: pure functions from findings and rules to ordered actions, and to what is not repaired, with the reason.

mod disk_write;
mod firmware_change;
mod inverse;
mod tool_change;

pub use disk_write::{DiskIdentity, DiskRange, DiskWrite, VolumeIdentity};
pub use firmware_change::{FirmwareChange, VariableChange};
pub use inverse::{ActionOutcome, Placed, inverse};
pub use tool_change::{Correction, CountsChange, ToolChange};

use serde::{Deserialize, Serialize};

use crate::model::{Action, ActionKind, Digest, Finding, FindingId, LinkTarget, PackageId, Stat, Subject, SystemPath};

/// The real location of a file, and what is there; `None` when it is not a place that can be written.
pub type PlaceOf<'a> = dyn Fn(&SystemPath) -> Option<(SystemPath, Option<Stat>)> + 'a;

/// One action at one place. Written to the change log unchanged, before anything happens.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct PlannedAction {
    /// Its number within the round, from 1.
    pub index: u32,
    /// The findings that it answers.
    pub findings: Vec<FindingId>,
    /// The path as the machine lists it.
    pub listed: SystemPath,
    /// The place, without symlinks in its path.
    pub place: SystemPath,
    /// The package that owns it.
    pub package: Option<PackageId>,
    /// The object there, if any.
    pub before: Option<Stat>,
    /// The operation.
    pub operation: Operation,
    /// The action of the undone change that it reverts, completely or in part; `None` unless it is part of an undo.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reverts: Option<ActionKey>,
}

impl PlannedAction {
    /// An operation at a place, without findings or a package; number 1 until a [`Plan`] assigns one.
    #[must_use]
    pub fn new(place: SystemPath, before: Option<Stat>, operation: Operation) -> Self {
        let (listed, findings) = (place.clone(), Vec::new());
        Self { index: 1, findings, listed, place, package: None, before, operation, reverts: None }
    }
}

/// Identifies an action within a change: in a round, or in round 0 one of the system's own tools.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct ActionKey {
    /// The round, from 1; 0 for runs of the system's own tools.
    pub round: u32,
    /// The action's number within the round, from 1.
    pub index: u32,
}

/// The operation at a place.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Operation {
    /// Create these items there, the first at the place itself; the existing object is kept.
    Put(Vec<Item>),
    /// Set owner and mode.
    SetMeta {
        /// Mode bits.
        mode: u32,
        /// User id.
        uid: u32,
        /// Group id.
        gid: u32,
    },
    /// Restore what an earlier change keeps; the existing object is kept in turn.
    Return {
        /// The earlier change.
        change: u64,
        /// Its round.
        round: u32,
        /// The action's number in it.
        index: u32,
        /// The kept object.
        kept: Placed,
        /// Its backup folder.
        folder: KeptFolder,
    },
    /// Move the existing object to the backups.
    SetAside,
    /// Delete what can be downloaded again, to free space. The only operation that cannot be undone.
    Free,
}

impl Operation {
    /// The kind of action, for reports.
    #[must_use]
    pub fn kind(&self) -> ActionKind {
        let is_name = |item: &Item| matches!(item.kind, ItemKind::NameOf { .. } | ItemKind::NameOfAction { .. });
        match self {
            Self::Put(items) if items.first().is_some_and(is_name) => ActionKind::Relink,
            Self::Put(_) => ActionKind::Restore,
            Self::SetMeta { .. } => ActionKind::SetMode,
            Self::Return { .. } => ActionKind::BringBack,
            Self::SetAside => ActionKind::SetAside,
            Self::Free => ActionKind::Free,
        }
    }
}

/// The folder of backups: in the state folder, or on the file system of what is kept.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum KeptFolder {
    /// `kept/N` in the state folder.
    State,
    /// `.veritum-kept/N` in that folder, the root of a file system.
    Top(SystemPath),
    /// That folder in `.veritum-set-aside` of the home that the change concerns, under the original paths.
    Aside(String),
}

/// One item that an operation creates.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Item {
    /// Its path relative to the place; `/` is the place itself.
    pub below: SystemPath,
    /// The kind.
    pub kind: ItemKind,
    /// Mode bits.
    pub mode: u32,
    /// User id.
    pub uid: u32,
    /// Group id.
    pub gid: u32,
    /// Modification time, seconds.
    pub mtime: i64,
    /// Its nanoseconds: packages have none, users' files have.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub nanos: u32,
    /// Attributes that users set, each with its value in hexadecimal.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub attributes: Vec<(String, String)>,
    /// Whether these attributes are all that it has: none is copied from the file that it replaces.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub complete: bool,
}

impl Item {
    /// An item with a time in whole seconds, and without attributes.
    #[must_use]
    pub fn new(below: SystemPath, kind: ItemKind, mode: u32, (uid, gid): (u32, u32), mtime: i64) -> Self {
        Self { below, kind, mode, uid, gid, mtime, nanos: 0, attributes: Vec::new(), complete: false }
    }
}

#[allow(clippy::trivially_copy_pass_by_ref, reason = "the signature that serde calls")]
fn is_zero(number: &u32) -> bool {
    *number == 0
}

/// The kind of an item.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ItemKind {
    /// A file with a content from the source.
    File {
        /// Its size in bytes.
        size: u64,
        /// BLAKE3.
        digest: Digest,
    },
    /// A hard link to an intact file of the machine.
    NameOf {
        /// That file.
        place: SystemPath,
        /// Its expected content.
        digest: Digest,
    },
    /// A hard link to what another action creates.
    NameOfAction {
        /// That action's number.
        index: u32,
        /// The file's path relative to that action's place, if it is in a folder that the action creates.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        below: Option<SystemPath>,
        /// Its expected content.
        digest: Digest,
    },
    /// A hard link to another item of the same action.
    NameOfItem {
        /// That item's relative path.
        below: SystemPath,
    },
    /// A folder.
    Folder,
    /// A symlink.
    Link(LinkTarget),
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

/// A finding that is not repaired.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Left {
    /// The finding.
    pub finding: FindingId,
    /// Its subject.
    pub subject: Subject,
    /// Its path, if it is about one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub path: Option<SystemPath>,
    /// The reason.
    pub reason: String,
    /// What a person should do.
    pub action: Option<Action>,
}

impl Left {
    /// Records that a finding is not repaired, and why.
    #[must_use]
    pub fn new(finding: &Finding, reason: String, action: Option<Action>) -> Self {
        let path = finding.subject.as_path().cloned();
        Self { finding: finding.id.clone(), subject: finding.subject.clone(), path, reason, action }
    }
}

/// A reason not to write anything.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum DiskDoubt {
    /// The medium gave read errors.
    ReadErrors {
        /// The number of files.
        files: u64,
    },
    /// The kernel has marked the file system with errors.
    MarkedErrors {
        /// The number of errors.
        errors: u64,
    },
    /// Drives report that they are failing, or have places that they cannot read.
    Failing {
        /// The number of drives.
        drives: u64,
    },
    /// Many unrelated files are altered.
    ManyUnrelated {
        /// The number of files.
        files: u64,
        /// The number of their packages.
        packages: u64,
    },
}

/// A plan.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Plan {
    /// The actions, in order.
    pub actions: Vec<PlannedAction>,
    /// What is not repaired, with the reasons.
    pub left: Vec<Left>,
    /// A doubt about the disk: nothing is written until the administrator permits it.
    pub doubt: Option<DiskDoubt>,
}

impl Plan {
    /// The number of the next action.
    #[must_use]
    pub fn next_index(&self) -> u32 {
        u32::try_from(self.actions.len() + 1).unwrap_or(u32::MAX)
    }

    /// Adds an action and numbers it.
    pub fn push(&mut self, action: PlannedAction) {
        self.actions.push(PlannedAction { index: self.next_index(), ..action });
    }
}
