//! Debian-family systems: dpkg's database (dpkg(1), deb-*(5)) and `.deb` packages (deb(5)).

mod alternatives;
pub mod apt;
mod config;
pub mod database;
mod info;
mod log;
mod relations;
mod runs;
mod status;
mod tree;
mod triggers;
mod version;

pub use alternatives::{Alternatives, Choice};
pub use config::{diversions, overrides};
pub use info::{info_list, info_md5sums, info_stems, listed_below};
use log::last_versions;
pub use relations::{Needs, rests_on};
pub use tree::{ALIASES, alias_target, explained_links};
pub use triggers::{FileTriggers, own_triggers};
pub use version::compare_versions;

use database::{Database, StatusFile};

use super::{Installed, LogEntry, Platform, RecordProblem, Records, Run};
use crate::machine::{Machine, MachineError};
use crate::model::{SystemPath, error_chain};

const DATABASE: &str = "/var/lib/dpkg";

/// A Debian-family system.
#[derive(Debug, Clone, Copy, Default)]
pub struct Debian;

/// A path relative to dpkg's folder.
pub fn in_database(name: &str) -> SystemPath {
    SystemPath::literal(DATABASE).join(name.as_bytes()).expect("BUG: a name of the database is a path")
}

/// Whether a path belongs to the package database.
#[must_use]
pub fn is_record(path: &SystemPath) -> bool {
    path.is_within(&SystemPath::literal(DATABASE))
}

impl Debian {
    /// Reads what is installed, and the database itself with its errors; see [`Database::read`].
    ///
    /// # Errors
    /// When there is no record of what is installed.
    pub fn read(machine: &Machine, logged_since: Option<&str>) -> Result<(Installed, Database), MachineError> {
        Self::installed_by(Database::read(machine, logged_since), machine)
    }

    /// The same without looking for packages whose entries are missing, where nothing is visibly damaged.
    ///
    /// # Errors
    /// When there is no record of what is installed.
    pub fn read_briefly(machine: &Machine, logged_since: Option<&str>) -> Result<(Installed, Database), MachineError> {
        Self::installed_by(Database::read_briefly(machine, logged_since), machine)
    }

    fn installed_by(database: Database, machine: &Machine) -> Result<(Installed, Database), MachineError> {
        let (packages, mut problems) = database.packages();
        if packages.is_empty() && database.file == StatusFile::Missing && database.lost.is_empty() {
            return Err(MachineError::NoSystem { path: machine.path().to_owned() });
        }
        if packages.is_empty() {
            let what = "lists no installed package".into();
            problems.push(RecordProblem { path: in_database("status"), what });
        }
        let mut config = |name: &str| {
            let path = in_database(name);
            let read = machine.read_config(&path);
            read.unwrap_or_else(|e| {
                problems.push(RecordProblem { path, what: error_chain(&e) });
                None
            })
        };
        let (diversions, overrides) =
            (config("diversions").unwrap_or_default(), config("statoverride").unwrap_or_default());
        let (diversions, bad) = config::diversions(&diversions, &in_database("diversions"));
        problems.extend(bad);
        let (overrides, bad) = config::overrides(&overrides, &in_database("statoverride"));
        problems.extend(bad);
        let installed = Installed {
            packages,
            diversions: diversions.into_iter().map(|d| (d.from.clone(), d)).collect(),
            overrides: overrides.into_iter().map(|o| (o.path.clone(), o)).collect(),
            left_out: config::left_out(machine),
            lost: database.lost.clone(),
            problems,
        };
        Ok((installed, database))
    }
}

impl Platform for Debian {
    fn is_here(&self, machine: &Machine) -> bool {
        // A database that has lost its main table is still a database.
        let names = ["status", "status-old", "info"];
        names.iter().any(|name| machine.resolve(&in_database(name)).is_ok())
    }

    fn installed(&self, machine: &Machine) -> Result<Installed, MachineError> {
        Ok(Self::read(machine, None)?.0)
    }

    fn records<'a>(&self, machine: &'a Machine) -> Box<dyn Records + 'a> {
        Box::new(info::InfoFolder::open(machine, in_database("info")))
    }

    fn recent(&self, machine: &Machine, most: usize) -> Vec<LogEntry> {
        log::recent(machine, most)
    }

    fn runs(&self, machine: &Machine) -> Vec<Run> {
        runs::runs(machine)
    }

    fn locks(&self) -> Vec<SystemPath> {
        vec![in_database("lock-frontend"), in_database("lock")]
    }

    fn update_locks(&self) -> Vec<SystemPath> {
        [self.locks(), apt::LOCKS.map(SystemPath::literal).into()].concat()
    }
}
