//! Quick checks: what has not changed since the last full check is not read again, and anything that has is.

mod support;

use std::fs;
use std::os::unix::fs::{MetadataExt as _, symlink};

use support::{STATE, check, folder, small_world, told};
use veritum_core::areas::FILES;
use veritum_core::report::{AreaReport, CheckReport, Outcome};
use veritum_core::work::Settings;
use veritum_demo::world::World;

/// Settings of a moment so much later than now that everything has settled.
fn later(world: &World, seconds: i64) -> Settings {
    let now = jiff::Timestamp::from_second(jiff::Timestamp::now().as_second() + seconds).unwrap();
    Settings { now, ..world.settings() }
}

fn quick(world: &World, seconds: i64) -> CheckReport {
    check(&Settings { quick: true, ..later(world, seconds) })
}

fn files(report: &CheckReport) -> &AreaReport {
    report.area(FILES).unwrap()
}

#[test]
fn what_has_not_changed_is_not_read_and_the_answer_is_the_same() {
    let dir = folder();
    let world = small_world(dir.path());
    let first = quick(&world, 10);
    assert!(files(&first).extent.as_ref().unwrap().contains("no earlier check") && files(&first).bytes > 3000);
    let full = check(&later(&world, 20));
    let again = quick(&world, 30);
    assert_eq!((full.outcome, again.outcome), (Outcome::Ok, Outcome::Ok));
    assert_eq!((files(&again).bytes, files(&again).examined), (0, files(&full).examined));
    let words = files(&again).extent.as_ref().unwrap();
    assert!(words.contains("nothing has changed") && words.contains("weak"), "{words}");
    // Once something has, all is examined again, and only that is read.
    fs::write(world.at("/usr/share/quay/part-0"), "right 0\n").unwrap();
    let report = quick(&world, 40);
    let words = files(&report).extent.as_ref().unwrap();
    assert!(words.contains("5 files unchanged") && words.contains("weak"), "{words}");
    assert_eq!((report.outcome, files(&report).bytes), (Outcome::Ok, 8));
}

#[test]
fn nothing_that_an_answer_rests_on_can_change_unseen() {
    type Change = fn(&World);
    let changes: [(&str, Change); 12] = [
        ("a file", |w| fs::write(w.at("/usr/bin/quay"), "x").unwrap()),
        ("a mode", |w| {
            let mode = std::os::unix::fs::PermissionsExt::from_mode(0o700);
            fs::set_permissions(w.at("/usr/share/quay/part-0"), mode).unwrap();
        }),
        ("a folder's mode", |w| {
            let mode = std::os::unix::fs::PermissionsExt::from_mode(0o777);
            fs::set_permissions(w.at("/usr/lib/quay/deep"), mode).unwrap();
        }),
        ("the root's mode", |w| {
            let mode = std::os::unix::fs::PermissionsExt::from_mode(0o777);
            fs::set_permissions(w.machine(), mode).unwrap();
        }),
        ("something new", |w| fs::write(w.at("/usr/share/quay/new"), "x").unwrap()),
        ("something gone", |w| fs::remove_file(w.at("/usr/lib/quay/deep/inside")).unwrap()),
        ("a folder led elsewhere", |w| {
            fs::rename(w.at("/usr/lib/quay/deep"), w.at("/usr/lib/quay/other")).unwrap();
            symlink("other", w.at("/usr/lib/quay/deep")).unwrap();
        }),
        ("a merged system's link", |w| {
            fs::remove_file(w.at("/lib")).unwrap();
            fs::create_dir(w.at("/lib")).unwrap();
        }),
        ("the table of components", |w| fs::write(w.at("/var/lib/dpkg/status"), "").unwrap()),
        ("a record", |w| fs::remove_file(w.at("/var/lib/dpkg/info/quay.list")).unwrap()),
        ("a diversion", |w| fs::write(w.at("/var/lib/dpkg/diversions"), "/usr/bin/quay\n/usr/bin/quoy\n:\n").unwrap()),
        ("users", |w| fs::write(w.at("/etc/passwd"), "root:x:0:0::/root:/bin/sh\n").unwrap()),
    ];
    for (what, change) in changes {
        let dir = folder();
        let world = small_world(dir.path());
        fs::create_dir_all(world.machine().join(STATE)).unwrap();
        check(&later(&world, 20));
        let settled = |report: &CheckReport| {
            files(report).extent.as_ref().is_some_and(|words| words.contains("nothing has changed"))
        };
        assert!(settled(&quick(&world, 30)), "{what}");
        change(&world);
        let report = quick(&world, 40);
        assert!(!settled(&report), "{what}");
        let full = check(&later(&world, 50));
        assert_eq!(told(&report.findings), told(&full.findings), "{what}");
    }
}

