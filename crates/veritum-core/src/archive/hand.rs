//! Packages that are at hand: in apt's cache, in folders that the operator named, among what was downloaded before.

use std::collections::{HashMap, HashSet};
use std::fs::File;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, MutexGuard, PoisonError};

use super::table::Candidate;
use crate::model::{ComponentId, SystemPath};
use crate::platform::debian::apt::split_package_name;
use crate::target::Machine;
use crate::trust::{Verified, vouch_file};

/// Where apt keeps packages that it got.
const CACHE: &str = "/var/cache/apt/archives";
/// Packages over this many in one place are not looked at.
const MAX_FILES: usize = 500_000;
/// Folders nested deeper than this are not looked into; an archive's pool has four.
const MAX_DEPTH: usize = 12;

/// A package file that may be the one that is wanted.
#[derive(Debug, Clone)]
enum Place {
    /// In apt's cache on the machine.
    Cache(Vec<u8>),
    /// On the host.
    Host(PathBuf),
}

/// A package that was found and verified.
#[derive(Debug)]
pub struct Package {
    /// The file, at its beginning.
    pub file: Verified<File>,
    /// Where it was found, for people.
    pub from: String,
}

/// What lies at hand, by component's name and architecture.
#[derive(Debug, Default)]
pub struct AtHand {
    cache: Option<SystemPath>,
    places: HashMap<(String, String), Vec<Place>>,
    downloads: PathBuf,
    /// Files that turned out to be something else than the package they seemed to be, with the digest wanted of them.
    other: Mutex<HashSet<(String, String)>>,
}

impl AtHand {
    /// Looks at the names in apt's cache, and in the operator's folders and what lies below them.
    #[must_use]
    pub fn look(machine: &Machine, folders: &[PathBuf], downloads: &Path) -> Self {
        let mut hand = Self { downloads: downloads.to_owned(), ..Self::default() };
        if let Ok(cache) = machine.resolve(&SystemPath::literal(CACHE)) {
            let names = machine.dir(&cache).and_then(|d| d.disk().list(d.fd())).unwrap_or_default();
            for (name, _) in names.into_iter().take(MAX_FILES) {
                hand.take(&name.clone(), Place::Cache(name));
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
            self.take(&name, Place::Host(folder.to_owned()));
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
            // Links between folders are not followed: install media have some that lead in circles.
            if kind.is_dir() && depth < MAX_DEPTH {
                self.walk(&entry.path(), depth + 1, left);
            } else if kind.is_file() {
                self.take(entry.file_name().as_bytes(), Place::Host(entry.path()));
            }
        }
    }

    fn take(&mut self, name: &[u8], place: Place) {
        if let Some((package, arch)) = std::str::from_utf8(name).ok().and_then(split_package_name) {
            self.places.entry((package.to_owned(), arch.to_owned())).or_default().push(place);
        }
    }

    /// Where a package of this digest is or will be among the downloads.
    #[must_use]
    pub fn download_place(&self, candidate: &Candidate) -> PathBuf {
        self.downloads.join(format!("{}.deb", candidate.sum.get().hex()))
    }

    fn open(&self, machine: &Machine, place: &Place) -> Option<(File, String)> {
        match place {
            Place::Cache(name) => {
                let cache = self.cache.as_ref()?;
                let dir = machine.dir(cache).ok()?;
                let stat = dir.look(name).ok()??;
                if stat.kind != crate::model::FileKind::File {
                    return None;
                }
                let file = File::from(dir.disk().open_file(dir.fd(), name).ok()?);
                Some((file, cache.child(name).ok()?.to_string()))
            }
            Place::Host(path) => Some((File::open(path).ok()?, path.display().to_string())),
        }
    }

    /// Whether a file of the right name and size is there; of its content only what was seen before counts.
    #[must_use]
    pub fn has(&self, machine: &Machine, id: &ComponentId, candidate: &Candidate) -> bool {
        self.files(machine, id, candidate).next().is_some()
    }

    /// The files that could be this package, with where they are.
    fn files<'a>(
        &'a self,
        machine: &'a Machine,
        id: &ComponentId,
        candidate: &'a Candidate,
    ) -> impl Iterator<Item = (File, String)> + 'a {
        let downloaded = Place::Host(self.download_place(candidate));
        let known = self.places.get(&(id.name.clone(), id.arch.clone())).cloned().unwrap_or_default();
        let fits = |file: &File| file.metadata().is_ok_and(|m| m.is_file() && m.len() == candidate.sum.get().size);
        let wanted = candidate.sum.get().hex();
        let other = move |from: &String| self.others().contains(&(from.clone(), wanted.clone()));
        let all = known.into_iter().chain([downloaded]).filter_map(|place| self.open(machine, &place));
        all.filter(move |(file, from)| fits(file) && !other(from))
    }

    /// The package, verified; files of its name with another content are passed over.
    #[must_use]
    pub fn find(&self, machine: &Machine, id: &ComponentId, candidate: &Candidate) -> Option<Package> {
        self.files(machine, id, candidate).find_map(|(file, from)| match vouch_file(file, &candidate.sum) {
            Ok(Ok(file)) => Some(Package { file, from }),
            _ => {
                self.others().insert((from, candidate.sum.get().hex()));
                None
            }
        })
    }

    fn others(&self) -> MutexGuard<'_, HashSet<(String, String)>> {
        self.other.lock().unwrap_or_else(PoisonError::into_inner)
    }
}
