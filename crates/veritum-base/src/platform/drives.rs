//! The drives that a file system lies on (sysfs(5)), and what they say of their health.

use std::collections::BTreeSet;
use std::fs;
use std::os::fd::AsFd as _;
use std::os::unix::fs::{FileTypeExt as _, MetadataExt as _};
use std::path::{Path, PathBuf};

use rustix::fs::{Mode, OFlags};

use crate::devices::DriveHealth;
use crate::machine::{Machine, volumes};
use crate::model::error_words;

/// Drives are in drives at most so deep: a logical volume in an encrypted part of an array.
const MAX_DEPTH: usize = 8;

/// The kernel's names of the drives below a block device: its disk, or those of an array, a volume group or an encrypted part.
#[must_use]
pub fn drives_below(node: &Path) -> BTreeSet<String> {
    let mut found = BTreeSet::new();
    let Ok(stat) = fs::metadata(node) else { return found };
    if stat.file_type().is_block_device() {
        let (major, minor) = (rustix::fs::major(stat.rdev()), rustix::fs::minor(stat.rdev()));
        collect(&PathBuf::from(format!("/sys/dev/block/{major}:{minor}")), 0, &mut found);
    }
    found
}

fn collect(folder: &Path, depth: usize, found: &mut BTreeSet<String>) {
    let Ok(own) = fs::canonicalize(folder) else { return };
    let below: Vec<PathBuf> = fs::read_dir(own.join("slaves"))
        .map(|all| all.flatten().map(|entry| entry.path()).collect())
        .unwrap_or_default();
    if !below.is_empty() && depth < MAX_DEPTH {
        return below.iter().for_each(|folder| collect(folder, depth + 1, found));
    }
    let disk = if own.join("partition").exists() { own.parent().map(Path::to_owned) } else { Some(own) };
    let name = disk.as_deref().and_then(Path::file_name).and_then(|name| name.to_str());
    found.extend(name.map(str::to_owned));
}

/// What a drive says of its health; `None` for what is no drive, such as a loop device.
///
/// # Errors
/// Why that is not available.
pub fn health_of(drive: &str) -> Option<Result<DriveHealth, String>> {
    // What has no device is made by the kernel.
    if !Path::new("/sys/block").join(drive).join("device").exists() {
        return None;
    }
    let node = Path::new("/dev").join(drive.replace('!', "/"));
    Some(read_health(&node, drive))
}

/// The number of drives below the system's own file systems that report that they are failing.
#[must_use]
pub fn failing_drives(machine: &Machine) -> u64 {
    let of_system = volumes(machine).into_iter().filter(|volume| volume.is_of_system());
    let nodes = of_system.filter_map(|volume| volume.mounted).flat_map(|mounted| mounted.nodes);
    let drives: BTreeSet<String> = nodes.flat_map(|node| drives_below(&node)).collect();
    let is_failing = |drive: &&String| matches!(health_of(drive), Some(Ok(health)) if health.is_in_doubt());
    drives.iter().filter(is_failing).count() as u64
}

fn read_health(node: &Path, drive: &str) -> Result<DriveHealth, String> {
    let failed = |e: std::io::Error| error_words(&e);
    if !fs::metadata(node).map_err(failed)?.file_type().is_block_device() {
        return Err("it has no block device".to_owned());
    }
    let flags = OFlags::RDONLY | OFlags::CLOEXEC | OFlags::NONBLOCK;
    let device = rustix::fs::open(node, flags, Mode::empty()).map_err(|e| failed(e.into()))?;
    if drive.starts_with("nvme") {
        let log = veritum_drives::read_health_log(device.as_fd()).map_err(failed)?;
        return DriveHealth::of_nvme(&log).map_err(str::to_owned);
    }
    let pages = veritum_drives::read_smart(device.as_fd()).map_err(|e| match e.kind() {
        std::io::ErrorKind::PermissionDenied => failed(e),
        _ => "the drive, or what it is attached to, does not report it".to_owned(),
    })?;
    let thresholds = pages.thresholds.as_ref().map(|page| &page[..]);
    DriveHealth::of_ata(&pages.data, thresholds, pages.is_failing).map_err(str::to_owned)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_no_block_device_has_no_drive() {
        assert!(drives_below(Path::new("/dev/null")).is_empty() && drives_below(Path::new("/none")).is_empty());
        assert!(health_of("none").is_none() && health_of("loop0").is_none());
        assert!(read_health(Path::new("/dev/null"), "null").is_err());
    }
}
