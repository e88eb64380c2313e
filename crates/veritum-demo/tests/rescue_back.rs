//! Rescued files restored in homes: what is missing is there again as it was, nothing newer is replaced unasked, nothing is lost,
//! and `undo` removes it again.

mod support;

use std::fs;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _, symlink};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use support::{Demo, assert_same, folder, is_root, open, undo};
use veritum_core::event::{Event, Flow, NoObserver, Observer};
use veritum_core::machine::{Disk, LiveDisk};
use veritum_core::report::{BackHome, DataKind, RescueBackReport};
use veritum_core::rescue::{BackRules, RescueError};
use veritum_core::testkit::{Accident, TestDisk, Tree};
use veritum_core::work::{Agreement, BackWanted, Engine, RescueSource, RescueWanted, rescue_files};
use veritum_demo::test_home::own;

const ASIDE: &str = ".veritum-set-aside";

/// The demo machine with rescued copies of all homes.
struct Rescued {
    demo: Demo,
    to: tempfile::TempDir,
}

impl Rescued {
    fn new(prepare: impl FnOnce(&Path)) -> Self {
        let demo = Demo::with(&[]);
        let home = demo.machine().join("home/mirela");
        prepare(&home);
        if is_root() {
            own(&home).unwrap();
        }
        let to = folder();
        let (from, kinds) = (RescueSource::default(), Vec::new());
        let wanted = RescueWanted { kinds, caches: true, ..RescueWanted::new(to.path().to_owned(), from) };
        let report = rescue_files(&demo.settings(), &wanted, &live(), &NoObserver).unwrap().0;
        assert!(report.is_complete(), "{report:?}");
        Self { demo, to }
    }

    fn home(&self) -> PathBuf {
        self.demo.machine().join("home/mirela")
    }

    fn tree(&self) -> Tree {
        Tree::read(&self.home(), &[ASIDE])
    }

    fn copies(&self) -> PathBuf {
        self.to.path().join("rescue-counter-03/mirela")
    }

    fn back(&self, wanted: &BackWanted) -> RescueBackReport {
        self.try_back(wanted, &NoObserver).unwrap()
    }

    fn try_back(&self, wanted: &BackWanted, observer: &dyn Observer) -> Result<RescueBackReport, RescueError> {
        open(&self.demo.settings()).restore_rescued(wanted, false, &live(), observer, &mut |_| Agreement::Yes)
    }

    fn of_mirela(&self) -> BackWanted {
        let (from, users) = (self.to.path().to_owned(), vec!["mirela".to_owned()]);
        BackWanted { from, users, rules: BackRules::default() }
    }
}

fn live() -> Arc<dyn Disk> {
    Arc::new(LiveDisk)
}

#[track_caller]
fn only(report: &RescueBackReport) -> &BackHome {
    let [home] = report.homes.as_slice() else { panic!("{report:#?}") };
    home
}

fn empty(home: &Path) {
    for entry in fs::read_dir(home).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() && !path.is_symlink() {
            let _ = fs::set_permissions(&path, fs::Permissions::from_mode(0o700));
            fs::remove_dir_all(path).unwrap();
        } else {
            fs::remove_file(path).unwrap();
        }
    }
}

/// The attributes that users set, as an independent reader sees them.
fn attribute(path: &Path) -> Option<Vec<u8>> {
    let mut value = vec![0; 100];
    let size = rustix::fs::getxattr(path, "user.origin", &mut value).ok()?;
    value.truncate(size);
    Some(value)
}

