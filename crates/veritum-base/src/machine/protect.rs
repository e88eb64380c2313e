//! [`Protection`]: which places must not be altered.
//!
//! Judged on physical paths (without links, as handles are opened), never on a listed name, and asked once more by
//! the `change` module.

use std::io;

use super::{Dir, Machine};
use crate::model::SystemPath;

/// Places that belong to the users, to the running kernel or to the administrator.
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

/// What must not be altered, with the reason.
pub trait ProtectionPolicy: Send + Sync {
    /// The reason why this physical path is protected; none when it may be altered.
    fn reason(&self, physical: &SystemPath) -> Option<String>;
    /// Whether a protected place is strictly below this physical path.
    fn guards_below(&self, physical: &SystemPath) -> bool;
    /// The reason why what is at a name of an open folder is protected with all that is in it, whatever the name: asked
    /// at the last moment, of what is going to be moved from this physical path.
    ///
    /// # Errors
    /// When no one can say.
    fn reason_at(&self, _physical: &SystemPath, _dir: &Dir, _name: &[u8]) -> io::Result<Option<String>> {
        Ok(None)
    }
}

/// None of a home, nothing of the running kernel's, nothing of the administrator's own.
#[derive(Debug, Clone)]
pub struct Protection {
    places: Vec<(SystemPath, &'static str)>,
}

impl Protection {
    /// The places of this machine.
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
            // Such a place may itself be a link (/home to a larger disk): what it points to is protected too.
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
        // Whether what is there belongs to the system, or was left behind below a mount point, no one can say from here.
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
