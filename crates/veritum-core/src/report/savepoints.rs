//! The documents of `savepoint` and `list savepoints`.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::MachineReport;
use crate::model::SystemPath;
use crate::platform::debian::compare_versions;

/// A package in two states of the system.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct PackageChange {
    /// Its name.
    pub package: String,
    /// Its architecture.
    pub arch: String,
    /// The earlier version; `None` if it was not installed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// The later version; `None` if it is not installed any more.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<String>,
}

impl PackageChange {
    /// Whether the later version is lower than the earlier one (deb-version(7)).
    #[must_use]
    pub fn is_downgrade(&self) -> bool {
        self.from.as_ref().zip(self.to.as_ref()).is_some_and(|(from, to)| compare_versions(to, from).is_lt())
    }
}

/// What `savepoint` prints (`veritum.savepoint-made/1`).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct SavepointReport {
    /// `veritum.savepoint-made/1`.
    pub format: String,
    /// The machine.
    pub machine: MachineReport,
    /// The number of the savepoint; `None` if there is none.
    pub savepoint: Option<u64>,
    /// Why none was made now; `None` if one was made.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why_not: Option<String>,
    /// Its reason.
    pub reason: String,
    /// The number of recorded files, folders and symlinks.
    pub entries: u64,
    /// The number of contents that were not kept before.
    pub added: u64,
    /// The number of bytes that were copied, before compression; other contents share the system's own files.
    pub copied_bytes: u64,
    /// Files that are not part of it, with the reason.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub missing: Vec<UnrecordedFile>,
    /// Packages whose installation was half-way: a return gives that state again.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub half_installed: Vec<String>,
    /// Savepoints that were removed to make room.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub removed: Vec<u64>,
    /// Places that savepoints never cover, with the reason.
    pub excluded: Vec<ExcludedPlace>,
    /// Whether automatic savepoints are now on; absent if they were not switched.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub automatic: Option<bool>,
    /// The number of the change that switched them; absent if they were so already.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub change: Option<u64>,
}

impl SavepointReport {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.savepoint-made/1";
}

/// A file that is not part of a savepoint.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct UnrecordedFile {
    /// Its path.
    pub path: SystemPath,
    /// The reason.
    pub why: String,
}

/// A place that savepoints never cover.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ExcludedPlace {
    /// The place; `*` matches any characters.
    pub place: String,
    /// The reason.
    pub why: String,
}

/// What `list savepoints` prints (`veritum.savepoints/1`).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct SavepointsReport {
    /// `veritum.savepoints/1`.
    pub format: String,
    /// The machine.
    pub machine: MachineReport,
    /// The savepoints, oldest first.
    pub savepoints: Vec<SavepointLine>,
    /// Bytes that all of them take together.
    pub bytes: u64,
    /// When the trouble began, RFC 3339 in UTC, if that was given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trouble: Option<String>,
    /// The latest savepoint before the trouble.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub before_trouble: Option<u64>,
    /// Whether savepoints are made before packages are changed.
    pub automatic: bool,
}

impl SavepointsReport {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.savepoints/1";
}

/// A savepoint.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct SavepointLine {
    /// Its number.
    pub savepoint: u64,
    /// When it was made, RFC 3339 in UTC; empty if it cannot be read.
    pub made: String,
    /// Why it was made.
    pub reason: String,
    /// Whether it was made without being asked for.
    pub automatic: bool,
    /// Packages that changed up to the next savepoint, or up to now.
    pub packages: Vec<PackageChange>,
    /// The number of configuration files that changed up to the next one, or up to now.
    pub config_files: u64,
    /// The number of its entries.
    pub entries: u64,
    /// Bytes that it alone takes.
    pub own_bytes: u64,
    /// The number of its files whose content is no longer kept.
    pub lost: u64,
    /// Why it cannot be used; `None` if it can be read.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trouble: Option<String>,
}
