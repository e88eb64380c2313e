//! Savepoints: what they cover and cost, that they alter nothing, and that what they keep is whole.

#[path = "support/mounts.rs"]
mod mounts;
mod support;
#[path = "support/savepoints.rs"]
mod two_releases;

use std::fs;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _, symlink};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use support::{STATE, assert_same, check, folder, open};
use two_releases::{covered, earlier, kept, later, savepoint, update, world};
use veritum_core::areas::FILES;
use veritum_core::event::{Event, Flow, NoObserver, Observer};
use veritum_core::machine::LiveDisk;
use veritum_core::testkit::{Accident, Lack, TestDisk};
use veritum_core::work::{Engine, Settings, WorkError};
use veritum_demo::world::World;

fn pool_files(world: &World) -> Vec<PathBuf> {
    let mut all = Vec::new();
    for fan in fs::read_dir(world.at(&format!("/{STATE}/kept/pool"))).into_iter().flatten() {
        all.extend(fs::read_dir(fan.unwrap().path()).unwrap().map(|entry| entry.unwrap().path()));
    }
    all.sort();
    all
}

#[test]
fn plain_files_of_packages_get_a_second_name_and_what_is_changed_in_place_a_private_copy() {
    let dir = folder();
    let world = world(dir.path());
    let before = covered(&world);
    let report = savepoint(&later(&world.settings(), 10));
    assert_eq!((report.savepoint, report.missing.len()), (Some(1), 0));
    assert_same("nothing is altered", &before, &covered(&world));
    let program = fs::metadata(world.at("/usr/bin/quay")).unwrap();
    let second = fs::metadata(kept(&world, &fs::read(world.at("/usr/bin/quay")).unwrap())).unwrap();
    assert_eq!((program.ino(), program.nlink()), (second.ino(), 2));
    for path in ["/usr/lib/quay/helper", "/etc/quay.conf", "/etc/hosts", "/boot/grub/grub.cfg"] {
        let copy = fs::metadata(kept(&world, &fs::read(world.at(path)).unwrap())).unwrap();
        assert_ne!(copy.ino(), fs::metadata(world.at(path)).unwrap().ino(), "{path}");
        assert_eq!(copy.permissions().mode() & 0o7777, 0o600, "{path}");
    }
    let pool = fs::metadata(world.at(&format!("/{STATE}/kept/pool"))).unwrap();
    assert_eq!(pool.permissions().mode() & 0o7777, 0o700);
    // Nothing of homes, and nothing of the boot loader's own.
    let kept: Vec<Vec<u8>> = pool_files(&world).iter().map(|path| fs::read(path).unwrap()).collect();
    assert!(!kept.contains(&b"private\n".to_vec()));
}

#[test]
fn a_second_savepoint_of_the_same_state_reads_and_adds_nothing() {
    let dir = folder();
    let world = world(dir.path());
    savepoint(&later(&world.settings(), 10));
    let files = pool_files(&world);
    let parts = || fs::read_dir(world.at(&format!("/{STATE}/savepoints/parts"))).unwrap().count();
    let before = parts();
    let report = savepoint(&later(&world.settings(), 20));
    assert_eq!((report.savepoint, report.added, report.copied_bytes), (Some(2), 0, 0));
    assert_eq!((pool_files(&world), parts()), (files, before));
}

#[test]
fn a_quick_check_after_a_savepoint_reads_nothing() {
    let dir = folder();
    let world = world(dir.path());
    check(&later(&world.settings(), 10));
    let quick = Settings { quick: true, ..later(&world.settings(), 20) };
    let bytes = |report: &veritum_core::report::CheckReport| report.area(FILES).unwrap().bytes;
    assert_eq!(bytes(&check(&quick)), 0);
    savepoint(&later(&world.settings(), 20));
    let report = check(&quick);
    assert_eq!(bytes(&report), 0, "the second names changed no more than the change times, and these are recorded");
    assert!(report.area(FILES).unwrap().extent.as_ref().unwrap().contains("nothing has changed"), "{report:#?}");
}

