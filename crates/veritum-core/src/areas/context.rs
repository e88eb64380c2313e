//! [`Cx`]: what an area is given to look with.

use std::cell::RefCell;
use std::collections::{HashMap, HashSet};

use super::evidence::Evidence;
use super::{AREAS, is_wanted};
use crate::event::Observer;
use crate::homes::HomesSeen;
use crate::model::{AreaName, PackageId, Scope, SystemPath};
use crate::supply::Supply;
use crate::system::{System, WorkError};

/// Downloads that were tried and did not come about, with the reason.
pub type Failed = HashMap<PackageId, String>;

/// How things are examined.
#[derive(Debug, Clone, Copy)]
pub struct How<'a> {
    /// Whether the store is read from the medium rather than from the cache.
    pub fresh: bool,
    /// Places of the machine that were just written: they are read from the medium.
    pub written: Option<&'a HashSet<SystemPath>>,
    /// Whether what has not changed since the last full check is not read again.
    pub quick: bool,
    /// Whether a repair is planned: repositories are then asked what they offer, not only whether they answer.
    pub plans: bool,
    /// Whether this run holds, or will take, the locks that a repair needs.
    pub locked: bool,
    /// Whether what a repair is going to take is fetched from a store on a web server.
    pub fetch: bool,
    /// Downloads that were tried and did not come about.
    pub failed: &'a Failed,
    /// Whether what was found until a person interrupted the run is an answer, too.
    pub partial: bool,
}

impl<'a> How<'a> {
    /// Everything once, as it is.
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

/// What an area is given to look with: the system, what can be fetched, what was named, and what areas share.
pub struct Cx<'a> {
    /// The system.
    pub system: &'a System,
    /// What can be fetched.
    pub supply: Supply<'a>,
    /// The homes of login users.
    pub homes: &'a HomesSeen,
    /// What was named.
    pub scope: &'a Scope,
    /// The areas that are examined in this run.
    pub wanted: Vec<AreaName>,
    /// How things are examined.
    pub how: How<'a>,
    /// Who is reported, and may interrupt.
    pub observer: &'a dyn Observer,
    /// What should be there, and one examination of all files: made when an area first asks.
    pub(super) evidence: RefCell<Evidence>,
}

impl<'a> Cx<'a> {
    /// A context in which nothing was examined yet.
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

    /// A new context for another scope, with nothing examined yet.
    #[must_use]
    pub fn narrowed<'b>(&'b self, scope: &'b Scope) -> Cx<'b> {
        let wanted = AREAS.iter().filter(|area| is_wanted(**area, scope)).map(|area| area.about().name.clone());
        Cx::new(self.supply, self.homes, scope, wanted.collect(), self.how, self.observer)
    }

    /// The same with what was gathered and seen before, where nothing of it has changed since.
    #[must_use]
    pub fn with_evidence(self, evidence: Evidence) -> Self {
        self.evidence.replace(evidence);
        self
    }

    /// What was gathered and seen, when the looking is over.
    #[must_use]
    pub fn into_evidence(self) -> Evidence {
        self.evidence.into_inner()
    }

    /// Whether an area is examined in this run.
    #[must_use]
    pub fn wants(&self, area: &AreaName) -> bool {
        self.wanted.contains(area)
    }

    /// What came of a part; `None` when it was interrupted and what was found until then is an answer.
    ///
    /// # Errors
    /// Whatever else went wrong.
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
