//! Old savepoints that make room for new ones: what stays is whole, the system is as it was, whatever the disk does.

mod support;
#[path = "support/savepoints.rs"]
mod two_releases;

use std::fs;
use std::os::unix::fs::MetadataExt as _;
use std::path::Path;
use std::sync::Arc;

use support::{STATE, assert_same, check, folder, open};
use two_releases::{covered, exactly, kept, later, return_to, savepoint, update, world};
use veritum_core::areas::FILES;
use veritum_core::event::NoObserver;
use veritum_core::report::SavepointReport;
use veritum_core::testkit::{Accident, TestDisk, Tree};
use veritum_core::work::{Engine, Settings, WorkError};
use veritum_demo::world::World;

/// The size of a disk on which savepoints of this machine take too much space, in bytes.
const SMALL: u64 = 16 << 10;
/// A file of a package that only the first savepoint has.
const BOAT: &str = "/usr/share/boat/deep/er/name";

/// A machine with three savepoints: the first is of an earlier release, with a file that is away during the others.
fn machine_with_three(dir: &Path) -> World {
    let world = world(dir);
    savepoint(&later(&world.settings(), 10));
    let away = world.at("/home/mirela/boat");
    fs::rename(world.at(BOAT), &away).unwrap();
    world.upgrade(&update()).unwrap();
    savepoint(&later(&world.settings(), 20));
    fs::write(world.at("/etc/hosts"), "127.0.0.1 counter\n").unwrap();
    savepoint(&later(&world.settings(), 30));
    fs::create_dir_all(world.at(BOAT).parent().unwrap()).unwrap();
    fs::rename(away, world.at(BOAT)).unwrap();
    world
}

/// A savepoint on a small disk with this accident.
fn on_a_small_disk(settings: &Settings, accident: Accident) -> (Result<SavepointReport, WorkError>, Arc<TestDisk>) {
    let disk = Arc::new(TestDisk::new(accident).of_size(SMALL));
    // One thread: the model of a power cut takes operations back in the order in which they were made.
    let engine = Engine::open(Settings { jobs: 1, ..settings.clone() }, disk.clone());
    (engine.and_then(|engine| engine.savepoint("", &NoObserver)), disk)
}

#[test]
fn the_oldest_goes_with_what_only_it_needs_and_a_quick_check_then_reads_nothing() {
    let dir = folder();
    let world = machine_with_three(dir.path());
    let earlier = fs::read(kept(&world, &b"quay 1\n".repeat(900))).unwrap();
    assert_eq!(fs::metadata(world.at(BOAT)).unwrap().nlink(), 2, "the pool has it, too");
    check(&later(&world.settings(), 40));
    let before = covered(&world);
    let (made, _) = on_a_small_disk(&later(&world.settings(), 50), Accident::None);
    let made = made.unwrap();
    assert_eq!((made.savepoint, made.removed), (Some(4), vec![1]));
    assert_same("nothing is altered", &before, &covered(&world));
    assert!(!kept(&world, &earlier).exists());
    // Its name in the pool was removed with the first savepoint; the last one has a copy, as no package owns it now.
    assert_eq!(fs::metadata(world.at(BOAT)).unwrap().nlink(), 1);
    let quick = Settings { quick: true, ..later(&world.settings(), 60) };
    assert_eq!(check(&quick).area(FILES).unwrap().bytes, 0);
    fs::write(world.at("/etc/hosts"), "127.0.0.1 elsewhere\n").unwrap();
    return_to(&open(&later(&world.settings(), 70)), 4, &exactly()).unwrap();
    assert_same("returned", &before, &covered(&world));
}

fn copied(from: &World, to: &Path) -> World {
    let _ = fs::remove_dir_all(to);
    let from = from.machine().parent().unwrap().to_owned();
    assert!(std::process::Command::new("cp").arg("-a").arg(from).arg(to).status().unwrap().success());
    World::at_folder(to)
}

