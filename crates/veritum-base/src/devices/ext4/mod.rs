//! ext2, ext3 and ext4, read without the kernel: structure and checksums of their metadata, and which file a block belongs to.
//!
//! The format is that of Documentation/filesystems/ext4 in the kernel's source.

mod check;
mod content;
#[cfg(test)]
mod crash_tests;
mod deleted;
mod folder;
mod groups;
mod inode;
mod journal;
mod mapping;
mod mountable;
mod names;
mod orphans;
mod owners;
mod replayed;
mod superblock;
#[cfg(test)]
mod tests;
mod usage;

pub use check::{Checked, Part, Problem};
pub use content::FileContent;
pub use deleted::{DeletedFile, deleted_files};
pub use folder::Name;
pub use inode::{Inode, Type};
pub use mapping::Run;
pub use mountable::MountFault;
pub use names::Paths;
pub use owners::{Owner, owners};
pub use replayed::{NotReplayed, Replayed};
pub use superblock::{MountCounts, RecordedError, Superblock};

use std::io;

use self::groups::{Group, table_blocks};
use super::{ReadAt, Source};

/// What is wrong with a part of a file system.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Fault {
    /// The medium cannot be read there.
    Unreadable,
    /// Its checksum differs.
    Checksum,
    /// It is not valid.
    Structure(&'static str),
}

impl Fault {
    fn of(error: &io::Error) -> Self {
        match error.kind() {
            io::ErrorKind::UnexpectedEof => Self::Structure("the disk ends before it"),
            _ => Self::Unreadable,
        }
    }
}

/// An open file system.
pub struct FileSystem<'a> {
    disk: Source<'a>,
    /// What its superblock says.
    pub superblock: Superblock,
    /// The group whose copy of the superblock and of the descriptors is used; 0 for the first.
    pub copy_in: u32,
    /// Why the first superblock cannot be used, if a copy is.
    pub first_is: Option<Fault>,
    /// Descriptors that are valid, by group.
    groups: Vec<Result<Group, Fault>>,
    /// Whether all that its journal had is applied, in memory.
    is_replayed: bool,
}

