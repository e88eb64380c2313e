//! Filling a store from `.deb` packages: in parallel, each package whole or not at all.

use std::collections::{HashMap, HashSet};
use std::fs;
use std::io::{self, Read, Write as _};
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use aws_lc_rs::digest::{Context, SHA256};
use rayon::prelude::*;

use super::files::{self, readable_by_all};
use super::index::{IndexEntry, PackageRef};
use super::making::ManifestMaker;
use super::records::{RecordMember, Records, RecordsRef};
use super::{FOLDERS, Manifest, StoreError, at, read::located};
use crate::event::{Event, Flow, Observer, Phase};
use crate::model::{ComponentId, ContentHasher, Digest, EntryKind, SystemPath};
use crate::platform::debian::deb::read_deb;
use crate::platform::debian::{DebError, Package};

/// Contents up to this size are digested before they are compressed, so that a known one costs no compression.
const SMALL: u64 = 1 << 20;
/// Fast and still halves a system's size; the time of filling is what people wait for.
const LEVEL: i32 = 1;
/// Packages between two points at which everything so far is made durable.
const BATCH: usize = 64;
/// The name that a running fill's unfinished work begins with.
const UNFINISHED: &str = "fill-";
/// How often a lock is tried, 20 ms apart.
const LOCK_TRIES: u32 = 15;

/// A package that was not taken, and why.
#[derive(Debug)]
pub struct Refused {
    /// The file.
    pub path: PathBuf,
    /// Why.
    pub why: StoreError,
}

/// What came of a filling.
#[derive(Debug, Default)]
pub struct FillSummary {
    /// Components taken in.
    pub added: Vec<ComponentId>,
    /// Packages that the store had already.
    pub known: usize,
    /// Packages that were not taken.
    pub refused: Vec<Refused>,
}

/// Takes packages into a store.
///
/// # Errors
/// When the store itself cannot be worked on; what a single package suffers stands in the summary.
pub fn fill(
    store: &Path,
    packages: &[PathBuf],
    jobs: usize,
    observer: &dyn Observer,
) -> Result<FillSummary, StoreError> {
    let store = located(store)?;
    let _lock = lock(&store)?;
    let incoming = Incoming::begin(&store)?;
    let mut known = pointers(&store)?;
    let size = |path: &PathBuf| fs::metadata(path).map_or(0, |m| m.len());
    let bytes = packages.iter().map(size).sum();
    observer.hear(Event::Begin { phase: Phase::Filling, items: packages.len() as u64, bytes });
    let pool =
        rayon::ThreadPoolBuilder::new().num_threads(jobs).build().map_err(|e| at(&store)(io::Error::other(e)))?;
    let mut summary = FillSummary::default();
    for batch in packages.chunks(BATCH) {
        let sums: HashSet<&str> = known.values().map(|p| p.package.sha256.as_str()).collect();
        let taken: Vec<Result<Option<Taken>, Refused>> = pool.install(|| {
            batch
                .par_iter()
                .map(|path| {
                    let result = take(&incoming, path, &sums).map_err(|why| Refused { path: path.clone(), why });
                    if observer.hear(Event::Advance { items: 1, bytes: size(path) }) == Flow::Stop {
                        return Err(Refused { path: path.clone(), why: StoreError::Stopped });
                    }
                    result
                })
                .collect()
        });
        let mut fresh = Vec::new();
        for result in taken {
            match result {
                Err(Refused { why: StoreError::Stopped, .. }) => return Err(StoreError::Stopped),
                Err(refused) => summary.refused.push(refused),
                Ok(None) => summary.known += 1,
                Ok(Some(taken)) => fresh.push(taken),
            }
        }
        incoming.settle()?;
        for taken in fresh {
            settle_pointer(&store, taken, &mut known, &mut summary)?;
        }
    }
    files::sync_all(&store)?;
    observer.hear(Event::End);
    Ok(summary)
}

/// A package whose contents lie in the store.
struct Taken {
    path: PathBuf,
    entry: IndexEntry,
}

fn settle_pointer(
    store: &Path,
    taken: Taken,
    known: &mut HashMap<ComponentId, IndexEntry>,
    summary: &mut FillSummary,
) -> Result<(), StoreError> {
    let id = taken.entry.component.clone();
    match known.get(&id) {
        // The same files under another compression: nothing new.
        Some(before) if before.manifest == taken.entry.manifest => summary.known += 1,
        Some(_) => {
            let why = DebError::Shape(format!("the store holds another package that also calls itself {id}"));
            summary
                .refused
                .push(Refused { path: taken.path.clone(), why: StoreError::Package { path: taken.path, source: why } });
        }
        None => {
            let text = serde_json::to_vec(&taken.entry).map_err(|e| at(store)(e.into()))?;
            files::write_whole(&pointer_path(store, &id), &text)?;
            known.insert(id.clone(), taken.entry);
            summary.added.push(id);
        }
    }
    Ok(())
}