#[test]
fn what_the_update_replaces_lives_on_and_what_is_new_is_added() {
    let dir = folder();
    let world = world(dir.path());
    savepoint(&later(&world.settings(), 10));
    let program = fs::read(world.at("/usr/bin/quay")).unwrap();
    world.upgrade(&update()).unwrap();
    assert_eq!(fs::read(kept(&world, &program)).unwrap(), program);
    let settings = later(&world.settings(), 20);
    assert!(savepoint(&settings).added > 3);
    let listed = open(&settings).list_savepoints(None, &NoObserver).unwrap();
    let told: Vec<String> = listed.savepoints[0]
        .packages
        .iter()
        .map(|c| format!("{} {:?} {:?}", c.package, c.from.as_deref(), c.to.as_deref()))
        .collect();
    assert_eq!(
        told,
        [
            r#"boat Some("1") None"#,
            r#"grub-demo Some("2.0-1") Some("2.1-1")"#,
            r#"quay Some("1.0-1") Some("2.0-1")"#,
            r#"rig None Some("3")"#
        ]
    );
    let [first, second] = listed.savepoints.as_slice() else { panic!("{listed:#?}") };
    assert_eq!((first.config_files, first.lost, second.packages.len()), (2, 0, 0));
    assert!(first.own_bytes > program.len() as u64 && listed.bytes >= first.own_bytes);
}

#[test]
fn the_last_savepoint_counts_configuration_files_that_differ_are_gone_or_new() {
    let dir = folder();
    let world = world(dir.path());
    savepoint(&later(&world.settings(), 10));
    let settings = later(&world.settings(), 20);
    let count = || open(&settings).list_savepoints(None, &NoObserver).unwrap().savepoints[0].config_files;
    let hosts = fs::read(world.at("/etc/hosts")).unwrap();
    fs::remove_file(world.at("/etc/hosts")).unwrap();
    assert_eq!(count(), 1);
    // The same content with another time is not a change.
    fs::write(world.at("/etc/hosts"), hosts).unwrap();
    assert_eq!(count(), 0);
    fs::write(world.at("/etc/hosts"), "127.0.0.1 LOCALHOST\n").unwrap();
    fs::write(world.at("/etc/printer"), "new\n").unwrap();
    assert_eq!(count(), 2);
}

#[test]
fn a_file_altered_in_place_is_no_longer_kept_and_comes_back_with_its_content() {
    let dir = folder();
    let world = world(dir.path());
    savepoint(&later(&world.settings(), 10));
    let path = world.at("/usr/bin/quay");
    let content = fs::read(&path).unwrap();
    fs::write(&path, "edited in place").unwrap();
    let settings = later(&world.settings(), 20);
    let lost = || open(&settings).list_savepoints(None, &NoObserver).unwrap().savepoints[0].lost;
    assert_eq!(lost(), 1);
    // The content comes back, as a repair or a package would bring it: the next savepoint keeps that.
    fs::write(path.with_extension("new"), &content).unwrap();
    fs::set_permissions(path.with_extension("new"), fs::Permissions::from_mode(0o755)).unwrap();
    fs::rename(path.with_extension("new"), &path).unwrap();
    savepoint(&later(&world.settings(), 30));
    assert_eq!(lost(), 0);
    assert_eq!(fs::read(kept(&world, &content)).unwrap(), content);
}

#[test]
fn what_a_repair_restores_takes_the_place_of_what_was_damaged_in_the_pool() {
    let dir = folder();
    let world = world(dir.path());
    savepoint(&later(&world.settings(), 10));
    let path = world.at("/usr/bin/quay");
    let content = fs::read(&path).unwrap();
    fs::write(&path, "edited in place").unwrap();
    let settings = later(&world.settings(), 20);
    support::repair(&settings);
    assert_eq!(fs::read(&path).unwrap(), content);
    assert_eq!(fs::read(kept(&world, &content)).unwrap(), content);
    assert_eq!(open(&settings).list_savepoints(None, &NoObserver).unwrap().savepoints[0].lost, 0);
}

#[test]
fn another_file_system_has_a_pool_of_its_own() {
    let dir = folder();
    let world = world(dir.path());
    if !mounts::root_or_skip("a file system for /boot") {
        return;
    }
    fs::write(world.at("/etc/fstab"), "UUID=1 / ext4 rw 0 1\nUUID=2 /boot tmpfs rw 0 2\n").unwrap();
    let _boot = mounts::Mounted::new(&world.at("/boot"), &["-t", "tmpfs", "-o", "size=4M,mode=755", "boot"]);
    fs::write(world.at("/boot/config-6"), "kernel 6\n").unwrap();
    let before = covered(&world);
    savepoint(&later(&world.settings(), 10));
    let top = world.at("/boot/.veritum-kept");
    assert_eq!(fs::metadata(&top).unwrap().permissions().mode() & 0o7777, 0o700);
    assert_eq!(fs::read_dir(top.join("pool")).unwrap().count(), 1);
    fs::remove_file(world.at("/boot/config-6")).unwrap();
    let settings = later(&world.settings(), 20);
    assert_eq!(savepoint(&settings).savepoint, Some(2), "the pool itself is no part of the system");
    let report = two_releases::return_to(&open(&settings), 1, &two_releases::exactly()).unwrap();
    assert_eq!(report.change, Some(1));
    let mut after = covered(&world);
    after.0.retain(|path, _| !path.starts_with(b"boot/.veritum-kept"));
    assert_same("returned", &before, &after);
}

