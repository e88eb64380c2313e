//! The area `store`: looking at the store before anything is held against it, and putting it right.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::os::fd::AsFd as _;
use std::path::Path;
use std::sync::PoisonError;
use std::time::Instant;

use rayon::prelude::*;

use super::supplies::needed_things;
use super::{Engine, WorkError};
use crate::archive::Lacking;
use crate::areas::files::FilesCheck;
use crate::areas::store::{NoSource, RepairSource, StorePlan, plan_store};
use crate::areas::store::{judge_store, superfluous_notes};
use crate::event::Observer;
use crate::model::{
    ActionKind, ActionResult, Area, Authority, ComponentId, ContentHasher, Digest, FileKind, Finding, Harm, Scope,
    SystemPath,
};
use crate::platform::debian::apt::FileSum;
use crate::reference::{Expected, ExpectedKind, Reference};
use crate::report::{ActionReport, AreaReport, Outcome, UnexaminedReport};
use crate::store::{
    Contents, IndexEntry, Listing, Part, Store, StoreError, StoreFault, Trouble, UnverifiedStore, known,
    manifest_fault, unverified_store,
};
use crate::trust::{Pins, Verified};

/// How far a store is looked into.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Depth {
    /// Signed files and manifests; of contents whether they are there, and those that a repair needs whole.
    Present,
    /// Everything.
    Whole,
}

/// What came of the store.
#[derive(Debug)]
pub(super) struct StorePart {
    pub(super) faults: Vec<StoreFault>,
    pub(super) findings: Vec<Finding>,
    pub(super) notes: Vec<Finding>,
    pub(super) plan: StorePlan,
    pub(super) downloads: Vec<(Lacking, String)>,
    pub(super) area: AreaReport,
    pub(super) unexamined: Vec<UnexaminedReport>,
    pub(super) unverified_store: Option<UnverifiedStore>,
}

impl StorePart {
    /// Contents that the store is going to get back.
    pub(super) fn coming(&self) -> HashSet<Digest> {
        let digest =
            |fault: &StoreFault| if let Part::Content { digest, .. } = fault.part { Some(digest) } else { None };
        self.plan.fixes.iter().filter_map(|m| digest(&self.faults[m.fault])).collect()
    }

    /// What is to be done, as it is shown before it is.
    pub(super) fn actions(&self) -> Vec<ActionReport> {
        let fixes = self.plan.fixes.iter().map(|fix| {
            let (finding, fault) = (&self.findings[fix.fault], &self.faults[fix.fault]);
            let bytes = match &fault.part {
                Part::Content { size, .. } => *size,
                Part::Manifest(entry) => entry.manifest_size,
                _ => 0,
            };
            action(ActionKind::Restore, finding, bytes)
        });
        let asides = self.notes.iter().take(self.plan.asides.len()).map(|note| action(ActionKind::SetAside, note, 0));
        fixes.chain(asides).collect()
    }
}

fn action(kind: ActionKind, finding: &Finding, bytes: u64) -> ActionReport {
    ActionReport {
        findings: if finding.verdict.is_problem() { vec![finding.id.clone()] } else { Vec::new() },
        subject: finding.subject.clone(),
        path: None,
        component: finding.component.clone(),
        action: kind,
        things: 1,
        bytes,
        result: ActionResult::Planned,
        why: None,
    }
}

/// What came of looking, before it is planned what to do.
#[derive(Default)]
struct Looked {
    faults: Vec<StoreFault>,
    superfluous: Vec<std::path::PathBuf>,
    examined: u64,
    bytes: u64,
    extent: String,
    unexamined: Vec<(String, u64)>,
    unverified_store: Option<UnverifiedStore>,
}

impl Engine {
    /// The store that was named as the one to use.
    pub(super) fn own_store(&self) -> Option<&Store> {
        self.settings.store.as_ref()?;
        self.stores.first().filter(|_| self.own_opened)
    }

    /// How far the store is looked into: all of it only when it was named.
    pub(super) fn depth(&self, scope: &Scope) -> Option<Depth> {
        let used = self.settings.store.is_some() && scope.wants(Area::Store);
        used.then(|| if scope.names(Area::Store) { Depth::Whole } else { Depth::Present })
    }

    /// Everything of the store.
    pub(super) fn whole_store(&self, fresh: bool, observer: &dyn Observer) -> Result<StorePart, WorkError> {
        let begun = Instant::now();
        let Some(store) = self.own_store() else { return Ok(self.unopened_store(begun)) };
        let audit = store.audit(&self.pool, fresh, observer).map_err(stopped)?;
        let mut looked = Looked {
            faults: audit.faults,
            superfluous: audit.superfluous,
            examined: audit.examined,
            bytes: audit.bytes,
            extent: match store.is_remote() {
                false => "every signed file, manifest and content was read".into(),
                true => {
                    "every signed file, manifest and content was fetched and read; what else lies there is not told"
                        .into()
                }
            },
            ..Looked::default()
        };
        if !audit.judged_superfluous {
            let why = "what else is superfluous: it cannot be told before the rest of the store is right";
            looked.unexamined.push((why.into(), 1));
        }
        Ok(self.store_part(looked, begun, observer))
    }

