//! The area `files`: every owned file, link and folder against its reference.
//!
//! `look` compares and observes, [`Parents`] judges the folders on the way before anything below them is believed, `judge`
//! judges one thing at a time, `plan` says what a repair would do.

mod archives;
mod causes;
mod check;
mod folders;
mod judge;
mod locations;
mod look;
mod meta;
mod plan;
mod states;
mod stray;

pub use folders::{Block, Move, Parents, Placement};
pub use look::{Case, Fault, FilesCheck, Seen, Unexamined, check_files};
pub use plan::{FileRules, needed_components, plan_files};
pub use states::expected_state;

use std::borrow::Cow;

use super::records::is_record;
use super::{About, Area, Checked, Cx, Examined};
use crate::model::{AreaName, Scope, Subject};
use crate::system::WorkError;

/// The area's name.
pub const FILES: AreaName = AreaName::new("files");

/// The area `files`.
pub struct Files;

static ABOUT: About = About {
    name: FILES,
    help: "the machine's files against their reference",
    by_default: true,
    unit: ("thing", "things"),
    selector: None,
    heading: |finding| match (&finding.component, &finding.subject) {
        (Some(component), _) => Cow::Owned(format!("{} {}", component.name, component.version)),
        (None, Subject::Source { .. }) => Cow::Borrowed("archive"),
        (None, _) => Cow::Borrowed("owned by no component"),
    },
    counted_as: &[],
    is_advised: false,
    is_of_machine: true,
    by_reference: true,
};

impl Area for Files {
    fn about(&self) -> &'static About {
        &ABOUT
    }

    /// Components and paths are looked at among the files; but of a record nothing is known there.
    fn is_meant(&self, scope: &Scope) -> bool {
        !scope.components.is_empty() || scope.paths.iter().any(|path| !is_record(path))
    }

    fn check(&self, cx: &Cx<'_>, earlier: &Checked) -> Result<Examined, WorkError> {
        check::check(cx, earlier)
    }
}
