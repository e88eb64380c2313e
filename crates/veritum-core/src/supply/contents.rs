//! Contents: finding, preparing and providing them.

use std::cell::OnceCell;
use std::collections::{BTreeSet, HashMap, HashSet};
use std::io;
use std::sync::PoisonError;

use rayon::prelude::*;

use super::Supply;
use crate::event::{Event, Flow, Observer, Phase};
use crate::model::{Action, Authority, Digest, EntryKind, PackageId, Scope};
use crate::plan::{ItemKind, Operation, PlannedAction};
use crate::reference::{Expected, ExpectedKind, ManifestSource, Reference};
use crate::report::{DownloadReport, UnverifiedReport};
use crate::repository::{FetchError, Lacking, Repositories, RepositorySettings, Standing};
use crate::store::{Contents, StoreError};
use crate::system::{Supplier, WorkError};

/// The number of simultaneous requests to a web server.
const QUESTIONS: usize = 8;

/// How a package is available.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Availability {
    /// It is available, as far as the sources have each content.
    AtHand,
    /// Its package must be downloaded first.
    Download {
        /// The size of its package in bytes.
        bytes: u64,
    },
    /// It is not available.
    Refused {
        /// The reason.
        reason: String,
        /// What to do about it.
        next: Option<Action>,
    },
}

impl<'a> Supply<'a> {
    /// Downloads the manifests and records of installed packages from a store on a web server, many at a time, since each is a
    /// request of its own.
    pub fn fetch_ahead(&self, scope: &Scope, with_records: bool, observer: &dyn Observer) -> Result<(), WorkError> {
        let Some(store) = self.own_store().filter(|store| store.is_remote()) else { return Ok(()) };
        let named = |id: &PackageId| scope.packages.is_empty() || scope.packages.contains(&id.name);
        let all = self.system.installed.packages.iter().map(|c| &c.id);
        let ids: Vec<&PackageId> = all.filter(|id| named(id) && store.has(id)).collect();
        let pool = rayon::ThreadPoolBuilder::new().num_threads(QUESTIONS).build().map_err(|_| WorkError::Threads)?;
        observer.on_event(Event::Begin { phase: Phase::Fetching, items: ids.len() as u64, bytes: 0 });
        let one = |id: &&PackageId| {
            // A failed download is reported when the file is used.
            if let Ok(Some(manifest)) = store.manifest(id)
                && with_records
            {
                let _ = manifest.part(|m| &m.records).flipped().map(|records| store.records(records));
            }
            observer.on_event(Event::Advance { items: 1, bytes: 0 }) == Flow::Continue
        };
        let went_on = pool.install(|| ids.par_iter().with_max_len(1).all(one));
        observer.on_event(Event::End);
        if went_on { Ok(()) } else { Err(WorkError::Stopped) }
    }

    /// Calls a function with the repositories, which are opened if they are not yet.
    pub fn with_repositories<T>(&self, work: impl FnOnce(&mut Repositories) -> T) -> T {
        let mut slot = self.open.repositories.write().unwrap_or_else(PoisonError::into_inner);
        let repositories = slot.get_or_insert_with(|| {
            Repositories::open(
                &self.system.machine,
                &self.system.installed,
                repository_settings(self),
                self.system.settings.now,
            )
        });
        work(repositories)
    }

    /// Calls a function with the repositories if they are open; otherwise does nothing.
    pub fn open_repositories<T>(&self, work: impl FnOnce(&Repositories) -> T) -> Option<T> {
        self.open.repositories.read().unwrap_or_else(PoisonError::into_inner).as_ref().map(work)
    }

    /// Calls a function with all open sources of manifests, strongest first.
    pub fn with_sources<T>(&self, work: impl FnOnce(&[&dyn ManifestSource]) -> T) -> T {
        let repositories = self.open.repositories.read().unwrap_or_else(PoisonError::into_inner);
        let stores = self.open.stores.iter().map(|store| store as &dyn ManifestSource);
        let sources: Vec<&dyn ManifestSource> =
            stores.chain(repositories.as_ref().map(|repositories| repositories as &dyn ManifestSource)).collect();
        work(&sources)
    }

    /// Prepares packages from the repositories, as far as their .deb files are available; returns whether any is prepared now.
    pub fn prepare(&self, wanted: &[PackageId], observer: &dyn Observer) -> Result<bool, WorkError> {
        if wanted.is_empty() {
            return Ok(false);
        }
        let ask = |repositories: &mut Repositories| repositories.ask_network(&self.system.machine, wanted, observer);
        self.with_repositories(ask).map_err(|_| WorkError::Stopped)?;
        self.prepare_available(wanted, observer)
    }

