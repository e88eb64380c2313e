//! The machine's mounted ext4 file systems, and what the file system's own tool changes on them.

use std::os::unix::ffi::OsStrExt as _;
use std::path::{Path, PathBuf};

use super::System;
use crate::change::{Disks as _, StateFolder, write_firmware};
use crate::devices::Device;
use crate::devices::ReadAt;
use crate::devices::Window;
use crate::devices::ext4::{FileSystem, MountCounts, Superblock};
use crate::machine::volumes;
use crate::model::{Digest, SystemPath, error_chain, error_words};
use crate::plan::{Correction, CountsChange, ToolChange};
use crate::platform::block_devices::{Node, in_use};
use crate::platform::e2fsck::{self, SuperblockCopy};
use crate::platform::e2fsprogs::set_mount_counts;
use crate::platform::e2undo;

/// The least room for the backup of what a correction overwrites, in bytes.
const LEAST_ROOM: u64 = 64 << 20;

/// A mounted ext4 file system.
#[derive(Debug)]
pub struct MountedExt4 {
    /// The node of its device.
    pub device: PathBuf,
    /// Its superblock, as it is now.
    pub superblock: Superblock,
}

impl System {
    /// The ext4 file system that is mounted at a place.
    ///
    /// # Errors
    /// Why there is none, or it cannot be read.
    pub fn ext4_at(&self, place: &SystemPath) -> Result<MountedExt4, String> {
        let all = volumes(&self.machine);
        let mounted = all.iter().find(|volume| volume.place == *place).and_then(|volume| volume.mounted.as_ref());
        let device = mounted.and_then(|mounted| mounted.device.clone());
        let device = device.ok_or_else(|| format!("no ext4 file system is mounted at {place}"))?;
        let open = Device::open(&device).map_err(|e| error_chain(&e))?;
        let superblock = FileSystem::open(&Window::new(&open, 0, open.size()))?.superblock;
        Ok(MountedExt4 { device, superblock })
    }

    /// Has one of the system's own tools change something, and reads it again.
    ///
    /// # Errors
    /// Why it was not done.
    pub fn change_by_tool(&self, change: &ToolChange) -> Result<(), String> {
        match change {
            ToolChange::MountCounts(change) => self.set_counts(change),
            ToolChange::Correction(change) => self.correct(change),
            ToolChange::Firmware(change) => write_firmware(&self.live_disks.firmware(), change),
            ToolChange::Disk(_) => Err("no tool writes the bytes of a disk".to_owned()),
        }
    }

    /// Refuses a change that could not be completed, before anything is recorded.
    ///
    /// # Errors
    /// Why it could not.
    pub fn require_ready(&self, change: &ToolChange, state: &StateFolder) -> Result<(), String> {
        match change {
            ToolChange::MountCounts(_) | ToolChange::Disk(_) | ToolChange::Firmware(_) => Ok(()),
            ToolChange::Correction(change) => {
                require_room(&unmounted(change)?, change, &state.path().map_err(|e| error_words(&e))?)
            }
        }
    }

    fn correct(&self, change: &Correction) -> Result<(), String> {
        let disk = unmounted(change)?;
        let state = self.state().map_err(|e| error_chain(&e))?.ok_or("the state folder is missing")?;
        let state = state.path().map_err(|e| error_words(&e))?;
        let node = Node::of(&disk, change.offset, change.size)?;
        let overwritten = state.join(&change.overwritten);
        let done = match &change.undoes {
            None => {
                let device = Device::open(&node.path).map_err(|e| error_chain(&e))?;
                let whole = Window::new(&device, 0, device.size());
                let fs = FileSystem::open(&whole)?;
                e2fsck::correct(&node.path, SuperblockCopy::of(&fs), &overwritten).map(drop)
            }
            Some(earlier) => e2fsck::undo(&node.path, &state.join(earlier), &overwritten),
        };
        // Without this, nothing is undone later.
        let digest =
            Device::open(&node.path).map_err(|e| error_chain(&e)).and_then(|device| written(&device, &overwritten));
        if let Ok(digest) = digest {
            std::fs::write(beside(&overwritten), digest.to_hex()).map_err(|e| error_words(&e))?;
        }
        done
    }

