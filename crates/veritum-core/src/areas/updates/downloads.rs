//! Downloaded packages, compared with the signed index that lists them.

use std::io;

use rayon::prelude::*;

use super::{ExaminedPart, VerifiedDownload, at_path, to_set_aside};
use crate::event::{Event, Flow, Observer, Phase};
use crate::machine::{Dir, Machine};
use crate::model::{Authority, FileKind, PackageId, SystemPath, Verdict};
use crate::platform::debian::apt::{CACHE, FileSum, LISTS, package_of_deb_name};
use crate::scan::{Files, Stopped, digest_files};
use crate::trust::FileSums;

/// No more than this many names in one folder are examined.
const MAX_NAMES: usize = 500_000;

/// The packages in verified indexes.
pub(crate) struct Offers<'a> {
    /// Sizes and digests of exactly this package's .deb files.
    pub(crate) sums: &'a (dyn Fn(&PackageId) -> Vec<FileSum> + Sync),
    /// Whether any version of its name and architecture is listed.
    pub(crate) listed: &'a (dyn Fn(&PackageId) -> bool + Sync),
    /// Folders that point into protected places: they are not examined.
    pub(crate) escaping_links: &'a [SystemPath],
}

/// The judgement of a downloaded file.
enum Judged {
    Right,
    /// A partial download.
    Begun(u64),
    CutShort {
        has: u64,
        of: u64,
    },
    Altered,
    Superseded,
    Unknown,
    Unreadable(String),
    Forbidden,
    NoFile(FileKind),
}

/// The packages whose .deb files are in the cache or partially downloaded, by file names.
pub(crate) fn downloaded(machine: &Machine) -> Vec<PackageId> {
    let folders = [CACHE.as_bytes().to_vec(), [CACHE.as_bytes(), b"/partial"].concat()];
    let names = folders.iter().flat_map(|folder| {
        let dir =
            SystemPath::parse(folder).ok().and_then(|f| machine.resolve(&f).and_then(|real| machine.dir(&real)).ok());
        dir.and_then(|dir| dir.disk().list(dir.fd()).ok()).unwrap_or_default().into_iter().take(MAX_NAMES)
    });
    names.filter_map(|(name, _)| package_of_deb_name(std::str::from_utf8(&name).ok()?)).collect()
}

/// Reports folders of apt's that lead into a protected place; returns them.
pub(crate) fn escaping_links(
    machine: &Machine,
    protected: &dyn Fn(&SystemPath) -> Option<String>,
) -> (ExaminedPart, Vec<SystemPath>) {
    let mut part = ExaminedPart::default();
    let mut out: Vec<SystemPath> = Vec::new();
    for folder in [CACHE, LISTS].iter().flat_map(|top| [(*top).to_owned(), format!("{top}/partial")]) {
        let Ok(folder) = SystemPath::parse(folder.as_bytes()) else { continue };
        let Ok(real) = machine.resolve(&folder) else { continue };
        let Some(why) = protected(&real).filter(|_| real != folder) else { continue };
        if out.iter().any(|above| folder.is_within(above)) {
            continue;
        }
        let advice = "find out who created the symlink; if it is not needed, replace it by a folder";
        part.add(at_path(&folder, Verdict::WrongType, &format!("points to {real}: {why}"), Some(advice.into())));
        out.push(folder);
    }
    (part, out)
}

/// Reports other objects in place of apt's folders. apt creates a missing folder by itself; anything else
/// prevents it from working.
pub(crate) fn folders(machine: &Machine) -> ExaminedPart {
    let mut part = ExaminedPart::default();
    for top in [CACHE, LISTS].map(SystemPath::literal) {
        for folder in [Some(top.clone()), top.join(b"partial").ok()].into_iter().flatten() {
            let Some(why) = no_folder(machine, &folder) else { continue };
            part.add(to_set_aside(at_path(&folder, Verdict::WrongType, &why, None)));
            break;
        }
    }
    part
}

/// The object in place of a folder.
fn no_folder(machine: &Machine, folder: &SystemPath) -> Option<String> {
    let above = machine.resolve(&folder.parent()?).and_then(|real| machine.dir(&real)).ok()?;
    let stat = above.look(folder.name()).ok()??;
    let enters = || machine.resolve(folder).and_then(|real| machine.dir(&real));
    match stat.kind {
        FileKind::Folder => None,
        FileKind::Link => match enters() {
            Err(e) if e.kind() == io::ErrorKind::NotFound => Some("a dangling symlink is in place of a folder".into()),
            Err(e) if e.kind() == io::ErrorKind::NotADirectory => {
                Some("a symlink to something other than a folder is in place of a folder".into())
            }
            _ => None,
        },
        kind => Some(format!("a {} is in place of a folder", kind.word())),
    }
}

