//! Partition tables that are lost: what can be proposed by what is still there. It is written only when a person agreed to it.

use super::layout::Layout;
use super::mend::Mend;
use crate::devices::table_writer::{self, GptEntry, MBR_ENTRIES, MBR_ENTRY, Placed};
use crate::devices::{
    FatFiles, MbrTable, OpenDisk, PartitionType, ReadAt as _, Section, VolumeKind, claimed_size, identify,
    search_file_systems,
};
use crate::model::{Digest, error_words};

const SECTOR: u64 = 512;
/// An MBR's types of swap space, of an EFI partition, of FAT, of NTFS and exFAT, of others.
const SWAP: u8 = 0x82;
const EFI: u8 = 0xef;
const FAT: u8 = 0x0c;
const NTFS: u8 = 0x07;
const LINUX: u8 = 0x83;
/// Why a size is not known.
const NO_SIZE: &str = "how large the file system is cannot be told";
/// An MBR's own entries.
const MAX_ENTRIES: usize = 4;
/// What says that a disk is a member of something larger.
const CONTAINERS: [VolumeKind; 3] = [VolumeKind::Raid, VolumeKind::Lvm, VolumeKind::Encrypted];

/// A GPT whose headers are both lost, by the entries that are still there twice.
pub(super) fn gpt(at: usize, disk: &OpenDisk) -> Result<Mend, String> {
    if disk.gpt.sector != SECTOR {
        return Err("the size of its sectors is only guessed".to_owned());
    }
    // The disk's own id is lost; nothing on it names that.
    let digest = Digest::hash(&disk.device.bytes_at(2 * SECTOR, 128 * 128).map_err(|e| error_words(&e))?);
    let placed = table_writer::both_from_entries(&*disk.device, random_id(&digest))?;
    let mend = Mend::bytes(at, placed, "the entries at both ends of the disk");
    Ok(mend.proposed("the entries at both ends of the disk are the same, and their checksum is lost"))
}

/// An id of the form of a random UUID (RFC 9562, 5.4), in the byte order of a GPT.
fn random_id(digest: &Digest) -> [u8; 16] {
    let mut id = [0; 16];
    id.copy_from_slice(&digest.as_bytes()[..16]);
    id[7] = id[7] & 0x0f | 0x40;
    id[8] = id[8] & 0x3f | 0x80;
    id
}

/// A file system that was found, as an entry would name it.
#[derive(Clone, Copy)]
struct Found {
    start: u64,
    size: u64,
    kind: u8,
    name: &'static str,
}

/// The type in a GPT for that in an MBR.
fn gpt_kind(kind: u8) -> [u8; 16] {
    match kind {
        SWAP => PartitionType::SWAP,
        EFI => PartitionType::EFI_SYSTEM,
        FAT | NTFS => PartitionType::BASIC_DATA,
        _ => PartitionType::LINUX,
    }
}

/// The size of what begins here, and the type of an entry for it.
fn found(layout: &Layout, at: usize) -> Option<Found> {
    let volume = layout.volume(at);
    found_in(volume.start, &volume.bytes, volume.contains.as_ref()?.kind)
}

fn found_in(start: u64, bytes: &Section, contains: VolumeKind) -> Option<Found> {
    let size = claimed_size(bytes)?;
    let kind = match contains {
        VolumeKind::Swap => SWAP,
        VolumeKind::Vfat if has_efi(bytes) => EFI,
        VolumeKind::Vfat => FAT,
        VolumeKind::Ntfs | VolumeKind::Exfat => NTFS,
        _ => LINUX,
    };
    Some(Found { start, size, kind, name: contains.name() })
}

/// The volumes of a disk that no entry contains.
fn lost(layout: &Layout, at: usize) -> impl Iterator<Item = usize> + '_ {
    (0..layout.set.volumes.len()).filter(move |v| layout.volume(*v).disk == at && layout.volume(*v).is_lost())
}

fn has_efi(bytes: &Section) -> bool {
    let listed = FatFiles::open(bytes).and_then(|files| files.list());
    listed.is_ok_and(|entries| entries.iter().any(|entry| entry.is_folder && entry.path.eq_ignore_ascii_case("efi")))
}

