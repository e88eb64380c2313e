//! [`System`]: the machine that is worked on, with its package database and the settings.

mod disks;
mod error;
mod file_systems;
mod restart;
mod settings;
mod spellings;
mod state;
mod threads;
mod tools;

pub use disks::LiveDisks;
pub use error::WorkError;
pub use file_systems::MountedExt4;
pub use settings::{ServiceManager, Settings, Supplier};
pub use state::{last_return, require_elsewhere};
pub use threads::Threads;
pub use tools::ToolRunner;

use std::sync::Arc;

use crate::devices::DiskSet;
use crate::machine::{Machine, Protection};
use crate::model::{AreaName, Stat, SystemPath};
use crate::platform::Installed;
use crate::platform::debian::Debian;
use crate::platform::debian::database::Database;
use crate::platform::services::Services;
use crate::report::MachineReport;

/// The system that is worked on.
#[derive(Debug)]
pub struct System {
    /// The settings.
    pub settings: Settings,
    /// The machine as files.
    pub machine: Machine,
    /// The disks from which it is read, if it is not mounted.
    pub disks: Option<Arc<DiskSet>>,
    /// The disks that changes write to.
    pub live_disks: LiveDisks,
    /// Places that must not be changed.
    pub protection: Protection,
    /// The installed packages.
    pub installed: Installed,
    /// The package database itself, with its errors.
    pub database: Database,
    /// Its service manager.
    pub services: Box<dyn Services>,
    /// The areas of this version: logs of other areas come from a newer version.
    pub areas: Vec<AreaName>,
    /// The pool of threads.
    pub pool: Threads,
}

impl System {
    /// Reads the installed packages again, after the database was repaired.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn read_again(&mut self) -> Result<(), WorkError> {
        let returned = last_return(&self.machine, &self.settings);
        (self.installed, self.database) = Debian::read(&self.machine, returned.as_deref())?;
        Ok(())
    }

    /// Whether the administrator excluded a path from unpacking.
    pub fn left_out(&self) -> impl Fn(&SystemPath) -> bool + '_ {
        |path| self.installed.left_out.has(path)
    }

    /// A description of the machine.
    #[must_use]
    pub fn machine_report(&self) -> MachineReport {
        let identified = self.machine.identified();
        MachineReport {
            root: self.machine.path().display().to_string(),
            system: identified.system.clone(),
            hostname: identified.hostname.clone(),
            packages: self.installed.packages.len() as u64,
            live: self.machine.is_live(),
        }
    }

    /// The time of a check, and how reliable it is.
    pub fn since_words(&self, at: &str) -> String {
        // A mounted disk may have been changed by a system whose clock is set differently.
        let weak = match self.machine.is_live() {
            true => "",
            false => " (weak: the disk was not under control since then)",
        };
        let time = at.parse::<jiff::Timestamp>();
        let time = time.map_or_else(|_| "an unknown time".into(), |at| at.strftime("%Y-%m-%d %H:%M UTC").to_string());
        format!("{time}{weak}")
    }

    /// The real location of a file, and what is there.
    pub fn place_of_file(&self, path: &SystemPath) -> Option<(SystemPath, Option<Stat>)> {
        let parent = self.machine.resolve(&path.parent()?).ok()?;
        let place = parent.child(path.name()).ok()?;
        let dir = self.machine.dir(&parent).ok()?;
        Some((place, dir.look(path.name()).ok()?))
    }

    /// The end of a log, limited in bytes; empty where it cannot be read.
    pub fn end_of(&self, path: &SystemPath, most: u64) -> Vec<u8> {
        self.machine.read_end(path, most).ok().flatten().unwrap_or_default()
    }

    /// Refuses to write where part of the system is not mounted, or a process runs in it.
    pub fn require_writable(&self) -> Result<(), WorkError> {
        // Without the package database's file system it is unknown what is installed; other missing parts are skipped.
        let database = SystemPath::literal("/var/lib/dpkg");
        // A database below the mount point of its own file system may be an old copy.
        let extent = self.machine.extent();
        let covered = || extent.covered().iter().find(|place| database.is_within(place));
        if let Some(place) = extent.unmounted_above(&database).or_else(covered) {
            return Err(WorkError::NotMounted { place: place.clone() });
        }
        if self.machine.is_in_use() {
            return Err(WorkError::InUse);
        }
        Ok(())
    }
}
