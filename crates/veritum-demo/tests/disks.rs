//! Real disks: full ones, read-only ones, locked files, and real power cuts. As root only; else a line says so.

#[path = "support/mounts.rs"]
mod mounts;
mod support;

use std::path::Path;
use std::process::Command;
use std::sync::Arc;

use mounts::{Mounted, cut_power, root_or_skip, run, unmount};
use support::{STATE, assert_same, check, folder, open, repair, try_repair, twenty, undo};
use veritum_core::areas::FILES;
use veritum_core::change::ChangeError;
use veritum_core::event::NoObserver;
use veritum_core::testkit::{Accident, TestDisk, Tree};
use veritum_core::work::{Settings, WorkError};

fn copy(from: &Path, to: &Path) {
    run("cp", &["-aT", from.to_str().unwrap(), to.to_str().unwrap()]);
}

fn tree(machine: &Path) -> Tree {
    Tree::read(machine, &[STATE, "lost+found", "filler"])
}

fn settings_at(world: &veritum_demo::world::World, machine: &Path) -> Settings {
    Settings { root: machine.to_owned(), ..world.settings() }
}

#[test]
fn on_a_full_disk_a_repair_is_whole_or_not_at_all_and_tells_how_much_is_missing() {
    if !root_or_skip("a small disk") {
        return;
    }
    let dir = folder();
    let world = twenty::world(&dir.path().join("world"));
    // One large content, so that the disk is full at many different steps.
    let large = world.at("/usr/bin/pier-b");
    twenty::damage(&world);
    assert!(large.exists());
    std::fs::create_dir(world.at(STATE)).unwrap();
    let (mut whole, mut none) = (0, 0);
    for free in (0..260).step_by(4) {
        let _mounted =
            Mounted::new(&dir.path().join("small"), &["-t", "tmpfs", "-o", "size=1500k,nr_inodes=400", "tmpfs"]);
        let machine = dir.path().join("small/machine");
        copy(&world.machine(), &machine);
        let before = tree(&machine);
        let room = rustix::fs::statvfs(&machine).unwrap();
        let filler = (room.f_bavail * room.f_frsize).saturating_sub(free * 1024);
        std::fs::write(dir.path().join("small/filler"), vec![1; usize::try_from(filler).unwrap()]).unwrap();
        let what = format!("{free} KiB free");
        match try_repair(&settings_at(&world, &machine), Arc::new(veritum_core::machine::LiveDisk)) {
            Ok(report) if report.area(FILES).unwrap().remaining.is_empty() => {
                whole += 1;
                assert_eq!(check(&settings_at(&world, &machine)).area(FILES).unwrap().problems, 0, "{what}");
            }
            Ok(report) => panic!("{what}: {:?}", report.area(FILES).unwrap().remaining),
            Err(WorkError::Change(ChangeError::NoRoom { missing, .. })) => {
                assert!(missing > 0, "{what}");
                none += 1;
                assert_same(&what, &before, &tree(&machine));
            }
            Err(WorkError::Change(
                ChangeError::Journal { .. } | ChangeError::State(_) | ChangeError::Unfinished { .. },
            )) => {
                none += 1;
                std::fs::remove_file(dir.path().join("small/filler")).unwrap();
                open(&settings_at(&world, &machine)).recover(&NoObserver).unwrap();
                assert_same(&what, &before, &tree(&machine));
            }
            Err(other) => panic!("{what}: {other:?}"),
        }
    }
    assert!(whole > 3 && none > 3, "both outcomes must be met: {whole} whole, {none} not at all");
}

#[test]
fn a_machine_that_is_mounted_read_only_is_checked_and_not_written() {
    if !root_or_skip("a read-only disk") {
        return;
    }
    let dir = folder();
    let world = twenty::world(&dir.path().join("world"));
    twenty::damage(&world);
    let before = Tree::read(&world.machine(), &[]);
    let mounted = Mounted::new(&dir.path().join("ro"), &["--bind", world.machine().to_str().unwrap()]);
    run("mount", &["-o", "remount,ro,bind", mounted.0.to_str().unwrap()]);
    let settings = settings_at(&world, &mounted.0);
    assert!(check(&settings).problems() >= 12);
    assert!(try_repair(&settings, Arc::new(veritum_core::machine::LiveDisk)).is_err());
    // With the state elsewhere the plan can be tried, and every place is named as blocked.
    let elsewhere = Settings { state_dir: Some(dir.path().join("state")), ..settings };
    let report = repair(&elsewhere);
    assert!(
        report.area(FILES).unwrap().remaining.iter().all(|l| l.reason.contains("read-only")),
        "{:?}",
        report.area(FILES).unwrap().remaining
    );
    drop(mounted);
    assert!(before.touched(&Tree::read(&world.machine(), &[])).is_empty());
}

