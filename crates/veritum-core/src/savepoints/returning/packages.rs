//! [`Packages`]: the packages that differ between a savepoint and now, and the files that they own.

use std::collections::HashMap;

use super::ReturnCase;
use crate::model::{PathMap, PathSet, SystemPath, byte_lines};
use crate::platform::debian::{Debian, in_database, info_list};
use crate::platform::{Platform as _, SettingsFile};
use crate::report::{PackageChange, StayReason};
use crate::savepoints::between::package_changes;
use crate::savepoints::manifest::{Entry, InstalledPackage};
use crate::savepoints::merged::Merged;
use crate::savepoints::parts::Head;
use crate::savepoints::{Pools, SavepointError};
use crate::store::Contents as _;

/// The beginnings of the names of boot loaders' packages.
const LOADERS: [&str; 9] =
    ["grub-", "grub2", "shim-", "systemd-boot", "syslinux", "extlinux", "isolinux", "refind", "lilo"];
/// Folders of boot loaders' files: what ships files there belongs to one.
const LOADER_FOLDERS: [&str; 3] = ["/usr/lib/grub", "/usr/lib/shim", "/usr/lib/syslinux"];
/// Veritum's own package.
const OWN: &str = "veritum";
/// Larger lists are not read, in bytes.
const MAX_LIST: u64 = 64 << 20;

/// A package that differs.
#[derive(Debug)]
pub(super) struct Moving {
    /// `from` is the savepoint, `to` is now.
    pub(super) change: PackageChange,
    /// Why it stays as it is; `None` if it returns.
    pub(super) stays: Option<StayReason>,
    /// Whether it is among those that were named, or all return.
    pub(super) wanted: bool,
}

/// The packages that differ.
pub(super) struct Packages {
    pub(super) moving: Vec<Moving>,
    /// Real paths with the packages that owned them then, by position.
    then: PathMap<Vec<usize>>,
    /// The same for now.
    now: PathMap<Vec<usize>>,
    /// Configuration files of all installed packages as these shipped them, by their real paths.
    pub(super) conffiles: PathMap<SettingsFile>,
    /// Whether only named packages return.
    some_only: bool,
}

impl Packages {
    #[cfg(test)]
    pub(super) fn none() -> Self {
        Self::blank(false)
    }

    fn blank(some_only: bool) -> Self {
        let (then, now) = (PathMap::default(), PathMap::default());
        Self { moving: Vec::new(), then, now, conffiles: PathMap::default(), some_only }
    }

    pub(super) fn read(case: &ReturnCase<'_>, head: &Head, then: &[Entry]) -> Result<Self, SavepointError> {
        let changes = package_changes(&case.savepoints.packages(head)?, &InstalledPackage::all(case.installed));
        let merged = Merged::read(case.context.machine);
        let by_path: PathMap<&Entry> = {
            let info = in_database("info");
            let real = case.context.machine.resolve(&info).unwrap_or(info);
            then.iter()
                .filter(|entry| real.is_parent_of(&entry.path))
                .map(|entry| (entry.path.clone(), entry))
                .collect()
        };
        let mut packages = Self::blank(!case.wanted.packages.is_empty());
        let records = Debian.records(case.context.machine);
        for change in changes {
            let at = packages.moving.len();
            let listed_then = change.from.as_ref().map(|_| list_then(case.pools, &by_path, &change));
            let installed =
                case.installed.packages.iter().find(|p| p.id.name == change.package && p.id.arch == change.arch);
            let listed_now = installed.map(|p| records.read_list(p, None).map(|r| r.paths).unwrap_or_default());
            let is_loader = |paths: &Option<Vec<SystemPath>>| {
                let ships = |path: &SystemPath| LOADER_FOLDERS.iter().any(|folder| path.is_within_place(folder));
                paths.iter().flatten().any(ships)
            };
            let loader = LOADERS.iter().any(|begin| change.package.starts_with(begin))
                || is_loader(&listed_then)
                || is_loader(&listed_now);
            let stays = match loader {
                true => Some(StayReason::BootLoader),
                false => (change.package == OWN).then_some(StayReason::Veritum),
            };
            for (owners, listed) in [(&mut packages.then, listed_then), (&mut packages.now, listed_now)] {
                for path in listed.into_iter().flatten() {
                    let of_path = owners.entry(merged.physical(path)).or_default();
                    if of_path.last() != Some(&at) {
                        of_path.push(at);
                    }
                }
            }
            let wanted = case.wanted.packages.is_empty() || case.wanted.packages.contains(&change.package);
            packages.moving.push(Moving { change, stays, wanted });
        }
        let settings = case.installed.packages.iter().flat_map(|package| &package.settings);
        packages.conffiles = settings.map(|file| (merged.physical(file.path.clone()), file.clone())).collect();
        Ok(packages)
    }

    /// The packages that owned a path and differ.
    pub(super) fn owners_then(&self, path: &SystemPath) -> impl Iterator<Item = &Moving> {
        self.then.get(path).into_iter().flatten().map(|at| &self.moving[*at])
    }

    /// The packages that own a path and differ.
    pub(super) fn owners_now(&self, path: &SystemPath) -> impl Iterator<Item = &Moving> {
        self.now.get(path).into_iter().flatten().map(|at| &self.moving[*at])
    }

