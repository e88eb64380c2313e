//! Examines names in parallel: each gets an lstat, and is read if its content is wanted.
//!
//! Work is assigned folder by folder, so that a handle is opened once for all names in it, in path order, which is
//! close to the order on the disk. Memory does not grow with file sizes: every thread has its own buffers.

use std::collections::VecDeque;
use std::io;
use std::ops::Range;
use std::os::fd::{AsFd as _, BorrowedFd, OwnedFd};
use std::sync::OnceLock;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};

use rayon::prelude::*;
use veritum_lanes::{LANES, Lanes};

use super::lanes::LaneReader;
use super::read_ahead::ReadAhead;
use super::{ContentDigest, Found, How, Look, Observation, ReadFailure, Stopped, Task, read_bytes};
use crate::event::{Event, Flow, Observer};
use crate::machine::{Dir, Disk, Machine};
use crate::model::{ContentHasher, Digest, FileKind, Md5, Stat, SystemPath};

/// Large enough that system calls do not matter, small enough to stay in the processor's cache.
const BUFFER: usize = 128 * 1024;

/// The number of names of one folder that one thread examines with one handle.
const SHARE: usize = 16;

/// Names with more bytes than this are examined first.
const LARGE: u64 = 8 << 20;

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
    // What is unchanged is not read, whatever its size.
    let (shares, bytes) = pool.install(|| shares(machine, tasks, how.remembered.is_none()));
    let of_lane = bytes / (pool.current_num_threads() * LANES) as u64;
    let (stop, next) = (AtomicBool::new(false), AtomicUsize::new(0));
    // Every thread takes the next share: all stay close together on the disk, and none ends long before another.
    let seen: Vec<OnceLock<Observation>> = std::iter::repeat_with(OnceLock::new).take(tasks.len()).collect();
    pool.broadcast(|_| {
        let mut worker = Worker::new(machine, tasks, how, observer, &stop, of_lane, &seen);
        while let Some(share) = shares.get(next.fetch_add(1, Ordering::Relaxed))
            && !stop.load(Ordering::Relaxed)
        {
            worker.examine(share.clone());
        }
        worker.finish();
    });
    if stop.load(Ordering::Relaxed) && !how.partial {
        return Err(Stopped);
    }
    Ok(seen.into_iter().map(|seen| seen.into_inner().unwrap_or(Observation::NotReached)).collect())
}

/// The tasks in shares of one folder, a folder with a thousand libraries in several. The largest work comes first: at the
/// end no thread waits for another. Also returns the number of bytes to digest with MD5; with `weigh` their sizes are read.
fn shares(machine: &Machine, tasks: &[Task<'_>], weigh: bool) -> (Vec<Range<usize>>, u64) {
    let mut shares: Vec<Range<usize>> = Vec::new();
    for folder in tasks.chunk_by(|a, b| a.folder == b.folder) {
        let begin = shares.last().map_or(0, |share| share.end);
        let end = begin + folder.len();
        shares.extend((begin..end).step_by(SHARE).map(|at| at..end.min(at + SHARE)));
    }
    let bytes = |share: Range<usize>| {
        let tasks = &tasks[share.clone()];
        let known: u64 = tasks.iter().map(|task| task.look.bytes()).sum();
        (known, if weigh { sizes(machine, tasks) } else { 0 }, share)
    };
    let weighed: Vec<(u64, u64, Range<usize>)> = shares.into_par_iter().map(bytes).collect();
    let md5 = weighed.iter().map(|(_, unknown, _)| unknown).sum();
    let (mut large, rest): (Vec<_>, Vec<_>) =
        weighed.into_iter().partition(|(known, unknown, _)| known + unknown >= LARGE);
    large.sort_by_key(|(known, unknown, _)| std::cmp::Reverse(known + unknown));
    (large.into_iter().chain(rest).map(|(.., share)| share).collect(), md5)
}

/// The size of the files to read among tasks of one folder whose expected size is not known.
fn sizes(machine: &Machine, tasks: &[Task<'_>]) -> u64 {
    let mut unknown = tasks.iter().filter(|task| matches!(task.look, Look::Md5 { .. })).peekable();
    let Some(dir) = unknown.peek().and_then(|task| machine.dir(task.folder).ok()) else { return 0 };
    let size = |task: &Task<'_>| {
        let Look::Md5 { most } = task.look else { return None };
        let stat = dir.disk().look(dir.fd(), task.name).ok()?;
        (stat.kind == FileKind::File && stat.size <= most).then_some(stat.size)
    };
    unknown.filter_map(size).sum()
}

/// An opened file: its task, and what was found.
struct Waiting {
    at: usize,
    found: Box<Found>,
    file: OwnedFd,
}

/// One thread's part of the work.
struct Worker<'a> {
    machine: &'a Machine,
    tasks: &'a [Task<'a>],
    how: How<'a>,
    observer: &'a dyn Observer,
    stop: &'a AtomicBool,
    buffer: Vec<u8>,
    /// Opened files that are not read yet, in the order in which they were requested.
    waiting: VecDeque<Waiting>,
    read_ahead: ReadAhead,
    reader: LaneReader<(usize, Box<Found>), 16>,
    /// The folder of the last share: a thread usually takes several shares of a large one.
    folder: Option<(&'a SystemPath, io::Result<Dir>)>,
    /// The results, by task.
    seen: &'a [OnceLock<Observation>],
}

