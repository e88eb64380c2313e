//! The area `database`: compares the package database with what packages contain, with its own earlier copies, and with
//! itself.
//!
//! `package` judges the records of one package, `status` the table of all of them, `tables` the smaller ones.

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
    repaired_by_name: false,
    is_advised: false,
    is_of_machine: true,
    by_reference: true,
};

impl Area for Database {
    fn about(&self) -> &'static About {
        &ABOUT
    }

    /// A package is selected by its records, and a record by its path.
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

/// A problem of a record, and its repair.
#[derive(Debug, Clone, PartialEq)]
pub struct RecordFault {
    /// The finding.
    pub finding: Finding,
    /// The repair, or why it is unknown.
    pub fix: Result<RecordFix, Unknown>,
}

/// Why the expected content of a record is unknown, and what to do.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unknown {
    /// The reason.
    pub reason: String,
    /// What to do.
    pub next: Option<Action>,
    /// Whether the .deb file of the finding's package would contain it.
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

/// The repair of a record.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum RecordFix {
    /// Writes the file again.
    Write {
        /// Its content.
        content: RecordContent,
        /// Mode bits.
        mode: u32,
    },
    /// Replaces or adds an entry of `status`.
    Entry {
        /// The key: name and architecture.
        key: (String, String),
        /// Its bytes.
        text: Vec<u8>,
        /// Whether the expected entry is lost.
        lost: bool,
    },
    /// Rebuilds `status` from its readable entries and these.
    Status,
    /// Sets the file aside.
    SetAside,
    /// Creates a symlink.
    Link(Vec<u8>),
    /// Sets the mode.
    Mode(u32),
}

/// The content of a record's file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum RecordContent {
    /// Bytes.
    Bytes(Vec<u8>),
    /// A member of a package's control part, by its digest.
    Member {
        /// Its name.
        name: String,
        /// BLAKE3.
        digest: Digest,
        /// Size in bytes.
        size: u64,
    },
}

/// A finding on a record without details.
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

/// The first few names, with their total number.
fn some_of(names: &[String]) -> String {
    match names {
        [] => String::new(),
        [one] => one.clone(),
        [first, rest @ ..] => format!("{first} and {} more", rest.len()),
    }
}
