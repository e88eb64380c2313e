//! Repairs of the boot chain of disks that are not mounted: what can be repaired is, and nothing else is written; what cannot has a reason;
//! and an undo makes the disk byte for byte what it was.

mod support;

use std::path::PathBuf;

use support::{folder, open, small_world};
use veritum_core::event::NoObserver;
use veritum_core::model::ActionResult;
use veritum_core::report::{Outcome, RepairReport, UndoReport};
use veritum_core::work::{Agreement, BootRepairWanted, Settings, WorkError};
use veritum_demo::boot_disk::{BOOT_FAULTS, BootFault, disk, write};
use veritum_demo::world::World;

const SEED: u64 = 42;

struct Bench {
    dir: tempfile::TempDir,
    world: World,
    image: PathBuf,
}

impl Bench {
    fn new() -> Self {
        let dir = folder();
        let world = small_world(dir.path());
        let image = dir.path().join("disk.img");
        Self { dir, world, image }
    }

    fn damaged(&self, faults: &[&BootFault]) -> Vec<u8> {
        let bytes = disk(SEED, faults).unwrap();
        write(&self.image, &bytes).unwrap();
        bytes
    }

    fn settings(&self) -> Settings {
        let state_dir = Some(self.dir.path().join("state"));
        Settings { store: None, disks: vec![self.image.clone()], state_dir, ..self.world.settings() }
    }

    fn repair(&self, writes_table: bool) -> Result<RepairReport, WorkError> {
        let wanted = BootRepairWanted { writes_table, plan_only: false };
        open(&self.settings()).repair_boot(wanted, &NoObserver, &mut |_| Agreement::Yes)
    }

    fn undo(&self) -> UndoReport {
        open(&self.settings()).undo(None, false, &NoObserver, &mut |_| Agreement::Yes).unwrap()
    }

    fn bytes(&self) -> Vec<u8> {
        std::fs::read(&self.image).unwrap()
    }
}

/// What of these kinds of damage needs the mounted system, or a person; all others are repaired on the disk itself.
#[rustfmt::skip]
const LEFT: &[&str] = &[
    "boot-code-replaced", "table-both", "table-larger", "table-grown", "table-root",
    "table-core", "table-overlap", "table-giant", "table-efi-type", "root-descriptors",
    "root-superblock", "efi-boot-sector", "module-list", "core-copy", "menu-missing",
    "menu-empty", "menu-cut", "menu-cut-late", "menu-no-root", "menu-device",
    "menu-no-initramfs", "menu-no-kernel", "menu-resume", "menu-environment", "kernel-bytes",
    "kernel-cut", "kernel-missing", "initramfs-bytes", "initramfs-cut", "initramfs-missing",
    "initramfs-other", "initramfs-hole", "initramfs-init", "initramfs-locked", "initramfs-script",
    "initramfs-module", "initramfs-library", "initramfs-shell", "initramfs-check", "initramfs-program",
    "target-masked", "target-lost", "target-end", "menu-end", "fstab-swap",
    "fstab-missing", "fstab-empty", "fstab-optional", "fstab-label", "crypttab",
    "crypttab-mount", "first-program", "first-program-locked", "first-program-link", "first-linker",
    "first-library", "first-library-missing", "first-target", "folder-dev", "modules-list",
    "modules-list-slow", "modules-list-alias", "modules-list-symbols", "mount-module", "mount-module-unlisted",
    "mount-module-needs", "module-bytes", "module-missing", "kernel-modules", "kernel-modules-slow",
];

/// The bytes that a repair says it writes.
fn written(report: &RepairReport) -> Vec<(u64, u64)> {
    let actions = report.areas.iter().flat_map(|area| &area.actions);
    let done =
        actions.filter(|action| action.result == ActionResult::Done).filter_map(|action| action.written.as_ref());
    done.flat_map(|written| &written.ranges).map(|range| (range.from, range.to)).collect()
}

fn require_others_unchanged(name: &str, before: &[u8], after: &[u8], written: &[(u64, u64)]) {
    assert_eq!(before.len(), after.len(), "{name}");
    let is_planned = |at: u64| written.iter().any(|(from, to)| (*from..*to).contains(&at));
    let other = (0..before.len()).find(|at| before[*at] != after[*at] && !is_planned(*at as u64));
    assert_eq!(other, None, "{name}: a byte that is not in the plan changed");
}

#[test]
fn each_kind_of_damage_is_repaired_or_has_a_reason_and_an_undo_is_exact() {
    repair_each(BOOT_FAULTS.iter().step_by(2));
}

#[test]
fn so_is_each_of_the_other_kinds() {
    repair_each(BOOT_FAULTS.iter().skip(1).step_by(2));
}

fn repair_each(faults: impl Iterator<Item = &'static BootFault>) {
    let bench = Bench::new();
    let mut wrong = String::new();
    for fault in faults {
        let before = bench.damaged(&[fault]);
        let report = match bench.repair(false) {
            Ok(report) => report,
            Err(e) => panic!("{}: {e}", fault.name),
        };
        let after = bench.bytes();
        require_others_unchanged(fault.name, &before, &after, &written(&report));
        let last = report.after.as_ref().unwrap_or(&report.before);
        let left: Vec<String> = last.left.iter().map(|left| format!("{}: {}", left.subject, left.reason)).collect();
        let is_left = last.outcome == Outcome::Damaged;
        assert_eq!(is_left, !left.is_empty(), "{}: {left:?} {:?}", fault.name, last.findings);
        if is_left != LEFT.contains(&fault.name) {
            wrong.push_str(&format!("\"{}\", // {left:?}\n", fault.name));
        }
        if after != before {
            let undone = bench.undo();
            assert!(undone.changes.iter().all(|change| change.refused.is_empty()), "{}: {undone:?}", fault.name);
            assert!(bench.bytes() == before, "{}: the undo is exact", fault.name);
        }
    }
    assert_eq!(wrong, "", "\n{wrong}");
}
