//! [`DiskWrite`]: bytes of a disk that a change writes, outside of any mounted file system.

use serde::{Deserialize, Serialize};

use crate::devices::{DiskSet, PatchedRange, ReadAt, Section, VolumeKind, identify};
use crate::model::{Digest, SystemPath};

/// What shows that a disk is the one that a change is about, although it can have another name by now.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct DiskIdentity {
    /// Its path on the running system, when the change was made.
    pub path: SystemPath,
    /// Its size in bytes.
    pub size: u64,
    /// File systems on it that the change does not touch.
    pub volumes: Vec<VolumeIdentity>,
}

/// A file system, by its place and its UUID.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct VolumeIdentity {
    /// Where it begins on the disk, in bytes.
    pub start: u64,
    /// Its UUID.
    pub uuid: String,
}

/// Adjacent bytes of a disk.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct DiskRange {
    /// Where they begin, in bytes.
    pub at: u64,
    /// Their number.
    pub size: u64,
    /// The digest of what was there.
    pub old: Digest,
    /// That of what is written.
    pub new: Digest,
}

/// Bytes of a disk that a change writes. What was there is kept in the state folder.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct DiskWrite {
    /// The disk.
    pub disk: DiskIdentity,
    /// The parts of it that are repaired, in words.
    pub parts: Vec<String>,
    /// The bytes, in order, none twice.
    pub ranges: Vec<DiskRange>,
    /// The file of what was there before, below the state folder: all ranges, one after the other.
    pub kept: String,
    /// Whether only its boot code and its partition table are written, which nothing uses while the system runs.
    pub only_start: bool,
}

/// More file systems are not recorded.
const MAX_VOLUMES: usize = 16;

impl DiskIdentity {
    /// That of a disk of a set, given by its position, without what these ranges touch.
    #[must_use]
    pub fn of(set: &DiskSet, disk: usize, path: SystemPath, ranges: &[PatchedRange]) -> Self {
        let size = set.disks[disk].device.size();
        let is_touched = |start: u64, size: u64| {
            ranges
                .iter()
                .any(|range| range.at < start.saturating_add(size) && start < range.at + range.new.len() as u64)
        };
        // What a start can change without a repair is no mark: a file system that is written.
        let own = set.volumes.iter().filter(|volume| volume.disk == disk);
        let found = own.filter_map(|volume| {
            let contains = volume.contains.as_ref().filter(|found| !found.uuid.is_empty())?;
            let is_small = contains.kind == VolumeKind::Vfat;
            let extent = if is_small { volume.bytes.size() } else { 1 << 17 };
            (!is_touched(volume.start, extent))
                .then(|| VolumeIdentity { start: volume.start, uuid: contains.uuid.clone() })
        });
        Self { path, size, volumes: found.take(MAX_VOLUMES).collect() }
    }

    /// Whether a disk can be this one: its size, and the file systems on it.
    #[must_use]
    pub fn is_of(&self, disk: &std::sync::Arc<dyn ReadAt>) -> bool {
        let is_there = |volume: &VolumeIdentity| {
            let bytes = Section::new(disk.clone(), volume.start, u64::MAX);
            identify(&bytes).is_some_and(|found| found.uuid == volume.uuid)
        };
        disk.size() == self.size && self.volumes.iter().all(is_there)
    }
}

impl DiskWrite {
    /// The number of bytes that are written.
    #[must_use]
    pub fn size(&self) -> u64 {
        self.ranges.iter().map(|range| range.size).sum()
    }

    /// The change that writes back what was there.
    #[must_use]
    pub fn inverse(&self) -> Self {
        let back = |range: &DiskRange| DiskRange { old: range.new, new: range.old, ..range.clone() };
        Self { ranges: self.ranges.iter().map(back).collect(), kept: String::new(), ..self.clone() }
    }
}
