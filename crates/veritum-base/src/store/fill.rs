//! Adding packages to a store, from .deb files and other stores: in parallel, each package completely or not at all.

use std::collections::{HashMap, HashSet};
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use rayon::prelude::*;

use super::audit::{is_content, referred};
use super::files;
use super::head::located;
use super::incoming::{Incoming, add_deb, deb_ref};
use super::index::{DebRef, IndexEntry};
use super::pointers::{whole_pointers, write_pointer};
use super::{FOLDERS, Store, StoreError, at};
use crate::event::{Event, Flow, Observer, Phase};
use crate::formats::deb::DebError;
use crate::model::PackageId;

/// The number of packages after which everything so far is made durable.
const BATCH: usize = 64;
/// The number of attempts to lock, 20 ms apart.
const LOCK_TRIES: u32 = 15;

/// A package that was not added.
#[derive(Debug)]
pub struct Refused {
    /// The file.
    pub path: PathBuf,
    /// The reason.
    pub why: StoreError,
}

/// The result of adding packages.
#[derive(Debug, Default)]
pub struct FillSummary {
    /// The packages added.
    pub added: Vec<PackageId>,
    /// The number of packages that were already in the store.
    pub known: usize,
    /// The packages that were not added.
    pub refused: Vec<Refused>,
}

impl FillSummary {
    /// The sum of both results.
    #[must_use]
    pub fn with(mut self, other: Self) -> Self {
        self.added.extend(other.added);
        self.known += other.known;
        self.refused.extend(other.refused);
        self
    }
}

/// How packages are added.
#[derive(Debug, Clone, Copy)]
pub struct FillRules {
    /// The number of threads.
    pub jobs: usize,
    /// Whether contents are stored; without them a store can verify files but not restore them.
    pub contents: bool,
}

/// A package to add, from any source.
pub trait Parcel: Sync {
    /// Its name for people: a path.
    fn label(&self) -> PathBuf;

    /// Its size in bytes, as far as known.
    fn bytes(&self) -> u64;

    /// Opens it at its beginning; also returns its digest, if it was just verified.
    ///
    /// # Errors
    /// When it no longer exists, or has changed.
    fn open(&self) -> io::Result<(fs::File, Option<DebRef>)>;
}

impl Parcel for PathBuf {
    fn label(&self) -> PathBuf {
        self.clone()
    }

    fn bytes(&self) -> u64 {
        fs::metadata(self).map_or(0, |m| m.len())
    }

    fn open(&self) -> io::Result<(fs::File, Option<DebRef>)> {
        files::open(self).map(|file| (file, None))
    }
}

/// Adds packages with their contents to a store.
///
/// # Errors
/// As [`fill_from`].
pub fn fill(store: &Path, debs: &[PathBuf], jobs: usize, observer: &dyn Observer) -> Result<FillSummary, StoreError> {
    let parcels: Vec<&dyn Parcel> = debs.iter().map(|p| p as &dyn Parcel).collect();
    fill_from(store, &parcels, FillRules { jobs, contents: true }, observer)
}

/// Adds packages to a store.
///
/// # Errors
/// When the store itself cannot be used; errors of single packages are in the summary.
pub fn fill_from(
    store: &Path,
    parcels: &[&dyn Parcel],
    rules: FillRules,
    observer: &dyn Observer,
) -> Result<FillSummary, StoreError> {
    let mut filling = Filling::begin(store, rules)?;
    let bytes = parcels.iter().map(|p| p.bytes()).sum();
    observer.on_event(Event::Begin { phase: Phase::Filling, items: parcels.len() as u64, bytes });
    for batch in parcels.chunks(BATCH) {
        let sums = filling.sums();
        let one = |parcel: &&&dyn Parcel| {
            let taken = take_unless_known(&filling.incoming, **parcel, &sums, rules.contents);
            (parcel.label(), taken, Event::Advance { items: 1, bytes: parcel.bytes() })
        };
        let taken = filling.each(batch, one, observer)?;
        filling.settle(taken)?;
    }
    filling.end(observer)
}

