//! The area `database`: the package database compared with what packages say, against its own earlier copies, and
//! against itself.
//!
//! `component` judges what is there for one package, `status` the table of all of them, `tables` the smaller ones.

mod check;
mod explain;
mod links;
mod offered;
mod package;
mod plan;
mod status;
mod tables;

pub use links::judge_alternatives;
pub use package::RecordJudge;
pub use package::settings_text;
pub use plan::{RecordPlan, RecordRules, plan_records};
pub use status::judge_status;
pub use tables::{Holds, judge_tables};

use std::borrow::Cow;

use super::{About, Area, Checked, Cx, Examined, NOT_TOUCHED};
use crate::model::{Action, AreaName, Authority, Digest, Finding, PackageId, Scope, Subject, SystemPath, Verdict};
use crate::platform::Platform as _;
use crate::platform::debian::{Debian, is_record};
use crate::report::ExplainReport;
use crate::system::WorkError;

/// The area's name.
pub const DATABASE: AreaName = AreaName::new("database");

/// The area `database`.
pub struct Database;

static ABOUT: About = About {
    name: DATABASE,
    help: "the package database: what dpkg records as installed",
    by_default: true,
    only_when_named: &[],
    unit: ("package's database files", "packages' database files"),
    selector: None,
    heading: |finding| match (&finding.subject, &finding.package) {
        (Subject::Record { entry: Some(_), .. }, Some(package)) => Cow::Owned(package.name.clone()),
        _ => Cow::Borrowed("package database"),
    },
    counted_as: &[],
    by_package: false,
    rereads_the_medium: false,
    not_touched: NOT_TOUCHED,
    is_advised: false,
    is_of_machine: true,
    by_reference: true,
};

impl Area for Database {
    fn about(&self) -> &'static About {
        &ABOUT
    }

    /// A package is what its records say of it; and a record can be named by its path.
    fn is_meant(&self, scope: &Scope) -> bool {
        scope.areas.is_empty() && (!scope.packages.is_empty() || scope.paths.iter().any(is_record))
    }

    fn check(&self, cx: &Cx<'_>, _: &Checked) -> Result<Examined, WorkError> {
        check::check(cx)
    }

    fn explain(&self, cx: &Cx<'_>, finding: &Finding, checked: &Checked) -> Result<ExplainReport, WorkError> {
        Ok(explain::explain(cx, finding, checked))
    }

    fn explain_place(&self, cx: &Cx<'_>, path: &SystemPath) -> Result<Option<ExplainReport>, WorkError> {
        explain::explain_place(cx, path)
    }

    fn locks(&self) -> Vec<SystemPath> {
        Debian.locks()
    }
}

/// What is wrong with a record, and what would repair it.
#[derive(Debug, Clone, PartialEq)]
pub struct RecordFault {
    /// What is reported of it.
    pub finding: Finding,
    /// What would repair it; or why that is not known.
    pub fix: Result<RecordFix, Unknown>,
}

/// Why it is not known how a record should be, and what to do next.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unknown {
    /// The reason.
    pub reason: String,
    /// What to do.
    pub next: Option<Action>,
    /// Whether the .deb file of the finding's package would show.
    pub package_helps: bool,
}

impl Unknown {
    fn new(reason: &str, next: impl Into<Action>) -> Self {
        Self { reason: reason.into(), next: Some(next.into()), package_helps: false }
    }

    fn for_want_of_deb() -> Self {
        let next = "name a store that has it, or its .deb file: --store LOCATION, --from PATH";
        Self { package_helps: true, ..Self::new("no reference for it is available", next) }
    }
}

/// What repairs a record.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum RecordFix {
    /// The file is written again.
    Write {
        /// What it holds.
        content: RecordContent,
        /// Mode bits.
        mode: u32,
    },
    /// An entry of `status` takes the place of the one of that package, or is added.
    Entry {
        /// Whose: name and architecture.
        key: (String, String),
        /// Its bytes.
        text: Vec<u8>,
        /// Whether the one that should be there is lost.
        lost: bool,
    },
    /// `status` is written again from what can be read of it and from its entries.
    Status,
    /// The file is set aside.
    SetAside,
    /// It becomes a link.
    Link(Vec<u8>),
    /// Its mode is set.
    Mode(u32),
}

/// What a record's file is to hold.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum RecordContent {
    /// These bytes.
    Bytes(Vec<u8>),
    /// A member of a package's control part, by its digest.
    Member {
        /// Its name.
        name: String,
        /// BLAKE3.
        digest: Digest,
        /// Bytes.
        size: u64,
    },
}

/// A bare finding on a record.
fn on(path: &SystemPath, entry: Option<&str>, verdict: Verdict) -> Finding {
    Finding::on(DATABASE, Subject::record(path, entry), verdict)
}

/// A finding on a package's record.
fn on_record(id: &PackageId, authority: Option<Authority>, path: &SystemPath, verdict: Verdict) -> Finding {
    Finding { package: Some(id.clone()), verified_by: authority, ..on(path, None, verdict) }
}

/// A path of dpkg's database.
fn in_database(name: &str) -> SystemPath {
    SystemPath::literal("/var/lib/dpkg").join(name.as_bytes()).unwrap_or_else(|_| SystemPath::literal("/var/lib/dpkg"))
}

/// The first of some names, with how many there are.
fn some_of(names: &[String]) -> String {
    match names {
        [] => String::new(),
        [one] => one.clone(),
        [first, rest @ ..] => format!("{first} and {} more", rest.len()),
    }
}