#[test]
fn an_emptied_home_is_as_it_was_and_undo_empties_it_again() {
    let here = Rescued::new(|home| {
        fs::write(home.join("Letters/odd \n name?"), "x").unwrap();
        symlink("/etc/shadow", home.join("outside")).unwrap();
        fs::hard_link(home.join("Letters/odd \n name?"), home.join("again")).unwrap();
        fs::create_dir_all(home.join("deep/er/empty")).unwrap();
        fs::write(home.join("sparse"), "begin").unwrap();
        fs::File::options().write(true).open(home.join("sparse")).unwrap().set_len(3 << 20).unwrap();
        let _ = rustix::fs::setxattr(home.join("again"), "user.origin", b"quay", rustix::fs::XattrFlags::empty());
    });
    let (before, had) = (here.tree().without_folder_times(), attribute(&here.home().join("again")));
    empty(&here.home());
    let emptied = here.tree();
    let plan = open(&here.demo.settings())
        .restore_rescued(&here.of_mirela(), true, &live(), &NoObserver, &mut |_| panic!("asked"))
        .unwrap();
    assert_eq!((only(&plan).wanted.files > 20, here.tree().differences(&emptied)), (true, Vec::new()));
    let report = here.back(&here.of_mirela());
    let home = only(&report);
    assert!(report.is_complete() && home.restored == home.wanted && home.restored == only(&plan).wanted, "{report:#?}");
    // The time of the home itself is that of the files that came and went.
    assert_same("restored", &before, &here.tree().without_folder_times());
    assert_eq!(attribute(&here.home().join("again")), had);
    let sparse = fs::metadata(here.home().join("sparse")).unwrap();
    assert!(sparse.len() == 3 << 20 && sparse.blocks() * 512 < 1 << 20, "{} blocks", sparse.blocks());
    let again = here.back(&here.of_mirela());
    assert_eq!((only(&again).wanted.files, only(&again).same.files), (0, home.restored.files), "{again:#?}");
    assert!(only(&again).changes.is_empty());
    let undone = undo(&here.demo.settings(), None).unwrap();
    assert!(undone.changes[0].refused.is_empty(), "{undone:#?}");
    assert_same("undone", &emptied.without_folder_times(), &here.tree().without_folder_times());
    let redone = undo(&here.demo.settings(), undone.changes[0].change).unwrap();
    assert!(redone.changes[0].refused.is_empty(), "{redone:#?}");
    assert_same("redone", &before, &here.tree().without_folder_times());
    assert!(!here.home().join(ASIDE).exists(), "nothing is set aside any more");
}

#[test]
fn what_is_newer_stays_and_what_is_replaced_is_set_aside() {
    let here = Rescued::new(|home| {
        for name in ["older", "newer", "same", "kind"] {
            fs::write(home.join(name), format!("rescued {name}")).unwrap();
        }
        fs::hard_link(home.join("newer"), home.join("newer-too")).unwrap();
    });
    let at = |name: &str| here.home().join(name);
    let write = |name: &str, text: &str, seconds: i64| {
        fs::write(at(name), text).unwrap();
        let now = std::time::SystemTime::now();
        let time = if seconds < 0 { now - std::time::Duration::from_secs(90) } else { now };
        fs::File::options().write(true).open(at(name)).unwrap().set_modified(time).unwrap();
    };
    write("older", "before the rescue", -1);
    write("newer", "after the rescue", 1);
    write("same", "rescued same", 1);
    fs::remove_file(at("newer-too")).unwrap();
    fs::remove_file(at("kind")).unwrap();
    fs::create_dir(at("kind")).unwrap();
    let before = here.tree();
    let report = here.back(&here.of_mirela());
    let home = only(&report);
    let read = |name: &str| fs::read_to_string(at(name)).unwrap();
    assert_eq!((read("older").as_str(), read("newer").as_str()), ("rescued older", "after the rescue"));
    assert_eq!((home.replaced.len(), home.restored.files, home.newer.len()), (1, 2, 1), "{home:#?}");
    assert_eq!(read("newer-too"), "rescued newer", "its other name has other content now");
    assert!(home.missing.len() == 1 && home.missing[0].why.contains("another kind"), "{home:#?}");
    let aside = fs::read_dir(at(ASIDE)).unwrap().next().unwrap().unwrap().path();
    assert_eq!(fs::read_to_string(aside.join("older")).unwrap(), "before the rescue");
    let all = BackWanted { rules: BackRules { newer: true, ..BackRules::default() }, ..here.of_mirela() };
    assert_eq!(only(&here.back(&all)).replaced.len(), 1);
    assert_eq!(read("newer"), "rescued newer");
    // Both are changes of one run here.
    undo(&here.demo.settings(), None).unwrap();
    assert_same("undone", &before.without_folder_times(), &here.tree().without_folder_times());
}