    /// What a check of files rests on: manifests of what is installed, and whether their contents are there; what a
    /// repair is about to take is read whole; from a web server only when it is going to be taken (`fetch`).
    pub(super) fn present_store(
        &self,
        reference: &Reference,
        files: &FilesCheck,
        fetch: bool,
        listing: Option<Listing>,
        observer: &dyn Observer,
    ) -> Result<Option<StorePart>, WorkError> {
        let begun = Instant::now();
        let Some(store) = self.own_store() else { return Ok(Some(self.unopened_store(begun))) };
        let kept = |owned: &crate::reference::Owned| store.entry(&owned.component.id).is_some_and(|e| !e.manifest_only);
        let kept: Vec<bool> = reference.components.iter().map(kept).collect();
        let content = |expected: &Expected| match expected.kind {
            ExpectedKind::File { size, digest }
                if expected.authority == Authority::SignedStore && kept[expected.component] =>
            {
                Some((digest, size))
            }
            _ => None,
        };
        let mut all: Vec<(Digest, u64)> = self.pool.install(|| {
            let mut all: Vec<(Digest, u64)> = reference.expected.par_iter().filter_map(content).collect();
            all.par_sort_unstable();
            all
        });
        all.dedup_by_key(|(digest, _)| *digest);
        let mut troubles: Vec<(Digest, u64, Trouble)> =
            Store::absent(&all, listing).into_iter().map(|(digest, size)| (digest, size, Trouble::Missing)).collect();
        let absent: HashSet<Digest> = troubles.iter().map(|(digest, ..)| *digest).collect();
        let known = |digest: &Digest| all.binary_search_by_key(digest, |(known, _)| *known).is_ok();
        let mut needed: Vec<(Digest, u64)> = needed_contents(reference, files)
            .into_iter()
            .filter(|(digest, _)| known(digest) && !absent.contains(digest))
            .collect();
        if store.is_remote() && !fetch {
            needed.clear();
        }
        troubles.extend(store.audit_contents(&needed, &self.pool, false, observer).map_err(stopped)?);
        // What was wanted to judge records by, and did not hold.
        troubles.extend(store.audit_contents(&reference.bad_records, &self.pool, false, observer).map_err(stopped)?);
        let entries: Vec<IndexEntry> =
            self.installed.components.iter().filter_map(|c| store.entry(&c.id).cloned()).collect();
        let broken = reference.broken_manifests.iter().filter_map(|(id, _)| store.entry(id));
        let mut faults: Vec<StoreFault> = broken.map(|entry| manifest_fault(entry, Trouble::Altered)).collect();
        for fault in &mut faults {
            if matches!(&fault.part, Part::Manifest(entry) if !store.has_manifest_file(entry)) {
                fault.trouble = Trouble::Missing;
            }
        }
        faults.extend(store.with_harm(troubles, &entries, &self.pool));
        let looked = Looked {
            faults,
            examined: (entries.len() + all.len()) as u64,
            bytes: needed.iter().map(|(_, size)| size).sum(),
            extent: match store.is_remote() {
                false => {
                    "signed files and manifests of what is installed were read, contents only seen to be there".into()
                }
                true => {
                    "signed files and manifests of what is installed were fetched, contents when a repair takes them"
                        .into()
                }
            },
            ..Looked::default()
        };
        Ok(Some(self.store_part(looked, begun, observer)))
    }

    /// A store that cannot even be opened.
    fn unopened_store(&self, begun: Instant) -> StorePart {
        let unverified_store = self.unverified_store();
        let looked = Looked {
            faults: unverified_store.as_ref().map(|a| a.faults.clone()).unwrap_or_default(),
            examined: 1,
            extent: "only the signed files".into(),
            unexamined: vec![(
                "the rest of the store: what it should be is not known before these are right".into(),
                1,
            )],
            unverified_store,
            ..Looked::default()
        };
        self.store_part(looked, begun, &crate::event::NoObserver)
    }

    /// What keeps the store in use from being opened, when that is damage to its signed files.
    pub(super) fn unverified_store(&self) -> Option<UnverifiedStore> {
        let location = self.settings.store.as_ref().filter(|_| !self.own_opened)?;
        unverified_store(location.folder()?, &Pins::in_folder(&self.settings.trust))
    }

