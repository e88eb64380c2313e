//! Partition tables as they are to be written: a copy of a GPT from its twin, its protective MBR, an entry of an MBR (UEFI 2.10, 5.2 and
//! 5.3). Pure: what is written is returned, with its place.

use super::checksums::crc32;
use super::gpt::GptCopy;
use super::partitions::Partition;
use super::{GptPair, ReadAt};
use crate::formats::numbers::le32;

/// The size of a sector in bytes. Where it is another one, that is a guess from what is on the disk, and nothing is written.
const SECTOR: u64 = 512;
/// The entries of a usual table, and the size of each.
const ENTRIES: usize = 128;
const ENTRY: usize = 128;
/// The sectors that these take.
const ENTRY_SECTORS: u64 = 32;
/// Where an MBR's entries begin, and the size of each.
pub const MBR_ENTRIES: usize = 446;
/// The size of an MBR's entry in bytes.
pub const MBR_ENTRY: usize = 16;
/// The entry that covers a GPT: its first sector in the old way of counting, as partition editors write it.
const COVER: [u8; 8] = [0, 0, 2, 0, 0xee, 0xff, 0xff, 0xff];
/// A place that the old way of counting cannot give.
const BEYOND: [u8; 3] = [0xfe, 0xff, 0xff];

/// Bytes, and where they are written.
pub type Placed = (u64, Vec<u8>);

/// The copy at the beginning, from that at the end.
///
/// # Errors
/// Why it is not written.
pub fn primary_from(backup: &GptCopy, pair: &GptPair, size: u64) -> Result<Vec<Placed>, String> {
    require_usual(backup, pair, size)?;
    Ok(copy_to(backup, (1, size / SECTOR - 1), 2))
}

/// The copy at the end, from that at the beginning.
///
/// # Errors
/// Why it is not written.
pub fn backup_from(primary: &GptCopy, pair: &GptPair, size: u64) -> Result<Vec<Placed>, String> {
    require_usual(primary, pair, size)?;
    let last = size / SECTOR - 1;
    Ok(copy_to(primary, (last, 1), last - ENTRY_SECTORS))
}

fn require_usual(source: &GptCopy, pair: &GptPair, size: u64) -> Result<(), String> {
    if pair.sector != SECTOR {
        return Err(format!("the size of its sectors ({} bytes) is only guessed", pair.sector));
    }
    if source.entry_size != ENTRY || source.entries.len() != ENTRIES * ENTRY {
        return Err("its table has an unusual number of entries".to_owned());
    }
    let last = size / SECTOR - 1;
    let (own, other) = (source.at, source.other);
    let ends = if own == 1 { other } else { own };
    if ends != last || own.min(other) != 1 {
        return Err(format!(
            "the backup of its table belongs into sector {ends}, which is not the disk's last one ({last})"
        ));
    }
    let (first, end) = source.usable;
    if first < 2 + ENTRY_SECTORS || end >= last - ENTRY_SECTORS || first > end {
        return Err("its table has no room for its own copies".to_owned());
    }
    let is_outside = |partition: &Partition| partition.start / SECTOR < first || partition.end() > (end + 1) * SECTOR;
    if let Some(partition) = source.partitions.iter().find(|partition| is_outside(partition)) {
        return Err(format!("partition {} is outside of the space for partitions", partition.number));
    }
    match overlapping(&source.partitions) {
        Some((one, other)) => Err(format!("partitions {one} and {other} overlap")),
        None => Ok(()),
    }
}

/// The numbers of two partitions that overlap.
fn overlapping(partitions: &[Partition]) -> Option<(u32, u32)> {
    let mut sorted: Vec<&Partition> = partitions.iter().collect();
    sorted.sort_by_key(|partition| partition.start);
    sorted.windows(2).find(|pair| pair[0].end() > pair[1].start).map(|pair| (pair[0].number, pair[1].number))
}