#[test]
fn where_no_private_folder_can_be_made_contents_are_copied_to_the_state_folder() {
    let dir = folder();
    let world = world(dir.path());
    if !mounts::root_or_skip("a file system for /boot") {
        return;
    }
    fs::write(world.at("/etc/fstab"), "UUID=1 / ext4 rw 0 1\nUUID=2 /boot tmpfs rw 0 2\n").unwrap();
    let _boot = mounts::Mounted::new(&world.at("/boot"), &["-t", "tmpfs", "-o", "size=4M,mode=755", "boot"]);
    fs::write(world.at("/boot/config-6"), "kernel 6\n").unwrap();
    // As on a file system without permissions: the folder is there and everyone can read it.
    fs::create_dir(world.at("/boot/.veritum-kept")).unwrap();
    fs::set_permissions(world.at("/boot/.veritum-kept"), fs::Permissions::from_mode(0o755)).unwrap();
    assert_eq!(savepoint(&later(&world.settings(), 10)).savepoint, Some(1));
    assert_eq!(fs::read(kept(&world, b"kernel 6\n")).unwrap(), b"kernel 6\n");
    assert_eq!(fs::read_dir(world.at("/boot/.veritum-kept")).unwrap().count(), 0);
}

/// On file systems that share blocks nothing is linked, and subvolumes are file systems of their own.
#[test]
fn where_files_can_be_cloned_they_are() {
    for (make, subvolume) in [(&["mkfs.xfs", "-q", "-m", "reflink=1"][..], false), (&["mkfs.btrfs", "-q"], true)] {
        let dir = tempfile::tempdir().unwrap();
        if !mounts::root_or_skip("a file system that clones files") {
            return;
        }
        if !Path::new("/usr/sbin").join(make[0]).exists() && !Path::new("/sbin").join(make[0]).exists() {
            println!("SKIPPED: {} is not installed", make[0]);
            continue;
        }
        let image = dir.path().join("image");
        fs::File::create(&image).unwrap().set_len(400 << 20).unwrap();
        mounts::run(make[0], &[&make[1..], &[image.to_str().unwrap()]].concat());
        let words = ["-o", "loop", image.to_str().unwrap()];
        let Some(_disk) = mounts::Mounted::try_new(&dir.path().join("world"), &words) else {
            println!("SKIPPED: {} cannot be mounted here", make[0]);
            continue;
        };
        if subvolume {
            mounts::run("btrfs", &["-q", "subvolume", "create", dir.path().join("world/machine").to_str().unwrap()]);
            mounts::run(
                "btrfs",
                &["-q", "subvolume", "create", dir.path().join("world/machine/usr").to_str().unwrap()],
            );
        }
        let world = world(dir.path());
        let before = covered(&world);
        savepoint(&later(&world.settings(), 10));
        assert_eq!(fs::metadata(world.at("/usr/bin/quay")).unwrap().nlink(), 1, "{}", make[0]);
        world.upgrade(&update()).unwrap();
        let settings = later(&world.settings(), 20);
        let report = two_releases::return_to(&open(&settings), 1, &two_releases::exactly()).unwrap();
        assert!(report.change.is_some() && report.lost.is_empty(), "{}: {report:#?}", make[0]);
        let own = |tree: veritum_core::testkit::Tree| {
            let mut tree = tree;
            tree.0.retain(|path, _| {
                let text = String::from_utf8_lossy(path);
                !text.contains(".veritum-kept") && !text.contains("grub") && !text.ends_with("dpkg/status")
            });
            tree
        };
        // Two subvolumes have the same inode numbers.
        assert_same(make[0], &own(before).apart(), &own(covered(&world)).apart());
    }
}

