//! [`read_system`]: the present state of the covered places, as a savepoint records it. What is unchanged since it was last
//! read is not read again.

use std::collections::HashMap;
use std::io;
use std::os::fd::AsFd as _;

use rayon::prelude::*;

use super::SavepointError;
use super::manifest::{Entry, What};
use super::walk::{Seen, Walked, in_hex, locked_of, walk};
use crate::event::{Event, Observer, Phase};
use crate::machine::Machine;
use crate::model::{Digest, FileKind, Identity, LinkTarget, Stat, SystemPath, error_words};
use crate::scan::{self, How, KnownContent, Look, Observation, Remembered, Task};

/// The present state of the covered places.
#[derive(Debug, Default)]
pub struct SystemRead {
    /// All places, in the order of their paths.
    pub entries: Vec<Entry>,
    /// Each entry's status.
    pub stats: Vec<Stat>,
    /// What could not be read, with the reason.
    pub missing: Vec<(SystemPath, String)>,
    /// Places that exist and are never covered.
    pub uncovered: Vec<SystemPath>,
    /// The number of files that were read.
    pub read: u64,
}

/// A file's extended attributes, each with its value in hexadecimal, and its locking inode flags.
type Detail = (Vec<(String, String)>, u32);

/// Reads the state of the covered places; `known` has the contents of unchanged files.
///
/// # Errors
/// When the observer stopped the run.
pub fn read_system(
    machine: &Machine,
    known: &[Remembered],
    pool: &rayon::ThreadPool,
    observer: &dyn Observer,
) -> Result<SystemRead, SavepointError> {
    read_walked(machine, walk_system(machine, pool, observer)?, known, pool, observer)
}

/// Walks the covered places.
pub(super) fn walk_system(
    machine: &Machine,
    pool: &rayon::ThreadPool,
    observer: &dyn Observer,
) -> Result<Walked, SavepointError> {
    observer.on_event(Event::Begin { phase: Phase::Walking, items: 0, bytes: 0 });
    let walked = walk(machine, pool, observer).ok_or(SavepointError::Stopped)?;
    observer.on_event(Event::End);
    Ok(walked)
}

/// Reads what was walked.
pub(super) fn read_walked(
    machine: &Machine,
    walked: Walked,
    known: &[Remembered],
    pool: &rayon::ThreadPool,
    observer: &dyn Observer,
) -> Result<SystemRead, SavepointError> {
    let Walked { seen, missing, uncovered } = walked;
    let first_names = FirstNames::new(&seen);
    let remembered = |(at, place): (usize, &Seen)| {
        let is_file = place.stat.kind == FileKind::File && first_names.of(at, place) == at;
        is_file.then(|| known.iter().find_map(|known| known.content(&place.stat)))
    };
    // Of each file's first name what is known of it.
    let remembered: Vec<Option<Option<KnownContent>>> =
        pool.install(|| seen.par_iter().enumerate().with_min_len(1024).map(remembered).collect());
    let unknown = remembered.iter().enumerate().filter(|(_, known)| matches!(known, Some(None)));
    let unknown: Vec<usize> = unknown.map(|(at, _)| at).collect();
    let mut result = SystemRead { missing, uncovered, read: unknown.len() as u64, ..SystemRead::default() };
    let mut contents: Vec<Option<KnownContent>> = remembered.into_iter().map(Option::flatten).collect();
    let mut failures: HashMap<usize, String> = HashMap::new();
    for (at, digest) in digests(machine, &seen, &unknown, pool, observer)? {
        match digest {
            Ok(digest) => contents[at] = Some(KnownContent { digest, plain: false }),
            Err(why) => drop(failures.insert(at, why)),
        }
    }
    let mut details: HashMap<usize, Detail> = HashMap::new();
    for (at, detail) in read_details(machine, &seen, &contents, pool) {
        match detail {
            Ok(detail) => drop(details.insert(at, detail)),
            Err(why) => {
                contents[at] = None;
                failures.insert(at, why);
            }
        }
    }
    let other_names: HashMap<usize, SystemPath> = first_names.of_others(&seen);
    result.entries.reserve_exact(seen.len());
    result.stats.reserve_exact(seen.len());
    for (at, place) in seen.into_iter().enumerate() {
        let stat = place.stat;
        let entry = if stat.kind == FileKind::File {
            let first = first_names.of(at, &place);
            let Some(known) = contents[first] else {
                let why = failures.get(&first).cloned().unwrap_or_else(|| CHANGED.into());
                result.missing.push((place.path, why));
                continue;
            };
            let hard_link_of = other_names.get(&at).cloned();
            let what = What::File { size: stat.size, digest: known.digest, hard_link_of };
            let (attributes, locked) = details.get(&first).cloned().unwrap_or_default();
            entry(Seen { attributes, locked, ..place }, what)
        } else {
            let mut place = place;
            let what = match stat.kind {
                FileKind::Folder => What::Folder,
                FileKind::Link => What::Link(LinkTarget(place.target.take().unwrap_or_default())),
                _ => What::Pipe,
            };
            entry(place, what)
        };
        result.entries.push(entry);
        result.stats.push(stat);
    }
    Ok(result)
}