    /// The same, without asking the network for release files and indexes.
    pub fn prepare_available(&self, wanted: &[PackageId], observer: &dyn Observer) -> Result<bool, WorkError> {
        if wanted.is_empty() {
            return Ok(false);
        }
        self.with_repositories(|repositories| {
            repositories
                .prepare(&self.system.machine, wanted, &self.system.pool, observer)
                .map_err(|_| WorkError::Stopped)?;
            Ok(wanted.iter().any(|id| repositories.manifest(id).is_some()))
        })
    }

    /// Packages in the scope that no store has.
    pub fn unstored(&self, scope: &Scope) -> Vec<PackageId> {
        let named = |id: &PackageId| scope.packages.is_empty() || scope.packages.contains(&id.name);
        let all = self.system.installed.packages.iter().map(|c| &c.id).filter(|id| named(id));
        all.filter(|id| !self.open.stores.iter().any(|store| store.has(id))).cloned().collect()
    }

    /// Packages that only the local database verifies although a repository might: all of them, or those in the scope.
    pub fn weak_in_scope(&self, reference: &Reference, scope: &Scope) -> Vec<PackageId> {
        let mut weak: BTreeSet<&PackageId> = BTreeSet::new();
        if scope.paths.is_empty() {
            let named = |id: &PackageId| scope.packages.is_empty() || scope.packages.contains(&id.name);
            weak.extend(reference.packages.iter().map(|c| &c.package.id).filter(|id| named(id)));
        } else {
            for expected in &reference.expected {
                if scope.paths.iter().any(|p| expected.listed.is_within(p)) {
                    let all = std::iter::once(expected.package).chain(expected.also().iter().copied());
                    weak.extend(all.map(|c| &reference.packages[c].package.id));
                }
            }
        }
        reference.only_weak(&weak)
    }

    /// The .deb files of packages that are not available and can be downloaded.
    pub fn fetchable(&self, ids: &[PackageId]) -> Vec<Lacking> {
        let lacking = |repositories: &Repositories| {
            let all = ids.iter().filter_map(|id| repositories.lacking(&self.system.machine, id));
            if repositories.may_use_network() { all.collect() } else { Vec::new() }
        };
        self.open_repositories(lacking).unwrap_or_default()
    }

