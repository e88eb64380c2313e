//! [`Record`]: what a change log says, a line each.

use serde::{Deserialize, Serialize};

use crate::apps::{Bases, RawCard};
use crate::model::{AreaName, Identity, Instant, SystemPath};
use crate::plan::{ActionKey, ActionOutcome, KeptFolder, PlannedAction};
use crate::platform::services::PausedUnit;

/// What a change is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Verb {
    /// It repairs things.
    Repair,
    /// It takes another change back.
    Undo,
    /// It sets an application's things in a home aside.
    Reset,
}

/// The home that a change is about: it touches nothing else, and of it nothing but what the card calls the application's.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct HomeOf {
    /// The user.
    pub user: String,
    /// The user's number.
    pub owner: u32,
    /// Where it is, without links on the way.
    pub place: SystemPath,
    /// The application's id.
    pub app: String,
    /// What is the application's there.
    pub card: RawCard,
    /// Where the base directories lie.
    pub bases: Bases,
}

/// The first record.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Begin {
    /// `veritum.journal/1`, `/2` or `/3`.
    pub format: String,
    /// The version of Veritum that writes it.
    pub writer: String,
    /// The change's number.
    pub change: u64,
    /// What it is for.
    pub verb: Verb,
    /// The area that it changes.
    pub area: AreaName,
    /// Which change it undoes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub of: Option<u64>,
    /// The home that it is about; none when it is about the system.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub home: Option<Box<HomeOf>>,
    /// When it began.
    pub started: jiff::Timestamp,
    /// Names the run that made it: changes of one run are undone together.
    pub run: String,
}

/// A folder whose modification time is put back afterwards.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ParentTime {
    /// The folder.
    pub place: SystemPath,
    /// Its time before.
    pub mtime: Instant,
    /// In which kept folder what is displaced there goes.
    pub keeps: KeptFolder,
}

/// In which kept folder what is displaced in that folder goes. Folders are written in the order of their paths.
pub(super) fn keeps_of(parents: &[ParentTime], folder: &SystemPath) -> KeptFolder {
    let found = parents.binary_search_by(|parent| parent.place.cmp(folder));
    found.map_or(KeptFolder::State, |at| parents[at].keeps.clone())
}

/// A place whose locking attributes are cleared for the time of a round.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ClearedFlags {
    /// The place.
    pub place: SystemPath,
    /// Its inode flags before.
    pub flags: u32,
}

/// A record.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "record", rename_all = "kebab-case")]
pub enum Record {
    /// A change begins.
    Begin(Begin),
    /// What a round is going to do.
    Plan {
        /// The round, from 1.
        round: u32,
        /// Its actions.
        actions: Vec<PlannedAction>,
        /// The folders that they are in.
        parents: Vec<ParentTime>,
        /// Places whose locking attributes are cleared meanwhile.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        cleared: Vec<ClearedFlags>,
        /// The actions of the change that is undone which are wholly reverted once this round is done, unless one of the
        /// actions that revert them fails.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        settles: Vec<ActionKey>,
    },
    /// Everything is staged: from here on the round is finished rather than undone.
    Commit {
        /// The round.
        round: u32,
        /// Which inodes were staged, by action.
        staged: Vec<(u32, Identity)>,
        /// Actions that were given up while staging, with the reason.
        given_up: Vec<(u32, String)>,
    },
    /// The round is undone after its commit record (the disk was full).
    Back {
        /// The round.
        round: u32,
    },
    /// All of the round took effect.
    Done {
        /// The round.
        round: u32,
        /// What came of each action.
        outcomes: Vec<ActionOutcome>,
    },
    /// None of the round took effect.
    TakenBack {
        /// The round.
        round: u32,
        /// The reason.
        why: String,
    },
    /// These units are going to be held, and those of them that run stopped.
    Paused {
        /// The units, in order, with how they was before.
        units: Vec<PausedUnit>,
    },
    /// They are as they were.
    Resumed,
    /// The system's own tool is asked to do something.
    Delegated {
        /// What, in a word.
        what: String,
        /// What it is done to.
        subject: String,
        /// How that was before.
        before: String,
    },
    /// What became of it.
    DelegatedDone {
        /// Why it was not done; none when it was.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        failed: Option<String>,
    },
    /// The change has ended.
    End {
        /// The ended.
        ended: jiff::Timestamp,
        /// How many findings it answered.
        answered: u64,
        /// How many remain.
        remaining: u64,
    },
    /// What it had displaced is no longer kept, to limit the space that backups take. Follows the end.
    Released {
        /// The time.
        at: jiff::Timestamp,
    },
}

impl Record {
    /// The record's kind as it is written.
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
            Self::End { .. } => "end",
            Self::Released { .. } => "released",
        }
    }
}
