//! Partition tables: both copies of a GPT, its protective MBR, an MBR; and whether partitions begin with what they should.

use super::fault::{Fault, Faults, Stage};
use super::layout::Layout;
use super::mend::Mend;
use super::table_proposal;
use crate::devices::{
    DiskVolume, GptCopy, GptFault, GptPair, MbrTable, OpenDisk, Partition, PartitionType, ReadAt, TableKind,
    VolumeKind, identify, recorded_size, search_file_systems, table_writer,
};
use crate::formats::boot::sector::is_marked;
use crate::model::{KnownBy, Verdict};

/// How the machine is started, as far as that is known.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct StartedBy {
    /// By a BIOS, with GRUB in the first sectors.
    pub(super) bios: bool,
    /// By UEFI firmware.
    pub(super) uefi: bool,
}

impl StartedBy {
    /// How a system is started that cannot be read: by what its disks have partitions for.
    pub(super) fn by_partitions(layout: &Layout) -> Self {
        let kinds = || layout.set.volumes.iter().filter_map(|volume| Some(volume.partition.as_ref()?.kind));
        let uefi = kinds().any(PartitionType::is_efi_system);
        Self { bios: !uefi || kinds().any(PartitionType::is_boot_code), uefi }
    }
}

/// Judges the table of each disk. `starting` are the positions of the disks from which the machine starts: what is wrong with the table of
/// another disk keeps at most that from being mounted.
pub(super) fn judge(layout: &Layout, how: StartedBy, starting: &[usize], faults: &mut Faults) {
    for at in 0..layout.set.disks.len() {
        let mut own = Faults::default();
        judge_disk(layout, how, at, &mut own);
        faults.append(own, starting.contains(&at));
    }
}

fn judge_disk(layout: &Layout, how: StartedBy, at: usize, faults: &mut Faults) {
    let (disk, name) = (layout.disk(at), layout.disk_name(at));
    if let Err(e) = disk.device.bytes_at(0, 512) {
        let cause = format!("its first sector cannot be read: {}", crate::model::error_words(&e));
        let fault = Fault::on_disk(Stage::Table, format!("{name}: first sector"), Verdict::Unreadable, cause);
        faults.push(fault.breaks().known_by(KnownBy::Medium));
        return;
    }
    // A disk without a table is one file system.
    let is_one_file_system = layout
        .set
        .volumes
        .iter()
        .any(|v| v.disk == at && v.partition.is_none() && v.start == 0 && v.contains.is_some());
    if is_one_file_system && !disk.gpt.is_there() {
        return;
    }
    // Its protective MBR shows that there was one.
    let covers = disk.mbr.as_ref().is_some_and(|mbr| mbr.protective > 0 && mbr.partitions.is_empty());
    if disk.gpt.is_there() || covers {
        gpt(&name, (at, disk), how, faults);
    } else {
        mbr(&name, (layout, at), faults);
    }
    partitions(layout, at, faults);
}

/// How a damaged copy is known: by itself, unless the medium has an error there.
fn known(fault: GptFault) -> KnownBy {
    if fault == GptFault::Unreadable { KnownBy::Medium } else { KnownBy::SelfProof }
}

fn on(name: &str, part: &str, verdict: Verdict, cause: impl Into<String>) -> Fault {
    Fault::on_disk(Stage::Table, format!("{name}: {part}"), verdict, cause).known_by(KnownBy::SelfProof)
}

/// What is wrong with a copy, in words and as a verdict.
fn words(fault: GptFault) -> (Verdict, &'static str) {
    match fault {
        GptFault::Absent => (Verdict::Missing, "there is none"),
        GptFault::Unreadable => (Verdict::Unreadable, "it cannot be read"),
        GptFault::Header => (Verdict::Corrupt, "the checksum of its header is wrong"),
        GptFault::WrongPlace => (Verdict::Inconsistent, "its header belongs to another place"),
        GptFault::Implausible => (Verdict::Corrupt, "its header names an impossible table"),
        GptFault::Entries => (Verdict::Corrupt, "the checksum of its entries is wrong"),
    }
}

