//! [`Record`]: one line of a change log.

use serde::{Deserialize, Serialize};

use crate::apps::{Bases, RawCard};
use crate::model::{AreaName, Identity, Instant, SystemPath};
use crate::plan::{ActionKey, ActionOutcome, DiskWrite, KeptFolder, PlannedAction, ToolChange};
use crate::platform::services::PausedUnit;

/// The purpose of a change.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Verb {
    /// A repair.
    Repair,
    /// Undoing another change.
    Undo,
    /// Setting an application's data in a home aside.
    Reset,
    /// Restoring a user's rescued files in the home.
    RescueBack,
    /// Returning the system to a savepoint.
    Return,
    /// Switching automatic savepoints on or off.
    Automatic,
}

/// The home of a change: it touches nothing else, and there only the application's data by its card; without one all of the
/// user's files.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct HomeOf {
    /// The user.
    pub user: String,
    /// The user's id.
    pub owner: u32,
    /// Its path, without symlinks.
    pub place: SystemPath,
    /// The application's id.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub app: String,
    /// The application's data there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub card: Option<RawCard>,
    /// The base directories.
    pub bases: Bases,
}

/// What a change is for.
#[derive(Debug, Clone)]
pub struct Purpose {
    /// Its verb.
    pub verb: Verb,
    /// Its area.
    pub area: AreaName,
    /// The change that it undoes.
    pub of: Option<u64>,
    /// The savepoint that it returns to.
    pub savepoint: Option<u64>,
}

impl Purpose {
    /// A change that neither undoes another one nor returns to a savepoint.
    #[must_use]
    pub fn new(verb: Verb, area: AreaName) -> Self {
        Self { verb, area, of: None, savepoint: None }
    }
}

/// The first record.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Begin {
    /// `veritum.journal/1`.
    pub format: String,
    /// The version of Veritum.
    pub writer: String,
    /// The change's number.
    pub change: u64,
    /// Its purpose.
    pub verb: Verb,
    /// Its area.
    pub area: AreaName,
    /// The change that it undoes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub of: Option<u64>,
    /// The savepoint that it returned to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub savepoint: Option<u64>,
    /// The home that it concerns; `None` when it concerns the system.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub home: Option<Box<HomeOf>>,
    /// The time.
    pub started: jiff::Timestamp,
    /// Identifies the run: changes of one run are undone together.
    pub run: String,
}

/// A folder whose modification time is set afterwards.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ParentTime {
    /// The folder.
    pub place: SystemPath,
    /// Its earlier time.
    pub mtime: Instant,
    /// The time that it gets; `None` for the earlier one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub after: Option<Instant>,
    /// The backup folder for what is displaced there.
    pub keeps: KeptFolder,
}

/// The backup folder for what is displaced in that folder. Folders are recorded in the order of their paths.
pub(super) fn keeps_of(parents: &[ParentTime], folder: &SystemPath) -> KeptFolder {
    let found = parents.binary_search_by(|parent| parent.place.cmp(folder));
    found.map_or(KeptFolder::State, |at| parents[at].keeps.clone())
}

/// A place whose locking attributes are cleared during a round.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ClearedFlags {
    /// The path.
    pub place: SystemPath,
    /// Its earlier inode flags.
    pub flags: u32,
}

/// A record.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "record", rename_all = "kebab-case")]
pub enum Record {
    /// A change begins.
    Begin(Begin),
    /// The plan of a round.
    Plan {
        /// The round, from 1.
        round: u32,
        /// Its actions.
        actions: Vec<PlannedAction>,
        /// The folders that contain their places.
        parents: Vec<ParentTime>,
        /// Places whose locking attributes are cleared during the round.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        cleared: Vec<ClearedFlags>,
        /// The actions of the undone change that are completely reverted once this round is done, unless one of the
        /// actions that revert them fails.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        settles: Vec<ActionKey>,
        /// Whether all of its actions take effect or none.
        #[serde(default, skip_serializing_if = "std::ops::Not::not")]
        whole: bool,
    },
    /// Everything is staged: from here on the round is completed rather than undone.
    Commit {
        /// The round.
        round: u32,
        /// The staged inodes, by action.
        staged: Vec<(u32, Identity)>,
        /// Actions that failed while staging, with the reason.
        given_up: Vec<(u32, String)>,
    },
    /// The round is undone after its commit record (the disk was full, or one of the actions of a whole round failed).
    Back {
        /// The round.
        round: u32,
    },
    /// All of the round took effect.
    Done {
        /// The round.
        round: u32,
        /// The result of each action.
        outcomes: Vec<ActionOutcome>,
    },
    /// None of the round took effect.
    TakenBack {
        /// The round.
        round: u32,
        /// The reason.
        why: String,
        /// The actions whose displaced object stays in the backups, as another program has put something in its place since.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        kept: Vec<u32>,
    },
    /// These units are going to be stopped and prevented from starting.
    Paused {
        /// The units, in order, with their earlier state.
        units: Vec<PausedUnit>,
    },
    /// The units are restored.
    Resumed,
    /// A tool of the system is going to be run.
    Delegated {
        /// The task.
        what: String,
        /// The subject.
        subject: String,
        /// The earlier state.
        before: String,
        /// What it changes, if another run of the tool undoes it.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        changes: Option<Box<ToolChange>>,
        /// The run of the undone change that it reverts; `None` unless it is part of an undo.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        reverts: Option<ActionKey>,
    },
    /// The result of that.
    DelegatedDone {
        /// Why it was not done; `None` when it was.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        failed: Option<String>,
    },
    /// Bytes of a disk are going to be written; what is there, and what is written, is in the state folder.
    Disk {
        /// `veritum.journal/2`: an older version knows by it that the log is a newer one.
        format: String,
        /// The task.
        what: String,
        /// The subject.
        subject: String,
        /// The bytes.
        write: Box<DiskWrite>,
        /// The write of the undone change that it reverts; `None` unless it is part of an undo.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        reverts: Option<ActionKey>,
    },
    /// The result of that: all of the bytes are the new ones, or the old ones.
    DiskDone {
        /// Why they are the old ones; `None` when they are the new ones.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        failed: Option<String>,
    },
    /// The change has ended.
    End {
        /// The time.
        ended: jiff::Timestamp,
        /// The number of findings answered.
        answered: u64,
        /// The number of findings remaining.
        remaining: u64,
    },
    /// Its backups were deleted to limit their space. Follows the end.
    Released {
        /// The time.
        at: jiff::Timestamp,
    },
}

impl Record {
    /// The kind of the record, as written.
    #[must_use]
    pub fn kind(&self) -> &'static str {
        match self {
            Self::Begin(_) => "begin",
            Self::Plan { .. } => "plan",
            Self::Commit { .. } => "commit",
            Self::Back { .. } => "back",
            Self::Done { .. } => "done",
            Self::TakenBack { .. } => "taken-back",
            Self::Paused { .. } => "paused",
            Self::Resumed => "resumed",
            Self::Delegated { .. } => "delegated",
            Self::DelegatedDone { .. } => "delegated-done",
            Self::Disk { .. } => "disk",
            Self::DiskDone { .. } => "disk-done",
            Self::End { .. } => "end",
            Self::Released { .. } => "released",
        }
    }
}
