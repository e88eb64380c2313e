//! [`Paths`]: the names of inodes, found by reading all folders once.

use std::collections::{HashMap, HashSet};

use super::inode::{ROOT, Type};
use super::{FileSystem, Inode};

/// Folders that are deeper are named from there on.
const MAX_DEPTH: usize = 4096;
/// So many names of one inode are kept.
const MAX_NAMES: usize = 8;

/// A folder's inode, and a name in it.
type Place = (u32, Box<[u8]>);

/// The paths of some inodes within a file system.
#[derive(Debug, Default)]
pub struct Paths {
    /// Of each folder: the folder above it, and its name there.
    folders: HashMap<u32, Place>,
    /// Of each wanted inode that is no folder: where it is.
    wanted: HashMap<u32, Vec<Place>>,
    /// Folders whose names are encrypted.
    encrypted: HashSet<u32>,
}

impl Paths {
    /// Reads all folders for the names of these inodes.
    #[must_use]
    pub fn find(fs: &FileSystem<'_>, inodes: &HashSet<u32>) -> Self {
        let mut paths = Self::default();
        let mut folders = HashSet::new();
        fs.each_inode(&mut |inode| {
            if inode.kind() == Type::Folder {
                folders.insert(inode.number);
            }
        });
        fs.each_inode(&mut |inode| {
            if inode.kind() == Type::Folder {
                paths.add(fs, inode, &folders, inodes);
            }
        });
        paths
    }

    fn add(&mut self, fs: &FileSystem<'_>, folder: &Inode, folders: &HashSet<u32>, inodes: &HashSet<u32>) {
        if folder.is_encrypted() {
            self.encrypted.insert(folder.number);
        }
        for name in fs.names_in(folder) {
            if matches!(&name.name[..], b"." | b"..") {
                continue;
            }
            let place = (folder.number, name.name.into_boxed_slice());
            // A damaged inode of a folder is not among the folders; its name is wanted all the same.
            if folders.contains(&name.inode) {
                self.folders.entry(name.inode).or_insert(place);
            } else if inodes.contains(&name.inode) {
                let places = self.wanted.entry(name.inode).or_default();
                if places.len() < MAX_NAMES {
                    places.push(place);
                }
            }
        }
    }

    /// The paths of an inode, from the root of the file system; none for what no folder names.
    #[must_use]
    pub fn of(&self, inode: u32) -> Vec<Vec<u8>> {
        if inode == ROOT {
            return vec![b"/".to_vec()];
        }
        let places: Vec<&Place> = match self.folders.get(&inode) {
            Some(place) => vec![place],
            None => self.wanted.get(&inode).into_iter().flatten().collect(),
        };
        places.into_iter().filter_map(|place| self.path(place)).collect()
    }

    fn path(&self, place: &Place) -> Option<Vec<u8>> {
        let mut names = vec![self.shown(place)];
        let mut above = place.0;
        while above != ROOT {
            let place = self.folders.get(&above)?;
            names.push(self.shown(place));
            above = place.0;
            if names.len() > MAX_DEPTH {
                return None;
            }
        }
        Some(names.iter().rev().flat_map(|name| [b"/".as_slice(), name]).collect::<Vec<_>>().concat())
    }

    fn shown<'a>(&self, place: &'a Place) -> &'a [u8] {
        if self.encrypted.contains(&place.0) { b"(encrypted name)" } else { &place.1 }
    }
}