impl<'a> FileSystem<'a> {
    /// Opens a file system by its superblock, or by a copy of it if the first is damaged.
    ///
    /// # Errors
    /// Why there is none, or why it cannot be read.
    pub fn open(disk: &'a dyn ReadAt) -> Result<Self, &'static str> {
        Self::open_source(Source::Borrowed(disk))
    }

    fn open_source(disk: Source<'a>) -> Result<Self, &'static str> {
        let first = superblock_at(&*disk, superblock::AT);
        let (superblock, copy_in, first_is) = match first {
            Ok(superblock) if superblock.sum_is_right != Some(false) => (superblock, 0, None),
            Ok(damaged) => match copy(&*disk) {
                Some(found) => (found.0, found.1, Some(Fault::Checksum)),
                // What it says may be right but for one bit.
                None => (damaged, 0, Some(Fault::Checksum)),
            },
            Err((why, fault)) => {
                let found = copy(&*disk).ok_or(why)?;
                (found.0, found.1, Some(fault))
            }
        };
        let mut fs = Self { disk, superblock, copy_in, first_is, groups: Vec::new(), is_replayed: false };
        fs.groups = (0..fs.groups_within())
            .map(|group| fs.group(group).or_else(|why| fs.copy_of_group(group).ok_or(why)))
            .collect();
        Ok(fs)
    }

    /// Opens a file system as its journal makes it, if that is read.
    ///
    /// # Errors
    /// As for [`FileSystem::open`].
    pub fn open_with(disk: &'a dyn ReadAt, replayed: Option<&'a Replayed<'_>>) -> Result<Self, &'static str> {
        match replayed {
            Some(replayed) => Ok(Self { is_replayed: replayed.is_all(), ..Self::open(replayed)? }),
            None => Self::open(disk),
        }
    }

    /// Opens a file system that is kept with its bytes, as its journal makes it, if that can be applied.
    ///
    /// # Errors
    /// As for [`FileSystem::open`].
    pub fn open_owned<D: ReadAt + Clone + 'static>(disk: &D) -> Result<FileSystem<'static>, &'static str> {
        match Replayed::owning(Box::new(disk.clone())) {
            Ok(replayed) => {
                let is_replayed = replayed.is_all();
                Ok(FileSystem { is_replayed, ..FileSystem::open_source(Source::Owned(Box::new(replayed)))? })
            }
            Err(_) => FileSystem::open_source(Source::Owned(Box::new(disk.clone()))),
        }
    }

    /// Whether nothing writes to it, and nothing of it is kept elsewhere: it was unmounted cleanly, or its journal is applied.
    fn is_settled(&self) -> bool {
        self.superblock.clean && (self.is_replayed || !self.superblock.needs_recovery())
    }

    /// The groups that begin within the disk: a damaged superblock can name any number.
    fn groups_within(&self) -> u32 {
        let all = self.superblock.groups();
        let begins = |group: &u32| {
            self.superblock.start_of(*group).saturating_mul(self.superblock.block_size) < self.disk.size()
        };
        match begins(&(all - 1)) {
            true => all,
            false => (0..all).take_while(begins).count().try_into().unwrap_or(all),
        }
    }

    /// Whether the disk ends before the file system does.
    #[must_use]
    pub fn is_cut(&self) -> bool {
        self.superblock.blocks.saturating_mul(self.superblock.block_size) > self.disk.size()
    }

    /// Its size in bytes.
    #[must_use]
    pub fn size(&self) -> u64 {
        self.superblock.blocks.saturating_mul(self.superblock.block_size)
    }

    /// Whether a block is within the file system.
    #[must_use]
    pub fn has_block(&self, block: u64) -> bool {
        (self.superblock.first_block..self.superblock.blocks).contains(&block)
    }

    /// The bytes of a block.
    ///
    /// # Errors
    /// When the medium cannot be read there, or ends before.
    pub fn block(&self, block: u64) -> io::Result<Vec<u8>> {
        self.blocks(block, 1)
    }

    fn blocks(&self, block: u64, count: u64) -> io::Result<Vec<u8>> {
        let size = self.superblock.block_size;
        let bytes = usize::try_from(count.saturating_mul(size)).unwrap_or(usize::MAX);
        self.disk.bytes_at(block.saturating_mul(size), bytes)
    }

    /// A group's descriptor.
    fn group(&self, group: u32) -> Result<Group, Fault> {
        self.descriptor(group, 0)
    }

    /// Where the parts of a group are, by a copy of its descriptor. Copies are written when a file system is made or grows: what
    /// changes later is not known from them.
    fn copy_of_group(&self, group: u32) -> Option<Group> {
        let copies = (1..self.superblock.groups().min(MAX_COPIES)).filter(|copy| self.superblock.has_copy(*copy));
        let found = copies.filter_map(|copy| self.descriptor(group, copy).ok()).next()?;
        Some(Group { no_inodes: false, no_block_bitmap: false, unused: 0, ..found })
    }

    fn descriptor(&self, group: u32, copy_in: u32) -> Result<Group, Fault> {
        let (block, at) = self.superblock.descriptor_of(group, copy_in);
        let place = block.saturating_mul(self.superblock.block_size) + at as u64;
        let bytes = self.disk.bytes_at(place, self.superblock.descriptor_size).map_err(|e| Fault::of(&e))?;
        if groups::sum_is_right(&self.superblock, group, &bytes) == Some(false) {
            return Err(Fault::Checksum);
        }
        let found = Group::parse(&self.superblock, &bytes);
        found
            .is_plausible(&self.superblock)
            .then_some(found)
            .ok_or(Fault::Structure("it names places outside the file system"))
    }

    /// The bytes of an inode.
    fn inode_bytes(&self, number: u32) -> Result<Vec<u8>, Fault> {
        let index = number.checked_sub(1).ok_or(Fault::Structure("there is no inode 0"))?;
        let per_group = self.superblock.inodes_per_group;
        let group = self.groups.get((index / per_group) as usize).ok_or(Fault::Structure("no such inode"))?.clone()?;
        let at = u64::from(index % per_group) * self.superblock.inode_size as u64;
        let place = group.inode_table * self.superblock.block_size + at;
        self.disk.bytes_at(place, self.superblock.inode_size).map_err(|e| Fault::of(&e))
    }

    /// An inode.
    ///
    /// # Errors
    /// Why it cannot be read.
    pub fn inode(&self, number: u32) -> Result<Inode, Fault> {
        let bytes = self.inode_bytes(number)?;
        if !inode::sum_is_right(&self.superblock, number, &bytes) {
            return Err(Fault::Checksum);
        }
        Ok(Inode::parse(&self.superblock, number, &bytes))
    }

    /// The used inodes of a group, as far as they can be read, with whether each one's checksum is right.
    fn inodes_of(&self, group: u32, each: &mut dyn FnMut(u32, &[u8], bool)) -> Vec<(u64, Fault)> {
        let Some(Ok(found)) = self.groups.get(group as usize) else { return Vec::new() };
        let superblock = &self.superblock;
        if found.no_inodes {
            return Vec::new();
        }
        let count = superblock.inodes_per_group - found.unused;
        let bitmap = self.block(found.inode_bitmap).unwrap_or_default();
        let is_used = |index: u32| bitmap.get(index as usize / 8).is_none_or(|byte| byte >> (index % 8) & 1 != 0);
        let (size, per_block) = (superblock.inode_size, superblock.block_size as usize / superblock.inode_size);
        let mut bad = Vec::new();
        // Several blocks at once, one by one where they cannot be read.
        let blocks = u64::from(count).div_ceil(per_block as u64).min(table_blocks(superblock));
        let mut from = 0;
        while from < blocks {
            let step = (blocks - from).min(64);
            let (read, step) = match self.blocks(found.inode_table + from, step) {
                Ok(bytes) => (Ok(bytes), step),
                Err(_) => (self.blocks(found.inode_table + from, 1), 1),
            };
            match read {
                Ok(bytes) => {
                    let first = u32::try_from(from).unwrap_or(u32::MAX).saturating_mul(per_block as u32);
                    for (index, bytes) in
                        (first..).zip(bytes.chunks_exact(size)).take_while(|(index, _)| *index < count)
                    {
                        if is_used(index) {
                            let number = group * superblock.inodes_per_group + index + 1;
                            each(number, bytes, inode::sum_is_right(superblock, number, bytes));
                        }
                    }
                }
                Err(e) => bad.push((found.inode_table + from, Fault::of(&e))),
            }
            from += step;
        }
        bad
    }

    /// Reports every used inode whose checksum is right.
    fn each_inode(&self, each: &mut dyn FnMut(&Inode)) {
        for group in 0..self.groups.len() as u32 {
            self.inodes_of(group, &mut |number, bytes, is_right| {
                if is_right {
                    each(&Inode::parse(&self.superblock, number, bytes));
                }
            });
        }
    }

    /// The names in a folder, as far as they can be read.
    #[must_use]
    pub fn names_in(&self, folder: &Inode) -> Vec<Name> {
        self.names_and_faults(folder).0
    }
}

/// Copies in later groups are not needed.
const MAX_COPIES: u32 = 50;
/// More names in one folder are not read.
const MAX_NAMES: usize = 20_000_000;

/// The superblock at a place, or why there is none.
fn superblock_at(disk: &dyn ReadAt, at: u64) -> Result<Superblock, (&'static str, Fault)> {
    let bytes = disk.bytes_at(at, superblock::SIZE).map_err(|e| ("it cannot be read", Fault::of(&e)))?;
    let bytes: [u8; superblock::SIZE] = bytes.try_into().map_err(|_| ("it cannot be read", Fault::Unreadable))?;
    Superblock::parse(&bytes).map_err(|why| (why, Fault::Structure(why)))
}

/// A copy of the superblock, and its group. It is where the first groups of the usual sizes begin.
fn copy(disk: &dyn ReadAt) -> Option<(Superblock, u32)> {
    for (size, first) in [(4096u64, 0u64), (1024, 1), (2048, 0), (65536, 0), (8192, 0), (16384, 0), (32768, 0)] {
        for group in [1u32, 3, 5, 7, 9] {
            let at = (first + u64::from(group) * size * 8).saturating_mul(size);
            let Ok(found) = superblock_at(disk, at) else { continue };
            let fits =
                found.block_size == size && u32::from(found.group) == group && found.blocks_per_group == size * 8;
            if fits && found.sum_is_right != Some(false) {
                return Some((found, group));
            }
        }
    }
    None
}
