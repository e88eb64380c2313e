//! State that earlier versions of Veritum left on machines: it is read, recovered and undone as ever.
//!
//! Each `recorded/state-N.tar.gz` is a small machine as version N's state format leaves it: one repair that ended, one
//! that was interrupted, the last check, and what was seen of files. A new number is recorded when the format changes
//! (`RECORD_STATE=N cargo test -p veritum-demo --test recorded`); the old ones stay for as long as they must be read.

mod support;

use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use support::{check, folder, open, repair, undo};
use veritum_core::event::{Event, Flow, NoObserver, Observer};
use veritum_core::model::Scope;
use veritum_core::testkit::{Accident, TestDisk};
use veritum_core::work::{Agreement, Engine, Settings};
use veritum_demo::world::{World, add_file, package};

const FORMATS: [u32; 1] = [1];

fn recorded(number: u32) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/recorded").join(format!("state-{number}.tar.gz"))
}

fn world(folder: &Path) -> World {
    let mut quay = package("quay", "1.0-1");
    for n in 0..4 {
        add_file(&mut quay, &format!("/usr/share/quay/part-{n}"), &format!("right {n}\n"));
    }
    World::new(&folder.join("world"), &[quay])
}

/// Cuts everything off right after the plan of a round is on the disk.
struct Cutter(Arc<TestDisk>, AtomicUsize);

impl Observer for Cutter {
    fn on_event(&self, event: Event<'_>) -> Flow {
        if matches!(event, Event::Recorded("plan")) && self.1.fetch_add(1, Ordering::Relaxed) == 0 {
            self.0.stop();
        }
        Flow::Continue
    }
}

/// Settings with which the notes of a check are kept with the changes.
fn with_notes(world: &World) -> Settings {
    Settings { state_dir: Some(world.at("/var/lib/veritum")), ..world.settings() }
}

fn record(number: u32) {
    let dir = folder();
    let world = world(dir.path());
    let wrong =
        |n: u32| std::fs::write(world.at(&format!("/usr/share/quay/part-{n}")), format!("wrong {n}\n")).unwrap();
    (0..2).for_each(wrong);
    repair(&world.settings());
    check(&with_notes(&world));
    wrong(3);
    let disk = Arc::new(TestDisk::new(Accident::None));
    let cutter = Cutter(disk.clone(), AtomicUsize::new(0));
    let engine = Engine::open(world.settings(), disk);
    assert!(engine.unwrap().repair(&Scope::default(), &cutter, &mut |_| Agreement::Yes).is_err());
    let to = recorded(number);
    std::fs::create_dir_all(to.parent().unwrap()).unwrap();
    let made = Command::new("tar")
        .args(["--format=posix", "-czf"])
        .arg(to)
        .arg("-C")
        .arg(dir.path().join("world"))
        .arg("machine")
        .status();
    assert!(made.unwrap().success());
}

/// A world whose machine is as that format's writer left it.
fn met(number: u32) -> (tempfile::TempDir, World) {
    let dir = folder();
    let world = world(dir.path());
    std::fs::remove_dir_all(world.machine()).unwrap();
    let into = dir.path().join("world");
    let done =
        Command::new("tar").arg("-xzf").arg(recorded(number)).arg("--no-same-owner").arg("-C").arg(into).status();
    assert!(done.unwrap().success());
    (dir, world)
}

#[test]
fn what_earlier_formats_left_is_told_recovered_and_undone() {
    if let Some(number) = std::env::var("RECORD_STATE").ok().and_then(|n| n.parse().ok()) {
        record(number);
    }
    for number in FORMATS {
        let (_dir, world) = met(number);
        let part = |n: u32| std::fs::read_to_string(world.at(&format!("/usr/share/quay/part-{n}"))).unwrap();
        let settings = with_notes(&world);
        let status = open(&settings).status(true).unwrap();
        assert_eq!((status.changes, status.unfinished_changes), (2, vec![2]), "{number}");
        assert!(status.last_check.is_some(), "{number}");
        // What was seen then is of another disk: all is read, and nothing is believed.
        let quick = Settings { quick: true, ..settings.clone() };
        let found = open(&quick).check(&Scope::default(), &NoObserver).unwrap();
        assert_eq!(found.findings.len(), 1, "{number}: {found:#?}");

        open(&settings).recover(&NoObserver).unwrap();
        assert!(open(&settings).interrupted().unwrap().is_empty(), "{number}");
        assert_eq!((part(0).as_str(), part(3).as_str()), ("right 0\n", "wrong 3\n"), "{number}");
        // What was kept belonged to root: another owner's file is not what was kept.
        if support::is_root() {
            let undone = undo(&settings, Some(1)).unwrap();
            assert!(undone.changes[0].refused.is_empty(), "{number}: {undone:#?}");
            assert_eq!((part(0).as_str(), part(1).as_str()), ("wrong 0\n", "wrong 1\n"), "{number}");
        }
        repair(&settings);
        assert_eq!((part(0).as_str(), part(3).as_str()), ("right 0\n", "right 3\n"), "{number}");
    }
}

