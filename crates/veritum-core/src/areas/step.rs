//! [`Step`]: one change that a repair would make, and its place in the preview.

use std::collections::HashMap;

use super::store::StoreRepairPlan;
use crate::model::{ActionKind, Digest};
use crate::plan::Plan;
use crate::report::ActionReport;

/// One change, and what is shown of it before.
#[derive(Debug, Clone)]
pub struct Step {
    /// What is shown: what is agreed to.
    pub shows: Vec<ActionReport>,
    /// What is done.
    pub work: Work,
    /// What is known of the rest before it is done.
    pub after: After,
}

/// What is known, before a step is done, of what comes after it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum After {
    /// It stays as it is known.
    Known,
    /// It is looked at again, and may be something else then.
    LookedAtAgain,
    /// Nothing is known of it yet.
    Unknown,
}

/// What a step does.
#[derive(Debug, Clone)]
pub enum Work {
    /// Puts, sets aside or alters files of the machine, as the log of a change says: it can be undone.
    Files(FileWork),
    /// Has one of the system's own tools do something: it is logged, and not taken back.
    Tool(ToolRun),
    /// Puts the trusted store right: that is the administrator's, not the machine's.
    Store(Box<StoreRepairPlan>),
}

impl Work {
    /// Whether it alters the machine.
    #[must_use]
    pub fn is_on_machine(&self) -> bool {
        !matches!(self, Self::Store(_))
    }
}

/// Files that are put, set aside or altered.
#[derive(Debug, Clone, Default)]
pub struct FileWork {
    /// What is done at each place.
    pub plan: Plan,
    /// Contents that were made here; the others are taken from the supply.
    pub made: HashMap<Digest, Vec<u8>>,
}

/// One of the system's own tools, and what it is asked to do.
#[derive(Debug, Clone)]
pub struct ToolRun {
    /// What, as the log of the change has it.
    pub action: ActionKind,
    /// How things stood before, in a word, as the log has it.
    pub before: &'static str,
    /// The tool, by its path on the machine.
    pub program: &'static str,
    /// Its words.
    pub words: Vec<String>,
    /// What it is called to people.
    pub called: &'static str,
    /// The command that a person would type.
    pub by_hand: String,
}
