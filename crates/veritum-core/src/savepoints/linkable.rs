//! [`Linkable`]: which files may be kept by a hard link, because whatever changes them replaces them by rename.
//!
//! That is so for packages' files outside /etc and /var (dpkg), dpkg's own `info` files, Python's bytecode (`importlib`), the hardware
//! database (`systemd-hwdb`), and the initramfs where `update-initramfs` makes it. All others may be written in place, which
//! would change the kept content too.

use rayon::prelude::*;

use super::manifest::Entry;
use super::merged::Merged;
use crate::machine::Machine;
use crate::model::{PathSet, Stat, SystemPath};
use crate::platform::debian::Debian;
use crate::platform::{Installed, Platform as _};

/// Mode bits of files that are copied: setuid and setgid (dpkg changes the mode of the inode it replaces), and write permission of
/// others than root.
const COPIED: u32 = 0o6022;

/// Which files may be kept by a hard link.
pub(super) struct Linkable {
    /// Packages' files, except configuration files, without symlinks in their paths as far as a merged /usr causes them.
    owned: PathSet,
    /// The owner of the system's files.
    root: u32,
    /// Whether `update-initramfs` makes the initramfs.
    initramfs: bool,
}

impl Linkable {
    /// Reads the lists of all packages.
    pub(super) fn read(machine: &Machine, installed: &Installed, pool: &rayon::ThreadPool) -> Self {
        let root = machine.look(&SystemPath::root()).ok().flatten().map_or(0, |stat| stat.uid);
        let initramfs = machine.resolve(&SystemPath::literal("/usr/sbin/mkinitramfs")).is_ok();
        Self { owned: owned_now(machine, installed, pool), root, initramfs }
    }

    /// Whether a file may be kept by a hard link.
    pub(super) fn has(&self, entry: &Entry, stat: &Stat) -> bool {
        let plain =
            stat.uid == self.root && entry.mode & COPIED == 0 && entry.attributes.is_empty() && entry.locked == 0;
        plain && (self.owned.contains(&entry.path) || self.is_replaced_by_rename(&entry.path))
    }

    fn is_replaced_by_rename(&self, path: &SystemPath) -> bool {
        let (bytes, name) = (path.as_bytes(), path.name());
        let bytecode = bytes.starts_with(b"/usr/") && name.ends_with(b".pyc");
        let info = path.parent().is_some_and(|folder| folder.as_bytes().ends_with(b"/lib/dpkg/info"));
        let hardware = bytes.ends_with(b"/udev/hwdb.bin") && !bytes.starts_with(b"/etc/");
        let initramfs = self.initramfs && bytes.starts_with(b"/boot/initrd.img-");
        bytecode || info || hardware || initramfs
    }
}

/// Whether a package's file is in a folder in which programs change files.
fn is_of_programs(path: &SystemPath) -> bool {
    path.as_bytes().starts_with(b"/etc/") || path.as_bytes().starts_with(b"/var/")
}

/// All files that installed packages list outside /etc and /var, except configuration files, by their real paths.
pub(super) fn owned_now(machine: &Machine, installed: &Installed, pool: &rayon::ThreadPool) -> PathSet {
    let merged = Merged::read(machine);
    let records = Debian.records(machine);
    let list = |package: &crate::platform::Package| {
        let paths = records.read_list(package, None).map(|record| record.paths).unwrap_or_default();
        let settings: PathSet = package.settings.iter().map(|file| file.path.clone()).collect();
        let plain = paths.into_iter().filter(|path| !settings.contains(path) && !is_of_programs(path));
        plain.map(|path| merged.physical(path)).collect::<Vec<_>>()
    };
    let lists: Vec<Vec<SystemPath>> = pool.install(|| installed.packages.par_iter().map(list).collect());
    let diverted = installed.diversions.values().map(|diversion| diversion.to.clone());
    let diverted = diverted.filter(|path| !is_of_programs(path)).map(|path| merged.physical(path));
    lists.into_iter().flatten().chain(diverted).collect()
}
