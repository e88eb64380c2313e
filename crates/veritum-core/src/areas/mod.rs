//! The areas of examination, a module each behind one trait, and the only list of them.
//!
//! To add one: a module next to this file, and its line in [`AREAS`]. The command line's words, its help, JSON, the order of
//! work and the grouping of findings all come from the area's own [description](About).

pub mod apps;
pub mod bootchain;
mod context;
pub mod database;
mod difference;
mod evidence;
mod examined;
pub mod files;
mod step;
pub mod store;
pub mod updates;
pub mod volumes;

pub use apps::APPS;
pub use bootchain::BOOTCHAIN;
pub use context::{Cx, Failed, How};
pub use database::DATABASE;
pub use evidence::{Evidence, Gathered};
pub use examined::{Checked, Coverage, Examined, Memory, Stays, fill};
pub use files::FILES;
pub use step::{After, DiskWork, Fetch, FileWork, Step, ToolRun, When, Work};
pub use store::STORE;
pub use updates::{UPDATES, blocks_updates};
pub use volumes::VOLUMES;

use std::borrow::Cow;

use crate::model::{AreaName, Finding, Reach, Scope, SystemPath, Verdict};
use crate::report::{ExplainReport, ProofReport};
use crate::system::WorkError;

/// Every area, in working order.
pub static AREAS: &[&dyn Area] = &[
    &volumes::Volumes,
    &store::Store,
    &database::Database,
    &files::Files,
    &bootchain::Bootchain,
    &updates::Updates,
    &apps::Apps,
];

/// A field of examination.
pub trait Area: Sync {
    /// Its description.
    fn about(&self) -> &'static About;

    /// Whether the machine has anything of it; for the store, whether one is used.
    fn is_here(&self, _cx: &Cx<'_>) -> bool {
        true
    }

    /// Whether something in the scope belongs to this area, although the area itself was not named.
    fn is_meant(&self, scope: &Scope) -> bool {
        scope.selected(&self.about().name).next().is_some()
    }

    /// Resolves typed names into the scope of the run.
    ///
    /// # Errors
    /// When no name, or more than one, matches.
    fn resolve(&self, _cx: &Cx<'_>, _scope: &mut Scope) -> Result<(), WorkError> {
        Ok(())
    }

