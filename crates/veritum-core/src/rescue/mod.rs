//! Users' files to safety: copied to another disk, verified, resumable, without writing anything to where they come from.
//!
//! Files are copied in the order of their value to users ([`DataKind`]), what cannot be read at once at the end. Each batch is synced and
//! read back before its files get their names and a line in the [manifest].

mod back;
mod batch;
mod copy;
mod deleted;
mod deleted_homes;
mod destination;
mod imaging;
mod kinds;
pub mod manifest;
mod mounted;
mod rescued;
mod selection;
mod session;
mod source;
mod stored_contents;
mod stored_names;
#[cfg(test)]
mod tests;
mod unmounted;
mod verify;

pub use back::{BackPlan, BackRules, bytes_of};
pub use deleted::{Deleted, list_deleted};
pub use deleted_homes::{DELETED_FILES, DeletedHomes, LostFile};
pub use destination::{Abilities, Destination, DestinationError};
pub use imaging::{Imaged, image_disk};
pub use kinds::Classifier;
pub use mounted::MountedHomes;
pub use rescued::require_rescued;
pub use source::{Content, Found, HomePlace, Item, ItemKind, NotCopied, Source};
pub use stored_contents::StoredContents;
pub use stored_names::{NameRules, StoredNames};
pub use unmounted::{UnmountedHomes, small_file};
pub use verify::{StoredProblem, Verified, find as find_rescued, verify};

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::AtomicU64;
use std::time::Instant;

use self::copy::Copying;
use self::manifest::{Line, Manifest, ManifestError, ManifestWriter, RunLine};
use self::selection::{Earlier, Selection, add};
use self::session::{Results, Session};
use crate::event::{Event, Flow, Observer, Phase};
use crate::machine::{Dir, Disk};
use crate::model::{FileKind, SystemPath};
use crate::report::{Count, DataKind};
use crate::system::WorkError;

/// More rescues of different machines with the same name are not kept in one folder.
const MAX_SAME: u32 = 1000;

/// Why files cannot be copied.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum RescueError {
    /// The destination cannot be used.
    #[error(transparent)]
    Destination(#[from] DestinationError),
    /// The manifest of the destination cannot be used.
    #[error("cannot use {}", place.display())]
    Manifest {
        /// The folder.
        place: std::path::PathBuf,
        /// The cause.
        source: ManifestError,
    },
    /// There is not enough free space.
    #[error("not enough free space in {}", place.display())]
    Full {
        /// The destination.
        place: std::path::PathBuf,
        /// The bytes that are needed.
        needed: u64,
        /// The bytes that are free.
        free: u64,
        /// The kinds that would fit, the most valuable first.
        fitting: Vec<DataKind>,
    },
    /// The destination is on what is copied from.
    #[error("{} is on the disk that files are copied from", place.display())]
    SameDisk {
        /// The destination.
        place: std::path::PathBuf,
    },
    /// There are no homes.
    #[error("no users' homes in {}", place.display())]
    NoHomes {
        /// The root folder, or the disk.
        place: std::path::PathBuf,
        /// What is not there.
        absent: Vec<String>,
    },
    /// The source cannot be used.
    #[error(transparent)]
    Source(#[from] WorkError),
    /// Interrupted before anything was copied.
    #[error("stopped")]
    Stopped,
}

/// The machine that files come from, as the manifest records it.
#[derive(Debug, Clone, Default)]
pub struct Origin {
    /// Its name.
    pub host: String,
    /// What identifies it.
    pub machine: String,
    /// Its system.
    pub system: String,
}

/// What is copied, and where to.
#[derive(Debug, Clone)]
pub struct Wanted<'a> {
    /// The folder on another disk.
    pub to: &'a Path,
    /// The kinds of files.
    pub kinds: Vec<DataKind>,
    /// Whether it is only shown.
    pub plan_only: bool,
    /// The start of the run.
    pub now: jiff::Timestamp,
}

/// What was found and copied.
#[derive(Debug, Default)]
pub struct Rescued {
    /// The folder with the copies.
    pub folder: std::path::PathBuf,
    /// What was found, by home and kind.
    pub found: BTreeMap<(usize, DataKind), Count>,
    /// What an earlier run has copied.
    pub known: Count,
    /// What was to be copied.
    pub wanted: Count,
    /// The bytes to be written.
    pub needed: u64,
    /// The free bytes at the destination.
    pub free: u64,
    /// What was copied.
    pub copied: Count,
    /// What is not copied, by home, with its path and the reason.
    pub missing: Vec<(usize, SystemPath, String)>,
    /// What was copied with gaps.
    pub incomplete: Vec<manifest::EntryLine>,
    /// Files that were changed while they were copied.
    pub changed: Vec<SystemPath>,
    /// Files that have another name there.
    pub renamed: u64,
    /// Symlinks that only the manifest records.
    pub only_recorded: u64,
    /// Pipes, sockets and devices.
    pub special: u64,
    /// What the destination's file system can keep.
    pub can: Option<Abilities>,
    /// Whether it was interrupted.
    pub stopped: bool,
    /// Why the destination accepted nothing more.
    pub failed: Option<DestinationError>,
    /// The duration in seconds.
    pub seconds: f64,
}

