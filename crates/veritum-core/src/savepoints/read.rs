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

/// What is known of a file's inode.
#[derive(Debug, Clone)]
struct Known {
    digest: Digest,
    attributes: Vec<(String, String)>,
    locked: u32,
}

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
    observer.on_event(Event::Begin { phase: Phase::Walking, items: 0, bytes: 0 });
    let Walked { seen, missing, uncovered } = walk(machine, pool, observer).ok_or(SavepointError::Stopped)?;
    observer.on_event(Event::End);
    let first_names = first_names(&seen);
    let mut first: Vec<usize> = first_names.values().copied().collect();
    first.sort_unstable();
    let remembered = |at: &usize| (*at, known.iter().find_map(|known| known.content(&seen[*at].stat)));
    let remembered: Vec<(usize, Option<KnownContent>)> = pool.install(|| first.par_iter().map(remembered).collect());
    let unknown: Vec<usize> = remembered.iter().filter(|(_, known)| known.is_none()).map(|(at, _)| *at).collect();
    let mut result = SystemRead { missing, uncovered, read: unknown.len() as u64, ..SystemRead::default() };
    let mut failures: HashMap<usize, String> = HashMap::new();
    let mut contents: Vec<(usize, KnownContent)> =
        remembered.into_iter().filter_map(|(at, known)| Some((at, known?))).collect();
    for (at, digest) in digests(machine, &seen, &unknown, pool, observer)? {
        match digest {
            Ok(digest) => contents.push((at, KnownContent { digest, plain: false })),
            Err(why) => drop(failures.insert(at, why)),
        }
    }
    let mut files: HashMap<usize, Known> = HashMap::with_capacity(contents.len());
    for (at, detail) in details(machine, &seen, contents, pool) {
        match detail {
            Ok(known) => drop(files.insert(at, known)),
            Err(why) => drop(failures.insert(at, why)),
        }
    }
    for (at, place) in seen.iter().enumerate() {
        let first = first_names.get(&place.stat.id).copied().filter(|_| place.stat.kind == FileKind::File);
        let known = first.and_then(|first| files.get(&first));
        if let (Some(first), None) = (first, known) {
            let why = failures.get(&first).cloned().unwrap_or_else(|| CHANGED.into());
            result.missing.push((place.path.clone(), why));
            continue;
        }
        let first = first.filter(|first| *first != at).map(|first| seen[first].path.clone());
        result.entries.push(entry(place, known, first));
        result.stats.push(place.stat);
    }
    Ok(result)
}

/// Of each file the position of its first name: all names of one inode are one file.
fn first_names(seen: &[Seen]) -> HashMap<Identity, usize> {
    let mut first = HashMap::new();
    for (at, place) in seen.iter().enumerate().filter(|(_, place)| place.stat.kind == FileKind::File) {
        first.entry(place.stat.id).or_insert(at);
    }
    first
}

const CHANGED: &str = "changed while it was read";

fn entry(place: &Seen, known: Option<&Known>, first: Option<SystemPath>) -> Entry {
    let Seen { path, stat, target, attributes, locked } = place;
    let what = match (stat.kind, known) {
        (FileKind::File, Some(known)) => What::File { size: stat.size, digest: known.digest, hard_link_of: first },
        (FileKind::Folder, _) => What::Folder,
        (FileKind::Link, _) => What::Link(LinkTarget(target.clone().unwrap_or_default())),
        _ => What::Pipe,
    };
    let (attributes, locked) = known.map_or((attributes, locked), |known| (&known.attributes, &known.locked));
    Entry {
        path: path.clone(),
        what,
        mode: stat.mode,
        uid: stat.uid,
        gid: stat.gid,
        mtime: stat.mtime,
        attributes: attributes.clone(),
        locked: *locked,
    }
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

/// Reads attributes and inode flags where they are not known to be absent.
fn details(
    machine: &Machine,
    seen: &[Seen],
    mut contents: Vec<(usize, KnownContent)>,
    pool: &rayon::ThreadPool,
) -> Vec<Found<Known>> {
    contents.sort_unstable_by_key(|(at, _)| *at);
    let one = |(at, KnownContent { digest, plain }): &(usize, KnownContent)| {
        if *plain {
            return (*at, Ok(Known { digest: *digest, attributes: Vec::new(), locked: 0 }));
        }
        let place = &seen[*at];
        let read = || -> io::Result<Option<Known>> {
            let dir = machine.dir(&place.path.parent().unwrap_or_else(SystemPath::root))?;
            let (file, stat) = dir.disk().open_seen(dir.fd(), place.path.name())?;
            let attributes = in_hex(dir.disk().xattrs(file.as_fd())?);
            let locked = locked_of(dir.disk(), file.as_fd())?;
            Ok(is_same(&stat, &place.stat).then_some(Known { digest: *digest, attributes, locked }))
        };
        let known = read().map_err(|e| error_words(&e)).and_then(|known| known.ok_or_else(|| CHANGED.to_owned()));
        (*at, known)
    };
    pool.install(|| contents.par_iter().with_min_len(64).map(one).collect())
}
