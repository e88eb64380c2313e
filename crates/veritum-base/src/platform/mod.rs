//! The system's own record of what is installed.
//!
//! Everything read here is foreign bytes: limited in size, never trusted beyond `local`. One damaged record never makes
//! reading fail as a whole; errors are returned as data.

pub mod as_owner;
pub mod block_devices;
pub mod debian;
pub mod delegate;
pub mod drives;
pub mod e2fsck;
pub mod e2fsprogs;
pub mod e2undo;
pub mod efi_variables;
pub mod freedesktop;
pub mod inside;
pub mod kernel_log;
pub mod present_devices;
pub mod services;
pub mod stand_in;
pub mod systemd;

use crate::machine::{Machine, MachineError};
use crate::model::{Md5, PackageId, PathMap, PathSet, SystemPath, word_enum};

word_enum! {
    /// How far a package's installation got.
    pub enum InstallState {
        /// Its files are in place (configured or not).
        Installed = "in-place",
        /// Its files are in place; it is not configured yet.
        Unconfigured = "unconfigured",
        /// Its installation was interrupted: which files are in place is unknown.
        HalfInstalled = "half-way",
    }
}

/// A configuration file as the system records it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SettingsFile {
    /// Its path, as listed.
    pub path: SystemPath,
    /// The digest of the shipped content.
    pub md5: Option<Md5>,
    /// Whether the package no longer ships it.
    pub obsolete: bool,
}

/// An installed package.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Package {
    /// The id.
    pub id: PackageId,
    /// How far its installation got.
    pub install_state: InstallState,
    /// Whether the same name may be installed for several architectures at once.
    pub multi_arch_same: bool,
    /// Its installed size in bytes, as the package declares it.
    pub installed_bytes: Option<u64>,
    /// Its configuration files.
    pub settings: Vec<SettingsFile>,
    /// The one-line description.
    pub summary: String,
}

/// A diversion: one package's file is moved to another path, so that another file may take its place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Diversion {
    /// The diverted path.
    pub from: SystemPath,
    /// The path that receives other packages' files.
    pub to: SystemPath,
    /// The package whose own file stays at `from`; `None` for the administrator's.
    pub by: Option<String>,
}

/// Owner and mode that an administrator has set for a path.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Override {
    /// The path.
    pub path: SystemPath,
    /// User, by name or id.
    pub user: String,
    /// Group, by name or id.
    pub group: String,
    /// Mode bits.
    pub mode: u32,
}

/// A record that could not be read completely.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RecordProblem {
    /// The record's path.
    pub path: SystemPath,
    /// The error.
    pub what: String,
}

/// Listed paths that the administrator excludes from unpacking.
#[derive(Debug, Clone, Default)]
pub struct LeftOut {
    rules: Vec<(bool, globset::GlobMatcher)>,
}

impl LeftOut {
    /// Rules in order: `true` excludes, `false` includes; the last match counts.
    #[must_use]
    pub fn new(rules: Vec<(bool, globset::GlobMatcher)>) -> Self {
        Self { rules }
    }

    /// Whether a path is excluded.
    #[must_use]
    pub fn has(&self, path: &SystemPath) -> bool {
        use std::os::unix::ffi::OsStrExt as _;
        let path = std::ffi::OsStr::from_bytes(path.as_bytes());
        self.rules.iter().rev().find(|(_, rule)| rule.is_match(path)).is_some_and(|(out, _)| *out)
    }
}

/// What is installed, as the system records it.
#[derive(Debug, Clone, Default)]
pub struct Installed {
    /// The packages, by name and architecture.
    pub packages: Vec<Package>,
    /// Diversions, by the path they divert.
    pub diversions: PathMap<Diversion>,
    /// Overrides, by path.
    pub overrides: PathMap<Override>,
    /// Excluded paths.
    pub left_out: LeftOut,
    /// Packages, by name or `name:arch`, without a recorded version.
    pub lost: Vec<String>,
    /// Records that could not be read.
    pub problems: Vec<RecordProblem>,
}

/// The local package database's record of one package's files: all names, MD5 for some.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct SelfRecord {
    /// All listed paths.
    pub paths: Vec<SystemPath>,
    /// The listed paths that have others below them.
    pub folders: PathSet,
    /// Recorded digests.
    pub md5s: PathMap<Md5>,
}

/// Whether a listed path, in bytes, is wanted.
pub type Keep<'a> = dyn Fn(&[u8]) -> bool + Sync + 'a;

/// The machine's records of its packages' files, opened to read many of them.
pub trait Records: Sync {
    /// One package's record: all of it, or the wanted paths.
    ///
    /// # Errors
    /// When it does not exist or cannot be read.
    fn read_list(&self, package: &Package, keep: Option<&Keep<'_>>) -> Result<SelfRecord, RecordProblem>;
}

/// What was done to a package.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum LogKind {
    /// It was installed.
    Installed,
    /// It was replaced by another version.
    Updated,
    /// It was removed.
    Removed,
}

/// One entry of the system's package log.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LogEntry {
    /// The local time, such as `2026-03-02 17:42:10`.
    pub at: String,
    /// What was done.
    pub what: LogKind,
    /// The package's name.
    pub name: String,
    /// Its architecture, if logged.
    pub arch: String,
    /// The version before.
    pub from: Option<String>,
    /// The version after.
    pub to: Option<String>,
}

/// A run of the package tools, from the system's logs.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Run {
    /// When it began, in local time: `2026-03-02 14:10:03`.
    pub began: String,
    /// When it ended; `None` if its end is not logged.
    pub ended: Option<String>,
    /// The command, if known.
    pub command: Option<String>,
    /// The user who ran it, if known.
    pub by: Option<String>,
    /// Why it failed, if it did.
    pub failed: Option<String>,
    /// Its entries.
    pub entries: Vec<LogEntry>,
}

/// A kind of system whose package database can be read.
pub trait Platform: Send + Sync {
    /// Whether the machine has a system of this kind.
    fn is_here(&self, machine: &Machine) -> bool;

    /// Reads what is installed.
    ///
    /// # Errors
    /// When the list of packages cannot be read at all.
    fn installed(&self, machine: &Machine) -> Result<Installed, MachineError>;

    /// Opens the records of packages' files.
    fn records<'a>(&self, machine: &'a Machine) -> Box<dyn Records + 'a>;

    /// Recent entries of the package log, newest first, at most about `most`; none without a log.
    fn recent(&self, machine: &Machine, most: usize) -> Vec<LogEntry>;

    /// The runs of the package tools, newest first, as far back as the logs go.
    fn runs(&self, machine: &Machine) -> Vec<Run>;

    /// The files to lock, in order, while packages are changed.
    fn locks(&self) -> Vec<SystemPath>;

    /// The files to lock, in order, while lists and downloads are changed as well.
    fn update_locks(&self) -> Vec<SystemPath>;
}
