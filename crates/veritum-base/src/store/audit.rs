//! Audits a store: compares every content, manifest and signed file with what was signed.

use std::collections::{BTreeSet, HashMap};
use std::io::{self, Read as _};
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use rayon::prelude::*;

use super::fault::{Part, StoreFault, Trouble, manifest_fault, signed_fault, trouble_of};
use super::files::{self, MANIFESTS, OBJECTS, name_of};
use super::index::IndexEntry;
use super::pointers::{pointer_name, pointers};
use super::read::IN_MEMORY;
use super::records::Records;
use super::unpack::{packed_at_most, unpack_in_pieces};
use super::{MAX_RECORDS, Manifest, Store, StoreError, inventory};
use crate::event::{Event, Flow, Observer, Phase};
use crate::model::{Digest, EntryKind, Harm, SystemPath};

/// The number of affected paths that are listed for a damaged content.
const MAX_PATHS: usize = 50;

/// The result of an audit.
#[derive(Debug, Default)]
pub struct Audit {
    /// The damaged parts.
    pub faults: Vec<StoreFault>,
    /// Files that nothing signed or added refers to, relative to the store's folder.
    pub superfluous: Vec<PathBuf>,
    /// Whether unused files could be determined: not while a manifest is missing.
    pub judged_superfluous: bool,
    /// The number of added packages that are not signed yet.
    pub waiting: u64,
    /// The number of files examined.
    pub examined: u64,
    /// The number of uncompressed bytes read.
    pub bytes: u64,
}

/// The objects to which a package's manifest refers.
type Contents = Vec<(Digest, u64)>;

/// The names of a store's objects, while they are listed.
#[derive(Debug)]
pub struct Listing(std::thread::JoinHandle<inventory::Names>);

impl Store {
    /// Examines every part of the store and reads every content; `fresh` reads from the medium rather than from the
    /// cache.
    ///
    /// # Errors
    /// When the observer stopped the run.
    pub fn audit(&self, pool: &rayon::ThreadPool, fresh: bool, observer: &dyn Observer) -> Result<Audit, StoreError> {
        let mut entries: Vec<IndexEntry> = self.packages().cloned().collect();
        entries.sort_by(|a, b| a.package.cmp(&b.package));
        if self.is_remote() {
            return audit_remote(self, &entries, pool, observer);
        }
        let names = pool.install(|| inventory::read_names(self.path()));
        let mut audit = Audit { faults: signed_faults(self), ..Audit::default() };
        let (known, unread) = pointers(self.path());
        audit.faults.extend(entries.iter().filter_map(|entry| pointer_fault(entry, &known, &unread)));
        let waiting: Vec<IndexEntry> = known.into_values().filter(|e| !self.has(&e.package)).collect();
        audit.waiting = waiting.len() as u64;
        // What cannot be read and does not belong to anything signed is unused.
        let signed: BTreeSet<String> = entries.iter().map(|e| pointer_name(&e.package)).collect();
        let nobodys = |name: &&String| !signed.contains(*name);
        audit.superfluous.extend(unread.iter().filter(nobodys).map(|name| Path::new("filled").join(name)));
        entries.extend(waiting);

        observer.on_event(Event::Begin { phase: Phase::Auditing, items: entries.len() as u64, bytes: 0 });
        let (manifest_faults, contents) = audit_manifests(self, &entries, pool, observer)?;
        observer.on_event(Event::End);
        let wanted: Vec<(Digest, u64)> = contents.into_iter().collect();
        let found = self.audit_contents(&wanted, pool, fresh, observer)?;
        audit.examined = (entries.len() * 2 + wanted.len()) as u64;
        audit.bytes = wanted.iter().map(|(_, size)| size).sum();

        audit.judged_superfluous = manifest_faults.is_empty() && found.is_empty();
        if audit.judged_superfluous {
            let manifests: BTreeSet<Digest> = entries.iter().map(|e| e.manifest).collect();
            let contents: BTreeSet<Digest> = wanted.iter().map(|(digest, _)| *digest).collect();
            let objects = names.objects.iter().filter(|d| !contents.contains(d)).map(|d| name_of(OBJECTS, d));
            let others = names.manifests.iter().filter(|d| !manifests.contains(d)).map(|d| name_of(MANIFESTS, d));
            audit.superfluous.extend(objects.chain(others).map(PathBuf::from));
        }
        audit.superfluous.extend(names.foreign);
        audit.faults.extend(manifest_faults);
        audit.faults.extend(self.with_harm(found, &entries, pool));
        // An object of another type in a part's place is set aside when the part is repaired.
        let places: BTreeSet<PathBuf> = audit.faults.iter().map(|fault| PathBuf::from(fault.part.name())).collect();
        let in_the_way = |name: &PathBuf| places.range(name.clone()..).next().is_some_and(|p| p.starts_with(name));
        audit.superfluous.retain(|name| !in_the_way(name));
        audit.superfluous.sort();
        audit.superfluous.dedup();
        Ok(audit)
    }