    /// The first of the packages that owned a path and differ.
    pub(super) fn owner_then(&self, path: &SystemPath) -> Option<PackageChange> {
        self.owners_then(path).next().map(|moving| moving.change.clone())
    }

    /// The packages that return, as changes from now to the savepoint.
    pub(super) fn changes(&self) -> Vec<PackageChange> {
        self.moving.iter().filter(|m| m.stays.is_none() && m.wanted).map(|m| back(&m.change)).collect()
    }

    /// The packages that differ and stay.
    pub(super) fn staying(&self) -> Vec<(PackageChange, StayReason)> {
        let staying = self.moving.iter().filter(|m| m.wanted);
        staying.filter_map(|m| Some((back(&m.change), m.stays?))).collect()
    }

    /// Whether a file of dpkg's `info` folder belongs to a package that differs; `None` if to no such package.
    pub(super) fn of_info(&self, name: &[u8]) -> Option<&Moving> {
        let name = String::from_utf8_lossy(name);
        let stem = name.rsplit_once('.').map_or(&*name, |(stem, _)| stem);
        let (package, arch) = stem.split_once(':').map_or((stem, None), |(package, arch)| (package, Some(arch)));
        let is =
            |moving: &&Moving| moving.change.package == package && arch.is_none_or(|arch| moving.change.arch == arch);
        self.moving.iter().find(is)
    }

    /// The packages that are kept as they are now in a composed database, by name and architecture.
    pub(super) fn kept_now(&self) -> HashMap<(&str, &str), &Moving> {
        let kept = self.moving.iter().filter(|moving| moving.stays.is_some() || !moving.wanted);
        kept.map(|moving| ((moving.change.package.as_str(), moving.change.arch.as_str()), moving)).collect()
    }

    /// Whether the diversions of a package stay those of now; `None` is the administrator.
    pub(super) fn keeps_diversions_of(&self, package: Option<&str>) -> bool {
        let Some(name) = package else { return self.some_only };
        let mut of_name = self.moving.iter().filter(|moving| moving.change.package == name).peekable();
        // A package that is the same in both states may have been reconfigured; with others named it is not in question.
        if of_name.peek().is_none() { self.some_only } else { of_name.any(|m| m.stays.is_some() || !m.wanted) }
    }

    /// Whether the whole system returns, or a package other than `diverting` that has a path does.
    pub(super) fn returns_with(&self, path: &SystemPath, diverting: Option<&str>) -> bool {
        let returns = |m: &Moving| m.wanted && m.stays.is_none() && Some(m.change.package.as_str()) != diverting;
        !self.some_only || self.owners_then(path).chain(self.owners_now(path)).any(returns)
    }

    /// The packages that return, with what happens to them.
    pub(super) fn returning(&self) -> impl Iterator<Item = &Moving> {
        self.moving.iter().filter(|moving| moving.stays.is_none() && moving.wanted)
    }

    /// The number of paths of each package now: for messages.
    pub(super) fn paths_then(&self) -> impl Iterator<Item = (&SystemPath, impl Iterator<Item = &Moving>)> {
        self.then.iter().map(|(path, owners)| (path, owners.iter().map(|at| &self.moving[*at])))
    }
}

/// The installed packages that own these paths; each as a change that changes nothing.
pub(super) fn owners(case: &ReturnCase<'_>, paths: &PathSet) -> PathMap<PackageChange> {
    let merged = Merged::read(case.context.machine);
    let records = Debian.records(case.context.machine);
    let mut owners = PathMap::default();
    for package in &case.installed.packages {
        let listed = records.read_list(package, None).map(|record| record.paths).unwrap_or_default();
        let own = listed.into_iter().map(|path| merged.physical(path)).filter(|path| paths.contains(path));
        let version = Some(package.id.version.clone());
        owners.extend(own.map(|path| {
            let (name, arch) = (package.id.name.clone(), package.id.arch.clone());
            (path, PackageChange { package: name, arch, from: version.clone(), to: version.clone() })
        }));
    }
    owners
}

/// The same change in the other direction.
pub(super) fn back(change: &PackageChange) -> PackageChange {
    PackageChange { from: change.to.clone(), to: change.from.clone(), ..change.clone() }
}

/// The paths of a package by the savepoint's own list; empty if that is not kept.
fn list_then(pools: &Pools<'_>, info: &PathMap<&Entry>, change: &PackageChange) -> Vec<SystemPath> {
    let stems = [format!("{}:{}", change.package, change.arch), change.package.clone()];
    let entry = stems.iter().find_map(|stem| {
        info.iter().find(|(path, _)| path.name() == format!("{stem}.list").as_bytes()).map(|(_, entry)| *entry)
    });
    let Some((digest, size)) = entry.and_then(Entry::content).filter(|(_, size)| *size <= MAX_LIST) else {
        return Vec::new();
    };
    let mut bytes = Vec::new();
    let read = pools.copy(&digest, size, &mut |piece| {
        bytes.extend_from_slice(piece);
        Ok(())
    });
    if read.is_err() {
        return Vec::new();
    }
    info_list(&bytes)
        .unwrap_or_else(|_| byte_lines(&bytes).filter_map(|line| SystemPath::below_root(line).ok()).collect())
}
