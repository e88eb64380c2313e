//! The area `volumes`: whether the machine's file systems are mounted, writable and not full, and whether the kernel has
//! counted errors on them, and what is wrong with their metadata; the same of disks and images that are named. It has no repair.

mod corrections;
mod disks;
mod drives;
mod ext4;
mod kernel_log;
mod next_start;
mod packages;
mod surface;
mod surface_notes;

pub use corrections::{CHECKED_WORDS, Concerned, Corrections, examine_corrections};
pub use disks::{DisksWanted, examine_disks};

use std::borrow::Cow;
use std::collections::BTreeMap;
use std::path::Path;
use std::time::Instant;

use self::kernel_log::KnownErrors;
use super::{About, Area, Checked, Cx, Examined};
use crate::machine::{Account, Mounted, Volume, volumes};
use crate::model::{Action, AreaName, Finding, Reach, Scope, SystemPath, Verdict, quoted};
use crate::plan::{DiskDoubt, Left};
use crate::platform::drives::drives_below;
use crate::platform::kernel_log::{earlier_read_errors, read_errors};
use crate::system::{System, WorkError};

/// The area's name.
pub const VOLUMES: AreaName = AreaName::new("volumes");

/// Less free space than this, or than a hundredth of the file system, counts as full: programs fail while writing.
const LITTLE_ROOM: u64 = 64 << 20;
/// With fewer free inodes a file system counts as full.
const FEW_FILES: u64 = 100;

/// The area `volumes`.
pub struct Volumes;

static ABOUT: About = About {
    name: VOLUMES,
    help: "file systems: mounted, writable, free space, recorded errors",
    by_default: true,
    only_when_named: &[],
    unit: ("file system", "file systems"),
    selector: Some(("volume", "one file system, by its mount point: volume:/home")),
    heading: |_| Cow::Borrowed("file systems"),
    counted_as: &[],
    by_package: false,
    rereads_the_medium: false,
    not_touched: &[],
    repaired_by_name: false,
    is_advised: true,
    is_of_machine: true,
    by_reference: false,
};

impl Area for Volumes {
    fn about(&self) -> &'static About {
        &ABOUT
    }

    fn resolve(&self, cx: &Cx<'_>, scope: &mut Scope) -> Result<(), WorkError> {
        if let Some(folder) = &scope.rescued {
            require_rescued(cx.system, folder)?;
        }
        let known: Vec<String> = volumes(&cx.system.machine).iter().map(|volume| volume.place.to_string()).collect();
        match scope.selected(&VOLUMES).find(|name| !known.iter().any(|known| known == name)) {
            Some(name) => {
                Err(WorkError::Unknown { what: "file system", name: name.to_owned(), known, listed_by: None })
            }
            None => Ok(()),
        }
    }

    fn check(&self, cx: &Cx<'_>, _: &Checked) -> Result<Examined, WorkError> {
        if cx.system.disks.is_some() {
            return examine_disks(&DisksWanted::of_settings(cx), &cx.system.pool, cx.observer);
        }
        let begun = Instant::now();
        let mut examined = Examined::new(VOLUMES);
        let live = cx.system.machine.is_live();
        let named: Vec<&str> = cx.scope.selected(&VOLUMES).collect();
        let all = volumes(&cx.system.machine);
        // Usually only root may read it.
        let mut errors = KnownErrors { now: read_errors().unwrap_or_default(), ..KnownErrors::default() };
        let is_named = cx.scope.names(&VOLUMES) || !named.is_empty();
        if is_named {
            let folder = cx.system.machine.path().join("var/log/journal");
            errors.earlier = earlier_read_errors(if live { None } else { Some(&folder) });
            errors.of_another = !live;
        }
        let mut unreadable = Vec::new();
        let mut drives = BTreeMap::new();
        for volume in &all {
            if !named.is_empty() && !named.contains(&volume.place.to_string().as_str()) {
                continue;
            }
            if volume.mounted.is_none() {
                examined.leave_out(format!("{} is listed in fstab and not mounted", volume.place));
                continue;
            }
            examined.coverage.examined += 1;
            for drive in volume.mounted.iter().flat_map(|mounted| &mounted.nodes).flat_map(|node| drives_below(node)) {
                *drives.entry(drive).or_default() |= volume.is_of_system();
            }
            let from = examined.findings.len();
            examined.findings.extend(judge(volume, live));
            // Reading all metadata of a large disk takes a while: only who names the area wants that.
            if cx.scope.reach == Reach::Everything || is_named {
                disks::examine_mounted(cx, volume, &mut examined);
            }
            next_start::plan(cx, volume, from, &mut examined);
            let from = examined.findings.len();
            disks::examine_contents(cx, volume, &errors, &mut examined);
            unreadable.extend(from..examined.findings.len());
        }
        let tops: Vec<&SystemPath> = all.iter().map(|volume| &volume.place).collect();
        packages::name_packages(cx.system, &tops, &mut examined.findings);
        for at in unreadable {
            let finding = &mut examined.findings[at];
            let why = match finding.subject.as_path().cloned().filter(|_| finding.package.is_some()) {
                Some(path) => {
                    finding.action = Some(restore(&path));
                    "it is restored with the files of packages, to another place of the disk"
                }
                None => "a part of its content cannot be read",
            };
            examined.left.push(Left::new(&examined.findings[at], why.into(), examined.findings[at].action.clone()));
        }
        let from = examined.findings.len();
        let failing = drives::examine(&drives, is_named, &mut examined);
        let advised = |finding: &Finding| Left::new(finding, drives::WHY.into(), finding.action.clone());
        examined.left.extend(examined.findings[from..].iter().filter(|f| f.verdict.is_problem()).map(advised));
        examined.doubt = doubt(cx, &all, &examined.findings[..from], failing);
        examined.took(begun);
        Ok(examined)
    }
}

