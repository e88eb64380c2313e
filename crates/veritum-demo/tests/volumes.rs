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