#[test]
fn what_was_written_since_stays_when_it_is_undone() {
    let here = Rescued::new(|_| {});
    empty(&here.home());
    let report = here.back(&here.of_mirela());
    assert!(report.is_complete(), "{report:#?}");
    let letters = here.home().join("Letters");
    fs::write(letters.join("new.txt"), "written since").unwrap();
    fs::write(letters.join("season-0.txt"), "edited since").unwrap();
    let undone = undo(&here.demo.settings(), None).unwrap();
    let refused: Vec<String> = undone.changes[0].refused.iter().map(|r| r.path.to_string()).collect();
    assert!(refused.iter().any(|path| path.ends_with("season-0.txt")), "{undone:#?}");
    let mut left: Vec<_> = fs::read_dir(&letters).unwrap().map(|entry| entry.unwrap().file_name()).collect();
    left.sort();
    assert_eq!(left, ["new.txt", "season-0.txt"]);
    assert!(!here.home().join("Pictures").exists());
}

#[test]
fn damaged_and_incomplete_copies_links_in_the_way_and_unknown_users_are_named() {
    let here = Rescued::new(|home| {
        fs::create_dir(home.join("linked")).unwrap();
        fs::write(home.join("linked/inside"), "x").unwrap();
        fs::write(home.join("torn"), "whole").unwrap();
    });
    fs::remove_dir_all(here.home().join("linked")).unwrap();
    let elsewhere = folder();
    symlink(elsewhere.path(), here.home().join("linked")).unwrap();
    fs::remove_file(here.home().join("torn")).unwrap();
    fs::write(here.copies().join("torn"), "wrong").unwrap();
    let manifest = here.to.path().join("rescue-counter-03/veritum-rescue.jsonl");
    let incomplete = r#"{"line":"entry","user":"mirela","path":"/home/mirela/half","stored":"/mirela/half.incomplete","is":"file","kind":"documents","size":4,"blake3":"DIGEST","mtime":[1,2],"mode":"6755","uid":0,"gid":0,"gaps":[[0,2]]}"#;
    let other = r#"{"line":"entry","user":"visitor","path":"/home/visitor","stored":"/visitor","is":"folder","kind":"documents","size":0,"mtime":[1,2],"mode":"0755","uid":0,"gid":0}"#;
    let digest = veritum_core::model::Digest::hash(b"half").to_hex();
    let added = format!("{}\n{other}\nnot a line of a manifest\n", incomplete.replace("DIGEST", &digest));
    fs::write(here.copies().join("half.incomplete"), "half").unwrap();
    fs::write(&manifest, fs::read_to_string(&manifest).unwrap() + &added).unwrap();
    let report = here.back(&BackWanted { users: Vec::new(), ..here.of_mirela() });
    let home = report.homes.iter().find(|home| home.user == "mirela").unwrap();
    let why = |end: &str| home.missing.iter().find(|m| m.path.to_string().ends_with(end)).map(|m| m.why.clone());
    assert!(why("linked").unwrap().contains("another kind"), "{home:#?}");
    assert!(why("linked/inside").unwrap().contains("is not a folder"), "{home:#?}");
    assert!(why("torn").unwrap().contains("does not match the manifest"), "{home:#?}");
    assert_eq!(fs::read_dir(elsewhere.path()).unwrap().count(), 0, "no link is followed");
    assert!(!here.home().join("torn").exists() && !here.home().join("half").exists());
    let half = here.home().join("half.incomplete");
    assert_eq!(fs::read_to_string(&half).unwrap(), "half");
    assert_eq!(fs::metadata(&half).unwrap().permissions().mode() & 0o7777, 0o755, "no privileges are restored");
    let stranger = report.homes.iter().find(|home| home.user == "visitor").unwrap();
    assert!(stranger.trouble.as_ref().unwrap().contains("no user of that name"), "{stranger:?}");
    assert!(!report.is_complete() && report.damaged_lines == 1);
    let unknown = BackWanted { users: vec!["mirella".into()], ..here.of_mirela() };
    assert!(here.try_back(&unknown, &NoObserver).unwrap_err().to_string().contains("mirella"));
    let elsewhere = BackWanted { from: folder().path().to_owned(), ..here.of_mirela() };
    assert!(here.try_back(&elsewhere, &NoObserver).is_err());
}