#[test]
fn a_damaged_or_replaced_entry_of_the_pool_is_noticed_and_renewed() {
    let dir = folder();
    let world = world(dir.path());
    savepoint(&later(&world.settings(), 10));
    let content = fs::read(world.at("/etc/hosts")).unwrap();
    let place = kept(&world, &content);
    type Spoil = fn(&Path);
    let spoil: [(&str, Spoil); 3] = [
        ("altered", |place| fs::write(place, "127.0.0.2 localhost\n").unwrap()),
        ("a link", |place| {
            fs::remove_file(place).unwrap();
            symlink("/etc/passwd", place).unwrap();
        }),
        ("gone", |place| fs::remove_file(place).unwrap()),
    ];
    for (at, (what, spoil)) in (2..).zip(spoil) {
        spoil(&place);
        let settings = later(&world.settings(), at * 10);
        let listed = open(&settings).list_savepoints(None, &NoObserver).unwrap();
        assert_eq!(listed.savepoints[0].lost, 1, "{what}");
        savepoint(&settings);
        assert_eq!(fs::symlink_metadata(&place).unwrap().permissions().mode() & 0o7777, 0o600, "{what}");
        assert_eq!(fs::read(&place).unwrap(), content, "{what}");
        assert_eq!(open(&settings).list_savepoints(None, &NoObserver).unwrap().savepoints[0].lost, 0, "{what}");
    }
}

#[test]
fn a_pool_that_was_opened_to_others_is_private_again() {
    let dir = folder();
    let world = world(dir.path());
    savepoint(&later(&world.settings(), 10));
    let pool = world.at(&format!("/{STATE}/kept/pool"));
    let hosts = kept(&world, &fs::read(world.at("/etc/hosts")).unwrap());
    fs::set_permissions(&pool, fs::Permissions::from_mode(0o755)).unwrap();
    fs::set_permissions(&hosts, fs::Permissions::from_mode(0o644)).unwrap();
    let settings = later(&world.settings(), 20);
    savepoint(&settings);
    assert_eq!(fs::metadata(&pool).unwrap().permissions().mode() & 0o7777, 0o700);
    // Permissions come from the savepoint, not from the pool.
    fs::set_permissions(world.at("/etc/hosts"), fs::Permissions::from_mode(0o600)).unwrap();
    two_releases::return_to(&open(&settings), 1, &two_releases::exactly()).unwrap();
    assert_eq!(fs::metadata(world.at("/etc/hosts")).unwrap().permissions().mode() & 0o7777, 0o644);
    assert_eq!(open(&settings).list_savepoints(None, &NoObserver).unwrap().savepoints[0].lost, 0);
}

#[test]
fn where_files_can_have_no_second_name_they_are_copied() {
    let dir = folder();
    let world = world(dir.path());
    let disk = Arc::new(TestDisk::lacking(Lack::Names, Accident::None));
    let engine = Engine::open(later(&world.settings(), 10), disk).unwrap();
    let report = engine.savepoint("", &NoObserver).unwrap();
    assert!(report.savepoint == Some(1) && report.copied_bytes > 6000);
    assert_eq!(fs::metadata(world.at("/usr/bin/quay")).unwrap().nlink(), 1);
}

/// After any accident a savepoint is there as a whole or not at all, the machine is as it was, and the next one can be made.
#[test]
fn a_savepoint_is_whole_or_not_at_all_whatever_the_disk_does() {
    let dir = folder();
    let first = world(dir.path());
    let (mut made, mut not) = (0, 0);
    let counting = Arc::new(TestDisk::new(Accident::None));
    let copy = |to: &Path| {
        let from = dir.path().join("world");
        assert!(std::process::Command::new("cp").arg("-a").arg(from).arg(to).status().unwrap().success());
        World::at_folder(to)
    };
    let here = folder();
    let trial = copy(&here.path().join("counted"));
    Engine::open(Settings { jobs: 1, ..trial.settings() }, counting.clone())
        .unwrap()
        .savepoint("", &NoObserver)
        .unwrap();
    let total = counting.operations();
    assert!(total > 60, "only {total} operations");
    let before = covered(&first);
    // Only the last operations come after the head has its name.
    for n in (0..total).step_by(5).chain(total - 3..total) {
        for accident in [Accident::Cut(n), Accident::Stop(n), Accident::Fail(n, 28), Accident::Fail(n, 5)] {
            let place = here.path().join("world");
            let _ = fs::remove_dir_all(&place);
            let world = copy(&place);
            let disk = Arc::new(TestDisk::new(accident));
            // One thread: the model of a power cut takes operations back in the order in which they were made.
            let done = Engine::open(Settings { jobs: 1, ..world.settings() }, disk.clone())
                .and_then(|engine| engine.savepoint("", &NoObserver));
            assert!(disk.happened(), "{accident:?}");
            drop(disk);
            assert_same(&format!("{accident:?}"), &before, &covered(&world));
            let settings = later(&world.settings(), 10);
            let listed = open(&settings).list_savepoints(None, &NoObserver).unwrap();
            if done.is_ok() {
                assert_eq!(listed.savepoints.len(), 1, "{accident:?}");
            }
            made += listed.savepoints.len();
            not += usize::from(listed.savepoints.is_empty());
            assert!(listed.savepoints.iter().all(|s| s.lost == 0 && s.trouble.is_none()), "{accident:?}: {listed:#?}");
            savepoint(&settings);
            let after = open(&settings).list_savepoints(None, &NoObserver).unwrap();
            assert!(after.savepoints.iter().all(|s| s.lost == 0 && s.trouble.is_none()), "{accident:?}: {after:#?}");
        }
    }
    assert!(made > 0 && not > 50, "{made} made, {not} not");
}

