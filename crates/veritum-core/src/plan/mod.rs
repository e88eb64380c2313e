//! What is to be done: pure functions from findings and rules to ordered actions, and to what is left alone and why.

mod inverse;

pub use inverse::{ActionOutcome, Placed, inverse};

use serde::{Deserialize, Serialize};

use crate::model::{Action, ActionKind, Digest, Finding, FindingId, LinkTarget, PackageId, Stat, Subject, SystemPath};

/// Where a file really is, and what is there; none when it is no place that can be written.
pub type PlaceOf<'a> = dyn Fn(&SystemPath) -> Option<(SystemPath, Option<Stat>)> + 'a;

/// One thing to be done at one place. Written into the change log as it is, before anything happens.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct PlannedAction {
    /// Its number within the round, from 1.
    pub index: u32,
    /// The findings that it answers.
    pub findings: Vec<FindingId>,
    /// The path as the machine lists it.
    pub listed: SystemPath,
    /// The place, without links on the way.
    pub place: SystemPath,
    /// Whose it is.
    pub package: Option<PackageId>,
    /// What is there now; none when nothing does.
    pub before: Option<Stat>,
    /// What is done.
    pub operation: Operation,
    /// The action of the change that is undone which it reverts, wholly or in part; `None` unless it is part of an undo.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reverts: Option<ActionKey>,
}

impl PlannedAction {
    /// An operation at a place, without findings or a package; number 1 until a [`Plan`] numbers it.
    #[must_use]
    pub fn new(place: SystemPath, before: Option<Stat>, operation: Operation) -> Self {
        let (listed, findings) = (place.clone(), Vec::new());
        Self { index: 1, findings, listed, place, package: None, before, operation, reverts: None }
    }
}

/// Names an action within a change.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct ActionKey {
    /// The round, from 1.
    pub round: u32,
    /// The action's number within the round, from 1.
    pub index: u32,
}

/// What is done at a place.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Operation {
    /// Put these items there, the first being the thing itself; what is there is kept.
    Put(Vec<Item>),
    /// Set owner and mode.
    SetMeta {
        /// Mode bits.
        mode: u32,
        /// User number.
        uid: u32,
        /// Group number.
        gid: u32,
    },
    /// Put back what an earlier change keeps; what is there now is kept in turn.
    Return {
        /// The earlier change.
        change: u64,
        /// Its round.
        round: u32,
        /// The action's number in it.
        index: u32,
        /// What is kept there.
        kept: Placed,
        /// The kept folder that it is in.
        folder: KeptFolder,
    },
    /// Move what is there to the backups.
    SetAside,
    /// Delete what can be downloaded again, to free space. The only operation that cannot be undone.
    Free,
}

impl Operation {
    /// What it is, as it is reported.
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

/// In which folder contents are kept: the one of the state folder, or one of their own file system.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum KeptFolder {
    /// `kept/N` in the state folder.
    State,
    /// `.veritum-kept/N` in that folder, the top of a file system.
    Top(SystemPath),
    /// That folder in `.veritum-set-aside` of the home that the change is about; things lie there under the paths that they had.
    Aside(String),
}

/// One thing of what is put.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Item {
    /// Where below the place; `/` is the place itself.
    pub below: SystemPath,
    /// The kind.
    pub kind: ItemKind,
    /// Mode bits.
    pub mode: u32,
    /// User number.
    pub uid: u32,
    /// Group number.
    pub gid: u32,
    /// Modification time, seconds.
    pub mtime: i64,
}

/// What kind of thing is put.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ItemKind {
    /// A file with a content from the source.
    File {
        /// Bytes.
        size: u64,
        /// BLAKE3.
        digest: Digest,
    },
    /// A hard link of a intact file of the machine.
    NameOf {
        /// That file.
        place: SystemPath,
        /// What it must be.
        digest: Digest,
    },
    /// A hard link of what another action puts.
    NameOfAction {
        /// That action's number.
        index: u32,
        /// What it must be.
        digest: Digest,
    },
    /// A hard link of another item of the same action.
    NameOfItem {
        /// That item's place below.
        below: SystemPath,
    },
    /// A folder.
    Folder,
    /// A link.
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

/// A finding that nothing is done about.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Left {
    /// The finding.
    pub finding: FindingId,
    /// What it is about.
    pub subject: Subject,
    /// Where, when it is about a path.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub path: Option<SystemPath>,
    /// The reason.
    pub reason: String,
    /// What a person should do.
    pub action: Option<Action>,
}

impl Left {
    /// That a finding is left, and why.
    #[must_use]
    pub fn new(finding: &Finding, reason: String, action: Option<Action>) -> Self {
        let path = finding.subject.as_path().cloned();
        Self { finding: finding.id.clone(), subject: finding.subject.clone(), path, reason, action }
    }
}

/// A reason to stop before anything is written.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum DiskDoubt {
    /// The medium gave read errors.
    ReadErrors {
        /// On so many files.
        files: u64,
    },
    /// The kernel has marked the file system with errors.
    MarkedErrors {
        /// So many.
        errors: u64,
    },
    /// Many unrelated files are altered.
    ManyUnrelated {
        /// So many files.
        files: u64,
        /// Of so many packages.
        packages: u64,
    },
}

/// What is to be done, and what is not.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Plan {
    /// The actions, in order.
    pub actions: Vec<PlannedAction>,
    /// What is left, with the reasons.
    pub left: Vec<Left>,
    /// A doubt about the disk: nothing is written until the administrator says so.
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