    /// The change that undoes another, by what is there now, or will be after `earlier` undone ones.
    ///
    /// # Errors
    /// Why it is not undone.
    pub fn tool_inverse(&self, change: &ToolChange, earlier: &[&ToolChange]) -> Result<ToolChange, String> {
        match change {
            ToolChange::MountCounts(change) => {
                let superblock = self.same_ext4(change)?.superblock;
                let then = earlier.iter().rev().find_map(|earlier| match earlier {
                    ToolChange::MountCounts(earlier) if earlier.uuid == change.uuid => Some(earlier.after),
                    _ => None,
                });
                let inverse = change.inverse(then.unwrap_or(superblock.counts), superblock.last_check);
                inverse.map(ToolChange::MountCounts).ok_or_else(|| "changed since".to_owned())
            }
            ToolChange::Correction(change) => {
                let device = Device::open(&unmounted(change)?).map_err(|e| error_chain(&e))?;
                let state = self.state().map_err(|e| error_chain(&e))?.ok_or("the state folder is missing")?;
                let kept = state.path().map_err(|e| error_words(&e))?.join(&change.overwritten);
                if !kept.exists() {
                    return Err("nothing was overwritten, or the backup is missing".to_owned());
                }
                let expected = std::fs::read_to_string(beside(&kept)).ok();
                let Some(expected) = expected.filter(|digest| Digest::from_hex(digest).is_ok()) else {
                    let backup = kept.display();
                    return Err(format!(
                        "the correction was interrupted; e2undo may still undo it with the backup {backup}"
                    ));
                };
                let now = written(&Window::new(&device, change.offset, change.size), &kept)?;
                match now.to_hex() == expected {
                    true => Ok(ToolChange::Correction(change.inverse())),
                    false => Err("the file system was changed since".to_owned()),
                }
            }
            ToolChange::Disk(write) => self.disk_inverse(write, earlier).map(ToolChange::Disk),
            ToolChange::Firmware(change) => self.firmware_inverse(change, earlier).map(ToolChange::Firmware),
        }
    }

    fn same_ext4(&self, change: &CountsChange) -> Result<MountedExt4, String> {
        let found = self.ext4_at(&change.place)?;
        match found.superblock.uuid == change.uuid {
            true => Ok(found),
            false => Err(format!("another file system is mounted at {}", change.place)),
        }
    }

    fn set_counts(&self, change: &CountsChange) -> Result<(), String> {
        let found = self.same_ext4(change)?;
        if found.superblock.counts != change.before {
            return Err("changed since".to_owned());
        }
        set_mount_counts(&found.device, change.after)?;
        let now: MountCounts = self.same_ext4(change)?.superblock.counts;
        match now == change.after {
            true => Ok(()),
            false => Err("tune2fs changed nothing: its result was read again".to_owned()),
        }
    }
}

/// Refuses a correction whose backup may not fit in the state folder: without room for it the check would stop halfway. No more than a
/// tenth of all inodes is expected to be overwritten.
fn require_room(disk: &Path, change: &Correction, state: &Path) -> Result<(), String> {
    let device = Device::open(disk).map_err(|e| error_chain(&e))?;
    let superblock = FileSystem::open(&Window::new(&device, change.offset, change.size))?.superblock;
    let needed = LEAST_ROOM.max(u64::from(superblock.inodes) * superblock.inode_size as u64 / 10);
    let found = rustix::fs::statvfs(state).map_err(|e| error_words(&std::io::Error::from(e)))?;
    let free = found.f_bavail.saturating_mul(found.f_frsize);
    if free >= needed {
        return Ok(());
    }
    let (needed, free) = (needed >> 20, free >> 20);
    Err(format!(
        "the backup can take {needed} MiB, and {} has {free} MiB free: name another with --state-dir",
        state.display()
    ))
}

/// The digest of what a correction wrote, as it is on the disk now.
fn written(file_system: &dyn ReadAt, overwritten: &Path) -> Result<Digest, String> {
    let backup = Device::open(overwritten).map_err(|e| error_chain(&e))?;
    let parts = e2undo::overwritten(&backup).map_err(|e| error_words(&e))?;
    e2undo::digest_of(file_system, &parts).map_err(|e| error_words(&e))
}

/// The file with that digest.
fn beside(overwritten: &Path) -> PathBuf {
    overwritten.with_extension("e2undo.blake3")
}

/// The disk of a correction, if its file system is still there and not in use.
fn unmounted(change: &Correction) -> Result<PathBuf, String> {
    let disk = PathBuf::from(std::ffi::OsStr::from_bytes(change.disk.as_bytes()));
    let device = Device::open(&disk).map_err(|e| error_chain(&e))?;
    let superblock = FileSystem::open(&Window::new(&device, change.offset, change.size)).map(|fs| fs.superblock);
    if superblock.is_ok_and(|superblock| superblock.uuid != change.uuid) {
        return Err("another file system is there by now".to_owned());
    }
    match in_use(&disk, change.offset) {
        true => Err("it is mounted, or in use".to_owned()),
        false => Ok(disk),
    }
}
