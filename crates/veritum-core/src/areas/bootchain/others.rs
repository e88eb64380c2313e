//! Other systems on the disks: they are named, and their boot loaders are not judged.

use super::layout::Layout;
use crate::areas::Examined;
use crate::machine::{LoaderFolder, boot_volume, loader_folders, raw_systems};

/// The boot loaders of this system and of others.
pub(super) struct Others {
    own: Vec<LoaderFolder>,
    others: Vec<LoaderFolder>,
}

impl Others {
    pub(super) fn find(layout: &Layout) -> Self {
        let is_own = |folder: &LoaderFolder| layout.is_mounted(folder.volume);
        let (own, others) = loader_folders(&layout.set).into_iter().partition(is_own);
        Self { own, others }
    }

    /// The volume with the files of the boot loader that was written to a disk, if it is not this system's.
    pub(super) fn on_disk(&self, layout: &Layout, disk: usize) -> Option<usize> {
        let is_on = |folder: &&LoaderFolder| folder.is_on(&layout.set, disk);
        let other = self.others.iter().find(is_on)?;
        // A copy of a system has the same files.
        self.own.iter().find(is_on).is_none().then_some(other.volume)
    }

    /// The volume with the files of a boot loader of another system, by its partition on a disk.
    pub(super) fn on_partition(&self, layout: &Layout, disk: usize, number: u32) -> Option<usize> {
        let is = |volume: usize| {
            let found = layout.volume(volume);
            found.disk == disk && found.partition.as_ref().is_some_and(|partition| partition.number == number)
        };
        self.others.iter().map(|folder| folder.volume).find(|volume| is(*volume))
    }

    /// The volume with the files of a boot loader of another system that searches for a file system.
    pub(super) fn searched(&self, layout: &Layout, uuid: &str) -> Option<usize> {
        let is = |volume: usize| layout.volume(volume).contains.as_ref().is_some_and(|found| found.uuid == uuid);
        self.others.iter().map(|folder| folder.volume).find(|volume| is(*volume))
    }
}

/// The volume that looks like /boot of the system with this root, if that is not mounted.
pub(super) fn boot_of(layout: &Layout, root: usize) -> Option<usize> {
    boot_volume(&layout.set, layout.volume(root).disk).filter(|volume| !layout.is_mounted(*volume))
}

/// Names the systems that were not examined. `can_choose` says whether --partition chooses one of them.
pub(super) fn name(layout: &Layout, can_choose: bool, examined: &mut Examined) {
    for volume in raw_systems(&layout.set).into_iter().filter(|volume| !layout.is_mounted(*volume)) {
        let number = layout.volume(volume).partition.as_ref().map(|partition| partition.number);
        let how = number.filter(|_| can_choose).map_or_else(String::new, |number| format!(" (--partition {number})"));
        examined.note_extent(format!("another system, on {}, was not examined{how}", layout.volume_name(volume)));
    }
}
