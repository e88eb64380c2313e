//! The vendor's repository as a reference and as a source: release file → index → package, each by the one before it.
//!
//! ```text
//! keyring of the source ∩ accepted keys → release file → index → package → expected files
//! ```
//!
//! The network is used only if the caller allows it. Verified results are kept by the administrator under the digest of
//! their source. `opening` follows the chain to the indexes, `packages` from there to contents;
//! `renewal` downloads the lists themselves again, and `lists` examines those of the machine.

mod debs;
mod fetch;
mod hand;
mod list_source;
mod lists;
#[cfg(target_feature = "crt-static")]
mod lookup;
mod opening;
mod partial;
mod renewal;
mod source;
mod table;
mod trouble;
mod unpack;
mod via;

use std::collections::{HashMap, HashSet};
use std::path::PathBuf;
use std::sync::{Arc, Mutex};

pub use fetch::{Fetcher, Limits, Proxies};
pub use hand::{AtHand, Deb, is_in_cache};
pub use lists::{available_lists, wrong_lists};
pub use renewal::{Asked, NewList, Renewal, RenewalError, fetch_lists, renewals, try_download};
pub use source::{IndexState, Standing};
pub use table::{Candidate, Table};
pub use trouble::FetchError;
pub use unpack::UnpackError;

use crate::machine::Machine;
use crate::model::{PackageId, SystemPath};
use crate::platform::Installed;
use crate::platform::debian::apt::{AptConf, Source};
use crate::store::{Manifest, Records};
use crate::trust::openpgp::Keyring;
use crate::trust::{Doubts, Facts, VendorKeys, Verified};
use list_source::ListSource;
use source::OpenRelease;
use unpack::Unpacked;

/// Settings for repositories.
#[derive(Debug, Clone, Default)]
pub struct RepositorySettings {
    /// The administrator's trust folder.
    pub trust: PathBuf,
    /// The administrator's folder of verified facts.
    pub cache: PathBuf,
    /// Folders and files named by the administrator: packages, install media, repositories.
    pub folders: Vec<PathBuf>,
    /// Repositories named by the administrator, by URL.
    pub urls: Vec<String>,
    /// Whether the network may be used.
    pub network: bool,
    /// Proxies of the environment.
    pub proxies: Proxies,
    /// Time limits.
    pub limits: Limits,
    /// The folder for downloads.
    pub downloads: PathBuf,
    /// Private folders for temporary work, the best first.
    pub scratch: Vec<PathBuf>,
}

/// One repository's suite, and its state.
#[derive(Debug, Clone)]
pub struct OpenSource {
    /// The source, as the machine or the administrator lists it.
    pub source: Source,
    /// Whether the administrator named it on the command line.
    pub named: bool,
    /// Its state.
    pub standing: Standing,
    /// Its release file with its location, if it is valid.
    open: Option<(OpenRelease, Found)>,
    /// Its indexes that have been read or tried.
    read: HashSet<String>,
}

impl OpenSource {
    /// Makes its indexes be read again when they are needed.
    fn forget_indexes(&mut self) {
        self.read.clear();
        if let Standing::Verified { bad_indexes, missing_indexes, .. } = &mut self.standing {
            bad_indexes.clear();
            *missing_indexes = 0;
        }
    }
}

/// The location of a release file; its indexes are next to it.
#[derive(Debug, Clone)]
enum Found {
    Lists,
    OnMachine(SystemPath),
    OnHost(PathBuf),
    Network(Arc<Fetcher>),
}

impl Found {
    fn list_source<'a>(&'a self, machine: &'a Machine, uri: &'a str) -> ListSource<'a> {
        match self {
            Self::Lists => ListSource::Lists { machine, uri },
            Self::OnMachine(folder) => ListSource::OnMachine { machine, folder: folder.clone() },
            Self::OnHost(folder) => ListSource::OnHost { folder: folder.clone() },
            Self::Network(fetcher) => ListSource::Network { fetcher, uri },
        }
    }
}

/// What a verified .deb file contains.
#[derive(Debug, Clone)]
struct Holdings {
    manifest: Verified<Arc<Manifest>>,
    /// Unknown for packages that were examined before this was recorded.
    records: Option<Verified<Arc<Records>>>,
    candidate: Candidate,
}

/// A package that is not available.
#[derive(Debug, Clone)]
pub struct Lacking {
    /// The package.
    pub id: PackageId,
    /// Its .deb file.
    pub candidate: Candidate,
}

/// The machine's repositories, as far as they were needed.
#[derive(Debug)]
pub struct Repositories {
    settings: RepositorySettings,
    sources: Vec<OpenSource>,
    table: Table,
    hand: AtHand,
    facts: Facts,
    doubts: Doubts,
    vendors: VendorKeys,
    fetcher: Arc<Fetcher>,
    common: Keyring,
    /// Names of what is installed or in apt's cache: only those are kept of an index.
    names: HashSet<String>,
    /// Whether others were added since.
    names_added: bool,
    /// Architectures of the installed packages, the machine's own first.
    archs: Vec<String>,
    asked_network: bool,
    now: jiff::Timestamp,
    manifests: HashMap<PackageId, Holdings>,
    broken: Vec<(PackageId, String)>,
    unpacked: Mutex<Vec<Unpacked>>,
}

