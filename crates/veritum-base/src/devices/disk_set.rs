//! [`DiskSet`]: disks and images with the volumes on them.

use std::path::PathBuf;
use std::sync::Arc;

use super::{
    Device, DeviceError, GptPair, MbrTable, Partition, PartitionTable, Patches, RawVolume, ReadAt, Section, TableKind,
    VolumeKind, identify, search_file_systems,
};

/// A disk or an image, open.
pub struct OpenDisk {
    /// Its bytes.
    pub device: Arc<Device>,
    /// What its partition table says.
    pub table: PartitionTable,
    /// Both copies of its GUID partition table.
    pub gpt: GptPair,
    /// Its master boot record.
    pub mbr: Option<MbrTable>,
}

/// A partition, a disk without a table, or a file system that no partition contains.
pub struct DiskVolume {
    /// The position of its disk.
    pub disk: usize,
    /// Its partition; `None` for a whole disk, and for a file system that was found by its superblock.
    pub partition: Option<Partition>,
    /// Where it begins on the disk, in bytes.
    pub start: u64,
    /// Its bytes.
    pub bytes: Section,
    /// What it contains; `None` for nothing known.
    pub contains: Option<RawVolume>,
}

impl DiskVolume {
    /// Whether it is a file system that no partition contains: the kernel does not see it.
    #[must_use]
    pub fn is_lost(&self) -> bool {
        self.partition.is_none() && self.start > 0
    }
}

/// Disks and images with the volumes on them.
#[derive(Default)]
pub struct DiskSet {
    /// The disks.
    pub disks: Vec<OpenDisk>,
    /// Their volumes, in the order of the disks and their partitions.
    pub volumes: Vec<DiskVolume>,
}

impl std::fmt::Debug for DiskSet {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_list().entries(self.disks.iter().map(|disk| disk.device.path())).finish()
    }
}

impl DiskSet {
    /// Opens disks and images.
    ///
    /// # Errors
    /// When one is not a disk, or cannot be opened.
    pub fn open(paths: &[PathBuf]) -> Result<Self, DeviceError> {
        Self::open_planned(paths, &[])
    }

    /// The same, as the disks are after these patches were written: those of each disk in the same order, none for the rest.
    ///
    /// # Errors
    /// As [`open`](Self::open).
    pub fn open_planned(paths: &[PathBuf], planned: &[Patches]) -> Result<Self, DeviceError> {
        let mut set = Self::default();
        for (at, path) in paths.iter().enumerate() {
            let patches = planned.get(at).cloned().unwrap_or_default();
            set.add(Device::open(path)?.with_planned(patches));
        }
        Ok(set)
    }

    /// Adds a disk.
    pub fn add(&mut self, device: Device) {
        let device = Arc::new(device);
        let disk = self.disks.len();
        let shared: Arc<dyn ReadAt> = device.clone();
        let (gpt, mbr) = (GptPair::read(&*device), MbrTable::read(&*device));
        let table = PartitionTable::read(&*device);
        // The boot sector of a file system can look like a table; and behind a table, what the disk contained before can be left.
        let is_protected = mbr.as_ref().is_some_and(|mbr| mbr.protective > 0);
        let has_table = gpt.primary.is_ok() || (is_protected && gpt.backup.is_ok());
        let is_listed = |found: &RawVolume| !table.partitions.is_empty() && !has_boot_sector(found.kind);
        let whole = identify(&*device).filter(|found| !has_table && !is_listed(found));
        let table = match whole {
            Some(_) => PartitionTable { kind: TableKind::None, partitions: Vec::new(), from_copy: false },
            None => table,
        };
        let volume = |partition: Option<Partition>, start, size, contains| {
            let bytes = Section::new(shared.clone(), start, size);
            DiskVolume { disk, partition, start, bytes, contains }
        };
        if table.kind == TableKind::None {
            self.volumes.push(volume(None, 0, device.size(), whole));
        }
        for partition in &table.partitions {
            let contains = identify(&partition.on(&*device));
            self.volumes.push(volume(Some(partition.clone()), partition.start, partition.size, contains));
        }
        if !self.is_complete(disk) {
            self.add_lost(disk, &shared);
        }
        self.disks.push(OpenDisk { device, table, gpt, mbr });
    }

    /// Adds the file systems on all disks that no partition contains, also where no partition is without one.
    pub fn search_lost(&mut self) {
        for disk in 0..self.disks.len() {
            if self.is_complete(disk) {
                let shared: Arc<dyn ReadAt> = self.disks[disk].device.clone();
                self.add_lost(disk, &shared);
            }
        }
    }

    /// Whether there are partitions on a disk, and each for Linux begins with something that is known.
    fn is_complete(&self, disk: usize) -> bool {
        let is = |volume: &DiskVolume| {
            volume.contains.is_some() || volume.partition.as_ref().is_some_and(|partition| !partition.kind.is_linux())
        };
        self.volumes.iter().filter(|volume| volume.disk == disk).all(is)
    }

    /// Adds the file systems on a disk that no partition contains.
    fn add_lost(&mut self, disk: usize, bytes: &Arc<dyn ReadAt>) {
        let own = || self.volumes.iter().filter(|volume| volume.disk == disk);
        let known: Vec<_> =
            own().filter(|volume| volume.contains.is_some()).map(|v| v.start..v.start + v.bytes.size()).collect();
        let lost = search_file_systems(&**bytes).into_iter().map(|(start, _)| start);
        let lost: Vec<u64> = lost.filter(|start| !known.iter().any(|range| range.contains(start))).collect();
        for start in lost {
            let section = Section::new(bytes.clone(), start, u64::MAX);
            let contains = identify(&section);
            self.volumes.push(DiskVolume { disk, partition: None, start, bytes: section, contains });
        }
    }

    /// A volume's disk.
    #[must_use]
    pub fn disk_of(&self, volume: &DiskVolume) -> &OpenDisk {
        &self.disks[volume.disk]
    }

    /// The position of the volume that a device of fstab(5) names: `UUID=`, `LABEL=`, `PARTUUID=`, or the path of one of the disks.
    #[must_use]
    pub fn named(&self, device: &str) -> Option<usize> {
        let (kind, value) = device.split_once('=')?;
        let value = value.trim_matches('"');
        self.volumes.iter().position(|volume| {
            let contains = volume.contains.as_ref();
            let id = volume.partition.as_ref().map_or("", |partition| &partition.id);
            match kind {
                "UUID" => contains.is_some_and(|found| !value.is_empty() && found.uuid.eq_ignore_ascii_case(value)),
                "LABEL" => contains.is_some_and(|found| !value.is_empty() && found.label == value),
                "PARTUUID" => !value.is_empty() && id.eq_ignore_ascii_case(value),
                _ => false,
            }
        })
    }
}

/// Whether a file system has a boot sector, which can look like a partition table.
fn has_boot_sector(kind: VolumeKind) -> bool {
    matches!(kind, VolumeKind::Vfat | VolumeKind::Ntfs | VolumeKind::Exfat)
}
