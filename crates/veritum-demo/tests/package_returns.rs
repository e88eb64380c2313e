//! Returning single packages, and what a return says of packages: diversions, places that are not covered, the package log.

mod support;
#[path = "support/savepoints.rs"]
mod two_releases;

use std::fs::{self, Permissions};
use std::os::unix::fs::PermissionsExt as _;

use support::{STATE, assert_same, folder, open, undo};
use two_releases::{covered, later, return_to, returned, savepoint, updated};
use veritum_core::report::{ReturnReport, StayReason};
use veritum_core::savepoints::{ReturnWanted, SavepointError};
use veritum_core::testkit::Tree;
use veritum_core::work::{Settings, WorkError};
use veritum_demo::world::{World, add, add_file, package};
use veritum_demo::{Content, Package};

#[test]
fn one_package_returns_with_its_diversions_and_those_of_others_stay() {
    let dir = folder();
    let (world, settings, ..) = updated(dir.path());
    // rig came with the update, and put files of its own in the places of others: one is unchanged, one changed since.
    let record = world.at("/var/lib/dpkg/diversions");
    let other = "/usr/share/x\n/usr/share/x.own\n:\n";
    let divert = |place: &str| {
        fs::rename(world.at(place), world.at(&format!("{place}.real"))).unwrap();
        fs::write(world.at(place), "a wrapper\n").unwrap();
        fs::write(&record, format!("{place}\n{place}.real\nrig\n{other}")).unwrap();
    };
    divert("/etc/hosts");
    let after = covered(&world);
    let only = |name: &str| ReturnWanted { packages: vec![name.into()], ..ReturnWanted::default() };
    returned(&settings, &only("boat"));
    assert!(fs::read_to_string(&record).unwrap().contains("rig"), "not in question");
    undo(&settings, None).unwrap();
    let report = returned(&settings, &ReturnWanted { config: true, ..only("rig") });
    assert_eq!(fs::read_to_string(&record).unwrap(), other, "{report:#?}");
    assert_eq!(fs::read(world.at("/etc/hosts")).unwrap(), b"127.0.0.1 localhost\n");
    assert!(!world.at("/etc/hosts.real").exists() && !world.at("/usr/share/rig").exists());
    undo(&settings, None).unwrap();
    assert_same("undone", &after, &covered(&world));
    divert("/usr/bin/quay");
    let refused = return_to(&open(&settings), 1, &only("rig"));
    assert!(matches!(refused, Err(WorkError::Savepoint(SavepointError::Diverted { .. }))), "{refused:#?}");
    let both = ReturnWanted { packages: vec!["rig".into(), "quay".into()], ..ReturnWanted::default() };
    returned(&settings, &both);
    assert!(fs::read(world.at("/usr/bin/quay")).unwrap().starts_with(b"quay 1"));
    assert!(!world.at("/usr/bin/quay.real").exists());
}

#[test]
fn one_package_returns_alone() {
    let dir = folder();
    let (world, settings, _, after) = updated(dir.path());
    let wanted = ReturnWanted { packages: vec!["quay".into()], ..ReturnWanted::default() };
    let report = returned(&settings, &wanted);
    assert!(fs::read(world.at("/usr/bin/quay")).unwrap().starts_with(b"quay 1"));
    assert!(world.at("/usr/share/rig/inner/part").exists() && !world.at("/usr/share/boat").exists());
    let status = fs::read_to_string(world.at("/var/lib/dpkg/status")).unwrap();
    let versions: Vec<&str> = status.lines().filter(|l| l.starts_with("Version: ")).collect();
    assert_eq!(versions, ["Version: 1.0-1", "Version: 2.1-1", "Version: 3"]);
    assert_eq!(report.packages.len(), 1);
    undo(&settings, None).unwrap();
    assert_same("undone", &after, &covered(&world));
    let unknown = ReturnWanted { packages: vec!["quoy".into()], ..ReturnWanted::default() };
    assert!(matches!(return_to(&open(&settings), 1, &unknown), Err(WorkError::Unknown { what: "package", .. })));
}

#[test]
fn a_diversion_made_since_goes_with_its_file() {
    let dir = folder();
    let (world, settings, ..) = updated(dir.path());
    fs::rename(world.at("/usr/bin/quay"), world.at("/usr/bin/quay.real")).unwrap();
    fs::write(world.at("/usr/bin/quay"), "a wrapper\n").unwrap();
    fs::write(world.at("/var/lib/dpkg/diversions"), "/usr/bin/quay\n/usr/bin/quay.real\nrig\n").unwrap();
    let after = covered(&world);
    let report = returned(&settings, &ReturnWanted::default());
    assert!(fs::read(world.at("/usr/bin/quay")).unwrap().starts_with(b"quay 1"));
    assert!(!world.at("/usr/bin/quay.real").exists() && !world.at("/var/lib/dpkg/diversions").exists(), "{report:#?}");
    undo(&settings, None).unwrap();
    assert_same("undone", &after, &covered(&world));
}

#[test]
fn a_check_afterwards_takes_the_package_log_for_what_it_is() {
    let dir = folder();
    let (world, settings, ..) = updated(dir.path());
    fs::create_dir_all(world.at("/var/log")).unwrap();
    let log = |time: &str, line: &str| format!("{time} {line}\n");
    let old = "2020-01-01 10:00:00";
    let updates = ["upgrade quay:amd64 1.0-1 2.0-1", "install rig:amd64 <none> 3"].map(|line| log(old, line)).concat();
    fs::write(world.at("/var/log/dpkg.log"), &updates).unwrap();
    // The store has the later release only, as a vendor's does.
    returned(&settings, &ReturnWanted::default());
    let alone = Settings { store: None, ..later(&settings, 60) };
    let report = support::check(&alone);
    assert!(report.findings.is_empty(), "{:#?}", report.findings);
    // A later line counts again.
    let after = log("2099-01-01 10:00:00", "install rig:amd64 <none> 3");
    fs::write(world.at("/var/log/dpkg.log"), updates + &after).unwrap();
    assert!(!support::check(&alone).findings.is_empty());
}

