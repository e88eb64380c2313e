//! dpkg's files: status and its copies, list, md5sums, alternatives, diversions, statoverride, configuration; passwd, group, fstab, os-release.
#![no_main]

use std::sync::{Arc, OnceLock};

use libfuzzer_sys::fuzz_target;
use veritum_core::formats::deb822::paragraphs;
use veritum_core::machine::{LiveDisk, Machine, Users};
use veritum_core::platform::Platform;
use veritum_core::platform::debian::database::Database;
use veritum_core::platform::debian::{Alternatives, Debian};

const FILES: [&str; 15] = [
    "var/lib/dpkg/status",
    "var/lib/dpkg/info/a.list",
    "var/lib/dpkg/info/a.md5sums",
    "var/lib/dpkg/diversions",
    "var/lib/dpkg/statoverride",
    "etc/dpkg/dpkg.cfg",
    "etc/passwd",
    "etc/group",
    "etc/fstab",
    "etc/os-release",
    "var/log/dpkg.log",
    "var/log/dpkg.log.1.gz",
    "var/lib/dpkg/status-old",
    "var/lib/dpkg/updates/0001",
    "var/backups/dpkg.status.1.gz",
];
const STATUS: &[u8] = b"Package: a\nStatus: install ok installed\nVersion: 1\nArchitecture: all\n";

fn root() -> &'static std::path::Path {
    static ROOT: OnceLock<std::path::PathBuf> = OnceLock::new();
    ROOT.get_or_init(|| {
        let root = std::path::PathBuf::from(format!("/dev/shm/veritum-fuzz-{}", std::process::id()));
        for folder in ["var/lib/dpkg/info", "var/lib/dpkg/updates", "var/backups", "etc/dpkg", "var/log"] {
            std::fs::create_dir_all(root.join(folder)).unwrap();
        }
        root
    })
}

fuzz_target!(|data: &[u8]| {
    let Some((first, rest)) = data.split_first() else { return };
    let root = root();
    for file in FILES {
        std::fs::write(root.join(file), if file.ends_with("status") { STATUS } else { b"" }).unwrap();
    }
    std::fs::write(root.join(FILES[usize::from(*first) % FILES.len()]), rest).unwrap();
    let machine = Machine::open(root, Arc::new(LiveDisk)).unwrap();
    let _ = Debian.recent(&machine, 50);
    if let Ok(installed) = Debian.installed(&machine) {
        let records = Debian.records(&machine);
        let some = |path: &[u8]| path.len() % 2 == 0;
        for package in &installed.packages {
            let _ = (records.read_list(package, None), records.read_list(package, Some(&some)));
        }
    }
    let database = Database::read(&machine, None);
    let _ = (database.packages(), database.composed(&Default::default()));
    let _ = Alternatives::parse(rest);
    let _ = Users::parse(rest, rest);
    for paragraph in paragraphs(&String::from_utf8_lossy(rest)) {
        let _ = paragraph.get("Package");
    }
});
