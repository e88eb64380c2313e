//! What keeps the kernel from mounting a file system whose superblock is valid, or from finding anything in it.

use super::FileSystem;
use super::inode::ROOT;
use super::journal::{ELSEWHERE, Journal, UNKNOWN};

/// A reason for which the kernel does not mount a file system, or finds nothing in it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MountFault {
    /// So many group descriptors are not valid: here their copies are used, which neither the kernel nor boot loaders do.
    Descriptors(u32),
    /// The journal cannot be used, and why.
    Journal(&'static str),
    /// The root folder cannot be read.
    Root,
}

impl FileSystem<'_> {
    /// Why the kernel does not mount it, or finds nothing in it, beside its superblock.
    #[must_use]
    pub fn mount_faults(&self) -> Vec<MountFault> {
        let descriptors = (0..self.groups_within()).filter(|group| self.group(*group).is_err()).count();
        let descriptors = u32::try_from(descriptors).ok().filter(|count| *count > 0).map(MountFault::Descriptors);
        let is_read = self.inode(ROOT).is_ok_and(|inode| self.entries_of(&inode).1 == 0);
        let journal = self.journal_fault().map(MountFault::Journal);
        descriptors.into_iter().chain(journal).chain((!is_read).then_some(MountFault::Root)).collect()
    }

    /// Why its journal cannot be used, if it has one that is damaged.
    #[must_use]
    pub fn journal_fault(&self) -> Option<&'static str> {
        let why = Journal::open(self).err()?;
        (![ELSEWHERE, UNKNOWN].contains(&why)).then_some(why)
    }
}
