//! The packages that the files of a damaged file system belong to.

use std::collections::HashMap;

use rayon::prelude::*;

use crate::model::{Finding, PackageId, SystemPath};
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