/// An MBR that names no partition, by the file systems that were found: where each begins is exact, where it ends is what it says itself.
pub(super) fn mbr(layout: &Layout, at: usize) -> Result<Mend, String> {
    let disk = layout.disk(at);
    require_own(disk)?;
    let volumes: Vec<usize> = lost(layout, at).filter(|v| layout.volume(*v).contains.is_some()).collect();
    let all: Option<Vec<Found>> = volumes.iter().map(|v| found(layout, *v)).collect();
    let all = all.filter(|all| !all.is_empty()).ok_or("how large a file system on it is cannot be told")?;
    if all.len() > MAX_ENTRIES {
        return Err(format!("{} file systems were found, more than its table has entries", all.len()));
    }
    let ends = |index: usize| all.get(index + 1).map_or(disk.device.size(), |next| next.start);
    if (0..all.len()).any(|index| all[index].start + all[index].size > ends(index)) {
        return Err("the file systems that were found overlap, or end behind the disk".to_owned());
    }
    let mut entries = Vec::new();
    for one in &all {
        let entry = table_writer::mbr_entry(one.kind, one.start / SECTOR, one.size.div_ceil(SECTOR));
        entries.extend(entry.ok_or("an MBR cannot name a place so far behind")?);
    }
    entries.resize(MAX_ENTRIES * MBR_ENTRY, 0);
    let words: Vec<String> = (1..).zip(&all).map(|(number, one)| line(number, one)).collect();
    let placed: Vec<Placed> = vec![(MBR_ENTRIES as u64, entries), (510, vec![0x55, 0xaa])];
    let mend = Mend::bytes(at, placed, format!("the file systems that were found ({})", words.join("; ")));
    Ok(mend.proposed(format!("proposed by the file systems that were found: {}", words.join("; "))))
}

fn line(number: usize, one: &Found) -> String {
    let (first, sectors) = (one.start / SECTOR, one.size.div_ceil(SECTOR));
    format!("partition {number}, {}, sectors {first} to {}", one.name, first + sectors - 1)
}

/// An entry that begins with nothing, moved to the one file system that no entry contains.
pub(super) fn moved(layout: &Layout, at: usize, number: u32, start: u64) -> Result<Mend, String> {
    let disk = layout.disk(at);
    let partition = disk.table.partitions.iter().find(|partition| partition.number == number);
    let partition = partition.ok_or("its entry cannot be found")?;
    let mut lost = lost(layout, at);
    let (Some(volume), None) = (lost.next(), lost.next()) else {
        return Err("more than one file system is in no partition".to_owned());
    };
    let one = found(layout, volume).filter(|one| one.start == start).ok_or(NO_SIZE)?;
    // As far as it reached, if that is possible.
    let reaches = partition.size >= one.size && start + partition.size <= next(disk, start, Some(number));
    let size = if reaches { partition.size } else { one.size };
    entry(disk, at, number, &Found { size, ..one }, false)
}

/// An entry for the file system at `start` that no partition contains, with the number that its place suggests.
pub(super) fn restored(layout: &Layout, at: usize, start: u64) -> Result<Mend, String> {
    let disk = layout.disk(at);
    let is_it = |v: &usize| layout.volume(*v).disk == at && layout.volume(*v).start == start;
    let volume = (0..layout.set.volumes.len()).find(is_it).ok_or(NO_SIZE)?;
    added(disk, at, &found(layout, volume).ok_or(NO_SIZE)?)
}

/// An entry for the one EFI file system on these disks that no partition contains.
pub(super) fn efi(layout: &Layout) -> Result<Mend, String> {
    const NONE: &str = "there is no EFI partition";
    let lost = layout.set.disks.iter().enumerate().flat_map(|(at, disk)| {
        let is_free = |start: &u64| !disk.table.partitions.iter().any(|own| (own.start..own.end()).contains(start));
        let starts = search_file_systems(&*disk.device).into_iter().map(|(start, _)| start).filter(is_free);
        let section = |start| (start, Section::new(disk.device.clone(), start, u64::MAX));
        starts.map(section).map(move |(start, bytes)| {
            (at, identify(&bytes).and_then(|contains| found_in(start, &bytes, contains.kind)))
        })
    });
    let mut lost = lost.filter_map(|(at, one)| Some((at, one.filter(|one| one.kind == EFI)?)));
    let (at, one) = lost.next().ok_or(NONE)?;
    match lost.next() {
        None => added(layout.disk(at), at, &one),
        Some(_) => Err("more than one EFI file system is in no partition".to_owned()),
    }
}