/// Reports partially downloaded lists: apt resumes or deletes them.
pub(crate) fn begun_lists(machine: &Machine) -> ExaminedPart {
    let mut part = ExaminedPart::default();
    let Ok(folder) = SystemPath::literal(LISTS).join(b"partial") else { return part };
    let dir = machine.resolve(&folder).and_then(|real| machine.dir(&real));
    let names = dir.and_then(|dir| dir.disk().list(dir.fd())).unwrap_or_default();
    part.examined += 1;
    for (name, _) in names.into_iter().take(MAX_NAMES) {
        if let Ok(path) = folder.child(&name) {
            part.add(at_path(
                &path,
                Verdict::Partial,
                "a package list is being downloaded, or is left over from an interrupted run",
                None,
            ));
        }
    }
    part
}

/// Judges the cache and partial downloads.
///
/// # Errors
/// When the observer stopped the run.
pub(crate) fn downloads(
    machine: &Machine,
    offers: &Offers<'_>,
    pool: &rayon::ThreadPool,
    observer: &dyn Observer,
) -> Result<ExaminedPart, Stopped> {
    let mut part = ExaminedPart::default();
    let cache = SystemPath::literal(CACHE);
    for folder in [cache.clone(), cache.join(b"partial").unwrap_or(cache)] {
        if offers.escaping_links.iter().any(|out| folder.is_within(out)) {
            continue;
        }
        let partial = folder.name() == b"partial";
        let listed = machine.resolve(&folder).and_then(|real| machine.dir(&real)).and_then(|dir| {
            let names = dir.disk().list(dir.fd())?;
            Ok((dir, names))
        });
        let (dir, names) = match listed {
            Ok(listed) => listed,
            // Other objects there are reported with the folder.
            Err(e) if matches!(e.kind(), io::ErrorKind::NotFound | io::ErrorKind::NotADirectory) => continue,
            Err(e) => {
                part.unexamined.push((format!("downloaded files: {}", why_not(&e)), 1, Some(folder)));
                continue;
            }
        };
        let mut names: Vec<Vec<u8>> = names.into_iter().map(|(name, _)| name).collect();
        names.retain(|name| name != b"lock" && name != b"partial");
        names.sort();
        if names.len() > MAX_NAMES {
            let rest = (names.len() - MAX_NAMES) as u64;
            part.unexamined.push((format!("more than {MAX_NAMES} files in {folder}"), rest, None));
            names.truncate(MAX_NAMES);
        }
        observer.on_event(Event::Begin { phase: Phase::Downloads, items: names.len() as u64, bytes: 0 });
        let judged = judge_all(&dir, &names, partial, offers, pool, observer)?;
        observer.on_event(Event::End);
        for (name, (judged, bytes)) in names.iter().zip(judged) {
            part.bytes += bytes;
            let package = std::str::from_utf8(name).ok().and_then(package_of_deb_name);
            if let (Judged::Right, Ok(path), Some(package)) = (&judged, folder.child(name), package) {
                part.verified.push(VerifiedDownload { path, bytes, package });
            }
            if let Ok(path) = folder.child(name) {
                tell(&mut part, &path, partial, judged);
            }
        }
    }
    Ok(part)
}

/// The judgements of files with the number of bytes read, in the order of their names.
fn judge_all(
    dir: &Dir,
    names: &[Vec<u8>],
    partial: bool,
    offers: &Offers<'_>,
    pool: &rayon::ThreadPool,
    observer: &dyn Observer,
) -> Result<Vec<(Judged, u64)>, Stopped> {
    let looked: Vec<Looked> = pool.install(|| names.par_iter().map(|name| look(dir, name, partial, offers)).collect());
    let seen = looked.iter().filter(|one| matches!(one, Looked::Judged(_))).count() as u64;
    if observer.on_event(Event::Advance { items: seen, bytes: 0 }) == Flow::Stop {
        return Err(Stopped);
    }
    let read: Vec<(&[u8], u64)> = std::iter::zip(names, &looked)
        .filter_map(|(name, one)| if let Looked::Sized(size, _) = one { Some((&name[..], *size)) } else { None })
        .collect();
    let sizes: Vec<u64> = read.iter().map(|(_, size)| *size).collect();
    let open = |at: usize| dir.disk().open_file(dir.fd(), read[at].0);
    let files = Files { disk: dir.disk(), sizes: &sizes, open: &open, with_blake3: false };
    // One for each file with a size, in the same order.
    let mut sums = digest_files(&files, pool, observer)?.into_iter();
    let judged = looked.into_iter().map(|one| match one {
        Looked::Judged(judged) => (judged, 0),
        Looked::Sized(_, wanted) => {
            let sums = sums.next().unwrap_or_else(|| Err(io::ErrorKind::NotFound.into()));
            judge_sums(&wanted, &sums)
        }
    });
    Ok(judged.collect())
}

