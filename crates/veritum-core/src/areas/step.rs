//! [`Step`]: one change that a repair would make, and its place in the preview.

use std::collections::HashMap;
use std::fmt::Debug;
use std::sync::Arc;

use super::Cx;
use super::store::StoreRepairPlan;
use crate::model::{ActionKind, Digest, SystemPath};
use crate::plan::Plan;
use crate::platform::services::PausedUnit;
use crate::report::ActionReport;
use crate::system::WorkError;

/// One change, and what is shown of it before.
#[derive(Debug, Clone)]
pub struct Step {
    /// What is shown: what is agreed to.
    pub shows: Vec<ActionReport>,
    /// Remarks for the user before the question, one sentence each.
    pub remarks: Vec<String>,
    /// What is done.
    pub work: Work,
    /// When it is carried out.
    pub when: When,
    /// What is known of the rest before it is done.
    pub after: After,
}

impl Step {
    /// A step that is carried out in order and leaves other findings as they are.
    #[must_use]
    pub fn new(shows: Vec<ActionReport>, work: Work) -> Self {
        Self { shows, remarks: Vec::new(), work, when: When::InTurn, after: After::Known }
    }

    /// Adds a remark that the user reads before the question.
    #[must_use]
    pub fn remarked(mut self, remark: impl Into<String>) -> Self {
        self.remarks.push(remark.into());
        self
    }
}

/// When a step is carried out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum When {
    /// In the order of the list.
    InTurn,
    /// After the area was [confirmed](super::Area::confirm); if that failed, the step is skipped for this reason.
    Confirmed(&'static str),
}

/// What is known, before a step is done, of what comes after it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum After {
    /// It stays as it is known.
    Known,
    /// It is examined again, and may be something else then.
    LookedAtAgain,
    /// Nothing is known of it yet.
    Unknown,
}

/// What a step does.
#[derive(Debug, Clone)]
pub enum Work {
    /// Puts, sets aside or alters files of the machine, as the log of a change says: it can be undone.
    Files(FileWork),
    /// Like `Files`, with files that must be fetched first.
    Fetched(Arc<dyn Fetch>),
    /// Has one of the system's own tools do something: it is logged, and not undone.
    Tool(ToolRun),
    /// Stops units of the service manager until the area is done.
    Pause(Vec<PausedUnit>),
    /// Resets the failed state of a unit.
    ForgetFailure(String),
    /// Puts the trusted store right: that is the administrator's, not the machine's.
    Store(Box<StoreRepairPlan>),
}

impl Work {
    /// Whether it alters the machine.
    #[must_use]
    pub fn is_on_machine(&self) -> bool {
        !matches!(self, Self::Store(_))
    }

    /// Whether it is tried at most once in a run.
    #[must_use]
    pub fn is_tried_once(&self) -> bool {
        !matches!(self, Self::Files(_) | Self::Store(_))
    }
}

/// Files that are put, set aside or altered.
#[derive(Debug, Clone, Default)]
pub struct FileWork {
    /// What is done at each place.
    pub plan: Plan,
    /// Contents that were made here; the others are taken from the supply.
    pub made: HashMap<Digest, Vec<u8>>,
    /// Whether the files were downloaded again, rather than restored.
    pub renews: bool,
}

/// Files that must be fetched before the plan is known.
pub trait Fetch: Debug + Send + Sync {
    /// Fetches the files and plans the changes; writes nothing to the machine.
    ///
    /// # Errors
    /// If the run was stopped.
    fn fetch(&self, cx: &Cx<'_>) -> Result<FileWork, WorkError>;
}

/// One of the system's own tools, and what it is asked to do.
#[derive(Debug, Clone)]
pub struct ToolRun {
    /// What, as the log of the change has it.
    pub action: ActionKind,
    /// How things was before, in a word, as the log has it.
    pub before: &'static str,
    /// The tool, by its path on the machine.
    pub program: &'static str,
    /// Its words.
    pub words: Vec<String>,
    /// Its additional environment variables.
    pub environment: &'static [(&'static str, &'static str)],
    /// The package tools' locks that it takes itself.
    pub takes_locks: Vec<SystemPath>,
    /// Whether it runs scripts of packages, which may change anything on the machine.
    pub runs_scripts: bool,
    /// What it is called to people.
    pub called: &'static str,
    /// The command that a person would type.
    pub by_hand: String,
}
