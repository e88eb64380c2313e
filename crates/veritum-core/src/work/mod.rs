//! The drivers: the only module that knows the order. Time, names and configuration come in through [`Settings`].

mod apps;
mod check;
mod consent;
mod examine;
mod explain;
mod fill;
mod identify;
mod names;
mod own_watch;
mod programs;
mod quick;
mod repair;
mod repair_state;
mod repaired;
mod reset;
mod session;
mod status;
mod steps;
mod undo;
mod updates;

pub use consent::{Agreement, Preview};
pub use reset::{Only, ResetWanted};
pub use updates::UpdatesWanted;

pub use crate::system::{ServiceManager, Settings, Supplier, WorkError};

use self::identify::find_forgotten;
use self::identify::identify;
use std::sync::{Arc, PoisonError};

use crate::areas::{AREAS, is_wanted, store};
use crate::change::{ChangeContext, Locks, StateFolder};
use crate::event::Observer;
use crate::homes::HomesSeen;
use crate::machine::{Disk, Machine, MachineError, Protection};
use crate::model::{Scope, SystemPath};
use crate::platform::debian::Debian;
use crate::platform::{Installed, Platform};
use crate::supply::{OpenSources, Stores, Supply};
use crate::system::System;

/// A machine that is open for work, with the sources that answer for it.
#[derive(Debug)]
pub struct Engine {
    system: System,
    open: OpenSources,
    homes: HomesSeen,
}

impl Engine {
    /// Opens a machine. A store that cannot be used is an error for work that needs it, and reported by `status`.
    ///
    /// # Errors
    /// When there is no system, or it cannot be read.
    pub fn open(settings: Settings, disk: Arc<dyn Disk>) -> Result<Self, WorkError> {
        let machine = Machine::open(&settings.root, disk)?;
        if !Debian.is_here(&machine) {
            return Err(MachineError::NoSystem { path: settings.root.clone() }.into());
        }
        // The machine's records are read next to the stores' signed files.
        let (read, stores) = std::thread::scope(|threads| {
            let stores = threads.spawn(|| Stores::open(&settings));
            (Debian::read(&machine), stores.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)))
        });
        let (installed, database) = read?;
        let pool =
            rayon::ThreadPoolBuilder::new().num_threads(settings.jobs).build().map_err(|_| WorkError::Threads)?;
        let (protection, services) = (Protection::new(&machine), settings.services.open(&machine));
        let areas = AREAS.iter().map(|area| area.about().name.clone()).collect();
        let system = System { settings, machine, protection, installed, database, services, areas, pool };
        let mut engine = Self { system, open: OpenSources::default(), homes: HomesSeen::default() };
        engine.open.use_stores(stores);
        identify(&mut engine);
        Ok(engine)
    }

    /// Opens the stores again and reads again what is installed, after the one or the other was repaired.
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

    /// What the machine is, for a report.
    #[must_use]
    pub fn machine_report(&self) -> crate::report::MachineReport {
        self.system.machine_report()
    }

    /// For the end of a process: takes away what is on the disk for this work alone, and leaves the memory to the system,
    /// which gets it back faster whole than in a hundred thousand small pieces.
    pub fn leave(mut self) {
        self.open.stores.clear();
        if let Some(repositories) = self.open.repositories.get_mut().unwrap_or_else(PoisonError::into_inner) {
            repositories.remove_unpacked();
        }
        std::mem::forget(self);
    }

    /// What is installed on it.
    #[must_use]
    pub fn installed(&self) -> &Installed {
        &self.system.installed
    }

    /// The open sources, seen from the system.
    fn supply(&self) -> Supply<'_> {
        Supply { system: &self.system, open: &self.open }
    }

    /// Refuses to go on with a store that was named and cannot be used. Where the store itself is to be examined, damage
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

    /// Makes sure that the machine may be written: everything of it mounted, no one else at work.
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
            home: None,
        }
    }
}
