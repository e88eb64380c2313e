//! [`Step`]: one change that a repair would make, and its place in the preview.

use std::collections::{BTreeSet, HashMap};
use std::fmt::Debug;
use std::path::PathBuf;
use std::sync::Arc;

use super::Cx;
use super::store::StoreRepairPlan;
use crate::devices::Patches;
use crate::model::{ActionKind, Digest, Stat, SystemPath};
use crate::plan::{Item, ItemKind, Operation, Plan, PlannedAction, ToolChange};
use crate::platform::services::PausedUnit;
use crate::report::ActionReport;
use crate::system::WorkError;

/// One change, and its preview.
#[derive(Debug, Clone)]
pub struct Step {
    /// The actions that the user agrees to.
    pub shows: Vec<ActionReport>,
    /// Remarks for the user before the question, one sentence each.
    pub remarks: Vec<String>,
    /// The work.
    pub work: Work,
    /// When it is carried out.
    pub when: When,
    /// What is known about later findings before it is done.
    pub after: After,
}

impl Step {
    /// A step that is carried out in order and does not affect other findings.
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

/// What is known, before a step is done, about later findings.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum After {
    /// They stay the same.
    Known,
    /// They are examined again, and may differ then.
    LookedAtAgain,
    /// Nothing is known yet.
    Unknown,
}

/// The work of a step.
#[derive(Debug, Clone)]
pub enum Work {
    /// Changes files of the machine through a change log: it can be undone.
    Files(FileWork),
    /// Like `Files`, with files that must be downloaded first.
    Fetched(Arc<dyn Fetch>),
    /// Runs one of the system's own tools: it is logged, and cannot be undone.
    Tool(ToolRun),
    /// Has one of the system's own tools change something that another run of it undoes.
    Change(ToolChange),
    /// Writes bytes of a disk through a change log: it can be undone.
    Disk(DiskWork),
    /// Stops units of the service manager until the area is done.
    Pause(Vec<PausedUnit>),
    /// Resets the failed state of a unit.
    ForgetFailure(String),
    /// Repairs the trusted store: it belongs to the administrator, not to the machine.
    Store(Box<StoreRepairPlan>),
}

impl Work {
    /// Whether it changes the machine.
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

/// Changes of files.
#[derive(Debug, Clone, Default)]
pub struct FileWork {
    /// The actions.
    pub plan: Plan,
    /// Generated contents; the others come from the supply.
    pub made: HashMap<Digest, Vec<u8>>,
    /// Whether the files were downloaded again, rather than restored.
    pub renews: bool,
    /// Why nothing can be changed, if something was to be made first and was not.
    pub failed: Option<String>,
}

impl FileWork {
    /// Adds a file with a content, which keeps the owner and the mode of what is there; a new one gets `owner`, and mode 0644. Returns its
    /// action, so far without findings.
    pub fn put(
        &mut self,
        (place, before): (SystemPath, Option<Stat>),
        content: Vec<u8>,
        owner: (u32, u32),
        mtime: i64,
    ) -> &mut PlannedAction {
        let digest = Digest::hash(&content);
        let kind = ItemKind::File { digest, size: content.len() as u64 };
        let (mode, owner) = before.map_or((0o644, owner), |before| (before.mode, (before.uid, before.gid)));
        let item = Item::new(SystemPath::root(), kind, mode, owner, mtime);
        self.made.insert(digest, content);
        let index = self.plan.actions.len() as u32 + 1;
        let action = PlannedAction::new(place, before, Operation::Put(vec![item]));
        self.plan.actions.push(PlannedAction { index, ..action });
        &mut self.plan.actions[index as usize - 1]
    }
}

impl FileWork {
    /// Adds a folder that does not exist, with files by their paths below it. Returns its action, so far without findings.
    pub fn put_folder(
        &mut self,
        place: SystemPath,
        files: Vec<(SystemPath, Vec<u8>)>,
        owner: (u32, u32),
        mtime: i64,
    ) -> &mut PlannedAction {
        let above = |path: &SystemPath| std::iter::successors(path.parent(), SystemPath::parent);
        let mut folders: BTreeSet<SystemPath> = files.iter().flat_map(|(below, _)| above(below)).collect();
        folders.insert(SystemPath::root());
        let folder = |below| Item::new(below, ItemKind::Folder, 0o755, owner, mtime);
        let mut items: Vec<Item> = folders.into_iter().map(folder).collect();
        for (below, content) in files {
            let digest = Digest::hash(&content);
            let kind = ItemKind::File { digest, size: content.len() as u64 };
            items.push(Item::new(below, kind, 0o644, owner, mtime));
            self.made.insert(digest, content);
        }
        let index = self.plan.actions.len() as u32 + 1;
        let action = PlannedAction::new(place, None, Operation::Put(items));
        self.plan.actions.push(PlannedAction { index, ..action });
        &mut self.plan.actions[index as usize - 1]
    }
}

/// Bytes of a disk.
#[derive(Debug, Clone)]
pub struct DiskWork {
    /// The disk's path.
    pub path: PathBuf,
    /// What is written.
    pub patches: Patches,
    /// The parts that are repaired, in words.
    pub parts: Vec<String>,
    /// Whether these are only its boot code and its partition table.
    pub only_start: bool,
}

/// Files that must be downloaded before the plan is known.
pub trait Fetch: Debug + Send + Sync {
    /// Downloads the files and plans the changes; writes nothing to the machine.
    ///
    /// # Errors
    /// If the run was stopped.
    fn fetch(&self, cx: &Cx<'_>) -> Result<FileWork, WorkError>;
}

/// One of the system's own tools, and its task.
#[derive(Debug, Clone)]
pub struct ToolRun {
    /// The task, as in the change log.
    pub action: ActionKind,
    /// The state before, as in the change log.
    pub before: &'static str,
    /// The tool, by its path on the machine.
    pub program: &'static str,
    /// Its arguments.
    pub words: Vec<String>,
    /// Its additional environment variables.
    pub environment: &'static [(&'static str, &'static str)],
    /// The package tools' locks that it takes itself.
    pub takes_locks: Vec<SystemPath>,
    /// Whether it runs packages' scripts, which may change anything on the machine.
    pub runs_scripts: bool,
    /// Its name for people.
    pub called: &'static str,
    /// The equivalent command.
    pub by_hand: String,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_new_folder_comes_before_the_folders_in_it_and_these_before_their_files() {
        let mut work = FileWork::default();
        let path = |text: &'static str| SystemPath::literal(text);
        let files = vec![(path("/deep/below/one"), b"1".to_vec()), (path("/two"), b"2".to_vec())];
        let action = work.put_folder(path("/boot/quay"), files, (0, 0), 5);
        assert_eq!((action.index, action.before), (1, None));
        let Operation::Put(items) = &action.operation else { panic!("{action:?}") };
        let told: Vec<(String, bool)> =
            items.iter().map(|item| (item.below.to_string(), item.kind == ItemKind::Folder)).collect();
        let expected =
            [("/", true), ("/deep", true), ("/deep/below", true), ("/deep/below/one", false), ("/two", false)];
        assert_eq!(told, expected.map(|(path, is_folder)| (path.to_owned(), is_folder)));
        assert_eq!(work.made.len(), 2);
    }
}
