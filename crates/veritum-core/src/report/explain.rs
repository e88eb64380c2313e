//! The document of `explain`.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::model::{Action, Finding, PackageId, Subject, SystemPath};
use crate::plan::Left;

/// One link of a chain of trust, from the thing to the key.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ChainLink {
    /// The subject.
    pub what: String,
    /// Its name, digest or fingerprint.
    pub name: String,
}

/// Where two contents first differ.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct FirstDifference {
    /// Bytes before it.
    pub offset: u64,
    /// The line that it is in, for text.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub line: Option<u64>,
    /// Up to 16 expected bytes from there, in hexadecimal.
    pub expected: String,
    /// Up to 16 found bytes from there, in hexadecimal.
    pub found: String,
    /// For small text: the expected lines from that one on, three at most.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub expected_lines: Vec<String>,
    /// The lines that are there instead.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub found_lines: Vec<String>,
}

/// What a person must do about a finding that a repair does not answer; `check` and `explain` both show it.
#[must_use]
pub fn to_do<'a>(finding: &'a Finding, left: Option<&'a Left>) -> Option<&'a Action> {
    finding.action.as_ref().or(left.and_then(|left| left.action.as_ref()))
}

/// What `explain` says of a path or finding (`veritum.explain/1`).
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct ExplainReport {
    /// `veritum.explain/1`.
    pub format: String,
    /// What was asked for.
    pub subject: Subject,
    /// Its path, when it is one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub path: Option<SystemPath>,
    /// The packages that own it.
    pub owners: Vec<PackageId>,
    /// The finding, when something is not as it should be, or a note.
    pub finding: Option<Finding>,
    /// How it should be.
    pub expected: Option<crate::model::State>,
    /// How it is.
    pub found: Option<crate::model::State>,
    /// Where the contents first differ.
    pub differs: Option<FirstDifference>,
    /// Why the reference is believed.
    pub chain: Vec<ChainLink>,
    /// What a repair would leave, and why.
    pub left: Option<Left>,
    /// A sentence when there is nothing to compare with.
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

    /// Of which nothing is known yet.
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