fn named(report: &ReturnReport) -> Vec<(String, StayReason)> {
    report.staying.iter().map(|place| (place.path.to_string(), place.reason)).collect()
}

#[test]
fn folders_for_data_come_back_with_their_package_and_those_elsewhere_are_named() {
    let dir = folder();
    let (mut boat, quay) = (package("boat", "1"), package("quay", "1"));
    for place in ["/var/lib/boat", "/var/lib/boat/deep", "/var/spool/stays", "/srv/boat", "/srv/boat/deep"] {
        add(&mut boat, place, Content::Folder, 0o755);
    }
    add_file(&mut boat, "/var/lib/boat/deep/shipped", "1");
    let world = World::new(&dir.path().join("world"), &[boat, quay.clone()]);
    fs::create_dir(world.at(STATE)).unwrap();
    fs::set_permissions(world.at("/var/lib/boat/deep"), Permissions::from_mode(0o2750)).unwrap();
    let boat_before = Tree::read(&world.at("/var/lib/boat"), &[]);
    savepoint(&later(&world.settings(), 10));
    world.upgrade(&[quay]).unwrap();
    fs::create_dir_all(world.at("/var/spool/stays")).unwrap();
    fs::set_permissions(world.at("/var/spool/stays"), Permissions::from_mode(0o700)).unwrap();
    fs::write(world.at("/var/spool/stays/own"), "own").unwrap();
    assert!(!world.at("/var/lib/boat").exists() && !world.at("/srv").exists());
    let (after, stays) = (covered(&world), Tree::read(&world.at("/var/spool"), &[]));
    let report = returned(&later(&world.settings(), 20), &ReturnWanted::default());
    assert_eq!(named(&report), [("/srv".into(), StayReason::NotCovered)], "of folders only the uppermost");
    assert_same("come back", &boat_before, &Tree::read(&world.at("/var/lib/boat"), &[]));
    assert_same("stays", &stays, &Tree::read(&world.at("/var/spool"), &[]));
    undo(&later(&world.settings(), 30), None).unwrap();
    assert_same("undone", &after, &covered(&world));
}

/// The package `boat` with these files in `/var/lib/boat`, each with the version as its content.
fn with_files(version: &str, files: &[&str]) -> Package {
    let mut boat = package("boat", version);
    for place in ["/var/lib/moved", "/var/lib/moved/inner"].into_iter().filter(|_| version == "1") {
        add(&mut boat, place, Content::Folder, 0o755);
    }
    files.iter().for_each(|name| add_file(&mut boat, &format!("/var/lib/boat/{name}"), version));
    boat
}

#[test]
fn of_folders_for_data_only_what_the_package_ships_returns() {
    let dir = folder();
    let mut keel = package("keel", "1");
    add_file(&mut keel, "/var/lib/keel", "1");
    let world =
        World::new(&dir.path().join("world"), &[with_files("1", &["rules", "scores", "removed"]), keel.clone()]);
    fs::create_dir(world.at(STATE)).unwrap();
    fs::write(world.at("/var/lib/boat/data"), "of the service").unwrap();
    savepoint(&later(&world.settings(), 10));
    world.upgrade(&[with_files("2", &["rules", "scores", "new", "new-folder/part"]), keel]).unwrap();
    fs::write(world.at("/var/lib/boat/data"), "of the service, later").unwrap();
    fs::write(world.at("/var/lib/boat/new-folder/data"), "later").unwrap();
    fs::write(world.at("/var/lib/keel"), "changed by its program").unwrap();
    fs::write(world.at("/var/lib/boat/scores"), "99").unwrap();
    fs::create_dir_all(world.at("/srv/moved/inner")).unwrap();
    fs::write(world.at("/srv/moved/inner/data"), "data").unwrap();
    let _ = fs::remove_dir_all(world.at("/var/lib/moved"));
    std::os::unix::fs::symlink("/srv/moved", world.at("/var/lib/moved")).unwrap();
    let after = covered(&world);
    let report = returned(&later(&world.settings(), 20), &ReturnWanted::default());
    assert!(named(&report).contains(&("/var/lib/boat/scores".into(), StayReason::DataChanged)), "{report:#?}");
    let read = |name: &str| fs::read_to_string(world.at(&format!("/var/lib/{name}"))).ok();
    assert_eq!(["boat/rules", "boat/scores"].map(read), [Some("1".into()), Some("99".into())]);
    undo(&later(&world.settings(), 25), None).unwrap();
    let report = returned(&later(&world.settings(), 30), &ReturnWanted { exact: true, ..ReturnWanted::default() });
    assert_eq!(read("boat/scores").as_deref(), Some("1"), "asked for");
    assert_eq!(["boat/rules", "boat/removed", "boat/new"].map(read), [Some("1".into()), Some("1".into()), None]);
    assert_eq!(read("boat/new-folder/part"), None);
    assert_eq!(read("boat/new-folder/data").as_deref(), Some("later"));
    assert_eq!(read("boat/data").as_deref(), Some("of the service, later"));
    assert_eq!(read("keel").as_deref(), Some("changed by its program"), "its package is the same");
    assert_eq!(fs::read_to_string(world.at("/srv/moved/inner/data")).unwrap(), "data");
    assert!(named(&report).contains(&("/var/lib/moved".into(), StayReason::NotCovered)), "{report:#?}");
    undo(&later(&world.settings(), 40), None).unwrap();
    assert_same("undone", &after, &covered(&world));
}