    fn store_part(&self, looked: Looked, begun: Instant, observer: &dyn Observer) -> StorePart {
        let Looked { faults, superfluous, examined, bytes, extent, unexamined, unverified_store } = looked;
        *self.bad.write().unwrap_or_else(PoisonError::into_inner) = faults
            .iter()
            .filter_map(|fault| if let Part::Content { digest, .. } = fault.part { Some(digest) } else { None })
            .collect();
        self.packages.lock().unwrap_or_else(PoisonError::into_inner).clear();
        self.ask_for_packages(&faults, observer);
        let mut findings = judge_store(&faults);
        let notes = superfluous_notes(&superfluous);
        let remote = self.own_store().is_some_and(Store::is_remote);
        let writable = self.settings.store_folder().map_or(!remote, is_writable);
        let source = |fault: &StoreFault| match writable {
            true => self.repair_source(fault, unverified_store.as_ref()),
            false if remote => Err((
                "a store on a web server is only read".into(),
                Some("put it right where it lies: veritum repair store --store FOLDER".into()),
            )),
            false => Err((
                "the store cannot be written from here".into(),
                Some("mount it for writing, or run as who may write it".into()),
            )),
        };
        let asides = if writable { superfluous } else { Vec::new() };
        let plan = plan_store(&mut findings, &faults, &asides, &source);
        let downloads = self.store_downloads(&faults, &plan);
        let problems = faults.len() as u64;
        let area = AreaReport {
            area: Area::Store,
            outcome: if problems == 0 { Outcome::Sound } else { Outcome::Problems },
            examined,
            bytes,
            seconds: begun.elapsed().as_secs_f64(),
            problems,
            repairable: plan.fixes.len() as u64,
            vouched: BTreeMap::from([(Authority::SignedStore, examined)]),
            presence_only: 0,
            extent: Some(extent),
        };
        let unexamined = unexamined
            .into_iter()
            .map(|(reason, count)| UnexaminedReport { area: Area::Store, reason, count, example: None })
            .collect();
        StorePart { faults, findings, notes, plan, downloads, area, unexamined, unverified_store }
    }

    /// Lets the archives be read for the components that something is wrong with and that are of no other store.
    fn ask_for_packages(&self, faults: &[StoreFault], observer: &dyn Observer) {
        let lost =
            |fault: &&StoreFault| self.another_store_with(fault).is_none() && !matches!(fault.part, Part::Pointer(_));
        let ids: BTreeSet<ComponentId> = faults.iter().filter(lost).flat_map(|i| i.harm.components.clone()).collect();
        if !ids.is_empty() {
            let ids: Vec<ComponentId> = ids.into_iter().collect();
            // Whoever stops here stops at the next step as well.
            let _ = self.with_archive(|archive| archive.ask_network(&self.machine, &ids, observer));
        }
    }

    pub(super) fn other_stores(&self) -> impl Iterator<Item = &Store> {
        self.stores.iter().skip(usize::from(self.own_opened))
    }

    pub(super) fn another_store_with(&self, fault: &StoreFault) -> Option<&Store> {
        self.other_stores().find(|store| match &fault.part {
            Part::Content { digest, .. } => store.has_content(digest),
            Part::Manifest(entry) => store.has_manifest(entry),
            Part::Signed { .. } | Part::Pointer(_) => false,
        })
    }

    /// Whether a signed file can be made again from what is known.
    fn is_known(&self, name: &str, unverified_store: Option<&UnverifiedStore>) -> bool {
        let path = unverified_store.map(|a| a.path.as_path()).or_else(|| self.own_store().map(Store::path));
        path.is_some_and(|path| known(path, name, self.pinned_root(unverified_store)).is_some())
    }

    pub(super) fn pinned_root<'a>(&'a self, unverified_store: Option<&'a UnverifiedStore>) -> &'a [u8] {
        unverified_store.map(UnverifiedStore::root).or_else(|| self.own_store().map(Store::root)).unwrap_or_default()
    }