/// What a person does about a table of which no valid copy is left.
const WRITE_AGAIN: &str = "keep a copy of the first and the last MiB of the disk; then write the partition again where the file system begins, with a partition editor";
/// What a person does about the table of a larger disk.
const LARGER_DISK: &str = "if this is a copy, copy the whole disk again; else keep a copy of its first MiB, and write the table again with a partition editor";
const PRIMARY: &str = "partition table (GPT)";
const BACKUP: &str = "backup of the partition table (GPT)";

fn gpt(name: &str, (at, disk): (usize, &OpenDisk), how: StartedBy, faults: &mut Faults) {
    let GptPair { sector, primary, backup } = &disk.gpt;
    // GRUB on a BIOS machine never reads the backup.
    let only_uefi = how.uefi && !how.bios;
    match (primary, backup) {
        (Ok(primary), Ok(backup)) => both(name, (at, disk), (primary, backup), faults),
        (Ok(primary), Err(fault)) => {
            let (verdict, why) = words(*fault);
            let cause = format!("{why}; the table at the beginning of the disk is valid");
            let found = on(name, BACKUP, verdict, cause).latent().known_by(known(*fault));
            faults.push(found.mended(backup_again(at, disk, primary)));
        }
        (Err(fault), Ok(backup)) => {
            let (verdict, why) = words(*fault);
            let more = match only_uefi {
                true => "; its backup at the end of the disk is valid, and UEFI firmware uses that",
                false => "; its backup at the end of the disk is valid, but GRUB does not use that on a BIOS machine",
            };
            let found = on(name, PRIMARY, verdict, format!("{why}{more}")).known_by(known(*fault));
            faults.push(found.breaks_if(!only_uefi).mended(primary_again(at, disk, backup)));
        }
        (Err(first), Err(second)) => {
            let (verdict, why) = words(*first);
            let lost = search_file_systems(&*disk.device);
            let lost = lost.first().map(|(start, kind)| format!("; {kind} begins at sector {}", start / 512));
            let cause = format!("{why}; of its backup: {}{}", words(*second).1, lost.unwrap_or_default());
            let found = on(name, PRIMARY, verdict, cause).breaks().action(WRITE_AGAIN);
            faults.push(found.mended(table_proposal::gpt(at, disk)));
        }
    }
    if let Ok(primary) = primary {
        beyond_the_end(name, primary, disk.device.size() / sector, faults);
    }
    protective(name, (at, disk), *sector, faults);
}

/// The copy at the beginning, written again from the other.
fn primary_again(at: usize, disk: &OpenDisk, backup: &GptCopy) -> Result<Mend, String> {
    let placed = table_writer::primary_from(backup, &disk.gpt, disk.device.size())?;
    Ok(Mend::bytes(at, placed, "the copy at the end of the disk"))
}

/// The copy at the end, written again from the other.
fn backup_again(at: usize, disk: &OpenDisk, primary: &GptCopy) -> Result<Mend, String> {
    let placed = table_writer::backup_from(primary, &disk.gpt, disk.device.size())?;
    Ok(Mend::bytes(at, placed, "the copy at the beginning of the disk"))
}

/// Whether a table is that of a larger disk, which Linux does not use: GRUB still starts the kernel, and that finds no partition.
fn beyond_the_end(name: &str, primary: &GptCopy, sectors: u64, faults: &mut Faults) {
    let last = primary.usable.1;
    if last >= sectors {
        let cause = format!(
            "it is that of a larger disk: it uses sectors up to {last}, the disk has {sectors}; Linux does not use it"
        );
        let why = "which size of the disk is right is not known here".to_owned();
        let found = on(name, PRIMARY, Verdict::Inconsistent, cause).breaks().action(LARGER_DISK);
        faults.push(found.mended(Err(why)));
    }
}