/// Copies packages from another store, verified by their digests; all packages, or the wanted ones.
///
/// # Errors
/// When the store itself cannot be used; errors of single packages are in the summary.
pub fn take_over(
    store: &Path,
    from: &Store,
    wanted: Option<&[PackageId]>,
    rules: FillRules,
    observer: &dyn Observer,
) -> Result<FillSummary, StoreError> {
    let mut filling = Filling::begin(store, rules)?;
    let mut entries: Vec<IndexEntry> = match wanted {
        Some(wanted) => wanted.iter().filter_map(|id| from.entry(id)).cloned().collect(),
        None => from.packages().cloned().collect(),
    };
    entries.sort_by(|a, b| a.package.cmp(&b.package));
    let bytes = entries.iter().map(|e| e.bytes).sum();
    observer.on_event(Event::Begin { phase: Phase::Filling, items: entries.len() as u64, bytes });
    for batch in entries.chunks(BATCH) {
        let sums = filling.sums();
        let one = |entry: &&IndexEntry| {
            let taken = match sums.contains(entry.deb.sha256.as_str()) {
                true => Ok(None),
                false => take_entry(&filling.incoming, from, entry, rules.contents).map(Some),
            };
            (PathBuf::from(entry.package.to_string()), taken, Event::Advance { items: 1, bytes: entry.bytes })
        };
        let batch: Vec<&IndexEntry> = batch.iter().collect();
        let taken = filling.each(&batch, |entry| one(entry), observer)?;
        filling.settle(taken)?;
    }
    filling.end(observer)
}

/// The result for one package: its source, and its entry unless it was known.
type Taken = Vec<(PathBuf, Result<Option<IndexEntry>, StoreError>)>;

/// A run that adds packages.
struct Filling {
    store: PathBuf,
    rules: FillRules,
    incoming: Incoming,
    known: HashMap<PackageId, IndexEntry>,
    pool: rayon::ThreadPool,
    summary: FillSummary,
    _lock: fs::File,
}

impl Filling {
    fn begin(store: &Path, rules: FillRules) -> Result<Self, StoreError> {
        let store = located(store)?;
        let lock = lock(&store)?;
        let pool = rayon::ThreadPoolBuilder::new().num_threads(rules.jobs).build();
        Ok(Self {
            incoming: Incoming::begin(&store)?,
            known: whole_pointers(&store)?,
            pool: pool.map_err(|e| at(&store)(io::Error::other(e)))?,
            summary: FillSummary::default(),
            rules,
            store,
            _lock: lock,
        })
    }

    /// Digests of packages that the store already has completely.
    fn sums(&self) -> HashSet<String> {
        let enough = |entry: &&IndexEntry| !(self.rules.contents && entry.manifest_only);
        self.known.values().filter(enough).map(|p| p.deb.sha256.clone()).collect()
    }

