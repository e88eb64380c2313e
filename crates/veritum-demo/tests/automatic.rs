//! Savepoints that apt makes: switching them on and off, when one is made, and when not.

#[path = "support/holder.rs"]
mod holder;
mod support;
#[path = "support/savepoints.rs"]
mod two_releases;

use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;
use std::sync::Arc;

use holder::{Worker, hold};
use support::{STATE, assert_same, folder, open, undo};
use two_releases::{covered, later, savepoint, world};
use veritum_core::event::NoObserver;
use veritum_core::report::SavepointReport;
use veritum_core::testkit::{Accident, TestDisk};
use veritum_core::work::{Engine, Settings, Switched};

const HOOK: &str = "/etc/apt/apt.conf.d/05veritum-savepoint";

fn switch(settings: &Settings, on: bool, program: &Path) -> Switched {
    open(settings).switch_automatic(on, program, &NoObserver).unwrap()
}

fn before_packages(settings: &Settings) -> SavepointReport {
    open(settings).savepoint_before_packages(&["quay".into()], &NoObserver)
}

/// Not a test: the process that stands for apt in the others.
#[test]
#[ignore = "started by other tests"]
fn package_tool() {
    hold();
}

#[test]
fn the_hook_is_one_undoable_change_with_its_folder() {
    let dir = folder();
    let world = world(dir.path());
    let settings = later(&world.settings(), 10);
    fs::create_dir_all(world.at("/etc/apt")).unwrap();
    let program = dir.path().join("stick");
    fs::write(&program, "the program").unwrap();
    let before = covered(&world);
    assert_eq!(switch(&settings, true, &program), Switched::Now(1));
    let text = fs::read_to_string(world.at(HOOK)).unwrap();
    assert!(text.contains("/var/lib/veritum/bin/veritum savepoint --before-packages"), "{text}");
    let copy = world.at(&format!("/{STATE}/bin/veritum"));
    assert_eq!(fs::read(&copy).unwrap(), b"the program", "a stick will not be there");
    assert_eq!(fs::metadata(&copy).unwrap().permissions().mode() & 0o777, 0o700);
    assert_eq!(fs::metadata(world.at(HOOK)).unwrap().permissions().mode() & 0o7777, 0o644);
    assert!(open(&settings).is_automatic());
    assert_eq!(switch(&settings, true, &program), Switched::Already);
    undo(&settings, Some(1)).unwrap();
    assert_same("undone", &before.without_folder_times(), &covered(&world).without_folder_times());
    undo(&settings, Some(2)).unwrap();
    assert_eq!(switch(&settings, false, &program), Switched::Now(4));
    assert!(!open(&settings).is_automatic() && switch(&settings, false, &program) == Switched::Already);
    undo(&settings, Some(4)).unwrap();
    assert_eq!(fs::read_to_string(world.at(HOOK)).unwrap(), text);
}

#[test]
fn an_installed_program_is_run_where_it_is() {
    let dir = folder();
    let world = world(dir.path());
    fs::create_dir_all(world.at("/etc/apt/apt.conf.d")).unwrap();
    let program = world.at("/usr/bin/veritum");
    fs::write(&program, "the program").unwrap();
    switch(&later(&world.settings(), 10), true, &program);
    let text = fs::read_to_string(world.at(HOOK)).unwrap();
    assert!(text.contains("if [ -x /usr/bin/veritum ]") && !world.at(&format!("/{STATE}/bin")).exists(), "{text}");
}

#[test]
fn all_runs_of_one_update_make_one_savepoint() {
    let dir = folder();
    let world = world(dir.path());
    let lock = world.at("/var/lib/dpkg/lock-frontend");
    fs::write(&lock, "").unwrap();
    let settings = later(&world.settings(), 10);
    let first = Worker::start("package_tool", std::slice::from_ref(&lock));
    let made = before_packages(&settings);
    assert_eq!((made.savepoint, made.why_not.as_deref()), (Some(1), None));
    assert!(made.reason.starts_with("before "), "{}", made.reason);
    let again = before_packages(&settings);
    assert_eq!((again.savepoint, again.why_not.as_deref()), (Some(1), Some("this update has one")));
    drop(first);
    // A later run has another process; processes are told apart by their start, too.
    std::thread::sleep(std::time::Duration::from_millis(1100));
    let _second = Worker::start("package_tool", &[lock]);
    assert_eq!(before_packages(&settings).savepoint, Some(2));
}

#[test]
fn none_is_made_while_an_installation_is_half_way_or_within_a_change() {
    let dir = folder();
    let world = world(dir.path());
    let settings = later(&world.settings(), 10);
    let why = || before_packages(&settings).why_not.unwrap_or_default();
    let status = world.at("/var/lib/dpkg/status");
    let whole = fs::read_to_string(&status).unwrap();
    fs::write(&status, whole.replacen("install ok installed", "install ok half-configured", 1)).unwrap();
    assert!(why().starts_with("an installation is half-way"), "{}", why());
    assert_eq!(savepoint(&settings).half_installed.len(), 1, "by hand it is made, and named");
    fs::write(&status, whole).unwrap();
    assert!(savepoint(&settings).half_installed.is_empty());
    fs::create_dir_all(world.at("/var/lib/dpkg/updates")).unwrap();
    fs::write(world.at("/var/lib/dpkg/updates/0001"), "").unwrap();
    assert!(why().starts_with("an installation is half-way"), "{}", why());
    fs::remove_file(world.at("/var/lib/dpkg/updates/0001")).unwrap();
    let held = veritum_core::machine::lock_exclusive(
        &veritum_core::machine::Dir::handed_over(
            Arc::new(veritum_core::machine::LiveDisk),
            fs::File::open(world.at(&format!("/{STATE}"))).unwrap().into(),
        ),
        b"lock",
    )
    .unwrap();
    assert_eq!(why(), "a change of Veritum is in progress");
    drop(held);
    assert_eq!(why(), "");
}

/// A size of disks, in bytes.
const DISK: u64 = 8 << 30;

#[test]
fn none_is_made_where_the_update_would_lack_the_space_and_old_ones_go_first() {
    let dir = folder();
    let world = world(dir.path());
    savepoint(&later(&world.settings(), 10));
    let settings = later(&world.settings(), 20);
    let before = |missing: u64| {
        let disk = TestDisk::new(Accident::None).of_size(DISK).with_free(DISK / 20 - missing);
        let engine = Engine::open(settings.clone(), Arc::new(disk)).unwrap();
        engine.savepoint_before_packages(&["quay".into()], &NoObserver)
    };
    let left = || -> Vec<std::ffi::OsString> {
        let names = fs::read_dir(world.at(&format!("/{STATE}/savepoints"))).unwrap();
        names.map(|entry| entry.unwrap().file_name()).filter(|name| name != "parts").collect()
    };
    assert!(before(100 << 20).why_not.is_some_and(|why| why.contains("more free space")));
    assert_eq!(left(), ["1"], "what it takes is nothing compared with what is missing");
    assert!(before(4096).why_not.is_some_and(|why| why.contains("more free space")));
    assert!(left().is_empty(), "the old one went, and nothing is left behind");
}
