//! Available packages: in apt's cache, in folders that the administrator named, among earlier downloads.

use std::collections::{HashMap, HashSet};
use std::fs::File;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, MutexGuard, PoisonError};

use super::FetchError;
use super::table::Candidate;
use crate::machine::Machine;
use crate::model::{FileKind, PackageId, SystemPath};
use crate::platform::debian::apt::{CACHE, split_deb_name};
use crate::trust::{Verified, verify_file};

/// Further packages in one place are not examined.
const MAX_FILES: usize = 500_000;
/// Deeper folders are not searched; a repository's pool has four levels.
const MAX_DEPTH: usize = 12;

/// A package file that may be the wanted one.
#[derive(Debug, Clone)]
enum Place {
    /// In apt's cache on the machine.
    Cache(Vec<u8>),
    /// In a repository's folder on the machine.
    OnMachine(SystemPath),
    /// On the host.
    Host(PathBuf),
}

/// A package that was found and verified.
#[derive(Debug)]
pub struct Deb {
    /// The file, at its beginning.
    pub file: Verified<File>,
    /// Its source, for people.
    pub from: String,
}

/// Available packages, by name and architecture.
#[derive(Debug, Default)]
pub struct AtHand {
    cache: Option<SystemPath>,
    places: HashMap<(String, String), Vec<Place>>,
    /// Folders of the machine that are repositories, by the position of their source.
    repositories: HashMap<usize, SystemPath>,
    downloads: PathBuf,
    /// Files that differ from the package that their name indicates, with the wanted digest.
    other: Mutex<HashSet<(String, String)>>,
}

impl AtHand {
    /// Lists the names in apt's cache, and in the administrator's folders with their subfolders.
    #[must_use]
    pub fn look(machine: &Machine, folders: &[PathBuf], downloads: &Path) -> Self {
        let mut hand = Self { downloads: downloads.to_owned(), ..Self::default() };
        if let Some((cache, names)) = in_cache(machine) {
            for name in names {
                hand.add(&name.clone(), Place::Cache(name));
            }
            hand.cache = Some(cache);
        }
        for folder in folders {
            let mut left = MAX_FILES;
            hand.walk(folder, 0, &mut left);
        }
        hand
    }

    fn walk(&mut self, folder: &Path, depth: usize, left: &mut usize) {
        use std::os::unix::ffi::OsStrExt as _;
        if folder.is_file() {
            let name = folder.file_name().map(|n| n.as_bytes().to_vec()).unwrap_or_default();
            self.add(&name, Place::Host(folder.to_owned()));
            return;
        }
        let mut entries: Vec<_> = std::fs::read_dir(folder).into_iter().flatten().flatten().collect();
        entries.sort_by_key(std::fs::DirEntry::file_name);
        for entry in entries {
            *left = left.saturating_sub(1);
            if *left == 0 {
                return;
            }
            let Ok(kind) = entry.file_type() else { continue };
            // Symlinks between folders are not followed: on some install media they form loops.
            if kind.is_dir() && depth < MAX_DEPTH {
                self.walk(&entry.path(), depth + 1, left);
            } else if kind.is_file() {
                self.add(entry.file_name().as_bytes(), Place::Host(entry.path()));
            }
        }
    }

    fn add(&mut self, name: &[u8], place: Place) {
        if let Some((deb, arch)) = std::str::from_utf8(name).ok().and_then(split_deb_name) {
            self.places.entry((deb.to_owned(), arch.to_owned())).or_default().push(place);
        }
    }

    /// The names of the packages in apt's cache.
    pub(super) fn cached_names(&self) -> impl Iterator<Item = &str> {
        let cached = self.places.iter().filter(|(_, places)| places.iter().any(|p| matches!(p, Place::Cache(_))));
        cached.map(|((name, _), _)| name.as_str())
    }

    /// Adds a source that is a folder of the machine: apt installs packages from there without a copy in its cache.
    pub fn add_repository(&mut self, source: usize, folder: SystemPath) {
        self.repositories.insert(source, folder);
    }

    /// The path of a package with this digest among the downloads.
    #[must_use]
    pub fn download_place(&self, candidate: &Candidate) -> PathBuf {
        self.downloads.join(format!("{}.deb", candidate.sum.get().hex()))
    }

    /// Why this many bytes cannot be downloaded; `None` if there is enough free space, or it is unknown.
    pub(super) fn no_room_for(&self, bytes: u64) -> Option<FetchError> {
        // The folder may not exist yet; its parent's file system counts.
        let stat = self.downloads.ancestors().find_map(|folder| rustix::fs::statvfs(folder).ok())?;
        let free = stat.f_bavail.saturating_mul(stat.f_frsize);
        let lacks = bytes.saturating_sub(free).div_ceil(1 << 20);
        (bytes > free)
            .then(|| FetchError::Disk(format!("{} needs {lacks} MiB more free space", self.downloads.display())))
    }

