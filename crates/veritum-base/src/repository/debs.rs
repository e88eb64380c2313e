//! From a verified index to manifests and contents: available packages, downloads, unpacking.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::io;
use std::os::fd::OwnedFd;
use std::sync::{Arc, MutexGuard, PoisonError};

use rayon::prelude::*;

use super::Candidate;
use super::unpack::{self, UnpackError, Unpacked};
use super::{Deb, FetchError, Holdings, Lacking, Repositories};
use crate::event::{Event, Flow, Observer, Phase};
use crate::formats::deb::read_control_part;
use crate::machine::Machine;
use crate::model::{Digest, EntryKind, PackageId};
use crate::platform::debian::apt::{FileSum, SourceKind};
use crate::scan::{Files, Stopped, digest_files};
use crate::store::{Contents, Manifest, Records, StoreError};
use crate::trust::{FactKind, FileSums, Verified, verify_by_sums};

/// A round of packages has at most as many bytes, unless it is one package.
const ROUND: u64 = 512 << 20;

/// The result of preparing a package's manifest.
enum Got {
    Manifest(Holdings),
    Broken(String),
    NotHere(Candidate),
}

impl Repositories {
    /// Prepares the manifests of packages whose .deb files are available, in parallel; returns the other packages.
    ///
    /// # Errors
    /// When the observer stopped the run.
    pub fn prepare(
        &mut self,
        machine: &Machine,
        wanted: &[PackageId],
        pool: &rayon::ThreadPool,
        observer: &dyn Observer,
    ) -> Result<Vec<Lacking>, Stopped> {
        self.read_indexes(machine, wanted.iter());
        // A package that could not be unpacked is not tried again.
        let known = |id: &PackageId| self.manifests.contains_key(id) || self.broken.iter().any(|(b, _)| b == id);
        let mut open: Vec<&PackageId> = wanted.iter().filter(|id| !known(id) && self.table.lists(id)).collect();
        let bytes = |id: &PackageId| self.table.candidates(id).first().map_or(0, |c| c.sum.get().size);
        // The largest first, each as soon as a thread is free: a large one that starts last would keep all waiting.
        open.sort_by_key(|id| (std::cmp::Reverse(bytes(id)), *id));
        observer.on_event(Event::Begin {
            phase: Phase::Unpacking,
            items: open.len() as u64,
            bytes: open.iter().map(|id| bytes(id)).sum(),
        });
        let mut got = Vec::with_capacity(open.len());
        for round in rounds(&open, &bytes) {
            got.extend(self.prepare_round(machine, round, pool, observer)?);
        }
        observer.on_event(Event::End);
        let mut lacking = Vec::new();
        for one in got {
            match one {
                (id, Got::Manifest(holdings)) => drop(self.manifests.insert(id, holdings)),
                (id, Got::Broken(why)) => self.broken.push((id, why)),
                (id, Got::NotHere(candidate)) => lacking.push(Lacking { id, candidate }),
            }
        }
        self.broken.sort();
        lacking.sort_by(|a, b| a.id.cmp(&b.id));
        Ok(lacking)
    }

    /// Prepares packages in the given order: all are verified, side by side, before the first of them is unpacked.
    fn prepare_round(
        &self,
        machine: &Machine,
        ids: &[&PackageId],
        pool: &rayon::ThreadPool,
        observer: &dyn Observer,
    ) -> Result<Vec<(PackageId, Got)>, Stopped> {
        let known: Vec<Option<Holdings>> = pool.install(|| ids.par_iter().map(|id| remembered(self, id)).collect());
        let sums = self.first_sums(machine, ids, &known, pool, observer)?;
        let all: Vec<_> = std::iter::zip(ids, std::iter::zip(known, sums)).collect();
        // Each as soon as a thread is free.
        let got: Vec<Option<(PackageId, Got)>> = pool.install(|| {
            let one = |(id, (known, sums)): (&&PackageId, (Option<Holdings>, Option<FileSums>))| {
                let got = available_manifest(self, machine, id, known, sums.as_ref());
                let bytes = self.table.candidates(id).first().map_or(0, |c| c.sum.get().size);
                let stop = observer.on_event(Event::Advance { items: 1, bytes }) == Flow::Stop;
                (!stop).then(|| ((*id).clone(), got))
            };
            all.into_iter().par_bridge().map(one).collect()
        });
        got.into_iter().map(|one| one.ok_or(Stopped)).collect()
    }