impl Repositories {
    /// Opens the machine's sources with what is available, without the network.
    #[must_use]
    pub fn open(machine: &Machine, installed: &Installed, settings: RepositorySettings, now: jiff::Timestamp) -> Self {
        let mut repositories = Self {
            hand: AtHand::look(machine, &settings.folders, &settings.downloads),
            facts: Facts::in_folder(&settings.cache),
            doubts: Doubts::default(),
            common: source::common_keyring(machine),
            vendors: VendorKeys::in_folder(&settings.trust),
            fetcher: Arc::new(Fetcher::new(AptConf::read(machine), settings.proxies.clone(), settings.limits)),
            sources: Vec::new(),
            table: Table::default(),
            names: names(installed),
            names_added: false,
            archs: architectures(installed),
            asked_network: false,
            now,
            manifests: HashMap::new(),
            broken: Vec::new(),
            unpacked: Mutex::default(),
            settings,
        };
        repositories.names.extend(repositories.hand.cached_names().map(str::to_owned));
        repositories.open_machine_sources(machine);
        repositories.open_named(machine);
        repositories
    }

    /// What could not be saved about these repositories, and why.
    #[must_use]
    pub fn doubts(&self) -> Vec<String> {
        self.doubts.all()
    }

    /// The sources and their states.
    #[must_use]
    pub fn sources(&self) -> &[OpenSource] {
        &self.sources
    }

    /// Packages whose signed .deb file cannot be used, with the reason.
    #[must_use]
    pub fn broken(&self) -> &[(PackageId, String)] {
        &self.broken
    }

    /// Adds names of packages that are kept when indexes are read.
    pub fn also_know(&mut self, names: impl Iterator<Item = String>) {
        let before = self.names.len();
        self.names.extend(names);
        if self.names.len() > before {
            self.names_added = true;
            self.sources.iter_mut().for_each(|source| source.forget_indexes());
        }
    }

    /// The contents of the verified indexes that were read.
    #[must_use]
    pub fn table(&self) -> &Table {
        &self.table
    }

    /// Whether the network may be used.
    #[must_use]
    pub fn may_use_network(&self) -> bool {
        self.settings.network
    }

    /// The packages of that name in available, verified indexes.
    pub fn named(&mut self, machine: &Machine, name: &str) -> Vec<PackageId> {
        // Packages for all architectures are in every index; other architectures are requested by name.
        let archs: Vec<String> = self.archs.iter().cloned().chain(["all".to_owned()]).collect();
        let ids: Vec<PackageId> = archs.iter().filter_map(|arch| PackageId::new(name, "0", arch).ok()).collect();
        self.read_indexes(machine, ids.iter());
        self.table.named(name)
    }

    /// The packages in apt's cache with such a name that available, verified indexes list.
    pub fn cached(&mut self, machine: &Machine, is_wanted: &dyn Fn(&str) -> bool) -> Vec<PackageId> {
        let mut names: Vec<String> =
            self.hand.cached_names().filter(|name| is_wanted(name)).map(str::to_owned).collect();
        names.sort();
        names.dedup();
        let listed: Vec<PackageId> = names.iter().flat_map(|name| self.named(machine, name)).collect();
        listed.into_iter().filter(|id| self.local_candidate(machine, id).is_some()).collect()
    }

    /// The sources whose verified indexes list exactly this package, as far as indexes were read.
    pub fn offered_by<'a>(&'a self, id: &PackageId) -> impl Iterator<Item = &'a OpenSource> {
        let sources = self.table.candidates(id).iter().flat_map(|c| std::iter::once(&c.source).chain(&c.others));
        sources.filter_map(|at| self.sources.get(*at))
    }
}

/// The names of installed packages; of some packages only the name is known.
fn names(installed: &Installed) -> HashSet<String> {
    let lost = installed.lost.iter().map(|stem| stem.split(':').next().unwrap_or_default().to_owned());
    installed.packages.iter().map(|c| c.id.name.clone()).chain(lost).collect()
}

/// The architectures of the installed packages; the most frequent one is the machine's own.
fn architectures(installed: &Installed) -> Vec<String> {
    let mut count: HashMap<&str, usize> = HashMap::new();
    for package in installed.packages.iter().filter(|c| c.id.arch != "all") {
        *count.entry(&package.id.arch).or_default() += 1;
    }
    for (_, arch) in installed.lost.iter().filter_map(|stem| stem.split_once(':')) {
        *count.entry(arch).or_default() += 1;
    }
    let mut archs: Vec<(&str, usize)> = count.into_iter().collect();
    archs.sort_by_key(|(name, count)| (std::cmp::Reverse(*count), *name));
    archs.into_iter().map(|(name, _)| name.to_owned()).collect()
}
