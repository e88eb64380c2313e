//! What changed between two states of the system: packages and configuration files.

use std::collections::{BTreeMap, HashMap};

use super::SavepointError;
use super::manifest::{Entry, InstalledPackage, What};
use super::parts::{Head, Part, Savepoints};
use super::places::excluded;
use crate::machine::Machine;
use crate::model::{FileKind, Stat, SystemPath};
use crate::platform::Installed;
use crate::report::PackageChange;

impl InstalledPackage {
    /// The packages that are installed, in order.
    #[must_use]
    pub fn all(installed: &Installed) -> Vec<Self> {
        let package = |package: &crate::platform::Package| Self {
            name: package.id.name.clone(),
            arch: package.id.arch.clone(),
            version: package.id.version.clone(),
        };
        let mut all: Vec<Self> = installed.packages.iter().map(package).collect();
        all.sort();
        all
    }
}

/// The packages that differ, by name.
#[must_use]
pub fn package_changes(then: &[InstalledPackage], now: &[InstalledPackage]) -> Vec<PackageChange> {
    let mut all: BTreeMap<(&str, &str), PackageChange> = BTreeMap::new();
    let blank = |package: &InstalledPackage| PackageChange {
        package: package.name.clone(),
        arch: package.arch.clone(),
        from: None,
        to: None,
    };
    for package in then {
        let change = all.entry((&package.name, &package.arch)).or_insert_with(|| blank(package));
        change.from = Some(package.version.clone());
    }
    for package in now {
        let change = all.entry((&package.name, &package.arch)).or_insert_with(|| blank(package));
        change.to = Some(package.version.clone());
    }
    all.into_values().filter(|change| change.from != change.to).collect()
}

/// The folder of configuration files.
const CONFIG: &str = "/etc";

/// The files of /etc in some parts, with what identifies their contents.
fn config_files(
    savepoints: &Savepoints,
    head: &Head,
    parts: &[Part],
) -> Result<HashMap<SystemPath, What>, SavepointError> {
    let mut files = HashMap::new();
    for part in parts {
        let entries = savepoints.part(part);
        let entries = entries.map_err(|what| SavepointError::Damaged { number: head.savepoint, what })?;
        let config = |entry: &Entry| entry.path.is_within_place(CONFIG) && matches!(entry.what, What::File { .. });
        files.extend(entries.into_iter().filter(config).map(|entry| (entry.path, entry.what)));
    }
    Ok(files)
}

/// The number of configuration files that differ between two savepoints. Only parts that differ are read.
///
/// # Errors
/// When a part is missing or damaged.
pub fn config_changes(savepoints: &Savepoints, then: &Head, now: &Head) -> Result<u64, SavepointError> {
    let only = |of: &Head, other: &Head| -> Vec<Part> {
        of.parts.iter().filter(|part| !other.parts.contains(part)).copied().collect()
    };
    let earlier = config_files(savepoints, then, &only(then, now))?;
    let later = config_files(savepoints, now, &only(now, then))?;
    let altered = earlier.iter().filter(|(path, what)| later.get(*path) != Some(*what)).count();
    let added = later.keys().filter(|path| !earlier.contains_key(*path)).count();
    Ok((altered + added) as u64)
}

/// The number of configuration files that differ now, are gone, or are new.
///
/// # Errors
/// When a part is missing or damaged.
pub fn config_changes_until_now(
    savepoints: &Savepoints,
    then: &Head,
    machine: &Machine,
) -> Result<u64, SavepointError> {
    let earlier = config_files(savepoints, then, &then.parts)?;
    let (now, unreadable) = config_files_now(machine);
    let is_unknown = |path: &SystemPath| unreadable.iter().any(|place| path.is_within(place));
    let differs = |(path, what): &(&SystemPath, &What)| {
        let What::File { size, digest, .. } = what else { return false };
        // A file that cannot be read is not known to differ.
        now.get(*path).is_none_or(|now| now.size != *size)
            || machine.dir(&parent(path)).and_then(|dir| dir.digest(path.name())).is_ok_and(|now| now != Some(*digest))
    };
    let altered = earlier.iter().filter(|(path, _)| !is_unknown(path)).filter(differs).count();
    let is_new =
        |path: &&SystemPath| !earlier.contains_key(*path) && then.missing.iter().all(|(missing, _)| missing != *path);
    let added = now.keys().filter(is_new).count();
    Ok((altered + added) as u64)
}

fn parent(path: &SystemPath) -> SystemPath {
    path.parent().unwrap_or_else(SystemPath::root)
}

/// The files of /etc that a savepoint would have, and what of it cannot be read: of that nothing is known.
fn config_files_now(machine: &Machine) -> (HashMap<SystemPath, Stat>, Vec<SystemPath>) {
    let (mut folders, mut files, mut unreadable) = (vec![SystemPath::literal(CONFIG)], HashMap::new(), Vec::new());
    while let Some(folder) = folders.pop() {
        let listed = machine.dir(&folder).and_then(|dir| Ok((dir.disk().list(dir.fd())?, dir)));
        let Ok((names, dir)) = listed else {
            unreadable.push(folder);
            continue;
        };
        let places = names.into_iter().filter_map(|(name, _)| Some((folder.child(&name).ok()?, name)));
        for (path, name) in places.filter(|(path, _)| excluded(path).is_none()) {
            match dir.look(&name) {
                Ok(Some(stat)) if stat.kind == FileKind::Folder => folders.push(path),
                Ok(Some(stat)) if stat.kind == FileKind::File => drop(files.insert(path, stat)),
                Ok(_) => {}
                Err(_) => unreadable.push(path),
            }
        }
    }
    (files, unreadable)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn packages_that_came_went_and_changed_are_told() {
        let package = |name: &str, version: &str| InstalledPackage {
            name: name.into(),
            arch: "amd64".into(),
            version: version.into(),
        };
        let then = [package("gullmail", "4.1-1"), package("oakum", "1"), package("quay", "2")];
        let now = [package("gullmail", "4.2-1"), package("quay", "2"), package("tar", "9")];
        let told: Vec<String> = package_changes(&then, &now)
            .into_iter()
            .map(|c| format!("{} {} {}", c.package, c.from.unwrap_or_default(), c.to.unwrap_or_default()))
            .collect();
        assert_eq!(told, ["gullmail 4.1-1 4.2-1", "oakum 1 ", "tar  9"]);
    }
}