    /// Whether a content is available. The contents of all packages are only listed when one is needed: usually none is.
    pub fn available_contents(&self) -> impl Fn(&Digest) -> bool + '_ {
        let from_debs = OnceCell::new();
        let is_unpacked = |digest: &Digest| self.open_repositories(|repositories| repositories.has_content(digest));
        move |digest| {
            self.in_a_store(digest)
                || is_unpacked(digest) == Some(true)
                || from_debs.get_or_init(|| contents_of_debs(self)).contains(digest)
        }
    }

    /// Whether a store has a content, as far as known.
    pub fn in_a_store(&self, digest: &Digest) -> bool {
        let bad = self.open.bad.read().unwrap_or_else(PoisonError::into_inner).contains(digest);
        self.open.stores.iter().skip(usize::from(bad && self.open.own_opened)).any(|s| s.has_content(digest))
    }

    /// How a package is available.
    pub fn availability(
        &self,
        reference: &Reference,
        id: &PackageId,
        failed: &HashMap<PackageId, String>,
    ) -> Availability {
        let refused = |reason: String, next: &str| Availability::Refused { reason, next: Some(next.into()) };
        let authority = reference.packages.iter().find(|c| c.package.id == *id).map(|c| c.authority);
        // What a signed store lacks (kept without contents, or damaged) .deb files may provide.
        let in_package = |a: &Repositories| a.has_deb(&self.system.machine, id);
        if authority == Some(Authority::Store) {
            let fetchable = |a: &Repositories| {
                let lacking = a.lacking(&self.system.machine, id).filter(|_| a.may_use_network() && !in_package(a))?;
                Some(Availability::Download { bytes: lacking.candidate.sum.get().size })
            };
            let kept = self.open.stores.iter().any(|s| s.entry(id).is_some_and(|e| !e.manifest_only));
            let elsewhere = self.open_repositories(fetchable).flatten().filter(|_| failed.get(id).is_none());
            return elsewhere.filter(|_| !kept || is_bad_of(self, reference, id)).unwrap_or(Availability::AtHand);
        }
        let weak = || {
            refused(
                "known from the local package database only".into(),
                "name a store that has its package: --store LOCATION",
            )
        };
        let answer = self.open_repositories(|repositories| {
            if authority == Some(Authority::Repository) && repositories.has_deb(&self.system.machine, id) {
                return Availability::AtHand;
            }
            if let Some((_, why)) = repositories.broken().iter().find(|(broken, _)| broken == id) {
                return refused(
                    format!("its signed .deb file cannot be used ({why})"),
                    "name a store that has its package: --store LOCATION",
                );
            }
            if let Some(why) = failed.get(id) {
                return refused(
                    format!("its .deb file could not be downloaded: {why}"),
                    "try again, or name a folder that has it: --from PATH",
                );
            }
            match (repositories.lacking(&self.system.machine, id), repositories.table().newest(id)) {
                (Some(lacking), _) if repositories.may_use_network() => {
                    Availability::Download { bytes: lacking.candidate.sum.get().size }
                }
                (Some(_), _) => refused(
                    "its .deb file is not available, and network use is disabled".into(),
                    "leave out --no-network, or name a folder that has it: --from PATH",
                ),
                (None, _) if repositories.table().lists(id) => {
                    refused("its .deb file is not available".into(), "name a folder that has it: --from PATH")
                }
                (None, Some(newest)) => refused(
                    format!("the repository no longer has {} {}, only {newest}", id.name, id.version),
                    "name a folder that has this version: --from PATH",
                ),
                (None, None) if repositories.sources().iter().any(|s| matches!(s.standing, Standing::Absent(_))) => {
                    refused(
                        "known from the local package database only, and not every repository was reachable".into(),
                        if repositories.may_use_network() {
                            "try again with a network, or name a folder that has it: --from PATH"
                        } else {
                            "leave out --no-network, or name a folder that has it: --from PATH"
                        },
                    )
                }
                (None, None) => weak(),
            }
        });
        answer.unwrap_or_else(weak)
    }

    /// What could not be verified for lack of packages, and the download that it would need.
    pub fn unverified(&self, reference: &Reference, scope: &Scope) -> Option<UnverifiedReport> {
        let weak = self.weak_in_scope(reference, scope);
        let lacking = |repositories: &Repositories| -> Vec<u64> {
            let fetchable = weak.iter().filter_map(|id| repositories.lacking(&self.system.machine, id));
            fetchable.map(|lacking| lacking.candidate.sum.get().size).collect()
        };
        let sizes = self.open_repositories(lacking).unwrap_or_default();
        (!weak.is_empty()).then(|| UnverifiedReport {
            packages: weak.len() as u64,
            fetchable: sizes.len() as u64,
            bytes: sizes.iter().sum(),
        })
    }

    /// Downloads packages; returns the failures.
    pub fn download(
        &self,
        lacking: &[Lacking],
        observer: &dyn Observer,
    ) -> Result<HashMap<PackageId, String>, WorkError> {
        let failed: Vec<(PackageId, FetchError)> = self
            .with_repositories(|repositories| repositories.download(lacking, observer))
            .map_err(|_| WorkError::Stopped)?;
        let got: Vec<PackageId> = lacking.iter().map(|l| l.id.clone()).collect();
        self.prepare(&got, observer)?;
        Ok(failed.into_iter().map(|(id, e)| (id, crate::model::error_chain(&e))).collect())
    }

    /// Unpacks the contents that actions need and no store has.
    pub fn unpack_for(&self, actions: &[PlannedAction]) {
        let mut needed: HashMap<Digest, u64> = HashMap::new();
        for action in actions {
            let items = if let Operation::Put(items) = &action.operation { items.as_slice() } else { &[] };
            for item in items {
                if let ItemKind::File { size, digest } = item.kind
                    && !self.in_a_store(&digest)
                {
                    needed.insert(digest, size);
                }
            }
        }
        self.unpack_contents(&needed);
    }

    /// Unpacks contents from available packages.
    pub fn unpack_contents(&self, needed: &HashMap<Digest, u64>) {
        if !needed.is_empty() {
            let unpacked = self.open_repositories(|repositories| repositories.unpack(&self.system.machine, needed));
            // What cannot be unpacked is missing when it is needed, and reported there with this reason.
            let mut trouble = self.open.unpack_trouble.lock().unwrap_or_else(PoisonError::into_inner);
            match unpacked {
                Some(Ok(failed)) => {
                    trouble.extend(
                        failed.into_iter().map(|(id, e)| format!("{}: {}", id.name, crate::model::error_chain(&e))),
                    );
                }
                Some(Err(e)) => trouble.push(crate::model::error_chain(&e)),
                None => {}
            }
        }
    }

    /// All sources of contents.
    pub fn contents(&self) -> AllContents<'a> {
        AllContents { supply: *self }
    }
}

