//! The boot chain of a disk that is not mounted: each kind of damage is found, with what it means for the next start; and nothing is written.

mod support;

use std::path::{Path, PathBuf};

use veritum_core::event::NoObserver;
use veritum_core::model::{KnownBy, Scope, StartEffect};
use veritum_core::report::{CheckReport, Outcome, VolumeAccess};
use veritum_core::work::{DisksWanted, Engine, OnDisks, Settings, check_bare_disks, list_disks};
use veritum_demo::boot_disk::{BOOT_FAULTS, BootFault, Variant, boot_fault, disk, disk_as, write};

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
fn what_the_disk_contained_before_it_was_partitioned_hides_nothing() {
    let mut bytes = disk(SEED, &[]).unwrap();
    // The superblock of btrfs on the whole disk.
    let at = 64 << 10;
    bytes[at + 0x30..at + 0x38].copy_from_slice(&(at as u64).to_le_bytes());
    bytes[at + 0x40..at + 0x48].copy_from_slice(b"_BHRfS_M");
    let bench = Bench::with(&bytes);
    assert_eq!(told(&bench.check()), "");
    assert_eq!(list_disks(std::slice::from_ref(&bench.image)).unwrap().disks[0].volumes.len(), 3);
    // Without any table it is what the disk contains.
    bytes[..34 * 512].fill(0);
    let end = bytes.len() - 33 * 512;
    bytes[end..].fill(0);
    let bench = Bench::with(&bytes);
    let volumes = list_disks(std::slice::from_ref(&bench.image)).unwrap().disks.remove(0).volumes;
    assert_eq!(volumes.iter().filter_map(|volume| volume.contains.as_deref()).next(), Some("btrfs"));
}

#[test]
fn a_package_database_on_another_partition_is_found_by_fstab() {
    let bytes = disk_as(SEED, Variant::VarApart).unwrap();
    assert_eq!(told(&Bench::with(&bytes).check()), "");
    // Without its superblock nothing is known of the packages, and the start ends in emergency mode.
    let mut lost = bytes;
    let var = (6 << 20) + (lost.len() - (7 << 20)) / 2;
    lost[var + 1024..var + 2048].fill(0);
    assert_ne!(Bench::with(&lost).check().outcome, Outcome::Ok);
}

#[test]
fn of_several_disks_the_system_on_the_first_is_examined() {
    let (one, other) = (Bench::new(&[]), Bench::new(&[boot_fault("kernel-missing").unwrap()]));
    let with =
        |disks: [&Bench; 2]| Settings { disks: disks.map(|bench| bench.image.clone()).to_vec(), ..disks[0].settings() };
    assert_eq!(told(&check(&with([&one, &other]), &one.image)), "");
    assert_eq!(check(&with([&other, &one]), &other.image).outcome, Outcome::Damaged);
    // A folder of the same name on the other disk's EFI partition belongs to the system there.
    let astray = Bench::new(&[boot_fault("efi-menu-place").unwrap()]);
    let report = check(&with([&one, &astray]), &one.image);
    assert_eq!(told(&report), "");
    let extent = report.areas[0].extent.clone().unwrap_or_default();
    assert!(extent.contains("not judged: the system's own one is on another partition"), "{extent}");
}

#[test]
fn of_two_systems_on_a_disk_one_is_examined_and_the_other_named() {
    let both = Bench::with(&disk_as(SEED, Variant::TwoSystems).unwrap());
    let report = both.check();
    assert_eq!(told(&report), "", "the other one changes nothing");
    let extent = report.areas[0].extent.clone().unwrap_or_default();
    assert!(extent.contains("partition 4, was not examined (--partition 4)"), "{extent}");
    let open = |partition| Engine::open_on_disks(Settings { partition: Some(partition), ..both.settings() });
    assert!(matches!(open(4), Ok(OnDisks::System(_))));
    let why = open(2).map(drop).unwrap_err().to_string();
    assert_eq!(why, "no installed system can be read on partition 2; there is one on: 3, 4");
}

