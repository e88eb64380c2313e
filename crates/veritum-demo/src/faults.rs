//! Kinds of damage for the demo machine, to apply one by one or all together.

use std::fs;
use std::io;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _, symlink};
use std::path::{Path, PathBuf};

use veritum_core::model::{Digest, Md5};
use veritum_core::store::IndexEntry;

use crate::machine::{set_mtime, set_owner};

/// One kind of damage.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Fault {
    /// Its name.
    pub name: &'static str,
    /// A one-line description.
    pub what: &'static str,
    /// The path.
    pub path: &'static str,
    /// The verdict of a check.
    pub verdict: &'static str,
    /// Whether it is only a note, which a repair does not change.
    pub note: bool,
    /// Whether only root can apply it.
    pub needs_root: bool,
    /// Whether it damages the store: `path` then uses the damaged part.
    pub in_store: bool,
    /// Whether it blocks updates: `path` is then part of the reported text.
    pub in_updates: bool,
    /// Whether it damages a user's home: the application's finding reports it.
    pub in_homes: bool,
    /// Further reported places, each with its verdict.
    pub also: &'static [(&'static str, &'static str)],
    /// Whether a repair can only advise.
    pub stays: bool,
    /// Whether it affects many places below the path, reported as one.
    pub many: bool,
    /// Whether it leaves a file system mounted: it is only applied when named.
    pub mounts: bool,
}

const fn fault(name: &'static str, what: &'static str, path: &'static str, verdict: &'static str) -> Fault {
    Fault {
        name,
        what,
        path,
        verdict,
        note: false,
        needs_root: false,
        in_store: false,
        in_updates: false,
        in_homes: false,
        also: &[],
        stays: false,
        many: false,
        mounts: false,
    }
}

const fn note(name: &'static str, what: &'static str, path: &'static str, verdict: &'static str) -> Fault {
    Fault { note: true, ..fault(name, what, path, verdict) }
}

const fn in_store(name: &'static str, what: &'static str, path: &'static str, verdict: &'static str) -> Fault {
    Fault { in_store: true, ..fault(name, what, path, verdict) }
}

const fn in_updates(name: &'static str, what: &'static str, path: &'static str, verdict: &'static str) -> Fault {
    Fault { in_updates: true, ..fault(name, what, path, verdict) }
}

const fn in_homes(name: &'static str, what: &'static str, path: &'static str, verdict: &'static str) -> Fault {
    Fault { in_homes: true, ..fault(name, what, path, verdict) }
}

