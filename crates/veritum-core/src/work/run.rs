//! A repair under way: what is known, what was agreed to, and what was done so far.

use std::cell::OnceCell;
use std::collections::HashSet;

use super::consent::Consent;
use super::repaired::Repaired;
use crate::areas::{AREAS, Area, Checked, Evidence, Failed};
use crate::change::{Locks, RoundReceipt, StateFolder};
use crate::event::Observer;
use crate::model::{AreaName, FindingId, Scope};
use crate::report::{CheckReport, ProofReport};

/// A repair under way.
pub(super) struct Run<'a> {
    pub(super) scope: &'a Scope,
    pub(super) observer: &'a dyn Observer,
    pub(super) consent: Consent<'a>,
    /// The machine's state folder, once something of the machine may be changed.
    pub(super) state: &'a OnceCell<StateFolder>,
    /// The locks that are held from the look to the end.
    pub(super) locks: Locks,
    /// What is known now.
    pub(super) now: Checked,
    /// What was gathered for that; none when the machine has changed since.
    pub(super) evidence: Evidence,
    pub(super) failed: Failed,
    /// The document of the last look at everything.
    pub(super) whole: CheckReport,
    pub(super) done: Repaired,
    /// What the rounds did on the machine, by change.
    pub(super) receipts: Vec<(u64, RoundReceipt)>,
    /// Areas of the machine that were looked at before the machine was changed.
    pub(super) stale: Vec<AreaName>,
    /// Whether somebody said stop after something was done.
    pub(super) stopped: bool,
    /// Whether what an area is there for works.
    pub(super) proof: Option<ProofReport>,
}

impl Run<'_> {
    /// Notes that an area was changed: what is made of the machine is not as it was looked at.
    pub(super) fn changed(&mut self, area: &dyn Area) {
        let later = AREAS.iter().skip_while(|other| other.about().name != area.about().name).skip(1);
        let rests = later.filter(|_| area.about().is_of_machine).map(|other| &other.about().name);
        let rests: Vec<AreaName> = rests.filter(|name| self.now.get(name).is_some()).cloned().collect();
        self.stale.extend(rests);
    }
}

/// The problems of an area.
pub(super) fn ids(checked: &Checked, area: &AreaName) -> HashSet<FindingId> {
    checked.get(area).into_iter().flat_map(|examined| examined.problems()).map(|finding| finding.id.clone()).collect()
}
