//! Whether the kernel has marked the machine's file systems with errors.

use std::path::PathBuf;

use super::Machine;
use crate::model::SystemPath;

/// How many errors the kernel has counted on the machine's own ext4 file systems, since they were last checked
/// (`errors_count` of sysfs, Documentation/ABI/testing/sysfs-fs-ext4). 0 where it does not count.
#[must_use]
pub fn marked_errors(machine: &Machine) -> u64 {
    let mut devices: Vec<u64> = ["/", "/usr", "/var", "/boot", "/opt"]
        .iter()
        .filter_map(|place| machine.resolve(&SystemPath::literal(place)).ok())
        .filter_map(|place| machine.dir(&place).ok())
        .filter(|dir| machine.extent().judge(dir).is_ok_and(|inside| inside.is_ok()))
        .filter_map(|dir| dir.look_self().ok())
        .map(|stat| stat.id.dev)
        .collect();
    devices.sort_unstable();
    devices.dedup();
    devices.into_iter().map(errors_of).sum()
}

/// How many errors the kernel has counted on the ext4 file system of a device.
pub(super) fn errors_of(device: u64) -> u64 {
    let (major, minor) = (rustix::fs::major(device), rustix::fs::minor(device));
    let Ok(link) = std::fs::read_link(format!("/sys/dev/block/{major}:{minor}")) else { return 0 };
    let Some(name) = link.file_name() else { return 0 };
    let count = PathBuf::from("/sys/fs/ext4").join(name).join("errors_count");
    std::fs::read_to_string(count).ok().and_then(|text| text.trim().parse().ok()).unwrap_or(0)
}
