//! Verifies that a change left the user data in a home as it was.

use crate::apps::Bases;
use crate::event::{Event, Observer, Phase};
use crate::homes::HomeContext;
use crate::model::readable;
use crate::plan::PlannedAction;
use crate::report::{Difference, OwnReport};
use crate::scan::InventoryAnswer;

/// Compares the user data after a change with that before.
pub(super) struct OwnWatch {
    leave_out: Vec<Vec<u8>>,
    bases: Bases,
    contents: bool,
    before: Option<InventoryAnswer>,
}

impl OwnWatch {
    /// Takes the inventory before these actions.
    pub(super) fn begin(
        home: &HomeContext,
        actions: &[PlannedAction],
        contents: bool,
        observer: &dyn Observer,
    ) -> Self {
        let below = |action: &PlannedAction| Some(action.place.below(&home.home.place)?.to_vec());
        let mut watch = Self {
            leave_out: actions.iter().filter_map(below).collect(),
            bases: home.home.bases.clone(),
            contents,
            before: None,
        };
        watch.before = watch.taken(home, false, observer);
        watch
    }

    fn taken(&self, home: &HomeContext, again: bool, observer: &dyn Observer) -> Option<InventoryAnswer> {
        observer.on_event(Event::Begin { phase: Phase::Inventory, items: 0, bytes: 0 });
        let taken = home.open_home.inventory(&self.bases, self.leave_out.clone(), self.contents, again).ok();
        observer.on_event(Event::End);
        taken.filter(|answer| !answer.too_many)
    }

    /// Takes it again; `None` where either could not be taken.
    pub(super) fn end(&mut self, home: &HomeContext, observer: &dyn Observer) -> Option<OwnReport> {
        let before = self.before.take()?;
        let after = self.taken(home, true, observer)?;
        let difference = |(path, what): (Vec<u8>, String)| Difference { path: readable(&path), what };
        Some(OwnReport {
            files: after.files,
            bytes: after.bytes,
            unchanged: before.digest == after.digest && after.different == 0,
            before: before.digest,
            after: after.digest,
            contents: self.contents,
            differences: after.differences.into_iter().map(difference).collect(),
            different: after.different,
            unseen: after.unseen,
            unread: after.unread,
        })
    }
}
