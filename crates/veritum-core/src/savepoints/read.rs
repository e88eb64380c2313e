//! [`read_system`]: the present state of the covered places, as a savepoint records it. What is unchanged since it was last
//! read is not read again.

use std::collections::HashMap;
use std::io;
use std::os::fd::AsFd as _;

use rayon::prelude::*;

use super::SavepointError;
use super::large;
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
/// Details by position.
type Details = HashMap<usize, Detail, foldhash::fast::RandomState>;

/// Reads the state of the covered places, and of these single ones; `known` has the contents of unchanged files.
///
/// # Errors
/// When the observer stopped the run.
pub fn read_system(
    machine: &Machine,
    singles: &[SystemPath],
    known: &[Remembered],
    pool: &rayon::ThreadPool,
    observer: &dyn Observer,
) -> Result<SystemRead, SavepointError> {
    read_walked(machine, walk_system(machine, singles, pool, observer)?, known, pool, observer)
}

/// Walks the covered places.
pub(super) fn walk_system(
    machine: &Machine,
    singles: &[SystemPath],
    pool: &rayon::ThreadPool,
    observer: &dyn Observer,
) -> Result<Walked, SavepointError> {
    observer.on_event(Event::Begin { phase: Phase::Walking, items: 0, bytes: 0 });
    let mut walked = walk(machine, singles, pool, observer).ok_or(SavepointError::Stopped)?;
    large::leave_out(machine, &mut walked, pool);
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
    let first_names = FirstNames::new(&seen, pool);
    let remembered = |(at, place): (usize, &Seen)| {
        let is_file = place.stat.kind == FileKind::File && first_names.of(at) == at;
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
    let mut details: Details = Details::default();
    for (at, detail) in read_details(machine, &seen, &contents, pool) {
        match detail {
            Ok(detail) => drop(details.insert(at, detail)),
            Err(why) => {
                contents[at] = None;
                failures.insert(at, why);
            }
        }
    }
    let others = first_names.of_others(&seen);
    let places = seen.into_par_iter().enumerate().with_min_len(1024);
    let entry = |(at, place): (usize, Seen)| {
        let first = first_names.of(at);
        let stat = place.stat;
        (entry(place, contents[first], details.get(&first), others.get(&at)), stat)
    };
    pool.install(|| places.map(entry).unzip_into_vecs(&mut result.entries, &mut result.stats));
    let lacks = |at: usize, stat: &Stat| stat.kind == FileKind::File && contents[first_names.of(at)].is_none();
    let why = |at: usize| failures.get(&first_names.of(at)).cloned().unwrap_or_else(|| CHANGED.into());
    let lacking: Vec<Option<String>> =
        result.stats.iter().enumerate().map(|(at, stat)| lacks(at, stat).then(|| why(at))).collect();
    result.leave_out(&lacking);
    Ok(result)
}

impl SystemRead {
    /// Entries with a reason become missing places.
    pub(super) fn leave_out(&mut self, reasons: &[Option<String>]) {
        if reasons.iter().all(Option::is_none) {
            return;
        }
        let missing = self.entries.iter().zip(reasons).filter_map(|(e, why)| Some((e.path.clone(), why.clone()?)));
        self.missing.extend(missing);
        self.missing.sort();
        let mut stays = reasons.iter().map(Option::is_none);
        self.entries.retain(|_| stays.next() == Some(true));
        let mut stays = reasons.iter().map(Option::is_none);
        self.stats.retain(|_| stays.next() == Some(true));
    }
}

/// All names of one inode are one file: of each file with several names the position of the first, for each other one.
struct FirstNames(HashMap<usize, usize, foldhash::fast::RandomState>);

impl FirstNames {
    fn new(seen: &[Seen], pool: &rayon::ThreadPool) -> Self {
        let several = |place: &Seen| place.stat.kind == FileKind::File && place.stat.names > 1;
        let mut names: Vec<(Identity, usize)> = seen
            .iter()
            .enumerate()
            .filter(|(_, place)| several(place))
            .map(|(at, place)| (place.stat.id, at))
            .collect();
        pool.install(|| names.par_sort_unstable());
        let same = |a: &(Identity, usize), b: &(Identity, usize)| a.0 == b.0;
        let others = names.chunk_by(same).flat_map(|names| names[1..].iter().map(|(_, at)| (*at, names[0].1)));
        Self(others.collect())
    }

    fn of(&self, at: usize) -> usize {
        self.0.get(&at).copied().unwrap_or(at)
    }

    /// Of each other name the path of the first.
    fn of_others(&self, seen: &[Seen]) -> HashMap<usize, SystemPath, foldhash::fast::RandomState> {
        self.0.iter().map(|(at, first)| (*at, seen[*first].path.clone())).collect()
    }
}

const CHANGED: &str = "changed while it was read";

/// The entry of a place. One of a file without a known content is left out afterwards.
fn entry(place: Seen, known: Option<KnownContent>, detail: Option<&Detail>, first: Option<&SystemPath>) -> Entry {
    let Seen { path, stat, target, mut attributes, mut locked } = place;
    let what = match stat.kind {
        FileKind::File => {
            (attributes, locked) = detail.cloned().unwrap_or_default();
            let digest = known.map_or(Digest::from_bytes([0; 32]), |known| known.digest);
            What::File { size: stat.size, digest, hard_link_of: first.cloned() }
        }
        FileKind::Folder => What::Folder,
        FileKind::Link => What::Link(LinkTarget(target.unwrap_or_default())),
        _ => What::Pipe,
    };
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