/// A doubt about a disk whose file systems have errors or cannot be read, until the users' files are known to be elsewhere.
fn doubt(cx: &Cx<'_>, all: &[Volume], findings: &[Finding], failing: u64) -> Option<DiskDoubt> {
    if cx.system.settings.ignore_disk_errors || cx.scope.rescued.is_some() {
        return None;
    }
    // Where file systems are not what is to be repaired, only those of the system itself count.
    let is_named = cx.scope.names(&VOLUMES) || cx.scope.selected(&VOLUMES).next().is_some();
    let volume_of = |path: &SystemPath| {
        all.iter().filter(|volume| path.is_within(&volume.place)).max_by_key(|volume| volume.place.as_bytes().len())
    };
    let is_of_system = |finding: &&Finding| {
        let volume = finding.subject.as_path().and_then(volume_of);
        is_named || volume.is_none_or(Volume::is_of_system)
    };
    let counted: Vec<&Finding> = findings.iter().filter(is_of_system).collect();
    let with = |verdict| counted.iter().filter(|finding| finding.verdict == verdict).count() as u64;
    let counted = |mounted: &Mounted| mounted.errors + mounted.counters.iter().map(|(_, count)| count).sum::<u64>();
    let errors = all.iter().filter_map(|volume| volume.mounted.as_ref()).map(counted).sum::<u64>();
    match (with(Verdict::Unreadable), with(Verdict::ErrorsRecorded)) {
        (0, 0) => (failing > 0).then_some(DiskDoubt::Failing { drives: failing }),
        (0, marked) => Some(DiskDoubt::MarkedErrors { errors: errors.max(marked) }),
        (files, _) => Some(DiskDoubt::ReadErrors { files }),
    }
}

/// Refuses a folder that does not have the files of all users of the machine.
fn require_rescued(system: &System, folder: &Path) -> Result<(), WorkError> {
    let machine = &system.machine;
    let id = machine.read_config(&SystemPath::literal("/etc/machine-id")).ok().flatten().unwrap_or_default();
    let id = String::from_utf8_lossy(&id);
    let has_home = |account: &&Account| account.home.as_ref().is_some_and(|home| machine.resolve(home).is_ok());
    let users = machine.users().accounts().iter().filter(|account| account.is_login()).filter(has_home);
    let users: Vec<String> = users.map(|account| account.name.clone()).collect();
    crate::rescue::require_rescued(folder, machine.disk(), id.lines().next().unwrap_or_default().trim(), &users)
        .map_err(|why| WorkError::NotRescued { folder: folder.to_owned(), why })
}

