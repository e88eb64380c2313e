//! [`Settings`]: everything that the outside decides.

use std::ffi::OsString;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use super::WorkError;
use crate::machine::Machine;
use crate::model::Authority;
use crate::platform::debian::apt::AptConf;
use crate::platform::services::{NoServices, Services};
use crate::platform::stand_in::StandIn;
use crate::platform::systemd::Systemd;
use crate::reference::Policy;
use crate::repository::{Fetcher, RepositorySettings};
use crate::store::{Location, Reach, StoreError};

/// Everything that the outside decides.
#[derive(Debug, Clone)]
pub struct Settings {
    /// The machine's root on the host.
    pub root: PathBuf,
    /// The store, when one is to be used.
    pub store: Option<Location>,
    /// The administrator's trust folder.
    pub trust: PathBuf,
    /// The state folder, when it is not the machine's own.
    pub state_dir: Option<PathBuf>,
    /// The administrator's folder of notes on machines that are mounted from elsewhere, or that an ordinary user examines;
    /// without one nothing is noted of them.
    pub notes: Option<PathBuf>,
    /// Private places for short work, the best first.
    pub scratch: Vec<PathBuf>,
    /// Further supplies, in the order in which they were named.
    pub from: Vec<Supplier>,
    /// What the outside decides about repositories; the folders and URLs named in `from` need not are here.
    pub repositories: RepositorySettings,
    /// Whether every package is to be compared with its .deb file, not only those that differ.
    pub complete: bool,
    /// How strongly things must be verified at least, when that matters.
    pub min_trust: Option<Authority>,
    /// Whether a check leaves out reading what has not changed since the last full one.
    pub quick: bool,
    /// The administrator's rules.
    pub policy: Policy,
    /// Threads.
    pub jobs: usize,
    /// Whether a question can be answered: where it cannot, nothing is downloaded for a repair that would have to ask.
    pub answerable: bool,
    /// Whether to write although there is doubt about the disk.
    pub ignore_disk_errors: bool,
    /// Whether locking attributes may be cleared for the time of a change.
    pub clear_immutable: bool,
    /// The time now.
    pub now: jiff::Timestamp,
    /// Names this run.
    pub run: String,
    /// Where services are managed.
    pub services: ServiceManager,
    /// Who works in homes with their owners' rights: a program with its words. Without one this process does it itself, with the
    /// rights that it has.
    pub helper: Vec<OsString>,
    /// Whether the person at the terminal wishes to stop: examined where waiting may be long.
    pub stop: Arc<AtomicBool>,
    /// The administrator's folder of application cards.
    pub cards: Option<PathBuf>,
    /// What finishes or undoes an interrupted change when this process is gone: a program with its words.
    pub recovery: Vec<OsString>,
}

/// Where services are managed.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum ServiceManager {
    /// By the running system's own manager when the machine is the running system, else nowhere.
    #[default]
    Own,
    /// By a are-in that keeps states in the files of a folder.
    StandIn(PathBuf),
}

impl ServiceManager {
    /// Opens it.
    #[must_use]
    pub fn open(&self, machine: &Machine) -> Box<dyn Services> {
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
        let RepositorySettings { network, proxies, limits, downloads, .. } = &self.repositories;
        // Whatever the machine says of proxies is meant for its own repositories.
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
    /// A folder or file of the host: packages, install media, a repository, a store.
    Place(PathBuf),
    /// A repository's URL.
    Url(String),
}
