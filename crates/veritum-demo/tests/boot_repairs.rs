//! Repairs of the boot chain of disks that are not mounted: what can be repaired is, and nothing else is written; what cannot has a reason;
//! and an undo makes the disk byte for byte what it was.

mod support;

use std::path::PathBuf;
use std::sync::Arc;

use support::{folder, open, small_world};
use veritum_core::devices::{DiskSet, DiskVolume, VolumeKind};
use veritum_core::event::NoObserver;
use veritum_core::machine::{Machine, RawDisk};
use veritum_core::model::{ActionResult, SystemPath};
use veritum_core::report::{Outcome, RepairReport, UndoReport};
use veritum_core::work::{Agreement, BootRepairWanted, Settings, WorkError};
use veritum_demo::Content;
use veritum_demo::boot_disk::{BOOT_FAULTS, BootFault, Variant, boot_fault, disk, disk_as, write};
use veritum_demo::world::{World, add, package};

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
    "table-efi", "table-core", "table-overlap", "table-giant", "table-efi-type", "root-descriptors",
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

#[test]
fn a_table_that_is_only_proposed_is_written_when_that_is_agreed_to() {
    let bench = Bench::new();
    for name in ["table-both", "table-root", "table-efi", "table-overlap", "table-efi-type"] {
        let before = bench.damaged(&[boot_fault(name).unwrap()]);
        let report = bench.repair(false).unwrap();
        let left = report.before.left.iter().any(|left| left.reason.contains("--yes-table"));
        assert!(left && bench.bytes() == before, "{name}: {:?}", report.before.left);
        let report = bench.repair(true).unwrap();
        let last = report.after.as_ref().unwrap();
        assert!(last.outcome != Outcome::Damaged, "{name}: {:?}", last.findings);
        require_others_unchanged(name, &before, &bench.bytes(), &written(&report));
        bench.undo();
        assert!(bench.bytes() == before, "{name}");
    }
}

#[test]
fn nothing_is_written_without_a_folder_for_what_is_there_or_without_agreement() {
    let bench = Bench::new();
    let before = bench.damaged(&[boot_fault("boot-code-zeroed").unwrap()]);
    let settings = Settings { state_dir: None, ..bench.settings() };
    let wanted = BootRepairWanted::default();
    let refused = open(&settings).repair_boot(wanted, &NoObserver, &mut |_| Agreement::Yes);
    assert!(matches!(refused, Err(WorkError::NoStateFolder)), "{refused:?}");
    let mut shown = Vec::new();
    let declined = open(&bench.settings()).repair_boot(wanted, &NoObserver, &mut |preview| {
        shown.extend(preview.actions.iter().filter_map(|action| action.written.clone()));
        Agreement::No
    });
    assert!(declined.unwrap().after.is_none());
    assert_eq!((shown.len(), shown[0].ranges[0].from, shown[0].ranges[0].to), (1, 0, 512));
    let plan_only = BootRepairWanted { plan_only: true, ..wanted };
    open(&settings).repair_boot(plan_only, &NoObserver, &mut |_| Agreement::Yes).unwrap();
    assert!(bench.bytes() == before);
}

#[test]
fn an_undo_finds_the_disk_under_another_name_and_refuses_another_disk() {
    let bench = Bench::new();
    let before = bench.damaged(&[boot_fault("boot-code-zeroed").unwrap(), boot_fault("table-backup").unwrap()]);
    bench.repair(false).unwrap();
    let repaired = bench.bytes();
    let (moved, other) = (bench.dir.path().join("moved.img"), bench.dir.path().join("other.img"));
    std::fs::rename(&bench.image, &moved).unwrap();
    write(&other, &disk(SEED, &[boot_fault("root-superblock").unwrap()]).unwrap()).unwrap();
    let undo = |disk: &PathBuf| {
        let settings = Settings { disks: vec![disk.clone()], ..bench.settings() };
        open(&settings).undo(None, false, &NoObserver, &mut |_| Agreement::Yes).unwrap()
    };
    let refused = undo(&other);
    assert!(refused.changes[0].refused[0].why.contains("is another disk"), "{refused:?}");
    // What was changed since is not undone.
    let mut changed = repaired.clone();
    changed[3] ^= 1;
    std::fs::write(&moved, &changed).unwrap();
    assert!(undo(&moved).changes[0].refused[0].why.contains("changed since"));
    assert!(std::fs::read(&moved).unwrap() == changed);
    std::fs::write(&moved, &repaired).unwrap();
    assert!(undo(&moved).changes[0].refused.is_empty());
    assert!(std::fs::read(&moved).unwrap() == before);
}

/// Damage to the bytes of a disk.
type Damage<'a> = &'a dyn Fn(&mut Vec<u8>);