/// A copy for the sector `at`, which names `other` as that of its twin.
fn copy_to(source: &GptCopy, (at, other): (u64, u64), entries_at: u64) -> Vec<Placed> {
    let mut header = source.header.clone();
    for (place, number) in [(24, at), (32, other), (72, entries_at)] {
        header[place..place + 8].copy_from_slice(&number.to_le_bytes());
    }
    sign(&mut header);
    vec![(at * SECTOR, header), (entries_at * SECTOR, source.entries.clone())]
}

/// Writes a header's checksum; its size was verified when it was read.
fn sign(header: &mut [u8]) {
    header[16..20].fill(0);
    let size = le32(header, 12) as usize;
    let sum = crc32(header.get(..size).unwrap_or_default());
    header[16..20].copy_from_slice(&sum.to_le_bytes());
}

/// An entry of a GPT as it is to be.
#[derive(Debug, Clone, Copy)]
pub struct GptEntry {
    /// Its number, from 1.
    pub number: u32,
    /// Its first sector.
    pub start: u64,
    /// Its sectors.
    pub sectors: u64,
    /// Its type, as it is written; `None` for the one that it has.
    pub kind: Option<[u8; 16]>,
    /// Its id, if it has none.
    pub id: [u8; 16],
}

/// Both copies of a table with one entry changed, or added.
///
/// # Errors
/// Why it is not written.
pub fn with_entry(copy: &GptCopy, pair: &GptPair, size: u64, entry: GptEntry) -> Result<Vec<Placed>, String> {
    require_usual(&GptCopy { partitions: Vec::new(), ..copy.clone() }, pair, size)?;
    let index =
        entry.number.checked_sub(1).and_then(|index| usize::try_from(index).ok()).filter(|index| *index < ENTRIES);
    let place = index.ok_or("its table has no such entry")? * ENTRY;
    let last = entry.start.checked_add(entry.sectors).and_then(|end| end.checked_sub(1)).ok_or("it has no end")?;
    let mut entries = copy.entries.clone();
    let own = &mut entries[place..place + ENTRY];
    if let Some(kind) = entry.kind {
        own[..16].copy_from_slice(&kind);
    }
    if own[16..32] == [0; 16] {
        own[16..32].copy_from_slice(&entry.id);
    }
    own[32..40].copy_from_slice(&entry.start.to_le_bytes());
    own[40..48].copy_from_slice(&last.to_le_bytes());
    let sum = crc32(&entries).to_le_bytes();
    let mut header = copy.header.clone();
    header[88..92].copy_from_slice(&sum);
    let changed = GptCopy { entries, header, ..copy.clone() };
    let end = size / SECTOR - 1;
    Ok([copy_to(&changed, (1, end), 2), copy_to(&changed, (end, 1), end - ENTRY_SECTORS)].concat())
}

/// Both copies of a table whose headers are lost, from the entries at both places if these are the same; the disk gets this id.
///
/// # Errors
/// Why it is not written.
pub fn both_from_entries(disk: &dyn ReadAt, disk_id: [u8; 16]) -> Result<Vec<Placed>, String> {
    let (size, bytes) = (disk.size(), ENTRIES * ENTRY);
    let last =
        (size / SECTOR).checked_sub(1).filter(|last| *last > 4 * ENTRY_SECTORS).ok_or("the disk is too small")?;
    let read = |sector: u64| disk.bytes_at(sector * SECTOR, bytes).map_err(|_| "its entries cannot be read".to_owned());
    let (entries, copy) = (read(2)?, read(last - ENTRY_SECTORS)?);
    if entries != copy || entries.iter().all(|byte| *byte == 0) {
        return Err("neither copy has a header, and their entries are lost, or differ".to_owned());
    }
    let mut header = vec![0; 512];
    header[..12].copy_from_slice(b"EFI PART\0\0\x01\0");
    header[12..16].copy_from_slice(&92u32.to_le_bytes());
    let (first, end) = (2 + ENTRY_SECTORS, last - ENTRY_SECTORS - 1);
    for (place, number) in [(24, 1), (32, last), (40, first), (48, end), (72, 2)] {
        header[place..place + 8].copy_from_slice(&number.to_le_bytes());
    }
    header[56..72].copy_from_slice(&disk_id);
    for (place, number) in [(80, ENTRIES as u32), (84, ENTRY as u32), (88, crc32(&entries))] {
        header[place..place + 4].copy_from_slice(&number.to_le_bytes());
    }
    sign(&mut header);
    let patched = {
        let mut patches = super::Patches::default();
        patches.write(disk, SECTOR, &header).map_err(|_| "the disk is too small")?;
        GptPair::read(&super::Patched::new(disk, &patches))
    };
    let primary = patched.primary.as_ref().map_err(|_| "its entries are not valid".to_owned())?;
    let mut all = vec![(SECTOR, header)];
    all.extend(backup_from(primary, &patched, size)?);
    Ok(all)
}