/// Stops the work after so many events.
struct StopAfter(std::sync::atomic::AtomicUsize);

impl Observer for StopAfter {
    fn on_event(&self, _: Event<'_>) -> Flow {
        let left =
            self.0.fetch_update(std::sync::atomic::Ordering::Relaxed, std::sync::atomic::Ordering::Relaxed, |n| {
                n.checked_sub(1)
            });
        if left.is_ok() { Flow::Continue } else { Flow::Stop }
    }
}

#[test]
fn an_interrupted_savepoint_is_none_and_two_at_once_are_refused() {
    let dir = folder();
    let world = world(dir.path());
    let engine = open(&world.settings());
    for events in [0, 3, 12] {
        let made = engine.savepoint("", &StopAfter(events.into()));
        assert!(made.is_err(), "{events}");
        assert!(engine.list_savepoints(None, &NoObserver).unwrap().savepoints.is_empty());
    }
    let lock = fs::File::open(world.at(&format!("/{STATE}/lock"))).unwrap();
    let held = veritum_core::machine::lock_exclusive(
        &veritum_core::machine::Dir::handed_over(
            Arc::new(LiveDisk),
            std::os::fd::OwnedFd::from(fs::File::open(world.at(&format!("/{STATE}"))).unwrap()),
        ),
        b"lock",
    );
    drop(lock);
    let _held = held.unwrap();
    assert!(matches!(
        engine.savepoint("", &NoObserver),
        Err(WorkError::Change(veritum_core::change::ChangeError::Busy))
    ));
}

#[test]
fn a_damaged_savepoint_is_told_and_the_others_are_listed() {
    let dir = folder();
    let world = world(dir.path());
    savepoint(&later(&world.settings(), 10));
    savepoint(&later(&world.settings(), 20));
    let head = world.at(&format!("/{STATE}/savepoints/1"));
    let text = fs::read_to_string(&head).unwrap();
    let settings = later(&world.settings(), 30);
    for spoiled in
        [text.replace("\"test\"", "\"tost\""), String::new(), "{}".into(), text.replace("savepoint/1", "savepoint/2")]
    {
        fs::write(&head, spoiled).unwrap();
        let listed = open(&settings).list_savepoints(None, &NoObserver).unwrap();
        assert!(listed.savepoints[0].trouble.is_some() && listed.savepoints[1].trouble.is_none(), "{listed:#?}");
    }
    fs::write(&head, text).unwrap();
    let parts = world.at(&format!("/{STATE}/savepoints/parts"));
    let part = fs::read_dir(&parts).unwrap().next().unwrap().unwrap().path();
    let bytes = fs::read(&part).unwrap();
    fs::write(&part, &bytes[..bytes.len() / 2]).unwrap();
    let listed = open(&settings).list_savepoints(None, &NoObserver).unwrap();
    assert!(listed.savepoints.iter().all(|line| line.trouble.is_some()), "both have it: {listed:#?}");
    savepoint(&settings);
    let listed = open(&settings).list_savepoints(None, &NoObserver).unwrap();
    assert!(listed.savepoints.iter().all(|line| line.trouble.is_none()), "the next one writes it again: {listed:#?}");
    let _ = earlier;
}
