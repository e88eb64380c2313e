//! apt's files: its configuration, its sources, and the files of a repository (apt.conf(5), sources.list(5); the layout of
//! a repository as in Debian's "RepositoryFormat").
//!
//! Only reading, and only foreign bytes: nothing here decides what is trusted.

mod conf;
mod history;
mod index;
mod names;
mod preferences;
mod release;
mod sources;

pub use conf::{AptConf, says_no, says_yes};
pub use history::runs as history_runs;
pub use index::{Listed, for_each_listed};
pub use names::{deb_file_name, file_name_of_uri, package_of_deb_name, split_deb_name};
pub use preferences::{Pin, pins};
pub use release::{FileSum, Release, ReleaseError};
pub use sources::{Signers, Source, SourceKind, Sources, sources};

/// Where apt keeps downloaded packages; partial downloads are in `partial/`.
pub const CACHE: &str = "/var/cache/apt/archives";

/// Where apt keeps release files and indexes; partial downloads are in `partial/`.
pub const LISTS: &str = "/var/lib/apt/lists";
/// The binary caches that apt builds from all lists; it builds them again when they are missing.
pub const BINARY_CACHES: [&str; 2] = ["/var/cache/apt/pkgcache.bin", "/var/cache/apt/srcpkgcache.bin"];
/// Units that download and install updates, each with the unit that starts it.
pub const UNITS: [&str; 6] = [
    "apt-daily.timer",
    "apt-daily.service",
    "apt-daily-upgrade.timer",
    "apt-daily-upgrade.service",
    "unattended-upgrades.service",
    "packagekit.service",
];
/// The locks that apt takes in addition to dpkg's.
pub const LOCKS: [&str; 2] = ["/var/lib/apt/lists/lock", "/var/cache/apt/archives/lock"];

use crate::machine::Machine;
use crate::model::SystemPath;

/// Larger configuration files are not read, in bytes.
pub(super) const MAX_LINES: usize = 100_000;

/// The files of a configuration folder, by name, with one of these extensions and a name that apt reads.
pub(super) fn fragments(machine: &Machine, folder: &'static str, endings: &[&str]) -> Vec<SystemPath> {
    let folder = SystemPath::literal(folder);
    let real = machine.resolve(&folder).unwrap_or_else(|_| folder.clone());
    let mut names = machine.dir(&real).and_then(|d| d.disk().list(d.fd())).unwrap_or_default();
    names.sort_by(|a, b| a.0.cmp(&b.0));
    let read = |name: &[u8]| {
        let plain = name.iter().all(|b| b.is_ascii_alphanumeric() || b"_-.".contains(b));
        let ending = endings.iter().any(|e| match e.is_empty() {
            true => !name.contains(&b'.'),
            false => name.ends_with(e.as_bytes()),
        });
        plain && ending && !name.starts_with(b".")
    };
    names.iter().filter(|(name, _)| read(name)).filter_map(|(name, _)| folder.child(name).ok()).collect()
}