    fn open(&self, machine: &Machine, place: &Place) -> Option<(File, String)> {
        match place {
            Place::Cache(name) => {
                let path = self.cache.as_ref()?.child(name).ok()?;
                Some((open_on(machine, &path)?, path.to_string()))
            }
            Place::OnMachine(path) => Some((open_on(machine, path)?, path.to_string())),
            Place::Host(path) => Some((open_on_host(path)?, path.display().to_string())),
        }
    }

    /// Whether a file of the right name and size exists; earlier results about its content are taken into account.
    #[must_use]
    pub fn has(&self, machine: &Machine, id: &PackageId, candidate: &Candidate) -> bool {
        self.files(machine, id, candidate).next().is_some()
    }

    /// The files that could be this package, with their locations.
    fn files<'a>(
        &'a self,
        machine: &'a Machine,
        id: &PackageId,
        candidate: &'a Candidate,
    ) -> impl Iterator<Item = (File, String)> + 'a {
        let downloaded = Place::Host(self.download_place(candidate));
        let in_repository =
            self.repositories.get(&candidate.source).and_then(|f| f.join(candidate.path.as_bytes()).ok());
        let in_repository = in_repository.and_then(|path| machine.resolve(&path).ok()).map(Place::OnMachine);
        let known = self.places.get(&(id.name.clone(), id.arch.clone())).cloned().unwrap_or_default();
        let fits = |file: &File| file.metadata().is_ok_and(|m| m.is_file() && m.len() == candidate.sum.get().size);
        let wanted = candidate.sum.get().hex();
        let other = move |from: &String| self.others().contains(&(from.clone(), wanted.clone()));
        let all =
            known.into_iter().chain(in_repository).chain([downloaded]).filter_map(|place| self.open(machine, &place));
        all.filter(move |(file, from)| fits(file) && !other(from))
    }

    /// The package, verified; files of its name with another content are skipped.
    #[must_use]
    pub fn find(&self, machine: &Machine, id: &PackageId, candidate: &Candidate) -> Option<Deb> {
        self.files(machine, id, candidate).find_map(|(file, from)| match verify_file(file, &candidate.sum) {
            Ok(Ok(file)) => Some(Deb { file, from }),
            _ => {
                self.others().insert((from, candidate.sum.get().hex()));
                None
            }
        })
    }

    /// The first file that could be this package, unverified, with its source.
    pub(super) fn first(&self, machine: &Machine, id: &PackageId, candidate: &Candidate) -> Option<(File, String)> {
        self.files(machine, id, candidate).next()
    }

    fn others(&self) -> MutexGuard<'_, HashSet<(String, String)>> {
        self.other.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// apt's cache and the names in it.
fn in_cache(machine: &Machine) -> Option<(SystemPath, Vec<Vec<u8>>)> {
    let cache = machine.resolve(&SystemPath::literal(CACHE)).ok()?;
    let names = machine.dir(&cache).and_then(|d| d.disk().list(d.fd())).unwrap_or_default();
    Some((cache, names.into_iter().take(MAX_FILES).map(|(name, _)| name).collect()))
}

/// Whether apt's cache has a package of that name, judged by file names.
pub fn is_in_cache(machine: &Machine, is_wanted: &dyn Fn(&str) -> bool) -> bool {
    let is_wanted = |name: &Vec<u8>| {
        let deb = std::str::from_utf8(name).ok().and_then(split_deb_name);
        deb.is_some_and(|(deb, _)| is_wanted(deb))
    };
    in_cache(machine).is_some_and(|(_, names)| names.iter().any(is_wanted))
}

/// Opens a regular file of the machine.
fn open_on(machine: &Machine, physical: &SystemPath) -> Option<File> {
    let dir = machine.dir(&physical.parent()?).ok()?;
    let stat = dir.look(physical.name()).ok()??;
    let regular = stat.kind == FileKind::File;
    regular.then(|| dir.disk().open_file(dir.fd(), physical.name()).ok().map(File::from))?
}

/// Opens a regular file of the host, without waiting for a pipe in its place.
fn open_on_host(path: &Path) -> Option<File> {
    use std::os::unix::fs::OpenOptionsExt as _;
    let flags = rustix::fs::OFlags::NONBLOCK.bits().cast_signed();
    std::fs::OpenOptions::new().read(true).custom_flags(flags).open(path).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_has_no_room_is_refused_before_anything_is_downloaded() {
        let dir = tempfile::tempdir().unwrap();
        // The folder itself is only made when something comes.
        let hand = AtHand { downloads: dir.path().join("not/there/yet"), ..AtHand::default() };
        assert_eq!(hand.no_room_for(1), None);
        let refused = hand.no_room_for(u64::MAX).unwrap().to_string();
        assert!(refused.contains("more free space") && refused.contains("not/there/yet"), "{refused}");
    }
}