#[test]
fn of_a_newer_format_what_only_saves_work_is_done_without() {
    let (_dir, world) = met(1);
    check(&world.settings());
    let seen = support::note(&world.settings(), "seen.db");
    let db = rusqlite::Connection::open(&seen).unwrap();
    assert_eq!(db.execute("UPDATE head SET format = 'veritum.seen/9'", []).unwrap(), 1);
    drop(db);
    let quick = Settings { quick: true, ..world.settings() };
    let found = open(&quick).check(&Scope::default(), &NoObserver).unwrap();
    let told =
        |a: &veritum_core::report::AreaReport| a.extent.as_ref().is_some_and(|e| e.contains("everything was read"));
    assert!(found.areas.iter().any(told), "{found:#?}");
}

#[test]
fn who_only_looks_goes_on_where_a_newer_version_has_written_and_says_so() {
    let (_dir, world) = met(1);
    let journal = world.at("/var/lib/veritum/changes/2/journal");
    let begin = r#"{"record":"begin","format":"veritum.journal/9"}"#;
    let sum = &veritum_core::model::Digest::hash(begin.as_bytes()).to_hex()[..16];
    std::fs::write(&journal, format!("{:08x} {sum} {begin}\n", begin.len())).unwrap();
    let found = check(&world.settings());
    assert_eq!(found.findings.len(), 1, "{found:#?}");
    assert!(found.unexamined.iter().any(|u| u.reason.contains("newer Veritum")), "{:?}", found.unexamined);
    let status = open(&world.settings()).status(true).unwrap();
    assert!(status.not_here.iter().any(|what| what.contains("newer Veritum")), "{:?}", status.not_here);
    assert!(support::try_repair(&world.settings(), Arc::new(veritum_core::machine::LiveDisk)).is_err());
}

/// Makes the log of the change that was interrupted that of a change to an area which this version does not know.
fn of_an_area_of_tomorrow(world: &World) {
    let journal = world.at("/var/lib/veritum/changes/2/journal");
    let text = std::fs::read_to_string(&journal).unwrap();
    let (begin, rest) = text.split_once('\n').unwrap();
    let json = begin.splitn(3, ' ').nth(2).unwrap().replace(r#""area":"files""#, r#""area":"tides""#);
    assert!(json.contains("tides"), "{begin}");
    let sum = &veritum_core::model::Digest::hash(json.as_bytes()).to_hex()[..16];
    std::fs::write(&journal, format!("{:08x} {sum} {json}\n{rest}", json.len())).unwrap();
}

#[test]
fn a_log_that_names_an_area_of_a_newer_version_is_newer_and_not_damaged() {
    let (_dir, world) = met(1);
    of_an_area_of_tomorrow(&world);
    let told = |status: &veritum_core::report::StatusReport| {
        assert!(status.not_here.iter().any(|what| what.contains("newer Veritum")), "{:?}", status.not_here);
        assert!(status.damaged_changes.is_empty(), "{:?}", status.damaged_changes);
    };
    told(&open(&world.settings()).status(true).unwrap());
    let found = check(&world.settings());
    assert!(found.unexamined.iter().any(|u| u.reason.contains("newer Veritum")), "{:?}", found.unexamined);
    assert!(support::try_repair(&world.settings(), Arc::new(veritum_core::machine::LiveDisk)).is_err());
    // The newer version knows it, and has noted it with the others.
    let engine = open(&world.settings());
    let any = veritum_core::change::StateFolder::find(engine.machine(), None).unwrap().unwrap();
    assert_eq!(any.overview().unwrap().changes.last().unwrap().area.word(), "tides");
    told(&open(&world.settings()).status(true).unwrap());
}