#[test]
fn what_must_not_be_written_is_refused_with_its_reason() {
    let bench = Bench::new();
    let whole = disk(SEED, &[]).unwrap();
    let hybrid = |disk: &mut Vec<u8>| {
        disk[0..440].fill(0);
        disk[462..478].copy_from_slice(&[0, 0xfe, 0xff, 0xff, 0x83, 0xfe, 0xff, 0xff, 0, 16, 0, 0, 0, 16, 0, 0]);
    };
    let foreign = |disk: &mut Vec<u8>| disk[0x64..0x1b8].iter_mut().for_each(|byte| *byte ^= 0x55);
    let grown = |disk: &mut Vec<u8>| disk.resize(disk.len() + (1 << 20), 0);
    let cases: [(&str, Damage<'_>, &str); 3] = [
        ("hybrid", &hybrid, "hybrid MBR"),
        ("foreign", &foreign, "whose code it is, is not known"),
        ("grown", &grown, "not the disk's last one"),
    ];
    for (name, damage, why) in cases {
        let mut bytes = whole.clone();
        damage(&mut bytes);
        write(&bench.image, &bytes).unwrap();
        let report = bench.repair(true).unwrap();
        let told: Vec<&str> = report.before.left.iter().map(|left| &*left.reason).collect();
        assert!(told.iter().any(|reason| reason.contains(why)), "{name}: {told:?}");
        assert!(bench.bytes() == bytes, "{name}: nothing is written");
    }
}

#[test]
fn a_disk_of_another_kind_is_repaired_like_the_usual_one() {
    let bench = Bench::new();
    for variant in [Variant::BootApart, Variant::VarApart, Variant::OtherLoader, Variant::Removable, Variant::OwnKey] {
        let whole = disk_as(SEED, variant).unwrap();
        write(&bench.image, &whole).unwrap();
        let report = bench.repair(false).unwrap();
        assert!(
            written(&report).is_empty() && bench.bytes() == whole,
            "{variant:?}: nothing is written to what is intact"
        );
        // The boot code, the first of both headers of the table, and the kernel's name in the menu.
        let mut damaged = whole.clone();
        damaged[0..440].fill(0);
        damaged[512..604].fill(0);
        let menu = damaged.windows(14).position(|bytes| bytes == b"/vmlinuz-6.9.4").unwrap();
        damaged[menu + 13] = b'3';
        write(&bench.image, &damaged).unwrap();
        let report = bench.repair(false).unwrap();
        let last = report.after.as_ref().unwrap();
        assert!(last.outcome != Outcome::Damaged, "{variant:?}: {:?}", last.findings);
        require_others_unchanged(&format!("{variant:?}"), &damaged, &bench.bytes(), &written(&report));
        assert!(bench.bytes()[..604] == whole[..604], "{variant:?}: boot code and table are as they were");
        bench.undo();
        assert!(bench.bytes() == damaged, "{variant:?}: the undo is exact");
    }
}

#[test]
fn a_disk_with_nothing_on_it_and_one_of_a_raid_are_left_as_they_are() {
    let bench = Bench::new();
    // The superblock of a RAID whose members are whole disks begins behind the first 4 KiB.
    let raid = [0xfc, 0x4e, 0x2b, 0xa9, 1, 0, 0, 0];
    let mut of_raid = disk(SEED, &[]).unwrap();
    let end = of_raid.len() - 33 * 512;
    of_raid[..34 * 512].fill(0);
    of_raid[end..].fill(0);
    of_raid[4096..4104].copy_from_slice(&raid);
    for bytes in [vec![0; 2 << 20], of_raid] {
        write(&bench.image, &bytes).unwrap();
        let report = bench.repair(true).unwrap();
        assert!(report.before.findings.is_empty() && written(&report).is_empty(), "{:?}", report.before.findings);
        assert!(report.before.outcome == Outcome::Unchecked && bench.bytes() == bytes, "it is not said to be sound");
    }
}

#[test]
fn of_sectors_whose_size_is_guessed_and_of_what_is_in_containers_nothing_is_written() {
    let bench = Bench::new();
    // The first of both headers, and the boot code.
    let mut large = disk_as(SEED, Variant::LargeSectors).unwrap();
    large[0..440].fill(0);
    large[4096..4188].fill(0);
    write(&bench.image, &large).unwrap();
    let report = bench.repair(true).unwrap();
    let told: Vec<&str> = report.before.left.iter().map(|left| &*left.reason).collect();
    assert_eq!(told.iter().filter(|why| why.contains("(4096 bytes) is only guessed")).count(), 2, "{told:?}");
    assert!(bench.bytes() == large && written(&report).is_empty());
    // The header of LUKS, and that of a physical volume, where the root's file system begins; the table is damaged, too.
    let set = |bytes: &mut Vec<u8>, at: usize, content: &[u8]| bytes[at..at + content.len()].copy_from_slice(content);
    let containers: [&[(usize, &[u8])]; 2] = [&[(0, b"LUKS\xba\xbe\0\x02")], &[(512, b"LABELONE"), (536, b"LVM2 001")]];
    for headers in containers {
        let mut bytes = disk(SEED, &[]).unwrap();
        let root = u64::from_le_bytes(bytes[1024 + 256 + 32..1024 + 256 + 40].try_into().unwrap()) as usize * 512;
        bytes[root..root + (1 << 20)].fill(0);
        headers.iter().for_each(|(at, content)| set(&mut bytes, root + at, content));
        bytes[0..440].fill(0);
        bytes[512..604].fill(0);
        // The boot sector of the EFI partition, of which a small FAT has no copy.
        let efi = u64::from_le_bytes(bytes[1024 + 128 + 32..1024 + 128 + 40].try_into().unwrap()) * 512;
        bytes[efi as usize..efi as usize + 512].fill(0);
        write(&bench.image, &bytes).unwrap();
        let report = bench.repair(true).unwrap();
        let told: Vec<&str> = report.before.left.iter().map(|left| &*left.reason).collect();
        assert_eq!((written(&report), told), (vec![(512, 1024)], vec!["there is no copy of its boot sector"]));
        assert_eq!(report.after.unwrap().outcome, Outcome::Damaged);
    }
}

/// A store with a package of the disk, by its record there.
fn store_of(bench: &Bench, name: &str, version: &str) -> World {
    bench.damaged(&[]);
    let set = Arc::new(DiskSet::open(std::slice::from_ref(&bench.image)).unwrap());
    let is_root = |volume: &DiskVolume| volume.contains.as_ref().is_some_and(|found| found.kind == VolumeKind::Ext4);
    let root = set.volumes.iter().position(is_root).unwrap();
    let disk = RawDisk::open(&set, root, &bench.image).unwrap();
    let machine = Machine::open(&bench.image, Arc::new(disk)).unwrap();
    let read = |path: &str| machine.read_up_to(&SystemPath::parse(path.as_bytes()).unwrap(), 1 << 24).unwrap().unwrap();
    let mut own = package(name, version);
    for line in String::from_utf8(read(&format!("/var/lib/dpkg/info/{name}.md5sums"))).unwrap().lines() {
        let path = format!("/{}", line.split_once("  ").unwrap().1);
        add(&mut own, &path, Content::File(read(&path)), 0o644);
    }
    World::new(&bench.dir.path().join("other"), &[own])
}

#[test]
fn a_damaged_file_of_a_package_is_repaired_in_place_from_a_store() {
    let bench = Bench::new();
    let world = store_of(&bench, "linux-image-6.9.4-foreshore", "6.9.4-1");
    let with =
        |settings: Settings| Settings { store: world.settings().store, trust: world.settings().trust, ..settings };
    for name in ["kernel-bytes", "module-bytes"] {
        let before = bench.damaged(&[boot_fault(name).unwrap()]);
        let wanted = BootRepairWanted::default();
        let settings = with(bench.settings());
        let report = open(&settings).repair_boot(wanted, &NoObserver, &mut |_| Agreement::Yes).unwrap();
        let last = report.after.as_ref().unwrap_or(&report.before);
        assert!(last.outcome != Outcome::Damaged, "{name}: {:?} {:?}", last.findings, last.left);
        assert!(bench.bytes() == disk(SEED, &[]).unwrap(), "{name}: every byte is what it was without damage");
        require_others_unchanged(name, &before, &bench.bytes(), &written(&report));
        bench.undo();
        assert!(bench.bytes() == before, "{name}: the undo is exact");
    }
    // Another size would need another place.
    let before = bench.damaged(&[boot_fault("kernel-cut").unwrap()]);
    let settings = with(bench.settings());
    let report =
        open(&settings).repair_boot(BootRepairWanted::default(), &NoObserver, &mut |_| Agreement::Yes).unwrap();
    let left: Vec<&str> = report.before.left.iter().map(|left| &*left.reason).collect();
    assert_eq!(left, ["it would get another size, which only the mounted system can give it"]);
    assert!(bench.bytes() == before);
}

#[test]
fn a_menu_that_will_name_the_newest_kernel_is_not_said_to_lack_it() {
    let bench = Bench::new();
    bench.damaged(&[boot_fault("menu-kernel").unwrap()]);
    let report = bench.repair(false).unwrap();
    let causes: Vec<String> = report.before.findings.iter().filter_map(|finding| finding.cause.clone()).collect();
    assert!(causes.iter().any(|cause| cause.contains("vmlinuz-6.9.3-foreshore does not exist")), "{causes:?}");
    assert!(!causes.iter().any(|cause| cause.contains("no entry for")), "{causes:?}");
    assert!(report.before.left.is_empty(), "{:?}", report.before.left);
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
