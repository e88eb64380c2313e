//! The kernel's nodes for file systems on disks and images (sysfs(5), losetup(8)).

use std::ffi::OsString;
use std::fs;
use std::os::unix::fs::{FileTypeExt as _, MetadataExt as _};
use std::path::{Path, PathBuf};

use rustix::fs::{Mode, OFlags};
use rustix::io::Errno;

use super::delegate::{Limit, run};
use super::e2fsprogs::tool;
use crate::devices::{Device, RawVolume, VolumeKind, identify};
use crate::model::error_words;

/// sysfs counts in sectors of so many bytes.
const SECTOR: u64 = 512;
/// udev's links to volumes.
const BY_UUID: &str = "/dev/disk/by-uuid";
/// The kernel's block devices.
const BLOCK_DEVICES: &str = "/sys/class/block";

/// A node that is just one file system: the disk or image itself, the kernel's node of its partition, or a loop device, which is
/// detached when this is dropped.
#[derive(Debug)]
pub struct Node {
    /// Its path.
    pub path: PathBuf,
    is_loop: bool,
}

impl Node {
    /// The node of the file system that begins at `offset` of a disk or an image and has `size` bytes.
    ///
    /// # Errors
    /// Why there is none.
    pub fn of(disk: &Path, offset: u64, size: u64) -> Result<Self, String> {
        if offset == 0 {
            return Ok(Self { path: disk.to_owned(), is_loop: false });
        }
        if let Some(path) = partition(disk, offset) {
            return Ok(Self { path, is_loop: false });
        }
        let program = tool("losetup").ok_or("losetup (package mount) is not installed")?;
        let (offset, size) = (offset.to_string(), size.to_string());
        let words = ["--find", "--show", "--offset", &offset, "--sizelimit", &size].map(OsString::from);
        let words = [&words[..], &[disk.into()]].concat();
        let ran = run(&program.to_string_lossy(), &words, &[], Limit::SHORT).map_err(|e| error_words(&e))?;
        let path = PathBuf::from(ran.last_line());
        match ran.is_fine() && path.starts_with("/dev") {
            true => Ok(Self { path, is_loop: true }),
            false => Err(format!("losetup failed: {}", ran.last_line())),
        }
    }
}

impl Drop for Node {
    fn drop(&mut self) {
        if let (true, Some(program)) = (self.is_loop, tool("losetup")) {
            let words = [OsString::from("--detach"), self.path.clone().into()];
            let _ = run(&program.to_string_lossy(), &words, &[], Limit::SHORT);
        }
    }
}

/// The folder of a block device in sysfs.
fn folder(disk: &Path) -> Option<PathBuf> {
    let stat = fs::metadata(disk).ok()?;
    let number = stat.rdev();
    let name = format!("/sys/dev/block/{}:{}", rustix::fs::major(number), rustix::fs::minor(number));
    stat.file_type().is_block_device().then(|| PathBuf::from(name))
}

/// The node of the partition of a disk that begins at a place, if the kernel has read its table.
fn partition(disk: &Path, offset: u64) -> Option<PathBuf> {
    for entry in fs::read_dir(folder(disk)?).ok()?.flatten() {
        let start = fs::read_to_string(entry.path().join("start")).ok();
        let start: Option<u64> = start.and_then(|text| text.trim().parse().ok());
        if entry.path().join("partition").exists() && start == Some(offset / SECTOR) {
            return Some(Path::new("/dev").join(entry.file_name()));
        }
    }
    None
}

/// The kernel's name of the disk that a block device is, or is a partition of, and where it begins there, in bytes.
#[must_use]
pub fn place_of(node: &Path) -> Option<(String, u64)> {
    let own = fs::canonicalize(folder(node)?).ok()?;
    let name = |folder: &Path| Some(folder.file_name()?.to_str()?.to_owned());
    if !own.join("partition").exists() {
        return Some((name(&own)?, 0));
    }
    let start: u64 = fs::read_to_string(own.join("start")).ok()?.trim().parse().ok()?;
    Some((name(own.parent()?)?, start.saturating_mul(SECTOR)))
}

/// Whether the kernel uses the file system that begins at `offset` of a disk or an image: it is mounted, or part of something.
#[must_use]
pub fn in_use(disk: &Path, offset: u64) -> bool {
    if folder(disk).is_some() {
        let node = if offset == 0 { None } else { partition(disk, offset) };
        let flags = OFlags::RDONLY | OFlags::EXCL | OFlags::CLOEXEC | OFlags::NONBLOCK;
        let opened = rustix::fs::open(node.as_deref().unwrap_or(disk), flags, Mode::empty());
        return matches!(opened, Err(Errno::BUSY));
    }
    let Ok(image) = disk.canonicalize() else { return false };
    let attached = |entry: fs::DirEntry| {
        let file = fs::read_to_string(entry.path().join("loop/backing_file")).unwrap_or_default();
        Path::new(file.trim_end_matches('\n')) == image
    };
    fs::read_dir("/sys/block").is_ok_and(|all| all.flatten().any(attached))
}

