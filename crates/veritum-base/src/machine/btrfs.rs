//! What the kernel says of mounted btrfs file systems (proc_pid_mountinfo(5); Documentation of btrfs, "Device stats" and sysfs).

use std::fs;
use std::path::{Path, PathBuf};

const MOUNTS: &str = "/proc/self/mountinfo";
const FILE_SYSTEMS: &str = "/sys/fs/btrfs";
/// The kernel's counters of each device, and what they count.
const COUNTERS: [(&str, &str); 5] = [
    ("read_errs", "read errors"),
    ("write_errs", "write errors"),
    ("flush_errs", "failed flushes"),
    ("corruption_errs", "wrong checksums"),
    ("generation_errs", "outdated blocks"),
];

/// A mounted btrfs file system.
pub(super) struct Btrfs {
    /// Its block devices.
    pub(super) nodes: Vec<PathBuf>,
    /// The errors that the kernel has counted on all of them.
    pub(super) counters: Vec<(&'static str, u64)>,
}

/// The btrfs file system of a mount.
pub(super) fn btrfs_of(mount: u64) -> Option<Btrfs> {
    let source = source_of(&fs::read_to_string(MOUNTS).ok()?, mount)?;
    let name = fs::canonicalize(source).ok()?.file_name()?.to_owned();
    let all = fs::read_dir(FILE_SYSTEMS).ok()?.flatten().map(|entry| entry.path());
    let own = all.into_iter().find(|folder| folder.join("devices").join(&name).exists())?;
    let names = |folder: &str| fs::read_dir(own.join(folder)).into_iter().flatten().flatten();
    let nodes = names("devices").map(|entry| Path::new("/dev").join(entry.file_name())).collect();
    let texts = names("devinfo").filter_map(|entry| fs::read_to_string(entry.path().join("error_stats")).ok());
    Some(Btrfs { nodes, counters: counted(&texts.collect::<Vec<_>>()) })
}

/// The folder of its file system that a mount shows; `/` for all of it (proc_pid_mountinfo(5)).
#[must_use]
pub fn mounted_folder(mount: u64) -> Option<Vec<u8>> {
    folder_of(&fs::read_to_string(MOUNTS).ok()?, mount)
}

fn folder_of(mounts: &str, mount: u64) -> Option<Vec<u8>> {
    let number = mount.to_string();
    let line = mounts.lines().find(|line| line.split(' ').next() == Some(&number))?;
    Some(super::extent::unescape(line.split(' ').nth(3)?.as_bytes()))
}

/// The source of a mount, if it is btrfs.
fn source_of(mounts: &str, mount: u64) -> Option<PathBuf> {
    let number = mount.to_string();
    let line = mounts.lines().find(|line| line.split(' ').next() == Some(&number))?;
    let mut fields = line.split_once(" - ")?.1.split(' ');
    (fields.next()? == "btrfs").then(|| fields.next().map(PathBuf::from)).flatten()
}

/// The sums of the counters that are not zero.
fn counted(texts: &[String]) -> Vec<(&'static str, u64)> {
    let sum = |counter: &str| -> u64 {
        let lines = texts.iter().flat_map(|text| text.lines());
        let values = lines.filter_map(|line| line.strip_prefix(counter)?.trim().parse::<u64>().ok());
        values.fold(0, u64::saturating_add)
    };
    COUNTERS.into_iter().map(|(counter, words)| (words, sum(counter))).filter(|(_, count)| *count > 0).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_source_of_a_btrfs_mount_is_found_by_its_number() {
        let mounts =
            "29 1 0:25 / / rw - btrfs /dev/vda2 rw,space_cache\n290 29 8:1 / /boot rw shared:2 - ext4 /dev/sda1 rw\n";
        assert_eq!(source_of(mounts, 29), Some(PathBuf::from("/dev/vda2")));
        assert_eq!((source_of(mounts, 290), source_of(mounts, 2), source_of("29 x", 29)), (None, None, None));
    }

    #[test]
    fn the_folder_that_a_mount_shows_is_found_by_its_number() {
        let mounts =
            "29 1 0:25 /@root\\040a / rw - btrfs /dev/vda2 rw\n290 29 8:1 / /boot rw shared:2 - ext4 /dev/sda1 rw\n";
        assert_eq!(folder_of(mounts, 29), Some(b"/@root a".to_vec()));
        assert_eq!((folder_of(mounts, 290), folder_of(mounts, 2)), (Some(b"/".to_vec()), None));
    }

    #[test]
    fn the_counters_of_all_devices_are_added_and_zeros_left_out() {
        let text = |read: u64, wrong: u64| {
            format!("write_errs 0\nread_errs {read}\nflush_errs 0\ncorruption_errs {wrong}\ngeneration_errs 0\n")
        };
        assert_eq!(counted(&[text(2, 0), text(1, 4)]), [("read errors", 3), ("wrong checksums", 4)]);
        assert!(counted(&[text(0, 0), "read_errs x".to_owned()]).is_empty());
    }
}