    /// Starts to list the existing contents by name, beside other work. Nothing is listed for a store on a web server: it would
    /// take a request for each file.
    #[must_use]
    pub fn list_contents(&self) -> Option<Listing> {
        let folder = self.path().to_owned();
        (!self.is_remote()).then(|| Listing(std::thread::spawn(move || inventory::objects(&folder))))
    }

    /// Checks only whether these contents, sorted by digest, exist by name; returns those that do not.
    #[must_use]
    pub fn absent(wanted: &[(Digest, u64)], listing: Option<Listing>) -> Vec<(Digest, u64)> {
        let Some(names) = listing.and_then(|listing| listing.0.join().ok()) else { return Vec::new() };
        let mut names = names.iter().peekable();
        let mut lacks = |digest: &Digest| {
            while names.next_if(|name| *name < digest).is_some() {}
            names.peek() != Some(&digest)
        };
        wanted.iter().filter(|(digest, _)| lacks(digest)).copied().collect()
    }

    /// Reads contents; returns those that differ from what was signed.
    ///
    /// # Errors
    /// When the observer stopped the run.
    pub fn audit_contents(
        &self,
        wanted: &[(Digest, u64)],
        pool: &rayon::ThreadPool,
        fresh: bool,
        observer: &dyn Observer,
    ) -> Result<Vec<(Digest, u64, Trouble)>, StoreError> {
        each_content(wanted, pool, &|digest, size| examine(self, digest, size, fresh).err(), observer)
    }

    /// Lists what damaged contents affect: the manifests are read again, only when something is damaged.
    #[must_use]
    pub fn with_harm(
        &self,
        found: Vec<(Digest, u64, Trouble)>,
        entries: &[IndexEntry],
        pool: &rayon::ThreadPool,
    ) -> Vec<StoreFault> {
        if found.is_empty() {
            return Vec::new();
        }
        let mut faults: Vec<StoreFault> = found
            .into_iter()
            .map(|(digest, size, trouble)| StoreFault {
                part: Part::Content { digest, size },
                trouble,
                harm: Harm::default(),
            })
            .collect();
        let at: HashMap<Digest, usize> = faults
            .iter()
            .enumerate()
            .filter_map(
                |(at, fault)| if let Part::Content { digest, .. } = fault.part { Some((digest, at)) } else { None },
            )
            .collect();
        let touched: Vec<Vec<(usize, Option<SystemPath>)>> = pool.install(|| {
            entries
                .par_iter()
                .map(|entry| plain_manifest(self, entry).map_or(Vec::new(), |m| hits(self, &m, &at)))
                .collect()
        });
        for (entry, hits) in entries.iter().zip(touched) {
            for (at, path) in hits {
                let harm = &mut faults[at].harm;
                if !harm.packages.contains(&entry.package) {
                    harm.packages.push(entry.package.clone());
                }
                match path {
                    Some(path) if harm.paths.len() < MAX_PATHS => harm.paths.push(path),
                    Some(_) => harm.more_paths += 1,
                    None => {}
                }
            }
        }
        faults
    }
}

/// Everything signed of a store on a web server; files downloaded only for this are not kept. The server does not
/// list other files.
fn audit_remote(
    store: &Store,
    entries: &[IndexEntry],
    pool: &rayon::ThreadPool,
    observer: &dyn Observer,
) -> Result<Audit, StoreError> {
    observer.on_event(Event::Begin { phase: Phase::Auditing, items: entries.len() as u64, bytes: 0 });
    let (mut faults, contents) = audit_manifests(store, entries, pool, observer)?;
    observer.on_event(Event::End);
    let wanted: Vec<(Digest, u64)> = contents.into_iter().collect();
    let one = |digest: &Digest, size: u64| {
        let had = store.is_kept(digest);
        let trouble = examine(store, digest, size, false).err();
        if !had {
            store.forget_content(digest);
        }
        trouble
    };
    let found = each_content(&wanted, pool, &one, observer)?;
    faults.extend(store.with_harm(found, entries, pool));
    Ok(Audit {
        faults,
        judged_superfluous: true,
        examined: (entries.len() + wanted.len()) as u64,
        bytes: wanted.iter().map(|(_, size)| size).sum(),
        ..Audit::default()
    })
}

