//! The document of `explain`.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::model::{Action, Finding, PackageId, Subject, SystemPath};
use crate::plan::Left;

/// One link of a chain of trust, from the file to the key.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ChainLink {
    /// What it is.
    pub what: String,
    /// Its name, digest or fingerprint.
    pub name: String,
}

/// The first difference between two contents.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct FirstDifference {
    /// The number of bytes before it.
    pub offset: u64,
    /// The number of its line, for text.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub line: Option<u64>,
    /// Up to 16 expected bytes, in hexadecimal.
    pub expected: String,
    /// Up to 16 found bytes, in hexadecimal.
    pub found: String,
    /// For small texts: up to three expected lines from there on.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub expected_lines: Vec<String>,
    /// The found lines.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub found_lines: Vec<String>,
}

/// What a person must do about a finding that a repair does not answer; `check` and `explain` show the same.
#[must_use]
pub fn to_do<'a>(finding: &'a Finding, left: Option<&'a Left>) -> Option<&'a Action> {
    finding.action.as_ref().or(left.and_then(|left| left.action.as_ref()))
}

/// What `explain` reports about a path or finding (`veritum.explain/1`).
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct ExplainReport {
    /// `veritum.explain/1`.
    pub format: String,
    /// The subject that was asked for.
    pub subject: Subject,
    /// Its path, if it has one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub path: Option<SystemPath>,
    /// The packages that own it.
    pub owners: Vec<PackageId>,
    /// The finding, a problem or a note, if there is one.
    pub finding: Option<Finding>,
    /// The expected state.
    pub expected: Option<crate::model::State>,
    /// The found state.
    pub found: Option<crate::model::State>,
    /// The first difference of the contents.
    pub differs: Option<FirstDifference>,
    /// The chain of trust of the reference.
    pub chain: Vec<ChainLink>,
    /// What a repair would not repair, and why.
    pub left: Option<Left>,
    /// A sentence if there is no reference.
    pub remark: Option<String>,
}

impl ExplainReport {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.explain/1";

    /// A report about a finding, without further evidence.
    #[must_use]
    pub fn new(finding: &Finding, left: Option<Left>) -> Self {
        Self {
            owners: finding.harms.as_ref().map(|harms| harms.packages.clone()).unwrap_or_default(),
            expected: finding.expected.clone(),
            found: finding.found.clone(),
            left,
            finding: Some(finding.clone()),
            ..Self::bare(finding.subject.clone())
        }
    }

    /// A report about a subject without any results yet.
    #[must_use]
    pub fn bare(subject: Subject) -> Self {
        Self {
            format: Self::FORMAT.into(),
            subject,
            path: None,
            owners: Vec::new(),
            finding: None,
            expected: None,
            found: None,
            differs: None,
            chain: Vec::new(),
            left: None,
            remark: None,
        }
    }
}