    /// The digests of the first file of each package that must be read.
    fn first_sums(
        &self,
        machine: &Machine,
        ids: &[&PackageId],
        known: &[Option<Holdings>],
        pool: &rayon::ThreadPool,
        observer: &dyn Observer,
    ) -> Result<Vec<Option<FileSums>>, Stopped> {
        let lacks = |at: &usize| known[*at].as_ref().is_none_or(|h| h.records.is_none());
        let to_read: Vec<(usize, &Candidate)> = (0..ids.len())
            .filter(lacks)
            .filter_map(|at| self.table.candidates(ids[at]).first().map(|candidate| (at, candidate)))
            .filter(|(at, candidate)| self.hand.has(machine, ids[*at], candidate))
            .collect();
        let sizes: Vec<u64> = to_read.iter().map(|(_, candidate)| candidate.sum.get().size).collect();
        let open = |n: usize| {
            let (at, candidate) = to_read[n];
            let file = self.hand.first(machine, ids[at], candidate).map(|(file, _)| OwnedFd::from(file));
            file.ok_or_else(|| io::ErrorKind::NotFound.into())
        };
        let files = Files { disk: machine.disk().as_ref(), sizes: &sizes, open: &open, with_blake3: true };
        let read = digest_files(&files, pool, &Silent(observer))?;
        let mut sums = vec![None; ids.len()];
        for ((at, _), read) in std::iter::zip(&to_read, read) {
            sums[*at] = read.ok();
        }
        Ok(sums)
    }

    /// Downloads packages; returns those that failed, with the reason.
    ///
    /// # Errors
    /// When the observer stopped the run; what was downloaded by then is kept for the next time.
    pub fn download(
        &mut self,
        lacking: &[Lacking],
        observer: &dyn Observer,
    ) -> Result<Vec<(PackageId, FetchError)>, Stopped> {
        let bytes = lacking.iter().map(|l| l.candidate.sum.get().size).sum();
        if let Some(e) = self.hand.no_room_for(bytes) {
            return Ok(lacking.iter().map(|l| (l.id.clone(), e.clone())).collect());
        }
        observer.on_event(Event::Begin { phase: Phase::Downloading, items: lacking.len() as u64, bytes });
        let mut failed = Vec::new();
        for one in lacking {
            let to = self.hand.download_place(&one.candidate);
            let uri = &self.sources[one.candidate.source].source.uri;
            let url = format!("{uri}{}", one.candidate.path);
            match self.fetcher.download(&url, &one.candidate.sum, &to, observer) {
                Ok(()) => {}
                Err(FetchError::Stopped) => return Err(Stopped),
                Err(e) => failed.push((one.id.clone(), e)),
            }
            if observer.on_event(Event::Advance { items: 1, bytes: 0 }) == Flow::Stop {
                return Err(Stopped);
            }
        }
        observer.on_event(Event::End);
        Ok(failed)
    }

    /// Unpacks the contents that a repair needs, as long as this value lives; returns the packages that could not be read,
    /// with the reason. Contents of the others are available nevertheless.
    ///
    /// # Errors
    /// When no folder has enough free space for them.
    pub fn unpack(
        &self,
        machine: &Machine,
        needed: &HashMap<Digest, u64>,
    ) -> Result<Vec<(PackageId, UnpackError)>, UnpackError> {
        let missing: HashMap<Digest, u64> =
            needed.iter().filter(|(digest, _)| !self.has_content(digest)).map(|(d, s)| (*d, *s)).collect();
        let wanted: HashSet<Digest> = missing.keys().copied().collect();
        let holds = |manifest: &Manifest| {
            manifest
                .entries
                .iter()
                .any(|e| matches!(&e.kind, EntryKind::File { digest, .. } if wanted.contains(digest)))
        };
        let from: Vec<_> = self.manifests.iter().filter(|(_, h)| holds(h.manifest.get())).collect();
        if from.is_empty() {
            return Ok(Vec::new());
        }
        let mut failed = Vec::new();
        let mut unpacked = Unpacked::with_room(&self.settings.scratch, missing.values().sum())?;
        for (id, Holdings { manifest, candidate, .. }) in from {
            if let Some(deb) = self.hand.find(machine, id, candidate) {
                failed.extend(unpacked.unpack(deb.file, manifest.get(), &wanted).err().map(|e| (id.clone(), e)));
            }
        }
        self.unpacked().push(unpacked);
        Ok(failed)
    }

