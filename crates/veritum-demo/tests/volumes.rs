//! The file systems of a machine: a full one is reported, and left to the person.

#[path = "support/mounts.rs"]
mod mounts;
mod support;

use support::{folder, open, small_world};
use veritum_core::areas::VOLUMES;
use veritum_core::event::NoObserver;
use veritum_core::model::{Scope, Verdict};
use veritum_core::report::Outcome;
use veritum_core::work::{Agreement, Settings, WorkError};

#[test]
fn a_full_file_system_is_a_problem_with_what_to_do_and_nothing_is_repaired() {
    if !mounts::root_or_skip("a small disk") {
        return;
    }
    let dir = folder();
    let world = small_world(dir.path());
    let disk = mounts::Mounted::new(&dir.path().join("disk"), &["-t", "tmpfs", "-o", "size=40m", "tmpfs"]);
    let copied = std::process::Command::new("cp").arg("-a").arg(world.machine()).arg(disk.0.join("machine")).status();
    assert!(copied.unwrap().success());
    let settings = Settings { root: disk.0.join("machine"), ..world.settings() };
    let scope = Scope::only(VOLUMES);
    let report = open(&settings).check(&scope, &NoObserver).unwrap();
    assert_eq!((report.outcome, report.area(VOLUMES).unwrap().examined), (Outcome::Ok, 1));
    let filler = std::process::Command::new("dd")
        .args(["if=/dev/zero", "bs=64k", "status=none"])
        .arg(format!("of={}", disk.0.join("filler").display()))
        .stderr(std::process::Stdio::null())
        .status();
    assert!(!filler.unwrap().success(), "it is full");
    let report = open(&settings).check(&scope, &NoObserver).unwrap();
    assert_eq!(report.findings.iter().map(|f| f.verdict).collect::<Vec<_>>(), [Verdict::DiskFull]);
    let done = open(&settings).repair(&scope, &NoObserver, &mut |_| Agreement::Yes).unwrap();
    let [left] = done.area(VOLUMES).unwrap().remaining.as_slice() else { panic!("{done:#?}") };
    assert_eq!(left.action.as_ref().map(ToString::to_string).as_deref(), Some("free some space on it"));
    assert!(done.after.is_none() && done.area(VOLUMES).unwrap().actions.is_empty());
}

#[test]
fn a_full_file_system_belongs_to_no_package_although_one_lists_its_folder() {
    if !mounts::root_or_skip("a small disk") {
        return;
    }
    let dir = folder();
    let world = small_world(dir.path());
    std::fs::write(world.at("/etc/fstab"), "UUID=1 / ext4 rw 0 1\nUUID=2 /usr/share/quay ext4 rw 0 2\n").unwrap();
    let _disk = mounts::Mounted::new(&world.at("/usr/share/quay"), &["-t", "tmpfs", "-o", "size=4m", "tmpfs"]);
    let _ = std::fs::write(world.at("/usr/share/quay/filler"), vec![0; 8 << 20]);
    let report = open(&world.settings()).check(&Scope::only(VOLUMES), &NoObserver).unwrap();
    let told: Vec<_> = report.findings.iter().map(|f| (f.subject.to_string(), f.verdict, f.package.clone())).collect();
    assert_eq!(told, [("/usr/share/quay".to_owned(), Verdict::DiskFull, None)]);
}

#[test]
fn one_file_system_is_named_by_its_folder_and_an_unknown_one_is_refused() {
    let dir = folder();
    let world = small_world(dir.path());
    let fstab = "UUID=1 / ext4 rw 0 1\nUUID=2 /opt/wharf ext4 rw 0 2\n";
    std::fs::write(world.at("/etc/fstab"), fstab).unwrap();
    let named = |name: &str| Scope { selected: vec![(VOLUMES, name.to_owned())], ..Scope::default() };
    let report = open(&world.settings()).check(&named("/opt/wharf"), &NoObserver).unwrap();
    assert_eq!(report.area(VOLUMES).unwrap().examined, 0);
    assert!(report.unexamined[0].reason.contains("/opt/wharf is listed in fstab and not mounted"), "{report:#?}");
    assert_eq!(report.areas.len(), 1, "nothing else is looked at");
    let unknown = open(&world.settings()).check(&named("/srv"), &NoObserver).unwrap_err();
    assert!(matches!(unknown, WorkError::Unknown { what: "file system", known, .. } if known == ["/", "/opt/wharf"]));
}

#[test]
fn damaged_metadata_of_a_mounted_file_system_are_told_by_path_and_only_if_the_area_is_named() {
    if !mounts::root_or_skip("a file system in an image") {
        return;
    }
    if std::process::Command::new("mkfs.ext4").arg("-V").output().is_err() {
        println!("SKIPPED: mkfs.ext4 is not installed");
        return;
    }
    let dir = folder();
    let world = small_world(dir.path());
    let image = dir.path().join("disk.img");
    let from = world.machine().display().to_string();
    mounts::run("mkfs.ext4", &["-q", "-b", "1024", "-d", &from, image.to_str().unwrap(), "24M"]);
    let disk = mounts::Mounted::new(&dir.path().join("disk"), &["-o", "loop", image.to_str().unwrap()]);
    let settings = Settings { root: disk.0.clone(), ..world.settings() };
    let named = Scope::only(VOLUMES);
    let report = open(&settings).check(&named, &NoObserver).unwrap();
    let area = report.area(VOLUMES).unwrap();
    assert_eq!((report.outcome, area.examined), (Outcome::Ok, 1), "{report:#?}");
    assert!(area.extent.as_ref().unwrap().contains("structure and checksums"), "{area:?}");
    // A bit of the folder's first block, where the kernel sees it too.
    let request = "bmap /usr/share/quay 0";
    let said = std::process::Command::new("debugfs").args(["-R", request, image.to_str().unwrap()]).output().unwrap();
    let block: u64 = String::from_utf8_lossy(&said.stdout).trim().parse().unwrap();
    let device =
        std::process::Command::new("findmnt").args(["-no", "SOURCE", disk.0.to_str().unwrap()]).output().unwrap();
    let device = std::fs::OpenOptions::new()
        .read(true)
        .write(true)
        .open(String::from_utf8_lossy(&device.stdout).trim())
        .unwrap();
    use std::os::unix::fs::FileExt as _;
    let mut byte = [0];
    device.read_exact_at(&mut byte, block * 1024 + 40).unwrap();
    device.write_all_at(&[byte[0] ^ 2], block * 1024 + 40).unwrap();
    let report = open(&settings).check(&named, &NoObserver).unwrap();
    let told: Vec<String> = report.findings.iter().map(|f| format!("{} {}", f.subject, f.verdict.word())).collect();
    assert_eq!(told, ["/usr/share/quay corrupt"]);
    assert_eq!(report.findings[0].package.as_ref().map(|package| package.name.as_str()), Some("quay"));
    assert!(report.findings[0].cause.as_ref().unwrap().ends_with("it belongs to the package quay"));
    let plain = Scope { reach: veritum_core::model::Reach::Local, ..Scope::default() };
    let report = open(&settings).check(&plain, &NoObserver).unwrap();
    assert!(report.findings.iter().all(|f| f.area != VOLUMES), "a plain check does not read them");
}