/// All kinds of damage.
pub const FAULTS: [Fault; 37] = [
    fault(
        "altered-library",
        "a library's content changed, its size and times kept",
        "/usr/lib/x86_64-foreshore/libgunwale.so.5.4.2",
        "altered",
    ),
    fault("emptied-file", "a file emptied, as after a power cut", "/usr/share/berthbook/parts/parts-003", "altered"),
    fault("cut-file", "a file truncated to half", "/usr/lib/firmware/00/item-001.fw", "altered"),
    fault("missing-program", "a program missing", "/usr/bin/gullmail", "missing"),
    fault("missing-folder", "a folder missing with its contents", "/usr/share/quayprint", "missing"),
    fault("folder-for-file", "a folder in place of a file", "/usr/share/driftlook/help/help-001", "wrong-type"),
    fault("file-for-folder", "a file in place of a folder", "/usr/share/tallyroll", "wrong-type"),
    fault("wrong-target", "a symlink that points elsewhere", "/usr/lib/x86_64-foreshore/libtidal.so.3", "wrong-target"),
    fault("file-for-link", "a file in place of a symlink", "/usr/lib/x86_64-foreshore/libkelp.so.0", "wrong-type"),
    fault("hardlink-split", "one of three hard links replaced by a copy", "/usr/bin/tidecut", "hardlink-split"),
    fault("link-out", "a file replaced by a symlink out of the system", "/usr/sbin/timeball", "wrong-type"),
    fault(
        "folder-link-home",
        "a package's folder replaced by a symlink into a user's home",
        "/usr/share/tidewriter/templates",
        "wrong-type",
    ),
    note(
        "moved-folder",
        "a folder moved by the administrator, with a symlink left behind",
        "/usr/share/strandline-themes",
        "moved",
    ),
    fault("wrong-permissions", "a world-writable program", "/usr/bin/ropework", "wrong-permissions"),
    Fault { needs_root: true, ..fault("wrong-owner", "a program owned by a user", "/usr/bin/pilotage", "wrong-owner") },
    note(
        "config-modified",
        "a configuration file modified by the administrator",
        "/etc/netbuoy/netbuoy.conf",
        "config-modified",
    ),
    note(
        "config-removed",
        "a configuration file removed by the administrator",
        "/etc/lampd/lampd.conf",
        "config-removed",
    ),
    note(
        "unowned-file",
        "an unowned file in a system folder",
        "/usr/lib/x86_64-foreshore/libbrine-patch.so",
        "unowned",
    ),
    Fault {
        also: &[("/var/lib/dpkg/info/tallyroll.md5sums", "altered")],
        ..fault(
            "record-altered",
            "a program altered, and its checksum in the package database to match",
            "/usr/bin/tallyroll",
            "altered",
        )
    },
    fault("list-cut", "a package's file list truncated", "/var/lib/dpkg/info/tidelog.list", "corrupt"),
    fault(
        "status-corrupt",
        "zeros in the middle of dpkg's status file, as after a power cut",
        "/var/lib/dpkg/status",
        "corrupt",
    ),
    Fault { stays: true, ..fault("half-installed", "a half-installed package", "/var/lib/dpkg/status", "incomplete") },
    Fault {
        many: true,
        ..fault(
            "replaced-package",
            "a package's folder partly replaced by another installer",
            "/usr/share/scripts-coxswain",
            "altered",
        )
    },
    fault("emptied-program", "a program emptied, as after a power cut", "/usr/bin/berthbook", "altered"),
    in_homes(
        "settings-cut",
        "truncated settings of Tidewriter",
        "/home/mirela/.config/tidewriter/settings.json",
        "corrupt",
    ),
    in_homes(
        "lock-left",
        "a lock left by Gullmail after a crash, next to the mail",
        "/home/mirela/.gullmail/harbour.box/lock",
        "stale-lock",
    ),
    in_store(
        "store-content-altered",
        "a content file damaged in the store",
        "/usr/share/ropework/part-002.txt",
        "altered",
    ),
    in_store(
        "store-content-missing",
        "a content file missing from the store",
        "/usr/share/strandline-shell/parts/parts-035",
        "missing",
    ),
    in_store("store-manifest-altered", "a package's manifest altered in the store", "tidetable", "altered"),
    Fault { note: true, ..in_store("store-unused", "an unused file in the store", "objects/left-here", "unowned") },
    in_updates("download-altered", "a download with another content", "/var/cache/apt/archives/gullmail_", "altered"),
    in_updates("download-cut", "a truncated download", "/var/cache/apt/archives/libgunwale5_", "truncated"),
    in_updates("list-forged", "a release file changed after signing", "foreshore/ saltwort", "bad-signature"),
    Fault {
        note: true,
        ..in_updates(
            "list-expired",
            "outdated package lists of a repository",
            "foreshore/ saltwort-security",
            "outdated",
        )
    },
    Fault {
        note: true,
        ..in_updates(
            "crashed-update",
            "leftovers of a download that crashed",
            "/var/cache/apt/archives/partial/gullmail_",
            "partial",
        )
    },
    in_updates("failed-service", "the service that downloads updates failed", "apt-daily.service", "failed"),
    Fault {
        needs_root: true,
        stays: true,
        mounts: true,
        ..in_updates("disk-full", "a nearly full disk", "/var/cache/apt/archives", "disk-full")
    },
];

