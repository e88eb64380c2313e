//! Wires the rooms: the only one that knows the order. Time, names and configuration come in through [`Settings`].

mod ahead;
mod apps;
mod cards;
mod check;
mod cleared;
mod clearing;
mod explain;
mod files;
mod filling;
mod finishing;
mod holding;
mod homes;
mod identify;
mod inside;
mod mending;
mod named;
mod notes;
mod profiles;
mod programs;
mod proof;
mod records;
mod registering;
mod renewing;
mod repair;
mod reset;
mod running;
mod runs;
mod settled;
mod sources;
mod status;
mod store;
mod supplies;
mod undo;
mod updates;

pub use renewing::ClearUpdates;
pub use repair::{Agreement, Preview};
pub use reset::{Only, ResetWanted};
pub use runs::UpdatesWanted;

use std::collections::{HashMap, HashSet};
use std::ffi::OsString;
use std::path::PathBuf;
use std::sync::atomic::AtomicBool;
use std::sync::{Arc, Mutex, PoisonError, RwLock};

use self::supplies::Stores;
use crate::archive::{Archive, ArchiveSettings, Fetcher};
use crate::areas::records::{RecordFault, RecordJudge};
use crate::change::{ChangeContext, ChangeError, Locks, StateError, StateFolder};
use crate::event::Observer;
use crate::machine::{Disk, LockError, Machine, MachineError, Protection, lock_shared};
use crate::model::{Area, Authority, ComponentId, Digest, Scope, SystemPath};
use crate::platform::debian::Debian;
use crate::platform::debian::apt::AptConf;
use crate::platform::debian::database::Database;
use crate::platform::services::{NoServices, Services};
use crate::platform::stand_in::StandIn;
use crate::platform::systemd::Systemd;
use crate::platform::{Installed, Platform};
use crate::reference::{ManifestSource, Origin, Policy, Reference};
use crate::store::{Location, Reach, Store, StoreError};

/// Everything that the outside decides.
#[derive(Debug, Clone)]
pub struct Settings {
    /// The machine's root on the host.
    pub target: PathBuf,
    /// The store, when one is to be used.
    pub store: Option<Location>,
    /// The operator's trust folder.
    pub trust: PathBuf,
    /// The state folder, when it is not the machine's own.
    pub state: Option<PathBuf>,
    /// The administrator's folder of notes on machines that are mounted from elsewhere, or that an ordinary user looks at;
    /// without one nothing is noted of them.
    pub notes: Option<PathBuf>,
    /// Private places for short work, the best first.
    pub scratch: Vec<PathBuf>,
    /// Further supplies, in the order in which they were named.
    pub from: Vec<Supplier>,
    /// What the outside decides about archives; the folders and URLs named in `from` need not stand here.
    pub archive: ArchiveSettings,
    /// Whether every component is to be held against its package, not only those that differ.
    pub full_chain: bool,
    /// How strongly things must be vouched for at least, when that matters.
    pub require: Option<Authority>,
    /// Whether a check leaves out reading what has not changed since the last full one.
    pub quick: bool,
    /// The operator's rules.
    pub policy: Policy,
    /// Threads.
    pub jobs: usize,
    /// Whether a question can be answered: where it cannot, nothing is downloaded for a repair that would have to ask.
    pub answerable: bool,
    /// Whether to write although there is doubt about the disk.
    pub despite_disk: bool,
    /// Whether locking attributes may be cleared for the time of a change.
    pub clear_attributes: bool,
    /// The time now.
    pub now: jiff::Timestamp,
    /// Names this run.
    pub run: String,
    /// Where services are managed.
    pub services: ServiceManager,
    /// Who works in homes with their owners' rights: a program with its words. Without one this process does it itself, with the
    /// rights that it has.
    pub helper: Vec<OsString>,
    /// Whether the person at the terminal wishes to stop: looked at where waiting may be long.
    pub stop: Arc<AtomicBool>,
    /// The operator's folder of application cards.
    pub cards: Option<PathBuf>,
    /// What finishes or takes back an interrupted change when this process is gone: a program with its words.
    pub recovery: Vec<OsString>,
}