#[test]
fn the_boot_loader_of_another_system_is_not_judged() {
    let bench = Bench::with(&disk_as(SEED, Variant::OtherStarts).unwrap());
    let chosen = Settings { partition: Some(3), ..bench.settings() };
    let text = told(&check(&chosen, &bench.image));
    assert!(text.lines().all(|line| line.starts_with("not checked: ")), "{text}");
    assert!(text.contains("it was written from"), "{text}");
    assert!(text.contains("EFI/foreshore/grub.cfg: it leads to"), "{text}");
    let copied = Bench::with(&disk_as(SEED, Variant::CopiedFrom).unwrap());
    let text = told(&check(&Settings { partition: Some(3), ..copied.settings() }, &copied.image));
    assert!(text.lines().all(|line| line.starts_with("not checked: ")), "{text}");
    assert!(text.contains("which this system does not mount"), "{text}");
    // Without a choice, what the disk starts is examined.
    let extent = bench.check().areas[0].extent.clone().unwrap_or_default();
    assert!(extent.contains("partition 3, was not examined (--partition 3)"), "{extent}");
}

#[test]
fn an_initial_file_system_that_is_not_compressed_is_compared_all_the_same() {
    let report = Bench::with(&disk_as(SEED, Variant::PlainInitramfs).unwrap()).check();
    assert_eq!(told(&report), "");
    let extent = report.areas[0].extent.clone().unwrap_or_default();
    assert!(extent.contains("(uncompressed) read to its end"), "{extent}");
    assert!(extent.contains("compared with nothing: 16 bytes in conf/arch.conf"), "{extent}");
}

#[test]
fn boot_on_a_partition_of_its_own_is_found_without_fstab() {
    let of = |variant| told(&Bench::with(&disk_as(SEED, variant).unwrap()).check());
    assert_eq!(of(Variant::BootApart), "");
    let text = of(Variant::BootUnlisted);
    assert!(text.starts_with("Some(Latent) Incomplete /etc/fstab: it has no line for /boot"), "{text}");
    assert_eq!(text.lines().count(), 1, "{text}");
    let text = of(Variant::BootWithoutFstab);
    assert!(text.starts_with("Some(Latent) Missing /etc/fstab"), "{text}");
    assert_eq!(text.lines().count(), 1, "{text}");
}

#[test]
fn a_volume_that_is_said_to_be_inside_of_itself_is_not_judged() {
    let text = told(&Bench::with(&disk_as(SEED, Variant::VolumeInItself).unwrap()).check());
    assert!(text.lines().all(|line| line.starts_with("not checked: /etc/")), "{text}");
    assert_eq!(text.lines().count(), 2, "{text}");
}

#[test]
fn what_the_owner_signed_is_named_and_not_judged() {
    let text = told(&Bench::with(&disk_as(SEED, Variant::OwnKey).unwrap()).check());
    assert!(text.lines().all(|line| line.starts_with("not checked: ")), "{text}");
    let key = "signed by others than the packages' programs (CN=Owner of counter-03); whether firmware accepts that is not examined";
    assert!(text.contains(&format!("EFI/foreshore/grubx64.efi, its content is the package's: {key}")), "{text}");
    assert!(text.contains(&format!("vmlinuz-6.9.4-foreshore: {key}")), "{text}");
}

#[test]
fn a_kernel_of_another_build_that_is_whole_still_starts() {
    let text = told(&Bench::with(&disk_as(SEED, Variant::OtherBuild).unwrap()).check());
    assert!(text.starts_with("Some(Latent) Altered"), "{text}");
    assert!(text.contains("by its own signature it is whole"), "{text}");
}

#[test]
fn a_system_without_a_partition_is_examined_and_the_loss_comes_first() {
    let report = Bench::new(&[boot_fault("table-root").unwrap(), boot_fault("module-unused").unwrap()]).check();
    assert_eq!(report.machine.hostname, "counter-03", "the system is read where it lies");
    let text = told(&report);
    assert!(text.starts_with("Some(BreaksStart) Missing"), "{text}");
    assert!(text.contains("no partition contains the file system (ext4) at sector 12288"), "{text}");
    assert!(text.contains("tetris.mod"), "{text}");
}

