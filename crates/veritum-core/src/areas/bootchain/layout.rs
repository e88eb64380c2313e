//! [`Layout`]: the disks from which the machine starts, and where its folders are on them.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::super::Cx;
use crate::devices::{Device, DiskSet, DiskVolume, OpenDisk, VolumeKind, identify};
use crate::machine::{Machine, volumes};
use crate::model::{SystemPath, error_chain, readable};
use crate::platform::block_devices;
use crate::system::WorkError;

/// Where a mounted folder of the machine is.
#[derive(Debug)]
pub(super) struct Place {
    /// The mount point.
    pub(super) mount: SystemPath,
    /// The position of its volume; `None` if it is not among the disks.
    pub(super) volume: Option<usize>,
    /// The folder of the file system that is mounted there, without a leading slash: a subvolume of btrfs.
    pub(super) below: Vec<u8>,
}

/// The disks from which the machine starts.
#[derive(Debug)]
pub(super) struct Layout {
    pub(super) set: Arc<DiskSet>,
    /// Where mounted folders are, the deepest first.
    places: Vec<Place>,
    /// Why disks cannot be read.
    pub(super) unread: Vec<String>,
}

impl Layout {
    /// The disks that were named, or those that the machine's file systems are on.
    pub(super) fn open(cx: &Cx<'_>) -> Result<Self, WorkError> {
        let (system, mut unread) = (cx.system, Vec::new());
        let mounted = volumes(&system.machine);
        let set = match (&system.disks, &system.settings.disks[..]) {
            (Some(set), _) => set.clone(),
            (None, []) => {
                let set = own_disks(&mounted, &mut unread);
                // What the kernel knows as a disk of its own can be a part of one: of an image, or below a volume group.
                let whole = set
                    .volumes
                    .iter()
                    .filter(|volume| volume.partition.is_none() && volume.start == 0 && volume.contains.is_some());
                unread.extend(whole.map(|volume| {
                    let path = set.disk_of(volume).device.path().display().to_string();
                    format!("{path} has none of its own; if it is a part of a disk or an image, name that with --disk")
                }));
                Arc::new(set)
            }
            (None, paths) => Arc::new(DiskSet::open(paths)?),
        };
        let mut places: Vec<Place> = mounted
            .iter()
            .filter(|volume| volume.mounted.is_some() || volume.place.is_root())
            .filter_map(|volume| {
                let nodes = volume.mounted.as_ref().map(|mounted| &mounted.nodes[..]).unwrap_or_default();
                place(&system.machine, &set, &volume.place, nodes)
            })
            .collect();
        places.sort_by_key(|place| std::cmp::Reverse(place.mount.as_bytes().len()));
        Ok(Self { set, places, unread })
    }

    /// Disks without a machine.
    pub(super) fn of_disks(set: Arc<DiskSet>) -> Self {
        Self { set, places: Vec::new(), unread: Vec::new() }
    }

    /// Where a path is: its mounted folder, and its path in that file system, without a leading slash.
    pub(super) fn find(&self, path: &SystemPath) -> Option<(&Place, Vec<u8>)> {
        let place = self.places.iter().find(|place| path.is_within(&place.mount))?;
        let rest = path.below(&place.mount).unwrap_or_default();
        let parts = [&place.below[..], rest].into_iter().filter(|part| !part.is_empty());
        Some((place, parts.collect::<Vec<_>>().join(&b'/')))
    }

    /// The volume that a path is on, if it is on one of the disks.
    pub(super) fn volume_of(&self, path: &SystemPath) -> Option<usize> {
        self.find(path)?.0.volume
    }

    /// The machine's path of a file that is at a path of a volume's file system; `None` if that is not mounted in it.
    pub(super) fn path_on(&self, volume: usize, path: &str) -> Option<SystemPath> {
        let path = path.trim_start_matches('/').as_bytes();
        // The outermost mount comes first: a file system can be mounted in several places.
        self.places.iter().rev().filter(|place| place.volume == Some(volume)).find_map(|place| {
            let rest = match &place.below[..] {
                [] => path,
                below => path.strip_prefix(below)?.strip_prefix(b"/")?,
            };
            place.mount.join(rest).ok()
        })
    }

    /// Where a file system that the machine itself has mounted is.
    pub(super) fn is_mounted(&self, volume: usize) -> bool {
        self.places.iter().any(|place| place.volume == Some(volume))
    }

    /// Whether no machine was found on the disks.
    pub(super) fn has_no_machine(&self) -> bool {
        self.places.is_empty()
    }

    /// Whether file systems can be inside of what was not opened, or on other disks.
    pub(super) fn has_hidden(&self) -> bool {
        let hides = |kind| matches!(kind, VolumeKind::Encrypted | VolumeKind::Lvm | VolumeKind::Raid);
        let mut contains = self.set.volumes.iter().filter_map(|volume| volume.contains.as_ref());
        self.set.disks.is_empty() || !self.unread.is_empty() || contains.any(|found| hides(found.kind))
    }

    /// Whether a device that is given by the id of its file system or partition, or its label, is on none of the disks for sure.
    pub(super) fn is_nowhere(&self, device: &str) -> bool {
        let is_named = ["UUID=", "LABEL=", "PARTUUID="].iter().any(|kind| device.starts_with(kind));
        is_named && !self.has_hidden() && self.set.named(device).is_none()
    }

    pub(super) fn volume(&self, at: usize) -> &DiskVolume {
        &self.set.volumes[at]
    }

    pub(super) fn disk(&self, at: usize) -> &OpenDisk {
        &self.set.disks[at]
    }

    /// A disk's name.
    pub(super) fn disk_name(&self, at: usize) -> String {
        use std::os::unix::ffi::OsStrExt as _;
        readable(self.set.disks[at].device.path().as_os_str().as_bytes())
    }

