//! The commands: the only module that knows the order of work. Time, names and configuration come in through [`Settings`].

mod apps;
mod automatic;
mod check;
mod consent;
mod disks;
mod examine;
mod explain;
mod fill;
mod identify;
mod list_disks;
mod names;
mod own_watch;
mod programs;
mod quick;
mod regenerate;
mod repair;
mod repair_boot;
mod repair_disks;
mod repair_state;
mod repaired;
mod rescue;
mod rescue_back;
mod rescue_source;
mod reset;
mod return_to;
mod savepoints;
mod session;
mod starts;
mod status;
mod steps;
mod undo;
mod updates;

pub use crate::model::SurfaceExtent;
pub use automatic::Switched;
pub use consent::{Agreement, Preview};
pub use disks::DisksWanted;
pub use disks::{OnDisks, check_bare_disks, check_disks};
pub use list_disks::list_disks;
pub use repair_boot::BootRepairWanted;
pub use repair_disks::CorrectionsWanted;
pub use rescue::{RescueWanted, deleted_files, image_of_disk, rescue_files, verify_rescued};
pub use rescue_back::BackWanted;
pub use rescue_source::RescueSource;
pub use reset::{Only, ResetWanted};
pub use updates::UpdatesWanted;

pub use crate::system::{ServiceManager, Settings, Supplier, WorkError};

use self::identify::find_forgotten;
use self::identify::identify;
use std::sync::{Arc, PoisonError};

use crate::areas::{AREAS, is_wanted, store};
use crate::change::{ChangeContext, Locks, StateFolder};
use crate::devices::DiskSet;
use crate::event::Observer;
use crate::homes::HomesSeen;
use crate::machine::{Disk, Machine, MachineError, Protection};
use crate::model::{Scope, SystemPath};
use crate::platform::debian::Debian;
use crate::platform::debian::database::Database;
use crate::platform::efi_variables::FirmwareVariables;
use crate::platform::{Installed, Platform};
use crate::supply::{OpenSources, Stores, Supply};
use crate::system::{LiveDisks, System, Threads, last_return};

/// How a machine's package database is read.
type ReadDatabase = fn(&Machine, Option<&str>) -> Result<(Installed, Database), MachineError>;

/// An open machine with its sources.
#[derive(Debug)]
pub struct Engine {
    system: System,
    open: OpenSources,
    homes: HomesSeen,
}

impl Engine {
    /// Opens a machine. A store that cannot be used is an error for commands that need it, and reported by `status`.
    ///
    /// # Errors
    /// When there is no system, or it cannot be read.
    pub fn open(settings: Settings, disk: Arc<dyn Disk>) -> Result<Self, WorkError> {
        Self::open_with(settings, disk, Debian::read)
    }

    /// The same for a brief answer: packages whose entries are missing are not looked for where nothing is visibly damaged.
    ///
    /// # Errors
    /// As for [`open`](Self::open).
    pub fn open_briefly(settings: Settings, disk: Arc<dyn Disk>) -> Result<Self, WorkError> {
        Self::open_with(settings, disk, Debian::read_briefly)
    }

    fn open_with(settings: Settings, disk: Arc<dyn Disk>, read: ReadDatabase) -> Result<Self, WorkError> {
        Self::open_from(settings, disk, None, read)
    }

    pub(super) fn open_from(
        settings: Settings,
        disk: Arc<dyn Disk>,
        disks: Option<Arc<DiskSet>>,
        read: ReadDatabase,
    ) -> Result<Self, WorkError> {
        let machine = Machine::open(&settings.root, disk)?;
        if !Debian.is_here(&machine) {
            return Err(MachineError::NoSystem { path: settings.root.clone() }.into());
        }
        let returned = last_return(&machine, &settings);
        // The package database is read in parallel with the stores' signed files.
        let (read, stores) = std::thread::scope(|threads| {
            let stores = threads.spawn(|| Stores::open(&settings));
            (
                read(&machine, returned.as_deref()),
                stores.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)),
            )
        });
        let (installed, database) = read?;
        let pool = Threads::new(settings.jobs);
        let (protection, services) = (Protection::new(&machine), settings.services.open(&machine));
        let areas = AREAS.iter().map(|area| area.about().name.clone()).collect();
        let firmware = FirmwareVariables::new(settings.firmware.clone());
        let live_disks = LiveDisks::new(settings.disks.clone(), firmware);
        let system =
            System { settings, machine, disks, live_disks, protection, installed, database, services, areas, pool };
        let mut engine = Self { system, open: OpenSources::default(), homes: HomesSeen::default() };
        engine.open.use_stores(stores);
        identify(&mut engine);
        Ok(engine)
    }

    /// Opens the stores and reads the installed packages again, after either was repaired.
    fn reload(&mut self) -> Result<(), WorkError> {
        self.open.use_stores(Stores::open(&self.system.settings));
        self.system.read_again()?;
        identify(self);
        find_forgotten(self);
        Ok(())
    }

    /// The machine.
    #[must_use]
    pub fn machine(&self) -> &Machine {
        &self.system.machine
    }

    /// A description of the machine, for reports.
    #[must_use]
    pub fn machine_report(&self) -> crate::report::MachineReport {
        self.system.machine_report()
    }

    /// For the end of a process: deletes temporary files and leaks the memory, which the system reclaims faster as a whole than
    /// in a hundred thousand small pieces.
    pub fn leave(mut self) {
        self.open.stores.clear();
        if let Some(repositories) = self.open.repositories.get_mut().unwrap_or_else(PoisonError::into_inner) {
            repositories.remove_unpacked();
        }
        std::mem::forget(self);
    }

    /// The installed packages.
    #[must_use]
    pub fn installed(&self) -> &Installed {
        &self.system.installed
    }

    /// The open sources, together with the system.
    fn supply(&self) -> Supply<'_> {
        Supply { system: &self.system, open: &self.open }
    }

    /// Refuses to continue with a named store that cannot be used. If the store itself is examined, damage
    /// to its signed files is a finding instead.
    fn require_store_sound(&mut self, scope: &Scope) -> Result<(), WorkError> {
        if is_wanted(&store::Store, scope) && self.supply().unverified_store().is_some() {
            self.open.store_trouble = None;
        }
        match self.open.store_trouble.take() {
            Some(trouble) => Err(trouble.into()),
            None => Ok(()),
        }
    }

    /// Makes sure that the machine may be written: all of it is mounted, and no one else is changing it.
    fn locks(&self, context: &ChangeContext<'_>, package_locks: &[SystemPath]) -> Result<Locks, WorkError> {
        self.system.require_writable()?;
        Ok(context.lock(package_locks)?)
    }

    fn context<'a>(&'a self, state: &'a StateFolder, observer: &'a dyn Observer) -> ChangeContext<'a> {
        ChangeContext {
            machine: &self.system.machine,
            state,
            protection: &self.system.protection,
            observer,
            clear_immutable: self.system.settings.clear_immutable,
            services: self.system.services.as_ref(),
            disks: &self.system.live_disks,
            home: None,
        }
    }
}