    /// Processes a batch in parallel.
    fn each<T: Sync>(
        &self,
        batch: &[T],
        one: impl Fn(&&T) -> (PathBuf, Result<Option<IndexEntry>, StoreError>, Event<'static>) + Sync,
        observer: &dyn Observer,
    ) -> Result<Taken, StoreError> {
        let taken: Vec<Result<_, StoreError>> = self.pool.install(|| {
            let work = |item: &T| {
                let (label, taken, done) = one(&item);
                if observer.on_event(done) == Flow::Stop { Err(StoreError::Stopped) } else { Ok((label, taken)) }
            };
            batch.par_iter().with_max_len(1).map(work).collect()
        });
        taken.into_iter().collect()
    }

    /// Makes a batch durable, then records its packages.
    fn settle(&mut self, taken: Taken) -> Result<(), StoreError> {
        self.incoming.settle()?;
        for (path, taken) in taken {
            match taken {
                Err(why) => self.summary.refused.push(Refused { path, why }),
                Ok(None) => self.summary.known += 1,
                Ok(Some(entry)) => self.name(path, entry)?,
            }
        }
        Ok(())
    }

    fn name(&mut self, path: PathBuf, entry: IndexEntry) -> Result<(), StoreError> {
        let id = entry.package.clone();
        match self.known.get(&id) {
            // The same files, compressed differently.
            Some(before) if before.manifest == entry.manifest && (entry.manifest_only || !before.manifest_only) => {
                self.summary.known += 1;
                return Ok(());
            }
            // The same files, now with their contents.
            Some(before) if before.manifest == entry.manifest => {}
            Some(_) => {
                let why = DebError::Shape(format!("the store already contains a different {id}"));
                let why = StoreError::Deb { path: path.clone(), source: why };
                self.summary.refused.push(Refused { path, why });
                return Ok(());
            }
            None => {}
        }
        write_pointer(&self.store, &entry)?;
        self.known.insert(id.clone(), entry);
        self.summary.added.push(id);
        Ok(())
    }

    fn end(self, observer: &dyn Observer) -> Result<FillSummary, StoreError> {
        files::sync_all(&self.store)?;
        observer.on_event(Event::End);
        Ok(self.summary)
    }
}

fn take_unless_known(
    incoming: &Incoming,
    parcel: &dyn Parcel,
    known: &HashSet<String>,
    contents: bool,
) -> Result<Option<IndexEntry>, StoreError> {
    let path = parcel.label();
    let (mut file, deb) = parcel.open().map_err(at(&path))?;
    let deb = match deb {
        Some(deb) => deb,
        None => deb_ref(&mut file, &path)?,
    };
    if known.contains(&deb.sha256) {
        return Ok(None);
    }
    add_deb(incoming, file, &path, deb, contents).map(Some)
}

/// Copies everything of one package from another store.
fn take_entry(incoming: &Incoming, from: &Store, entry: &IndexEntry, contents: bool) -> Result<IndexEntry, StoreError> {
    let fail = |source: Box<dyn std::error::Error + Send + Sync>| StoreError::Manifest {
        package: Box::new(entry.package.clone()),
        source,
    };
    let bytes = from.manifest_bytes(entry).map_err(|e| fail(e.into()))?;
    let contents = contents && !entry.manifest_only;
    let (files_of, records) = referred(from, entry, contents).map_err(|_| fail("cannot be read".into()))?;
    for (digest, size) in files_of.into_iter().chain(records) {
        let place = files::object(incoming.store(), &digest);
        let came = incoming.packed(&files::object(from.path(), &digest), &digest, place, |temp| {
            files::open(temp).is_ok_and(|file| is_content(file, &digest, size))
        });
        match came {
            Ok(true) => {}
            Ok(false) => return Err(StoreError::Damaged { digest }),
            Err(e) if e.kind() == io::ErrorKind::NotFound => return Err(StoreError::Absent { digest }),
            Err(e) => return Err(at(from.path())(e)),
        }
    }
    incoming.manifest(&bytes).map_err(at(from.path()))?;
    Ok(IndexEntry { manifest_only: !contents, ..entry.clone() })
}

/// Prevents two processes from writing to one store.
pub(super) fn lock(store: &Path) -> Result<fs::File, StoreError> {
    for name in FOLDERS {
        files::require_folder(&store.join(name))?;
    }
    let path = store.join("lock");
    let file = fs::OpenOptions::new().create(true).append(true).open(&path).map_err(at(&path))?;
    // A child process that was just started holds every open file until it executes its own program: try again briefly.
    for _ in 0..LOCK_TRIES {
        match file.try_lock() {
            Ok(()) => return Ok(file),
            Err(fs::TryLockError::WouldBlock) => std::thread::sleep(std::time::Duration::from_millis(20)),
            Err(fs::TryLockError::Error(e)) => return Err(at(&path)(e)),
        }
    }
    Err(StoreError::Busy { path: store.to_owned() })
}
