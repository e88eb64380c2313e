//! The file systems that belong to the machine.
//!
//! These are the root and the entries of its fstab(5) at or below `/usr`, `/var`, `/boot` or `/opt` on local disks.
//! Everything else that is mounted below the root belongs to someone else and is protected.

use std::collections::HashSet;
use std::io;

use super::{Dir, Machine};
pub(super) use crate::formats::boot::mounts::unescape;
use crate::model::{FileKind, SystemPath};

const SYSTEM_FOLDERS: [&str; 4] = ["/usr", "/var", "/boot", "/opt"];
const NETWORK_TYPES: [&str; 9] = ["nfs", "nfs4", "cifs", "smb3", "sshfs", "9p", "ceph", "glusterfs", "davfs"];
/// Further lines of fstab(5) are not read.
const MAX_LINES: usize = 1000;
/// Deeper or larger trees of folders are not mount points.
const MAX_EMPTY: usize = 8;
const MAX_LOOKED: usize = 1000;

/// The file systems that belong to the machine.
#[derive(Debug, Clone, Default)]
pub struct Extent {
    mounts: HashSet<u64>,
    unmounted: Vec<SystemPath>,
    /// Mount points of fstab with nothing mounted there, although the folder is not empty.
    covered: Vec<SystemPath>,
    network: Vec<SystemPath>,
}

/// Why an open folder is not part of the machine.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MountProblem {
    /// Another file system is mounted there, and fstab does not list it as part of the system.
    Foreign,
}

impl Extent {
    pub(super) fn read(machine: &Machine) -> Self {
        let fstab = machine.read_config(&SystemPath::literal("/etc/fstab")).ok().flatten().unwrap_or_default();
        let mut extent = Self::default();
        let Ok(root) = machine.dir(&SystemPath::root()) else { return extent };
        let Ok(root_mount) = mount_of(&root) else { return extent };
        extent.mounts.insert(root_mount);
        for (place, kind) in system_mounts(&fstab) {
            if NETWORK_TYPES.iter().any(|t| kind == *t || kind.strip_prefix("fuse.") == Some(t)) {
                extent.network.push(place);
                continue;
            }
            let mount = machine.resolve(&place).and_then(|p| machine.dir(&p)).and_then(|d| mount_of(&d));
            let above = place.parent().and_then(|p| machine.resolve(&p).ok()).and_then(|p| machine.dir(&p).ok());
            let above = above.and_then(|d| mount_of(&d).ok());
            match mount {
                Ok(mount) if Some(mount) != above => {
                    extent.mounts.insert(mount);
                }
                // fstab is under the machine's control: it must not exempt existing files from being examined.
                Ok(_) if holds_anything(machine, &place) => extent.covered.push(place),
                _ => extent.unmounted.push(place),
            }
        }
        extent
    }

    pub(super) fn add(&mut self, mount: u64) {
        self.mounts.insert(mount);
    }

    /// Whether an open folder belongs to the machine.
    ///
    /// # Errors
    /// When the kernel does not report which mount it is on.
    pub fn judge(&self, dir: &Dir) -> io::Result<Result<(), MountProblem>> {
        let mount = mount_of(dir)?;
        Ok(if self.mounts.contains(&mount) { Ok(()) } else { Err(MountProblem::Foreign) })
    }

    /// Parts of the system that fstab lists and that are not mounted.
    #[must_use]
    pub fn unmounted(&self) -> &[SystemPath] {
        &self.unmounted
    }

    /// Mount points of unmounted file systems in which there are files nevertheless: these files belong to the system until
    /// the file system is mounted.
    #[must_use]
    pub fn covered(&self) -> &[SystemPath] {
        &self.covered
    }

    /// The unmounted part of the system that contains this path.
    #[must_use]
    pub fn unmounted_above(&self, path: &SystemPath) -> Option<&SystemPath> {
        self.unmounted.iter().chain(&self.network).find(|place| path.is_within(place))
    }
}

/// Whether a folder contains anything but empty folders, such as mount points and the folders that lead to them.
fn holds_anything(machine: &Machine, place: &SystemPath) -> bool {
    let Ok(real) = machine.resolve(place) else { return false };
    let mut open = vec![(real, 0)];
    let mut looked = 0;
    while let Some((folder, depth)) = open.pop() {
        let Ok(dir) = machine.dir(&folder) else { return true };
        let Ok(names) = dir.disk().list(dir.fd()) else { return true };
        for (name, _) in names {
            looked += 1;
            match dir.look(&name) {
                Ok(Some(stat)) if stat.kind == FileKind::Folder && depth < MAX_EMPTY && looked < MAX_LOOKED => {
                    let Ok(below) = folder.child(&name) else { return true };
                    open.push((below, depth + 1));
                }
                Ok(None) => {}
                _ => return true,
            }
        }
    }
    false
}

fn mount_of(dir: &Dir) -> io::Result<u64> {
    dir.disk().mount_of(dir.fd())
}

/// The mount points of fstab(5) that are part of the system, with the type of file system.
fn system_mounts(fstab: &[u8]) -> Vec<(SystemPath, String)> {
    let mut found = Vec::new();
    for line in fstab.split(|b| *b == b'\n').take(MAX_LINES) {
        let fields: Vec<&[u8]> = line.split(|b| b.is_ascii_whitespace()).filter(|f| !f.is_empty()).collect();
        let [device, place, kind, options, ..] = fields[..] else { continue };
        let options = String::from_utf8_lossy(options);
        // `noauto` entries are mounted by hand when needed: that they are not mounted is normal.
        if device.starts_with(b"#") || options.split(',').any(|o| o == "noauto") {
            continue;
        }
        let Ok(place) = SystemPath::parse(&unescape(place)) else { continue };
        if SYSTEM_FOLDERS.iter().any(|folder| place.is_within(&SystemPath::literal(folder))) {
            found.push((place, String::from_utf8_lossy(kind).into_owned()));
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_the_systems_own_mounts_are_taken_from_fstab() {
        let fstab = b"# comment\nUUID=1 / ext4 defaults 0 1\nUUID=2 /home ext4 defaults 0 2\nUUID=3 /var ext4 defaults 0 2\n\
            srv:/x /opt/vendor nfs defaults 0 0\nUUID=4 /boot/efi vfat noauto 0 1\nUUID=5 /opt/a\\040b ext4 rw 0 2\nshort line\n";
        let found = system_mounts(fstab);
        let shown: Vec<String> = found.iter().map(|(p, k)| format!("{p} {k}")).collect();
        assert_eq!(shown, ["/var ext4", "/opt/vendor nfs", "/opt/a b ext4"]);
    }

    proptest::proptest! {
        #[test]
        fn of_a_damaged_fstab_only_the_systems_own_mounts_are_taken(seed: u64) {
            let fstab = b"UUID=1 / ext4 rw 0 1\nUUID=2 /home ext4 rw 0 2\nUUID=3 /var ext4 rw 0 2\nUUID=5 /opt/a\\040b ext4 rw 0 2\n";
            for (place, kind) in system_mounts(&crate::testkit::mutated(fstab, seed)) {
                proptest::prop_assert!(!place.is_root() && !place.is_within(&SystemPath::literal("/home")), "{place}");
                proptest::prop_assert!(!kind.is_empty());
            }
        }
    }
}
