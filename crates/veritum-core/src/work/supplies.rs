//! What a repair can be made from, strongest first: stores, packages at hand, archives.

use std::cell::OnceCell;
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::io;
use std::sync::PoisonError;

use rayon::prelude::*;

use super::{Engine, Settings, Supplier, WorkError};
use crate::archive::{Archive, ArchiveSettings, FetchError, Lacking, Standing};
use crate::areas::files::FilesCheck;
use crate::areas::files::{Availability, needed_components};
use crate::event::{Event, Flow, Observer, Phase};
use crate::model::{Area, Authority, ComponentId, Digest, EntryKind, Scope};
use crate::plan::{ItemKind, Operation, PlannedAction};
use crate::reference::{Expected, ExpectedKind, Reference};
use crate::report::{DownloadReport, UnverifiedReport};
use crate::store::{Contents, Location, Store, StoreError};
use crate::trust::Pins;

/// So many questions are put to a web server at the same time.
const QUESTIONS: usize = 8;

/// The stores among what was named, as far as they could be opened.
#[derive(Default)]
pub(super) struct Stores {
    open: Vec<Store>,
    /// Whether the first is the store in use.
    own_opened: bool,
    /// Why the first that could not be opened could not.
    trouble: Option<StoreError>,
    /// Why others than the one in use could not.
    refused: Vec<String>,
}

impl Stores {
    /// Opens the stores among what was named; an unusable one is told by `status` and refused by the rest.
    pub(super) fn open(settings: &Settings) -> Self {
        let pins = Pins::in_folder(&settings.trust);
        let named = settings.from.iter().filter_map(|s| match s {
            Supplier::Place(path) if path.join("store.json").is_file() => Some((false, path.clone().into())),
            _ => None,
        });
        let mut stores = Self::default();
        let own = settings.store.iter().map(|location| (true, location.clone()));
        let reach = settings.reach();
        for (own, location) in own.chain(named).collect::<Vec<(bool, Location)>>() {
            match Store::open(&location, &pins, &reach, settings.now) {
                Ok(open) => {
                    stores.open.push(open);
                    stores.own_opened |= own;
                }
                Err(e) => {
                    if !own {
                        stores.refused.push(crate::model::error_chain(&e));
                    }
                    stores.trouble.get_or_insert(e);
                }
            }
        }
        stores
    }
}

impl Engine {
    /// Takes the stores in use.
    pub(super) fn use_stores(&mut self, stores: Stores) {
        let Stores { open, own_opened, trouble, refused } = stores;
        (self.stores, self.own_opened) = (open, own_opened);
        (self.store_trouble, self.refused_stores) = (trouble, refused);
    }

