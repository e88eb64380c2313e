//! Partition tables: MBR with its chain of further tables, and GPT (UEFI 2.10, 5.2 and 5.3).

use super::gpt::{GptCopy, GptPair};
use super::{ReadAt, Window, identify};
use crate::formats::numbers::{le16, le32};

/// More partitions are not read.
pub(super) const MAX_PARTITIONS: usize = 256;
/// The types of an MBR's entries that contain further tables.
const EXTENDED: [u8; 3] = [0x05, 0x0f, 0x85];
/// The type of an MBR's entry that covers a disk with a GPT.
const PROTECTIVE: u8 = 0xee;
/// The type of a partition for a boot loader's code (21686148-6449-6E6F-744E-656564454649), as it is written.
const BOOT_CODE: &[u8; 16] = b"Hah!IdontNeedEFI";
/// An extended boot loader partition: bc13c2ff-59e6-4262-a352-b275fd6f7172.
const EXTENDED_BOOT: [u8; 16] =
    [0xff, 0xc2, 0x13, 0xbc, 0xe6, 0x59, 0x62, 0x42, 0xa3, 0x52, 0xb2, 0x75, 0xfd, 0x6f, 0x71, 0x72];
/// The type of a file system of Linux (0FC63DAF-8483-4772-8E79-3D69D8477DE4), as it is written.
const LINUX_TYPE: [u8; 16] =
    [0xaf, 0x3d, 0xc6, 0x0f, 0x83, 0x84, 0x72, 0x47, 0x8e, 0x79, 0x3d, 0x69, 0xd8, 0x47, 0x7d, 0xe4];
/// The type of an EFI system partition (C12A7328-F81F-11D2-BA4B-00A0C93EC93B), as it is written.
const EFI_SYSTEM_TYPE: [u8; 16] =
    [0x28, 0x73, 0x2a, 0xc1, 0x1f, 0xf8, 0xd2, 0x11, 0xba, 0x4b, 0x00, 0xa0, 0xc9, 0x3e, 0xc9, 0x3b];

/// The kind of a partition table.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TableKind {
    /// None: the disk is one file system, or something unknown.
    None,
    /// A master boot record.
    Mbr,
    /// A GUID partition table.
    Gpt,
}

/// The type of a partition.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PartitionType {
    /// The byte of an MBR's entry.
    Mbr(u8),
    /// The GUID of a GPT's entry, as it is written.
    Gpt([u8; 16]),
}

/// Swap space of Linux (0657FD6D-A4AB-43C4-84E5-0933C84B4F4F), as it is written.
const SWAP_TYPE: [u8; 16] =
    [0x6d, 0xfd, 0x57, 0x06, 0xab, 0xa4, 0xc4, 0x43, 0x84, 0xe5, 0x09, 0x33, 0xc8, 0x4b, 0x4f, 0x4f];

impl PartitionType {
    /// A file system of Linux, as it is written.
    pub const LINUX: [u8; 16] = LINUX_TYPE;
    /// Swap space of Linux.
    pub const SWAP: [u8; 16] = SWAP_TYPE;
    /// A FAT, exFAT or NTFS file system (EBD0A0A2-B9E5-4433-87C0-68B6B72699C7), as it is written.
    pub const BASIC_DATA: [u8; 16] =
        [0xa2, 0xa0, 0xd0, 0xeb, 0xe5, 0xb9, 0x33, 0x44, 0x87, 0xc0, 0x68, 0xb6, 0xb7, 0x26, 0x99, 0xc7];
    /// An EFI system partition.
    pub const EFI_SYSTEM: [u8; 16] = EFI_SYSTEM_TYPE;

    /// Whether it contains a boot loader's code and no file system.
    #[must_use]
    pub fn is_boot_code(self) -> bool {
        self == Self::Gpt(*BOOT_CODE)
    }

    /// Whether systemd mounts it at /boot without a line in fstab(5) (Discoverable Partitions Specification, "Extended Boot Loader Partition").
    #[must_use]
    pub fn is_extended_boot(self) -> bool {
        self == Self::Gpt(EXTENDED_BOOT)
    }

    /// Whether it is for a file system of Linux.
    #[must_use]
    pub fn is_linux(self) -> bool {
        matches!(self, Self::Mbr(0x83)) || self == Self::Gpt(LINUX_TYPE)
    }

    /// Whether it is an EFI system partition (UEFI 2.10, 5.2.2 and 5.3.3).
    #[must_use]
    pub fn is_efi_system(self) -> bool {
        matches!(self, Self::Mbr(0xef)) || self == Self::Gpt(EFI_SYSTEM_TYPE)
    }
}

/// A partition, in bytes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Partition {
    /// Its number, as the kernel counts.
    pub number: u32,
    /// Where it begins.
    pub start: u64,
    /// Its size.
    pub size: u64,
    /// Its type.
    pub kind: PartitionType,
    /// Its id, as in `PARTUUID=`.
    pub id: String,
    /// Whether a BIOS that demands it may start from it.
    pub is_active: bool,
}

