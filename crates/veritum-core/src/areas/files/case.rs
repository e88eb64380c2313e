//! [`Case`]: the input of a check of files; [`FilesCheck`]: its result.

use std::collections::BTreeMap;

use crate::machine::{Machine, Protection};
use crate::model::{Authority, Finding, PathMap, Scope, Stat, SystemPath};
use crate::reference::{Expected, ExpectedKind, Policy, Reference};
use crate::scan::{self, Found, RememberedParts, SnapshotBuilder};
/// What the repair of a finding needs: the finding's position and what is on the disk.
#[derive(Debug, Clone)]
pub struct Fault {
    /// Position in [`FilesCheck::findings`].
    pub finding: usize,
    /// Position of the reference.
    pub expected: usize,
    /// The place, without symlinks before the last name.
    pub physical: SystemPath,
    /// What is there.
    pub found: Option<Stat>,
    /// For hard links: an intact name of the file, to link to.
    pub sibling: Option<SystemPath>,
    /// Whether the content is intact, and only owner or mode differ.
    pub only_meta: bool,
    /// Whether only capabilities are missing, which only the package's own configuration sets.
    pub lost_capabilities: bool,
    /// For a missing or blocked folder: all listed spellings of it; everything expected below is restored with
    /// it.
    pub roots: Vec<SystemPath>,
    /// For a folder that is a symlink on a merged system (`/lib64`): its target.
    pub alias: Option<Vec<u8>>,
}

/// What could not be examined.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unexamined {
    /// The reason.
    pub reason: String,
    /// The number of items.
    pub count: u64,
    /// An example.
    pub example: Option<SystemPath>,
}

/// The result of a check of files.
#[derive(Debug, Default)]
pub struct FilesCheck {
    /// Problems, most serious first, then in path order.
    pub findings: Vec<Finding>,
    /// Notes.
    pub notes: Vec<Finding>,
    /// For planning: one fault for each finding with a single place.
    pub faults: Vec<Fault>,
    /// The real locations of folders, for planning: listed to physical.
    pub folders: PathMap<SystemPath>,
    /// What could not be examined.
    pub unexamined: Vec<Unexamined>,
    /// The number of items that could not be examined because a file system is not mounted, or another one is in the way.
    pub elsewhere: u64,
    /// The number of items that an interruption prevented.
    pub not_reached: u64,
    /// The number of items examined.
    pub examined: u64,
    /// The number of items by authority.
    pub verified_by: BTreeMap<Authority, u64>,
    /// Of those known by the local package database only: the number that could only be seen to exist.
    pub presence_only: u64,
    /// The number of bytes read.
    pub bytes: u64,
    /// The number of unowned files that are not listed in the notes.
    pub strays: u64,
    /// The number of files skipped because they are unchanged since the last full check.
    pub unread: u64,
    /// Observations for the next check.
    pub remembered: RememberedParts,
    /// The state of every place, if it is to be remembered; `None` when something cannot be watched.
    pub snapshot_builder: Option<SnapshotBuilder>,
}

/// The input of a check of files.
#[derive(Clone, Copy)]
pub struct Case<'a> {
    /// The machine.
    pub machine: &'a Machine,
    /// The references.
    pub reference: &'a Reference,
    /// The scope.
    pub scope: &'a Scope,
    /// The administrator's rules.
    pub policy: &'a Policy,
    /// Places that must not be changed.
    pub protection: &'a Protection,
    /// Paths that the administrator excluded from unpacking.
    pub left_out: &'a dyn Fn(&SystemPath) -> bool,
    /// How contents are read.
    pub how: scan::How<'a>,
    /// When the check began, if its observations are to be remembered.
    pub remember: Option<jiff::Timestamp>,
    /// Whether the observations are kept for a further look.
    pub keep_seen: bool,
}

/// Whether the content is intact, as far as it is known.
pub(super) fn content_sound(expected: &Expected, found: &Found) -> bool {
    match &expected.kind {
        ExpectedKind::File { digest, .. } => found.blake3() == Some(*digest),
        ExpectedKind::Recorded(md5) => found.md5() == Some(*md5),
        _ => true,
    }
}

/// An expected entry and its location.
#[derive(Debug)]
pub(super) struct Location {
    pub(super) expected: usize,
    /// Its place, without symlinks before the last name.
    pub(super) physical: SystemPath,
    /// Its folder.
    pub(super) folder: SystemPath,
}

impl Location {
    /// The sort key of locations: those of one folder are together.
    pub(super) fn place(&self) -> (&SystemPath, &[u8]) {
        (&self.folder, self.name())
    }

    /// The name in its folder: the rest of the path after the folder.
    pub(super) fn name(&self) -> &[u8] {
        if self.physical.is_root() {
            return self.physical.entry();
        }
        let folder = if self.folder.is_root() { 0 } else { self.folder.as_bytes().len() };
        self.physical.as_bytes().get(folder + 1..).unwrap_or_default()
    }
}
