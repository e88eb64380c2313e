//! Comparing stored files with their manifest, later and on any machine.

use std::os::fd::AsFd as _;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use rayon::prelude::*;

use super::RescueError;
use super::copy::digest_of;
use super::manifest::{EntryLine, Manifest, ManifestError, NAME, RunLine};
use crate::event::{Event, Flow, Observer, Phase};
use crate::machine::{Dir, Disk};
use crate::model::{FileKind, SystemPath, error_words};
use crate::report::Count;

/// A stored file that is not as the manifest says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StoredProblem {
    /// Its user.
    pub user: String,
    /// Its path on the machine it comes from.
    pub path: SystemPath,
    /// Its path below the folder.
    pub stored: SystemPath,
    /// What is wrong.
    pub why: String,
}

/// The result of a comparison.
#[derive(Debug, Default)]
pub struct Verified {
    /// The folder with the manifest.
    pub folder: PathBuf,
    /// The first run that it records.
    pub run: Option<RunLine>,
    /// What is as the manifest says.
    pub intact: Count,
    /// What was copied with gaps, and is as the manifest says.
    pub incomplete: Vec<EntryLine>,
    /// Symlinks that are only recorded.
    pub only_recorded: u64,
    /// What is not as the manifest says.
    pub problems: Vec<StoredProblem>,
    /// The number of damaged lines of the manifest.
    pub damaged_lines: u64,
    /// Whether it was interrupted.
    pub stopped: bool,
}

/// Opens the folder with a manifest: the one that was named, or the only one in it.
///
/// # Errors
/// When there is none, or several.
pub fn find(named: &Path, disk: &Arc<dyn Disk>) -> Result<(PathBuf, Dir), RescueError> {
    let fail = |e: std::io::Error| RescueError::Manifest { place: named.to_owned(), source: ManifestError::Read(e) };
    let top = Dir::handed_over(disk.clone(), disk.open_root(named).map_err(fail)?);
    if top.look(NAME).map_err(fail)?.is_some() {
        return Ok((named.to_owned(), top));
    }
    let mut found = Vec::new();
    for (name, _) in disk.list(top.fd()).map_err(fail)? {
        let Ok(below) = disk.open_dir(top.fd(), &name).map(|fd| top.beside(fd)) else { continue };
        if below.look(NAME).is_ok_and(|there| there.is_some()) {
            use std::os::unix::ffi::OsStrExt as _;
            found.push((named.join(std::ffi::OsStr::from_bytes(&name)), below));
        }
    }
    match (found.pop(), found.is_empty()) {
        (Some(only), true) => Ok(only),
        (Some(_), false) => Err(fail(std::io::Error::other("it contains several rescues: name one of them"))),
        (None, _) => Err(RescueError::Manifest { place: named.to_owned(), source: ManifestError::Foreign }),
    }
}

/// Reads all stored files, and compares them with the manifest.
///
/// # Errors
/// When there is no manifest that can be used.
pub fn verify(
    named: &Path,
    disk: &Arc<dyn Disk>,
    pool: &rayon::ThreadPool,
    observer: &dyn Observer,
) -> Result<Verified, RescueError> {
    let (folder, top) = find(named, disk)?;
    let manifest = match Manifest::read(&top) {
        Ok(manifest) => manifest,
        Err(source) => return Err(RescueError::Manifest { place: folder, source }),
    };
    let mut entries: Vec<&EntryLine> = manifest.entries.values().filter(|e| e.is != FileKind::Folder).collect();
    entries.sort_by(|a, b| a.stored.cmp(&b.stored));
    let bytes = entries.iter().map(|entry| entry.size).fold(1, u64::saturating_add);
    observer.on_event(Event::Begin { phase: Phase::ReadingBack, items: entries.len() as u64, bytes });
    let compared: Vec<Option<Result<(), String>>> = pool.install(|| {
        let each = entries.par_iter().map(|entry| {
            let go_on = observer.on_event(Event::Advance { items: 0, bytes: 0 }) == Flow::Continue;
            go_on.then(|| {
                let done = compare(&top, entry);
                observer.on_event(Event::Advance { items: 1, bytes: entry.size });
                done
            })
        });
        each.collect()
    });
    observer.on_event(Event::End);
    let mut verified = Verified { folder, run: manifest.first, damaged_lines: manifest.damaged, ..Verified::default() };
    for (entry, compared) in entries.into_iter().zip(compared) {
        match (compared, &entry.stored) {
            (None, _) => verified.stopped = true,
            (Some(Ok(())), None) => verified.only_recorded += 1,
            (Some(Ok(())), Some(_)) if !entry.gaps.is_empty() => verified.incomplete.push(entry.clone()),
            (Some(Ok(())), Some(_)) => {
                verified.intact.files += 1;
                verified.intact.bytes = verified.intact.bytes.saturating_add(entry.size);
            }
            (Some(Err(why)), stored) => {
                let (user, path) = (entry.user.clone(), entry.path.clone());
                let stored = stored.clone().unwrap_or_else(SystemPath::root);
                verified.problems.push(StoredProblem { user, path, stored, why });
            }
        }
    }
    Ok(verified)
}

/// Compares a stored file with its line. `Err` says what is wrong.
fn compare(top: &Dir, entry: &EntryLine) -> Result<(), String> {
    let Some(stored) = &entry.stored else { return Ok(()) };
    let words = |e: std::io::Error| match e.kind() {
        std::io::ErrorKind::NotFound => "it is missing".to_owned(),
        _ => error_words(&e),
    };
    let above = stored.parent().unwrap_or_else(SystemPath::root);
    let dir = top.disk().open_dir(top.fd(), above.relative()).map(|fd| top.beside(fd)).map_err(words)?;
    let disk = dir.disk();
    if entry.is == FileKind::Link {
        let target = disk.read_link(dir.fd(), stored.name()).map_err(words)?;
        let is_same = entry.target.as_ref().is_some_and(|known| known.0 == target);
        return if is_same { Ok(()) } else { Err("it points to another place".into()) };
    }
    let file = disk.open_file(dir.fd(), stored.name()).map_err(words)?;
    let size = disk.look_open(file.as_fd()).map_err(words)?.size;
    if size != entry.size {
        return Err(format!("it has {size} bytes instead of {}", entry.size));
    }
    let _ = disk.forget(file.as_fd());
    let digest = digest_of(size, &|at, into| disk.read_at(file.as_fd(), at, into)).map_err(words)?;
    if digest == entry.blake3 { Ok(()) } else { Err("its content was changed".into()) }
}
