//! The places that a savepoint covers: the system, without users' data, logs, caches and the data of services. Of `/var` that is
//! what the package tools record there, and each file, symlink and folder that a package ships, without what else is in that folder.

use crate::machine::Machine;
use crate::model::{FileKind, PathMap, SystemPath};
use crate::platform::debian::listed_below;

/// Folders that belong to the system as a whole.
const WHOLE: [&str; 4] = ["/usr", "/etc", "/boot", "/opt"];
/// What else makes up the system: the package database, and what packages and their tools record beside it.
const ELSEWHERE: [&str; 31] = [
    "/var/lib/dpkg",
    "/var/lib/apt/extended_states",
    "/var/cache/debconf",
    "/var/lib/aspell",
    "/var/lib/binfmts",
    "/var/lib/ca-certificates-java",
    "/var/lib/dictionaries-common",
    "/var/lib/dkms",
    "/var/lib/doc-base",
    "/var/lib/emacsen-common",
    "/var/lib/gconf",
    "/var/lib/ghostscript",
    "/var/lib/initramfs-tools",
    "/var/lib/insserv",
    "/var/lib/ispell",
    "/var/lib/pam",
    "/var/lib/python",
    "/var/lib/sgml-base",
    "/var/lib/shells.state",
    "/var/lib/systemd/deb-systemd-helper-enabled",
    "/var/lib/systemd/deb-systemd-helper-masked",
    "/var/lib/systemd/deb-systemd-user-helper-enabled",
    "/var/lib/systemd/deb-systemd-user-helper-masked",
    "/var/lib/tex-common",
    "/var/lib/texmf",
    "/var/lib/ucf",
    "/var/lib/usbutils",
    "/var/lib/vim",
    "/var/lib/xfonts",
    "/var/lib/xkb",
    "/var/lib/xml-core",
];

/// Where packages ship folders for data (Filesystem Hierarchy Standard, chapter 5).
const VARIABLE: &str = "/var";

/// apt's configuration that makes savepoints before packages are changed.
pub const HOOK: &str = "/etc/apt/apt.conf.d/05veritum-savepoint";

const LOCAL: &str = "installed by the administrator";
const LOADER: &str = "the boot loader: its files must fit the boot code, which is not part of any file";
const OWN: &str = "Veritum's own";
const LOCK: &str = "a lock file";
const IDENTITY: &str = "identifies this computer";

/// Places below these that are not covered, with the reason.
const EXCLUDED: [(&str, &str); 14] = [
    ("/usr/bin/veritum", OWN),
    ("/usr/sbin/veritum", OWN),
    ("/usr/local", LOCAL),
    ("/boot/efi", LOADER),
    ("/boot/EFI", LOADER),
    ("/boot/extlinux", LOADER),
    ("/boot/loader", LOADER),
    ("/boot/syslinux", LOADER),
    ("/efi", LOADER),
    (HOOK, OWN),
    ("/etc/veritum", OWN),
    ("/var/lib/veritum", OWN),
    ("/etc/.pwd.lock", LOCK),
    ("/etc/machine-id", IDENTITY),
];
/// dpkg's lock files: programs that hold one must keep the same file. By the ends of their paths, as /var may be elsewhere.
const LOCKS: [&str; 3] = ["/lib/dpkg/lock", "/lib/dpkg/lock-frontend", "/lib/dpkg/triggers/Lock"];
/// The folder of GRUB; only these files in it are covered.
const GRUB: &str = "/boot/grub";
const GRUB_COVERED: [&str; 2] = ["/boot/grub/grub.cfg", "/boot/grub/custom.cfg"];

/// Whether an object in the root folder is covered: the folders of programs and libraries, or the symlinks to them, and the
/// symlinks to kernels.
fn is_top(name: &[u8], is_folder: bool, is_link: bool) -> bool {
    let programs = name == b"bin" || name == b"sbin" || name.starts_with(b"lib");
    programs && (is_folder || is_link) || is_link && (name.starts_with(b"vmlinu") || name.starts_with(b"initrd"))
}

