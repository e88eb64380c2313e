//! What was not examined is not intact, and what no one verifies cannot excuse anything from being examined.

mod support;

use std::fs;

use support::{check, folder, open, told};
use veritum_core::event::NoObserver;
use veritum_core::model::{Scope, SystemPath};
use veritum_core::report::{CheckReport, Outcome};
use veritum_core::work::WorkError;
use veritum_demo::Content;
use veritum_demo::world::{World, add, add_file, package};

fn named(world: &World, path: &'static str) -> CheckReport {
    let scope = Scope { paths: vec![SystemPath::literal(path)], ..Scope::default() };
    open(&world.settings()).check(&scope, &NoObserver).unwrap()
}

/// A machine with a file of three names.
fn harbour(dir: &std::path::Path) -> World {
    let mut quay = package("quay", "1.0-1");
    add_file(&mut quay, "/usr/share/quay/one", "right\n");
    add(&mut quay, "/usr/share/quay/two", Content::Name("/usr/share/quay/one".into()), 0o644);
    add(&mut quay, "/usr/lib/quay/three", Content::Name("/usr/share/quay/one".into()), 0o644);
    add_file(&mut quay, "/usr/share/quay/alone", "alone\n");
    World::new(&dir.join("world"), &[quay])
}

#[test]
fn a_line_of_fstab_hides_nothing_that_is_there() {
    let dir = folder();
    let world = harbour(dir.path());
    fs::write(world.at("/etc/fstab"), "UUID=1 /usr ext4 defaults 0 2\n").unwrap();
    fs::write(world.at("/usr/share/quay/alone"), "wrong\n").unwrap();
    let report = check(&world.settings());
    assert_eq!(told(&report.findings), [("/usr/share/quay/alone".into(), "altered")]);
    // What is below a mount point may have been left behind there: nothing is written before that is settled.
    assert!(report.left[0].reason.contains("on a file system of fstab that is not mounted"), "{:?}", report.left);
    assert!(
        report.unexamined.iter().any(|u| u.reason.contains("/usr was checked as it is")),
        "{:?}",
        report.unexamined
    );
}

#[test]
fn what_lies_on_a_file_system_that_is_not_mounted_is_not_called_sound() {
    let dir = folder();
    let world = harbour(dir.path());
    fs::write(world.at("/etc/fstab"), "UUID=1 /usr/share ext4 defaults 0 2\n").unwrap();
    fs::remove_dir_all(world.at("/usr/share")).unwrap();
    // A mount point as it mostly is: empty, or with the folders for further ones.
    for make in ["/usr/share", "/usr/share/inner"] {
        fs::create_dir_all(world.at(make)).unwrap();
        let report = check(&world.settings());
        assert_eq!((report.outcome, report.findings.len()), (Outcome::Unchecked, 0), "{make}");
        let reason = report.unexamined.iter().find(|u| u.reason == "/usr/share is not mounted");
        assert!(reason.is_some_and(|u| u.count >= 4), "{make}: {:?}", report.unexamined);
    }
}

#[test]
fn each_name_of_a_file_tells_of_a_cut_hard_link() {
    let dir = folder();
    for cut in ["/usr/share/quay/one", "/usr/share/quay/two", "/usr/lib/quay/three"] {
        let _ = fs::remove_dir_all(dir.path().join("world"));
        let world = harbour(dir.path());
        fs::remove_file(world.at(cut)).unwrap();
        fs::write(world.at(cut), "right\n").unwrap();
        for name in ["/usr/share/quay/one", "/usr/share/quay/two", "/usr/lib/quay/three"] {
            assert_eq!(told(&named(&world, name).findings), [(cut.to_owned(), "hardlink-split")], "{name}");
            let explained = open(&world.settings()).explain_path(&SystemPath::literal(name), &NoObserver).unwrap();
            let finding = explained.finding.unwrap_or_else(|| panic!("{name} is called OK"));
            assert_eq!(finding.subject.as_path().unwrap().to_string(), cut);
        }
        assert_eq!(named(&world, "/usr/share/quay/alone").outcome, Outcome::Ok);
    }
}

#[test]
fn a_path_that_is_nowhere_is_no_such_file_for_every_command() {
    let dir = folder();
    let world = harbour(dir.path());
    let nowhere = SystemPath::literal("/usr/share/quay/nothing");
    let scope = Scope { paths: vec![nowhere.clone()], ..Scope::default() };
    let mut engine = open(&world.settings());
    let is_it = |error: WorkError| matches!(error, WorkError::NoSuchFile { path } if path == nowhere);
    assert!(is_it(engine.check(&scope, &NoObserver).unwrap_err()));
    assert!(is_it(engine.plan_repair(&scope, &NoObserver, &mut |_| {}).unwrap_err()));
    assert!(is_it(engine.explain_path(&nowhere, &NoObserver).unwrap_err()));
    // One that is there and that no one owns, or that is owned and gone, is another matter.
    fs::write(world.at("/usr/share/quay/own"), "").unwrap();
    assert_eq!(named(&world, "/usr/share/quay/own").outcome, Outcome::Unchecked);
    fs::remove_dir_all(world.at("/usr/lib/quay")).unwrap();
    assert_eq!(named(&world, "/usr/lib/quay/three").findings.len(), 1);
}