impl<'a> Worker<'a> {
    fn new(
        machine: &'a Machine,
        tasks: &'a [Task<'a>],
        how: How<'a>,
        observer: &'a dyn Observer,
        stop: &'a AtomicBool,
        of_lane: u64,
        seen: &'a [OnceLock<Observation>],
    ) -> Self {
        let (buffer, reader) = (vec![0; BUFFER], LaneReader::new(Lanes::md5(), of_lane, false));
        Self {
            machine,
            tasks,
            how,
            observer,
            stop,
            buffer,
            waiting: VecDeque::new(),
            read_ahead: ReadAhead::default(),
            reader,
            folder: None,
            seen,
        }
    }

    /// Examines a share of one folder; some of its files may still be being read afterwards.
    fn examine(&mut self, share: Range<usize>) {
        let name = self.tasks[share.start].folder;
        let kept = self.folder.take().filter(|(folder, _)| *folder == name);
        let (_, dir) = kept.unwrap_or_else(|| (name, self.machine.dir(name)));
        for at in share {
            let task = &self.tasks[at];
            let looked = match &dir {
                Ok(dir) => look(dir, task, self.how),
                Err(e) => Looked::Seen(failed(e, None)),
            };
            match looked {
                Looked::Seen(observation) => self.push(at, observation),
                Looked::Open(found, file) => {
                    self.read_ahead.request(self.machine.disk().as_ref(), file.as_fd());
                    self.waiting.push_back(Waiting { at, found, file });
                    self.read_waiting(self.read_ahead.depth());
                }
            }
            if self.is_stopped() {
                break;
            }
        }
        self.folder = Some((name, dir));
    }

    /// Ends the reading of files.
    fn finish(mut self) {
        self.read_waiting(0);
        while !self.reader.is_empty() && !self.is_stopped() {
            self.advance();
        }
    }

    /// Reads waiting files until no more than this many wait.
    fn read_waiting(&mut self, most: usize) {
        while self.waiting.len() > most
            && !self.is_stopped()
            && let Some(Waiting { at, mut found, file }) = self.waiting.pop_front()
        {
            if let Look::Md5 { .. } = self.tasks[at].look {
                self.read_beside_others(at, found, file);
                continue;
            }
            let disk = self.machine.disk().as_ref();
            // The size was just checked: a file that grows is read up to it.
            let observation = match digest(disk, &mut self.read_ahead, file.as_fd(), found.stat.size, &mut self.buffer)
            {
                Ok(read) => {
                    (found.stat.size, found.content) = (read.0, read.1.map(ContentDigest::Blake3));
                    Observation::There(found)
                }
                // Deleted in the meantime: treated as if it had never existed.
                Err(e) => failed(&e, Some(found.stat)),
            };
            self.push(at, observation);
        }
    }

    fn read_beside_others(&mut self, at: usize, found: Box<Found>, file: OwnedFd) {
        let size = found.stat.size;
        let mut next = ((at, found), file);
        while let Err(refused) = self.reader.start(next.0, next.1, size) {
            next = refused;
            self.advance();
        }
    }

    fn advance(&mut self) {
        for ((at, mut found), result) in self.reader.advance(self.machine.disk().as_ref(), &mut self.read_ahead) {
            let observation = match result {
                Ok(read) => {
                    let md5 = ContentDigest::Md5(Md5::from_bytes(read.digest));
                    (found.stat.size, found.content) = (read.length, Some(md5));
                    Observation::There(found)
                }
                Err(e) => failed(&e, Some(found.stat)),
            };
            self.push(at, observation);
        }
    }

    fn push(&mut self, at: usize, observation: Observation) {
        let bytes = if let Observation::There(found) = &observation { read_bytes(found) } else { 0 };
        if self.observer.on_event(Event::Advance { items: 1, bytes }) == Flow::Stop {
            self.stop.store(true, Ordering::Relaxed);
        }
        let _ = self.seen[at].set(observation);
    }

    fn is_stopped(&self) -> bool {
        self.stop.load(Ordering::Relaxed)
    }
}

/// The result of the first look at a name.
enum Looked {
    /// With its result.
    Seen(Observation),
    /// A file whose content is digested.
    Open(Box<Found>, OwnedFd),
}

fn failed(error: &io::Error, stat: Option<Stat>) -> Observation {
    match error.kind() {
        io::ErrorKind::NotFound | io::ErrorKind::NotADirectory => Observation::Absent,
        io::ErrorKind::PermissionDenied => Observation::Forbidden,
        _ => Observation::Unreadable(Box::new(ReadFailure { stat, error: crate::model::error_words(error) })),
    }
}

