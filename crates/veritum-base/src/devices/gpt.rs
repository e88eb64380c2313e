//! The two copies of a GUID partition table (UEFI 2.10, 5.3), each by itself.

use super::ReadAt;
use super::checksums::crc32;
use super::partitions::{MAX_PARTITIONS, Partition, PartitionType};
use crate::formats::numbers::{guid, le32, le64};

/// Larger entries are not valid.
const MAX_ENTRY: usize = 4096;
const SIGNATURE: &[u8] = b"EFI PART";
/// The bit of an entry's attributes by which a BIOS may start from it.
const LEGACY_BOOT: u64 = 1 << 2;

/// What is wrong with one copy.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum GptFault {
    /// There is none: its place does not begin with the signature.
    Absent,
    /// The medium cannot be read there, or ends before.
    Unreadable,
    /// The checksum of the header is wrong.
    Header,
    /// The header is valid, and names another place as its own.
    WrongPlace,
    /// The header names an impossible table.
    Implausible,
    /// The checksum of the entries is wrong.
    Entries,
}

/// One copy that is valid.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct GptCopy {
    /// The sector of its header.
    pub at: u64,
    /// The sector that it names as that of the other header.
    pub other: u64,
    /// The first and the last sector for partitions.
    pub usable: (u64, u64),
    /// The disk's id.
    pub disk_id: String,
    /// The sector of its entries.
    pub entries_at: u64,
    /// The bytes of all entries.
    pub entries: Vec<u8>,
    /// The size of an entry in bytes.
    pub entry_size: usize,
    /// The sector with its header.
    pub header: Vec<u8>,
    /// The partitions.
    pub partitions: Vec<Partition>,
}

/// Both copies.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct GptPair {
    /// The size of a sector in bytes.
    pub sector: u64,
    /// The one at the beginning.
    pub primary: Result<GptCopy, GptFault>,
    /// The one in the last sector, or where the first one says.
    pub backup: Result<GptCopy, GptFault>,
}

impl GptPair {
    /// Reads both copies. The size of a sector is that at which a copy is valid; 512 bytes where none is.
    #[must_use]
    pub fn read(disk: &dyn ReadAt) -> Self {
        let pairs = [512, 4096].map(|sector| Self::read_with(disk, sector));
        let [usual, large] = pairs;
        if usual.primary.is_err() && usual.backup.is_err() && (large.primary.is_ok() || large.backup.is_ok()) {
            return large;
        }
        usual
    }

    fn read_with(disk: &dyn ReadAt, sector: u64) -> Self {
        let primary = GptCopy::read(disk, sector, 1);
        let last = (disk.size() / sector).saturating_sub(1);
        let backup = match (GptCopy::read(disk, sector, last), &primary) {
            // On a disk that has grown it is still where it was.
            (Err(fault), Ok(first)) if first.other != last => GptCopy::read(disk, sector, first.other).or(Err(fault)),
            (backup, _) => backup,
        };
        Self { sector, primary, backup }
    }

    /// Whether there is any trace of a table.
    #[must_use]
    pub fn is_there(&self) -> bool {
        let absent = |copy: &Result<GptCopy, GptFault>| matches!(copy, Err(GptFault::Absent | GptFault::Unreadable));
        !absent(&self.primary) || !absent(&self.backup)
    }
}

impl GptCopy {
    fn read(disk: &dyn ReadAt, sector: u64, at: u64) -> Result<Self, GptFault> {
        let place = at.checked_mul(sector).ok_or(GptFault::Implausible)?;
        let count = usize::try_from(sector).map_err(|_| GptFault::Implausible)?;
        let header = disk.bytes_at(place, count).map_err(|_| GptFault::Unreadable)?;
        if !header.starts_with(SIGNATURE) {
            return Err(GptFault::Absent);
        }
        let size = usize::try_from(le32(&header, 12)).unwrap_or(usize::MAX);
        let mut summed = header.get(..size).filter(|_| size >= 92).ok_or(GptFault::Header)?.to_vec();
        summed[16..20].fill(0);
        if crc32(&summed) != le32(&header, 16) {
            return Err(GptFault::Header);
        }
        if le64(&header, 24) != at {
            return Err(GptFault::WrongPlace);
        }
        let (count, entry) = (le32(&header, 80) as usize, le32(&header, 84) as usize);
        if count > 4 * MAX_PARTITIONS || !(128..=MAX_ENTRY).contains(&entry) {
            return Err(GptFault::Implausible);
        }
        let entries_at = le64(&header, 72);
        let place = entries_at.checked_mul(sector).ok_or(GptFault::Implausible)?;
        let entries = disk.bytes_at(place, count * entry).map_err(|_| GptFault::Unreadable)?;
        if crc32(&entries) != le32(&header, 88) {
            return Err(GptFault::Entries);
        }
        let all = entries.chunks_exact(entry).enumerate();
        let partitions =
            all.filter_map(|(index, entry)| partition(index, entry, sector)).take(MAX_PARTITIONS).collect();
        Ok(Self {
            at,
            other: le64(&header, 32),
            usable: (le64(&header, 40), le64(&header, 48)),
            disk_id: guid(&header[56..72]),
            entries_at,
            entries,
            entry_size: entry,
            header,
            partitions,
        })
    }

    /// Whether both copies describe the same partitions of the same disk.
    #[must_use]
    pub fn agrees_with(&self, other: &Self) -> bool {
        self.disk_id == other.disk_id && self.entries == other.entries && self.usable == other.usable
    }
}

fn partition(index: usize, entry: &[u8], sector: u64) -> Option<Partition> {
    let (first, last) = (le64(entry, 32), le64(entry, 40));
    let sectors = last.checked_sub(first)?.checked_add(1)?;
    let kind: [u8; 16] = entry[..16].try_into().ok()?;
    if kind == [0; 16] {
        return None;
    }
    Some(Partition {
        number: u32::try_from(index + 1).ok()?,
        start: first.checked_mul(sector)?,
        size: sectors.checked_mul(sector)?,
        kind: PartitionType::Gpt(kind),
        id: guid(&entry[16..32]),
        is_active: le64(entry, 48) & LEGACY_BOOT != 0,
    })
}