/// Copies users' files. Nothing is written but below the destination.
///
/// # Errors
/// When nothing can be copied.
pub fn rescue(
    source: &dyn Source,
    origin: &Origin,
    wanted: &Wanted<'_>,
    disk: Arc<dyn Disk>,
    pool: &rayon::ThreadPool,
    observer: &dyn Observer,
) -> Result<Rescued, RescueError> {
    let begun = Instant::now();
    let found = list_all(source, observer)?;
    let special = found.special;
    let (name, manifest, folder) = choose_folder(wanted.to, &disk, origin)?;
    let destination = match wanted.plan_only {
        true => None,
        false => Some(Destination::open(disk.clone(), wanted.to, &name)?),
    };
    let earlier = Earlier::find(&manifest, folder.as_ref());
    let selection = Selection::new(found, source.homes(), &wanted.kinds, &earlier);
    let can_link = destination.as_ref().is_none_or(|destination| destination.can.hard_links);
    let mut rescued = Rescued {
        folder: wanted.to.join(&name),
        found: selection.found.iter().map(|(key, count)| (*key, *count)).collect(),
        known: selection.known,
        needed: selection.bytes(can_link),
        free: free_in(&disk, wanted.to)?,
        special,
        can: destination.as_ref().map(|destination| destination.can),
        ..Rescued::default()
    };
    selection.jobs.iter().for_each(|job| add(&mut rescued.wanted, &job.item));
    // Only then it is worth the time to ask how much of each file was written.
    if rescued.needed > rescued.free && can_link {
        rescued.needed = rescued.needed.saturating_sub(selection.never_written(source));
    }
    let places = source.homes();
    rescued.missing = unread(&selection.unread, places);
    let Some(destination) = destination else {
        rescued.seconds = begun.elapsed().as_secs_f64();
        return Ok(rescued);
    };
    if rescued.needed > rescued.free {
        destination.discard();
        let fitting = fitting(&selection, rescued.free);
        let (place, needed, free) = (wanted.to.to_owned(), rescued.needed, rescued.free);
        return Err(RescueError::Full { place, needed, free, fitting });
    }
    let results = copy_all(source, origin, wanted, &destination, &selection, &earlier, &manifest, pool, observer)?;
    rescued.fill(results);
    destination.close();
    rescued.seconds = begun.elapsed().as_secs_f64();
    Ok(rescued)
}

impl Rescued {
    fn fill(&mut self, results: Results) {
        self.copied = results.copied;
        self.missing.extend(results.missing);
        self.incomplete = results.incomplete;
        self.changed = results.changed;
        self.renamed = results.renamed;
        self.only_recorded = results.only_recorded;
        self.stopped = results.stopped;
        self.failed = results.failed;
    }
}

/// Lists everything in all homes.
///
/// # Errors
/// When it was interrupted.
pub fn list_all(source: &dyn Source, observer: &dyn Observer) -> Result<Found, RescueError> {
    let mut found = Found::default();
    let go_on = || observer.on_event(Event::Advance { items: 0, bytes: 0 }) == Flow::Continue;
    observer.on_event(Event::Begin { phase: Phase::Homes, items: source.homes().len() as u64, bytes: 0 });
    for home in 0..source.homes().len() {
        source.list(home, &mut found, &go_on);
        if observer.on_event(Event::Advance { items: 1, bytes: 0 }) == Flow::Stop {
            return Err(RescueError::Stopped);
        }
    }
    observer.on_event(Event::End);
    Ok(found)
}

