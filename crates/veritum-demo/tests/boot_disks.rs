//! The boot chain of a disk that is not mounted: each kind of damage is found, with what it means for the next start; and nothing is written.

mod support;

use std::path::{Path, PathBuf};

use veritum_core::event::NoObserver;
use veritum_core::model::{KnownBy, Scope, StartEffect};
use veritum_core::report::{CheckReport, Outcome, VolumeAccess};
use veritum_core::work::{DisksWanted, Engine, OnDisks, Settings, check_bare_disks, list_disks};
use veritum_demo::boot_disk::{BOOT_FAULTS, BootFault, boot_fault, disk, write};

const SEED: u64 = 42;

struct Bench {
    folder: tempfile::TempDir,
    image: PathBuf,
}

impl Bench {
    fn new(faults: &[&BootFault]) -> Self {
        Self::with(&disk(SEED, faults).unwrap())
    }

    fn with(bytes: &[u8]) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let image = folder.path().join("disk.img");
        write(&image, bytes).unwrap();
        Self { folder, image }
    }

    fn settings(&self) -> Settings {
        let own = self.folder.path();
        let settings = veritum_demo::world::settings(self.image.clone(), own, own);
        Settings { store: None, notes: None, disks: vec![self.image.clone()], ..settings }
    }

    fn check(&self) -> CheckReport {
        check(&self.settings(), &self.image)
    }
}

fn check(settings: &Settings, image: &Path) -> CheckReport {
    let before = std::fs::read(image).unwrap();
    let report = match Engine::open_on_disks(settings.clone()).unwrap() {
        OnDisks::System(mut engine) => engine.check(&Scope::only(veritum_core::areas::BOOTCHAIN), &NoObserver).unwrap(),
        OnDisks::Bare(set) => {
            let wanted = DisksWanted { disks: settings.disks.clone(), ..DisksWanted::default() };
            check_bare_disks(&wanted, set, false, (1, settings.now), &NoObserver).unwrap()
        }
    };
    assert!(std::fs::read(image).unwrap() == before, "nothing is written");
    report
}

fn told(report: &CheckReport) -> String {
    let line = |f: &veritum_core::model::Finding| {
        format!("{:?} {:?} {}: {}\n", f.effect, f.verdict, f.subject, f.cause.clone().unwrap_or_default())
    };
    let open = report.unexamined.iter().map(|part| format!("not checked: {}\n", part.reason));
    report.findings.iter().map(line).chain(open).collect()
}

#[test]
fn an_intact_disk_has_no_problem_and_every_part_of_it_is_examined() {
    let report = Bench::new(&[]).check();
    assert_eq!(told(&report), "", "{report:?}");
    assert_ne!(report.outcome, Outcome::Damaged);
    assert_eq!(report.machine.hostname, "counter-03");
    let area = &report.areas[0];
    // Table, boot code, core image, modules, EFI partition, menu, kernel, initial file system, fstab.
    assert!(area.examined > 25, "{area:?}");
    let extent = area.extent.clone().unwrap_or_default();
    assert!(extent.contains("(zstd) read to its end"), "{extent}");
    let rest = "lists of its modules computed again; compared with nothing: 16 bytes in conf/arch.conf";
    assert!(extent.contains(rest), "{extent}");
    assert!(report.notes.is_empty(), "{:?}", report.notes);
}

