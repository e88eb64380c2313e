//! [`Keeper`]: adds to the pools what they lack of a system's contents.

use std::collections::HashMap;
use std::io;
use std::os::fd::AsFd as _;
use std::sync::Mutex;

use rayon::prelude::*;

use super::SavepointError;
use super::linkable::Linkable;
use super::manifest::Entry;
use super::pool::Added;
use super::pools::{Pools, is_known};
use super::read::SystemRead;
use crate::change::{ChangeContext, ChangeError};
use crate::event::{Event, Flow, Phase};
use crate::model::{Digest, Identity, Stat, SystemPath, error_words};
use crate::platform::Installed;
use crate::scan::{ChangedTimes, Remembered};

/// Free space is left for other programs, in per cent of what is copied.
const SPARE_PERCENT: u64 = 5;

/// The input.
pub(super) struct Keeper<'a> {
    pub(super) context: &'a ChangeContext<'a>,
    pub(super) pools: &'a Pools<'a>,
    pub(super) known: &'a [Remembered],
    pub(super) installed: &'a Installed,
    pub(super) threads: &'a rayon::ThreadPool,
}

/// What was added.
#[derive(Debug, Default)]
pub(super) struct Kept {
    /// Change times altered by hard links.
    pub(super) times: ChangedTimes,
    /// The number of contents that were added.
    pub(super) added: u64,
    /// The number of bytes that were copied, before compression.
    pub(super) copied: u64,
    /// Whether something was added, or may have been by an interrupted run: it may not be durable.
    pub(super) is_unsettled: bool,
    /// Contents that could not be kept, with the reason.
    pub(super) failed: HashMap<Digest, String>,
}

/// The state of a content in the pools.
#[derive(Clone, Copy, PartialEq, Eq)]
enum State {
    Absent,
    /// Verified before, and durable.
    Settled,
    /// Verified just now.
    Whole,
    Damaged,
}

/// A content to add: the entry whose file has it, and whether a hard link to that may be made.
struct Wanted {
    at: usize,
    linkable: bool,
}

