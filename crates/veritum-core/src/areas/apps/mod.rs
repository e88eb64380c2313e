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
    help: "whether applications can be started from the desktop, and what they keep in users' homes",
    by_default: false,
    unit: ("thing", "things"),
    selector: Some((
        "app",
        "one application: its component, what that rests on, how it hangs in the desktop, and what it keeps in users' homes",
    )),
    heading: |finding| match &finding.component {
        Some(component) => Cow::Owned(format!("{} {}", component.name, component.version)),
        None => Cow::Borrowed("owned by no component"),
    },
    counted_as: &[(Verdict::Busy, "application that runs", "applications that run")],
    by_component: false,
    rereads_the_medium: false,
    not_touched: NOT_TOUCHED,
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
