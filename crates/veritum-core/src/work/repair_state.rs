//! The state of a running repair: what is known, agreed to and done so far.

use std::cell::OnceCell;
use std::collections::HashSet;

use super::consent::Consent;
use super::repaired::Repaired;
use crate::areas::{AREAS, Area, Checked, Evidence, Failed};
use crate::change::{Locks, RoundReceipt, StateFolder};
use crate::event::Observer;
use crate::model::{AreaName, FindingId, Scope};
use crate::report::{CheckReport, ProofReport};

/// The state of a running repair.
pub(super) struct RepairState<'a> {
    pub(super) scope: &'a Scope,
    pub(super) observer: &'a dyn Observer,
    pub(super) consent: Consent<'a>,
    /// The machine's state folder, once the machine may be changed.
    pub(super) state: &'a OnceCell<StateFolder>,
    /// The locks that are held until the end.
    pub(super) locks: Locks,
    /// The present results.
    pub(super) now: Checked,
    /// Their references; empty after the machine was changed.
    pub(super) evidence: Evidence,
    pub(super) failed: Failed,
    /// The document of the last complete examination.
    pub(super) whole: CheckReport,
    pub(super) done: Repaired,
    /// The receipts of the rounds, by change.
    pub(super) receipts: Vec<(u64, RoundReceipt)>,
    /// Areas that were examined before the machine was changed.
    pub(super) stale: Vec<AreaName>,
    /// Whether the user stopped the run after something was done.
    pub(super) stopped: bool,
    /// The result of confirming an area.
    pub(super) proof: Option<ProofReport>,
}

impl RepairState<'_> {
    /// Records that an area was changed, so that later areas must be examined again.
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