#[test]
fn kinds_can_be_chosen_with_the_folders_that_they_need() {
    let here = Rescued::new(|_| {});
    let home = here.demo.machine().join("home/oskar");
    empty(&home);
    let profiles = BackRules { kinds: vec![DataKind::Profiles], ..BackRules::default() };
    let report = here.back(&BackWanted { rules: profiles, users: vec!["oskar".into()], ..here.of_mirela() });
    assert!(report.is_complete() && only(&report).restored.files > 0, "{report:#?}");
    assert!(home.join(".gullmail").is_dir() && !home.join("Bookings").exists());
}

/// Stops at the n-th event.
struct StopAt(AtomicUsize);

impl Observer for StopAt {
    fn on_event(&self, _: Event<'_>) -> Flow {
        let left = self.0.fetch_update(Ordering::SeqCst, Ordering::SeqCst, |n| n.checked_sub(1));
        if left.is_err() { Flow::Stop } else { Flow::Continue }
    }
}

#[test]
fn an_interruption_anywhere_is_completed_by_the_same_command() {
    let here = Rescued::new(|_| {});
    let before = here.tree().without_folder_times();
    for events in (0..400).step_by(23) {
        empty(&here.home());
        let first = here.try_back(&here.of_mirela(), &StopAt(events.into()));
        if let Ok(report) = &first {
            assert!(report.stopped || report.is_complete(), "{events}: {report:#?}");
        }
        let again = here.back(&here.of_mirela());
        assert!(again.is_complete(), "{events}: {again:#?}");
        assert_same(&format!("{events}"), &before, &here.tree().without_folder_times());
    }
}

#[test]
fn a_full_disk_and_a_cut_leave_whole_files_only() {
    let here = Rescued::new(|_| {});
    let before = here.tree().without_folder_times();
    const FULL: i32 = 28;
    for number in [5, 40, 120, 200, 260, 300, 340] {
        for accident in [Accident::Cut(number), Accident::Stop(number), Accident::Fail(number, FULL)] {
            empty(&here.home());
            let disk = Arc::new(TestDisk::new(accident));
            let _ = Engine::open(here.demo.settings(), disk.clone()).map(|engine| {
                engine.restore_rescued(&here.of_mirela(), false, &live(), &NoObserver, &mut |_| Agreement::Yes)
            });
            assert!(disk.happened(), "{number}: nothing was cut");
            drop(disk);
            open(&here.demo.settings()).recover(&NoObserver).unwrap();
            for (path, thing) in &here.tree().0 {
                let whole = before.0.get(path).map(|t| (t.kind, &t.content));
                assert_eq!(whole, Some((thing.kind, &thing.content)), "{number}: {}", path.escape_ascii());
            }
            assert!(here.back(&here.of_mirela()).is_complete(), "{number}");
            assert_same(&format!("{number} {accident:?}"), &before, &here.tree().without_folder_times());
        }
    }
}
