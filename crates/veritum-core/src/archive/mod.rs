//! The vendor's archive as a reference and as a source: release file → index → package, each by the one before it.
//!
//! ```text
//! keyring of the source ∩ keys that count → release file → index → package → what belongs at each path
//! ```
//!
//! Nothing is asked of the network unless the caller says so. What was verified once is kept with the operator under
//! the digest of what it came from.

mod fetch;
mod hand;
mod shelf;
mod source;
mod table;
mod unpack;

use std::collections::{HashMap, HashSet};
use std::io;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};

use rayon::prelude::*;

pub use fetch::{FetchError, Fetcher, Limits, Proxies};
pub use hand::{AtHand, Package};
pub use source::Standing;
pub use table::{Candidate, Table};
pub use unpack::UnpackError;

use crate::event::{Event, Flow, Observer, Phase};
use crate::model::{ComponentId, Digest, EntryKind, SystemPath};
use crate::platform::Installed;
use crate::platform::debian::apt::{AptConf, Release, Source, SourceKind, sources};
use crate::platform::debian::compare_versions;
use crate::store::{Contents, Manifest, StoreError};
use crate::target::Machine;
use crate::trust::openpgp::Keyring;
use crate::trust::{FactKind, Facts, SeenReleases, VendorKeys, Verified};
use shelf::Shelf;
use source::{Follow, OpenRelease, Wanted};
use unpack::Unpacked;

/// What the outside decides about archives.
#[derive(Debug, Clone, Default)]
pub struct ArchiveSettings {
    /// The operator's trust folder.
    pub trust: PathBuf,
    /// Folders and files named by the operator: packages, install media, archives.
    pub folders: Vec<PathBuf>,
    /// Archives named by the operator, by URL.
    pub urls: Vec<String>,
    /// Whether the network may be used at all.
    pub network: bool,
    /// Proxies of the environment.
    pub proxies: Proxies,
    /// How long to wait.
    pub limits: Limits,
    /// Where downloads are kept.
    pub downloads: PathBuf,
    /// Private places for short work, the best first.
    pub scratch: Vec<PathBuf>,
}

/// One archive's suite, and where it stands.
#[derive(Debug, Clone)]
pub struct OpenSource {
    /// What the machine (or the operator) says of it.
    pub source: Source,
    /// Whether the operator named it on the command line.
    pub named: bool,
    /// Where it stands.
    pub standing: Standing,
    /// Its release file with where it was found, until its indexes are read.
    open: Option<(OpenRelease, Found)>,
}

/// Where a release file at hand was found: its indexes lie beside it.
#[derive(Debug, Clone)]
enum Found {
    Lists,
    OnMachine(SystemPath),
    OnHost(PathBuf),
}

impl Found {
    fn shelf<'a>(&self, machine: &'a Machine, uri: &'a str) -> Shelf<'a> {
        match self {
            Self::Lists => Shelf::Lists { machine, uri },
            Self::OnMachine(folder) => Shelf::OnMachine { machine, folder: folder.clone() },
            Self::OnHost(folder) => Shelf::OnHost { folder: folder.clone() },
        }
    }
}

/// A package that is not at hand.
#[derive(Debug, Clone)]
pub struct Lacking {
    /// Which component.
    pub id: ComponentId,
    /// The package.
    pub candidate: Candidate,
}

/// The machine's archives, as far as they were asked.
#[derive(Debug)]
pub struct Archive {
    settings: ArchiveSettings,
    sources: Vec<OpenSource>,
    table: Table,
    hand: AtHand,
    facts: Facts,
    vendors: VendorKeys,
    fetcher: Fetcher,
    common: Keyring,
    names: HashSet<String>,
    archs: Vec<String>,
    asked_network: bool,
    now: jiff::Timestamp,
    manifests: HashMap<ComponentId, (Verified<Arc<Manifest>>, Candidate)>,
    broken: Vec<(ComponentId, String)>,
    unpacked: Mutex<Vec<Unpacked>>,
}