#[allow(clippy::too_many_arguments, reason = "one call, all of it borrowed")]
fn copy_all(
    source: &dyn Source,
    origin: &Origin,
    wanted: &Wanted<'_>,
    destination: &Destination,
    selection: &Selection,
    earlier: &Earlier<'_>,
    manifest: &Manifest,
    pool: &rayon::ThreadPool,
    observer: &dyn Observer,
) -> Result<Results, RescueError> {
    let mut names = StoredNames::new(destination.can.names);
    let own = [manifest::NAME, destination::PARTS].into_iter();
    own.filter_map(|name| SystemPath::root().child(name).ok()).for_each(|path| names.record(&path, &path, false));
    for entry in manifest.entries.values() {
        let is_folder = entry.is == FileKind::Folder;
        if let Some(stored) = entry.stored.as_ref().filter(|stored| is_folder || earlier.exists(stored)) {
            names.record(&entry.path, stored, is_folder);
        }
    }
    let top = destination.top();
    let writer = ManifestWriter::open(top, manifest.torn).map_err(|e| destination.failed(&SystemPath::root(), e))?;
    let run = RunLine {
        format: RunLine::FORMAT.into(),
        veritum: env!("CARGO_PKG_VERSION").into(),
        at: wanted.now.to_string(),
        host: origin.host.clone(),
        machine: origin.machine.clone(),
        system: origin.system.clone(),
    };
    let files = selection.jobs.len() as u64;
    let bytes = selection.bytes(destination.can.hard_links);
    observer.on_event(Event::Begin { phase: Phase::Rescuing, items: files, bytes: bytes.max(1) });
    let go_on = |bytes: u64| observer.on_event(Event::Advance { items: 0, bytes }) == Flow::Continue;
    let copying = Copying { source, destination, go_on: &go_on, parts: AtomicU64::new(0) };
    let mut session = Session {
        copying: &copying,
        homes: source.homes(),
        folders: &selection.folders,
        earlier,
        names,
        writer,
        lines: vec![Line::Run(run)],
        stored: std::collections::HashMap::new(),
        results: Results::default(),
    };
    session.run(selection, pool);
    observer.on_event(Event::End);
    Ok(session.results)
}

fn unread(unread: &[NotCopied], places: &[HomePlace]) -> Vec<(usize, SystemPath, String)> {
    let named = |left: &NotCopied| {
        let place = &places[left.home].place;
        (left.home, place.join(&left.path).unwrap_or_else(|_| place.clone()), left.why.clone())
    };
    unread.iter().map(named).collect()
}

/// The kinds that fit into the free space, the most valuable first.
fn fitting(selection: &Selection, free: u64) -> Vec<DataKind> {
    let mut left = free;
    let bytes = |kind: DataKind| {
        let of_kind = selection.jobs.iter().filter(|job| job.item.kind == kind && job.item.is == ItemKind::File);
        of_kind.map(|job| job.item.size).fold(0, u64::saturating_add)
    };
    let mut fits = |kind: &DataKind| {
        let needed = bytes(*kind);
        let fits = needed > 0 && needed <= left;
        left -= if fits { needed } else { 0 };
        fits
    };
    DataKind::ALL.into_iter().filter(|kind| fits(kind)).collect()
}

fn free_in(disk: &Arc<dyn Disk>, folder: &Path) -> Result<u64, DestinationError> {
    let fail = |source| DestinationError { place: folder.to_owned(), source };
    let open = disk.open_root(folder).map_err(fail)?;
    Ok(disk.room(std::os::fd::AsFd::as_fd(&open)).map_err(fail)?.bytes)
}

/// The folder of this machine's files: that of an earlier run, or a new one. Returns its name, its manifest, and
/// the folder if it exists.
fn choose_folder(
    above: &Path,
    disk: &Arc<dyn Disk>,
    origin: &Origin,
) -> Result<(String, Manifest, Option<Dir>), RescueError> {
    let fail = |source| DestinationError { place: above.to_owned(), source };
    let top = Dir::handed_over(disk.clone(), disk.open_root(above).map_err(fail)?);
    let plain = |c: char| if c.is_ascii_alphanumeric() || "-._".contains(c) { c } else { '-' };
    let host: String = origin.host.chars().map(plain).take(64).collect();
    let first = format!("rescue-{}", if host.trim_matches('.').is_empty() { "machine" } else { &host });
    let names = (1..MAX_SAME).map(|number| if number == 1 { first.clone() } else { format!("{first}-{number}") });
    for name in names {
        if top.look(name.as_bytes()).map_err(fail)?.is_none() {
            return Ok((name, Manifest::default(), None));
        }
        let Ok(folder) = top.disk().open_dir(top.fd(), name.as_bytes()).map(|fd| top.beside(fd)) else { continue };
        match Manifest::read(&folder) {
            Ok(manifest) => match &manifest.first {
                Some(first) if is_same(first, origin) => return Ok((name, manifest, Some(folder))),
                // A run that was cut before it recorded anything.
                None if holds_nothing(&folder) => return Ok((name, manifest, Some(folder))),
                _ => {}
            },
            Err(ManifestError::Foreign) => {}
            Err(source) => return Err(RescueError::Manifest { place: above.join(name), source }),
        }
    }
    Err(fail(std::io::Error::other("too many folders of that name")).into())
}

fn is_same(first: &RunLine, origin: &Origin) -> bool {
    match first.machine.is_empty() || origin.machine.is_empty() {
        true => first.host == origin.host,
        false => first.machine == origin.machine,
    }
}

fn holds_nothing(folder: &Dir) -> bool {
    let ours = |name: &[u8]| name == destination::PARTS || name == manifest::NAME;
    folder.disk().list(folder.fd()).is_ok_and(|names| names.iter().all(|(name, _)| ours(name)))
}
