//! A machine with two releases of its packages, for tests of savepoints.
#![allow(dead_code, reason = "each test file uses a part of it")]

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use veritum_core::event::NoObserver;
use veritum_core::report::{ReturnReport, SavepointReport, StayReason};
use veritum_core::savepoints::ReturnWanted;
use veritum_core::testkit::Tree;
use veritum_core::work::{Agreement, Engine, Settings, WorkError};
use veritum_demo::world::{World, add, add_file, package};
use veritum_demo::{Content, Package};

use super::support::STATE;

/// A moment so much later than now, in seconds, that everything has settled.
pub(crate) fn later(settings: &Settings, seconds: i64) -> Settings {
    let now = jiff::Timestamp::from_second(jiff::Timestamp::now().as_second() + seconds).unwrap();
    Settings { now, ..settings.clone() }
}

/// The earlier release: a program, a library with two names, a setuid helper, a configuration file, a folder that becomes a link.
pub(crate) fn earlier() -> Vec<Package> {
    let mut quay = package("quay", "1.0-1");
    add(&mut quay, "/usr/bin/quay", Content::File(b"quay 1\n".repeat(900)), 0o755);
    add(&mut quay, "/usr/lib/quay/helper", Content::File(b"helper 1\n".to_vec()), 0o4755);
    add_file(&mut quay, "/usr/lib/quay/one", "one file, two names\n");
    add(&mut quay, "/usr/lib/quay/two", Content::Name("/usr/lib/quay/one".into()), 0o644);
    add_file(&mut quay, "/usr/share/quay/old-only", "goes with the update\n");
    add_file(&mut quay, "/usr/share/doc/quay/notes", "notes 1\n");
    settings(&mut quay, "/etc/quay.conf", "colour = grey\n");
    let mut grub = package("grub-demo", "2.0-1");
    add_file(&mut grub, "/usr/lib/grub/i386-pc/boot.img", "boot 1\n");
    let mut boat = package("boat", "1");
    add_file(&mut boat, "/usr/share/boat/deep/er/name", "boat\n");
    vec![quay, grub, boat]
}

/// The later release: the program and the library are others, a file went, a folder became a link, a package went, another came.
pub(crate) fn update() -> Vec<Package> {
    let mut quay = package("quay", "2.0-1");
    add(&mut quay, "/usr/bin/quay", Content::File(b"quay 2 does not start\n".repeat(700)), 0o755);
    add(&mut quay, "/usr/lib/quay/helper", Content::File(b"helper 2\n".to_vec()), 0o4755);
    add_file(&mut quay, "/usr/lib/quay/one", "one file of its own\n");
    add_file(&mut quay, "/usr/lib/quay/two", "another\n");
    add(&mut quay, "/usr/share/doc/quay", Content::Link("../quay".into()), 0o777);
    add_file(&mut quay, "/usr/share/quay/notes", "notes 2\n");
    settings(&mut quay, "/etc/quay.conf", "colour = blue\n");
    let mut grub = package("grub-demo", "2.1-1");
    add_file(&mut grub, "/usr/lib/grub/i386-pc/boot.img", "boot 2\n");
    let mut rig = package("rig", "3");
    add_file(&mut rig, "/usr/share/rig/inner/part", "rig\n");
    settings(&mut rig, "/etc/rig.conf", "sails = 3\n");
    vec![quay, grub, rig]
}

/// Adds a configuration file.
fn settings(package: &mut Package, path: &str, text: &str) {
    add_file(package, path, text);
    package.items.last_mut().unwrap().settings = true;
}

pub(crate) fn world(folder: &Path) -> World {
    let world = World::new(&folder.join("world"), &earlier());
    fs::create_dir_all(world.at("/boot/grub")).unwrap();
    fs::create_dir_all(world.at("/home/mirela")).unwrap();
    fs::create_dir_all(world.at("/etc/ssh")).unwrap();
    fs::write(world.at("/etc/hosts"), "127.0.0.1 localhost\n").unwrap();
    fs::write(world.at("/boot/grub/grub.cfg"), "menu 1\n").unwrap();
    fs::create_dir(world.at(STATE)).unwrap();
    world
}

/// What a savepoint covers, by an independent reading.
pub(crate) fn covered(world: &World) -> Tree {
    Tree::read(&world.machine(), &[STATE, "home", "var/log"])
}

pub(crate) fn savepoint(settings: &Settings) -> SavepointReport {
    super::open(settings).savepoint("test", &NoObserver).unwrap()
}

pub(crate) fn return_to(engine: &Engine, number: u64, wanted: &ReturnWanted) -> Result<ReturnReport, WorkError> {
    engine.return_to(number, wanted, false, &NoObserver, &mut |_| Agreement::Yes)
}

pub(crate) fn exactly() -> ReturnWanted {
    ReturnWanted { exact: true, config: true, accounts: true, ..ReturnWanted::default() }
}

/// The pool's file of a content.
pub(crate) fn kept(world: &World, content: &[u8]) -> PathBuf {
    let hex = veritum_core::model::Digest::hash(content).to_hex();
    world.at(&format!("/{STATE}/kept/pool/{}/{}", &hex[..2], &hex[2..]))
}

/// A machine with a savepoint that was updated since, and the trees before and after the update.
pub(crate) fn updated(dir: &Path) -> (World, Settings, Tree, Tree) {
    let world = world(dir);
    let before = covered(&world);
    savepoint(&later(&world.settings(), 10));
    world.upgrade(&update()).unwrap();
    let after = covered(&world);
    let settings = later(&world.settings(), 20);
    (world, settings, before, after)
}

pub(crate) fn returned(settings: &Settings, wanted: &ReturnWanted) -> ReturnReport {
    return_to(&super::open(settings), 1, wanted).unwrap()
}

/// What stays, with the reasons.
pub(crate) fn staying(report: &ReturnReport) -> BTreeMap<String, StayReason> {
    report.staying.iter().map(|place| (place.path.to_string(), place.reason)).collect()
}