/// All names of one inode are one file: of each file with several names the position of the first.
struct FirstNames(HashMap<Identity, usize>);

impl FirstNames {
    fn new(seen: &[Seen]) -> Self {
        let mut first = HashMap::new();
        let several = |place: &Seen| place.stat.kind == FileKind::File && place.stat.names > 1;
        for (at, place) in seen.iter().enumerate().filter(|(_, place)| several(place)) {
            first.entry(place.stat.id).or_insert(at);
        }
        Self(first)
    }

    fn of(&self, at: usize, place: &Seen) -> usize {
        self.0.get(&place.stat.id).copied().unwrap_or(at)
    }

    /// Of each other name the path of the first.
    fn of_others(&self, seen: &[Seen]) -> HashMap<usize, SystemPath> {
        let files = seen.iter().enumerate().filter(|(_, place)| place.stat.kind == FileKind::File);
        let others = files.map(|(at, place)| (at, self.of(at, place))).filter(|(at, first)| at != first);
        others.map(|(at, first)| (at, seen[first].path.clone())).collect()
    }
}

const CHANGED: &str = "changed while it was read";

fn entry(place: Seen, what: What) -> Entry {
    let Seen { path, stat, attributes, locked, .. } = place;
    let Stat { mode, uid, gid, mtime, .. } = stat;
    Entry { path, what, mode, uid, gid, mtime, attributes, locked }
}

/// The position of a place, and what was found there or why it could not be read.
type Found<T> = (usize, Result<T, String>);

/// Reads the contents of these places.
fn digests(
    machine: &Machine,
    seen: &[Seen],
    unknown: &[usize],
    pool: &rayon::ThreadPool,
    observer: &dyn Observer,
) -> Result<Vec<Found<Digest>>, SavepointError> {
    let mut order: Vec<(SystemPath, usize)> =
        unknown.iter().map(|at| (seen[*at].path.parent().unwrap_or_else(SystemPath::root), *at)).collect();
    order.sort_unstable();
    let tasks: Vec<Task<'_>> = order
        .iter()
        .map(|(folder, at)| Task {
            folder,
            name: seen[*at].path.name(),
            look: Look::Blake3 { size: seen[*at].stat.size },
            fresh: false,
        })
        .collect();
    let bytes = unknown.iter().map(|at| seen[*at].stat.size).sum();
    observer.on_event(Event::Begin { phase: Phase::Recording, items: tasks.len() as u64, bytes });
    let observed =
        scan::observe(machine, &tasks, How::default(), pool, observer).map_err(|_| SavepointError::Stopped)?;
    observer.on_event(Event::End);
    let result = |(at, observation): (usize, Observation)| {
        let digest = match &observation {
            Observation::There(found) if is_same(&found.stat, &seen[at].stat) => {
                found.blake3().ok_or(CHANGED.to_owned())
            }
            Observation::Unreadable(failure) => Err(failure.error.clone()),
            Observation::Forbidden => Err("needs root".into()),
            _ => Err(CHANGED.into()),
        };
        (at, digest)
    };
    Ok(order.into_iter().map(|(_, at)| at).zip(observed).map(result).collect())
}

fn is_same(a: &Stat, b: &Stat) -> bool {
    (a.id, a.size, a.mtime, a.ctime) == (b.id, b.size, b.mtime, b.ctime)
}

/// Reads attributes and inode flags of files with a known content where they are not known to be absent.
fn read_details(
    machine: &Machine,
    seen: &[Seen],
    contents: &[Option<KnownContent>],
    pool: &rayon::ThreadPool,
) -> Vec<Found<Detail>> {
    let unclear = contents.iter().enumerate().filter(|(_, known)| known.is_some_and(|known| !known.plain));
    let unclear: Vec<usize> = unclear.map(|(at, _)| at).collect();
    let one = |at: &usize| {
        let place = &seen[*at];
        let read = || -> io::Result<Option<Detail>> {
            let dir = machine.dir(&place.path.parent().unwrap_or_else(SystemPath::root))?;
            let (file, stat) = dir.disk().open_seen(dir.fd(), place.path.name())?;
            let attributes = in_hex(dir.disk().xattrs(file.as_fd())?);
            let locked = locked_of(dir.disk(), file.as_fd())?;
            Ok(is_same(&stat, &place.stat).then_some((attributes, locked)))
        };
        let detail = read().map_err(|e| error_words(&e)).and_then(|detail| detail.ok_or_else(|| CHANGED.to_owned()));
        (*at, detail)
    };
    pool.install(|| unclear.par_iter().with_min_len(64).map(one).collect())
}
