//! Whether the kernel has marked the machine's file systems with errors.

use std::path::PathBuf;

use super::Machine;
use crate::model::SystemPath;

/// The number of errors that the kernel has counted on the machine's own ext4 file systems since their last check
/// (`errors_count` of sysfs, Documentation/ABI/testing/sysfs-fs-ext4); 0 for file systems without such a counter.
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

/// The number of errors that the kernel has counted on a device's ext4 file system.
pub(super) fn errors_of(device: u64) -> u64 {
    let (major, minor) = (rustix::fs::major(device), rustix::fs::minor(device));
    let Ok(link) = std::fs::read_link(format!("/sys/dev/block/{major}:{minor}")) else { return 0 };
    let Some(name) = link.file_name() else { return 0 };
    let count = PathBuf::from("/sys/fs/ext4").join(name).join("errors_count");
    std::fs::read_to_string(count).ok().and_then(|text| text.trim().parse().ok()).unwrap_or(0)
}
