//! The document of `list updates`.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::MachineReport;
use crate::machine::MachineTimeZone;
use crate::platform::LogKind;

/// The kind of an update.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum UpdateKind {
    /// A known repository of security updates lists this version.
    Security,
    /// The first number of the version differs.
    Major,
    /// Any other version of a known repository.
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

/// One package of a run.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct UpdateLine {
    /// The package's name.
    pub package: String,
    /// Its architecture; empty if not logged.
    pub arch: String,
    /// What was done.
    pub what: LogKind,
    /// The version before.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// The version after.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<String>,
    /// The kind of update; `None` if no available repository lists the version, or it is not an update.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kind: Option<UpdateKind>,
    /// The repository that lists the version now, by URL and suite.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub origin: Option<String>,
}

/// One run of the package tools.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct UpdateRun {
    /// When it began, RFC 3339 in UTC: the log's local time, converted by the machine's time zone.
    pub began: String,
    /// When it ended, RFC 3339 in UTC; `None` if that is not logged.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ended: Option<String>,
    /// The command, if known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub command: Option<String>,
    /// The user who ran it, if known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
    /// Why it failed, if it did.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failed: Option<String>,
    /// Whether it came shortly before the trouble.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub before_trouble: bool,
    /// The packages, updates first.
    pub lines: Vec<UpdateLine>,
}

/// Installed, updated and removed packages by run (`veritum.updates/1`).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct UpdatesReport {
    /// `veritum.updates/1`.
    pub format: String,
    /// The machine.
    pub machine: MachineReport,
    /// The machine's time zone, in which its logs are written.
    pub time_zone: MachineTimeZone,
    /// Only updates since then, RFC 3339 in UTC, if requested.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub since: Option<String>,
    /// Only this package, if requested.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub package: Option<String>,
    /// When the trouble began, RFC 3339 in UTC, if given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trouble: Option<String>,
    /// The beginning of the first logged run, RFC 3339 in UTC.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub logged_since: Option<String>,
    /// The runs, newest first.
    pub runs: Vec<UpdateRun>,
}

impl UpdatesReport {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.updates/1";
}
