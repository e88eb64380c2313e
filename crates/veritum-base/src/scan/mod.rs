//! Reads the machine's files and digests them, in parallel: the state found, not the expected one.
//!
//! Work is assigned folder by folder, so that a handle is opened once for all names in it, in path order, which is
//! close to the order on the disk. Memory does not grow with file sizes: every thread has one buffer.

#[cfg(test)]
mod example;
mod guard;
mod home;
mod inventory;
mod profile;
mod question;
mod readable;
mod remembered;
mod snapshot;

pub use guard::HomeGuard;
pub use home::{AppData, AppDataItem, Choice, HomeCase, Tally, app_data};
pub use inventory::{InventoryAnswer, InventoryQuestion};
pub use profile::{Profile, ProfileFault, ProfileQuestion};
pub use question::{HomeAgent, HomeQuestion, HomeResponder, Question, WholeQuestion, ask};
pub use remembered::Remembered;
pub use snapshot::{Snapshot, SnapshotBuilder, Watch};

use std::collections::{HashMap, HashSet};
use std::io;
use std::os::fd::{AsFd, BorrowedFd};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};

use crate::event::{Event, Flow, Observer};
use crate::machine::{Dir, Disk, Machine};
use crate::model::{ContentHasher, Digest, FileKind, Md5, Stat, SystemPath};

/// Large enough that system calls do not matter, small enough to stay in the processor's cache.
const BUFFER: usize = 128 * 1024;

/// The number of names of one folder that one thread examines with one handle.
const SHARE: usize = 16;

/// Names with more bytes than this are examined first.
const LARGE: u64 = 8 << 20;

/// What to learn about a name.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Look {
    /// Its status; a symlink's target.
    Only,
    /// Also BLAKE3 of the content, if the size is this.
    Blake3 {
        /// A file of another size is not read: its content differs.
        size: u64,
    },
    /// Also MD5 of the content, if it is at most this large.
    Md5 {
        /// A larger file has another content: a sparse terabyte is not read for hours.
        most: u64,
    },
}

impl Look {
    /// The number of bytes to read, as far as known.
    #[must_use]
    pub fn bytes(&self) -> u64 {
        if let Self::Blake3 { size } = self { *size } else { 0 }
    }
}

/// A name to examine.
#[derive(Debug, Clone, Copy)]
pub struct Task<'a> {
    /// Its folder, a path without symlinks.
    pub folder: &'a SystemPath,
    /// The name.
    pub name: &'a [u8],
    /// What to learn.
    pub look: Look,
    /// Whether it is read from the medium rather than from the cache.
    pub fresh: bool,
}

/// What was found at a name.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Observation {
    /// It does not exist.
    Absent,
    /// It exists.
    There(Box<Found>),
    /// It cannot be examined or read with these rights.
    Forbidden,
    /// The run was interrupted before it was examined.
    NotReached,
    /// The medium reports errors.
    Unreadable {
        /// Its status, as far as it could be read.
        stat: Option<Box<Stat>>,
        /// The kernel's error.
        error: Box<str>,
    },
}

/// An existing object.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Found {
    /// Its status.
    pub stat: Stat,
    /// A symlink's target.
    pub target: Option<Vec<u8>>,
    /// BLAKE3, if requested and the size matches.
    pub digest: Option<Digest>,
    /// MD5, if requested.
    pub md5: Option<Md5>,
    /// Whether it carries file capabilities; only known for files that were opened.
    pub capabilities: bool,
    /// Whether another file system is mounted on this name.
    pub mounted_over: bool,
    /// Whether its content was not read because it is unchanged since the last full check.
    pub unread: bool,
}

/// The observer stopped the run.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("stopped")]
pub struct Stopped;

/// How contents are read.
#[derive(Debug, Clone, Copy, Default)]
pub struct How<'a> {
    /// Places that were just written: what is at or below them is read from the medium rather than from the cache.
    pub written: Option<&'a HashSet<SystemPath>>,
    /// Earlier observations: unchanged files are not read.
    pub remembered: Option<&'a Remembered>,
    /// Whether the observations before a stop are returned; the others are [`Observation::NotReached`] then.
    pub partial: bool,
}

