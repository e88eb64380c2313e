//! What a disk or a partition contains, by its signature; and what superblocks of other file systems than ext4 say about their state.

use super::{Partition, PartitionTable, ReadAt, TableKind, Window, btrfs, ext4, swap, vfat, xfs};
use crate::formats::numbers::{be32, be64, le16, le32, le64, uuid};

/// What a volume contains.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum VolumeKind {
    /// ext2, ext3 or ext4.
    Ext4,
    /// btrfs.
    Btrfs,
    /// XFS.
    Xfs,
    /// FAT with 12, 16 or 32 bits.
    Vfat,
    /// Swap space.
    Swap,
    /// Something encrypted (LUKS).
    Encrypted,
    /// A part of a volume group (LVM).
    Lvm,
    /// A member of a RAID (md).
    Raid,
    /// NTFS.
    Ntfs,
    /// exFAT.
    Exfat,
    /// A compressed, read-only file system (SquashFS).
    Squashfs,
    /// A CD image (ISO 9660).
    Iso9660,
}

impl VolumeKind {
    /// Its usual name.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Ext4 => "ext4",
            Self::Btrfs => "btrfs",
            Self::Xfs => "xfs",
            Self::Vfat => "vfat",
            Self::Swap => "swap",
            Self::Encrypted => "encrypted",
            Self::Lvm => "LVM",
            Self::Raid => "RAID",
            Self::Ntfs => "ntfs",
            Self::Exfat => "exfat",
            Self::Squashfs => "squashfs",
            Self::Iso9660 => "iso9660",
        }
    }
}

/// A volume, by its superblock.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RawVolume {
    /// What it contains.
    pub kind: VolumeKind,
    /// Its label; empty if it has none.
    pub label: String,
    /// Its UUID; empty if it has none.
    pub uuid: String,
}

/// Something that a superblock says, or that is wrong with it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Mark {
    /// The kernel recorded errors.
    Errors,
    /// It was not unmounted cleanly.
    NotClean,
    /// It is not to be used before it was repaired.
    NeedsRepair,
    /// This superblock, or copy of one, has a wrong checksum or cannot be read.
    Damaged(String),
    /// Two copies differ.
    Differs(String),
}

/// What a disk or a partition contains; `None` for nothing known.
#[must_use]
pub fn identify(disk: &dyn ReadAt) -> Option<RawVolume> {
    // What contains other volumes, or hides them, comes first.
    if let Some(volume) = container(disk) {
        return Some(volume);
    }
    if let Ok(fs) = ext4::FileSystem::open(disk) {
        let superblock = fs.superblock;
        return Some(RawVolume { kind: VolumeKind::Ext4, label: superblock.label, uuid: superblock.uuid });
    }
    [btrfs::identify, xfs::identify, swap::identify, vfat::identify].into_iter().find_map(|identify| identify(disk))
}

/// A part of a disk that can contain a file system.
pub struct DiskPart<'a> {
    /// The number of its partition; `None` for the whole disk.
    pub number: Option<u32>,
    /// Where it begins, in bytes.
    pub start: u64,
    /// Its bytes.
    pub bytes: Window<'a>,
    /// What it contains; `None` for nothing known.
    pub contains: Option<RawVolume>,
}

impl DiskPart<'_> {
    /// Its name, with that of its disk.
    #[must_use]
    pub fn name(&self, disk: &str) -> String {
        self.number.map_or_else(|| disk.to_owned(), |number| format!("{disk} partition {number}"))
    }
}

/// The parts of a disk: its partitions, or the whole of it if it has no table.
#[must_use]
pub fn parts_of(disk: &dyn ReadAt) -> Vec<DiskPart<'_>> {
    let bytes = Window::new(disk, 0, disk.size());
    let whole = identify(disk);
    // The boot sector of a file system can look like a table.
    let table = if whole.is_some() { None } else { Some(PartitionTable::read(disk)) };
    match table.filter(|table| table.kind != TableKind::None) {
        None => vec![DiskPart { number: None, start: 0, bytes, contains: whole }],
        Some(table) => {
            let partitions = table.partitions.iter().filter(|partition| !partition.kind.is_boot_code());
            let part = |partition: &Partition| {
                let bytes = partition.on(disk);
                DiskPart { number: Some(partition.number), start: partition.start, bytes, contains: identify(&bytes) }
            };
            partitions.map(part).collect()
        }
    }
}

impl RawVolume {
    /// What its superblocks say about its state; nothing for kinds of which none is known, and for ext4, which has its own check.
    #[must_use]
    pub fn marks(&self, disk: &dyn ReadAt) -> Vec<Mark> {
        match self.kind {
            VolumeKind::Btrfs => btrfs::marks(disk),
            VolumeKind::Xfs => xfs::marks(disk),
            VolumeKind::Vfat => vfat::marks(disk),
            _ => Vec::new(),
        }
    }
}

/// Whether a superblock could begin here, by its mark alone: what is cheap enough to be asked at thousands of places.
#[must_use]
fn may_begin(disk: &dyn ReadAt, start: u64) -> bool {
    let starts = |at: u64, with: &[u8]| disk.bytes_at(start + at, with.len()).is_ok_and(|bytes| bytes == with);
    starts(1080, &[0x53, 0xef])
        || starts(0, b"XFSB")
        || starts(0, b"LUKS\xba\xbe")
        || starts(64 * 1024 + 64, b"_BHRfS_M")
        || starts(512, b"LABELONE")
        || starts(4086, b"SWAPSPACE2")
        || starts(510, &[0x55, 0xaa])
}