fn each_content(
    wanted: &[(Digest, u64)],
    pool: &rayon::ThreadPool,
    examine: &(dyn Fn(&Digest, u64) -> Option<Trouble> + Sync),
    observer: &dyn Observer,
) -> Result<Vec<(Digest, u64, Trouble)>, StoreError> {
    let mut order = wanted.to_vec();
    // Digests sort like the folders.
    order.sort_unstable();
    let bytes = order.iter().map(|(_, size)| size).sum();
    observer.on_event(Event::Begin { phase: Phase::Auditing, items: order.len() as u64, bytes });
    let one = |(digest, size): &(Digest, u64)| {
        let trouble = examine(digest, *size);
        let go_on = observer.on_event(Event::Advance { items: 1, bytes: *size }) == Flow::Continue;
        go_on.then(|| trouble.map(|t| (*digest, *size, t))).ok_or(StoreError::Stopped)
    };
    let found: Result<Vec<Option<_>>, StoreError> =
        pool.install(|| order.par_iter().with_max_len(64).map(one).collect());
    observer.on_event(Event::End);
    Ok(found?.into_iter().flatten().collect())
}

/// Reads one content to its end.
fn examine(store: &Store, digest: &Digest, size: u64, fresh: bool) -> Result<(), Trouble> {
    let mut read = |file: std::fs::File| {
        if fresh {
            // What was just written is durable by now, so the cache can drop it.
            let _ = rustix::fs::fadvise(&file, 0, None, rustix::fs::Advice::DontNeed);
        }
        read_content(file, digest, size)
    };
    store.part(files::OBJECTS, digest, packed_at_most(size), &mut read).map_err(|e| Trouble::for_error(&e))
}

fn audit_manifests(
    store: &Store,
    entries: &[IndexEntry],
    pool: &rayon::ThreadPool,
    observer: &dyn Observer,
) -> Result<(Vec<StoreFault>, HashMap<Digest, u64>), StoreError> {
    let all: Mutex<HashMap<Digest, u64>> = Mutex::default();
    let one = |entry: &IndexEntry| {
        let read = referred(store, entry, !entry.manifest_only);
        if observer.on_event(Event::Advance { items: 1, bytes: 0 }) == Flow::Stop {
            return Err(StoreError::Stopped);
        }
        Ok(match read {
            Ok((contents, records)) => {
                let mut all = all.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
                all.extend(contents.into_iter().chain(records));
                None
            }
            Err(trouble) => Some(manifest_fault(entry, trouble)),
        })
    };
    let faults: Result<Vec<Option<StoreFault>>, StoreError> =
        pool.install(|| entries.par_iter().with_max_len(8).map(one).collect());
    let all = all.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner);
    Ok((faults?.into_iter().flatten().collect(), all))
}

/// The objects that a package needs, by its manifest: its files, if wanted, and its records.
pub(super) fn referred(store: &Store, entry: &IndexEntry, files: bool) -> Result<(Contents, Contents), Trouble> {
    let manifest = plain_manifest(store, entry)?;
    let file = |e: &crate::model::Entry| match &e.kind {
        EntryKind::File { size, digest, same_as: None } => Some((*digest, *size)),
        _ => None,
    };
    let contents = manifest.entries.iter().filter_map(file).filter(|_| files).collect();
    let mut records: Contents = Vec::new();
    if let Some(of) = manifest.records {
        records.push((of.blake3, of.size));
        // Unreadable records are found with the contents, and repaired with them.
        if let Some(read) = records_of(store, &of.blake3, of.size) {
            records.extend(read.members.iter().map(|m| (m.blake3, m.size)));
        }
    }
    Ok((contents, records))
}

fn plain_manifest(store: &Store, entry: &IndexEntry) -> Result<Manifest, Trouble> {
    let bytes = store.manifest_bytes(entry).map_err(|e| Trouble::for_error(&e))?;
    Manifest::decode(&bytes).ok().filter(|m| m.package == entry.package).ok_or(Trouble::Altered)
}