/// The fault of that name.
#[must_use]
pub fn by_name(name: &str) -> Option<&'static Fault> {
    FAULTS.iter().find(|f| f.name == name)
}

/// Applies the damage; the parent folder keeps its times.
///
/// # Errors
/// When the machine is not as built.
pub fn apply(root: &Path, fault: &Fault) -> io::Result<()> {
    let path = root.join(fault.path.trim_start_matches('/'));
    let parent = path.parent().unwrap_or(root).to_owned();
    let before = fs::symlink_metadata(&parent)?;
    let own = fs::symlink_metadata(&path).ok();
    damage(root, fault.name, &path)?;
    let keeps_time = matches!(fault.name, "altered-library" | "hardlink-split" | "wrong-permissions" | "wrong-owner");
    match own.filter(|_| keeps_time) {
        Some(own) => set_mtime(&path, own.mtime(), own.mtime_nsec())?,
        None if path.symlink_metadata().is_ok() => set_mtime(&path, crate::NOW - 600, 0)?,
        None => {}
    }
    set_mtime(&parent, before.mtime(), before.mtime_nsec())
}

/// Damages the store of a machine that is still intact.
///
/// # Errors
/// When machine or store are not as built.
pub fn apply_to_store(root: &Path, store: &Path, fault: &Fault) -> io::Result<()> {
    let content = || -> io::Result<PathBuf> {
        let hex = Digest::hash(&fs::read(root.join(fault.path.trim_start_matches('/')))?).to_hex();
        Ok(store.join(format!("objects/{}/{}.zst", &hex[..2], &hex[2..])))
    };
    let flip = |place: &Path| -> io::Result<()> {
        let mut bytes = fs::read(place)?;
        let middle = bytes.len() / 2;
        bytes[middle..].iter_mut().take(8).for_each(|b| *b ^= 0x5a);
        fs::write(place, bytes)
    };
    match fault.name {
        "store-content-altered" => flip(&content()?),
        "store-content-missing" => fs::remove_file(content()?),
        "store-manifest-altered" => flip(&manifest_of(store, fault.path)?),
        "store-unused" => fs::write(store.join(fault.path), b"by mistake\n"),
        other => Err(io::Error::new(io::ErrorKind::InvalidInput, format!("unknown fault: {other}"))),
    }
}

/// The path of the manifest of a package's newest version.
fn manifest_of(store: &Path, package: &str) -> io::Result<PathBuf> {
    let names = fs::read_dir(store.join("filled"))?.flatten().map(|e| e.path());
    let of = |p: &PathBuf| p.file_name().is_some_and(|n| n.to_string_lossy().starts_with(&format!("{package}_")));
    let entry = names.filter(of).max().ok_or(io::ErrorKind::NotFound)?;
    let entry: IndexEntry = serde_json::from_slice(&fs::read(entry)?)?;
    let hex = entry.manifest.to_hex();
    Ok(store.join(format!("manifests/{}/{}.json.zst", &hex[..2], &hex[2..])))
}