#[test]
fn what_is_needed_is_named_with_what_needs_it() {
    let cause = |name: &str| told(&Bench::new(&[boot_fault(name).unwrap()]).check());
    for (name, part) in [
        ("first-linker", "/usr/lib/systemd/systemd is started by it"),
        ("first-library-missing", "/usr/lib/systemd/systemd needs it"),
        (
            "first-program-link",
            "/usr/lib/systemd/absent: /sbin/init leads to it; it is the first program of the system",
        ),
        ("efi-loader-other", "grubx64.efi.signed, but /usr/lib/shim/shimx64.efi.signed"),
        ("target-masked", "basic.target: it is masked"),
        ("target-lost", "/etc/systemd/system/default.target: it leads to /lib/systemd/system/quay.target, which"),
        ("target-end", "/etc/systemd/system/default.target: it leads to emergency.target: only that is started"),
        ("menu-end", "its default entry starts only rescue.target"),
        ("mount-module", "vfat.ko: its package ships it; /boot/efi (vfat) is mounted with it"),
        ("mount-module-unlisted", "it does not name the module vfat; /boot/efi (vfat) is mounted with it"),
        ("modules-list-alias", "without it vfat is not found, and /boot/efi (vfat) is mounted with it"),
        ("kernel-modules", "and ends in emergency mode: /boot/efi (vfat) is mounted with it"),
        ("first-program-locked", "/usr/lib/systemd/systemd: it cannot be executed"),
        ("initramfs-locked", "init in it cannot be executed, and the installed file can"),
        ("initramfs-library", "it does not contain libkeel.so.4, which usr/bin/sh in it needs"),
        ("initramfs-module", "it does not contain the module jetty"),
        ("initramfs-script", "1 file in it is not that of its package: scripts/local"),
        ("menu-device", "the kernel gets /dev/sda7 as its root, which is partition 3 here"),
        ("menu-no-kernel", "starts no kernel"),
        ("table-larger", "it is that of a larger disk"),
        ("modules-list", "it is cut off, or no list of modules"),
    ] {
        assert!(cause(name).contains(part), "{name}: {}", cause(name));
    }
}

#[test]
fn what_an_unmounted_system_lacks_is_repaired_with_its_package_or_when_it_is_mounted() {
    for (name, option) in [
        ("first-library", "--from"),
        ("module-bytes", "--from"),
        ("kernel-bytes", "--from"),
        ("kernel-missing", "--root"),
        ("first-program-locked", "--root"),
        ("initramfs-init", "--root"),
    ] {
        let report = Bench::new(&[boot_fault(name).unwrap()]).check();
        let command = format!("veritum repair bootchain {option} DIR");
        let named = |action: &veritum_core::model::Action| action.command.as_deref() == Some(&command);
        let mut actions = report.findings.iter().filter_map(|finding| finding.action.as_ref());
        assert!(actions.any(named), "{name}: {:?}", report.findings);
    }
}

#[test]
fn a_module_that_differs_from_its_package_and_from_its_copy_is_reported_once() {
    let report = Bench::new(&[boot_fault("initramfs-other").unwrap()]).check();
    let causes: Vec<_> = report.findings.iter().filter_map(|finding| finding.cause.as_deref()).collect();
    let once = "it is not what its package ships; /boot/initrd.img-6.9.4-foreshore still contains the right one";
    assert_eq!(causes, [once]);
}

#[test]
fn what_is_only_mounted_on_demand_is_no_problem() {
    let mut bytes = disk(SEED, &[]).unwrap();
    let from = b" / ext4 errors=remount-ro 0 1\n";
    let at = bytes.windows(from.len()).position(|window| window == from).unwrap();
    // The line of the EFI partition comes next: it is not mounted at the start, and may be elsewhere.
    let to = bytes[at..].windows(10).position(|window| window == b"umask=0077").unwrap() + at;
    bytes[to..to + 10].copy_from_slice(b"noauto,rw ");
    let id = bytes[at..].windows(9).position(|window| window == b"5A17-B00C").unwrap() + at;
    bytes[id..id + 9].copy_from_slice(b"0000-0000");
    assert_eq!(told(&Bench::with(&bytes).check()), "");
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