    /// Examines and plans: every problem has a step that answers it, or a reason why none does. Writes nothing.
    ///
    /// # Errors
    /// If it cannot be examined, or the run was stopped.
    fn check(&self, cx: &Cx<'_>, earlier: &Checked) -> Result<Examined, WorkError>;

    /// Explains one of its findings.
    ///
    /// # Errors
    /// If it cannot be examined closely, or the run was stopped.
    fn explain(&self, _cx: &Cx<'_>, finding: &Finding, checked: &Checked) -> Result<ExplainReport, WorkError> {
        Ok(ExplainReport::new(finding, checked.left_of(finding).cloned()))
    }

    /// Explains a path, if this area has a reference for it.
    ///
    /// # Errors
    /// If it cannot be examined, or the run was stopped.
    fn explain_place(&self, _cx: &Cx<'_>, _path: &SystemPath) -> Result<Option<ExplainReport>, WorkError> {
        Ok(None)
    }

    /// The system's locks that a repair holds from the examination to the end, so that nothing changes in between.
    fn locks(&self) -> Vec<SystemPath> {
        Vec::new()
    }

    /// What must be done before those locks can be taken; `ours` are held already.
    ///
    /// # Errors
    /// If a program that must not be interrupted holds one.
    fn before(&self, _cx: &Cx<'_>, _ours: &[SystemPath]) -> Result<Option<Step>, WorkError> {
        Ok(None)
    }

    /// Verifies after a repair that the area's purpose is met, beyond the absence of findings.
    ///
    /// # Errors
    /// If the run was stopped.
    fn confirm(&self, _cx: &Cx<'_>) -> Result<Option<ProofReport>, WorkError> {
        Ok(None)
    }

    /// The report that this was not verified, with the reason.
    fn not_confirmed(&self, _cx: &Cx<'_>, _why: &str) -> Option<ProofReport> {
        None
    }
}

/// What a repair never touches in the areas that are compared with installed packages.
pub(crate) const NOT_TOUCHED: &[&str] = &[USERS_FOLDERS, "modified configuration files", "unowned files"];
/// The folders with users' own files.
pub(crate) const USERS_FOLDERS: &str = "users' homes (/home, /root)";

/// The description of an area.
#[derive(Debug)]
pub struct About {
    /// Its name: the word on the command line, in JSON and in logs.
    pub name: AreaName,
    /// Its line in the help, the README and the glossary.
    pub help: &'static str,
    /// Whether it is compared with installed packages, or those depend on it: a repair without a scope covers it.
    pub by_default: bool,
    /// What is examined only when the area, or `all`, is named: what needs users' homes or the network.
    pub only_when_named: &'static [&'static str],
    /// The unit of what is examined, singular and plural.
    pub unit: (&'static str, &'static str),
    /// The selector, the word before a colon that names one item of it, and its help line.
    pub selector: Option<(&'static str, &'static str)>,
    /// The heading under which a finding is reported.
    pub heading: fn(&Finding) -> Cow<'static, str>,
    /// How its notes are counted, if not by their verdicts.
    pub counted_as: &'static [(Verdict, &'static str, &'static str)],
    /// Whether only the packages that a round changed are examined again after it.
    pub by_package: bool,
    /// Whether the files that its repair wrote are read from the medium, not from the cache, in the final check.
    pub rereads_the_medium: bool,
    /// What its repair never touches.
    pub not_touched: &'static [&'static str],
    /// Whether a repair of it must be named: a repair of everything only refers to it.
    pub repaired_by_name: bool,
    /// Whether a person answers most of its problems, with the advice that each has.
    pub is_advised: bool,
    /// Whether the machine itself is examined, rather than its references.
    pub is_of_machine: bool,
    /// Whether it is judged by stores, repositories and the package database: while these and the files are unchanged, so is
    /// the result.
    pub by_reference: bool,
}

impl About {
    /// The words for one note of a verdict and for several.
    #[must_use]
    pub fn counted_as(&self, verdict: Verdict) -> Option<(&'static str, &'static str)> {
        let own = self.counted_as.iter().find(|(of, ..)| *of == verdict).map(|(_, one, many)| (*one, *many));
        own.or(verdict.counted_as())
    }
}

/// The area of that name, if this version knows it.
#[must_use]
pub fn find(name: &AreaName) -> Option<&'static dyn Area> {
    AREAS.iter().copied().find(|area| area.about().name == *name)
}

/// The description of an area, if this version knows it.
#[must_use]
pub fn about(name: &AreaName) -> Option<&'static About> {
    find(name).map(Area::about)
}

/// The position of an area in the working order; unknown areas come last.
#[must_use]
pub fn position(name: &AreaName) -> usize {
    AREAS.iter().position(|area| area.about().name == *name).unwrap_or(AREAS.len())
}

/// What a check without a scope does not examine, in words: `all` includes it.
#[must_use]
pub fn by_default_alone() -> Vec<&'static str> {
    AREAS.iter().flat_map(|area| area.about().only_when_named).copied().collect()
}

/// Whether a repair of this scope changes anything in an area: the others are examined, and refer to their own repair.
#[must_use]
pub fn is_repaired(area: &dyn Area, scope: &Scope) -> bool {
    let about = area.about();
    let is_named = if about.repaired_by_name { scope.names(&about.name) } else { scope.is_deep(&about.name) };
    is_wanted(area, scope) && (is_named || about.by_default && !about.repaired_by_name)
}

/// Whether an area is examined: it or part of it was named, or nothing was named and it is examined by default.
#[must_use]
pub fn is_wanted(area: &dyn Area, scope: &Scope) -> bool {
    let about = area.about();
    scope.is_whole() && (about.by_default || scope.reach > Reach::Packages)
        || scope.names(&about.name)
        || area.is_meant(scope)
}
