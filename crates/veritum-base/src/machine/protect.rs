//! [`Protection`]: places that must not be changed.
//!
//! Judged by physical paths (without symlinks, as handles are opened), never by a listed name; the `change` module checks
//! again immediately before writing.

use std::io;

use super::{Dir, Machine};
use crate::model::SystemPath;

/// Places that belong to users, the running kernel or the administrator.
const ALWAYS: [&str; 16] = [
    "/home",
    "/root",
    "/srv",
    "/mnt",
    "/media",
    "/tmp",
    "/var/tmp",
    "/run",
    "/proc",
    "/sys",
    "/dev",
    "/lost+found",
    "/usr/local",
    "/var/mail",
    "/var/spool/mail",
    "/var/lib/veritum",
];

/// Decides which places must not be changed.
pub trait ProtectionPolicy: Send + Sync {
    /// The reason why this physical path is protected; `None` when it may be changed.
    fn reason(&self, physical: &SystemPath) -> Option<String>;
    /// Whether a protected place is strictly below this physical path.
    fn guards_below(&self, physical: &SystemPath) -> bool;
    /// The reason why the object at a name of an open folder, with everything in it, is protected under any name: checked
    /// immediately before something is moved from this physical path.
    ///
    /// # Errors
    /// When that cannot be determined.
    fn reason_at(&self, _physical: &SystemPath, _dir: &Dir, _name: &[u8]) -> io::Result<Option<String>> {
        Ok(None)
    }
}

/// Protects homes, the running kernel's file systems and the administrator's own places.
#[derive(Debug, Clone)]
pub struct Protection {
    places: Vec<(SystemPath, &'static str)>,
}

impl Protection {
    /// The protected places of a machine.
    #[must_use]
    pub fn new(machine: &Machine) -> Self {
        let mut places: Vec<(SystemPath, &'static str)> = Vec::new();
        for place in ALWAYS {
            let place = SystemPath::literal(place);
            let reason = if place.as_bytes() == b"/home" || place.as_bytes() == b"/root" {
                "in a user's home"
            } else {
                "in a protected location"
            };
            // Such a place may itself be a symlink (/home to a larger disk): its target is protected too.
            if let Ok(real) = machine.resolve(&place) {
                places.push((real, reason));
            }
            places.push((place, reason));
        }
        for account in machine.users().accounts().iter().filter(|a| a.is_login()) {
            let Some(home) = &account.home else { continue };
            places.push((home.clone(), "in a user's home"));
            if let Ok(real) = machine.resolve(home) {
                places.push((real, "in a user's home"));
            }
        }
        // It is unknown whether this belongs to the system or was left below a mount point.
        for place in machine.extent().covered() {
            let reason = "on a file system of fstab that is not mounted";
            places.extend(machine.resolve(place).ok().map(|real| (real, reason)));
        }
        places.retain(|(place, _)| !place.is_root());
        places.sort();
        places.dedup();
        Self { places }
    }

    /// The reason why a physical path is protected.
    #[must_use]
    pub fn why(&self, physical: &SystemPath) -> Option<&'static str> {
        self.places.iter().find(|(place, _)| physical.is_within(place)).map(|(_, why)| *why)
    }

    /// Whether a protected place is strictly below this folder.
    #[must_use]
    pub fn lies_below(&self, physical: &SystemPath) -> bool {
        self.places.iter().any(|(place, _)| place != physical && place.is_within(physical))
    }
}

impl ProtectionPolicy for Protection {
    fn reason(&self, physical: &SystemPath) -> Option<String> {
        self.why(physical).map(str::to_owned)
    }

    fn guards_below(&self, physical: &SystemPath) -> bool {
        self.lies_below(physical)
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use super::*;
    use crate::machine::LiveDisk;

    #[test]
    fn a_home_is_protected_under_every_name_it_has() {
        let dir = tempfile::tempdir().unwrap();
        for folder in ["etc", "home", "data/homes/oskar", "usr/share"] {
            std::fs::create_dir_all(dir.path().join(folder)).unwrap();
        }
        std::os::unix::fs::symlink("/data/homes/oskar", dir.path().join("home/oskar")).unwrap();
        std::fs::write(
            dir.path().join("etc/passwd"),
            "oskar:x:1001:1001::/home/oskar:/bin/sh\ndaemon:x:1:1::/usr/sbin:/bin/false\n",
        )
        .unwrap();
        let machine = Machine::open(dir.path(), Arc::new(LiveDisk)).unwrap();
        let protection = Protection::new(&machine);
        for place in ["/home/oskar/letter", "/data/homes/oskar", "/root/x", "/usr/local/bin/tool"] {
            assert!(protection.why(&SystemPath::literal(place)).is_some(), "{place}");
        }
        for place in ["/usr/share/x", "/data", "/usr/sbin/x", "/homestead"] {
            assert!(protection.why(&SystemPath::literal(place)).is_none(), "{place}");
        }
        assert!(protection.lies_below(&SystemPath::literal("/data")));
    }
}