/// Two valid copies: the same, or different ones between which the file systems decide.
fn both(name: &str, (at, disk): (usize, &OpenDisk), (primary, backup): (&GptCopy, &GptCopy), faults: &mut Faults) {
    let last = (disk.device.size() / disk.gpt.sector).saturating_sub(1);
    if backup.at != last {
        let cause =
            format!("it is in sector {}, but the last one of the disk is {last}: the disk has grown", backup.at);
        let found = on(name, BACKUP, Verdict::Inconsistent, cause).latent();
        faults.push(found.mended(backup_again(at, disk, primary)));
    } else if primary.other != backup.at || backup.other != primary.at {
        let found = on(name, BACKUP, Verdict::Inconsistent, "the two copies do not name each other").latent();
        faults.push(found.mended(backup_again(at, disk, primary)));
    }
    if primary.agrees_with(backup) {
        return;
    }
    let fitting = |copy: &GptCopy| copy.partitions.iter().filter(|p| identify(&p.on(&*disk.device)).is_some()).count();
    let (first, second) = (fitting(primary), fitting(backup));
    let differ = "the two copies are valid and differ";
    match first.cmp(&second) {
        std::cmp::Ordering::Greater => {
            let cause =
                format!("{differ}: {first} partitions of the first begin with a file system, of this one {second}");
            let found = on(name, BACKUP, Verdict::Inconsistent, cause).latent().known_by(KnownBy::Derived);
            faults.push(found.mended(backup_again(at, disk, primary)));
        }
        std::cmp::Ordering::Less => {
            let cause =
                format!("{differ}: {second} partitions of the backup begin with a file system, of this one {first}");
            let found = on(name, PRIMARY, Verdict::Inconsistent, cause).breaks().known_by(KnownBy::Derived);
            faults.push(found.mended(primary_again(at, disk, backup)));
        }
        std::cmp::Ordering::Equal => {
            let cause = format!("{differ}, and the file systems do not show which one is right");
            let fault = on(name, PRIMARY, Verdict::Inconsistent, cause).known_by(KnownBy::Derived);
            let why = "which of the two copies is right is not known here".to_owned();
            faults.push(fault.latent().mended(Err(why)));
        }
    }
}

/// The MBR in front of a GPT: one entry, which covers the disk.
fn protective(name: &str, (at, disk): (usize, &OpenDisk), sector: u64, faults: &mut Faults) {
    let part = "protective MBR";
    let whole = u32::try_from(disk.device.size() / sector - 1).unwrap_or(u32::MAX);
    let again = || cover_again(at, disk);
    match &disk.mbr {
        None => {
            let cause = "there is none: firmware and GRUB take the disk for one without a GPT";
            faults.push(on(name, part, Verdict::Missing, cause).breaks().mended(again()));
        }
        Some(MbrTable { protective: 0, partitions, .. }) => {
            let cause = match partitions.len() {
                0 => "it has no entry for the GPT: firmware and GRUB take the disk for one without a GPT".to_owned(),
                n => format!("it has no entry for the GPT, but {n} others"),
            };
            faults.push(on(name, part, Verdict::Inconsistent, cause).breaks().mended(again()));
        }
        // Other entries beside it are made on purpose, for systems that read no GPT.
        Some(MbrTable { partitions, .. }) if !partitions.is_empty() => {}
        Some(table) if table.covered != whole && table.covered != u32::MAX => {
            let cause = format!("it covers {} sectors of {whole}", table.covered);
            faults.push(on(name, part, Verdict::Inconsistent, cause).latent().mended(again()));
        }
        Some(_) => {}
    }
}

/// The entry that covers a GPT, written again.
fn cover_again(at: usize, disk: &OpenDisk) -> Result<Mend, String> {
    if disk.gpt.primary.is_err() && disk.gpt.backup.is_err() {
        return Err("no copy of its GPT is valid".to_owned());
    }
    let last = (disk.device.size() / disk.gpt.sector).saturating_sub(1);
    let ends = disk.gpt.primary.as_ref().map(|copy| copy.other).or(disk.gpt.backup.as_ref().map(|copy| copy.at));
    if ends != Ok(last) {
        return Err("its GPT is that of a disk of another size".to_owned());
    }
    let first = disk.device.bytes_at(0, 512).map_err(|e| crate::model::error_words(&e))?;
    let covered = table_writer::protective(&first, disk.device.size())?;
    let placed = vec![(table_writer::MBR_ENTRIES as u64, covered[table_writer::MBR_ENTRIES..].to_vec())];
    Ok(Mend::bytes(at, placed, "the size of the disk"))
}

