//! The document of `return`.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{ActionReport, MachineReport, PackageChange, RunningReport};
use crate::model::{SystemPath, word_enum};

/// What `return` did (`veritum.return/1`).
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct ReturnReport {
    /// `veritum.return/1`.
    pub format: String,
    /// The machine.
    pub machine: MachineReport,
    /// The savepoint.
    pub savepoint: u64,
    /// When it was made, RFC 3339 in UTC.
    pub made: String,
    /// Why it was made.
    pub reason: String,
    /// Whether it was only shown.
    pub plan_only: bool,
    /// The number of the change; `None` when nothing was changed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub change: Option<u64>,
    /// The packages that return: from the version of now to that of the savepoint.
    pub packages: Vec<PackageChange>,
    /// Packages that differ and stay as they are.
    pub packages_staying: Vec<StayingPackage>,
    /// Each action with its result.
    pub actions: Vec<ActionReport>,
    /// What differs from the savepoint and stays.
    pub staying: Vec<StayingPlace>,
    /// Accounts that differ from the savepoint.
    pub accounts: AccountChanges,
    /// Whether accounts and passwords return, too.
    pub with_accounts: bool,
    /// What it means for the running system, and for data that stays.
    pub consequences: Consequences,
    /// Files that cannot return, as their content is not kept and found nowhere.
    pub lost: Vec<LostFile>,
    /// The triggers by which the system's tools generated files again, for the return of single packages.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub regenerated: Vec<String>,
    /// Why they could not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub not_regenerated: Option<String>,
    /// Programs that still use the files that were replaced.
    #[serde(flatten)]
    pub running: RunningReport,
}

impl ReturnReport {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.return/1";
}

/// A package that differs and stays.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct StayingPackage {
    /// The package.
    #[serde(flatten)]
    pub package: PackageChange,
    /// The reason.
    pub reason: StayReason,
}

/// A place that stays: it differs, or whether it does is unknown.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct StayingPlace {
    /// Its path.
    pub path: SystemPath,
    /// The reason.
    pub reason: StayReason,
}

word_enum! {
    /// Why a place that differs stays as it is.
    pub enum StayReason {
        /// A configuration file that a person changed since.
        ConfigChanged = "config-changed",
        /// A configuration file that a person removed since.
        ConfigRemoved = "config-removed",
        /// Made since by no package that goes away.
        MadeSince = "made-since",
        /// Changed since by no package.
        DataChanged = "data-changed",
        /// Accounts, passwords and groups.
        Accounts = "accounts",
        /// Part of the boot loader.
        BootLoader = "boot-loader",
        /// Part of Veritum.
        Veritum = "veritum",
        /// A folder in which something stays.
        ContainsStaying = "contains-staying",
        /// Attributes that no change sets: those of a folder, and inode flags.
        Attributes = "attributes",
        /// A package's, and another one now or missing, but outside the places that savepoints cover.
        NotCovered = "not-covered",
        /// It could not be recorded when the savepoint was made.
        NotRecorded = "not-recorded",
        /// Its content is no longer kept.
        NotKept = "not-kept",
        /// A boot menu that names a file system that is not found now.
        BootMenu = "boot-menu",
        /// A table that returns without its lines for devices that are not found now.
        MissingDevices = "missing-devices",
    }
}

impl StayReason {
    /// The reason, for people.
    #[must_use]
    pub fn describe(self) -> &'static str {
        match self {
            Self::ConfigChanged => "a configuration file changed since; --config-files returns it",
            Self::ConfigRemoved => "a configuration file removed since; --config-files returns it",
            Self::MadeSince => "made since; --exact sets it aside",
            Self::DataChanged => "changed since by no package; --exact returns it",
            Self::Accounts => "accounts stay as they are; --accounts returns them",
            Self::BootLoader => "the boot loader is never returned",
            Self::Veritum => "Veritum's own",
            Self::ContainsStaying => "contains something that stays",
            Self::Attributes => "attributes (lsattr, getfattr) that are not returned",
            Self::NotCovered => "outside what savepoints cover; `veritum check` verifies it",
            Self::NotRecorded => "not part of the savepoint",
            Self::NotKept => "its content is no longer kept",
            Self::BootMenu => "names a file system that is not found now; run update-grub",
            Self::MissingDevices => "lines for disks that are not found now do not return; those of now stay",
        }
    }
}

/// A file whose content is not kept.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct LostFile {
    /// Its path.
    pub path: SystemPath,
    /// The package that owned it then, if one did.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub package: Option<String>,
}

/// Accounts that differ between a savepoint and now.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct AccountChanges {
    /// Accounts that were added since.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub added: Vec<String>,
    /// Accounts that were removed since.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub removed: Vec<String>,
    /// Accounts whose password was changed since.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub passwords: Vec<String>,
    /// Groups whose members were changed since.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub groups: Vec<String>,
    /// System users and groups that are added again because returned files belong to them.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub added_again: Vec<String>,
    /// Returned places of a person's account that is missing and whose id another account has now: they get the id 65534.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub without_owner: Vec<SystemPath>,
}

impl AccountChanges {
    /// Whether no account differs.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }
}

/// What a return means.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Consequences {
    /// Services of packages that return, and those whose units change, by their units.
    pub services: Vec<String>,
    /// Kernels that come back, change or go away, by their files.
    pub kernels: Vec<SystemPath>,
    /// The early user space of kernels (initramfs) that comes back, changes or goes away, by its files.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub initramfs: Vec<SystemPath>,
    /// Packages with drivers or firmware among those that return.
    pub drivers: Vec<String>,
    /// Why the system must be restarted afterwards; empty if it need not be.
    pub restart: Vec<String>,
    /// Folders of services' data that stay, and that a newer version may have converted.
    pub data: Vec<SystemPath>,
}