#[test]
fn what_is_locked_or_mounted_over_is_named_and_the_rest_is_repaired() {
    if !root_or_skip("an immutable file") {
        return;
    }
    // chattr needs a file system that knows it.
    let dir = tempfile::tempdir().unwrap();
    let world = twenty::world(&dir.path().join("world"));
    twenty::damage(&world);
    let (one, two) = (world.at("/usr/share/quay/one"), world.at("/usr/share/quay/two"));
    if !Command::new("chattr").arg("+i").arg(&one).status().is_ok_and(|s| s.success()) {
        println!("SKIPPED: this file system has no immutable files");
        return;
    }
    std::fs::write(dir.path().join("cover"), "covering").unwrap();
    std::fs::write(dir.path().join("cover"), std::fs::read(&two).unwrap()).unwrap();
    run("mount", &["--bind", dir.path().join("cover").to_str().unwrap(), two.to_str().unwrap()]);
    let covered = Mounted(two.clone());
    let report = repair(&world.settings());
    let mut left: Vec<_> =
        report.area(FILES).unwrap().remaining.iter().map(|l| (l.subject.to_string(), l.reason.clone())).collect();
    left.sort();
    assert_eq!(
        left,
        [
            ("/usr/share/quay/one".to_owned(), "it is marked immutable".to_owned()),
            ("/usr/share/quay/two".to_owned(), "a mount point".to_owned())
        ]
    );
    drop(covered);
    // On the administrator's word the lock is taken off meanwhile, and put back: on what is put, and on what is restored.
    let locked = |path: &Path| {
        let said = Command::new("lsattr").arg("-d").arg(path).output().unwrap();
        String::from_utf8_lossy(&said.stdout).split(' ').next().unwrap_or_default().contains('i')
    };
    let folder = world.at("/usr/share/quay");
    run("chattr", &["+i", folder.to_str().unwrap()]);
    let unlocking = Settings { clear_immutable: true, ..world.settings() };
    let report = repair(&unlocking);
    assert!(report.area(FILES).unwrap().remaining.is_empty(), "{:?}", report.area(FILES).unwrap().remaining);
    assert!(locked(&one) && locked(&folder) && !locked(&two));
    undo(&unlocking, Some(2)).unwrap();
    assert_eq!(std::fs::read(&one).unwrap(), b"changed");
    assert!(locked(&one) && locked(&folder));
    run("chattr", &["-i", folder.to_str().unwrap(), one.to_str().unwrap()]);
}

#[test]
fn a_file_system_that_the_kernel_marked_with_errors_is_not_written_unasked() {
    if !root_or_skip("a marked file system") {
        return;
    }
    let dir = folder();
    let world = twenty::world(&dir.path().join("world"));
    twenty::damage(&world);
    let image = dir.path().join("image");
    std::fs::File::create(&image).unwrap().set_len(24 << 20).unwrap();
    let made = Command::new("mkfs.ext4").args(["-q", "-m", "0", "-e", "continue"]).arg(&image).status();
    if !made.is_ok_and(|s| s.success()) {
        println!("SKIPPED: no mkfs.ext4");
        return;
    }
    let mounted = Mounted::new(&dir.path().join("marked"), &["-o", "loop", image.to_str().unwrap()]);
    let machine = mounted.0.join("machine");
    copy(&world.machine(), &machine);
    let settings = settings_at(&world, &machine);
    assert_eq!(check(&settings).doubt, None);
    let device = rustix::fs::stat(&machine).unwrap().st_dev;
    let device =
        std::fs::read_link(format!("/sys/dev/block/{}:{}", rustix::fs::major(device), rustix::fs::minor(device)));
    let trigger = Path::new("/sys/fs/ext4").join(device.unwrap().file_name().unwrap()).join("trigger_fs_error");
    if std::fs::write(&trigger, "made by a test").is_err() {
        println!("SKIPPED: this kernel makes no errors on demand");
        return;
    }
    let before = tree(&machine);
    let report = repair(&settings);
    assert!(report.area(FILES).unwrap().change.is_none() && report.before.doubt.is_some(), "{:?}", report.before.doubt);
    assert_same("not written", &before, &tree(&machine));
    assert!(repair(&Settings { ignore_disk_errors: true, ..settings }).area(FILES).unwrap().remaining.is_empty());
}

