//! [`Case`]: the input of a check of files; [`FilesCheck`]: its result.

use std::collections::BTreeMap;

use crate::machine::{Machine, Protection};
use crate::model::{Authority, Finding, PathMap, Scope, Stat, SystemPath};
use crate::reference::{Expected, ExpectedKind, Policy, Reference};
use crate::scan::{self, Found, Remembered, SnapshotBuilder};
/// What is needed to repair something : the finding's position and what is where.
#[derive(Debug, Clone)]
pub struct Fault {
    /// Position in [`FilesCheck::findings`].
    pub finding: usize,
    /// Position in the reference.
    pub expected: usize,
    /// Where, without links before the last name.
    pub physical: SystemPath,
    /// What is there now.
    pub found: Option<Stat>,
    /// For names of one file: a intact name of it, to be linked to.
    pub sibling: Option<SystemPath>,
    /// Whether the content is as it should be, and only owner or mode is not.
    pub only_meta: bool,
    /// Whether nothing is wrong but that capabilities are gone, which only the package's own configuring gives.
    pub lost_capabilities: bool,
    /// For a folder that is missing or blocked: every listed spelling of it; all that is expected below is restored
    /// with it.
    pub roots: Vec<SystemPath>,
    /// For a folder that is a link on a merged system (`/lib64`): where the link points.
    pub alias: Option<Vec<u8>>,
}

/// Something that could not be examined.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unexamined {
    /// The reason.
    pub reason: String,
    /// How many.
    pub count: u64,
    /// One of them.
    pub example: Option<SystemPath>,
}

/// What came of a check of files.
#[derive(Debug, Default)]
pub struct FilesCheck {
    /// Problems, gravest and then in path order.
    pub findings: Vec<Finding>,
    /// Notes.
    pub notes: Vec<Finding>,
    /// For planning: one for each finding that is at one place.
    pub faults: Vec<Fault>,
    /// Where folders really are, for planning: listed to physical.
    pub folders: PathMap<SystemPath>,
    /// What could not be examined.
    pub unexamined: Vec<Unexamined>,
    /// Things that could not be examined because a file system is not mounted, or another one is in the way.
    pub elsewhere: u64,
    /// Things that were not examined because a person interrupted the run.
    pub not_reached: u64,
    /// Things examined.
    pub examined: u64,
    /// Of them, how many each authority answers for.
    pub verified_by: BTreeMap<Authority, u64>,
    /// Of those known by the local package database only: how many could only be seen to exist.
    pub presence_only: u64,
    /// Bytes that were read.
    pub bytes: u64,
    /// Owned by no package, beyond those listed in the notes.
    pub strays: u64,
    /// Files that were not read, since they are just as they were at the last full check.
    pub unread: u64,
    /// What is to be remembered for the next check.
    pub remembered: Remembered,
    /// What was at each place, when that is to be remembered; none when something cannot be watched.
    pub snapshot_builder: Option<SnapshotBuilder>,
}

/// Everything that a check of files needs.
#[derive(Clone, Copy)]
pub struct Case<'a> {
    /// The machine.
    pub machine: &'a Machine,
    /// What should be there.
    pub reference: &'a Reference,
    /// What is to be examined.
    pub scope: &'a Scope,
    /// The administrator's rules.
    pub policy: &'a Policy,
    /// What must not be altered.
    pub protection: &'a Protection,
    /// What the administrator reported the package tool not to unpack.
    pub left_out: &'a dyn Fn(&SystemPath) -> bool,
    /// How contents are read.
    pub how: scan::How<'a>,
    /// When the check began, when what it sees is to be remembered.
    pub remember: Option<jiff::Timestamp>,
    /// Whether what is seen is to be kept for a further look.
    pub keep_seen: bool,
}

/// Whether the content is as it should be, as far as it is known.
pub(super) fn content_sound(expected: &Expected, found: &Found) -> bool {
    match &expected.kind {
        ExpectedKind::File { digest, .. } => found.digest == Some(*digest),
        ExpectedKind::Recorded(md5) => found.md5 == Some(*md5),
        _ => true,
    }
}

/// One thing to be examined, and where it is.
#[derive(Debug)]
pub(super) struct Location {
    pub(super) expected: usize,
    /// Where it is, without links before the last name.
    pub(super) physical: SystemPath,
    /// The folder that it is in.
    pub(super) folder: SystemPath,
}

impl Location {
    /// What locations are in order by: those of one folder are together.
    pub(super) fn place(&self) -> (&SystemPath, &[u8]) {
        (&self.folder, self.name())
    }

    /// The name by which the folder knows it: what follows the folder, which need not be searched for.
    pub(super) fn name(&self) -> &[u8] {
        if self.physical.is_root() {
            return self.physical.entry();
        }
        let folder = if self.folder.is_root() { 0 } else { self.folder.as_bytes().len() };
        self.physical.as_bytes().get(folder + 1..).unwrap_or_default()
    }
}