#[test]
fn another_reference_is_no_settled_one() {
    let dir = folder();
    let world = small_world(dir.path());
    check(&later(&world, 20));
    let other = Settings { store: None, trust: dir.path().join("nobody"), quick: true, ..later(&world, 30) };
    assert_eq!(check(&other).outcome, Outcome::OkLimited);
    assert_eq!(quick(&world, 40).outcome, Outcome::Ok);
}

#[test]
fn a_file_of_the_same_size_and_time_is_read_again_when_it_was_written_since() {
    let dir = folder();
    let world = small_world(dir.path());
    check(&later(&world, 20));
    let file = world.at("/usr/share/quay/part-1");
    let before = fs::metadata(&file).unwrap();
    fs::write(&file, "wrong 1\n").unwrap();
    let time = rustix::fs::Timespec { tv_sec: before.mtime(), tv_nsec: before.mtime_nsec() };
    let times = rustix::fs::Timestamps { last_access: time, last_modification: time };
    rustix::fs::utimensat(rustix::fs::CWD, &file, &times, rustix::fs::AtFlags::empty()).unwrap();
    assert_eq!(fs::metadata(&file).unwrap().size(), before.size());
    let report = quick(&world, 30);
    assert_eq!(told(&report.findings), [("/usr/share/quay/part-1".to_owned(), "altered")]);
    assert_eq!(files(&report).bytes, 8, "only that one is read");
    // Modes and missing files show as ever.
    fs::remove_file(world.at("/usr/bin/quay")).unwrap();
    assert_eq!(quick(&world, 30).findings.len(), 2);
}

#[test]
fn what_was_wrong_stays_wrong_and_what_changed_shortly_before_is_read_again() {
    let dir = folder();
    let world = small_world(dir.path());
    fs::write(world.at("/usr/share/quay/part-2"), "wrong 2\n").unwrap();
    // At the very moment in which the files were made nothing has settled.
    check(&later(&world, 0));
    assert!(files(&quick(&world, 1)).bytes > 3000);
    check(&later(&world, 20));
    let report = quick(&world, 30);
    assert_eq!(told(&report.findings), [("/usr/share/quay/part-2".to_owned(), "altered")]);
    assert_eq!(files(&report).bytes, 0);
}

#[test]
fn a_damaged_or_foreign_record_is_as_good_as_none() {
    let dir = folder();
    let world = small_world(dir.path());
    check(&later(&world, 20));
    let place = support::note(&world.settings(), "seen.db");
    let whole = fs::read(&place).unwrap();
    let mut flipped = whole.clone();
    let middle = whole.len() - 200;
    flipped[middle] ^= 1;
    for bytes in [b"".to_vec(), b"rubbish".repeat(900), whole[..whole.len() / 2].to_vec(), flipped] {
        fs::write(&place, &bytes).unwrap();
        let report = quick(&world, 30);
        assert_eq!(report.outcome, Outcome::Ok);
        let all = files(&report).bytes > 3000;
        assert!(all || bytes.len() == whole.len(), "{} bytes", bytes.len());
    }
    // A link in its place is not followed, neither to read nor to write.
    fs::remove_file(&place).unwrap();
    let elsewhere = dir.path().join("elsewhere.db");
    fs::write(&elsewhere, &whole).unwrap();
    symlink(&elsewhere, &place).unwrap();
    assert!(files(&quick(&world, 30)).bytes > 3000);
    check(&later(&world, 20));
    assert_eq!(fs::read(&elsewhere).unwrap(), whole);
    // The next full check makes it again where it can.
    fs::remove_file(&place).unwrap();
    check(&later(&world, 20));
    assert_eq!(files(&quick(&world, 30)).bytes, 0);
}