fn damage(root: &Path, name: &str, path: &Path) -> io::Result<()> {
    let swap_for_link = |target: &str| fs::remove_file(path).and_then(|()| symlink(target, path));
    match name {
        "altered-library" => {
            let mut bytes = fs::read(path)?;
            let middle = bytes.len() / 2;
            bytes[middle..middle + 16].iter_mut().for_each(|b| *b ^= 0x5a);
            fs::write(path, bytes)
        }
        "emptied-file" | "emptied-program" => fs::write(path, b""),
        "lock-left" => {
            symlink("127.0.1.1:+4242", path)?;
            set_owner(path, 1000, 1000)
        }
        "cut-file" | "settings-cut" => {
            let bytes = fs::read(path)?;
            fs::write(path, &bytes[..bytes.len() / 2])
        }
        "missing-program" | "config-removed" => fs::remove_file(path),
        "missing-folder" => fs::remove_dir_all(path),
        "folder-for-file" => {
            fs::remove_file(path)?;
            fs::create_dir(path)?;
            fs::write(path.join("left here"), b"by mistake\n")?;
            set_mtime(&path.join("left here"), crate::NOW - 600, 0)
        }
        "file-for-folder" => {
            fs::remove_dir_all(path)?;
            fs::write(path, b"not a folder\n")
        }
        "wrong-target" => swap_for_link("libkelp.so.0.4.2"),
        "file-for-link" => {
            fs::remove_file(path)?;
            fs::write(path, b"a copy from somewhere\n")
        }
        "hardlink-split" => {
            let (bytes, old) = (fs::read(path)?, fs::symlink_metadata(path)?);
            fs::remove_file(path)?;
            fs::write(path, bytes)?;
            fs::set_permissions(path, fs::Permissions::from_mode(old.mode()))?;
            set_owner(path, 0, 0)
        }
        "link-out" => swap_for_link("../../../../../../../../etc/hostname"),
        "folder-link-home" => {
            fs::remove_dir_all(path)?;
            symlink("/home/mirela/Templates", path)
        }
        "moved-folder" => {
            let to = root.join("var/lib/large-themes");
            let above = fs::symlink_metadata(root.join("var/lib"))?;
            fs::rename(path, &to)?;
            symlink("/var/lib/large-themes", path)?;
            set_mtime(&root.join("var/lib"), above.mtime(), above.mtime_nsec())
        }
        "wrong-permissions" => fs::set_permissions(path, fs::Permissions::from_mode(0o777)),
        "wrong-owner" => set_owner(path, 1001, 1001),
        "config-modified" => {
            let mut text = fs::read_to_string(path)?;
            text.push_str("level = 7\n");
            fs::write(path, text)
        }
        "unowned-file" => fs::write(path, b"from an unknown place\n"),
        "record-altered" => {
            let (right, wrong) = (fs::read(path)?, b"#!/usr/bin/sh\nexec /home/oskar/.cache/other\n");
            fs::write(path, wrong)?;
            let record = root.join("var/lib/dpkg/info/tallyroll.md5sums");
            let text = fs::read_to_string(&record)?;
            fs::write(&record, text.replace(&Md5::hash(&right).to_hex(), &Md5::hash(wrong).to_hex()))
        }
        "list-cut" => {
            let bytes = fs::read(path)?;
            fs::write(path, &bytes[..bytes.len() - 12])
        }
        "status-corrupt" => {
            let mut bytes = fs::read(path)?;
            let middle = bytes.len() / 2;
            bytes[middle..middle + 512].fill(0);
            fs::write(path, bytes)
        }
        "half-installed" => {
            for table in ["status", "status-old"] {
                let table = root.join("var/lib/dpkg").join(table);
                let text = fs::read_to_string(&table)?;
                let entry = |state: &str| format!("Package: harbourcam\nStatus: install {state}\n");
                fs::write(table, text.replace(&entry("ok installed"), &entry("reinstreq half-installed")))?;
            }
            Ok(())
        }
        "replaced-package" => {
            let mut files: Vec<PathBuf> = fs::read_dir(path)?.flatten().map(|e| e.path()).collect();
            files.sort();
            for (at, file) in files.iter().take(30).enumerate() {
                fs::write(file, format!("of another release, file {at}\n"))?;
                let new = path.join(format!("module-{at:02}.txt"));
                fs::write(&new, "brought by another installer\n")?;
                for place in [file, &new] {
                    set_mtime(place, crate::NOW - 600, 0)?;
                }
            }
            Ok(())
        }
        other => Err(io::Error::new(io::ErrorKind::InvalidInput, format!("unknown fault: {other}"))),
    }
}