    /// Deletes the unpacked contents.
    pub fn remove_unpacked(&mut self) {
        self.unpacked().clear();
    }

    pub(super) fn unpacked(&self) -> MutexGuard<'_, Vec<Unpacked>> {
        self.unpacked.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The verified manifest of a package, if it was prepared.
    #[must_use]
    pub fn manifest(&self, id: &PackageId) -> Option<Verified<Arc<Manifest>>> {
        self.manifests.get(id).map(|h| h.manifest.clone())
    }

    /// The expected entries of the package database for a package, if it was prepared.
    #[must_use]
    pub fn records(&self, id: &PackageId) -> Option<Verified<Arc<Records>>> {
        self.manifests.get(id).and_then(|h| h.records.clone())
    }

    /// The members of a prepared package's control part, by name, if its .deb file is available. Callers compare them with
    /// their digests.
    #[must_use]
    pub fn members(&self, machine: &Machine, id: &PackageId) -> Option<BTreeMap<String, Vec<u8>>> {
        let deb = self.hand.find(machine, id, &self.manifests.get(id)?.candidate)?;
        Some(read_control_part(std::io::BufReader::new(deb.file.into_inner())).ok()?.members)
    }

    /// The package from which a prepared manifest came.
    #[must_use]
    pub fn deb_of(&self, id: &PackageId) -> Option<&Candidate> {
        self.manifests.get(id).map(|h| &h.candidate)
    }

    /// Whether the .deb file of a prepared package is available, so that its contents are.
    #[must_use]
    pub fn has_deb(&self, machine: &Machine, id: &PackageId) -> bool {
        self.manifests.get(id).is_some_and(|h| self.hand.has(machine, id, &h.candidate))
    }

    /// The .deb file of a listed package, if it is available by name and size.
    #[must_use]
    pub fn local_candidate(&self, machine: &Machine, id: &PackageId) -> Option<&Candidate> {
        self.table.candidates(id).iter().find(|c| self.hand.has(machine, id, c))
    }

    /// The .deb file of a package that is listed but not available.
    #[must_use]
    pub fn lacking(&self, machine: &Machine, id: &PackageId) -> Option<Lacking> {
        let candidates = self.table.candidates(id);
        if candidates.iter().any(|c| self.hand.has(machine, id, c)) {
            return None;
        }
        let fetchable = |c: &&Candidate| self.sources[c.source].source.kind() == SourceKind::Network;
        candidates.iter().find(fetchable).map(|c| Lacking { id: id.clone(), candidate: c.clone() })
    }
}

fn remembered(repositories: &Repositories, id: &PackageId) -> Option<Holdings> {
    repositories.table.candidates(id).iter().find_map(|candidate| {
        let sha256 = &candidate.sum.get().sha256;
        let fact = repositories.facts.get(FactKind::Deb, sha256)?;
        let manifest = fact.derive(|bytes| Manifest::decode(&bytes)).ok()?;
        let records = repositories.facts.get(FactKind::Records, sha256);
        let records = records.and_then(|fact| fact.derive(|bytes| Records::decode(&bytes)).ok());
        let manifest = (manifest.get().package == *id).then(|| manifest.map(Arc::new))?;
        Some(Holdings { manifest, records: records.map(|r| r.map(Arc::new)), candidate: candidate.clone() })
    })
}

/// Packages in rounds of so many bytes that those verified are still in the kernel's cache when they are unpacked.
fn rounds<'a, 'b>(ids: &'a [&'b PackageId], bytes: &dyn Fn(&PackageId) -> u64) -> Vec<&'a [&'b PackageId]> {
    let mut rounds = Vec::new();
    let mut rest = ids;
    while !rest.is_empty() {
        let mut total = 0;
        let fits = |id: &&&PackageId| {
            total += bytes(id);
            total <= ROUND
        };
        let (round, others) = rest.split_at(rest.iter().take_while(fits).count().max(1));
        rounds.push(round);
        rest = others;
    }
    rounds
}

/// Passes on the wish to stop, and no progress: packages are reported when they are unpacked.
struct Silent<'a>(&'a dyn Observer);

impl Observer for Silent<'_> {
    fn on_event(&self, event: Event<'_>) -> Flow {
        match event {
            Event::Advance { .. } => self.0.on_event(Event::Advance { items: 0, bytes: 0 }),
            other => self.0.on_event(other),
        }
    }
}

