//! The superblocks of the file systems that the system mounts: whether GRUB and the kernel can use them, and what the kernel noted there.

use super::counted;
use super::fault::{Fault, Faults, Stage};
use super::layout::Layout;
use crate::areas::Checked;
use crate::devices::ext4::{self, FileSystem, MountFault};
use crate::devices::{Mark, VolumeKind};
use crate::model::{KnownBy, Verdict};

/// Judges those of mounted file systems; what another area reported of one is not repeated. `is_in_use` says whether the kernel has mounted
/// them: it changes what is examined here.
pub(super) fn judge(layout: &Layout, is_in_use: bool, checked: &Checked, faults: &mut Faults) {
    for at in (0..layout.set.volumes.len()).filter(|at| layout.is_mounted(*at)) {
        first(layout, at, faults);
        if !is_in_use {
            mountable(layout, at, faults);
        }
        let name = layout.volume_name(at);
        if is_marked(layout, at) && !is_reported(checked, &name) {
            let cause = "the kernel has marked it with errors: it is checked at the start";
            let fault = Fault::on_disk(Stage::Root, name, Verdict::ErrorsRecorded, cause).latent();
            let action = "users' files to another disk first (veritum rescue --to DIR --disk DISK); then let its own check correct it (veritum repair volumes --disk DISK)";
            faults.push(fault.known_by(KnownBy::SelfProof).action(action));
        }
    }
}

/// Whether another area reported something of a file system.
pub(super) fn is_reported(checked: &Checked, name: &str) -> bool {
    checked.findings().any(|finding| finding.subject.name() == Some(name))
}

/// Whether the kernel noted errors.
fn is_marked(layout: &Layout, at: usize) -> bool {
    let volume = layout.volume(at);
    match volume.contains.as_ref() {
        Some(found) if found.kind == VolumeKind::Ext4 => {
            FileSystem::open(&volume.bytes).is_ok_and(|fs| fs.superblock.marked || fs.superblock.errors > 0)
        }
        Some(found) => found.marks(&volume.bytes).contains(&Mark::Errors),
        None => false,
    }
}

/// Judges whether the kernel mounts an ext4 file system whose superblock is valid.
pub(super) fn mountable(layout: &Layout, at: usize, faults: &mut Faults) {
    let volume = layout.volume(at);
    if volume.contains.as_ref().is_none_or(|found| found.kind != VolumeKind::Ext4) {
        return;
    }
    let Ok(fs) = FileSystem::open_owned(&volume.bytes) else { return };
    for fault in fs.mount_faults() {
        let (part, cause) = match fault {
            MountFault::Descriptors(count) => {
                let what = counted(u64::from(count), "is not valid", "are not valid");
                ("group descriptors", format!("{what}; neither the kernel nor GRUB uses their copies"))
            }
            MountFault::Journal(why) => ("ext4's journal", format!("{why}: the kernel does not mount the file system")),
            MountFault::Root => ("root folder", "it cannot be read, or not all of it".to_owned()),
        };
        let name = format!("{}: {part}", layout.volume_name(at));
        let action = "users' files to another disk first (veritum rescue --to DIR --disk DISK); then let its own check correct it (veritum repair volumes --disk DISK)";
        let fault = Fault::on_disk(Stage::Root, name, Verdict::Corrupt, cause).action(action);
        faults.push(fault.breaks().known_by(KnownBy::SelfProof));
    }
}

/// Features of ext4 that GRUB 2 does not know, with their names: it reads no file system that has one.
const UNKNOWN_TO_GRUB: [(u32, &str); 4] =
    [(0x400, "ea_inode"), (0x1000, "dirdata"), (0x8000, "inline_data"), (0x2_0000, "casefold")];

/// Judges whether GRUB reads the file system with its files.
pub(super) fn for_grub(layout: &Layout, at: usize, faults: &mut Faults) {
    let volume = layout.volume(at);
    if volume.contains.as_ref().is_none_or(|found| found.kind != VolumeKind::Ext4) {
        return;
    }
    let features = FileSystem::open(&volume.bytes).map_or(0, |fs| fs.superblock.required_features());
    for (_, name) in UNKNOWN_TO_GRUB.iter().filter(|(feature, _)| features & feature != 0) {
        let cause = format!("its file system has the feature {name}, with which GRUB does not read it");
        let fault = Fault::on_disk(Stage::LoaderFiles, layout.volume_name(at), Verdict::Inconsistent, cause);
        let action = "/boot on a file system of its own, without this feature, then GRUB installed again (ext4(5))";
        faults.push(fault.breaks().known_by(KnownBy::Derived).action(action));
    }
}

/// Judges the first superblock of an ext4 file system: neither the kernel nor GRUB uses its copies.
pub(super) fn first(layout: &Layout, at: usize, faults: &mut Faults) {
    let volume = layout.volume(at);
    if volume.contains.as_ref().is_none_or(|found| found.kind != VolumeKind::Ext4) {
        return;
    }
    let Ok(fs) = FileSystem::open(&volume.bytes) else { return };
    let Some(fault) = &fs.first_is else { return };
    let why = match fault {
        ext4::Fault::Unreadable => "cannot be read",
        ext4::Fault::Checksum => "has a wrong checksum",
        ext4::Fault::Structure(_) => "is not valid",
    };
    let name = format!("{}: superblock", layout.volume_name(at));
    let cause = format!("the first superblock {why}; neither the kernel nor GRUB uses its copies");
    let action =
        "let the file system's own check write it again from a copy, unmounted (veritum repair volumes --disk DISK)";
    let fault = Fault::on_disk(Stage::Root, name, Verdict::Corrupt, cause).action(action);
    faults.push(fault.breaks().known_by(KnownBy::SelfProof));
}