/// Whether the first field of fstab(5) is a device: `UUID=…`, `LABEL=…`, `PARTUUID=…`, `PARTLABEL=…` or a path below /dev.
#[must_use]
pub fn is_device(text: &str) -> bool {
    let named = |kind| matches!(kind, "UUID" | "LABEL" | "PARTUUID" | "PARTLABEL");
    text.starts_with("/dev/") || text.split_once('=').is_some_and(|(kind, _)| named(kind))
}

/// Whether a device of fstab(5) is there now: `UUID=…`, `LABEL=…`, `PARTUUID=…`, `PARTLABEL=…` or a path below /dev; `None` if that
/// is not known, or it is no device.
///
/// udev knows; where it does not run (a small rescue system, a container), the superblocks of all disks and partitions tell.
#[must_use]
pub fn is_there(device: &str) -> Option<bool> {
    let has_udev = Path::new(BY_UUID).exists();
    let in_folder =
        |folder: &str, name: &str| Path::new(folder).exists().then(|| Path::new(folder).join(name).exists());
    let Some((kind, value)) = device.split_once('=') else {
        let name = device.strip_prefix("/dev/")?;
        return if has_udev { in_folder("/dev", name) } else { is_kernel_name(name) };
    };
    let value = value.trim_matches('"');
    match kind {
        "UUID" if has_udev => in_folder(BY_UUID, value),
        "LABEL" if has_udev => in_folder("/dev/disk/by-label", value),
        "PARTUUID" if has_udev => in_folder("/dev/disk/by-partuuid", value),
        "PARTLABEL" if has_udev => in_folder("/dev/disk/by-partlabel", value),
        "UUID" => Volumes::read().has(|volume| volume.uuid.eq_ignore_ascii_case(value)),
        "LABEL" => Volumes::read().has(|volume| volume.label == value),
        _ => None,
    }
}

/// Whether the kernel has a block device with that name below /dev; `None` for names that only udev makes.
fn is_kernel_name(name: &str) -> Option<bool> {
    let all = fs::read_dir(BLOCK_DEVICES).ok()?.flatten();
    match name.strip_prefix("mapper/") {
        Some(name) => {
            Some(all.into_iter().any(|device| {
                fs::read_to_string(device.path().join("dm/name")).is_ok_and(|text| text.trim_end() == name)
            }))
        }
        None if name.contains('/') => None,
        None => Some(Path::new(BLOCK_DEVICES).join(name).exists()),
    }
}

/// The volumes on all disks and partitions that the kernel has.
struct Volumes {
    found: Vec<RawVolume>,
    /// Whether all could be read, and have their UUID and label.
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
        // The UUIDs of these are not read.
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
    fn an_image_that_nobody_attached_is_its_own_node() {
        let image = tempfile::NamedTempFile::new().unwrap();
        assert!(!in_use(image.path(), 0));
        assert_eq!(Node::of(image.path(), 0, 1 << 20).unwrap().path, image.path());
        assert!(folder(image.path()).is_none() && partition(image.path(), 1 << 20).is_none());
    }

    #[test]
    fn a_volume_is_there_or_not_or_nobody_knows() {
        let volume = |kind, uuid: &str| RawVolume { kind, label: "boat".into(), uuid: uuid.into() };
        let mut volumes = Volumes { found: Vec::new(), is_complete: true };
        volumes.add(Some(volume(VolumeKind::Vfat, "12AB-34CD")));
        volumes.add(None);
        let has = |volumes: &Volumes, uuid: &str| volumes.has(|volume| volume.uuid.eq_ignore_ascii_case(uuid));
        assert_eq!((has(&volumes, "12ab-34cd"), has(&volumes, "0000-0000")), (Some(true), Some(false)));
        volumes.add(Some(volume(VolumeKind::Ntfs, "")));
        assert_eq!((has(&volumes, "12ab-34cd"), has(&volumes, "0000-0000")), (Some(true), None));
        assert!(is_device("LABEL=boat") && is_device("/dev/sda1") && !is_device("tmpfs") && !is_device("host:/srv"));
        assert_eq!((is_there("tmpfs"), is_there("/dev/no-such/disk"), is_there("ROOM=1")), (None, None, None));
    }
}