/// A new entry with the number that the place suggests.
fn added(disk: &OpenDisk, at: usize, one: &Found) -> Result<Mend, String> {
    let start = one.start;
    let partitions = &disk.table.partitions;
    let is_free = |number: &u32| partitions.iter().all(|partition| partition.number != *number);
    let fits =
        |number: &u32| partitions.iter().all(|partition| (partition.number < *number) == (partition.start < start));
    let most = if disk.gpt.is_there() { 128 } else { MAX_ENTRIES as u32 };
    let number = (1..=most).filter(is_free).find(fits).ok_or("which number it had is not known")?;
    entry(disk, at, number, one, true)
}

/// An entry whose partition is not as long as its file system.
pub(super) fn resized(layout: &Layout, volume: usize) -> Result<Mend, String> {
    let own = layout.volume(volume);
    let partition = own.partition.as_ref().ok_or("no partition contains it")?;
    let one = found(layout, volume).ok_or(NO_SIZE)?;
    entry(layout.disk(own.disk), own.disk, partition.number, &one, false)
}

/// An entry with the type of an EFI partition.
pub(super) fn typed(layout: &Layout, volume: usize) -> Result<Mend, String> {
    let own = layout.volume(volume);
    let partition = own.partition.as_ref().ok_or("no partition contains it")?;
    let disk = layout.disk(own.disk);
    let copy = disk.gpt.primary.as_ref().or(disk.gpt.backup.as_ref()).map_err(|_| "it is no GPT".to_owned())?;
    let entry = GptEntry {
        number: partition.number,
        start: partition.start / SECTOR,
        sectors: partition.size / SECTOR,
        kind: Some(PartitionType::EFI_SYSTEM),
        id: [0; 16],
    };
    let placed = table_writer::with_entry(copy, &disk.gpt, disk.device.size(), entry)?;
    let mend = Mend::bytes(own.disk, placed, "the system mounts it at /boot/efi");
    Ok(mend.proposed(format!("proposed: partition {} with the type of an EFI partition", partition.number)))
}

/// Where the next partition behind a place begins, without one of them.
fn next(disk: &OpenDisk, start: u64, without: Option<u32>) -> u64 {
    let others = disk.table.partitions.iter().filter(|other| Some(other.number) != without);
    others.map(|other| other.start).filter(|other| *other > start).min().unwrap_or(disk.device.size())
}

/// An entry of the table that is there, as a proposal.
fn entry(disk: &OpenDisk, at: usize, number: u32, one: &Found, is_new: bool) -> Result<Mend, String> {
    let (start, sectors) = (one.start / SECTOR, one.size.div_ceil(SECTOR));
    if one.start + sectors * SECTOR > next(disk, one.start, Some(number)) {
        return Err("the file system reaches into the next partition".to_owned());
    }
    let index = usize::try_from(number).ok().and_then(|number| number.checked_sub(1)).unwrap_or_default();
    let words = line(index + 1, one);
    let placed = match disk.gpt.primary.as_ref().or(disk.gpt.backup.as_ref()) {
        Ok(copy) => {
            let digest = Digest::hash(format!("{}/{start}", copy.disk_id).as_bytes());
            let kind = is_new.then_some(gpt_kind(one.kind));
            let entry = GptEntry { number, start, sectors, kind, id: random_id(&digest) };
            table_writer::with_entry(copy, &disk.gpt, disk.device.size(), entry)?
        }
        Err(_) => {
            require_own(disk)?;
            if index >= MAX_ENTRIES {
                return Err("it is in an extended partition".to_owned());
            }
            let entry = table_writer::mbr_entry(one.kind, start, sectors).ok_or("an MBR cannot name that place")?;
            // Its flag stays, and its type where it has one.
            let place = (MBR_ENTRIES + index * MBR_ENTRY) as u64;
            match is_new {
                true => vec![(place, entry.to_vec())],
                false => vec![(place + 1, entry[1..4].to_vec()), (place + 5, entry[5..].to_vec())],
            }
        }
    };
    let mend = Mend::bytes(at, placed, format!("the file system that was found ({words})"));
    Ok(mend.proposed(format!("proposed by the file system that was found: {words}")))
}

/// Refuses disks whose table is another's.
fn require_own(disk: &OpenDisk) -> Result<(), String> {
    let whole = identify(&*disk.device).map(|found| found.kind).filter(|kind| CONTAINERS.contains(kind));
    if let Some(kind) = whole {
        return Err(format!("the whole disk is marked as {}", kind.name()));
    }
    let mbr = MbrTable::read(&*disk.device);
    match disk.gpt.is_there() || mbr.is_some_and(|mbr| mbr.protective > 0) {
        true => Err("it has traces of a GPT".to_owned()),
        false => Ok(()),
    }
}