fn mbr(name: &str, (layout, at): (&Layout, usize), faults: &mut Faults) {
    let (part, disk) = ("partition table (MBR)", layout.disk(at));
    let Ok(first) = disk.device.bytes_at(0, 512) else { return };
    let has_table = disk.table.kind == TableKind::Mbr && !disk.table.partitions.is_empty();
    let names_none = !has_table && disk.mbr.as_ref().is_none_or(|mbr| mbr.partitions.is_empty());
    let lost = if names_none { search_file_systems(&*disk.device) } else { Vec::new() };
    // An empty disk lacks nothing.
    if names_none && lost.is_empty() && first.iter().all(|byte| *byte == 0) {
        return;
    }
    if !is_marked(&first) {
        let cause = "the first sector does not end with the mark of a boot sector (55 aa): a BIOS does not start it";
        let mark = Mend::bytes(at, vec![(510, vec![0x55, 0xaa])], "the form of a boot sector");
        faults.push(on(name, part, Verdict::Corrupt, cause).breaks().mended(Ok(mark)));
    }
    if let Some((start, kind)) = lost.first() {
        let cause = format!("it names no partition, but {kind} begins at sector {}", start / 512);
        let fault = on(name, part, Verdict::Missing, cause).known_by(KnownBy::Derived);
        faults.push(fault.breaks().action(WRITE_AGAIN).mended(table_proposal::mbr(layout, at)));
    }
}

/// Whether partitions begin with file systems, end on the disk and do not overlap.
fn partitions(layout: &Layout, at: usize, faults: &mut Faults) {
    let name = layout.disk_name(at);
    let own: Vec<usize> = (0..layout.set.volumes.len()).filter(|v| layout.volume(*v).disk == at).collect();
    let with = own.iter().filter_map(|v| Some((layout.volume(*v), layout.volume(*v).partition.as_ref()?)));
    let all: Vec<_> = with.collect();
    for volume in own.iter().copied() {
        let (found, name) = (layout.volume(volume), layout.volume_name(volume));
        let (Some(partition), Some(size)) = (&found.partition, recorded_size(&found.bytes)) else { continue };
        if size > partition.size {
            let (own, has) = (size >> 10, partition.size >> 10);
            let cause = format!("its file system has {own} KiB, the partition {has} KiB: the kernel does not mount it");
            let fault = Fault::on_disk(Stage::Table, name, Verdict::Truncated, cause).known_by(KnownBy::Derived);
            let breaks = layout.is_mounted(volume) || layout.has_no_machine();
            faults.push(fault.breaks_if(breaks).mended(table_proposal::resized(layout, volume)));
        }
    }
    for (index, (_, partition)) in all.iter().enumerate() {
        let other =
            all[..index].iter().find(|(_, other)| other.start < partition.end() && partition.start < other.end());
        if let Some((_, other)) = other {
            let cause = format!("it overlaps partition {}", other.number);
            let part = format!("{name} partition {}", partition.number);
            let fault = Fault::on_disk(Stage::Table, part, Verdict::Inconsistent, cause).known_by(KnownBy::SelfProof);
            // The one that is longer than its file system.
            let ends = |volume: &DiskVolume| volume.partition.as_ref().map_or(0, Partition::end);
            let longer = own
                .iter()
                .copied()
                .find(|v| ends(layout.volume(*v)) > partition.start && layout.volume(*v).start < partition.start);
            let mend = longer.ok_or_else(|| "which of them is right is not known".to_owned());
            faults.push(fault.breaks_if(false).mended(mend.and_then(|v| table_proposal::resized(layout, v))));
        }
    }
    for volume in own.iter().copied() {
        behind_the_end(layout, volume, faults);
    }
    // A partition for a file system of Linux that begins with none, and one that the machine uses and no partition contains: what was left
    // in unused places is no problem.
    let empty = all.iter().filter(|(volume, partition)| volume.contains.is_none() && partition.kind.is_linux());
    let empty: Vec<u32> = empty.map(|(_, partition)| partition.number).collect();
    if layout.has_no_machine() {
        without_superblock(&name, &all, faults);
    }
    let is_lost = |v: &usize| layout.volume(*v).is_lost();
    let kind = |v: &DiskVolume| v.contains.as_ref().map_or("a file system", |found| found.kind.name());
    let named = |v: &usize| (layout.volume(*v).start, kind(layout.volume(*v)));
    if empty.is_empty() && !all.is_empty() {
        // A partition was deleted.
        for (start, kind) in own.iter().filter(|v| is_lost(v) && layout.is_mounted(**v)).map(named) {
            let cause = format!(
                "no partition contains the file system ({kind}) at sector {}, which the system uses",
                start / 512
            );
            let fault = Fault::on_disk(Stage::Table, format!("{name}: partition table"), Verdict::Missing, cause);
            let mend = table_proposal::restored(layout, at, start);
            faults.push(fault.breaks().action(WRITE_AGAIN).mended(mend));
        }
    }
    let is_used = |v: &usize| is_lost(v) && (layout.has_no_machine() || layout.is_mounted(*v));
    let lost: Vec<(u64, &str)> = own.iter().filter(|v| is_used(v)).map(named).collect();
    for (number, (start, kind)) in empty.iter().zip(&lost) {
        let part = format!("{name} partition {number}");
        let cause = format!(
            "it begins with no file system, but {kind} that no partition contains begins at sector {}",
            start / 512
        );
        let fault = Fault::on_disk(Stage::Table, part, Verdict::Inconsistent, cause);
        let mend = table_proposal::moved(layout, at, *number, *start);
        faults.push(fault.breaks().action(WRITE_AGAIN).mended(mend));
    }
}

