//! The area `store`: the trusted store itself, looked at before anything is held against it.

mod judge;
mod plan;

pub use judge::{judge_store, superfluous_notes};
pub use plan::{NoSource, PlannedFix, RepairSource, StorePlan, plan_store};