#[test]
fn what_stays_is_whole_whatever_the_disk_does() {
    let (dir, here) = (folder(), folder());
    let original = machine_with_three(dir.path());
    let before: Tree = covered(&original);
    let trial = copied(&original, &here.path().join("counted"));
    let (made, counting) = on_a_small_disk(&later(&trial.settings(), 50), Accident::None);
    assert_eq!(made.unwrap().removed, [1]);
    let total = counting.operations();
    let mut left = [0; 5];
    for n in (0..total).step_by(3) {
        for accident in [Accident::Cut(n), Accident::Stop(n), Accident::Fail(n, 5)] {
            let world = copied(&original, &here.path().join("world"));
            let (_, disk) = on_a_small_disk(&later(&world.settings(), 50), accident);
            assert!(disk.happened(), "{accident:?}");
            drop(disk);
            assert_same(&format!("{accident:?}"), &before, &covered(&world));
            let settings = later(&world.settings(), 60);
            let whole = || {
                let listed = open(&settings).list_savepoints(None, &NoObserver).unwrap();
                let whole = listed.savepoints.iter().all(|s| s.lost == 0 && s.trouble.is_none());
                assert!(whole && !listed.savepoints.is_empty(), "{accident:?}: {listed:#?}");
                listed.savepoints.len()
            };
            left[whole().min(4)] += 1;
            // The next one works, and removes what the accident left.
            on_a_small_disk(&settings, Accident::None).0.unwrap();
            whole();
            let incomplete = pool_names(&world).into_iter().filter(|name| name.ends_with(".new")).count();
            assert_eq!(incomplete, 0, "{accident:?}");
        }
    }
    assert!(left[2] > 0 && left[3] > 0, "{left:?} of {total}");
}

fn pool_names(world: &World) -> Vec<String> {
    let mut all = Vec::new();
    for fan in fs::read_dir(world.at(&format!("/{STATE}/kept/pool"))).unwrap() {
        let files = fs::read_dir(fan.unwrap().path()).unwrap();
        all.extend(files.map(|entry| entry.unwrap().file_name().to_string_lossy().into_owned()));
    }
    all
}

#[test]
fn a_damaged_savepoint_goes_first_once_a_later_one_is_whole() {
    let dir = folder();
    let world = machine_with_three(dir.path());
    let head = |number: u64| world.at(&format!("/{STATE}/savepoints/{number}"));
    let damage = |number: u64| {
        let text = fs::read_to_string(head(number)).unwrap();
        fs::write(head(number), text.replace("made", "mode")).unwrap();
        text
    };
    let earlier = kept(&world, &b"quay 1\n".repeat(900));
    let at = |seconds| later(&world.settings(), seconds);
    let whole = damage(3);
    let (made, _) = on_a_small_disk(&at(40), Accident::None);
    assert!(made.unwrap().removed.is_empty() && earlier.exists(), "the next one may write its parts again");
    fs::write(head(3), whole).unwrap();
    damage(1);
    let report = open(&at(50)).list_savepoints(None, &NoObserver).unwrap();
    assert!(report.savepoints[0].trouble.is_some() && report.savepoints[1].trouble.is_none(), "{report:#?}");
    let (made, _) = on_a_small_disk(&at(50), Accident::None);
    assert_eq!(made.unwrap().removed[0], 1);
    assert!(!earlier.exists(), "only the damaged one needed it");
}

#[test]
fn what_an_interruption_left_stays_while_a_damaged_savepoint_may_need_it() {
    let dir = folder();
    let world = machine_with_three(dir.path());
    let state = world.at(&format!("/{STATE}/savepoints"));
    let (head, mark) = (state.join("1"), state.join("under-way"));
    let text = fs::read_to_string(&head).unwrap();
    let earlier = kept(&world, &b"quay 1\n".repeat(900));
    let at = |seconds| Settings { jobs: 1, ..later(&world.settings(), seconds) };
    fs::write(&mark, "").unwrap();
    fs::write(&head, text.replace("made", "mode")).unwrap();
    savepoint(&at(40));
    assert!(mark.exists() && earlier.exists(), "what the first needs is unknown");
    fs::remove_file(&head).unwrap();
    savepoint(&at(50));
    assert!(!mark.exists() && !earlier.exists(), "only the first needed it");
}
