//! The machine's file systems, as fstab(5) lists them and the kernel has mounted them.

use std::path::PathBuf;

use super::btrfs::btrfs_of;
use super::health::errors_of;
use super::{FreeSpace, Machine};
use crate::model::SystemPath;

/// The inode of ext4's root folder.
const EXT4_ROOT: u64 = 2;
/// Further lines of fstab(5) are not read.
const MAX_LINES: usize = 1000;
/// Types of fstab entries that are not local file systems.
const NOT_LOCAL: [&str; 16] = [
    "swap",
    "proc",
    "sysfs",
    "tmpfs",
    "devtmpfs",
    "devpts",
    "none",
    "nfs",
    "nfs4",
    "cifs",
    "smb3",
    "sshfs",
    "9p",
    "ceph",
    "glusterfs",
    "davfs",
];

/// One file system of the machine.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Volume {
    /// Its mount point.
    pub place: SystemPath,
    /// The mounted file system; `None` while it is not mounted.
    pub mounted: Option<Mounted>,
    /// Whether fstab mounts it read-only; `None` if fstab does not list it.
    pub wanted_read_only: Option<bool>,
    /// Whether fstab says that it is checked at each start, if that is due (its sixth field); `None` if fstab does not list it.
    pub checked_at_start: Option<bool>,
}

impl Volume {
    /// Whether packages are installed on it.
    #[must_use]
    pub fn is_of_system(&self) -> bool {
        ["/", "/usr", "/var", "/boot", "/opt"].contains(&self.place.to_string().as_str())
    }
}

/// A mounted file system.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Mounted {
    /// Its free space, and whether it is mounted read-only.
    pub free: FreeSpace,
    /// Errors that the kernel has counted on it since its last check; 0 for file systems without such a counter.
    pub errors: u64,
    /// Its block device, if all of an ext4 file system is mounted there, and not a folder of it.
    pub device: Option<PathBuf>,
    /// The block devices that it is on, of any kind of file system.
    pub nodes: Vec<PathBuf>,
    /// What the kernel has counted on a btrfs file system since its counters were reset: what, and how often.
    pub counters: Vec<(&'static str, u64)>,
}

/// The root, and the local file systems of fstab, in fstab's order. Entries that are mounted by hand (`noauto`) are
/// included only while they are mounted.
#[must_use]
pub fn volumes(machine: &Machine) -> Vec<Volume> {
    let fstab = machine.read_config(&SystemPath::literal("/etc/fstab")).ok().flatten().unwrap_or_default();
    let mut lines = lines(&fstab);
    if !lines.iter().any(|line| line.place.is_root()) {
        lines.insert(0, Line { place: SystemPath::root(), read_only: None, by_hand: false, checked: None });
    }
    // What starts the system can be mounted without a line: by a person, or as the line is lost.
    for place in ["/boot", "/boot/efi"].map(SystemPath::literal) {
        if !lines.iter().any(|line| line.place == place) {
            lines.push(Line { place, read_only: None, by_hand: true, checked: None });
        }
    }
    let volume = |line: Line| {
        let mounted = mounted(machine, &line.place);
        let shown = mounted.is_some() || !line.by_hand;
        let (wanted_read_only, checked_at_start) = (line.read_only, line.checked);
        shown.then_some(Volume { place: line.place, mounted, wanted_read_only, checked_at_start })
    };
    lines.into_iter().filter_map(volume).collect()
}

/// The mounted file system at a mount point; `None` where there is none.
fn mounted(machine: &Machine, place: &SystemPath) -> Option<Mounted> {
    let dir = machine.dir(&machine.resolve(place).ok()?).ok()?;
    if let Some(parent) = place.parent() {
        let above = machine.dir(&machine.resolve(&parent).ok()?).ok()?;
        if dir.disk().mount_of(dir.fd()).ok()? == above.disk().mount_of(above.fd()).ok()? {
            return None;
        }
    }
    let id = dir.look_self().ok()?.id;
    let device = if id.ino == EXT4_ROOT { device_of(id.dev) } else { None };
    let (nodes, counters) = match device_of(id.dev) {
        Some(node) => (vec![node], Vec::new()),
        // btrfs has other numbers for its parts.
        None => {
            btrfs_of(dir.disk().mount_of(dir.fd()).ok()?).map_or_else(Default::default, |fs| (fs.nodes, fs.counters))
        }
    };
    let (free, errors) = (dir.disk().room(dir.fd()).ok()?, errors_of(id.dev));
    Some(Mounted { free, errors, device, nodes, counters })
}