fn available_manifest(
    repositories: &Repositories,
    machine: &Machine,
    id: &PackageId,
    remembered: Option<Holdings>,
    sums: Option<&FileSums>,
) -> Got {
    let remembered = match remembered {
        Some(holdings) if holdings.records.is_some() => return Got::Manifest(holdings),
        other => other,
    };
    let candidates = repositories.table.candidates(id);
    let mut broken = None;
    // The digests of the first file are known; the others are read one by one if it differs.
    let first = candidates.first().zip(sums).and_then(|(candidate, sums)| {
        let (file, from) = repositories.hand.first(machine, id, candidate)?;
        Some((candidate, verify_by_sums(file, sums, &candidate.sum).ok()?, sums.blake3(), from))
    });
    let others = candidates.iter().filter_map(|candidate| {
        repositories.hand.find(machine, id, candidate).map(|deb| (candidate, deb.file, None, deb.from))
    });
    for (candidate, file, blake3, from) in first.into_iter().chain(others) {
        match unpack::manifest(file, blake3, candidate.sum.get(), id) {
            Ok(both) => {
                let (manifest, records) = (both.part(|b| &b.0).cloned(), both.part(|b| &b.1).cloned());
                let sha256 = &candidate.sum.get().sha256;
                if let Ok(encoded) = manifest.clone().derive(|m| m.encode()) {
                    repositories.facts.keep(FactKind::Deb, sha256, &encoded);
                }
                if let Ok(encoded) = records.clone().derive(|r| serde_json::to_vec(&r)) {
                    repositories.facts.keep(FactKind::Records, sha256, &encoded);
                }
                return Got::Manifest(Holdings {
                    manifest: manifest.map(Arc::new),
                    records: Some(records.map(Arc::new)),
                    candidate: candidate.clone(),
                });
            }
            Err(e) => broken = Some(format!("{from}: {}", crate::model::error_chain(&e))),
        }
    }
    if let Some(holdings) = remembered {
        return Got::Manifest(holdings);
    }
    match (broken, candidates.first()) {
        (Some(why), _) => Got::Broken(why),
        (None, Some(candidate)) => Got::NotHere(candidate.clone()),
        (None, None) => Got::Broken("no repository lists it".into()),
    }
}

impl Repositories {
    /// A package's .deb file in one of the machine's own network sources, available or not.
    #[must_use]
    pub fn on_network(&self, id: &PackageId) -> Option<Lacking> {
        let fetchable = |c: &&Candidate| {
            let place = &self.sources[c.source];
            !place.named && place.source.kind() == SourceKind::Network
        };
        self.table.candidates(id).iter().find(fetchable).map(|c| Lacking { id: id.clone(), candidate: c.clone() })
    }

    /// The name for people of the source that has a package.
    #[must_use]
    pub fn source_of(&self, lacking: &Lacking) -> String {
        self.sources[lacking.candidate.source].source.describe()
    }
}

/// Packages that another authority than a repository verifies, by their size and digest: they may be anywhere.
impl Repositories {
    /// An available package of this size and digest.
    #[must_use]
    pub fn available(&self, machine: &Machine, id: &PackageId, sum: &Verified<FileSum>) -> Option<Deb> {
        let nowhere = Candidate { source: usize::MAX, others: Vec::new(), path: String::new(), sum: sum.clone() };
        let listed = self.table.candidates(id).iter().filter(|c| c.sum.get() == sum.get());
        listed.chain([&nowhere]).find_map(|candidate| self.hand.find(machine, id, candidate))
    }

    /// The package of this size and digest, if a reachable repository lists it.
    #[must_use]
    pub fn fetchable(&self, id: &PackageId, sum: &Verified<FileSum>) -> Option<Lacking> {
        let network = |c: &&Candidate| self.sources[c.source].source.kind() == SourceKind::Network;
        let listed = self.table.candidates(id).iter().filter(|c| c.sum.get() == sum.get()).find(network);
        listed.filter(|_| self.may_use_network()).map(|c| Lacking { id: id.clone(), candidate: c.clone() })
    }
}

impl Contents for Repositories {
    fn copy(&self, digest: &Digest, size: u64, to: &mut dyn FnMut(&[u8]) -> io::Result<()>) -> Result<(), StoreError> {
        match self.unpacked().iter().find(|u| u.has(digest)) {
            Some(unpacked) => unpacked.copy(digest, size, to),
            None => Err(StoreError::Absent { digest: *digest }),
        }
    }

    fn has_content(&self, digest: &Digest) -> bool {
        self.unpacked().iter().any(|u| u.has(digest))
    }
}