impl Partition {
    /// Its bytes.
    #[must_use]
    pub fn on<'a>(&self, disk: &'a dyn ReadAt) -> Window<'a> {
        Window::new(disk, self.start, self.size)
    }

    /// Where it ends.
    #[must_use]
    pub fn end(&self) -> u64 {
        self.start.saturating_add(self.size)
    }
}

/// What a disk's partition table says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PartitionTable {
    /// Its kind.
    pub kind: TableKind,
    /// Its partitions.
    pub partitions: Vec<Partition>,
    /// Whether the copy at the end of the disk was read instead, because the one at the beginning is damaged.
    pub from_copy: bool,
}

impl PartitionTable {
    /// Reads a disk's table; a disk that cannot be read has none.
    #[must_use]
    pub fn read(disk: &dyn ReadAt) -> Self {
        let gpt = GptPair::read(disk);
        match (gpt.primary, gpt.backup) {
            // Of two valid tables, that one is right whose partitions begin with file systems.
            (Ok(primary), Ok(backup)) if !primary.agrees_with(&backup) => {
                let fitting =
                    |copy: &GptCopy| copy.partitions.iter().filter(|p| identify(&p.on(disk)).is_some()).count();
                let from_copy = fitting(&backup) > fitting(&primary);
                let partitions = if from_copy { backup.partitions } else { primary.partitions };
                Self { kind: TableKind::Gpt, partitions, from_copy }
            }
            (Ok(copy), _) => Self { kind: TableKind::Gpt, partitions: copy.partitions, from_copy: false },
            (Err(_), Ok(copy)) => Self { kind: TableKind::Gpt, partitions: copy.partitions, from_copy: true },
            (Err(_), Err(_)) => match MbrTable::read(disk) {
                Some(mbr) => Self { kind: TableKind::Mbr, partitions: mbr.partitions, from_copy: false },
                None => Self { kind: TableKind::None, partitions: Vec::new(), from_copy: false },
            },
        }
    }
}

/// A master boot record with its chain of further tables.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MbrTable {
    /// The disk's signature.
    pub signature: u32,
    /// Its partitions, without the entries that cover a GPT.
    pub partitions: Vec<Partition>,
    /// The number of entries that cover a GPT.
    pub protective: u32,
    /// The number of sectors that the first of them covers.
    pub covered: u32,
}

impl MbrTable {
    /// Reads a disk's MBR; `None` if there is none.
    #[must_use]
    pub fn read(disk: &dyn ReadAt) -> Option<Self> {
        let first = disk.bytes_at(0, 512).ok()?;
        let entries: Vec<Entry> = entries(&first)?;
        // The boot sector of a file system ends like a table; its bytes there are code.
        if entries.iter().any(|entry| entry.flag & 0x7f != 0) || entries.iter().all(|entry| entry.sectors == 0) {
            return None;
        }
        let covering = || entries.iter().filter(|entry| entry.kind == PROTECTIVE && entry.sectors > 0);
        let mut table = Self {
            signature: le32(&first, 440),
            partitions: Vec::new(),
            protective: u32::try_from(covering().count()).unwrap_or_default(),
            covered: covering().next().map_or(0, |entry| entry.sectors),
        };
        for (index, entry) in (1..).zip(&entries) {
            if entry.sectors == 0 || entry.kind == 0 {
                continue;
            }
            if EXTENDED.contains(&entry.kind) {
                table.add_logical(disk, u64::from(entry.start));
            } else if entry.kind != PROTECTIVE {
                table.add(index, u64::from(entry.start), entry);
            }
        }
        table.partitions.sort_by_key(|partition| partition.number);
        Some(table)
    }

    /// Adds the partitions of the chain of tables that begins at this sector: each table names one, and the next table.
    fn add_logical(&mut self, disk: &dyn ReadAt, begin: u64) {
        let mut table = begin;
        let numbers = 5..5 + u32::try_from(MAX_PARTITIONS).unwrap_or_default();
        for number in numbers {
            let Some(entries) = disk.bytes_at(table.saturating_mul(512), 512).ok().and_then(|bytes| entries(&bytes))
            else {
                return;
            };
            if entries[0].sectors > 0 {
                self.add(number, table + u64::from(entries[0].start), &entries[0]);
            }
            let next = begin + u64::from(entries[1].start);
            // The chain leads towards the end of the disk, or in a circle.
            if entries[1].sectors == 0 || next <= table {
                return;
            }
            table = next;
        }
    }

    fn add(&mut self, number: u32, start: u64, entry: &Entry) {
        self.partitions.push(Partition {
            number,
            start: start * 512,
            size: u64::from(entry.sectors) * 512,
            kind: PartitionType::Mbr(entry.kind),
            id: format!("{:08x}-{number:02x}", self.signature),
            is_active: entry.flag == 0x80,
        });
    }
}