/// Whether a partition ends on the disk; an image can have been cut off.
fn behind_the_end(layout: &Layout, at: usize, faults: &mut Faults) {
    let volume = layout.volume(at);
    let size = layout.disk(volume.disk).device.size();
    if volume.partition.as_ref().is_none_or(|partition| partition.end() <= size) {
        return;
    }
    let is_file_system = volume.contains.as_ref().is_some_and(|found| found.kind != VolumeKind::Swap);
    let recorded = recorded_size(&volume.bytes).filter(|_| is_file_system).unwrap_or_default();
    let is_gpt = volume.partition.as_ref().is_some_and(|own| matches!(own.kind, PartitionType::Gpt(_)));
    // Of an MBR, the kernel cuts such a partition off; of a GPT, it leaves it out.
    let (cause, breaks) = match (volume.start.saturating_add(recorded) > size, is_gpt) {
        (true, _) => {
            ("it ends behind the end of the disk, and so does its file system: the kernel does not mount it", true)
        }
        (false, true) => ("it ends behind the end of the disk: the kernel does not use it", is_file_system),
        (false, false) => ("it ends behind the end of the disk", false),
    };
    let breaks = breaks && (layout.is_mounted(at) || layout.has_no_machine());
    let fault = Fault::on_disk(Stage::Table, layout.volume_name(at), Verdict::Truncated, cause);
    faults.push(fault.known_by(KnownBy::SelfProof).breaks_if(breaks));
}

/// Partitions for file systems of Linux in which there are zeros where a superblock belongs, on disks without a system that can be read.
fn without_superblock(name: &str, all: &[(&DiskVolume, &Partition)], faults: &mut Faults) {
    const SUPERBLOCK: u64 = 1024;
    let is_zeroed = |volume: &DiskVolume| {
        let read = volume.bytes.bytes_at(SUPERBLOCK, 1024);
        read.is_ok_and(|bytes| bytes.iter().all(|byte| *byte == 0))
    };
    let unknown = all.iter().filter(|(volume, partition)| volume.contains.is_none() && partition.kind.is_linux());
    for (_, partition) in unknown.filter(|(volume, _)| is_zeroed(volume)) {
        let part = format!("{name} partition {}", partition.number);
        let cause = "it is for a file system of Linux, and there are zeros where the superblock belongs";
        let why = "no copy of the superblock was found, from which its own check could begin".to_owned();
        faults.push(Fault::on_disk(Stage::Root, part, Verdict::Corrupt, cause).breaks().mended(Err(why)));
    }
}