    /// Fetches the manifests of what is installed from a store on a web server, and what it says of their records: many at
    /// a time, since each is a question of its own.
    pub(super) fn fetch_ahead(&self, scope: &Scope, observer: &dyn Observer) -> Result<(), WorkError> {
        let Some(store) = self.own_store().filter(|store| store.is_remote()) else { return Ok(()) };
        let named = |id: &ComponentId| scope.components.is_empty() || scope.components.contains(&id.name);
        let all = self.installed.components.iter().map(|c| &c.id);
        let ids: Vec<&ComponentId> = all.filter(|id| named(id) && store.has(id)).collect();
        let pool = rayon::ThreadPoolBuilder::new().num_threads(QUESTIONS).build().map_err(|_| WorkError::Threads)?;
        observer.on_event(Event::Begin { phase: Phase::Fetching, items: ids.len() as u64, bytes: 0 });
        let with_records = scope.wants(Area::Records);
        let one = |id: &&ComponentId| {
            // What cannot be had is told when it is used.
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

    fn archive_settings(&self) -> ArchiveSettings {
        let mut settings = self.settings.archive.clone();
        settings.trust.clone_from(&self.settings.trust);
        settings.scratch.clone_from(&self.settings.scratch);
        for supplier in &self.settings.from {
            match supplier {
                Supplier::Place(path) if path.join("store.json").is_file() => {}
                Supplier::Place(path) => settings.folders.push(path.clone()),
                Supplier::Url(url) => settings.urls.push(url.clone()),
            }
        }
        settings
    }

    /// Does something with the archive, which is opened when it is not yet.
    pub(super) fn with_archive<T>(&self, work: impl FnOnce(&mut Archive) -> T) -> T {
        let mut slot = self.archive.write().unwrap_or_else(PoisonError::into_inner);
        let archive = slot.get_or_insert_with(|| {
            Archive::open(&self.machine, &self.installed, self.archive_settings(), self.settings.now)
        });
        work(archive)
    }

    /// Does something with the archive as it is; nothing when it was not needed so far.
    pub(super) fn open_archive<T>(&self, work: impl FnOnce(&Archive) -> T) -> Option<T> {
        self.archive.read().unwrap_or_else(PoisonError::into_inner).as_ref().map(work)
    }

    /// Lets components stand on the archive, as far as their packages are at hand; answers whether any does now.
    pub(super) fn prepare(&self, wanted: &[ComponentId], observer: &dyn Observer) -> Result<bool, WorkError> {
        if wanted.is_empty() {
            return Ok(false);
        }
        self.with_archive(|archive| {
            archive.ask_network(&self.machine, wanted, observer).map_err(|_| WorkError::Stopped)?;
            archive.prepare(&self.machine, wanted, &self.pool, observer).map_err(|_| WorkError::Stopped)?;
            Ok(wanted.iter().any(|id| archive.manifest(id).is_some()))
        })
    }

    /// The same, without asking the network for release files and indexes.
    pub(super) fn prepare_at_hand(&self, wanted: &[ComponentId], observer: &dyn Observer) -> Result<bool, WorkError> {
        if wanted.is_empty() {
            return Ok(false);
        }
        self.with_archive(|archive| {
            archive.prepare(&self.machine, wanted, &self.pool, observer).map_err(|_| WorkError::Stopped)?;
            Ok(wanted.iter().any(|id| archive.manifest(id).is_some()))
        })
    }

    /// Components in scope that no store has.
    pub(super) fn unstored(&self, scope: &Scope) -> Vec<ComponentId> {
        let named = |id: &ComponentId| scope.components.is_empty() || scope.components.contains(&id.name);
        let all = self.installed.components.iter().map(|c| &c.id).filter(|id| named(id));
        all.filter(|id| !self.stores.iter().any(|store| store.has(id))).cloned().collect()
    }

    /// Components of which only the machine answers although an archive might: all of them, or those in scope.
    pub(super) fn weak_in_scope(&self, reference: &Reference, scope: &Scope) -> Vec<ComponentId> {
        let mut weak: BTreeSet<&ComponentId> = BTreeSet::new();
        if scope.paths.is_empty() {
            let named = |id: &ComponentId| scope.components.is_empty() || scope.components.contains(&id.name);
            weak.extend(reference.components.iter().map(|c| &c.component.id).filter(|id| named(id)));
        } else {
            for expected in &reference.expected {
                if scope.paths.iter().any(|p| expected.listed.is_within(p)) {
                    let all = std::iter::once(expected.component).chain(expected.also.iter().copied());
                    weak.extend(all.map(|c| &reference.components[c].component.id));
                }
            }
        }
        only_weak(reference, weak)
    }

    /// Components of which only the machine answers and with which something is wrong.
    pub(super) fn weak_with_problems(&self, reference: &Reference, files: &FilesCheck) -> Vec<ComponentId> {
        let mut weak: BTreeSet<&ComponentId> = BTreeSet::new();
        for fault in &files.faults {
            weak.extend(needed_components(fault, &reference.expected[fault.expected], reference));
        }
        only_weak(reference, weak)
    }

    /// Whether a content can be had from what is at hand. The contents of all packages are only gone through when one is asked
    /// for: mostly nothing is.
    pub(super) fn contents_at_hand(&self) -> impl Fn(&Digest) -> bool + '_ {
        let from_packages = OnceCell::new();
        move |digest| {
            self.in_a_store(digest) || from_packages.get_or_init(|| self.contents_of_packages()).contains(digest)
        }
    }

    /// The contents of the prepared packages that are at hand.
    fn contents_of_packages(&self) -> HashSet<Digest> {
        let of = |archive: &Archive| {
            let mut known = HashSet::new();
            for component in &self.installed.components {
                let id = &component.id;
                if let Some(manifest) = archive.manifest(id).filter(|_| archive.has_package(&self.machine, id)) {
                    let files = manifest.get().entries.iter().filter_map(|e| match &e.kind {
                        EntryKind::File { digest, .. } => Some(*digest),
                        _ => None,
                    });
                    known.extend(files);
                }
            }
            known
        };
        self.open_archive(of).unwrap_or_default()
    }

    /// Whether a store has a content, as far as is known.
    pub(super) fn in_a_store(&self, digest: &Digest) -> bool {
        let bad = self.bad.read().unwrap_or_else(PoisonError::into_inner).contains(digest);
        self.stores.iter().skip(usize::from(bad && self.own_opened)).any(|s| s.has_content(digest))
    }

    /// Whether the store in use holds a damaged content of a component.
    fn is_bad_of(&self, reference: &Reference, id: &ComponentId) -> bool {
        let bad = self.bad.read().unwrap_or_else(PoisonError::into_inner);
        let own = |e: &&Expected| *reference.component_of(e) == *id;
        !bad.is_empty()
            && reference.expected.iter().filter(own).any(|e| match &e.kind {
                ExpectedKind::File { digest, .. } => bad.contains(digest),
                _ => false,
            })
    }

    /// Components that a signed store vouches for and of which no store has a content that a repair needs.
    pub(super) fn without_contents(&self, reference: &Reference, files: &FilesCheck) -> Vec<ComponentId> {
        let lacks = |e: &&Expected| match &e.kind {
            ExpectedKind::File { digest, .. } => e.authority == Authority::SignedStore && !self.in_a_store(digest),
            _ => false,
        };
        let needed = needed_things(reference, files).into_iter();
        let ids: BTreeSet<&ComponentId> = needed.filter(lacks).map(|e| reference.component_of(e)).collect();
        ids.into_iter().cloned().collect()
    }

    /// How what belongs to a component can be had.
    pub(super) fn supply(
        &self,
        reference: &Reference,
        id: &ComponentId,
        failed: &HashMap<ComponentId, String>,
    ) -> Availability {
        let refused = |reason: String, next: &str| Availability::Refused { reason, next: Some(next.to_owned()) };
        let authority = reference.components.iter().find(|c| c.component.id == *id).map(|c| c.authority);
        // What a signed store lacks of its own (kept without contents, or damaged there) packages may give.
        let in_package = |a: &Archive| a.has_package(&self.machine, id);
        if authority == Some(Authority::SignedStore) {
            let fetchable = |a: &Archive| {
                let lacking = a.lacking(&self.machine, id).filter(|_| a.may_use_network() && !in_package(a))?;
                Some(Availability::Download { bytes: lacking.candidate.sum.get().size })
            };
            let kept = self.stores.iter().any(|s| s.entry(id).is_some_and(|e| !e.manifest_only));
            let elsewhere = self.open_archive(fetchable).flatten().filter(|_| failed.get(id).is_none());
            return elsewhere.filter(|_| !kept || self.is_bad_of(reference, id)).unwrap_or(Availability::AtHand);
        }
        let weak = || {
            refused(
                "only the machine's own records describe it".into(),
                "give a store that has its component: --store LOCATION",
            )
        };
        let answer = self.open_archive(|archive| {
            if authority == Some(Authority::Archive) && archive.has_package(&self.machine, id) {
                return Availability::AtHand;
            }
            if let Some((_, why)) = archive.broken().iter().find(|(broken, _)| broken == id) {
                return refused(
                    format!("its signed package is of no use ({why})"),
                    "give a store that has its component: --store LOCATION",
                );
            }
            if let Some(why) = failed.get(id) {
                return refused(
                    format!("its package could not be downloaded: {why}"),
                    "try again, or give a place that has it: --from PATH",
                );
            }
            match (archive.lacking(&self.machine, id), archive.newest(id)) {
                (Some(lacking), _) if archive.may_use_network() => {
                    Availability::Download { bytes: lacking.candidate.sum.get().size }
                }
                (Some(_), _) => refused(
                    "its package is not at hand, and the network is not to be used".into(),
                    "leave out --no-network, or give a place that has it: --from PATH",
                ),
                (None, _) if archive.lists(id) => {
                    refused("its package is not at hand".into(), "give a place that has it: --from PATH")
                }
                (None, Some(newest)) => refused(
                    format!("the archive no longer lists {} {}, only {newest}", id.name, id.version),
                    "give a place that has this version: --from PATH",
                ),
                (None, None) if archive.sources().iter().any(|s| matches!(s.standing, Standing::Absent(_))) => refused(
                    "only the machine's own records describe it, and not every archive of it could be asked".into(),
                    if archive.may_use_network() {
                        "try again when the network is there, or give a place that has it: --from PATH"
                    } else {
                        "leave out --no-network, or give a place that has it: --from PATH"
                    },
                ),
                (None, None) => weak(),
            }
        });
        answer.unwrap_or_else(weak)
    }

    /// Packages that a repair downloads first: those that it needs for what was found, and where everything is to be
    /// held against its package, all that are not at hand.
    pub(super) fn to_download(
        &self,
        reference: &Reference,
        files: &FilesCheck,
        scope: &Scope,
    ) -> Vec<(Lacking, String)> {
        let mut needed: BTreeSet<ComponentId> = BTreeSet::new();
        for fault in &files.faults {
            if files.findings[fault.finding].remedy.as_ref().is_some_and(|r| r.download.is_some()) {
                let of = needed_components(fault, &reference.expected[fault.expected], reference);
                needed.extend(of.into_iter().cloned());
            }
        }
        if self.settings.full_chain {
            needed.extend(self.weak_in_scope(reference, scope));
        }
        let find = |archive: &Archive| {
            let may = |_: &&ComponentId| archive.may_use_network();
            let lacking = needed.iter().filter(may).filter(|id| !archive.has_package(&self.machine, id));
            let lacking = lacking.filter_map(|id| archive.lacking(&self.machine, id));
            lacking
                .map(|l| {
                    let from = archive.sources()[l.candidate.source].source.words();
                    (l, from)
                })
                .collect()
        };
        self.open_archive(find).unwrap_or_default()
    }

    /// What could not be verified for want of packages, and how much would have to be downloaded for it.
    pub(super) fn unverified(&self, reference: &Reference, scope: &Scope) -> Option<UnverifiedReport> {
        let weak = self.weak_in_scope(reference, scope);
        let lacking = |archive: &Archive| -> Vec<u64> {
            let fetchable = weak.iter().filter_map(|id| archive.lacking(&self.machine, id));
            fetchable.map(|lacking| lacking.candidate.sum.get().size).collect()
        };
        let sizes = self.open_archive(lacking).unwrap_or_default();
        (!weak.is_empty()).then(|| UnverifiedReport {
            components: weak.len() as u64,
            fetchable: sizes.len() as u64,
            bytes: sizes.iter().sum(),
        })
    }

    /// Downloads packages; answers with what could not be got.
    pub(super) fn download(
        &self,
        lacking: &[Lacking],
        observer: &dyn Observer,
    ) -> Result<HashMap<ComponentId, String>, WorkError> {
        let failed: Vec<(ComponentId, FetchError)> =
            self.with_archive(|archive| archive.download(lacking, observer)).map_err(|_| WorkError::Stopped)?;
        let got: Vec<ComponentId> = lacking.iter().map(|l| l.id.clone()).collect();
        self.prepare(&got, observer)?;
        Ok(failed.into_iter().map(|(id, e)| (id, crate::model::error_chain(&e))).collect())
    }

    /// Unpacks what actions need and no store has.
    pub(super) fn unpack_for(&self, actions: &[PlannedAction]) {
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

    /// Unpacks contents from packages at hand.
    pub(super) fn unpack_contents(&self, needed: &HashMap<Digest, u64>) {
        if !needed.is_empty() {
            let unpacked = self.open_archive(|archive| archive.unpack(&self.machine, needed));
            // What cannot be unpacked is missing when it is asked for, and told there, place by place, with this reason.
            let mut trouble = self.unpack_trouble.lock().unwrap_or_else(PoisonError::into_inner);
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

    /// How many installed components each voucher answers for.
    pub(super) fn components_by_authority(reference: &Reference) -> BTreeMap<Authority, u64> {
        let mut count = BTreeMap::new();
        for owned in &reference.components {
            *count.entry(owned.authority).or_default() += 1;
        }
        count
    }

    /// Everything that contents can come from.
    pub(super) fn contents(&self) -> Supplies<'_> {
        Supplies { engine: self }
    }
}

/// What a repair of the files found would put back: the thing itself, and for a folder all that belongs below it.
pub(super) fn needed_things<'a>(reference: &'a Reference, files: &FilesCheck) -> Vec<&'a Expected> {
    let mut things = Vec::new();
    for fault in files.faults.iter().filter(|f| !f.only_meta && f.alias.is_none()) {
        if fault.roots.is_empty() {
            things.push(&reference.expected[fault.expected]);
        } else {
            let below = |e: &&Expected| fault.roots.iter().any(|root| e.listed.is_within(root));
            things.extend(reference.expected.iter().filter(below));
        }
    }
    things
}

fn only_weak(reference: &Reference, ids: BTreeSet<&ComponentId>) -> Vec<ComponentId> {
    let weak = reference.components.iter().filter(|c| c.authority == Authority::SelfReported).map(|c| &c.component.id);
    weak.filter(|id| ids.contains(id)).cloned().collect()
}

/// A download, as it is told.
pub(super) fn download_report(lacking: &Lacking, from: String) -> DownloadReport {
    DownloadReport { component: lacking.id.clone(), bytes: lacking.candidate.sum.get().size, from, failed: None }
}

/// All supplies, asked in their order.
pub(super) struct Supplies<'a> {
    engine: &'a Engine,
}

impl Contents for Supplies<'_> {
    fn copy(&self, digest: &Digest, size: u64, to: &mut dyn FnMut(&[u8]) -> io::Result<()>) -> Result<(), StoreError> {
        let mut trouble = StoreError::Absent { digest: *digest };
        for store in &self.engine.stores {
            match store.copy(digest, size, to) {
                // A content is verified before any of it is handed on, so the next supply may be asked.
                Err(e @ (StoreError::Absent { .. } | StoreError::Damaged { .. })) => trouble = e,
                other => return other,
            }
        }
        match self.engine.open_archive(|archive| archive.copy(digest, size, to)) {
            None | Some(Err(StoreError::Absent { .. })) => {
                let why = self.engine.unpack_trouble.lock().unwrap_or_else(PoisonError::into_inner).first().cloned();
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
        self.engine.contents_at_hand()(digest)
    }
}