/// Why a path below the covered folders is not covered; `None` if it is.
#[must_use]
pub fn excluded(path: &SystemPath) -> Option<&'static str> {
    let of_grub = || {
        let other = !GRUB_COVERED.iter().any(|covered| path.as_bytes() == covered.as_bytes());
        (path.is_within_place(GRUB) && path.as_bytes() != GRUB.as_bytes() && other).then_some(LOADER)
    };
    // Temporary and kept files of changes, at the top of each file system.
    let own = || memchr::memmem::find(path.as_bytes(), b"/.veritum-").map(|_| OWN);
    let host_key = || {
        let name = path.as_bytes().strip_prefix(b"/etc/ssh/ssh_host_");
        name.is_some_and(|name| name.windows(4).any(|part| part == b"_key")).then_some(IDENTITY)
    };
    let listed = EXCLUDED.iter().find(|(place, _)| path.is_within_place(place)).map(|(_, why)| *why);
    let lock = || LOCKS.iter().any(|lock| path.as_bytes().ends_with(lock.as_bytes())).then_some(LOCK);
    listed.or_else(of_grub).or_else(own).or_else(host_key).or_else(lock)
}

/// The places that are left out, with the reasons.
pub fn excluded_places() -> impl Iterator<Item = (&'static str, &'static str)> {
    let others = [(GRUB, LOADER), ("/etc/ssh/ssh_host_*_key*", IDENTITY), ("/var/lib/dpkg/lock*", LOCK)];
    EXCLUDED.iter().copied().chain(others)
}

/// The places that a savepoint of a machine covers.
#[derive(Debug, Clone)]
pub struct Coverage {
    /// Where the walk begins, without symlinks before the last names.
    pub(super) tops: Vec<SystemPath>,
    /// The real path of /var.
    variable: Option<SystemPath>,
    /// Homes of people's accounts below the folders where the walk begins, such as one of an application in /opt.
    homes: Vec<SystemPath>,
}