/// The node of a block device, by the name that the kernel gives it (Documentation/ABI/stable/sysfs-devices, `uevent`).
fn device_of(number: u64) -> Option<PathBuf> {
    let (major, minor) = (rustix::fs::major(number), rustix::fs::minor(number));
    let text = std::fs::read_to_string(format!("/sys/dev/block/{major}:{minor}/uevent")).ok()?;
    let name = text.lines().find_map(|line| line.strip_prefix("DEVNAME="))?;
    Some(PathBuf::from("/dev").join(name))
}

/// A line of fstab(5) for a local file system.
#[derive(Debug, PartialEq, Eq)]
struct Line {
    place: SystemPath,
    read_only: Option<bool>,
    by_hand: bool,
    /// Whether its sixth field is there and not 0.
    checked: Option<bool>,
}

fn lines(fstab: &[u8]) -> Vec<Line> {
    let mut found: Vec<Line> = Vec::new();
    for line in fstab.split(|b| *b == b'\n').take(MAX_LINES) {
        let fields: Vec<&[u8]> = line.split(|b| b.is_ascii_whitespace()).filter(|f| !f.is_empty()).collect();
        let [device, place, kind, options, ..] = fields[..] else { continue };
        let kind = String::from_utf8_lossy(kind);
        let kind = kind.strip_prefix("fuse.").unwrap_or(&kind);
        if device.starts_with(b"#") || NOT_LOCAL.contains(&kind) {
            continue;
        }
        let Ok(place) = SystemPath::parse(&super::extent::unescape(place)) else { continue };
        let options = String::from_utf8_lossy(options);
        let has = |name: &str| options.split(',').any(|option| option == name);
        // A bind mount is not a file system of its own; of two lines for one place, the first counts.
        if has("bind") || has("rbind") || found.iter().any(|known| known.place == place) {
            continue;
        }
        let checked = fields.get(5).is_some_and(|pass| *pass != b"0");
        found.push(Line { place, read_only: Some(has("ro")), by_hand: has("noauto"), checked: Some(checked) });
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_file_systems_on_local_disks_are_taken_each_once() {
        let fstab = b"UUID=1 / ext4 errors=remount-ro 0 1\nUUID=2 none swap sw 0 0\nsrv:/x /srv nfs defaults 0 0\n\
            UUID=3 /home ext4 defaults 0 2\nUUID=4 /media/stick vfat noauto,ro 0 0\n/home /export none bind 0 0\n\
            UUID=9 /home xfs defaults 0 2\ntmpfs /tmp tmpfs size=1g 0 0\n";
        let told: Vec<_> =
            lines(fstab).iter().map(|l| (l.place.to_string(), l.read_only, l.by_hand, l.checked)).collect();
        let expected = [("/", false, false, true), ("/home", false, false, true), ("/media/stick", true, true, false)];
        assert_eq!(
            told,
            expected.map(|(place, ro, by_hand, checked)| (place.to_owned(), Some(ro), by_hand, Some(checked)))
        );
    }

    proptest::proptest! {
        #[test]
        fn of_a_damaged_fstab_no_place_is_taken_twice(seed: u64) {
            let fstab = b"UUID=1 / ext4 rw 0 1\nUUID=2 /home ext4 ro 0 2\nUUID=5 /opt/a\\040b ext4 rw 0 2\n";
            let found = lines(&crate::testkit::mutated(fstab, seed));
            let places: std::collections::HashSet<&SystemPath> = found.iter().map(|line| &line.place).collect();
            proptest::prop_assert_eq!(places.len(), found.len());
        }
    }
}