/// Where services are managed.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum ServiceManager {
    /// By the running system's own manager when the machine is the running system, else nowhere.
    #[default]
    Own,
    /// By a stand-in that keeps states in the files of a folder.
    StandIn(PathBuf),
}

impl ServiceManager {
    fn open(&self, machine: &Machine) -> Box<dyn Services> {
        match self {
            Self::StandIn(folder) => Box::new(StandIn::in_folder(folder)),
            Self::Own if machine.is_live() && Systemd::is_here() => Box::new(Systemd),
            Self::Own => Box::new(NoServices),
        }
    }
}

impl Settings {
    /// How stores are reached that lie on web servers.
    #[must_use]
    pub fn reach(&self) -> Reach {
        let ArchiveSettings { network, proxies, limits, downloads, .. } = &self.archive;
        // Whatever the machine says of proxies is meant for its own archives.
        let fetcher = || Arc::new(Fetcher::new(AptConf::default(), proxies.clone(), *limits));
        Reach { fetch: network.then(|| fetcher() as _), keep: downloads.clone(), scratch: self.scratch.clone() }
    }

    /// The folder of the store in use.
    ///
    /// # Errors
    /// When none is named, or it is no folder.
    pub fn store_folder(&self) -> Result<&std::path::Path, WorkError> {
        match &self.store {
            None => Err(WorkError::NoStore),
            Some(Location::Folder(folder)) => Ok(folder),
            Some(Location::Url(url)) => Err(StoreError::NotAFolder { url: url.clone() }.into()),
        }
    }
}

/// A further place to get things from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Supplier {
    /// A folder or file of the host: packages, install media, an archive, a store.
    Place(PathBuf),
    /// An archive's URL.
    Url(String),
}