impl How<'_> {
    /// Whether a place is, or is below, one that was just written.
    #[must_use]
    pub fn was_written(&self, place: &SystemPath) -> bool {
        let Some(written) = self.written else { return false };
        std::iter::successors(Some(place.clone()), SystemPath::parent).any(|place| written.contains(&place))
    }
}

/// Examines all tasks; results are in the order of the tasks. Tasks of one folder should be together, and all in path
/// order, which is close to the order on the disk.
///
/// # Errors
/// When the observer stopped the run.
pub fn observe(
    machine: &Machine,
    tasks: &[Task<'_>],
    how: How<'_>,
    pool: &rayon::ThreadPool,
    observer: &dyn Observer,
) -> Result<Vec<Observation>, Stopped> {
    // A folder with a thousand libraries is divided among the threads.
    let folders = tasks.chunk_by(|a, b| a.folder == b.folder);
    let shares: Vec<&[Task<'_>]> = folders.flat_map(|folder| folder.chunks(SHARE)).collect();
    // The largest work comes first: at the end no thread waits for another.
    let (mut order, rest): (Vec<usize>, Vec<usize>) =
        (0..shares.len()).partition(|at| shares[*at].iter().map(|task| task.look.bytes()).sum::<u64>() >= LARGE);
    order.extend(rest);
    let (stop, next) = (AtomicBool::new(false), AtomicUsize::new(0));
    let share = |dir: &io::Result<Dir>, buffer: &mut [u8], names: &[Task<'_>]| -> Vec<Observation> {
        let mut seen = Vec::with_capacity(names.len());
        for task in names {
            let observation = match dir {
                Ok(dir) => look(dir, task, how, buffer),
                Err(e) => failed(e, None),
            };
            let bytes = if let Observation::There(found) = &observation { read_bytes(found) } else { 0 };
            if observer.on_event(Event::Advance { items: 1, bytes }) == Flow::Stop {
                stop.store(true, Ordering::Relaxed);
            }
            seen.push(observation);
            if stop.load(Ordering::Relaxed) {
                break;
            }
        }
        seen
    };
    // Every thread takes the next share: all stay close together on the disk, and none ends long before another.
    let seen: Vec<Vec<(usize, Vec<Observation>)>> = pool.broadcast(|_| {
        let (mut buffer, mut seen) = (vec![0; BUFFER], Vec::new());
        let mut last: Option<(&SystemPath, io::Result<Dir>)> = None;
        loop {
            let turn = next.fetch_add(1, Ordering::Relaxed);
            let Some(at) = order.get(turn).copied().filter(|_| !stop.load(Ordering::Relaxed)) else { return seen };
            let names = shares[at];
            // One thread usually takes several shares of a large folder.
            let kept = last.take().filter(|(folder, _)| *folder == names[0].folder);
            let (_, dir) = last.insert(kept.unwrap_or_else(|| (names[0].folder, machine.dir(names[0].folder))));
            seen.push((at, share(dir, &mut buffer, names)));
        }
    });
    let stopped = stop.load(Ordering::Relaxed);
    if stopped && !how.partial {
        return Err(Stopped);
    }
    let mut seen: Vec<(usize, Vec<Observation>)> = seen.into_iter().flatten().collect();
    seen.sort_unstable_by_key(|(at, _)| *at);
    let mut answers = Vec::with_capacity(tasks.len());
    if stopped {
        let mut seen: HashMap<usize, Vec<Observation>> = seen.into_iter().collect();
        for (at, names) in shares.iter().enumerate() {
            let share = seen.remove(&at).unwrap_or_default();
            let rest = names.len() - share.len();
            answers.extend(share.into_iter().chain(std::iter::repeat_n(Observation::NotReached, rest)));
        }
        return Ok(answers);
    }
    answers.extend(seen.into_iter().flat_map(|(_, share)| share));
    Ok(answers)
}

/// The number of bytes read.
#[must_use]
pub fn read_bytes(found: &Found) -> u64 {
    if !found.unread && (found.digest.is_some() || found.md5.is_some()) { found.stat.size } else { 0 }
}

fn failed(error: &io::Error, stat: Option<Stat>) -> Observation {
    match error.kind() {
        io::ErrorKind::NotFound | io::ErrorKind::NotADirectory => Observation::Absent,
        io::ErrorKind::PermissionDenied => Observation::Forbidden,
        // Boxed: few files are unreadable, and each of a hundred thousand results would have its size.
        _ => Observation::Unreadable { stat: stat.map(Box::new), error: crate::model::error_words(error).into() },
    }
}

fn look(dir: &Dir, task: &Task<'_>, how: How<'_>, buffer: &mut [u8]) -> Observation {
    let stat = match dir.disk().look(dir.fd(), task.name) {
        Ok(stat) => stat,
        Err(e) => return failed(&e, None),
    };
    match look_closer(dir, task, stat, how, buffer) {
        Ok(found) => Observation::There(Box::new(found)),
        // Deleted in the meantime: treated as if it had never existed.
        Err(e) => failed(&e, Some(stat)),
    }
}

fn look_closer(dir: &Dir, task: &Task<'_>, stat: Stat, how: How<'_>, buffer: &mut [u8]) -> io::Result<Found> {
    let mut found =
        Found { stat, target: None, digest: None, md5: None, capabilities: false, mounted_over: false, unread: false };
    if let Some((digest, md5, capabilities)) = how.remembered.and_then(|r| r.still(&stat, task.look))
        && stat.kind == FileKind::File
    {
        return Ok(Found { digest, md5, capabilities, unread: true, ..found });
    }
    match (stat.kind, task.look) {
        (FileKind::Link, _) => found.target = Some(dir.disk().read_link(dir.fd(), task.name)?),
        (FileKind::File, Look::Md5 { most }) if stat.size <= most => read(dir, task, &mut found, buffer)?,
        (FileKind::File, Look::Blake3 { size }) if stat.size == size => read(dir, task, &mut found, buffer)?,
        _ => {}
    }
    Ok(found)
}

/// Digests a file's content: lstat, open without following, fstat of the same inode, then read to the end.
fn read(dir: &Dir, task: &Task<'_>, found: &mut Found, buffer: &mut [u8]) -> io::Result<()> {
    let disk = dir.disk();
    let (file, open) = disk.open_seen(dir.fd(), task.name)?;
    if open.id != found.stat.id {
        // On overlay file systems a handle may show another inode number than the name; a second stat of both distinguishes
        // this from an exchanged file.
        if (open.size, open.mtime) != (found.stat.size, found.stat.mtime) {
            return Err(io::Error::new(io::ErrorKind::NotFound, "exchanged while it was looked at"));
        }
    }
    if task.fresh {
        // From the medium, not from the cache. Dirty pages cannot be dropped, so they are written first.
        let _ = disk.sync(file.as_fd());
        let _ = disk.forget(file.as_fd());
    }
    // Only executable files can use them (capabilities(7), "File capabilities").
    found.capabilities = found.stat.mode & 0o111 != 0 && disk.has_capabilities(file.as_fd()).unwrap_or(false);
    match task.look {
        Look::Md5 { .. } => {
            let mut hasher = ContentHasher::md5();
            found.stat.size = read_to_end(disk, file.as_fd(), u64::MAX, buffer, &mut hasher)?;
            found.md5 = hasher.finish().1;
        }
        // The size was just checked: a file that grows is read up to it.
        _ => (found.stat.size, found.digest) = digest(disk, file.as_fd(), open.size, buffer)?,
    }
    Ok(())
}

/// Digests this many bytes, or fewer if the file ends before.
fn digest(disk: &dyn Disk, file: BorrowedFd<'_>, size: u64, buffer: &mut [u8]) -> io::Result<(u64, Option<Digest>)> {
    let first = disk.read(file, buffer)?;
    if first as u64 == size {
        // Nearly all files fit into the buffer and are digested at once, without a hasher's state.
        return Ok((size, Some(Digest::hash(&buffer[..first]))));
    }
    let mut hasher = ContentHasher::blake3();
    hasher.update(&buffer[..first]);
    let rest = if first == 0 { 0 } else { size.saturating_sub(first as u64) };
    let more = read_to_end(disk, file, rest, buffer, &mut hasher)?;
    Ok((first as u64 + more, hasher.finish().0))
}

/// Reads to the end or to the limit; returns the number of bytes.
fn read_to_end(
    disk: &dyn Disk,
    file: BorrowedFd<'_>,
    most: u64,
    buffer: &mut [u8],
    hasher: &mut ContentHasher,
) -> io::Result<u64> {
    let mut length = 0;
    while length < most {
        let n = disk.read(file, buffer)?;
        if n == 0 {
            break;
        }
        hasher.update(&buffer[..n]);
        length += n as u64;
    }
    Ok(length)
}

#[cfg(test)]
mod tests {
    use std::path::Path;
    use std::sync::Arc;

    use super::*;
    use crate::event::NoObserver;
    use crate::machine::LiveDisk;

    fn task<'a>(usr: &'a SystemPath, name: &'a str, look: Look) -> Task<'a> {
        Task { folder: usr, name: name.as_bytes(), look, fresh: false }
    }

    fn world() -> (tempfile::TempDir, Machine, rayon::ThreadPool) {
        let dir = tempfile::tempdir().unwrap();
        let usr = dir.path().join("usr");
        std::fs::create_dir(&usr).unwrap();
        std::fs::write(usr.join("file"), "abc").unwrap();
        std::os::unix::fs::symlink("/somewhere", usr.join("link")).unwrap();
        rustix::fs::mknodat(rustix::fs::CWD, usr.join("pipe"), rustix::fs::FileType::Fifo, rustix::fs::Mode::RUSR, 0)
            .unwrap();
        let machine = Machine::open(Path::new(dir.path()), Arc::new(LiveDisk)).unwrap();
        (dir, machine, rayon::ThreadPoolBuilder::new().num_threads(2).build().unwrap())
    }

    #[test]
    fn answers_stand_in_the_order_of_the_questions() {
        let (_keep, machine, pool) = world();
        let usr = SystemPath::literal("/usr");
        let task = |name, look| task(&usr, name, look);
        let tasks = [
            task("pipe", Look::Md5 { most: 9 }),
            task("file", Look::Blake3 { size: 3 }),
            task("none", Look::Only),
            task("link", Look::Only),
            task("file", Look::Blake3 { size: 4 }),
            task("file", Look::Md5 { most: 2 }),
        ];
        let seen = observe(&machine, &tasks, How::default(), &pool, &NoObserver).unwrap();
        let found = |at: usize| match &seen[at] {
            Observation::There(f) => f.as_ref().clone(),
            other => panic!("{other:?}"),
        };
        assert_eq!(found(0).stat.kind, FileKind::Pipe);
        assert_eq!(found(1).digest, Some(Digest::hash(b"abc")));
        assert_eq!(seen[2], Observation::Absent);
        assert_eq!(found(3).target.as_deref(), Some(&b"/somewhere"[..]));
        assert_eq!(found(4).digest, None, "another size needs no reading");
        assert_eq!(found(5).md5, None, "what is far too large is not read");
    }

    #[test]
    fn what_was_written_is_read_from_the_medium_with_all_that_lies_below() {
        let written = [SystemPath::literal("/usr/share/quay")].into();
        let how = How { written: Some(&written), remembered: None, partial: false };
        assert!(how.was_written(&SystemPath::literal("/usr/share/quay/deep/one")));
        assert!(how.was_written(&SystemPath::literal("/usr/share/quay")));
        assert!(!how.was_written(&SystemPath::literal("/usr/share/quayside")));
        assert!(!How::default().was_written(&SystemPath::root()));
    }

    #[test]
    fn a_stop_ends_the_looking() {
        struct No;
        impl Observer for No {
            fn on_event(&self, _: Event<'_>) -> Flow {
                Flow::Stop
            }
        }
        let (_keep, machine, pool) = world();
        let usr = SystemPath::literal("/usr");
        assert!(observe(&machine, &[task(&usr, "file", Look::Only)], How::default(), &pool, &No).is_err());
    }
}
