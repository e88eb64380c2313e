//! [`Cx`]: the input of an area.

use std::cell::RefCell;
use std::collections::{HashMap, HashSet};

use super::evidence::Evidence;
use super::{AREAS, is_wanted};
use crate::event::Observer;
use crate::homes::HomesSeen;
use crate::model::{AreaName, PackageId, Scope, SystemPath};
use crate::supply::Supply;
use crate::system::{System, WorkError};

/// Downloads that failed, with the reason.
pub type Failed = HashMap<PackageId, String>;

/// How the areas are examined.
#[derive(Debug, Clone, Copy)]
pub struct How<'a> {
    /// Whether the store is read from the medium rather than from the cache.
    pub fresh: bool,
    /// Places of the machine that were just written: they are read from the medium.
    pub written: Option<&'a HashSet<SystemPath>>,
    /// Whether files unchanged since the last full check are skipped.
    pub quick: bool,
    /// Whether a repair is planned: repositories are then asked for their lists, not only whether they answer.
    pub plans: bool,
    /// Whether this run holds, or will take, the locks that a repair needs.
    pub locked: bool,
    /// Whether contents that a repair needs are downloaded from a store on a web server.
    pub fetch: bool,
    /// Downloads that failed.
    pub failed: &'a Failed,
    /// Whether results before an interruption are returned.
    pub partial: bool,
}

impl<'a> How<'a> {
    /// A complete check.
    #[must_use]
    pub fn plain(failed: &'a Failed) -> Self {
        Self {
            fresh: false,
            written: None,
            quick: false,
            plans: false,
            locked: false,
            fetch: false,
            failed,
            partial: false,
        }
    }

    /// How areas are examined for a repair.
    #[must_use]
    pub fn repair(failed: &'a Failed) -> Self {
        Self { plans: true, locked: true, ..Self::plain(failed) }
    }
}

/// The input of an area: the system, its sources, the scope, and results that areas share.
pub struct Cx<'a> {
    /// The system.
    pub system: &'a System,
    /// The sources of packages.
    pub supply: Supply<'a>,
    /// The homes of login users.
    pub homes: &'a HomesSeen,
    /// The scope.
    pub scope: &'a Scope,
    /// The areas that this run examines.
    pub wanted: Vec<AreaName>,
    /// How things are examined.
    pub how: How<'a>,
    /// Receives events, and may stop the run.
    pub observer: &'a dyn Observer,
    /// References, and one examination of all files: made when an area first needs them.
    pub(super) evidence: RefCell<Evidence>,
}

impl<'a> Cx<'a> {
    /// A context without results.
    #[must_use]
    pub fn new(
        supply: Supply<'a>,
        homes: &'a HomesSeen,
        scope: &'a Scope,
        wanted: Vec<AreaName>,
        how: How<'a>,
        observer: &'a dyn Observer,
    ) -> Self {
        Self { system: supply.system, supply, homes, scope, wanted, how, observer, evidence: RefCell::default() }
    }

    /// A context for another scope, without results.
    #[must_use]
    pub fn narrowed<'b>(&'b self, scope: &'b Scope) -> Cx<'b> {
        let wanted = AREAS.iter().filter(|area| is_wanted(**area, scope)).map(|area| area.about().name.clone());
        Cx::new(self.supply, self.homes, scope, wanted.collect(), self.how, self.observer)
    }

    /// A context with earlier results that are still valid.
    #[must_use]
    pub fn with_evidence(self, evidence: Evidence) -> Self {
        self.evidence.replace(evidence);
        self
    }

    /// The results, after the last area.
    #[must_use]
    pub fn into_evidence(self) -> Evidence {
        self.evidence.into_inner()
    }

    /// Whether an area is examined in this run.
    #[must_use]
    pub fn wants(&self, area: &AreaName) -> bool {
        self.wanted.contains(area)
    }

    /// The result of a part; `None` when it was interrupted and earlier results are returned.
    ///
    /// # Errors
    /// Any other error.
    pub fn so_far<T>(&self, part: Result<T, WorkError>, stopped: &mut bool) -> Result<Option<T>, WorkError> {
        match part {
            Err(WorkError::Stopped) if self.how.partial => {
                *stopped = true;
                Ok(None)
            }
            other => other.map(Some),
        }
    }
}
