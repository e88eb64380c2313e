//! What the proof says that updates come.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::model::{Action, PackageId};

/// What an attempt to get updates came to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum ProofOutcome {
    /// Every repository gave lists that count as new, and a package came and was the one that was signed.
    Proved,
    /// Something did not come, or does not count.
    Failed,
    /// Nothing was asked; the reason is next to it.
    NotTried,
}

/// The proof that updates come: lists verified as new, and one package downloaded and verified.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ProofReport {
    /// What it came to.
    pub outcome: ProofOutcome,
    /// Why nothing was asked.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
    /// Each repository that was asked.
    pub sources: Vec<ProvedSource>,
    /// The package that was downloaded for it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub package: Option<ProvedPackage>,
    /// Updates that wait.
    pub updates: u64,
    /// Of them those for security.
    pub security: u64,
    /// Bytes of their packages.
    pub bytes: u64,
}

/// A repository that was asked.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ProvedSource {
    /// What people call it.
    pub source: String,
    /// When its release file was made, RFC 3339 in UTC.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub made: Option<String>,
    /// Until when it counts as new.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub valid_until: Option<String>,
    /// Whether only the machine knows its key: then nothing is judged by it.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub unknown_key: bool,
    /// Why it gives no updates; none when it does.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
    /// What to do about that.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub action: Option<Action>,
}

/// The package that was downloaded to see that packages come.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ProvedPackage {
    /// Which package.
    pub package: PackageId,
    /// Its bytes.
    pub bytes: u64,
    /// Why it did not come, or is another one; none when it is the one that was signed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
    /// What to do about that.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub action: Option<Action>,
}
