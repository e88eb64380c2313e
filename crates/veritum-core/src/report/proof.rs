//! The test that updates work.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::model::{Action, PackageId};

/// The outcome of the test.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum ProofOutcome {
    /// Every repository provided current lists, and a package was downloaded and verified.
    Proved,
    /// A download failed, or is not accepted.
    Failed,
    /// Nothing was tested; the report contains the reason.
    NotTried,
}

/// The test that updates work: current, verified lists, and one package downloaded and verified.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ProofReport {
    /// The outcome.
    pub outcome: ProofOutcome,
    /// Why nothing was tested.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
    /// The repositories.
    pub sources: Vec<ProvedSource>,
    /// The downloaded package.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub package: Option<ProvedPackage>,
    /// The number of available updates.
    pub updates: u64,
    /// The number of them that are security updates.
    pub security: u64,
    /// The size of their packages in bytes.
    pub bytes: u64,
}

/// A repository in the test.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ProvedSource {
    /// Its name for people.
    pub source: String,
    /// The date of its release file, RFC 3339 in UTC.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub made: Option<String>,
    /// The expiry of its release file.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub valid_until: Option<String>,
    /// Whether only the machine knows its key: then it is not judged.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub unknown_key: bool,
    /// Why it provides no updates; `None` when it does.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
    /// What to do about it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub action: Option<Action>,
}

/// The package that was downloaded for the test.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ProvedPackage {
    /// The package.
    pub package: PackageId,
    /// Its size in bytes.
    pub bytes: u64,
    /// Why it failed; `None` when it is the signed package.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
    /// What to do about it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub action: Option<Action>,
}