fn pointer_path(store: &Path, id: &ComponentId) -> PathBuf {
    // The colon of an epoch is written as archives write it, so that any file system takes the name.
    store.join("filled").join(format!("{}_{}_{}.json", id.name, id.version.replace(':', "%3a"), id.arch))
}

/// What was taken in so far, signed or not.
pub(super) fn pointers(store: &Path) -> Result<HashMap<ComponentId, IndexEntry>, StoreError> {
    let folder = store.join("filled");
    let mut all = HashMap::new();
    for entry in fs::read_dir(&folder).map_err(at(&folder))? {
        let path = entry.map_err(at(&folder))?.path();
        if path.extension().is_some_and(|e| e == "json") {
            let bytes = files::read(&path, 1 << 20)?;
            let pointer: IndexEntry = serde_json::from_slice(&bytes).map_err(|e| at(&path)(e.into()))?;
            all.insert(pointer.component.clone(), pointer);
        }
    }
    Ok(all)
}

/// Keeps two fillings or publishings of one store apart.
pub(super) fn lock(store: &Path) -> Result<fs::File, StoreError> {
    for name in FOLDERS {
        files::require_folder(&store.join(name))?;
    }
    let path = store.join("lock");
    let file = fs::OpenOptions::new().create(true).append(true).open(&path).map_err(at(&path))?;
    // A moment's patience: a child process that was just started holds every open file until it runs its own program.
    for _ in 0..LOCK_TRIES {
        match file.try_lock() {
            Ok(()) => return Ok(file),
            Err(fs::TryLockError::WouldBlock) => std::thread::sleep(std::time::Duration::from_millis(20)),
            Err(fs::TryLockError::Error(e)) => return Err(at(&path)(e)),
        }
    }
    Err(StoreError::Busy { path: store.to_owned() })
}

/// Contents on their way in: written under `incoming/`, given their names only after they are durable.
struct Incoming {
    store: PathBuf,
    folder: tempfile::TempDir,
    claimed: Mutex<HashSet<Digest>>,
    waiting: Mutex<Vec<(PathBuf, PathBuf)>>,
}

impl Incoming {
    fn begin(store: &Path) -> Result<Self, StoreError> {
        let parent = store.join("incoming");
        // Under the lock nobody else's work can be here: what lies about is an interrupted run's.
        if let Ok(left) = fs::read_dir(&parent) {
            for entry in left.flatten().filter(|e| e.file_name().to_string_lossy().starts_with(UNFINISHED)) {
                fs::remove_dir_all(entry.path()).map_err(at(&parent))?;
            }
        }
        fs::create_dir_all(&parent).map_err(at(&parent))?;
        let folder = tempfile::Builder::new().prefix(UNFINISHED).tempdir_in(&parent).map_err(at(&parent))?;
        Ok(Self { store: store.to_owned(), folder, claimed: Mutex::default(), waiting: Mutex::default() })
    }

    /// Whether this run is the one to bring in that content.
    fn claim(&self, digest: &Digest, place: &Path) -> bool {
        !place.exists() && self.claimed.lock().unwrap_or_else(std::sync::PoisonError::into_inner).insert(*digest)
    }

    fn wait(&self, from: PathBuf, to: PathBuf) {
        self.waiting.lock().unwrap_or_else(std::sync::PoisonError::into_inner).push((from, to));
    }

    fn put_small(&self, bytes: &[u8], digest: &Digest, place: PathBuf) -> io::Result<()> {
        if self.claim(digest, &place) {
            let temp = self.folder.path().join(format!("{digest}.small"));
            fs::write(&temp, zstd::bulk::compress(bytes, LEVEL)?)?;
            fs::set_permissions(&temp, readable_by_all())?;
            self.wait(temp, place);
        }
        Ok(())
    }

    fn object(&self, bytes: &[u8]) -> io::Result<Digest> {
        let digest = Digest::of(bytes);
        self.put_small(bytes, &digest, files::object(&self.store, &digest))?;
        Ok(digest)
    }