    /// Where a part can be had again; the nearest first.
    fn repair_source(
        &self,
        fault: &StoreFault,
        unverified_store: Option<&UnverifiedStore>,
    ) -> Result<RepairSource, NoSource> {
        match &fault.part {
            Part::Pointer(_) => return Ok(RepairSource::Index),
            Part::Signed { name } if self.is_known(name, unverified_store) => return Ok(RepairSource::Pin),
            Part::Signed { .. } => {
                let copy = unverified_store
                    .and_then(|unverified_store| self.other_stores().find(|s| unverified_store.is_copied_by(s)));
                let reason = || match self.refused_stores.first() {
                    Some(why) => format!("the other copy that was given cannot be used: {why}"),
                    None => "no other copy of this store is at hand".into(),
                };
                let next = "give one: --from STORE; its keeper can sign it anew: veritum store publish --keys KEYDIR";
                return copy.map(|_| RepairSource::OtherStore).ok_or_else(|| (reason(), Some(next.into())));
            }
            Part::Content { .. } | Part::Manifest(_) => {}
        }
        if self.another_store_with(fault).is_some() {
            return Ok(RepairSource::OtherStore);
        }
        if let Part::Content { digest, size } = &fault.part
            && self.held_by_machine(digest, *size, &fault.harm).is_some()
        {
            return Ok(RepairSource::Machine);
        }
        let packages = self.packages_of(fault);
        if packages.iter().any(|(id, sum)| self.is_at_hand(id, sum)) {
            return Ok(RepairSource::Package);
        }
        let lacking = packages.iter().find_map(|(id, sum)| self.open_archive(|a| a.fetchable(id, sum)).flatten());
        match lacking {
            Some(lacking) => Ok(RepairSource::Download { bytes: lacking.candidate.sum.get().size }),
            None => Err((
                "neither another store, nor the machine, nor a package at hand has it".into(),
                Some("give a place that has it: --from PATH (packages, or another store)".into()),
            )),
        }
    }

    /// Whether a package is at hand; each is read once to find out, however many parts hang on it.
    pub(super) fn is_at_hand(&self, id: &ComponentId, sum: &Verified<FileSum>) -> bool {
        let known = || self.packages.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(there) = known().get(id) {
            return *there;
        }
        let there = self.open_archive(|a| a.at_hand(&self.machine, id, sum).is_some()).unwrap_or(false);
        known().insert(id.clone(), there);
        there
    }

    /// The packages that hold a part, as the store's owner vouches for them.
    pub(super) fn packages_of(&self, fault: &StoreFault) -> Vec<(ComponentId, Verified<FileSum>)> {
        let store = self.own_store();
        let sum = |id: &ComponentId| Some((id.clone(), store?.package(id)?));
        fault.harm.components.iter().filter_map(sum).collect()
    }

    fn store_downloads(&self, faults: &[StoreFault], plan: &StorePlan) -> Vec<(Lacking, String)> {
        let mut all: Vec<(Lacking, String)> = Vec::new();
        for fix in plan.fixes.iter().filter(|m| matches!(m.from, RepairSource::Download { .. })) {
            let found = self.packages_of(&faults[fix.fault]).into_iter().find_map(|(id, sum)| {
                self.open_archive(|a| {
                    let lacking = a.fetchable(&id, &sum)?;
                    let from = a.sources()[lacking.candidate.source].source.words();
                    Some((lacking, from))
                })?
            });
            if let Some((lacking, from)) = found
                && !all.iter().any(|(l, _)| l.id == lacking.id)
            {
                all.push((lacking, from));
            }
        }
        all
    }

    /// Where the machine still holds a content, among the places that should have it.
    pub(super) fn held_by_machine(&self, digest: &Digest, size: u64, harm: &Harm) -> Option<SystemPath> {
        let none = |_: &[u8]| Ok(());
        harm.paths.iter().find(|path| self.read_held(path, digest, size, &mut { none }).is_ok()).cloned()
    }

    /// Reads a file of the machine in pieces, when it is of that size and content: read once to see, once to hand on.
    pub(super) fn read_held(
        &self,
        path: &SystemPath,
        digest: &Digest,
        size: u64,
        to: &mut dyn FnMut(&[u8]) -> std::io::Result<()>,
    ) -> std::io::Result<()> {
        let other = || std::io::Error::new(std::io::ErrorKind::NotFound, "it is not there");
        let physical = self.machine.resolve(path)?;
        let dir = self.machine.dir(&physical.parent().ok_or_else(other)?)?;
        let stat = dir.look(physical.name())?.filter(|s| s.kind == FileKind::File && s.size == size);
        stat.ok_or_else(other)?;
        let file = dir.disk().open_file(dir.fd(), physical.name())?;
        let mut hasher = ContentHasher::blake3();
        let mut piece = vec![0; 128 * 1024];
        loop {
            match dir.disk().read(file.as_fd(), &mut piece)? {
                0 => break,
                n => {
                    hasher.update(&piece[..n]);
                    to(&piece[..n])?;
                }
            }
        }
        if hasher.finish().0 == Some(*digest) { Ok(()) } else { Err(other()) }
    }
}

fn stopped(_: StoreError) -> WorkError {
    WorkError::Stopped
}

/// Whether what a store is put right with can be written there.
fn is_writable(store: &Path) -> bool {
    rustix::fs::access(store, rustix::fs::Access::WRITE_OK).is_ok()
}

/// Contents that a repair of the files found would take from the store.
fn needed_contents(reference: &Reference, files: &FilesCheck) -> HashMap<Digest, u64> {
    let content =
        |e: &Expected| if let ExpectedKind::File { size, digest } = e.kind { Some((digest, size)) } else { None };
    needed_things(reference, files).into_iter().filter_map(content).collect()
}