/// The result of the first look at a file.
enum Looked {
    /// With its judgement.
    Judged(Judged),
    /// It has this size, which these packages have.
    Sized(u64, Vec<FileSum>),
}

fn look(dir: &Dir, name: &[u8], partial: bool, offers: &Offers<'_>) -> Looked {
    let stat = match dir.look(name) {
        Ok(Some(stat)) => stat,
        // Deleted in the meantime: treated as if it had never existed.
        Ok(None) => return Looked::Judged(Judged::Superseded),
        Err(e) => return Looked::Judged(unreadable(&e)),
    };
    if stat.kind != FileKind::File {
        return Looked::Judged(Judged::NoFile(stat.kind));
    }
    let Some(id) = std::str::from_utf8(name).ok().and_then(package_of_deb_name) else {
        return Looked::Judged(Judged::Unknown);
    };
    let (same, other): (Vec<FileSum>, Vec<FileSum>) =
        (offers.sums)(&id).into_iter().partition(|sum| sum.size == stat.size);
    if !same.is_empty() {
        return Looked::Sized(stat.size, same);
    }
    Looked::Judged(match other.iter().map(|sum| sum.size).max() {
        Some(size) if stat.size < size && partial => Judged::Begun(size),
        Some(size) if stat.size < size => Judged::CutShort { has: stat.size, of: size },
        Some(_) => Judged::Altered,
        None if (offers.listed)(&id) => Judged::Superseded,
        None => Judged::Unknown,
    })
}

fn judge_sums(wanted: &[FileSum], sums: &io::Result<FileSums>) -> (Judged, u64) {
    match sums {
        Ok(found) if wanted.iter().any(|sum| sum.sha256 == *found.sha256()) => (Judged::Right, found.bytes()),
        Ok(found) => (Judged::Altered, found.bytes()),
        Err(e) => (unreadable(e), 0),
    }
}

fn unreadable(error: &io::Error) -> Judged {
    match error.kind() {
        io::ErrorKind::PermissionDenied => Judged::Forbidden,
        _ => Judged::Unreadable(crate::model::error_words(error)),
    }
}

/// Why something could not be examined.
fn why_not(error: &io::Error) -> String {
    match error.kind() {
        io::ErrorKind::PermissionDenied => "needs root".into(),
        _ => crate::model::error_words(error),
    }
}

fn tell(part: &mut ExaminedPart, path: &SystemPath, partial: bool, judged: Judged) {
    let finding = match judged {
        Judged::Right => return part.saw(Authority::Repository, 1),
        Judged::Forbidden => return part.passed_over("needs root", path),
        Judged::Begun(size) => {
            part.saw(Authority::Repository, 1);
            at_path(
                path,
                Verdict::Partial,
                &format!("{size} bytes downloaded so far, or left over from an interrupted run"),
                None,
            )
        }
        Judged::CutShort { has, of } => {
            part.saw(Authority::Repository, 1);
            to_set_aside(at_path(path, Verdict::Truncated, &format!("{has} of {of} bytes"), None))
        }
        Judged::Altered => {
            part.saw(Authority::Repository, 1);
            let cause = match partial {
                true => "the partial download differs from the signed file, and apt would resume it",
                false => "checksum differs from the signed index",
            };
            to_set_aside(at_path(path, Verdict::Altered, cause, None))
        }
        Judged::Superseded => at_path(path, Verdict::Superseded, "the repository lists another version now", None),
        Judged::Unknown => at_path(path, Verdict::Unverified, "not listed in any repository index", None),
        Judged::Unreadable(why) => at_path(path, Verdict::Unreadable, &format!("reading gives an error: {why}"), None),
        Judged::NoFile(kind) => {
            let cause = format!("a {} is in place of a download", kind.word());
            to_set_aside(at_path(path, Verdict::WrongType, &cause, None))
        }
    };
    part.add(finding);
}
