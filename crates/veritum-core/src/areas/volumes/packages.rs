//! The packages that the files of a damaged file system belong to.

use std::collections::HashMap;

use rayon::prelude::*;

use crate::devices::ext4::{FileSystem, Type};
use crate::model::{Finding, PackageId, SystemPath, quoted};
use crate::platform::debian::Debian;
use crate::platform::{Keep, Platform as _};
use crate::system::System;

/// Names the package of each file of these findings, by the package database's lists. What several packages have, such as a
/// folder, belongs to none of them; nor does a file system, although a package lists the folder where it is mounted.
pub(super) fn name_packages(system: &System, mounted_at: &[&SystemPath], findings: &mut [Finding]) {
    let mut wanted: HashMap<Vec<u8>, Vec<usize>> = HashMap::new();
    for (at, finding) in findings.iter().enumerate() {
        let path = finding.subject.as_path().filter(|path| !mounted_at.contains(path));
        for path in path.map(|path| system.spellings(path)).unwrap_or_default() {
            wanted.entry(path.as_bytes().to_vec()).or_default().push(at);
        }
    }
    if wanted.is_empty() {
        return;
    }
    let records = Debian.records(&system.machine);
    let keep = |path: &[u8]| wanted.contains_key(path);
    let listed: Vec<(&PackageId, Vec<SystemPath>)> = system.pool.install(|| {
        let each = system.installed.packages.par_iter();
        let named = each.filter_map(|package| {
            let record = records.read_list(package, Some(&keep as &Keep<'_>)).ok()?;
            (!record.paths.is_empty()).then_some((&package.id, record.paths))
        });
        named.collect()
    });
    let mut owners: HashMap<usize, Vec<&PackageId>> = HashMap::new();
    for (package, paths) in &listed {
        for at in paths.iter().filter_map(|path| wanted.get(path.as_bytes())).flatten() {
            let owners = owners.entry(*at).or_default();
            if !owners.contains(package) {
                owners.push(package);
            }
        }
    }
    for (at, owners) in owners {
        if let [only] = owners.as_slice() {
            let finding = &mut findings[at];
            let cause = finding.cause.take().map(|cause| cause + "; ").unwrap_or_default();
            finding.cause = Some(format!("{cause}it belongs to the package {}", only.name));
            finding.package = Some((*only).clone());
        }
    }
}

/// The folder of the package database with the list of each package's files (dpkg's `info`).
const LISTS: &[u8] = b"var/lib/dpkg/info";
/// Larger lists are not read, in bytes.
const MAX_LIST: u64 = 32 << 20;
/// Folders that are in `/usr` today, and that packages may still list without it.
const MERGED: [&[u8]; 6] = [b"/bin/", b"/sbin/", b"/lib/", b"/lib32/", b"/lib64/", b"/libx32/"];

/// The packages of files on a file system that is not mounted, by the package database on it.
pub(super) struct PackagesOn(HashMap<Vec<u8>, String>);

impl PackagesOn {
    /// Finds the packages of these paths; none if the database is elsewhere.
    pub(super) fn find(fs: &FileSystem<'_>, paths: impl Iterator<Item = Vec<u8>>) -> Self {
        let mut spellings: HashMap<Vec<u8>, Vec<u8>> = HashMap::new();
        for path in paths.filter(|path| !path.starts_with(b"/home/")) {
            let without = path.strip_prefix(b"/usr").filter(|rest| MERGED.iter().any(|top| rest.starts_with(top)));
            spellings.extend(without.map(|rest| (rest.to_vec(), path.clone())));
            spellings.insert(path.clone(), path);
        }
        let folder = if spellings.is_empty() { None } else { fs.find(LISTS) };
        let names = folder.filter(|folder| folder.kind() == Type::Folder).map(|folder| fs.entries_of(&folder).0);
        let mut owners: HashMap<Vec<u8>, Vec<String>> = HashMap::new();
        for entry in names.unwrap_or_default() {
            let Some(package) = entry.name.strip_suffix(b".list") else { continue };
            let Ok(inode) = fs.inode(entry.inode) else { continue };
            if inode.kind() != Type::File || inode.size > MAX_LIST {
                continue;
            }
            let mut text = vec![0; usize::try_from(inode.size).unwrap_or_default()];
            // A part of it can be unreadable: other lists still say what they say.
            if fs.content(&inode).read_at(0, &mut text).is_err() {
                continue;
            }
            for path in text.split(|byte| *byte == b'\n').filter_map(|line| spellings.get(line)) {
                let package = String::from_utf8_lossy(package).into_owned();
                owners.entry(path.clone()).or_default().push(package);
            }
        }
        // What several packages list, such as a folder, belongs to none of them.
        let only = owners.into_iter().filter_map(|(path, mut packages)| {
            packages.dedup();
            (packages.len() == 1).then(|| (path, packages.swap_remove(0)))
        });
        Self(only.collect())
    }

    /// Names the package of a file in a finding about it, and how it can be restored.
    pub(super) fn name(&self, path: &[u8], finding: &mut Finding) {
        let Some(package) = self.0.get(path) else { return };
        let cause = finding.cause.take().map(|cause| cause + "; ").unwrap_or_default();
        finding.cause = Some(format!("{cause}it belongs to the package {package}"));
        let words = format!(
            "users' files first (veritum rescue --to DIR, on another disk); then mount it, and restore the file from its package \
             (veritum repair {} --root DIR)",
            quoted(path)
        );
        finding.action = Some(words.as_str().into());
    }
}