/// The first sector with an entry that covers a GPT, and the mark of a boot sector; its code stays as it is.
///
/// # Errors
/// When it names partitions itself.
pub fn protective(first: &[u8], size: u64) -> Result<Vec<u8>, String> {
    let mut sector = first.to_vec();
    let entries = sector.get_mut(MBR_ENTRIES..512).ok_or("the disk is too small")?;
    let whole = u32::try_from(size / SECTOR - 1).unwrap_or(u32::MAX);
    // What covers the disk from its second sector on is that entry, whatever its type says.
    let covers = |entry: &[u8]| le32(entry, 8) == 1 && [whole, u32::MAX].contains(&le32(entry, 12));
    let is_other =
        |entry: &[u8]| entry.iter().any(|byte| *byte != 0) && entry.get(4) != Some(&COVER[4]) && !covers(entry);
    if entries[64..] == [0x55, 0xaa] && entries[..64].chunks(MBR_ENTRY).any(is_other) {
        return Err("its first sector names partitions for other systems".to_owned());
    }
    entries.fill(0);
    entries[..8].copy_from_slice(&COVER);
    entries[8..12].copy_from_slice(&1u32.to_le_bytes());
    entries[12..16].copy_from_slice(&whole.to_le_bytes());
    entries[64..].copy_from_slice(&[0x55, 0xaa]);
    Ok(sector)
}

