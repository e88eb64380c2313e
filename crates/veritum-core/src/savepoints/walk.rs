//! Walks the covered places: the status of each, folder by folder, in parallel.

use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, Ordering};

use rayon::prelude::*;

use super::places::Coverage;
use crate::event::{Event, Flow, Observer};
use crate::machine::Machine;
use crate::model::{FileKind, Stat, SystemPath, error_words};

const NOT_MOUNTED: &str = "its file system is not mounted";
/// The inode flags of immutable and append-only objects (chattr(1)).
const LOCKED: u32 = 0x10 | 0x20;

/// A place as the walk found it.
#[derive(Debug)]
pub(super) struct Seen {
    pub(super) path: SystemPath,
    pub(super) stat: Stat,
    /// A symlink's target.
    pub(super) target: Option<Vec<u8>>,
    /// Of a folder: extended attributes in hexadecimal, and inode flags.
    pub(super) attributes: Vec<(String, String)>,
    pub(super) locked: u32,
}

/// All covered places, in the order of their paths.
#[derive(Debug, Default)]
pub(super) struct Walked {
    pub(super) seen: Vec<Seen>,
    /// What could not be examined, with the reason.
    pub(super) missing: Vec<(SystemPath, String)>,
    /// Places that exist and are never covered.
    pub(super) uncovered: Vec<SystemPath>,
}

struct Walk<'a> {
    machine: &'a Machine,
    coverage: &'a Coverage,
    observer: &'a dyn Observer,
    stop: AtomicBool,
    found: Mutex<Walked>,
}

/// Walks all covered places, and examines these single ones in addition to those of packages; `None` if the observer stopped the run.
pub(super) fn walk(
    machine: &Machine,
    singles: &[SystemPath],
    pool: &rayon::ThreadPool,
    observer: &dyn Observer,
) -> Option<Walked> {
    let coverage = &Coverage::new(machine);
    let walk = Walk { machine, coverage, observer, stop: AtomicBool::new(false), found: Mutex::default() };
    pool.scope(|scope| {
        scope.spawn(|_| coverage.singles(machine, pool).iter().chain(singles).for_each(|path| walk.single(path)));
        for top in &coverage.tops {
            walk.top(scope, top.clone());
        }
    });
    if walk.stop.load(Ordering::Relaxed) {
        return None;
    }
    let mut found = walk.found.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner);
    found.missing.extend(coverage.not_mounted(machine).into_iter().map(|place| (place, NOT_MOUNTED.to_owned())));
    pool.install(|| found.seen.par_sort_unstable_by(|a, b| a.path.cmp(&b.path)));
    found.seen.dedup_by(|a, b| a.path == b.path);
    found.missing.sort();
    Some(found)
}

impl<'a> Walk<'a> {
    fn top<'s>(&'s self, scope: &rayon::Scope<'s>, path: SystemPath)
    where
        'a: 's,
    {
        let Ok(dir) = self.machine.dir(&path.parent().unwrap_or_else(SystemPath::root)) else { return };
        match dir.look(path.name()) {
            Ok(Some(stat)) => self.place(scope, &dir, path, stat),
            Ok(None) => {}
            Err(e) => self.miss(&path, error_words(&e)),
        }
    }

    /// Examines one place without what is below it, unless a symlink leads to it now.
    fn single(&self, path: &SystemPath) {
        let examine = || -> std::io::Result<Option<Seen>> {
            let parent = path.parent().unwrap_or_else(SystemPath::root);
            if self.machine.resolve(&parent).ok().as_ref() != Some(&parent) {
                return Ok(None);
            }
            let dir = self.machine.dir(&parent)?;
            let Some(stat) = dir.look(path.name())? else { return Ok(None) };
            match stat.kind {
                FileKind::Socket | FileKind::Device => Ok(None),
                FileKind::Folder => self.single_folder(path, stat),
                FileKind::Link => {
                    Ok(Some(seen(path.clone(), stat, Some(dir.disk().read_link(dir.fd(), path.name())?))))
                }
                _ => Ok(self.machine.extent().judge(&dir)?.is_ok().then(|| seen(path.clone(), stat, None))),
            }
        };
        match examine() {
            Ok(found) => self.add(found.into_iter().collect()),
            Err(e) => self.miss(path, error_words(&e)),
        }
    }

    fn single_folder(&self, path: &SystemPath, stat: Stat) -> std::io::Result<Option<Seen>> {
        let dir = self.machine.dir(path)?;
        // Another file system that does not belong to the system is not covered.
        let is_covered = self.machine.extent().judge(&dir)?.is_ok();
        is_covered.then(|| of_folder(path.clone(), stat, &dir)).transpose()
    }