#[test]
fn each_kind_of_damage_is_found_with_what_it_means_for_the_start() {
    let mut wrong = Vec::new();
    for fault in BOOT_FAULTS {
        let report = Bench::new(&[fault]).check();
        let worst = report.findings.iter().filter_map(|finding| finding.effect).min();
        if worst != Some(fault.effect) || report.findings.iter().any(|finding| finding.known_by.is_none()) {
            wrong.push(format!("{}: expected {:?}\n{}", fault.name, fault.effect, told(&report)));
        }
        // The first finding is what a start meets first; nothing that breaks it comes behind what does not.
        assert!(report.findings.is_sorted_by_key(|finding| finding.effect), "{}", told(&report));
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    assert!(BOOT_FAULTS.len() >= 40, "{}", BOOT_FAULTS.len());
}

#[test]
fn several_causes_come_in_the_order_in_which_a_start_meets_them() {
    let faults = ["fstab-efi", "initramfs-cut", "module-needed", "core-wiped", "module-unused"];
    let report = Bench::new(&faults.map(|name| boot_fault(name).unwrap())).check();
    let subjects: Vec<String> = report.findings.iter().map(|finding| finding.subject.to_string()).collect();
    let place = |part: &str| subjects.iter().position(|subject| subject.contains(part)).unwrap();
    let order = ["core image", "normal.mod", "initrd.img", "fstab", "tetris.mod"].map(place);
    assert!(order.is_sorted(), "{subjects:?}");
}

#[test]
fn what_is_left_in_unused_places_is_no_problem() {
    let mut bytes = disk(SEED, &[]).unwrap();
    // The copy of a superblock where no partition is: what remains of an earlier one.
    let (root, unused) = (6 << 20, bytes.len() - (1 << 20));
    bytes.copy_within(root + 1024..root + 2048, unused + 1024);
    let report = Bench::with(&bytes).check();
    assert_eq!(told(&report), "");
}

#[test]
fn how_it_is_known_is_said() {
    let known = |name: &str| {
        let report = Bench::new(&[boot_fault(name).unwrap()]).check();
        report.findings[0].known_by.unwrap()
    };
    assert_eq!(known("boot-code-bytes"), KnownBy::Package);
    assert_eq!(known("table-entries"), KnownBy::SelfProof);
    assert_eq!(known("fstab-efi"), KnownBy::Derived);
    assert_eq!(known("initramfs-bytes"), KnownBy::SelfProof);
}

#[test]
fn a_disk_that_is_cut_off_or_hostile_is_examined_to_its_end() {
    let whole = disk(SEED, &[]).unwrap();
    for size in [0, 511, 512, 4096, 1 << 20, (2 << 20) + 700, 7 << 20, whole.len() - 512] {
        let report = Bench::with(&whole[..size]).check();
        assert_ne!(report.outcome, Outcome::Ok, "{size}");
    }
    // Everything behind the table is noise.
    let mut noise = whole;
    let (mut state, start) = (7u64, 34 * 512);
    for byte in &mut noise[start..] {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
        *byte = (state >> 56) as u8;
    }
    assert_ne!(Bench::with(&noise).check().outcome, Outcome::Ok);
}

#[test]
fn places_that_cannot_be_read_are_said_to_be_so() {
    use veritum_core::devices::GapMap;
    let bench = Bench::new(&[]);
    let size = std::fs::metadata(&bench.image).unwrap().len();
    let gap = |from: u64, to: u64| {
        let format = GapMap::FORMAT.into();
        let map = GapMap { format, source: "/dev/sdb".into(), size, pending: Vec::new(), unreadable: vec![(from, to)] };
        std::fs::write(GapMap::path_for(&bench.image), serde_json::to_vec(&map).unwrap()).unwrap();
        bench.check()
    };
    let first = gap(0, 512);
    assert_eq!(first.findings[0].known_by, Some(KnownBy::Medium), "{}", told(&first));
    let core = gap((1 << 20) + 2048, (1 << 20) + 4096);
    assert!(told(&core).contains("core image: sector 2052 cannot be read"), "{}", told(&core));
    assert_eq!(core.findings[0].effect, Some(StartEffect::BreaksStart));
    let backup = gap(size - 512, size);
    assert_eq!(backup.findings[0].effect, Some(StartEffect::Latent), "{}", told(&backup));
}

#[test]
fn what_is_on_a_disk_is_listed_without_mounting_it() {
    let bench = Bench::new(&[]);
    let report = list_disks(std::slice::from_ref(&bench.image)).unwrap();
    let volumes = &report.disks[0].volumes;
    let told: Vec<_> = volumes.iter().map(|volume| (volume.contains.as_deref(), volume.access)).collect();
    let expected = [
        (Some("boot code"), VolumeAccess::Boot),
        (Some("vfat"), VolumeAccess::Boot),
        (Some("ext4"), VolumeAccess::Direct),
    ];
    assert_eq!(told, expected);
    assert_eq!(volumes[1].system.as_deref(), Some("EFI: foreshore"));
    assert_eq!(volumes[2].system.as_deref(), Some("counter-03: Foreshore 4.2"));
}

#[test]
fn how_the_system_can_be_started_with_fewer_parts_is_explained() {
    let bench = Bench::new(&[]);
    let OnDisks::System(engine) = Engine::open_on_disks(bench.settings()).unwrap() else { panic!("no system") };
    let report = engine.explain_starts().unwrap();
    let way = |name: &str| report.ways.iter().find(|way| way.name == name).unwrap();
    assert_eq!(way("rescue").entries, ["Foreshore, with Linux 6.9.4 (recovery mode)"]);
    assert_eq!(way("emergency").argument.as_deref(), Some("systemd.unit=emergency.target"));
    assert!(report.remarks.iter().any(|remark| remark.contains("root's password is locked")), "{report:?}");
    assert!(report.menu[0].contains("5 seconds"), "{report:?}");
}