fn records_of(store: &Store, digest: &Digest, size: u64) -> Option<Records> {
    let mut bytes = Vec::new();
    let mut take = |piece: &[u8]| {
        bytes.extend_from_slice(piece);
        Ok(())
    };
    (size <= MAX_RECORDS).then(|| super::Contents::copy(store, digest, size, &mut take).ok())??;
    serde_json::from_slice(&bytes).ok()
}

fn hits(store: &Store, manifest: &Manifest, at: &HashMap<Digest, usize>) -> Vec<(usize, Option<SystemPath>)> {
    let files = manifest.entries.iter().filter_map(|e| match &e.kind {
        EntryKind::File { digest, .. } => at.get(digest).map(|at| (*at, Some(e.path.clone()))),
        _ => None,
    });
    let mut hits: Vec<_> = files.collect();
    if let Some(records) = &manifest.records {
        hits.extend(at.get(&records.blake3).map(|at| (*at, None)));
        let members = records_of(store, &records.blake3, records.size).map(|r| r.members).unwrap_or_default();
        hits.extend(members.iter().filter_map(|m| at.get(&m.blake3)).map(|at| (*at, None)));
    }
    hits
}

/// The store's own copies of what the administrator has trusted: their damage affects only others who do not trust it yet.
fn signed_faults(store: &Store) -> Vec<StoreFault> {
    let name = "metadata/1.root.json";
    let trouble = match files::read(&store.path().join(name), 1 << 20) {
        Ok(bytes) if bytes == store.root() => return Vec::new(),
        Ok(_) => Trouble::Altered,
        Err(e) => trouble_of(&e),
    };
    vec![signed_fault(name, trouble)]
}

fn pointer_fault(
    entry: &IndexEntry,
    known: &HashMap<crate::model::PackageId, IndexEntry>,
    unread: &[String],
) -> Option<StoreFault> {
    let trouble = match known.get(&entry.package) {
        Some(pointer) if pointer == entry => return None,
        Some(_) => Trouble::Altered,
        None if unread.contains(&pointer_name(&entry.package)) => Trouble::Altered,
        None => Trouble::Missing,
    };
    let harm = Harm { packages: vec![entry.package.clone()], ..Harm::default() };
    Some(StoreFault { part: Part::Pointer(entry.clone()), trouble, harm })
}

/// Whether a compressed file contains exactly that content.
pub(super) fn is_content(file: std::fs::File, digest: &Digest, size: u64) -> bool {
    read_content(file, digest, size).is_ok()
}

fn read_content(file: std::fs::File, digest: &Digest, size: u64) -> io::Result<()> {
    thread_local! {
        static ROOM: std::cell::RefCell<FreeSpace> = std::cell::RefCell::default();
    }
    if size > IN_MEMORY / 4 {
        return unpack_in_pieces(file, digest, size, &mut |_| Ok(()));
    }
    ROOM.with_borrow_mut(|room| room.examine(file, digest, size))
}

/// One thread's buffers for reading contents.
#[derive(Default)]
struct FreeSpace {
    packed: Vec<u8>,
    plain: Vec<u8>,
    decoder: Option<zstd::bulk::Decompressor<'static>>,
}

impl FreeSpace {
    fn examine(&mut self, file: std::fs::File, digest: &Digest, size: u64) -> io::Result<()> {
        let wrong = || io::Error::new(io::ErrorKind::InvalidData, "checksum differs from the signed one");
        let size = usize::try_from(size).map_err(|_| wrong())?;
        self.packed.clear();
        let most = packed_at_most(size as u64);
        file.take(most + 1).read_to_end(&mut self.packed)?;
        if self.packed.len() as u64 > most {
            return Err(wrong());
        }
        let mut decoder = match self.decoder.take() {
            Some(decoder) => decoder,
            None => zstd::bulk::Decompressor::new()?,
        };
        self.plain.clear();
        self.plain.reserve(size + 1);
        let unpacked = decoder.decompress_to_buffer(&self.packed, &mut self.plain);
        self.decoder = Some(decoder);
        // Data that does not fit is too long; the library's own message would not help.
        let same = unpacked.is_ok_and(|n| n == size) && Digest::hash(&self.plain) == *digest;
        if same { Ok(()) } else { Err(wrong()) }
    }
}