impl Archive {
    /// Opens the machine's sources from what lies at hand, without the network.
    #[must_use]
    pub fn open(machine: &Machine, installed: &Installed, settings: ArchiveSettings, now: jiff::Timestamp) -> Self {
        let vendors = VendorKeys::in_folder(&settings.trust);
        let mut archs: Vec<String> = installed.components.iter().map(|c| c.id.arch.clone()).collect();
        archs.sort();
        archs.dedup();
        archs.retain(|a| a != "all");
        let fetcher = Fetcher::new(AptConf::of(machine), settings.proxies.clone(), settings.limits);
        let mut archive = Self {
            hand: AtHand::look(machine, &settings.folders, &settings.downloads),
            facts: Facts::in_folder(&settings.trust),
            common: source::common_keyring(machine),
            vendors,
            fetcher,
            sources: Vec::new(),
            table: Table::default(),
            names: installed.components.iter().map(|c| c.id.name.clone()).collect(),
            archs,
            asked_network: false,
            now,
            manifests: HashMap::new(),
            broken: Vec::new(),
            unpacked: Mutex::default(),
            settings,
        };
        archive.open_machine_sources(machine, now);
        archive.open_named(machine, now);
        archive
    }

    fn follow<'a>(&'a self, names: &'a HashSet<&'a str>, now: jiff::Timestamp) -> Follow<'a> {
        Follow { vendors: &self.vendors, facts: &self.facts, names, archs: &self.archs, now }
    }

    /// Opens a suite's release file on a shelf.
    fn release(
        &self,
        shelf: &Shelf<'_>,
        source: &Source,
        keyring: &Keyring,
        now: jiff::Timestamp,
    ) -> Result<OpenRelease, Standing> {
        let names = HashSet::new();
        let open = self.follow(&names, now).release(shelf, &source.release_folder(), keyring)?;
        match self.went_back(shelf, source, open.release.get().date) {
            Some(why) => Err(Standing::Unusable(why)),
            None => Ok(open),
        }
    }

    /// Takes what a suite's indexes list into the table. `at` is the position that the source has, or will have.
    fn indexes(&mut self, shelf: &Shelf<'_>, source: &Source, at: usize, open: &OpenRelease) -> Standing {
        let mut table = std::mem::take(&mut self.table);
        let names: HashSet<&str> = self.names.iter().map(String::as_str).collect();
        let folder = source.release_folder();
        let components = if source.is_flat() { &[][..] } else { &source.components };
        let wanted = Wanted { folder: &folder, components, archs: &source.archs };
        let standing = self.follow(&names, self.now).indexes(shelf, &wanted, open, at, &mut table);
        self.table = table;
        standing
    }

    /// Reads the indexes that lie at hand, once.
    fn read_indexes(&mut self, machine: &Machine) {
        for at in 0..self.sources.len() {
            let Some((open, found)) = self.sources[at].open.take() else { continue };
            let source = self.sources[at].source.clone();
            self.sources[at].standing = self.indexes(&found.shelf(machine, &source.uri), &source, at, &open);
        }
    }

    /// Takes a source whose release file was looked for at hand.
    fn push_found(&mut self, source: Source, named: bool, looked: Result<(OpenRelease, Found), Standing>) {
        let (standing, open) = match looked {
            Ok((open, found)) => (open.standing(Vec::new(), 0), Some((open, found))),
            Err(standing) => (standing, None),
        };
        self.sources.push(OpenSource { source, named, standing, open });
    }

    /// Whether what the network gives is older than what was seen of that archive before. Lists that lie on a machine
    /// may be as old as the machine.
    fn went_back(&self, shelf: &Shelf<'_>, source: &Source, date: Option<jiff::Timestamp>) -> Option<String> {
        let Shelf::Network { .. } = shelf else { return None };
        let seen = SeenReleases::in_folder(&self.settings.trust);
        let date = date?;
        match seen.newest(&source.words()) {
            Ok(Some(newest)) if newest > date => {
                Some(format!("it is older than it was before (made {date}, seen {newest})"))
            }
            Ok(_) => {
                // On a read-only stick nothing can be kept: then the next run knows as much as this one.
                let _ = seen.keep(&source.words(), date);
                None
            }
            Err(e) => Some(crate::model::error_chain(&e)),
        }
    }

    fn open_machine_sources(&mut self, machine: &Machine, now: jiff::Timestamp) {
        for source in sources(machine).all {
            let keyring = source::keyring_of(machine, &source.signers, &self.common, &self.vendors);
            let places = std::iter::once(Found::Lists).chain(source.folder().map(Found::OnMachine));
            let mut looked = Err(Standing::Absent("it has no release file here".into()));
            for place in places {
                looked =
                    self.release(&place.shelf(machine, &source.uri), &source, &keyring, now).map(|open| (open, place));
                // What is there and does not count is not passed over for another copy.
                if !matches!(looked, Err(Standing::Absent(_))) {
                    break;
                }
            }
            if let Some(folder) = source.folder() {
                self.hand.add_archive(self.sources.len(), folder);
            }
            self.push_found(source, false, looked);
        }
    }

    /// Archives in folders that the operator named: whatever suites lie in their `dists/`.
    fn open_named(&mut self, machine: &Machine, now: jiff::Timestamp) {
        if self.settings.folders.is_empty() {
            return;
        }
        let keyring = source::all_keys(machine, &self.common, &self.vendors);
        for folder in self.settings.folders.clone() {
            for suite in suites_in(&folder) {
                let mut source = named_source(format!("file:{}/", folder.display()), suite);
                let found = Found::OnHost(folder.clone());
                let looked = self.release(&found.shelf(machine, &source.uri), &source, &keyring, now);
                if let Ok(open) = &looked {
                    source.components = components_of(open.release.get());
                }
                if !matches!(looked, Err(Standing::Absent(_))) {
                    self.push_found(source, true, looked.map(|open| (open, found)));
                }
            }
        }
    }

    /// Asks the network for release files and indexes, when one of these components could be found by it.
    ///
    /// # Errors
    /// When the observer said stop.
    pub fn ask_network(
        &mut self,
        machine: &Machine,
        wanted: &[ComponentId],
        now: jiff::Timestamp,
        observer: &dyn Observer,
    ) -> Result<(), crate::scan::Stopped> {
        self.read_indexes(machine);
        if !self.settings.network || self.asked_network || !wanted.iter().any(|id| self.network_could_help(id)) {
            return Ok(());
        }
        self.asked_network = true;
        let machine_sources: Vec<Source> = self.sources.iter().filter(|s| !s.named).map(|s| s.source.clone()).collect();
        let over_network: Vec<Source> =
            machine_sources.iter().filter(|s| s.kind() == SourceKind::Network).cloned().collect();
        let named: Vec<Source> = self.settings.urls.iter().flat_map(|url| at_url(url, &machine_sources)).collect();
        observer.hear(Event::Begin {
            phase: Phase::Asking,
            items: (over_network.len() + named.len()) as u64,
            bytes: 0,
        });
        let all = source::all_keys(machine, &self.common, &self.vendors);
        let both = over_network.into_iter().map(|s| (s, false)).chain(named.into_iter().map(|s| (s, true)));
        for (source, is_named) in both {
            let keyring = match is_named {
                true => all.clone(),
                false => source::keyring_of(machine, &source.signers, &self.common, &self.vendors),
            };
            let known = self.sources.iter().position(|s| !s.named && !is_named && s.source == source);
            let at = known.unwrap_or(self.sources.len());
            let standing = self.asked_over_network(&source, at, &keyring, now);
            match known {
                // What the machine's own lists vouch for stands, whatever the network says.
                Some(at) if self.sources[at].standing.is_vouched() && !standing.is_vouched() => {}
                Some(at) => self.sources[at].standing = standing,
                None => self.sources.push(OpenSource { source, named: is_named, standing, open: None }),
            }
            if observer.hear(Event::Advance { items: 1, bytes: 0 }) == Flow::Stop {
                return Err(crate::scan::Stopped);
            }
        }
        observer.hear(Event::End);
        Ok(())
    }

    fn asked_over_network(&mut self, source: &Source, at: usize, keyring: &Keyring, now: jiff::Timestamp) -> Standing {
        // Taken out for the time, so that the rest may change meanwhile.
        let nothing = Fetcher::new(AptConf::default(), Proxies::default(), self.settings.limits);
        let fetcher = std::mem::replace(&mut self.fetcher, nothing);
        let shelf = Shelf::Network { fetcher: &fetcher, uri: &source.uri };
        let standing = match self.release(&shelf, source, keyring, now) {
            Ok(open) => self.indexes(&shelf, source, at, &open),
            Err(standing) => standing,
        };
        self.fetcher = fetcher;
        standing
    }

    /// Whether an archive could know a component that the lists at hand do not.
    fn network_could_help(&self, id: &ComponentId) -> bool {
        if !self.table.of(id).is_empty() {
            return false;
        }
        let whole = |s: &OpenSource| matches!(s.standing, Standing::Vouched { missing_indexes: 0, .. });
        let unknown = self.sources.iter().any(|s| s.source.kind() == SourceKind::Network && !whole(s));
        let older = self.table.newest(id).is_some_and(|listed| compare_versions(listed, &id.version).is_lt());
        unknown || older || !self.settings.urls.is_empty()
    }

    /// Gets the manifests of components whose packages are at hand, in parallel; answers with those that are not.
    ///
    /// # Errors
    /// When the observer said stop.
    pub fn prepare(
        &mut self,
        machine: &Machine,
        wanted: &[ComponentId],
        pool: &rayon::ThreadPool,
        observer: &dyn Observer,
    ) -> Result<Vec<Lacking>, crate::scan::Stopped> {
        self.read_indexes(machine);
        // What is broken stays so; it is not unpacked and told again.
        let known = |id: &ComponentId| self.manifests.contains_key(id) || self.broken.iter().any(|(b, _)| b == id);
        let open: Vec<&ComponentId> = wanted.iter().filter(|id| !known(id) && !self.table.of(id).is_empty()).collect();
        let bytes = |id: &ComponentId| self.table.of(id).first().map_or(0, |c| c.sum.get().size);
        observer.hear(Event::Begin {
            phase: Phase::Unpacking,
            items: open.len() as u64,
            bytes: open.iter().map(|id| bytes(id)).sum(),
        });
        let got: Vec<Option<(ComponentId, Got)>> = pool.install(|| {
            let one = |id: &&ComponentId| {
                let got = self.manifest_at_hand(machine, id);
                let stop = observer.hear(Event::Advance { items: 1, bytes: bytes(id) }) == Flow::Stop;
                (!stop).then(|| ((*id).clone(), got))
            };
            open.par_iter().with_max_len(1).map(one).collect()
        });
        observer.hear(Event::End);
        let mut lacking = Vec::new();
        for one in got {
            match one.ok_or(crate::scan::Stopped)? {
                (id, Got::Manifest(manifest, candidate)) => {
                    let Ok(manifest) = manifest.derive(|m| Ok::<_, std::convert::Infallible>(Arc::new(*m)));
                    self.manifests.insert(id, (manifest, candidate));
                }
                (id, Got::Broken(why)) => self.broken.push((id, why)),
                (id, Got::NotHere(candidate)) => lacking.push(Lacking { id, candidate }),
            }
        }
        Ok(lacking)
    }

    /// Gets the manifests of components that were verified before, without looking into any package.
    pub fn recall(&mut self, machine: &Machine, wanted: &[ComponentId], pool: &rayon::ThreadPool) {
        if !self.facts.has_any(FactKind::Package) {
            return;
        }
        self.read_indexes(machine);
        let one = |id: &ComponentId| match self.remembered(id) {
            Some(Got::Manifest(manifest, candidate)) => Some((id.clone(), manifest, candidate)),
            _ => None,
        };
        let got: Vec<_> = pool.install(|| wanted.par_iter().map(one).collect());
        for (id, manifest, candidate) in got.into_iter().flatten() {
            let Ok(manifest) = manifest.derive(|m| Ok::<_, std::convert::Infallible>(Arc::new(*m)));
            self.manifests.insert(id, (manifest, candidate));
        }
    }

    fn remembered(&self, id: &ComponentId) -> Option<Got> {
        self.table.of(id).iter().find_map(|candidate| {
            let fact = self.facts.get(FactKind::Package, &candidate.sum.get().sha256)?;
            let manifest = fact.derive(|bytes| Manifest::decode(&bytes).map(Box::new)).ok()?;
            (manifest.get().component == *id).then(|| Got::Manifest(manifest, candidate.clone()))
        })
    }

    fn manifest_at_hand(&self, machine: &Machine, id: &ComponentId) -> Got {
        if let Some(got) = self.remembered(id) {
            return got;
        }
        let candidates = self.table.of(id);
        let mut broken = None;
        for candidate in candidates {
            let Some(package) = self.hand.find(machine, id, candidate) else { continue };
            match unpack::manifest(package.file, candidate.sum.get(), id) {
                Ok(manifest) => {
                    if let Ok(encoded) = manifest.clone().derive(|m| m.encode()) {
                        self.facts.keep(FactKind::Package, &candidate.sum.get().sha256, &encoded);
                    }
                    let Ok(manifest) = manifest.derive(|m| Ok::<_, std::convert::Infallible>(Box::new(m)));
                    return Got::Manifest(manifest, candidate.clone());
                }
                Err(e) => broken = Some(format!("{}: {}", package.from, crate::model::error_chain(&e))),
            }
        }
        match (broken, candidates.first()) {
            (Some(why), _) => Got::Broken(why),
            (None, Some(candidate)) => Got::NotHere(candidate.clone()),
            (None, None) => Got::Broken("no archive lists it".into()),
        }
    }

    /// Downloads packages; answers with those that could not be got, and why.
    ///
    /// # Errors
    /// When the observer said stop; what was downloaded by then is kept for the next time.
    pub fn download(
        &mut self,
        lacking: &[Lacking],
        observer: &dyn Observer,
    ) -> Result<Vec<(ComponentId, FetchError)>, crate::scan::Stopped> {
        let bytes = lacking.iter().map(|l| l.candidate.sum.get().size).sum();
        observer.hear(Event::Begin { phase: Phase::Downloading, items: lacking.len() as u64, bytes });
        let mut failed = Vec::new();
        for one in lacking {
            let to = self.hand.download_place(&one.candidate);
            let uri = &self.sources[one.candidate.source].source.uri;
            let url = format!("{uri}{}", one.candidate.path);
            match self.fetcher.download(&url, &one.candidate.sum, &to, observer) {
                Ok(()) => {}
                Err(FetchError::Stopped) => return Err(crate::scan::Stopped),
                Err(e) => failed.push((one.id.clone(), e)),
            }
            if observer.hear(Event::Advance { items: 1, bytes: 0 }) == Flow::Stop {
                return Err(crate::scan::Stopped);
            }
        }
        observer.hear(Event::End);
        Ok(failed)
    }

    /// Unpacks the contents that a repair needs, for as long as this archive is open.
    ///
    /// # Errors
    /// When there is no room for them anywhere, or a package cannot be read.
    pub fn unpack(&self, machine: &Machine, needed: &HashMap<Digest, u64>) -> Result<(), UnpackError> {
        let missing: HashMap<Digest, u64> =
            needed.iter().filter(|(digest, _)| !self.is_unpacked(digest)).map(|(d, s)| (*d, *s)).collect();
        let wanted: HashSet<Digest> = missing.keys().copied().collect();
        let holds = |manifest: &Manifest| {
            manifest
                .entries
                .iter()
                .any(|e| matches!(&e.kind, EntryKind::File { digest, .. } if wanted.contains(digest)))
        };
        let from: Vec<_> = self.manifests.iter().filter(|(_, (m, _))| holds(m.get())).collect();
        if from.is_empty() {
            return Ok(());
        }
        let mut unpacked = Unpacked::with_room(&self.settings.scratch, missing.values().sum())?;
        for (id, (manifest, candidate)) in from {
            if let Some(package) = self.hand.find(machine, id, candidate) {
                unpacked.take(package.file, manifest.get(), &wanted)?;
            }
        }
        self.unpacked.lock().unwrap_or_else(PoisonError::into_inner).push(unpacked);
        Ok(())
    }

    fn is_unpacked(&self, digest: &Digest) -> bool {
        self.unpacked.lock().unwrap_or_else(PoisonError::into_inner).iter().any(|u| u.has(digest))
    }

    /// The verified manifest of a component, when it was prepared.
    #[must_use]
    pub fn manifest(&self, id: &ComponentId) -> Option<Verified<Arc<Manifest>>> {
        self.manifests.get(id).map(|(manifest, _)| manifest.clone())
    }

    /// The package that a prepared manifest came from.
    #[must_use]
    pub fn package_of(&self, id: &ComponentId) -> Option<&Candidate> {
        self.manifests.get(id).map(|(_, candidate)| candidate)
    }

    /// Whether the package of a prepared component is at hand, so that its contents can be had.
    #[must_use]
    pub fn has_package(&self, machine: &Machine, id: &ComponentId) -> bool {
        self.manifests.get(id).is_some_and(|(_, candidate)| self.hand.has(machine, id, candidate))
    }

    /// What a component's package is, when it is listed but not at hand.
    #[must_use]
    pub fn lacking(&self, machine: &Machine, id: &ComponentId) -> Option<Lacking> {
        let candidates = self.table.of(id);
        if candidates.iter().any(|c| self.hand.has(machine, id, c)) {
            return None;
        }
        let fetchable = |c: &&Candidate| self.sources[c.source].source.kind() == SourceKind::Network;
        candidates.iter().find(fetchable).map(|c| Lacking { id: id.clone(), candidate: c.clone() })
    }

    /// Which of these components a verified index at hand lists.
    pub fn listed<'a>(
        &mut self,
        machine: &Machine,
        ids: impl Iterator<Item = &'a ComponentId>,
    ) -> HashSet<&'a ComponentId> {
        self.read_indexes(machine);
        ids.filter(|id| self.lists(id)).collect()
    }

    /// Whether a verified index lists exactly this component, as far as indexes were read.
    #[must_use]
    pub fn lists(&self, id: &ComponentId) -> bool {
        !self.table.of(id).is_empty()
    }

    /// The newest version that a verified index lists of a component.
    #[must_use]
    pub fn newest(&self, id: &ComponentId) -> Option<&str> {
        self.table.newest(id)
    }

    /// The sources, and where they stand.
    #[must_use]
    pub fn sources(&self) -> &[OpenSource] {
        &self.sources
    }

    /// Components whose signed package is of no use, with the reason.
    #[must_use]
    pub fn broken(&self) -> &[(ComponentId, String)] {
        &self.broken
    }

    /// Whether the network may be used.
    #[must_use]
    pub fn may_use_network(&self) -> bool {
        self.settings.network
    }
}