impl Keeper<'_> {
    /// Adds what the pools lack.
    pub(super) fn keep(&self, read: &SystemRead) -> Result<Kept, SavepointError> {
        let mut kept = Kept::default();
        let lacking = self.lacking(read, &mut kept)?;
        if lacking.is_empty() {
            return Ok(kept);
        }
        let wanted = self.wanted(read, &lacking);
        self.require_room(read, &wanted)?;
        let bytes = wanted.iter().filter(|(_, wanted)| !wanted.linkable).map(|(_, w)| read.stats[w.at].size).sum();
        let observer = self.context.observer;
        observer.on_event(Event::Begin { phase: Phase::Keeping, items: wanted.len() as u64, bytes });
        let kept = Mutex::new(kept);
        let add = |(digest, wanted): &(Digest, Wanted)| -> Result<(), SavepointError> {
            let entry = &read.entries[wanted.at];
            let result = self.add(digest, entry, &read.stats[wanted.at], wanted.linkable);
            let mut kept = kept.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
            match result {
                Ok(Added::Linked(now)) => {
                    kept.added += 1;
                    kept.times.insert(now.id, (read.stats[wanted.at].ctime, now.ctime));
                }
                Ok(Added::Copied) => {
                    kept.added += 1;
                    kept.copied += read.stats[wanted.at].size;
                }
                Err(e) if is_of_the_disk(&e) => return Err(full_or(&entry.path, e)),
                Err(e) => drop(kept.failed.insert(*digest, error_words(&e))),
            }
            drop(kept);
            match observer.on_event(Event::Advance { items: 1, bytes: 0 }) {
                Flow::Continue => Ok(()),
                Flow::Stop => Err(SavepointError::Stopped),
            }
        };
        self.threads.install(|| wanted.par_iter().with_max_len(64).try_for_each(add))?;
        observer.on_event(Event::End);
        Ok(kept.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner))
    }

    /// The contents that no pool has whole; those that are damaged there are removed.
    fn lacking(&self, read: &SystemRead, kept: &mut Kept) -> Result<HashMap<Digest, u64>, SavepointError> {
        let pools = self.pools.all();
        let is_linked = |(entry, stat): &(&Entry, &Stat)| {
            entry.content().is_none_or(|(digest, _)| pools.iter().any(|pool| pool.index().is_linked(&digest, stat)))
        };
        let others = || read.entries.par_iter().zip(&read.stats).with_min_len(1024).filter(|file| !is_linked(file));
        let others: Vec<(Digest, u64)> =
            self.threads.install(|| others().filter_map(|(entry, _)| entry.content()).collect());
        let sizes: HashMap<Digest, u64> = others.into_iter().collect();
        let held = |digest: &Digest| pools.iter().find_map(|pool| pool.held(digest));
        let judge = |(digest, size): (&Digest, &u64)| match held(digest) {
            None => (*digest, *size, State::Absent),
            Some(held) if is_known(&held, digest, self.known) => (*digest, *size, State::Settled),
            Some(_) if self.pools.is_whole(digest, *size, &[]) => (*digest, *size, State::Whole),
            Some(_) => (*digest, *size, State::Damaged),
        };
        let judged: Vec<(Digest, u64, State)> = self.threads.install(|| sizes.par_iter().map(judge).collect());
        // A file that had to be read may have been linked by an interrupted run.
        kept.is_unsettled = read.read > 0 || judged.iter().any(|(.., state)| *state != State::Settled);
        for (digest, ..) in judged.iter().filter(|(.., state)| *state == State::Damaged) {
            let removed = self.pools.remove(digest).map_err(SavepointError::at(&SystemPath::root()))?;
            kept.times.extend(removed.map(|(before, after)| (before.id, (before.ctime, after.ctime))));
        }
        let lacking = judged.into_iter().filter(|(.., state)| matches!(state, State::Absent | State::Damaged));
        Ok(lacking.map(|(digest, size, _)| (digest, size)).collect())
    }

    /// For each content the entry to take it from: one to which a hard link may be made, if there is one.
    fn wanted(&self, read: &SystemRead, lacking: &HashMap<Digest, u64>) -> Vec<(Digest, Wanted)> {
        let linkable = Linkable::read(self.context.machine, self.installed, self.threads);
        let mut wanted: HashMap<Digest, Wanted> = HashMap::with_capacity(lacking.len());
        for (at, entry) in read.entries.iter().enumerate() {
            let Some((digest, _)) = entry.content().filter(|(digest, _)| lacking.contains_key(digest)) else {
                continue;
            };
            let new = Wanted { at, linkable: linkable.has(entry, &read.stats[at]) };
            match wanted.get(&digest) {
                Some(old) if old.linkable || !new.linkable => {}
                _ => drop(wanted.insert(digest, new)),
            }
        }
        let mut wanted: Vec<(Digest, Wanted)> = wanted.into_iter().collect();
        wanted.sort_unstable_by_key(|(_, wanted)| wanted.at);
        wanted
    }

    fn add(&self, digest: &Digest, entry: &Entry, stat: &Stat, linkable: bool) -> io::Result<Added> {
        let folder = entry.path.parent().unwrap_or_else(SystemPath::root);
        let pool = self.pools.for_folder(stat.id.dev, &folder)?;
        let dir = self.context.machine.dir(&folder)?;
        let (file, now) = dir.disk().open_seen(dir.fd(), entry.path.name())?;
        if (now.id, now.size, now.mtime) != (stat.id, stat.size, stat.mtime) {
            return Err(io::ErrorKind::InvalidData.into());
        }
        pool.add(digest, file.as_fd(), &now, linkable.then(|| (&dir, entry.path.name())))
    }

    /// Refuses if a file system has no space for the copies.
    fn require_room(&self, read: &SystemRead, wanted: &[(Digest, Wanted)]) -> Result<(), SavepointError> {
        let mut needs: HashMap<u64, (SystemPath, u64)> = HashMap::new();
        for (_, wanted) in wanted {
            let (entry, stat) = (&read.entries[wanted.at], &read.stats[wanted.at]);
            let need = needs.entry(stat.id.dev).or_insert_with(|| (entry.path.clone(), 0));
            if !wanted.linkable {
                need.1 += stat.size;
            }
        }
        for (device, (place, bytes)) in needs {
            let folder = place.parent().unwrap_or_else(SystemPath::root);
            let room = || -> io::Result<(u64, u64, bool)> {
                let pool = self.pools.for_folder(device, &folder)?;
                let room = pool.room()?;
                Ok((room.bytes, room.block, pool.is_linking()))
            };
            let (free, block, links) = room().map_err(SavepointError::at(&place))?;
            let all = |wanted: &&(Digest, Wanted)| read.stats[wanted.1.at].id.dev == device && !wanted.1.linkable;
            let files = wanted.iter().filter(all).count() as u64;
            let bytes = if links { bytes } else { wanted.iter().map(|(_, w)| read.stats[w.at].size).sum() };
            let need = bytes + bytes * SPARE_PERCENT / 100 + files * block;
            if need > free {
                return Err(ChangeError::NoRoom { place, missing: need - free }.into());
            }
        }
        Ok(())
    }
}

/// Whether an error concerns the file system that is written to rather than one file.
fn is_of_the_disk(error: &io::Error) -> bool {
    use io::ErrorKind::{QuotaExceeded, ReadOnlyFilesystem, StorageFull};
    let eio = error.raw_os_error() == Some(rustix::io::Errno::IO.raw_os_error());
    matches!(error.kind(), StorageFull | QuotaExceeded | ReadOnlyFilesystem) || eio
}

fn full_or(place: &SystemPath, source: io::Error) -> SavepointError {
    match source.kind() {
        io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded => {
            ChangeError::NoRoom { place: place.clone(), missing: 1 << 20 }.into()
        }
        _ => SavepointError::Io { place: place.to_string(), source },
    }
}

/// The status of a file after its hard links were made.
pub(super) fn with_time(stat: &Stat, times: &ChangedTimes) -> Stat {
    let id: &Identity = &stat.id;
    times
        .get(id)
        .filter(|(before, _)| *before == stat.ctime)
        .map_or(*stat, |(_, after)| Stat { ctime: *after, ..*stat })
}