struct Entry {
    flag: u8,
    kind: u8,
    start: u32,
    sectors: u32,
}

fn entries(sector: &[u8]) -> Option<Vec<Entry>> {
    if le16(sector, 510) != 0xaa55 {
        return None;
    }
    let one = |at: usize| Entry {
        flag: sector[at],
        kind: sector[at + 4],
        start: le32(sector, at + 8),
        sectors: le32(sector, at + 12),
    };
    Some([446, 462, 478, 494].map(one).into())
}

#[cfg(test)]
mod tests {
    use super::super::checksums::crc32;
    use super::*;

    fn put(disk: &mut [u8], at: usize, bytes: &[u8]) {
        disk[at..at + bytes.len()].copy_from_slice(bytes);
    }

    fn entry(disk: &mut [u8], sector: usize, index: usize, kind: u8, start: u32, sectors: u32) {
        let at = sector * 512 + 446 + 16 * index;
        disk[at + 4] = kind;
        put(disk, at + 8, &start.to_le_bytes());
        put(disk, at + 12, &sectors.to_le_bytes());
        put(disk, sector * 512 + 510, &[0x55, 0xaa]);
    }

    fn told(disk: &Vec<u8>) -> Vec<(u32, u64, u64)> {
        PartitionTable::read(disk).partitions.iter().map(|p| (p.number, p.start / 512, p.size / 512)).collect()
    }

    /// A disk of 200 sectors with a GPT at each end.
    fn with_gpt() -> Vec<u8> {
        let mut disk = vec![0; 200 * 512];
        entry(&mut disk, 0, 0, PROTECTIVE, 1, 199);
        let mut entries = vec![0; 128 * 128];
        for (index, first, last) in [(0, 40u64, 59u64), (2, 60, 150)] {
            put(&mut entries, index * 128, &[7; 32]);
            put(&mut entries, index * 128 + 32, &first.to_le_bytes());
            put(&mut entries, index * 128 + 40, &last.to_le_bytes());
        }
        for (at, other, place) in [(1u64, 199u64, 2u64), (199, 1, 167)] {
            let mut header = vec![0; 512];
            put(&mut header, 0, b"EFI PART\0\0\x01\0");
            put(&mut header, 12, &92u32.to_le_bytes());
            for (offset, number) in [(24, at), (32, other), (72, place)] {
                put(&mut header, offset, &number.to_le_bytes());
            }
            put(&mut header, 80, &128u32.to_le_bytes());
            put(&mut header, 84, &128u32.to_le_bytes());
            put(&mut header, 88, &crc32(&entries).to_le_bytes());
            let sum = crc32(&header[..92]);
            put(&mut header, 16, &sum.to_le_bytes());
            put(&mut disk, at as usize * 512, &header);
            put(&mut disk, place as usize * 512, &entries);
        }
        disk
    }

    #[test]
    fn a_gpt_is_read_and_its_copy_where_the_first_is_damaged() {
        let mut disk = with_gpt();
        let expected = [(1, 40, 20), (3, 60, 91)];
        assert_eq!((PartitionTable::read(&disk).kind, told(&disk)), (TableKind::Gpt, expected.into()));
        assert!(!PartitionTable::read(&disk).from_copy);
        disk[2 * 512] ^= 1;
        assert!(PartitionTable::read(&disk).from_copy);
        assert_eq!(told(&disk), expected);
        disk[199 * 512 + 30] ^= 1;
        assert_eq!(told(&disk), [], "only what covers the disk is left");
    }

    #[test]
    fn an_mbr_is_read_with_its_chain_and_a_circle_ends() {
        let mut disk = vec![0; 100 * 512];
        entry(&mut disk, 0, 0, 0x83, 2, 8);
        entry(&mut disk, 0, 1, 0x05, 20, 70);
        entry(&mut disk, 20, 0, 0x83, 1, 9);
        entry(&mut disk, 20, 1, 0x05, 20, 30);
        entry(&mut disk, 40, 0, 0x82, 2, 10);
        assert_eq!(told(&disk), [(1, 2, 8), (5, 21, 9), (6, 42, 10)]);
        entry(&mut disk, 40, 1, 0x05, 0, 30);
        assert_eq!(told(&disk).len(), 3, "the last leads back to the first");
        assert_eq!(PartitionTable::read(&vec![0; 1024]).kind, TableKind::None);
        assert_eq!(PartitionTable::read(&vec![0; 3]).kind, TableKind::None);
    }

    proptest::proptest! {
        #[test]
        fn a_damaged_table_is_read_without_harm(seed: u64, with_copy: bool) {
            let mut disk = crate::testkit::mutated(&with_gpt(), seed);
            if !with_copy { disk.truncate(100 * 512); }
            proptest::prop_assert!(PartitionTable::read(&disk).partitions.len() <= MAX_PARTITIONS + 4);
        }
    }
}