/// The size of the file system that begins here, as its superblock says; `None` for other kinds than ext4, XFS and btrfs.
#[must_use]
pub fn recorded_size(disk: &dyn ReadAt) -> Option<u64> {
    match identify(disk)?.kind {
        VolumeKind::Ext4 => Some(ext4::FileSystem::open(disk).ok()?.size()),
        VolumeKind::Xfs => {
            let head = disk.bytes_at(0, 16).ok()?;
            be64(&head, 8).checked_mul(u64::from(be32(&head, 4)))
        }
        // What the first device has of it: a file system can be on several.
        VolumeKind::Btrfs => {
            let item = disk.bytes_at(64 * 1024 + 0xc9, 16).ok()?;
            Some(le64(&item, 8))
        }
        _ => None,
    }
}

/// The size of what begins here, as it says itself, for all kinds that do; `None` for others.
#[must_use]
pub fn claimed_size(disk: &dyn ReadAt) -> Option<u64> {
    let head = disk.bytes_at(0, 4096).ok()?;
    match identify(disk)?.kind {
        VolumeKind::Vfat => {
            let few = u64::from(le16(&head, 19));
            let sectors = if few == 0 { u64::from(le32(&head, 32)) } else { few };
            Some(sectors * u64::from(le16(&head, 11)))
        }
        // Its last page, counted from 0 (linux/swap.h).
        VolumeKind::Swap => Some((u64::from(le32(&head, 1028)) + 1) * 4096),
        VolumeKind::Ntfs => le64(&head, 40).checked_add(1)?.checked_mul(512),
        VolumeKind::Exfat => le64(&head, 72).checked_mul(512),
        _ => recorded_size(disk),
    }
}

/// Where file systems usually begin: at multiples of this, in bytes.
const ALIGNED: u64 = 1 << 20;
/// Where the first partition begins on old disks.
const OLD_START: u64 = 63 * 512;
/// So many places are searched.
const MAX_PLACES: usize = 4096;

/// File systems at the usual places of a disk, by their superblocks: where each begins, and what it is. For disks whose table is lost.
#[must_use]
pub fn search_file_systems(disk: &dyn ReadAt) -> Vec<(u64, &'static str)> {
    let usual = (1..).map(|n| n * ALIGNED).take_while(|at| *at < disk.size()).take(MAX_PLACES);
    let mut found: Vec<(u64, &'static str)> = Vec::new();
    let mut inside_until = 0;
    for start in std::iter::once(OLD_START).chain(usual) {
        if start < inside_until || !may_begin(disk, start) {
            continue;
        }
        let window = Window::new(disk, start, disk.size() - start);
        if let Some(volume) = identify(&window) {
            found.push((start, volume.kind.name()));
            // Images of file systems can be in a file system.
            inside_until = start.saturating_add(recorded_size(&window).unwrap_or_default());
        }
    }
    found
}

fn container(disk: &dyn ReadAt) -> Option<RawVolume> {
    let of = |kind, uuid| Some(RawVolume { kind, label: String::new(), uuid });
    let starts = |at: u64, with: &[u8]| disk.bytes_at(at, with.len()).is_ok_and(|bytes| bytes == with);
    if starts(0, b"LUKS\xba\xbe") {
        let text = disk.bytes_at(168, 40).unwrap_or_default();
        return of(VolumeKind::Encrypted, crate::formats::numbers::text(&text));
    }
    if (0..4).any(|sector| starts(sector * 512, b"LABELONE") && starts(sector * 512 + 24, b"LVM2 001")) {
        return of(VolumeKind::Lvm, String::new());
    }
    let is_raid =
        |at: u64| disk.bytes_at(at, 16).is_ok_and(|bytes| le32(&bytes, 0) == 0xa92b_4efc && le32(&bytes, 4) == 1);
    if is_raid(4096) || is_raid(0) {
        let at = if is_raid(4096) { 4096 } else { 0 };
        let id = disk.bytes_at(at + 16, 16).ok().and_then(|bytes| bytes.try_into().ok());
        return of(VolumeKind::Raid, id.map(|id: [u8; 16]| uuid(&id)).unwrap_or_default());
    }
    let signatures = [
        (0, &b"hsqs"[..], VolumeKind::Squashfs),
        (3, b"NTFS    ", VolumeKind::Ntfs),
        (3, b"EXFAT   ", VolumeKind::Exfat),
        (32769, b"CD001", VolumeKind::Iso9660),
    ];
    signatures.into_iter().find(|(at, with, _)| starts(*at, with)).and_then(|(_, _, kind)| of(kind, String::new()))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn put(disk: &mut [u8], at: usize, bytes: &[u8]) {
        disk[at..at + bytes.len()].copy_from_slice(bytes);
    }

    fn kind(parts: &[(usize, &[u8])]) -> Option<VolumeKind> {
        let mut disk = vec![0; 80 << 10];
        parts.iter().for_each(|(at, bytes)| put(&mut disk, *at, bytes));
        identify(&disk).map(|volume| volume.kind)
    }

    #[test]
    fn what_holds_other_volumes_is_known_by_its_signature() {
        assert_eq!(kind(&[]), None);
        assert_eq!(kind(&[(0, b"LUKS\xba\xbe")]), Some(VolumeKind::Encrypted));
        assert_eq!(kind(&[(512, b"LABELONE"), (536, b"LVM2 001")]), Some(VolumeKind::Lvm));
        assert_eq!(kind(&[(4096, &[0xfc, 0x4e, 0x2b, 0xa9, 1])]), Some(VolumeKind::Raid));
        assert_eq!(kind(&[(3, b"NTFS    ")]), Some(VolumeKind::Ntfs));
        assert_eq!(kind(&[(32769, b"CD001")]), Some(VolumeKind::Iso9660));
    }
}