    /// A volume's name.
    pub(super) fn volume_name(&self, at: usize) -> String {
        let (volume, disk) = (self.volume(at), self.disk_name(self.volume(at).disk));
        match &volume.partition {
            Some(partition) => format!("{disk} partition {}", partition.number),
            None if volume.start > 0 => format!("{disk} from sector {}", volume.start / 512),
            None => disk,
        }
    }

    /// The volumes of a kind on a disk, or on all.
    pub(super) fn of_kind(&self, kind: VolumeKind) -> impl Iterator<Item = usize> + '_ {
        let is = move |volume: &DiskVolume| volume.contains.as_ref().is_some_and(|found| found.kind == kind);
        (0..self.set.volumes.len()).filter(move |at| is(self.volume(*at)))
    }
}

/// The disks that mounted file systems are on.
fn own_disks(mounted: &[crate::machine::Volume], unread: &mut Vec<String>) -> DiskSet {
    let nodes = mounted.iter().filter(|volume| volume.is_of_system() || volume.place.is_within_place("/boot"));
    let nodes = nodes.filter_map(|volume| volume.mounted.as_ref()).flat_map(|mounted| &mounted.nodes);
    let disks: BTreeSet<PathBuf> = nodes
        .map(|node| match block_devices::place_of(node) {
            Some((disk, _)) => Path::new("/dev").join(disk),
            None => node.clone(),
        })
        .collect();
    let mut set = DiskSet::default();
    for disk in disks {
        match Device::open(&disk) {
            Ok(device) => set.add(device),
            Err(e) => unread.push(error_chain(&e)),
        }
    }
    set
}

/// Where a mounted folder is.
fn place(machine: &Machine, set: &DiskSet, mount: &SystemPath, nodes: &[PathBuf]) -> Option<Place> {
    let dir = machine.dir(&machine.resolve(mount).ok()?).ok()?;
    let number = dir.disk().mount_of(dir.fd()).ok()?;
    if let Some(volume) = dir.disk().raw_volume(number) {
        return Some(Place { mount: mount.clone(), volume: Some(volume), below: Vec::new() });
    }
    let below = crate::machine::mounted_folder(number).unwrap_or_default();
    let below = below.strip_prefix(b"/").map(<[u8]>::to_vec).unwrap_or_default();
    let volume = nodes.iter().find_map(|node| on_node(set, node));
    Some(Place { mount: mount.clone(), volume, below })
}

/// The volume that the kernel's node of a file system is: by its place on its disk, else by its UUID.
fn on_node(set: &DiskSet, node: &Path) -> Option<usize> {
    let at = block_devices::place_of(node).and_then(|(disk, start)| {
        let own = Path::new("/dev").join(disk).canonicalize().ok()?;
        let is = |volume: &DiskVolume| {
            let path = set.disk_of(volume).device.path().canonicalize();
            volume.start == start && path.is_ok_and(|path| path == own)
        };
        set.volumes.iter().position(is)
    });
    at.or_else(|| {
        let uuid = identify(&Device::open(node).ok()?)?.uuid;
        let mut same = (0..set.volumes.len()).filter(|at| {
            !uuid.is_empty() && set.volumes[*at].contains.as_ref().is_some_and(|found| found.uuid == uuid)
        });
        // Of two copies of a file system, which is meant is not known.
        match (same.next(), same.next()) {
            (Some(only), None) => Some(only),
            _ => None,
        }
    })
}

/// A device of fstab(5) by its id, where it is given by one of udev's links, which are the same in other words.
pub(super) fn device_name(device: &str) -> String {
    const LINKS: [(&str, &str); 3] =
        [("/dev/disk/by-uuid/", "UUID"), ("/dev/disk/by-label/", "LABEL"), ("/dev/disk/by-partuuid/", "PARTUUID")];
    let link = LINKS.iter().find_map(|(folder, kind)| Some(format!("{kind}={}", device.strip_prefix(folder)?)));
    link.unwrap_or_else(|| device.to_owned())
}

/// The number of the partition that the kernel names so: `sda2`, `nvme0n1p2`, `mmcblk0p2`.
pub(super) fn partition_number(device: &str) -> Option<u32> {
    let name = device.strip_prefix("/dev/")?;
    let (disk, number) = name.split_at(name.trim_end_matches(|c: char| c.is_ascii_digit()).len());
    let is_letters = |name: &str| !name.is_empty() && name.bytes().all(|byte| byte.is_ascii_lowercase());
    let letters = ["sd", "vd", "xvd", "hd"].iter().find_map(|kind| disk.strip_prefix(kind));
    let counted = ["nvme", "mmcblk"].iter().find_map(|kind| disk.strip_prefix(kind)?.strip_suffix('p'));
    (letters.is_some_and(is_letters) || counted.is_some()).then(|| number.parse().ok()).flatten()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn partitions_are_numbered_by_the_kernels_names() {
        assert_eq!(partition_number("/dev/sda2"), Some(2));
        assert_eq!(partition_number("/dev/sdab12"), Some(12));
        assert_eq!(partition_number("/dev/nvme0n1p3"), Some(3));
        assert_eq!(partition_number("/dev/mmcblk0p1"), Some(1));
        for other in ["/dev/sda", "/dev/nvme0n1", "/dev/md0", "/dev/dm-1", "/dev/mapper/vg-root", "sda1", "/dev/sd1"] {
            assert_eq!(partition_number(other), None, "{other}");
        }
    }

    #[test]
    fn links_of_udev_are_names_of_devices() {
        assert_eq!(device_name("/dev/disk/by-uuid/ab-cd"), "UUID=ab-cd");
        assert_eq!(device_name("/dev/sda1"), "/dev/sda1");
    }
}
