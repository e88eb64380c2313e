//! What `list updates` says.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::MachineReport;
use crate::platform::LogKind;

/// What kind of update something was.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum UpdateKind {
    /// A known repository of security updates lists this version.
    Security,
    /// The first number of the version is another one.
    Major,
    /// Every other version of a known repository.
    Ordinary,
    /// To an older version.
    Back,
}

impl UpdateKind {
    /// The word for people.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Security => "security",
            Self::Major => "major",
            Self::Ordinary => "ordinary",
            Self::Back => "back",
        }
    }
}

/// One package in a run.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct UpdateLine {
    /// The package's name.
    pub package: String,
    /// Its architecture; empty where the log does not say.
    pub arch: String,
    /// What was done.
    pub what: LogKind,
    /// The version before.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// The version after.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<String>,
    /// What kind of update; none where no repository available lists the version, or for what is no update.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kind: Option<UpdateKind>,
    /// The repository that lists the version now, by URL and suite.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub origin: Option<String>,
}

/// What was done in one go.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct UpdateRun {
    /// When it began, in the machine's own time (`2026-03-02 14:10:03`): its logs know no zone.
    pub began: String,
    /// When it ended; none when that was never written.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ended: Option<String>,
    /// The command, where it is known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub command: Option<String>,
    /// Who asked for it, where it is known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
    /// Why it failed, when it did.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failed: Option<String>,
    /// Whether it came shortly before the trouble.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub before_trouble: bool,
    /// What was done, updates first.
    pub lines: Vec<UpdateLine>,
}

/// What was installed when (`veritum.updates/1`).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct UpdatesReport {
    /// `veritum.updates/1`.
    pub format: String,
    /// The machine.
    pub machine: MachineReport,
    /// Only from then on, in the machine's own time, when that was asked for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub since: Option<String>,
    /// Only this package, when that was asked for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub package: Option<String>,
    /// When the trouble began, in the machine's own time, when that was reported.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trouble: Option<String>,
    /// How far back the logs go: when their first run began.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub logged_since: Option<String>,
    /// The runs, newest first.
    pub runs: Vec<UpdateRun>,
}

impl UpdatesReport {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.updates/1";
}
