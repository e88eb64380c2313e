//! The area `files`: compares every owned file, symlink and folder with its reference.
//!
//! `look` observes and compares, [`Parents`] judges folders before anything below them is examined, `judge`
//! judges one entry at a time, `plan` decides what a repair does.

mod case;
mod causes;
mod check;
mod explain;
mod folders;
mod judge;
mod locations;
mod look;
mod meta;
mod plan;
mod repositories;
mod states;
mod stray;

pub use case::{Case, Fault, FilesCheck, Unexamined};
pub use explain::unowned;
pub use folders::{Block, Move, Parents, Placement};
pub use look::{Seen, check_files};
pub use plan::{FileRules, needed_packages, plan_files};
pub use states::expected_state;

use std::borrow::Cow;

use super::{About, Area, Checked, Cx, Examined, NOT_TOUCHED};
use crate::model::{AreaName, Finding, Scope, Subject, SystemPath};
use crate::platform::Platform as _;
use crate::platform::debian::{Debian, is_record};
use crate::report::ExplainReport;
use crate::system::WorkError;

/// The area's name.
pub const FILES: AreaName = AreaName::new("files");

/// The area `files`.
pub struct Files;

static ABOUT: About = About {
    name: FILES,
    help: "installed files, compared with their packages",
    by_default: true,
    only_when_named: &[],
    unit: ("entry", "entries"),
    selector: None,
    heading: |finding| match (&finding.package, &finding.subject) {
        (Some(package), _) => Cow::Owned(package.name.clone()),
        (None, Subject::Source { .. }) => Cow::Borrowed("repository"),
        (None, _) => Cow::Borrowed("(no package)"),
    },
    counted_as: &[],
    by_package: true,
    rereads_the_medium: true,
    not_touched: NOT_TOUCHED,
    repaired_by_name: false,
    is_advised: false,
    is_of_machine: true,
    by_reference: true,
};

impl Area for Files {
    fn about(&self) -> &'static About {
        &ABOUT
    }

    /// Packages and paths select files; a record of the database is not a file of a package.
    fn is_meant(&self, scope: &Scope) -> bool {
        !scope.packages.is_empty() || scope.paths.iter().any(|path| !is_record(path))
    }

    fn check(&self, cx: &Cx<'_>, earlier: &Checked) -> Result<Examined, WorkError> {
        check::check(cx, earlier)
    }

    fn explain(&self, cx: &Cx<'_>, finding: &Finding, checked: &Checked) -> Result<ExplainReport, WorkError> {
        let report = finding.subject.as_path().map(|path| explain::explain(cx, path)).transpose()?.flatten();
        Ok(report.unwrap_or_else(|| ExplainReport::new(finding, checked.left_of(finding).cloned())))
    }

    fn explain_place(&self, cx: &Cx<'_>, path: &SystemPath) -> Result<Option<ExplainReport>, WorkError> {
        explain::explain(cx, path)
    }

    fn locks(&self) -> Vec<SystemPath> {
        Debian.locks()
    }
}