    fn place<'s>(&'s self, scope: &rayon::Scope<'s>, dir: &crate::machine::Dir, path: SystemPath, stat: Stat)
    where
        'a: 's,
    {
        if self.coverage.leaves_out(&path) {
            return;
        }
        match stat.kind {
            FileKind::Socket | FileKind::Device => {}
            FileKind::Folder => scope.spawn(move |scope| self.folder(scope, path, stat)),
            FileKind::Link => match dir.disk().read_link(dir.fd(), path.name()) {
                Ok(target) => self.add(vec![seen(path, stat, Some(target))]),
                Err(e) => self.miss(&path, error_words(&e)),
            },
            _ => self.add(vec![seen(path, stat, None)]),
        }
    }

    fn folder<'s>(&'s self, scope: &rayon::Scope<'s>, path: SystemPath, stat: Stat)
    where
        'a: 's,
    {
        if self.stop.load(Ordering::Relaxed) {
            return;
        }
        let read = || -> std::io::Result<Option<Vec<Seen>>> {
            let dir = self.machine.dir(&path)?;
            // Another file system that does not belong to the system is not covered.
            if self.machine.extent().judge(&dir)?.is_err() {
                return Ok(None);
            }
            let mut here = vec![of_folder(path.clone(), stat, &dir)?];
            for (name, _) in dir.disk().list(dir.fd())? {
                let Ok(below) = path.child(&name) else { continue };
                // What has disappeared since it was listed is not there.
                let Some(stat) = dir.look(&name)? else { continue };
                if self.coverage.leaves_out(&below) || matches!(stat.kind, FileKind::Socket | FileKind::Device) {
                    self.found.lock().unwrap_or_else(std::sync::PoisonError::into_inner).uncovered.push(below);
                    continue;
                }
                match stat.kind {
                    FileKind::Folder => scope.spawn(move |scope| self.folder(scope, below, stat)),
                    FileKind::Link => {
                        let target = dir.disk().read_link(dir.fd(), &name)?;
                        here.push(seen(below, stat, Some(target)));
                    }
                    _ => here.push(seen(below, stat, None)),
                }
            }
            Ok(Some(here))
        };
        match read() {
            Ok(Some(here)) => {
                let items = here.len() as u64;
                self.add(here);
                if self.observer.on_event(Event::Advance { items, bytes: 0 }) == Flow::Stop {
                    self.stop.store(true, Ordering::Relaxed);
                }
            }
            Ok(None) => self.found.lock().unwrap_or_else(std::sync::PoisonError::into_inner).uncovered.push(path),
            Err(e) => self.miss(&path, error_words(&e)),
        }
    }

    fn add(&self, seen: Vec<Seen>) {
        self.found.lock().unwrap_or_else(std::sync::PoisonError::into_inner).seen.extend(seen);
    }

    fn miss(&self, path: &SystemPath, why: String) {
        self.found.lock().unwrap_or_else(std::sync::PoisonError::into_inner).missing.push((path.clone(), why));
    }
}

fn seen(path: SystemPath, stat: Stat, target: Option<Vec<u8>>) -> Seen {
    Seen { path, stat, target, attributes: Vec::new(), locked: 0 }
}

fn of_folder(path: SystemPath, stat: Stat, dir: &crate::machine::Dir) -> std::io::Result<Seen> {
    let attributes = in_hex(dir.disk().xattrs(dir.fd())?);
    Ok(Seen { attributes, locked: locked_of(dir.disk(), dir.fd())?, ..seen(path, stat, None) })
}

/// Extended attributes in the order of their names, with their values in hexadecimal.
pub(super) fn in_hex(attributes: Vec<(std::ffi::OsString, Vec<u8>)>) -> Vec<(String, String)> {
    let text = |(name, value): (std::ffi::OsString, Vec<u8>)| {
        let digits = value.iter().map(|byte| format!("{byte:02x}")).collect();
        (name.to_string_lossy().into_owned(), digits)
    };
    let mut all: Vec<(String, String)> = attributes.into_iter().map(text).collect();
    all.sort();
    all
}

/// The locking inode flags of an open file.
pub(super) fn locked_of(disk: &dyn crate::machine::Disk, file: std::os::fd::BorrowedFd<'_>) -> std::io::Result<u32> {
    Ok(disk.flags(file)?.unwrap_or(0) & LOCKED)
}
