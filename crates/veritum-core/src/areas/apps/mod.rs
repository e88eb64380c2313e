//! The area `apps`: whether the applications that a desktop offers can be started from it, and what they keep in homes.

mod cards;
mod catalogue;
mod check;
mod icons;
mod integration;
mod profiles;

pub use cards::card_of;
pub use catalogue::{App, apps, called};
pub use check::finding_on;
pub(crate) use icons::Icons;
pub(crate) use integration::{Integration, REGISTRY};
use profiles::profiles;

use std::borrow::Cow;

use super::{About, Area, Checked, Cx, Examined, NOT_TOUCHED};
use crate::model::{AreaName, Scope, Verdict};
use crate::system::WorkError;

/// The area's name.
pub const APPS: AreaName = AreaName::new("apps");

/// The area `apps`.
pub struct Apps;

static ABOUT: About = About {
    name: APPS,
    help: "applications: whether they can be started, and their data in users' homes",
    by_default: false,
    only_when_named: &["users' homes"],
    unit: ("application", "applications"),
    selector: Some((
        "app",
        "one application: its package and dependencies, desktop integration and data in users' homes",
    )),
    heading: |finding| match &finding.package {
        Some(package) => Cow::Owned(package.name.clone()),
        None => Cow::Borrowed("(no package)"),
    },
    counted_as: &[(Verdict::Busy, "running application", "running applications")],
    by_package: false,
    rereads_the_medium: false,
    not_touched: NOT_TOUCHED,
    repaired_by_name: false,
    is_advised: true,
    is_of_machine: true,
    by_reference: false,
};

impl Area for Apps {
    fn about(&self) -> &'static About {
        &ABOUT
    }

    fn resolve(&self, cx: &Cx<'_>, scope: &mut Scope) -> Result<(), WorkError> {
        check::resolve(cx, scope)
    }

    fn check(&self, cx: &Cx<'_>, earlier: &Checked) -> Result<Examined, WorkError> {
        check::check(cx, earlier)
    }
}