/// Why the work cannot be done.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum WorkError {
    /// The machine cannot be worked on.
    #[error(transparent)]
    Target(#[from] MachineError),
    /// The store cannot be used.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The change cannot be made.
    #[error(transparent)]
    Change(#[from] ChangeError),
    /// A change is under way, so what is seen would be half of it.
    #[error("a change is under way on this machine")]
    ChangeUnderWay,
    /// Part of the system is not mounted, so nothing may be written.
    #[error("{place} is part of this system and is not mounted")]
    NotMounted {
        /// Which part.
        place: SystemPath,
    },
    /// A program holds a lock that is needed.
    #[error("{path} is held: {who}")]
    LockHeld {
        /// The lock.
        path: SystemPath,
        /// Who holds it, and what it does.
        who: String,
        /// Whether it was seen to do nothing.
        stuck: bool,
    },
    /// Somebody runs in it.
    #[error("a running process has this system as its root")]
    InUse,
    /// A store was to be looked at, and none is used.
    #[error("no store is used here")]
    NoStore,
    /// No threads could be started.
    #[error("no threads could be started")]
    Threads,
    /// Nothing of that name is known.
    #[error("there is no {what} {name}")]
    Unknown {
        /// What kind of thing.
        what: &'static str,
        /// The name as typed.
        name: String,
        /// The names there are, where they can be listed.
        known: Vec<String>,
    },
    /// There is nothing at a path that was named, and no component has anything there.
    #[error("no such file: {path}")]
    NoSuchFile {
        /// The path as it was named.
        path: SystemPath,
    },
    /// A typed finding fits several.
    #[error("{name} fits more than one finding")]
    Ambiguous {
        /// The name as typed.
        name: String,
    },
    /// A card of the operator's cannot be used.
    #[error("the card {} cannot be used", path.display())]
    Card {
        /// The card's file, as the host names it.
        path: PathBuf,
        /// Why.
        why: String,
    },
    /// A typed name fits several applications.
    #[error("{name} fits more than one application")]
    SeveralApps {
        /// The name as typed.
        name: String,
        /// Their ids.
        ids: Vec<String>,
    },
    /// A home cannot be worked on.
    #[error("the home of {user} cannot be worked on")]
    Home {
        /// Whose.
        user: String,
        /// Why.
        source: std::io::Error,
    },
    /// The application that a change is about runs.
    #[error("{app} is running")]
    AppRuns {
        /// Its id.
        app: String,
        /// Whose processes.
        user: String,
        /// Their numbers.
        pids: Vec<u32>,
    },
    /// There is nothing to be undone.
    #[error("there is no change to take back")]
    NothingToUndo,
    /// A question would have to be asked, and nobody can answer.
    #[error("there is nobody to ask")]
    NobodyToAsk,
    /// The observer said stop before anything took effect.
    #[error("stopped")]
    Stopped,
}

impl WorkError {
    fn unknown(what: &'static str, name: &str) -> Self {
        Self::Unknown { what, name: name.to_owned(), known: Vec::new() }
    }
}

/// What should be there, and what is wrong with components' records when they were judged on the way.
#[derive(Debug, Default)]
struct Gathered {
    reference: Reference,
    record_faults: Vec<RecordFault>,
}

/// A machine that is open for work, with what vouches for it.
#[derive(Debug)]
pub struct Engine {
    settings: Settings,
    machine: Machine,
    protection: Protection,
    installed: Installed,
    /// The package database itself, with all that is wrong with it.
    database: Database,
    /// The store in use, then those among the further supplies.
    stores: Vec<Store>,
    store_trouble: Option<StoreError>,
    /// Stores among the further supplies that cannot be used, with the reason.
    refused_stores: Vec<String>,
    /// Whether the first of them is the one in use.
    own_opened: bool,
    /// Contents of the store in use that are known not to be what was signed.
    bad: RwLock<HashSet<Digest>>,
    /// Whether the package of a component is at hand, as far as a repair of the store asked.
    packages: Mutex<HashMap<ComponentId, bool>>,
    /// Why contents could not be unpacked from packages at hand.
    unpack_trouble: Mutex<Vec<String>>,
    /// Opened when it is first needed: following its chain takes a moment.
    archive: RwLock<Option<Archive>>,
    services: Box<dyn Services>,
    pool: rayon::ThreadPool,
}

impl Engine {
    /// Opens a machine. A store that cannot be used is an error for work that needs it, and told by `status`.
    ///
    /// # Errors
    /// When there is no system, or it cannot be read.
    pub fn open(settings: Settings, disk: Arc<dyn Disk>) -> Result<Self, WorkError> {
        let machine = Machine::open(&settings.target, disk)?;
        if !Debian.is_here(&machine) {
            return Err(MachineError::NoSystem { path: settings.target.clone() }.into());
        }
        // The machine's records are read beside the stores' signed files.
        let (read, stores) = std::thread::scope(|threads| {
            let stores = threads.spawn(|| Stores::open(&settings));
            (Debian::read(&machine), stores.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)))
        });
        let (installed, database) = read?;
        let pool =
            rayon::ThreadPoolBuilder::new().num_threads(settings.jobs).build().map_err(|_| WorkError::Threads)?;
        let services = settings.services.open(&machine);
        let mut engine = Self {
            protection: Protection::of(&machine),
            settings,
            machine,
            installed,
            database,
            stores: Vec::new(),
            store_trouble: None,
            refused_stores: Vec::new(),
            own_opened: false,
            bad: RwLock::default(),
            packages: Mutex::default(),
            unpack_trouble: Mutex::default(),
            archive: RwLock::default(),
            services,
            pool,
        };
        engine.use_stores(stores);
        engine.identify();
        Ok(engine)
    }

    /// The machine.
    #[must_use]
    pub fn machine(&self) -> &Machine {
        &self.machine
    }

    /// For the end of a process: takes away what lies on the disk for this work alone, and leaves the memory to the system,
    /// which gets it back faster whole than in a hundred thousand small pieces.
    pub fn leave(mut self) {
        self.stores.clear();
        if let Some(archive) = self.archive.get_mut().unwrap_or_else(PoisonError::into_inner) {
            archive.remove_unpacked();
        }
        std::mem::forget(self);
    }

    /// What is installed on it.
    #[must_use]
    pub fn installed(&self) -> &Installed {
        &self.installed
    }

    /// Refuses to go on with a store that was named and cannot be used. Where the store itself is to be looked at, damage
    /// to its signed files is a finding instead.
    fn require_store_sound(&mut self, scope: &Scope) -> Result<(), WorkError> {
        if scope.names(Area::Store) && self.settings.store.is_none() {
            return Err(WorkError::NoStore);
        }
        if self.depth(scope).is_some() && self.unverified_store().is_some() {
            self.store_trouble = None;
        }
        match self.store_trouble.take() {
            Some(trouble) => Err(trouble.into()),
            None => Ok(()),
        }
    }

    /// What should be there; on request the records of each component are judged on the way.
    fn gathered(&self, scope: &Scope, with_records: bool) -> Gathered {
        let archive = self.archive.read().unwrap_or_else(PoisonError::into_inner);
        let stores = self.stores.iter().map(|s| s as &dyn ManifestSource);
        let sources: Vec<&dyn ManifestSource> =
            stores.chain(archive.as_ref().map(|a| a as &dyn ManifestSource)).collect();
        let judge = with_records.then(|| RecordJudge::new(&self.machine, &self.database));
        let origin = Origin {
            machine: &self.machine,
            platform: &Debian,
            installed: &self.installed,
            sources: &sources,
            policy: &self.settings.policy,
            judge: judge.as_ref().map(|judge| judge as _),
        };
        let reference = Reference::gather(&origin, scope, &self.pool);
        Gathered { reference, record_faults: judge.map(RecordJudge::into_faults).unwrap_or_default() }
    }

    fn left_out(&self) -> impl Fn(&SystemPath) -> bool + '_ {
        |path| self.installed.left_out.has(path)
    }

    /// The state folder, when it is there.
    fn state(&self) -> Result<Option<StateFolder>, WorkError> {
        Ok(StateFolder::find(&self.machine, self.settings.state.as_deref()).map_err(ChangeError::from)?)
    }

    /// The same for a command that only looks: one that may not be read counts as none.
    fn readable_state(&self) -> Result<Option<StateFolder>, WorkError> {
        match self.state() {
            Err(WorkError::Change(ChangeError::State(StateError::Io { source, .. })))
                if source.kind() == std::io::ErrorKind::PermissionDenied =>
            {
                Ok(None)
            }
            other => other,
        }
    }

    fn make_state(&self) -> Result<StateFolder, WorkError> {
        Ok(StateFolder::make(&self.machine, self.settings.state.as_deref()).map_err(ChangeError::from)?)
    }

    /// Makes sure that no change is under way while facts are gathered.
    fn shared_lock(&self, state: Option<&StateFolder>) -> Result<Option<crate::machine::Held>, WorkError> {
        match state.map(|s| lock_shared(s.dir(), b"lock")) {
            Some(Err(LockError::Busy)) => Err(WorkError::ChangeUnderWay),
            Some(Ok(held)) => Ok(Some(held)),
            // No lock file, or one that may not be read: a read-only medium, or never changed.
            Some(Err(LockError::Io(_))) | None => Ok(None),
        }
    }

    /// Makes sure that the machine may be written: everything of it mounted, nobody else at work.
    fn locks(&self, context: &ChangeContext<'_>) -> Result<Locks, WorkError> {
        self.locks_of(context, &Debian.locks())
    }

    /// The same, with those of lists and downloads.
    fn update_locks(&self, context: &ChangeContext<'_>) -> Result<Locks, WorkError> {
        self.locks_of(context, &Debian.update_locks())
    }

    fn locks_of(&self, context: &ChangeContext<'_>, package_locks: &[SystemPath]) -> Result<Locks, WorkError> {
        self.require_writable()?;
        Ok(context.lock(package_locks)?)
    }

    /// Refuses to write where part of the system is missing, or somebody runs in it.
    fn require_writable(&self) -> Result<(), WorkError> {
        // Without the package database's own disk nobody can know what is installed; the other parts are passed over.
        let database = SystemPath::literal("/var/lib/dpkg");
        // One that lies below the mount point of its own disk may be an old one that was left behind there.
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

    fn context<'a>(&'a self, state: &'a StateFolder, observer: &'a dyn Observer) -> ChangeContext<'a> {
        ChangeContext {
            machine: &self.machine,
            state,
            protection: &self.protection,
            observer,
            clear_attributes: self.settings.clear_attributes,
            services: self.services.as_ref(),
            home: None,
        }
    }
}