    /// Takes a content of a known size.
    fn content(&self, size: u64, from: &mut dyn Read) -> io::Result<Digest> {
        if size <= SMALL {
            let mut bytes = Vec::with_capacity(usize::try_from(size).unwrap_or(0));
            from.read_to_end(&mut bytes)?;
            return self.object(&bytes);
        }
        let mut temp = tempfile::Builder::new().permissions(readable_by_all()).tempfile_in(self.folder.path())?;
        let mut hasher = ContentHasher::blake3();
        let mut encoder = zstd::Encoder::new(&mut temp, LEVEL)?;
        let mut piece = vec![0; 256 * 1024];
        loop {
            let n = from.read(&mut piece)?;
            if n == 0 {
                break;
            }
            hasher.update(&piece[..n]);
            encoder.write_all(&piece[..n])?;
        }
        encoder.finish()?;
        let digest = hasher.finish().0.unwrap_or_else(|| Digest::of(b""));
        let place = files::object(&self.store, &digest);
        if self.claim(&digest, &place) {
            let path = self.folder.path().join(format!("{digest}.large"));
            temp.persist(&path).map_err(|e| e.error)?;
            self.wait(path, place);
        }
        Ok(digest)
    }

    /// Makes what came in durable, then gives it its names.
    fn settle(&self) -> Result<(), StoreError> {
        files::sync_all(&self.store)?;
        let waiting = std::mem::take(&mut *self.waiting.lock().unwrap_or_else(std::sync::PoisonError::into_inner));
        for (from, to) in waiting {
            if let Some(folder) = to.parent() {
                fs::create_dir_all(folder).map_err(at(folder))?;
                files::require_folder(folder)?;
            }
            fs::rename(&from, &to).map_err(at(&to))?;
        }
        Ok(())
    }
}

fn take(incoming: &Incoming, path: &Path, known: &HashSet<&str>) -> Result<Option<Taken>, StoreError> {
    let (sha256, size) = sha256_of(path)?;
    if known.contains(sha256.as_str()) {
        return Ok(None);
    }
    let file = fs::File::open(path).map_err(at(path))?;
    let mut sink = ManifestMaker::new(|_: &SystemPath, size, content: &mut dyn Read| incoming.content(size, content));
    let failed = |source| StoreError::Package { path: path.to_owned(), source };
    let package = read_deb(io::BufReader::with_capacity(128 * 1024, file), &mut sink).map_err(failed)?;
    let entries = sink.into_entries();
    let records = keep_records(incoming, &package).map_err(|e| failed(e.into()))?;
    let count = entries.len() as u64;
    let bytes =
        entries.iter().map(|e| if let EntryKind::File { size, same_as: None, .. } = e.kind { size } else { 0 }).sum();
    let manifest = Manifest { component: package.id.clone(), records: Some(records), entries };
    let plain = manifest.encode().map_err(|e| failed(DebError::Shape(e.to_string())))?;
    let digest = Digest::of(&plain);
    incoming.put_small(&plain, &digest, files::manifest(&incoming.store, &digest)).map_err(at(path))?;
    let entry = IndexEntry {
        component: package.id,
        manifest: digest,
        manifest_size: plain.len() as u64,
        entries: count,
        bytes,
        package: PackageRef { sha256, size },
    };
    Ok(Some(Taken { path: path.to_owned(), entry }))
}

fn sha256_of(path: &Path) -> Result<(String, u64), StoreError> {
    let mut file = fs::File::open(path).map_err(at(path))?;
    let mut context = Context::new(&SHA256);
    let mut piece = vec![0; 256 * 1024];
    let mut size = 0;
    loop {
        match file.read(&mut piece).map_err(at(path))? {
            0 => return Ok((hex::encode(context.finish().as_ref()), size)),
            n => {
                context.update(&piece[..n]);
                size += n as u64;
            }
        }
    }
}

fn keep_records(incoming: &Incoming, package: &Package) -> io::Result<RecordsRef> {
    let mut members = Vec::new();
    for (name, content) in package.members.iter().filter(|(n, _)| !matches!(n.as_str(), "conffiles" | "md5sums")) {
        members.push(RecordMember {
            name: name.clone(),
            blake3: incoming.object(content)?,
            size: content.len() as u64,
        });
    }
    let md5sums = package.members.get("md5sums").map(|b| crate::model::readable(b));
    let records = Records {
        format: Records::FORMAT.into(),
        control: package.control.clone(),
        conffiles: package.settings.clone(),
        md5sums,
        members,
    };
    let bytes = serde_json::to_vec(&records)?;
    Ok(RecordsRef { blake3: incoming.object(&bytes)?, size: bytes.len() as u64 })
}