fn look(dir: &Dir, task: &Task<'_>, how: How<'_>) -> Looked {
    let stat = match dir.disk().look(dir.fd(), task.name) {
        Ok(stat) => stat,
        Err(e) => return Looked::Seen(failed(&e, None)),
    };
    match look_closer(dir, task, stat, how) {
        Ok((found, None)) => Looked::Seen(Observation::There(found)),
        Ok((found, Some(file))) => Looked::Open(found, file),
        // Deleted in the meantime: treated as if it had never existed.
        Err(e) => Looked::Seen(failed(&e, Some(stat))),
    }
}

/// What is found at a name, and the open file if its content is digested.
fn look_closer(dir: &Dir, task: &Task<'_>, stat: Stat, how: How<'_>) -> io::Result<(Box<Found>, Option<OwnedFd>)> {
    let mut found =
        Found { stat, target: None, content: None, capabilities: false, mounted_over: false, unread: false };
    let mut file = None;
    if let Some((digest, capabilities)) = how.remembered.and_then(|r| r.still(&stat, task.look))
        && stat.kind == FileKind::File
    {
        return Ok((Box::new(Found { content: Some(digest), capabilities, unread: true, ..found }), None));
    }
    match (stat.kind, task.look) {
        (FileKind::Link, _) => found.target = Some(dir.disk().read_link(dir.fd(), task.name)?.into()),
        (FileKind::File, Look::Md5 { most }) if stat.size <= most => file = Some(open(dir, task, &mut found)?.0),
        (FileKind::File, Look::Blake3 { size }) if stat.size == size => {
            let opened = open(dir, task, &mut found)?;
            (file, found.stat.size) = (Some(opened.0), opened.1);
        }
        _ => {}
    }
    Ok((Box::new(found), file))
}

/// Opens a file to digest its content: lstat, open without following, fstat of the same inode. Also returns its size.
fn open(dir: &Dir, task: &Task<'_>, found: &mut Found) -> io::Result<(OwnedFd, u64)> {
    let disk = dir.disk();
    let (file, open) = disk.open_seen(dir.fd(), task.name)?;
    if open.id != found.stat.id {
        // On overlay file systems a handle may show another inode number than the name; a second stat of both distinguishes
        // this from an exchanged file.
        if (open.size, open.mtime) != (found.stat.size, found.stat.mtime) {
            return Err(io::Error::new(io::ErrorKind::NotFound, "exchanged while it was examined"));
        }
    }
    if task.fresh {
        // From the medium, not from the cache. Dirty pages cannot be dropped, so they are written first.
        let _ = disk.sync(file.as_fd());
        let _ = disk.forget(file.as_fd());
    }
    // Only executable files can use them (capabilities(7), "File capabilities").
    found.capabilities = found.stat.mode & 0o111 != 0 && disk.has_capabilities(file.as_fd()).unwrap_or(false);
    Ok((file, open.size))
}

/// Digests this many bytes, or fewer if the file ends before.
fn digest(
    disk: &dyn Disk,
    read_ahead: &mut ReadAhead,
    file: BorrowedFd<'_>,
    size: u64,
    buffer: &mut [u8],
) -> io::Result<(u64, Option<Digest>)> {
    let first = read_ahead.read(disk, file, buffer)?;
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
        assert_eq!(found(1).blake3(), Some(Digest::hash(b"abc")));
        assert_eq!(seen[2], Observation::Absent);
        assert_eq!(found(3).target.as_deref(), Some(&b"/somewhere"[..]));
        assert_eq!(found(4).blake3(), None, "another size needs no reading");
        assert_eq!(found(5).md5(), None, "what is far too large is not read");
    }

    #[test]
    fn files_that_are_requested_ahead_give_the_same_answers() {
        let (dir, machine, pool) = world();
        let usr = SystemPath::literal("/usr");
        let names: Vec<String> = (0..60u32).map(|n| format!("file-{n:02}")).collect();
        for (n, name) in names.iter().enumerate() {
            std::fs::write(dir.path().join("usr").join(name), vec![7; n * 3000]).unwrap();
        }
        let look = |n: usize| match n % 3 {
            0 => Look::Blake3 { size: n as u64 * 3000 },
            1 => Look::Md5 { most: 1 << 20 },
            _ => Look::Only,
        };
        let tasks: Vec<Task<'_>> = names.iter().enumerate().map(|(n, name)| task(&usr, name, look(n))).collect();
        let right = observe(&machine, &tasks, How::default(), &pool, &NoObserver).unwrap();
        let (stop, seen) = (AtomicBool::new(false), vec![OnceLock::new(); tasks.len()]);
        let mut worker = Worker::new(&machine, &tasks, How::default(), &NoObserver, &stop, 1 << 20, &seen);
        worker.read_ahead = ReadAhead::after_slow_read();
        worker.examine(0..tasks.len());
        assert!(!worker.waiting.is_empty(), "some are requested and not read yet");
        worker.finish();
        let seen: Vec<Observation> = seen.into_iter().map(|seen| seen.into_inner().unwrap()).collect();
        assert_eq!(seen, right);
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
