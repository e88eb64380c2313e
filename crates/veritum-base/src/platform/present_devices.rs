//! [`PresentDevices`]: whether the devices that fstab(5) names are there now. udev knows; where it does not run (a small rescue
//! system, a container), the superblocks of all disks and partitions say.

use std::fs;
use std::path::Path;
use std::sync::OnceLock;

use crate::devices::{Device, RawVolume, VolumeKind, identify};

/// udev's links to volumes.
const BY_UUID: &str = "/dev/disk/by-uuid";
/// The kernel's block devices.
const BLOCK_DEVICES: &str = "/sys/class/block";

/// The devices that are there now. Disks are read only if that is needed, and once.
#[derive(Debug, Default)]
pub struct PresentDevices(OnceLock<Volumes>);

/// Whether the first field of fstab(5) is a device: `UUID=…`, `LABEL=…`, `PARTUUID=…`, `PARTLABEL=…` or a path below /dev.
#[must_use]
pub fn is_device(text: &str) -> bool {
    let named = |kind| matches!(kind, "UUID" | "LABEL" | "PARTUUID" | "PARTLABEL");
    text.starts_with("/dev/") || text.split_once('=').is_some_and(|(kind, _)| named(kind))
}

impl PresentDevices {
    /// Whether a device of fstab(5) is there; `None` if that is not known, or it is no device.
    #[must_use]
    pub fn has(&self, device: &str) -> Option<bool> {
        let has_udev = Path::new(BY_UUID).exists();
        let in_folder =
            |folder: &str, name: &str| Path::new(folder).exists().then(|| Path::new(folder).join(name).exists());
        let Some((kind, value)) = device.split_once('=') else {
            let name = device.strip_prefix("/dev/")?;
            return if has_udev { in_folder("/dev", name) } else { is_kernel_name(name) };
        };
        let value = value.trim_matches('"');
        let volumes = || self.0.get_or_init(Volumes::read);
        match kind {
            "UUID" if has_udev => in_folder(BY_UUID, value),
            "LABEL" if has_udev => in_folder("/dev/disk/by-label", value),
            "PARTUUID" if has_udev => in_folder("/dev/disk/by-partuuid", value),
            "PARTLABEL" if has_udev => in_folder("/dev/disk/by-partlabel", value),
            "UUID" => volumes().has(|volume| volume.uuid.eq_ignore_ascii_case(value)),
            "LABEL" => volumes().has(|volume| volume.label == value),
            _ => None,
        }
    }
}

/// Whether the kernel has a block device with that name below /dev; `None` for names that only udev makes.
fn is_kernel_name(name: &str) -> Option<bool> {
    let mut all = fs::read_dir(BLOCK_DEVICES).ok()?.flatten();
    match name.strip_prefix("mapper/") {
        Some(name) => {
            Some(all.any(|device| {
                fs::read_to_string(device.path().join("dm/name")).is_ok_and(|text| text.trim_end() == name)
            }))
        }
        None if name.contains('/') => None,
        None => Some(all.any(|device| device.file_name().as_encoded_bytes() == name.as_bytes())),
    }
}

/// The volumes on all disks and partitions that the kernel has.
#[derive(Debug)]
struct Volumes {
    found: Vec<RawVolume>,
    /// Whether all could be read, with UUID and label.
    is_complete: bool,
}

impl Volumes {
    fn read() -> Self {
        let mut volumes = Self { found: Vec::new(), is_complete: true };
        let Ok(all) = fs::read_dir(BLOCK_DEVICES) else { return Self { is_complete: false, ..volumes } };
        for device in all.flatten() {
            let size = fs::read_to_string(device.path().join("size")).unwrap_or_default();
            if size.trim_end() == "0" {
                continue;
            }
            match Device::open(&Path::new("/dev").join(device.file_name())) {
                Ok(disk) => volumes.add(identify(&disk)),
                Err(_) => volumes.is_complete = false,
            }
        }
        volumes
    }

    fn add(&mut self, volume: Option<RawVolume>) {
        // The UUIDs and labels of these are not read.
        let is_unread = |kind| matches!(kind, VolumeKind::Ntfs | VolumeKind::Exfat | VolumeKind::Iso9660);
        self.is_complete &= volume.as_ref().is_none_or(|volume| !is_unread(volume.kind));
        self.found.extend(volume);
    }

    /// Whether there is such a volume; `None` if it may be one that could not be read.
    fn has(&self, is_it: impl Fn(&RawVolume) -> bool) -> Option<bool> {
        if self.found.iter().any(is_it) { Some(true) } else { self.is_complete.then_some(false) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_volume_is_there_or_not_or_that_is_not_known() {
        let volume = |kind, uuid: &str| RawVolume { kind, label: "boat".into(), uuid: uuid.into() };
        let mut volumes = Volumes { found: Vec::new(), is_complete: true };
        volumes.add(Some(volume(VolumeKind::Vfat, "12AB-34CD")));
        volumes.add(None);
        let has = |volumes: &Volumes, uuid: &str| volumes.has(|volume| volume.uuid.eq_ignore_ascii_case(uuid));
        assert_eq!((has(&volumes, "12ab-34cd"), has(&volumes, "0000-0000")), (Some(true), Some(false)));
        volumes.add(Some(volume(VolumeKind::Ntfs, "")));
        assert_eq!((has(&volumes, "12ab-34cd"), has(&volumes, "0000-0000")), (Some(true), None));
    }

    #[test]
    fn what_is_no_device_is_not_looked_for() {
        assert!(is_device("LABEL=boat") && is_device("/dev/sda1") && !is_device("tmpfs") && !is_device("host:/srv"));
        let devices = PresentDevices::default();
        for text in ["tmpfs", "ROOM=1", "host:/srv"] {
            assert_eq!(devices.has(text), None, "{text}");
        }
        assert_ne!(devices.has("/dev/no-such-disk9"), Some(true));
    }
}