enum Got {
    Manifest(Verified<Box<Manifest>>, Candidate),
    Broken(String),
    NotHere(Candidate),
}

/// The suites of an archive in a folder of the host.
fn suites_in(folder: &std::path::Path) -> Vec<String> {
    let entries = std::fs::read_dir(folder.join("dists")).into_iter().flatten().flatten();
    let mut names: Vec<String> =
        entries.filter(|e| e.path().is_dir()).filter_map(|e| e.file_name().into_string().ok()).take(100).collect();
    names.sort();
    let flat = folder.join("InRelease").is_file() || folder.join("Release").is_file();
    if flat {
        names.push("./".into());
    }
    names
}

/// A named archive's components are those that its release file lists indexes of.
fn components_of(release: &Release) -> Vec<String> {
    let index = |file: &str| file.strip_suffix("/Packages").and_then(|f| Some(f.split_once("/binary-")?.0.to_owned()));
    let mut components: Vec<String> = release.files.keys().filter_map(|f| index(f)).collect();
    components.sort();
    components.dedup();
    components
}

fn named_source(uri: String, suite: String) -> Source {
    Source {
        uri,
        suite,
        components: Vec::new(),
        archs: Vec::new(),
        signers: crate::platform::debian::apt::Signers::default(),
        file: crate::model::SystemPath::root(),
    }
}

/// A named archive has the suites and components that the machine's own sources have.
fn at_url(url: &str, machine: &[Source]) -> Vec<Source> {
    let uri = format!("{}/", url.trim_end_matches('/'));
    let mut all: Vec<Source> = Vec::new();
    for own in machine {
        if all.iter().all(|s| s.suite != own.suite) {
            all.push(Source { components: own.components.clone(), ..named_source(uri.clone(), own.suite.clone()) });
        }
    }
    all
}

impl Contents for Archive {
    fn copy(&self, digest: &Digest, size: u64, to: &mut dyn FnMut(&[u8]) -> io::Result<()>) -> Result<(), StoreError> {
        let all = self.unpacked.lock().unwrap_or_else(PoisonError::into_inner);
        match all.iter().find(|u| u.has(digest)) {
            Some(unpacked) => unpacked.copy(digest, size, to),
            None => Err(StoreError::Absent { digest: *digest }),
        }
    }

    fn has_content(&self, digest: &Digest) -> bool {
        self.is_unpacked(digest)
    }
}