#[test]
fn recovery_writes_nothing_onto_what_was_mounted_over_the_place_since_and_goes_on_without_it() {
    if !root_or_skip("something mounted over a folder") {
        return;
    }
    let dir = folder();
    let world = twenty::world(&dir.path().join("world"));
    let settings = world.settings();
    let start = dir.path().join("start");
    twenty::damage(&world);
    std::fs::create_dir(world.at(STATE)).unwrap();
    copy(&world.machine(), &start);
    let before = tree(&world.machine());
    let disk = Arc::new(TestDisk::new(Accident::None));
    try_repair(&settings, disk.clone()).unwrap();
    let (total, after) = (disk.operations(), tree(&world.machine()));
    let mut refused = 0;
    for n in (0..total).step_by(7) {
        std::fs::remove_dir_all(world.machine()).unwrap();
        copy(&start, &world.machine());
        let _ = try_repair(&settings, Arc::new(TestDisk::new(Accident::Stop(n))));
        let over = Mounted::new(&world.at("/usr/share/quay"), &["-t", "tmpfs", "tmpfs"]);
        std::fs::write(over.0.join("one"), "another system's").unwrap();
        let there = Tree::read(&over.0, &[]);
        let answer = open(&settings).recover(&NoObserver);
        if let Err(e) = answer {
            let why = veritum_core::model::error_chain(&e);
            assert!(why.contains("another file system is mounted on /usr/share/quay"), "stopped at {n}: {why}");
            refused += 1;
        }
        assert_same("what is mounted there", &there, &Tree::read(&over.0, &[]));
        drop(over);
        open(&settings).recover(&NoObserver).unwrap();
        let now = tree(&world.machine());
        assert!([&before, &after].iter().any(|t| t.differences(&now).is_empty()), "stopped at {n}: neither");
    }
    assert!(refused > 3, "it must be met: {refused}");
}

#[test]
fn real_power_cuts_at_every_operation_leave_the_old_or_the_new() {
    if !root_or_skip("a power cut") {
        return;
    }
    let dir = folder();
    let world = twenty::world(&dir.path().join("world"));
    twenty::damage(&world);
    std::fs::create_dir(world.at(STATE)).unwrap();
    let (clean, image, place) = (dir.path().join("clean"), dir.path().join("image"), dir.path().join("disk"));
    std::fs::File::create(&clean).unwrap().set_len(24 << 20).unwrap();
    if !Command::new("mkfs.ext4").args(["-q", "-m", "0"]).arg(&clean).status().is_ok_and(|s| s.success()) {
        println!("SKIPPED: no mkfs.ext4");
        return;
    }
    let mount = |image: &Path| Mounted::new(&place, &["-o", "loop", image.to_str().unwrap()]);
    let machine = place.join("machine");
    let (before, after, total);
    {
        let mounted = mount(&clean);
        copy(&world.machine(), &machine);
        before = tree(&machine);
        unmount(&mounted.0);
        std::mem::forget(mounted);
    }
    {
        run("cp", &["--sparse=always", clean.to_str().unwrap(), image.to_str().unwrap()]);
        let mounted = mount(&image);
        let disk = Arc::new(TestDisk::new(Accident::None));
        try_repair(&settings_at(&world, &machine), disk.clone()).unwrap();
        total = disk.operations();
        after = tree(&machine);
        // The model disk holds handles of what it could still lose.
        drop(disk);
        unmount(&mounted.0);
        std::mem::forget(mounted);
    }
    let settings = settings_at(&world, &machine);
    let mut met = [0, 0];
    for n in 0..total {
        run("cp", &["--sparse=always", clean.to_str().unwrap(), image.to_str().unwrap()]);
        let mounted = mount(&image);
        let top = std::fs::File::open(&place).unwrap();
        let _ = try_repair(&settings, Arc::new(TestDisk::stopping_with(n, move || cut_power(&top))));
        unmount(&mounted.0);
        std::mem::forget(mounted);
        let mounted = mount(&image);
        for _ in 0..2 {
            open(&settings).recover(&NoObserver).unwrap_or_else(|e| panic!("cut at {n} of {total}: {e:?}"));
        }
        let now = tree(&machine);
        let which = [&before, &after].iter().position(|t| t.differences(&now).is_empty());
        let Some(which) = which else {
            panic!(
                "cut at {n} of {total}: neither:\n{}\n--\n{}",
                before.differences(&now).join("\n"),
                after.differences(&now).join("\n")
            )
        };
        met[which] += 1;
        if which == 1 && n % 11 == 0 {
            undo(&settings, None).unwrap();
            assert_same("undone", &before, &tree(&machine));
        }
        unmount(&mounted.0);
        std::mem::forget(mounted);
    }
    assert!(met[0] > 20 && met[1] > 20, "both outcomes must be met: {met:?}");
}
