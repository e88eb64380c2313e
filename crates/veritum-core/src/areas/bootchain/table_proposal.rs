//! Partition tables that are lost: what can be proposed by what is still there. It is written only when a person agreed to it.

use super::layout::Layout;
use super::mend::Mend;
use crate::devices::table_writer::{self, MBR_ENTRIES, MBR_ENTRY, Placed};
use crate::devices::{
    FatFiles, MbrTable, OpenDisk, PartitionType, ReadAt as _, Section, VolumeKind, claimed_size, identify,
};
use crate::model::{Digest, error_words};

const SECTOR: u64 = 512;
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
    let mut id = [0; 16];
    id.copy_from_slice(&digest.as_bytes()[..16]);
    // A random UUID by its form (RFC 9562, 5.4), in the byte order of a GPT.
    id[7] = id[7] & 0x0f | 0x40;
    id[8] = id[8] & 0x3f | 0x80;
    let placed = table_writer::both_from_entries(&*disk.device, id)?;
    let mend = Mend::bytes(at, placed, "the entries at both ends of the disk");
    Ok(mend.proposed("the entries at both ends of the disk are the same, and their checksum is lost"))
}

/// A file system that was found, as an entry would name it.
struct Found {
    start: u64,
    size: u64,
    kind: u8,
    name: &'static str,
}

/// The size of what begins here, and the type of an entry for it.
fn found(layout: &Layout, at: usize) -> Option<Found> {
    let volume = layout.volume(at);
    let contains = volume.contains.as_ref()?;
    let size = claimed_size(&volume.bytes)?;
    let kind = match contains.kind {
        VolumeKind::Swap => 0x82,
        VolumeKind::Vfat if has_efi(&volume.bytes) => 0xef,
        VolumeKind::Vfat => 0x0c,
        VolumeKind::Ntfs | VolumeKind::Exfat => 0x07,
        _ => 0x83,
    };
    Some(Found { start: volume.start, size, kind, name: contains.kind.name() })
}

fn has_efi(bytes: &Section) -> bool {
    let listed = FatFiles::open(bytes).and_then(|files| files.list());
    listed.is_ok_and(|entries| entries.iter().any(|entry| entry.is_folder && entry.path.eq_ignore_ascii_case("efi")))
}

/// An MBR that names no partition, by the file systems that were found: where each begins is exact, where it ends is what it says itself.
pub(super) fn mbr(layout: &Layout, at: usize) -> Result<Mend, String> {
    let disk = layout.disk(at);
    require_own(disk)?;
    let own = (0..layout.set.volumes.len()).filter(|v| layout.volume(*v).disk == at && layout.volume(*v).is_lost());
    let volumes: Vec<usize> = own.filter(|v| layout.volume(*v).contains.is_some()).collect();
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

/// An entry of an MBR that begins with nothing, moved to the one file system that no entry contains.
pub(super) fn moved(layout: &Layout, at: usize, number: u32, start: u64) -> Result<Mend, String> {
    let disk = layout.disk(at);
    require_own(disk)?;
    let partition = disk.table.partitions.iter().find(|partition| partition.number == number);
    let partition = partition.ok_or("its entry cannot be found")?;
    let index =
        usize::try_from(number).ok().and_then(|number| number.checked_sub(1)).filter(|index| *index < MAX_ENTRIES);
    let (PartitionType::Mbr(kind), Some(index)) = (partition.kind, index) else {
        return Err("both copies of its table say so: which one it was is not known".to_owned());
    };
    let mut lost =
        (0..layout.set.volumes.len()).filter(|v| layout.volume(*v).disk == at && layout.volume(*v).is_lost());
    let (Some(volume), None) = (lost.next(), lost.next()) else {
        return Err("more than one file system is in no partition".to_owned());
    };
    let one =
        found(layout, volume).filter(|one| one.start == start).ok_or("how large the file system is cannot be told")?;
    let others = disk.table.partitions.iter().filter(|other| other.number != number);
    let next = others.map(|other| other.start).filter(|other| *other > start).min().unwrap_or(disk.device.size());
    // As far as it reached, if that is possible.
    let size = if partition.size >= one.size && start + partition.size <= next { partition.size } else { one.size };
    if start + size > next {
        return Err("the file system reaches into the next partition".to_owned());
    }
    let entry =
        table_writer::mbr_entry(kind, start / SECTOR, size.div_ceil(SECTOR)).ok_or("an MBR cannot name that place")?;
    // Its flag stays.
    let place = (MBR_ENTRIES + index * MBR_ENTRY + 1) as u64;
    let words = line(index + 1, &Found { size, ..one });
    let mend = Mend::bytes(at, vec![(place, entry[1..].to_vec())], format!("the file system that was found ({words})"));
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