/// An entry of an MBR, by sectors; `None` for what it cannot name.
#[must_use]
pub fn mbr_entry(kind: u8, start: u64, sectors: u64) -> Option<[u8; MBR_ENTRY]> {
    let (start, sectors) = (u32::try_from(start).ok()?, u32::try_from(sectors).ok()?);
    let mut entry = [0; MBR_ENTRY];
    entry[1..4].copy_from_slice(&BEYOND);
    entry[4] = kind;
    entry[5..8].copy_from_slice(&BEYOND);
    entry[8..12].copy_from_slice(&start.to_le_bytes());
    entry[12..].copy_from_slice(&sectors.to_le_bytes());
    (sectors > 0).then_some(entry)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::devices::{MbrTable, PartitionTable};

    const LAST: usize = 299;

    /// A disk of 300 sectors with both copies of a table, made by hand.
    fn disk() -> Vec<u8> {
        let mut disk = vec![0; (LAST + 1) * 512];
        let mut entries = vec![0; ENTRIES * ENTRY];
        for (index, first, last) in [(0, 40u64, 59u64), (2, 60, 150)] {
            entries[index * ENTRY..index * ENTRY + 32].fill(7);
            entries[index * ENTRY + 32..index * ENTRY + 40].copy_from_slice(&first.to_le_bytes());
            entries[index * ENTRY + 40..index * ENTRY + 48].copy_from_slice(&last.to_le_bytes());
        }
        disk[1024..1024 + entries.len()].copy_from_slice(&entries);
        disk[(LAST - 32) * 512..LAST * 512].copy_from_slice(&entries);
        for (at, bytes) in both_from_entries(&disk, [9; 16]).unwrap() {
            disk[at as usize..at as usize + bytes.len()].copy_from_slice(&bytes);
        }
        let first = protective(&disk[..512], disk.len() as u64).unwrap();
        disk[..512].copy_from_slice(&first);
        disk
    }

    fn write(disk: &mut [u8], what: &[Placed]) {
        for (at, bytes) in what {
            disk[*at as usize..*at as usize + bytes.len()].copy_from_slice(bytes);
        }
    }

    #[test]
    fn each_copy_is_written_byte_for_byte_from_the_other() {
        let whole = disk();
        let size = whole.len() as u64;
        let pair = GptPair::read(&whole);
        assert!(pair.primary.as_ref().unwrap().agrees_with(pair.backup.as_ref().unwrap()));
        let mut damaged = whole.clone();
        damaged[512..34 * 512].fill(0xee);
        let pair = GptPair::read(&damaged);
        write(&mut damaged, &primary_from(pair.backup.as_ref().unwrap(), &pair, size).unwrap());
        assert!(damaged == whole);
        damaged[(LAST - 32) * 512..].fill(0xee);
        let pair = GptPair::read(&damaged);
        write(&mut damaged, &backup_from(pair.primary.as_ref().unwrap(), &pair, size).unwrap());
        assert!(damaged == whole);
        assert_eq!(PartitionTable::read(&whole).partitions.len(), 2);
        assert_eq!(MbrTable::read(&whole).unwrap().covered, LAST as u32);
        let mut typed = whole[..512].to_vec();
        typed[MBR_ENTRIES + 4] = 0x83;
        assert!(protective(&typed, size).unwrap() == whole[..512]);
    }

    #[test]
    fn an_entry_is_changed_in_both_copies() {
        let mut disk = disk();
        let pair = GptPair::read(&disk);
        let entry = GptEntry { number: 2, start: 160, sectors: 20, kind: Some([5; 16]), id: [6; 16] };
        let copy = pair.primary.as_ref().unwrap();
        let placed = with_entry(copy, &pair, disk.len() as u64, entry).unwrap();
        write(&mut disk, &placed);
        let pair = GptPair::read(&disk);
        let (one, other) = (pair.primary.unwrap(), pair.backup.unwrap());
        assert!(one.agrees_with(&other));
        let told: Vec<_> = one.partitions.iter().map(|p| (p.number, p.start / 512, p.size / 512)).collect();
        assert_eq!(told, [(1, 40, 20), (2, 160, 20), (3, 60, 91)]);
    }

    #[test]
    fn unusual_tables_are_not_written() {
        let whole = disk();
        let why = |disk: &Vec<u8>| {
            let pair = GptPair::read(disk);
            let copy = pair.primary.as_ref().unwrap();
            backup_from(copy, &pair, disk.len() as u64).unwrap_err()
        };
        let grown = [whole.clone(), vec![0; 5120]].concat();
        assert!(why(&grown).contains("not the disk's last one (309)"), "{}", why(&grown));
        let mut overlap = whole.clone();
        overlap[1024 + 2 * ENTRY + 32] = 50;
        let entries = crc32(&overlap[1024..34 * 512]).to_le_bytes();
        overlap[512 + 88..512 + 92].copy_from_slice(&entries);
        sign(&mut overlap[512..1024]);
        assert_eq!(why(&overlap), "partitions 1 and 3 overlap");
        let mut lost = whole;
        lost[512..1024].fill(0);
        lost[LAST * 512..].fill(0);
        lost[1024] ^= 1;
        assert!(both_from_entries(&lost, [1; 16]).is_err(), "the entries differ");
        assert!(both_from_entries(&vec![0; 4096], [1; 16]).is_err());
    }

    #[test]
    fn partitions_for_other_systems_are_not_covered() {
        let mut first = vec![0; 512];
        first[0] = 0xeb;
        first[MBR_ENTRIES..MBR_ENTRIES + 16].copy_from_slice(&mbr_entry(0x83, 2048, 100).unwrap());
        first[510..].copy_from_slice(&[0x55, 0xaa]);
        assert!(protective(&first, 1 << 20).is_err());
        first[510] = 0;
        let covered = protective(&first, 1 << 20).unwrap();
        assert_eq!((covered[0], covered[450], &covered[458..462]), (0xeb, 0xee, &2047u32.to_le_bytes()[..]));
        assert!(mbr_entry(0x83, 1 << 33, 1).is_none() && mbr_entry(0x83, 1, 0).is_none());
    }
}
