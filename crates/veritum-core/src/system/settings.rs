//! [`Settings`]: everything that the caller decides.

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

/// Everything that the caller decides.
#[derive(Debug, Clone)]
pub struct Settings {
    /// The machine's root on the host.
    pub root: PathBuf,
    /// Disks and images that were named: the machine's own, or those from which it is read.
    pub disks: Vec<PathBuf>,
    /// The number of the partition with the root of the system that is meant, if several are on disks that are not mounted.
    pub partition: Option<u32>,
    /// The store, if one is used.
    pub store: Option<Location>,
    /// The administrator's trust folder.
    pub trust: PathBuf,
    /// The state folder, if it is not the machine's own.
    pub state_dir: Option<PathBuf>,
    /// The administrator's folder of notes on machines that are mounted elsewhere, or that an ordinary user checks;
    /// without one nothing is recorded about them.
    pub notes: Option<PathBuf>,
    /// Private folders for temporary work, the best first.
    pub scratch: Vec<PathBuf>,
    /// Further sources, in the order in which they were named.
    pub from: Vec<Supplier>,
    /// Settings for repositories; folders and URLs in `from` are not repeated here.
    pub repositories: RepositorySettings,
    /// Whether every package is compared with its .deb file, not only those that differ.
    pub complete: bool,
    /// The required strength of verification, if any.
    pub min_trust: Option<Authority>,
    /// Whether a check skips files unchanged since the last full one.
    pub quick: bool,
    /// The administrator's rules.
    pub policy: Policy,
    /// The number of threads.
    pub jobs: usize,
    /// Whether a question can be answered: if not, nothing is downloaded for a repair that would have to ask.
    pub answerable: bool,
    /// Whether to write although the disk is in doubt.
    pub ignore_disk_errors: bool,
    /// Whether locking attributes may be cleared during a change.
    pub clear_immutable: bool,
    /// The time now.
    pub now: jiff::Timestamp,
    /// Identifies this run.
    pub run: String,
    /// The service manager to use.
    pub services: ServiceManager,
    /// The helper that works in homes with their owners' rights: a program with its arguments. Without one this process does
    /// it, with its own rights.
    pub helper: Vec<OsString>,
    /// Whether the user at the terminal wants to stop: checked during long waits.
    pub stop: Arc<AtomicBool>,
    /// The administrator's folder of application cards.
    pub cards: Option<PathBuf>,
    /// The folder with the variables of the firmware that starts the machine, if that is not this computer's.
    pub firmware: Option<PathBuf>,
    /// This program, with the words by which it enters a mounted system to run one of its programs there.
    pub inside: Vec<OsString>,
    /// The command that completes or undoes an interrupted change after this process is gone.
    pub recovery: Vec<OsString>,
}

/// The service manager to use.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum ServiceManager {
    /// The running system's own manager if the machine is the running system, else none.
    #[default]
    Own,
    /// A substitute that keeps states in the files of a folder.
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
    /// How stores on web servers are reached.
    #[must_use]
    pub fn reach(&self) -> Reach {
        let RepositorySettings { network, proxies, limits, downloads, .. } = &self.repositories;
        // The machine's own proxy settings are for its repositories only.
        let fetcher = || Arc::new(Fetcher::new(AptConf::default(), proxies.clone(), *limits));
        Reach { fetch: network.then(|| fetcher() as _), keep: downloads.clone(), scratch: self.scratch.clone() }
    }

    /// The folder of the store in use.
    ///
    /// # Errors
    /// When none is named, or it is not a folder.
    pub fn store_folder(&self) -> Result<&std::path::Path, WorkError> {
        match &self.store {
            None => Err(WorkError::NoStore),
            Some(Location::Folder(folder)) => Ok(folder),
            Some(Location::Url(url)) => Err(StoreError::NotAFolder { url: url.clone() }.into()),
        }
    }
}

/// A further source.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Supplier {
    /// A folder or file of the host: packages, install media, a repository, a store.
    Place(PathBuf),
    /// A repository's URL.
    Url(String),
}