/// The problems of a file system; `live` on the running machine: a read-only mount of another machine was chosen by the
/// technician.
fn judge(volume: &Volume, live: bool) -> Vec<Finding> {
    let Some(mounted) = &volume.mounted else { return Vec::new() };
    let on = |verdict, cause: String, action: Action| Finding {
        cause: Some(cause),
        action: Some(action),
        ..Finding::on_path(VOLUMES, &volume.place, verdict)
    };
    let free = mounted.free;
    let mut found = Vec::new();
    if mounted.errors > 0 {
        let s = if mounted.errors == 1 { "error" } else { "errors" };
        let cause = format!("{} {s} recorded by the kernel since the last file system check", mounted.errors);
        found.push(on(Verdict::ErrorsRecorded, cause, disks::check_at_start()));
    }
    if !mounted.counters.is_empty() {
        let words: Vec<String> = mounted.counters.iter().map(|(what, count)| format!("{count} {what}")).collect();
        let cause = format!("recorded by the kernel since its counters were reset: {}", words.join(", "));
        let words =
            "users' files first (veritum rescue --to DIR); then have btrfs compare everything with its checksums";
        let command = format!("btrfs scrub start -B {}", quoted(volume.place.as_bytes()));
        found.push(on(Verdict::ErrorsRecorded, cause, Action::explained(words, command)));
    }
    if live && free.read_only && volume.wanted_read_only == Some(false) {
        let cause = "mounted read-only although fstab says read-write; the kernel does that after an error".to_owned();
        found.push(on(Verdict::ReadOnly, cause, remount(&volume.place)));
    }
    if free.read_only || free.total == 0 {
        return found;
    }
    if free.bytes < LITTLE_ROOM.min(free.total / 100) {
        let cause = format!("{} KiB of {} MiB free", free.bytes >> 10, free.total >> 20);
        found.push(on(Verdict::DiskFull, cause, "free some space on it".into()));
    } else if free.inodes < FEW_FILES {
        let cause = format!("only {} more files can be created, although there is free space", free.inodes);
        found.push(on(Verdict::DiskFull, cause, "delete files: too many small files use up the inodes".into()));
    }
    found
}

/// What to do about a file of a package that cannot be read.
fn restore(path: &SystemPath) -> Action {
    let words = "users' files first (veritum rescue --to DIR, on another disk); then restore it from its package";
    Action::explained(words, format!("veritum repair {} --ignore-disk-errors", quoted(path.as_bytes())))
}

fn remount(place: &SystemPath) -> Action {
    let command = format!("mount -o remount,rw {}", quoted(place.as_bytes()));
    Action::explained("find the reason (journalctl -k), then mount it read-write", command)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::machine::FreeSpace;

    fn volume(free: FreeSpace, errors: u64, wanted_read_only: Option<bool>) -> Volume {
        let mounted = Some(Mounted { free, errors, device: None, nodes: Vec::new(), counters: Vec::new() });
        Volume { place: SystemPath::literal("/var"), mounted, wanted_read_only, checked_at_start: Some(true) }
    }

    fn verdicts(volume: &Volume, live: bool) -> Vec<Verdict> {
        judge(volume, live).iter().map(|finding| finding.verdict).collect()
    }

    const ROOMY: FreeSpace =
        FreeSpace { bytes: 8 << 30, total: 64 << 30, inodes: 1 << 20, block: 4096, read_only: false };

    #[test]
    fn a_full_disk_one_full_of_names_and_one_with_errors_are_told() {
        assert!(verdicts(&volume(ROOMY, 0, Some(false)), true).is_empty());
        let full = FreeSpace { bytes: 5 << 20, ..ROOMY };
        assert_eq!(verdicts(&volume(full, 0, None), false), [Verdict::DiskFull]);
        let small = FreeSpace { bytes: 5 << 20, total: 100 << 20, ..ROOMY };
        assert!(verdicts(&volume(small, 0, None), false).is_empty(), "a small disk is not full of what is much of it");
        assert_eq!(verdicts(&volume(FreeSpace { inodes: 7, ..ROOMY }, 0, None), false), [Verdict::DiskFull]);
        assert_eq!(verdicts(&volume(ROOMY, 3, None), false), [Verdict::ErrorsRecorded]);
    }

    #[test]
    fn read_only_is_a_problem_only_where_a_running_machine_did_not_want_it() {
        let read_only = FreeSpace { read_only: true, bytes: 0, ..ROOMY };
        assert_eq!(verdicts(&volume(read_only, 0, Some(false)), true), [Verdict::ReadOnly]);
        assert!(verdicts(&volume(read_only, 0, Some(true)), true).is_empty(), "as fstab wants it");
        assert!(verdicts(&volume(read_only, 0, None), true).is_empty(), "fstab does not name it");
        assert!(verdicts(&volume(read_only, 0, Some(false)), false).is_empty(), "mounted elsewhere, to look at it");
    }
}
