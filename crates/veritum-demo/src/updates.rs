//! Updates of the demo: units of a substitute for a service manager, and damage that blocks updates.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use veritum_core::platform::services::{Active, Masking, UnitState};
use veritum_core::platform::stand_in::{StandIn, StandInUnit};

use crate::faults::Fault;
use crate::small_disk;

/// Units that download and install updates, and whether they are running.
const UNITS: [(&str, Active); 4] = [
    ("apt-daily.timer", Active::Running),
    ("apt-daily.service", Active::Idle),
    ("apt-daily-upgrade.timer", Active::Running),
    ("apt-daily-upgrade.service", Active::Idle),
];

fn unit(active: Active, result: Option<&str>) -> StandInUnit {
    let result = result.map(str::to_owned);
    StandInUnit {
        state: UnitState { active, masking: Masking::None, enabled: true, result },
        pid: None,
        refuses: Vec::new(),
    }
}

/// The folder of the substitute for the machine's service manager.
#[must_use]
pub fn services(folder: &Path) -> StandIn {
    StandIn::in_folder(&folder.join("services"))
}

/// Writes the units, and a folder from which the repositories can be served under their own names.
pub(crate) fn furnish(folder: &Path) -> io::Result<()> {
    for (name, active) in UNITS {
        services(folder).write(name, &unit(active, None))?;
    }
    let served = folder.join("served");
    fs::create_dir_all(&served)?;
    for (name, repositories) in [("foreshore", "repository"), ("desktop", "repository-farebridge")] {
        std::os::unix::fs::symlink(Path::new("..").join(repositories), served.join(name))?;
    }
    Ok(())
}

/// The first file of a folder with this prefix.
fn beginning(folder: &Path, with: &str) -> io::Result<PathBuf> {
    let mut names: Vec<PathBuf> = fs::read_dir(folder)?.flatten().map(|entry| entry.path()).collect();
    names.sort();
    let fits = |path: &PathBuf| path.file_name().is_some_and(|name| name.to_string_lossy().starts_with(with));
    names.into_iter().find(fits).ok_or_else(|| io::ErrorKind::NotFound.into())
}

/// Applies damage that blocks updates to a machine that is still intact.
///
/// # Errors
/// When the demo is not as built.
pub fn apply_to_updates(folder: &Path, fault: &Fault) -> io::Result<()> {
    let root = folder.join("machine");
    let cache = root.join("var/cache/apt/archives");
    let lists = root.join("var/lib/apt/lists");
    let release = |suite: &str| lists.join(format!("archive.foreshore.example_foreshore_dists_{suite}_InRelease"));
    match fault.name {
        "download-altered" => {
            let path = beginning(&cache, "gullmail_")?;
            let mut bytes = fs::read(&path)?;
            let middle = bytes.len() / 2;
            bytes[middle..].iter_mut().take(8).for_each(|byte| *byte ^= 0x5a);
            fs::write(path, bytes)
        }
        "download-cut" => {
            let path = beginning(&cache, "libgunwale5_")?;
            let bytes = fs::read(&path)?;
            fs::write(path, &bytes[..bytes.len() / 3])
        }
        "list-forged" => {
            let path = release("saltwort");
            let text = fs::read_to_string(&path)?;
            fs::write(path, text.replacen("Codename: saltwort", "Codename: samphire", 1))
        }
        "list-expired" => {
            let old = folder.join("old-lists/dists/saltwort-security/InRelease");
            fs::copy(old, release("saltwort-security")).map(drop)
        }
        "crashed-update" => {
            fs::create_dir_all(cache.join("partial"))?;
            let path = beginning(&cache, "gullmail_")?;
            let name = path.file_name().unwrap_or_default();
            fs::write(cache.join("partial").join(name), &fs::read(&path)?[..100])?;
            fs::create_dir_all(lists.join("partial"))?;
            fs::write(lists.join("partial/archive.foreshore.example_foreshore_dists_saltwort_InRelease"), "half of it")
        }
        "disk-full" => small_disk::confine(folder),
        "failed-service" => services(folder).write("apt-daily.service", &unit(Active::Failed, Some("exit-code"))),
        other => Err(io::Error::new(io::ErrorKind::InvalidInput, format!("unknown fault: {other}"))),
    }
}
