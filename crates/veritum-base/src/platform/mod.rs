//! What the system itself records as installed.
//!
//! Everything read here is foreign bytes: bounded, never trusted further than the label `self`. Reading never
//! fails as a whole because one record is bad; what could not be read is returned as data next to the rest.

pub mod as_owner;
pub mod debian;
pub mod delegate;
pub mod freedesktop;
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
        /// Its files are in place; its configure step has not been completed.
        Unconfigured = "unconfigured",
        /// It was interrupted in the middle: no one knows which files are there.
        HalfInstalled = "half-way",
    }
}

/// A configuration file as the system records it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SettingsFile {
    /// Where, in the listed spelling.
    pub path: SystemPath,
    /// What the package shipped.
    pub md5: Option<Md5>,
    /// The package no longer ships it.
    pub obsolete: bool,
}

/// An installed package.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Package {
    /// The id.
    pub id: PackageId,
    /// How far it got.
    pub install_state: InstallState,
    /// Whether the same name may be installed for several architectures at once.
    pub multi_arch_same: bool,
    /// How many bytes it takes installed, as it says itself.
    pub installed_bytes: Option<u64>,
    /// Its configuration files.
    pub settings: Vec<SettingsFile>,
    /// What it is, in a line.
    pub summary: String,
}

/// A path that one package's file was moved to, so that another may take its place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Diversion {
    /// The path that is diverted.
    pub from: SystemPath,
    /// Where others' files go instead.
    pub to: SystemPath,
    /// Whose own file stays at `from`; none for the administrator's.
    pub by: Option<String>,
}

/// Owner and mode that the administrator set for a path.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Override {
    /// The path.
    pub path: SystemPath,
    /// User, by name or number.
    pub user: String,
    /// Group, by name or number.
    pub group: String,
    /// Mode bits.
    pub mode: u32,
}

/// A record that could not be read, or not wholly.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RecordProblem {
    /// Which record.
    pub path: SystemPath,
    /// What is wrong with it.
    pub what: String,
}

/// Which listed paths the administrator keeps from being unpacked.
#[derive(Debug, Clone, Default)]
pub struct LeftOut {
    rules: Vec<(bool, globset::GlobMatcher)>,
}

impl LeftOut {
    /// Rules in the order they are written: `true` leaves out, `false` takes in again; the last that fits counts.
    #[must_use]
    pub fn new(rules: Vec<(bool, globset::GlobMatcher)>) -> Self {
        Self { rules }
    }

    /// Whether a path is left out on purpose.
    #[must_use]
    pub fn has(&self, path: &SystemPath) -> bool {
        use std::os::unix::ffi::OsStrExt as _;
        let path = std::ffi::OsStr::from_bytes(path.as_bytes());
        self.rules.iter().rev().find(|(_, rule)| rule.is_match(path)).is_some_and(|(out, _)| *out)
    }
}

/// What the system records as installed.
#[derive(Debug, Clone, Default)]
pub struct Installed {
    /// The packages, by name and architecture.
    pub packages: Vec<Package>,
    /// Diversions, by the path they divert.
    pub diversions: PathMap<Diversion>,
    /// Overrides, by path.
    pub overrides: PathMap<Override>,
    /// What is left out on purpose.
    pub left_out: LeftOut,
    /// Packages, by name or `name:arch`, of which no record says the version.
    pub lost: Vec<String>,
    /// Records that could not be read.
    pub problems: Vec<RecordProblem>,
}

/// What the local package database say of one package's files: names for all, MD5 for some.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct SelfRecord {
    /// Every listed path.
    pub paths: Vec<SystemPath>,
    /// Those of them that have something below them.
    pub folders: PathSet,
    /// Recorded digests.
    pub md5s: PathMap<Md5>,
}

/// Says of a listed path's bytes whether it is of interest.
pub type Keep<'a> = dyn Fn(&[u8]) -> bool + Sync + 'a;

/// The machine's package database of its packages' files, opened for reading many of them.
pub trait Records: Sync {
    /// One package's record: all of it, or the paths of interest.
    ///
    /// # Errors
    /// When it is missing or cannot be read.
    fn read_list(&self, package: &Package, keep: Option<&Keep<'_>>) -> Result<SelfRecord, RecordProblem>;
}

/// What was done to a package.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum LogKind {
    /// It is new.
    Installed,
    /// Another version took its place.
    Updated,
    /// It is gone.
    Removed,
}

/// Something that was done to a package, as the system's own log says it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LogEntry {
    /// When, in the machine's own time: `2026-03-02 17:42:10`.
    pub at: String,
    /// The subject.
    pub what: LogKind,
    /// The package's name.
    pub name: String,
    /// Its architecture, where the log says it.
    pub arch: String,
    /// The version before.
    pub from: Option<String>,
    /// The version after.
    pub to: Option<String>,
}

/// What was done to packages in one go, as the system's own logs show it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Run {
    /// When it began, in the machine's own time: `2026-03-02 14:10:03`.
    pub began: String,
    /// When it ended; none when that was never written.
    pub ended: Option<String>,
    /// The command that was typed, where it is known.
    pub command: Option<String>,
    /// The user who asked for it, where it is known.
    pub by: Option<String>,
    /// Why it failed, when it did.
    pub failed: Option<String>,
    /// What was done.
    pub entries: Vec<LogEntry>,
}

/// A kind of system whose records can be read.
pub trait Platform: Send + Sync {
    /// Whether a system of this kind is on the machine.
    fn is_here(&self, machine: &Machine) -> bool;

    /// Reads what is installed.
    ///
    /// # Errors
    /// When the list of packages cannot be read at all.
    fn installed(&self, machine: &Machine) -> Result<Installed, MachineError>;

    /// Opens the local package database of packages' files.
    fn records<'a>(&self, machine: &'a Machine) -> Box<dyn Records + 'a>;

    /// What was installed, updated and removed recently, newest first, at most so many; nothing where no log says.
    fn recent(&self, machine: &Machine, most: usize) -> Vec<LogEntry>;

    /// What was done to packages, run by run, newest first, as far back as the logs go.
    fn runs(&self, machine: &Machine) -> Vec<Run>;

    /// The files to be locked, in order, while the machine's packages are worked on.
    fn locks(&self) -> Vec<SystemPath>;

    /// The files to be locked, in order, while lists and downloads are worked on as well.
    fn update_locks(&self) -> Vec<SystemPath>;
}
