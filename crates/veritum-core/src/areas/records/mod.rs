//! The area `records`: the package database held against what packages say, against its own earlier copies, and
//! against itself.
//!
//! `component` judges what lies there for one component, `status` the table of all of them, `tables` the smaller ones.

mod check;
mod component;
mod explain;
mod links;
mod offered;
mod plan;
mod status;
mod tables;

pub use component::RecordJudge;
pub use component::settings_text;
pub use links::judge_alternatives;
pub use plan::{RecordPlan, RecordRules, plan_records};
pub use status::judge_status;
pub use tables::{Holds, judge_tables};

use std::borrow::Cow;

use super::{About, Area, Checked, Cx, Examined, NOT_TOUCHED};
use crate::model::{AreaName, Authority, ComponentId, Digest, Finding, Scope, Subject, SystemPath, Verdict};
use crate::platform::Platform as _;
use crate::platform::debian::{Debian, is_record};
use crate::report::ExplainReport;
use crate::system::WorkError;

/// The area's name.
pub const RECORDS: AreaName = AreaName::new("records");

/// The area `records`.
pub struct Records;

static ABOUT: About = About {
    name: RECORDS,
    help: "the package database: what the system itself records as installed",
    by_default: true,
    unit: ("component's records", "components' records"),
    selector: None,
    heading: |finding| match &finding.component {
        Some(component) => Cow::Owned(format!("{} {}", component.name, component.version)),
        None => Cow::Borrowed("in the package database"),
    },
    counted_as: &[],
    by_component: false,
    rereads_the_medium: false,
    not_touched: NOT_TOUCHED,
    is_advised: false,
    is_of_machine: true,
    by_reference: true,
};

impl Area for Records {
    fn about(&self) -> &'static About {
        &ABOUT
    }

    /// A component is what its records say of it; and a record can be named by its path.
    fn is_meant(&self, scope: &Scope) -> bool {
        scope.areas.is_empty() && (!scope.components.is_empty() || scope.paths.iter().any(is_record))
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

/// What is wrong with a record, and what would put it right.
#[derive(Debug, Clone, PartialEq)]
pub struct RecordFault {
    /// What is told of it.
    pub finding: Finding,
    /// What would put it right; or why that is not known.
    pub fix: Result<RecordFix, Unknown>,
}

/// Why it is not known how a record should be, and what to do next.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unknown {
    /// Why.
    pub reason: String,
    /// What to do.
    pub next: Option<String>,
    /// Whether the package of the finding's component would tell.
    pub package_helps: bool,
}

impl Unknown {
    fn new(reason: &str, next: &str) -> Self {
        Self { reason: reason.into(), next: Some(next.into()), package_helps: false }
    }

    fn for_want_of_package() -> Self {
        let next = "give a store or a package of it: --store LOCATION, --from PATH";
        Self { package_helps: true, ..Self::new("nothing at hand says what it should be", next) }
    }
}

/// What puts a record right.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum RecordFix {
    /// The file is written anew.
    Write {
        /// What it holds.
        content: RecordContent,
        /// Mode bits.
        mode: u32,
    },
    /// An entry of `status` takes the place of the one of that component, or is added.
    Entry {
        /// Whose: name and architecture.
        key: (String, String),
        /// Its bytes.
        text: Vec<u8>,
        /// Whether the one that should be there is lost.
        lost: bool,
    },
    /// `status` is written anew from what can be read of it and from its entries.
    Status,
    /// The file goes aside.
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
    Finding::on(RECORDS, Subject::record(path, entry), verdict)
}

/// A finding on a component's record.
fn on_record(id: &ComponentId, authority: Option<Authority>, path: &SystemPath, verdict: Verdict) -> Finding {
    Finding { component: Some(id.clone()), vouched_by: authority, ..on(path, None, verdict) }
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
