//! The area `store`: the trusted store itself, examined before anything is compared with it.

mod check;
mod judge;
mod plan;
mod repair;
mod sources;

pub use judge::{judge_store, superfluous_notes};
pub use plan::{NoSource, PlannedFix, RepairSource, StorePlan, StoreRepairPlan, plan_store};
pub use repair::repair_store;

use std::borrow::Cow;

use super::{About, Area, Checked, Cx, Examined};
use crate::model::{AreaName, Finding, Scope, Verdict};
use crate::report::ExplainReport;
use crate::supply::signed_by;
use crate::system::WorkError;

/// The area's name.
pub const STORE: AreaName = AreaName::new("store");

/// The area `store`.
pub struct Store;

static ABOUT: About = About {
    name: STORE,
    help: "the trusted store: signatures, manifests and contents (a plain check verifies only what it needs)",
    by_default: true,
    only_when_named: &[],
    unit: ("store file", "store files"),
    selector: None,
    heading: |_| Cow::Borrowed("store"),
    counted_as: &[(Verdict::Unowned, "unused file in the store", "unused files in the store")],
    by_package: false,
    rereads_the_medium: true,
    not_touched: &["the machine", "the store's keys"],
    repaired_by_name: false,
    is_advised: false,
    is_of_machine: false,
    by_reference: true,
};

impl Area for Store {
    fn about(&self) -> &'static About {
        &ABOUT
    }

    fn is_here(&self, cx: &Cx<'_>) -> bool {
        cx.system.settings.store.is_some()
    }

    fn resolve(&self, cx: &Cx<'_>, scope: &mut Scope) -> Result<(), WorkError> {
        match scope.names(&STORE) && !self.is_here(cx) {
            true => Err(WorkError::NoStore),
            false => Ok(()),
        }
    }

    fn check(&self, cx: &Cx<'_>, _: &Checked) -> Result<Examined, WorkError> {
        check::check(cx)
    }

    fn explain(&self, cx: &Cx<'_>, finding: &Finding, checked: &Checked) -> Result<ExplainReport, WorkError> {
        let chain = cx.supply.own_store().map(signed_by).unwrap_or_default();
        Ok(ExplainReport { chain, ..ExplainReport::new(finding, checked.left_of(finding).cloned()) })
    }
}