impl Coverage {
    /// The covered places of a machine. A folder such as /var that is elsewhere is followed, as the system itself does.
    #[must_use]
    pub fn new(machine: &Machine) -> Self {
        let real = |place: &'static str| {
            let place = SystemPath::literal(place);
            machine.resolve(&place.parent()?).ok()?.child(place.name()).ok()
        };
        let mut tops: Vec<SystemPath> = WHOLE.iter().chain(&ELSEWHERE).filter_map(|place| real(place)).collect();
        if let Ok(root) = machine.dir(&SystemPath::root()) {
            for (name, _) in root.disk().list(root.fd()).unwrap_or_default() {
                let kind = root.look(&name).ok().flatten().map(|stat| stat.kind);
                if is_top(&name, kind == Some(FileKind::Folder), kind == Some(FileKind::Link)) {
                    tops.extend(SystemPath::root().child(&name));
                }
            }
        }
        tops.sort();
        tops.dedup();
        let accounts = machine.users().accounts().iter().filter(|account| account.is_login());
        let homes = accounts.filter_map(|account| machine.resolve(account.home.as_ref()?).ok());
        let is_below = |home: &SystemPath| tops.iter().any(|top| home.is_within(top) && home != top);
        let homes = homes.filter(is_below).collect();
        Self { tops, variable: machine.resolve(&SystemPath::literal(VARIABLE)).ok(), homes }
    }

    /// Users' homes in the covered folders: they are not covered.
    #[must_use]
    pub fn homes(&self) -> &[SystemPath] {
        &self.homes
    }

    /// Whether a path below the covered folders is not covered.
    pub(super) fn leaves_out(&self, path: &SystemPath) -> bool {
        excluded(path).is_some() || self.homes.iter().any(|home| path.is_within(home))
    }

    /// Whether a path is covered with everything below it. But for those of [`Self::has_single`] no other is ever written by a return,
    /// whatever a manifest contains.
    #[must_use]
    pub fn has(&self, path: &SystemPath) -> bool {
        let in_root = path.parent().is_some_and(|parent| parent.is_root()) && is_top(path.name(), true, true);
        (in_root || self.tops.iter().any(|top| path.is_within(top))) && !self.leaves_out(path)
    }

    /// Whether a path is covered if a package ships it, without what is below it.
    #[must_use]
    pub fn has_single(&self, path: &SystemPath) -> bool {
        self.variable.as_ref().is_some_and(|folder| path.is_within(folder) && path != folder)
            && !self.has(path)
            && !self.leaves_out(path)
    }

    /// The covered places whose file system is listed in fstab(5) and not mounted now.
    #[must_use]
    pub fn not_mounted(&self, machine: &Machine) -> Vec<SystemPath> {
        let extent = machine.extent();
        let concerns = |place: &SystemPath| {
            !self.leaves_out(place) && (self.has(place) || self.tops.iter().any(|top| top.is_within(place)))
        };
        let places = extent.unmounted().iter().chain(extent.covered());
        let real = places.map(|place| machine.resolve(place).unwrap_or_else(|_| place.clone()));
        real.filter(concerns).collect()
    }

    /// The real places in `/var` that packages list and that are covered singly.
    pub(super) fn singles(&self, machine: &Machine, pool: &rayon::ThreadPool) -> Vec<SystemPath> {
        let listed = pool.install(|| listed_below(machine, &SystemPath::literal(VARIABLE)));
        let mut folders: PathMap<Option<SystemPath>> = PathMap::default();
        let mut real = |path: &SystemPath| {
            let folder = path.parent()?;
            let real = folders.entry(folder).or_insert_with_key(|folder| machine.resolve(folder).ok());
            real.as_ref()?.child(path.name()).ok()
        };
        listed.iter().filter_map(&mut real).filter(|path| self.has_single(path)).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_system_is_covered_and_nothing_of_users_services_and_the_boot_loader() {
        let root = tempfile::tempdir().unwrap();
        for folder in ["usr/bin", "etc", "boot", "lib64", "data/lib/dpkg"] {
            std::fs::create_dir_all(root.path().join(folder)).unwrap();
        }
        std::os::unix::fs::symlink("data", root.path().join("var")).unwrap();
        std::os::unix::fs::symlink("usr/bin", root.path().join("bin")).unwrap();
        let machine = Machine::open(root.path(), std::sync::Arc::new(crate::machine::LiveDisk)).unwrap();
        let coverage = Coverage::new(&machine);
        let is_covered = |path: &SystemPath| coverage.has(path);
        for path in [
            "/usr/bin/env",
            "/etc/fstab",
            "/lib64/ld.so",
            "/bin",
            "/vmlinuz",
            "/boot/vmlinuz-6",
            "/boot/grub/grub.cfg",
            "/data/lib/dpkg/status",
        ] {
            assert!(is_covered(&SystemPath::parse(path.as_bytes()).unwrap()), "{path}");
        }
        for path in [
            "/home/mirela/letter",
            "/root/.bashrc",
            "/usr/bin/veritum",
            "/usr/local/bin/tool",
            "/var/lib/postgresql/15/main",
            "/var/log/syslog",
            "/var/lib/veritum/kept",
            "/usr/.veritum-kept/pool",
            "/boot/grub/i386-pc/core.img",
            "/boot/efi/EFI/debian/grubx64.efi",
            "/etc/machine-id",
            "/etc/ssh/ssh_host_ed25519_key",
            "/data/lib/dpkg/lock",
            "/data/lib/dpkgs",
            "/data/log",
            "/",
        ] {
            assert!(!is_covered(&SystemPath::parse(path.as_bytes()).unwrap()), "{path}");
        }
    }
}
