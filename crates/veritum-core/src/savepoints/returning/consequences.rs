//! What a return means for the running system, and for data that it does not touch.

use std::collections::BTreeSet;

use super::ReturnCase;
use super::compare::Difference;
use super::decide::Fate;
use super::packages::{Moving, Packages};
use super::unfinished::is_unfinished;
use crate::model::SystemPath;
use crate::platform::debian::compare_versions;
use crate::report::Consequences;

/// Packages whose programs cannot be restarted while the system runs.
const AT_RESTART: [&str; 6] = ["libc6", "systemd", "systemd-sysv", "dbus", "udev", "init"];
/// Folders of services' units.
const UNITS: [&[u8]; 2] = [b"/usr/lib/systemd/system", b"/lib/systemd/system"];
/// Folders of services' data: not part of a savepoint.
const DATA: [&str; 4] = ["/var/lib", "/srv", "/var/spool", "/var/www"];

pub(super) fn consequences(
    case: &ReturnCase<'_>,
    packages: &Packages,
    differences: &[Difference],
    fates: &[Fate],
) -> Consequences {
    let changing = differences
        .iter()
        .zip(fates)
        .filter(|(_, fate)| matches!(fate, Fate::Returns | Fate::SetAside))
        .map(|(d, _)| d);
    let mut found = Consequences::default();
    let of_packages = packages.paths_then().filter(|(path, _)| is_service(path));
    let mut services: BTreeSet<&SystemPath> =
        of_packages.filter_map(|(path, mut owners)| owners.any(returns).then_some(path)).collect();
    for difference in changing.filter(|difference| !is_unfinished(&difference.path)) {
        let path = &difference.path;
        if is_service(path) {
            services.insert(path);
        }
        if path.as_bytes().starts_with(b"/boot/vmlinu") {
            found.kernels.push(path.clone());
        }
        if path.as_bytes().starts_with(b"/boot/initr") {
            found.initramfs.push(path.clone());
        }
    }
    let names: BTreeSet<String> =
        services.into_iter().map(|path| String::from_utf8_lossy(path.name()).into_owned()).collect();
    found.services = names.into_iter().collect();
    let drivers: BTreeSet<&str> = packages
        .paths_then()
        .filter(|(path, _)| path.is_within_place("/usr/lib/modules") || path.is_within_place("/usr/lib/firmware"))
        .flat_map(|(_, owners)| owners)
        .filter(|moving| returns(moving))
        .map(|moving| moving.change.package.as_str())
        .collect();
    found.drivers = drivers.into_iter().map(str::to_owned).collect();
    found.restart = packages
        .returning()
        .map(|moving| moving.change.package.as_str())
        .filter(|name| AT_RESTART.contains(name))
        .map(str::to_owned)
        .collect();
    if !found.kernels.is_empty() {
        found.restart.push("the kernel".into());
    }
    found.data = data(case, packages);
    found
}

fn returns(moving: &Moving) -> bool {
    moving.stays.is_none() && moving.wanted
}

/// Whether a path is the unit of one service.
fn is_service(path: &SystemPath) -> bool {
    let (unit, name) = (path.parent().is_some_and(|folder| UNITS.contains(&folder.as_bytes())), path.name());
    unit && name.ends_with(b".service") && !name.ends_with(b"@.service")
}

/// Folders of data of packages that go to an older version, as far as they exist.
fn data(case: &ReturnCase<'_>, packages: &Packages) -> Vec<SystemPath> {
    let coverage = crate::savepoints::Coverage::new(case.context.machine);
    // Only services work on data of their own.
    let with_unit: BTreeSet<&str> = packages
        .paths_then()
        .filter(|(path, _)| path.parent().is_some_and(|folder| UNITS.contains(&folder.as_bytes())))
        .flat_map(|(_, owners)| owners)
        .map(|moving| moving.change.package.as_str())
        .filter(|name| *name != "apt")
        .collect();
    let mut found = BTreeSet::new();
    for (path, owners) in packages.paths_then() {
        let is_data = DATA.iter().any(|folder| SystemPath::literal(folder).is_parent_of(path));
        let mut older = owners.filter(|moving| {
            let (Some(then), Some(now)) = (&moving.change.from, &moving.change.to) else { return false };
            let serves = with_unit.contains(moving.change.package.as_str());
            serves && returns(moving) && compare_versions(then, now).is_lt()
        });
        if is_data && older.next().is_some() && !coverage.has(path) && is_used(case, path) {
            found.insert(path.clone());
        }
    }
    found.into_iter().collect()
}

/// Whether a folder contains anything.
fn is_used(case: &ReturnCase<'_>, folder: &SystemPath) -> bool {
    let names = case.context.machine.dir(folder).and_then(|dir| dir.disk().list(dir.fd()));
    names.is_ok_and(|names| !names.is_empty())
}