/// A download, for reports.
pub fn download_report(lacking: &Lacking, from: String) -> DownloadReport {
    DownloadReport { package: lacking.id.clone(), bytes: lacking.candidate.sum.get().size, from, failed: None }
}

/// All supplies, in order.
pub struct AllContents<'a> {
    supply: Supply<'a>,
}

impl Contents for AllContents<'_> {
    fn copy(&self, digest: &Digest, size: u64, to: &mut dyn FnMut(&[u8]) -> io::Result<()>) -> Result<(), StoreError> {
        let mut trouble = StoreError::Absent { digest: *digest };
        for store in &self.supply.open.stores {
            match store.copy(digest, size, to) {
                // A content is verified before any of it is passed on, so the next supply may be tried.
                Err(e @ (StoreError::Absent { .. } | StoreError::Damaged { .. })) => trouble = e,
                other => return other,
            }
        }
        match self.supply.open_repositories(|repositories| repositories.copy(digest, size, to)) {
            None | Some(Err(StoreError::Absent { .. })) => {
                let why =
                    self.supply.open.unpack_trouble.lock().unwrap_or_else(PoisonError::into_inner).first().cloned();
                match (why, &trouble) {
                    (Some(why), StoreError::Absent { .. }) => {
                        Err(StoreError::File { path: "a package".into(), source: io::Error::other(why) })
                    }
                    _ => Err(trouble),
                }
            }
            Some(other) => other,
        }
    }

    fn has_content(&self, digest: &Digest) -> bool {
        self.supply.available_contents()(digest)
    }
}

/// Generated contents, and all other supplies after them.
pub struct Made<'a> {
    /// The generated contents, by their digest.
    pub made: &'a HashMap<Digest, Vec<u8>>,
    /// The other supplies.
    pub then: AllContents<'a>,
}

impl Contents for Made<'_> {
    fn copy(&self, digest: &Digest, size: u64, to: &mut dyn FnMut(&[u8]) -> io::Result<()>) -> Result<(), StoreError> {
        match self.made.get(digest) {
            Some(bytes) => to(bytes).map_err(|source| StoreError::File { path: "status".into(), source }),
            None => self.then.copy(digest, size, to),
        }
    }

    fn has_content(&self, digest: &Digest) -> bool {
        self.made.contains_key(digest) || self.then.has_content(digest)
    }
}

fn repository_settings(supply: &Supply<'_>) -> RepositorySettings {
    let mut settings = supply.system.settings.repositories.clone();
    settings.trust.clone_from(&supply.system.settings.trust);
    settings.scratch.clone_from(&supply.system.settings.scratch);
    for supplier in &supply.system.settings.from {
        match supplier {
            Supplier::Place(path) if path.join("store.json").is_file() => {}
            Supplier::Place(path) => settings.folders.push(path.clone()),
            Supplier::Url(url) => settings.urls.push(url.clone()),
        }
    }
    settings
}

/// The contents of prepared packages.
fn contents_of_debs(supply: &Supply<'_>) -> HashSet<Digest> {
    let of = |repositories: &Repositories| {
        let mut known = HashSet::new();
        for package in &supply.system.installed.packages {
            let id = &package.id;
            if let Some(manifest) =
                repositories.manifest(id).filter(|_| repositories.has_deb(&supply.system.machine, id))
            {
                let files = manifest.get().entries.iter().filter_map(|e| match &e.kind {
                    EntryKind::File { digest, .. } => Some(*digest),
                    _ => None,
                });
                known.extend(files);
            }
        }
        known
    };
    supply.open_repositories(of).unwrap_or_default()
}

/// Whether the store in use has a damaged content of a package.
fn is_bad_of(supply: &Supply<'_>, reference: &Reference, id: &PackageId) -> bool {
    let bad = supply.open.bad.read().unwrap_or_else(PoisonError::into_inner);
    let own = |e: &&Expected| *reference.package_of(e) == *id;
    !bad.is_empty()
        && reference.expected.iter().filter(own).any(|e| match &e.kind {
            ExpectedKind::File { digest, .. } => bad.contains(digest),
            _ => false,
        })
}
