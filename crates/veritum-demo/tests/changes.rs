//! Changes over time: one after the other, undone in any order, reported in lists.

mod support;

use std::collections::BTreeMap;
use std::sync::Arc;

use support::{check, folder, open, repair, undo};
use veritum_core::areas::FILES;
use veritum_core::event::{Event, Flow, NoObserver, Observer};
use veritum_core::machine::LiveDisk;
use veritum_core::model::{Authority, Scope, SystemPath};
use veritum_core::report::{Outcome, RepairReport};
use veritum_core::work::{Agreement, Engine, Settings, WorkError};
use veritum_demo::world::{World, add_file, package};

struct Place {
    _dir: tempfile::TempDir,
    world: World,
}

impl Place {
    fn new() -> Self {
        let dir = folder();
        let mut quay = package("quay", "1.0-1");
        let mut pier = package("pier", "1.0-1");
        for n in 0..3 {
            add_file(&mut quay, &format!("/usr/share/quay/{n}"), &format!("right {n}\n"));
            add_file(&mut pier, &format!("/usr/share/pier/{n}"), &format!("right {n}\n"));
        }
        let world = World::new(&dir.path().join("world"), &[quay, pier]);
        Self { _dir: dir, world }
    }

    fn settings(&self, run: &str, minutes: i64) -> Settings {
        let now = jiff::Timestamp::from_second(veritum_demo::NOW + minutes * 60).unwrap();
        Settings { run: run.into(), now, ..self.world.settings() }
    }

    fn damage(&self, path: &str) {
        std::fs::write(self.world.at(path), "wrong\n").unwrap();
    }

    fn read(&self, path: &str) -> String {
        std::fs::read_to_string(self.world.at(path)).unwrap()
    }

    fn states(&self) -> Vec<(u64, String)> {
        let report = open(&self.world.settings()).list_changes().unwrap();
        report.changes.into_iter().map(|c| (c.change, c.state.word().to_owned())).collect()
    }
}

#[test]
fn changes_are_undone_one_by_one_latest_first() {
    let place = Place::new();
    for (at, path) in ["/usr/share/quay/0", "/usr/share/pier/0"].iter().enumerate() {
        place.damage(path);
        assert_eq!(
            repair(&place.settings(&format!("run {at}"), at as i64)).area(FILES).unwrap().change,
            Some(at as u64 + 1)
        );
    }
    undo(&place.settings("undo", 5), None).unwrap();
    assert_eq!(
        (place.read("/usr/share/pier/0").as_str(), place.read("/usr/share/quay/0").as_str()),
        ("wrong\n", "right 0\n")
    );
    undo(&place.settings("undo again", 6), None).unwrap();
    assert_eq!(place.read("/usr/share/quay/0"), "wrong\n");
    let words = ["undone", "undone", "done", "done"];
    assert_eq!(
        place.states(),
        words.iter().enumerate().map(|(n, w)| (n as u64 + 1, (*w).to_owned())).collect::<Vec<_>>()
    );
    assert!(matches!(undo(&place.settings("nothing left", 7), None), Err(WorkError::NothingToUndo)));
    // Each undo can itself be undone.
    undo(&place.settings("redo", 8), Some(4)).unwrap();
    assert_eq!(place.read("/usr/share/quay/0"), "right 0\n");
}

#[test]
fn an_earlier_change_is_not_undone_below_a_later_one() {
    let place = Place::new();
    place.damage("/usr/share/quay/0");
    place.damage("/usr/share/quay/1");
    repair(&place.settings("first", 0));
    place.damage("/usr/share/quay/0");
    repair(&place.settings("second", 1));
    let report = undo(&place.settings("undo first", 2), Some(1)).unwrap();
    let refused = &report.changes[0].refused;
    assert_eq!((refused.len(), refused[0].path.to_string().as_str()), (1, "/usr/share/quay/0"));
    assert!(refused[0].why.contains("change 2 changed it later"), "{}", refused[0].why);
    assert_eq!(
        (place.read("/usr/share/quay/0").as_str(), place.read("/usr/share/quay/1").as_str()),
        ("right 0\n", "wrong\n")
    );
}

#[test]
fn a_later_change_that_was_itself_undone_is_no_hindrance() {
    let place = Place::new();
    place.damage("/usr/share/quay/0");
    repair(&place.settings("first", 0));
    place.damage("/usr/share/quay/0");
    repair(&place.settings("second", 1));
    undo(&place.settings("undo second", 2), Some(2)).unwrap();
    // What is there now is what was damaged the second time: it has changed since the first repair.
    let report = undo(&place.settings("undo first", 3), Some(1)).unwrap();
    assert!(report.changes[0].refused[0].why.contains("changed since"), "{:?}", report.changes[0].refused);
}

#[test]
fn what_was_updated_since_is_not_put_back_among_newer_files() {
    let place = Place::new();
    place.damage("/usr/share/quay/0");
    place.damage("/usr/share/pier/0");
    repair(&place.settings("repair", 0));
    let status = place.world.at("/var/lib/dpkg/status");
    let text = std::fs::read_to_string(&status).unwrap();
    let updated = text.replacen("Version: 1.0-1", "Version: 2.0-1", 1);
    assert_ne!(text, updated);
    std::fs::write(&status, updated).unwrap();
    let report = undo(&place.settings("undo", 1), None).unwrap();
    assert!(report.changes[0].refused[0].why.contains("updated to 2.0-1"), "{report:?}");
    assert_eq!(
        (place.read("/usr/share/quay/0").as_str(), place.read("/usr/share/pier/0").as_str()),
        ("right 0\n", "wrong\n")
    );
}

#[test]
fn a_new_file_in_a_restored_folder_is_not_swept_away_by_an_undo() {
    let place = Place::new();
    std::fs::remove_dir_all(place.world.at("/usr/share/quay")).unwrap();
    repair(&place.settings("repair", 0));
    std::fs::write(place.world.at("/usr/share/quay/new"), "somebody's work\n").unwrap();
    let report = undo(&place.settings("undo", 1), None).unwrap();
    assert_eq!(report.changes[0].refused.len(), 1);
    assert_eq!(place.read("/usr/share/quay/new"), "somebody's work\n");
    std::fs::remove_file(place.world.at("/usr/share/quay/new")).unwrap();
    undo(&place.settings("undo", 2), None).unwrap();
    assert!(!place.world.at("/usr/share/quay").exists());
}

#[test]
fn a_refused_question_changes_nothing_and_leaves_no_change() {
    let place = Place::new();
    place.damage("/usr/share/quay/0");
    let mut shown = None;
    let report = open(&place.world.settings())
        .repair(&Scope::default(), &NoObserver, &mut |preview| {
            shown = Some((preview.actions.len(), preview.actions[0].bytes, preview.check.left.len()));
            Agreement::No
        })
        .unwrap();
    assert_eq!((shown, report.plan_only), (Some((1, 8, 0)), true));
    assert_eq!((place.read("/usr/share/quay/0").as_str(), place.states()), ("wrong\n", vec![]));
}

#[test]
fn only_what_is_named_is_repaired() {
    let place = Place::new();
    place.damage("/usr/share/quay/0");
    place.damage("/usr/share/pier/0");
    let one = |scope: Scope| -> RepairReport {
        open(&place.world.settings()).repair(&scope, &NoObserver, &mut |_| Agreement::Yes).unwrap()
    };
    one(Scope { paths: vec![SystemPath::literal("/usr/share/quay")], ..Scope::default() });
    assert_eq!(
        (place.read("/usr/share/quay/0").as_str(), place.read("/usr/share/pier/0").as_str()),
        ("right 0\n", "wrong\n")
    );
    one(Scope { packages: vec!["pier".into()], ..Scope::default() });
    assert_eq!(check(&place.world.settings()).outcome, Outcome::Ok);
    let unknown = Scope { packages: vec!["nothing".into()], ..Scope::default() };
    assert!(matches!(open(&place.world.settings()).check(&unknown, &NoObserver), Err(WorkError::Unknown { .. })));
}

/// Says stop when the n-th record is written.
struct StopAt(std::sync::atomic::AtomicIsize);

impl Observer for StopAt {
    fn on_event(&self, event: Event<'_>) -> Flow {
        use std::sync::atomic::Ordering;
        if matches!(event, Event::Recorded(_)) {
            self.0.fetch_sub(1, Ordering::Relaxed);
        }
        if self.0.load(Ordering::Relaxed) <= 0 { Flow::Stop } else { Flow::Continue }
    }
}

#[test]
fn a_wish_to_stop_is_heard_before_the_commit_record_and_not_after_it() {
    for records in 0..6 {
        let place = Place::new();
        place.damage("/usr/share/quay/0");
        let stop = StopAt(std::sync::atomic::AtomicIsize::new(records));
        let engine = Engine::open(place.world.settings(), Arc::new(LiveDisk));
        let result = engine.unwrap().repair(&Scope::default(), &stop, &mut |_| Agreement::Yes);
        // begin, plan: still undone; commit and later: gone through with.
        let (content, ended) = if records <= 2 { ("wrong\n", false) } else { ("right 0\n", true) };
        assert_eq!(
            (place.read("/usr/share/quay/0").as_str(), result.is_ok()),
            (content, ended),
            "after {records} records"
        );
        assert!(open(&place.world.settings()).interrupted().unwrap().is_empty());
    }
}

#[test]
fn the_last_check_is_kept_and_a_repair_renews_it() {
    let place = Place::new();
    place.damage("/usr/share/quay/0");
    let status = || open(&place.settings("status", 9)).status(true).unwrap();
    assert!(status().last_check.is_none());
    open(&place.settings("check", 0)).check(&Scope::default(), &NoObserver).unwrap();
    let last = status().last_check.unwrap();
    assert_eq!((last.outcome, last.problems), (Outcome::Damaged, 1));
    repair(&place.settings("repair", 1));
    let report = status();
    assert_eq!(
        (report.last_check.unwrap().outcome, report.changed_since_check, report.changes),
        (Outcome::Ok, false, 1)
    );
    undo(&place.settings("undo", 2), None).unwrap();
    assert!(status().changed_since_check);
}

#[test]
fn a_brief_status_tells_what_the_last_check_verified_as_such() {
    let place = Place::new();
    let brief = |store: bool| {
        let mut settings = place.settings("brief", 9);
        settings.store = settings.store.filter(|_| store);
        let report = open(&settings).brief_status(true).unwrap();
        (report.verified_by, report.verified_at_last_check)
    };
    assert_eq!(brief(false), (BTreeMap::new(), false), "before the first check it is not known");
    open(&place.settings("check", 0)).check(&Scope::default(), &NoObserver).unwrap();
    let (verified_by, at_last_check) = brief(false);
    assert!(verified_by.contains_key(&Authority::Store) && at_last_check, "the store is not used any more");
    assert_eq!(brief(true), (verified_by, false));
}

#[test]
fn explaining_tells_owner_difference_chain_and_remedy() {
    let place = Place::new();
    std::fs::write(place.world.at("/usr/share/quay/0"), "right X and more\n").unwrap();
    let mut engine = open(&place.world.settings());
    let path = SystemPath::literal("/usr/share/quay/0");
    let report = engine.explain_path(&path, &NoObserver).unwrap();
    let differs = report.differs.unwrap();
    assert_eq!((differs.offset, differs.line, differs.expected.as_str()), (6, Some(1), "30 0a"));
    assert_eq!((report.owners[0].name.as_str(), report.chain.len(), report.left.is_none()), ("quay", 5, true));
    let id = report.finding.unwrap().id;
    assert_eq!(engine.explain_finding(&id.as_str()[..4], &NoObserver).unwrap().path, Some(path));
    assert!(engine.explain_finding("zzzz", &NoObserver).is_err());
    let sound = engine.explain_path(&SystemPath::literal("/usr/share/quay/1"), &NoObserver).unwrap();
    assert!(sound.finding.is_none() && sound.expected.unwrap().size == Some(8));
    let nobody = engine.explain_path(&SystemPath::literal("/etc/passwd"), &NoObserver).unwrap();
    assert!(nobody.owners.is_empty() && nobody.remark.is_some());
    std::fs::remove_dir_all(place.world.at("/usr/share/pier")).unwrap();
    let below = engine.explain_path(&SystemPath::literal("/usr/share/pier/1"), &NoObserver).unwrap();
    assert_eq!(below.finding.unwrap().subject.as_path().unwrap().as_bytes(), b"/usr/share/pier");
}

#[test]
fn what_an_undo_refused_stays_open_and_is_undone_later() {
    let place = Place::new();
    place.damage("/usr/share/quay/0");
    place.damage("/usr/share/quay/1");
    repair(&place.settings("run", 0));
    // A person works on one of them: it is left, and nothing else is.
    std::fs::write(place.world.at("/usr/share/quay/1"), "mine\n").unwrap();
    let first = undo(&place.settings("undo", 1), None).unwrap();
    assert_eq!((first.changes[0].actions.len(), first.changes[0].refused.len()), (1, 1));
    assert_eq!(place.read("/usr/share/quay/0"), "wrong\n");
    assert_eq!(place.states()[0], (1, "undone in part".into()));
    // What that one undid already is not tried again.
    std::fs::write(place.world.at("/usr/share/quay/1"), "right 1\n").unwrap();
    let second = undo(&place.settings("undo the rest", 2), None).unwrap();
    assert_eq!((second.changes[0].of, second.changes[0].actions.len(), second.changes[0].refused.len()), (1, 1, 0));
    assert_eq!(place.read("/usr/share/quay/1"), "wrong\n");
    assert_eq!(place.states()[0], (1, "undone".into()));
    assert!(matches!(undo(&place.settings("nothing left", 3), None), Err(WorkError::NothingToUndo)));
}

#[test]
fn after_a_redo_an_undo_takes_the_redo_back() {
    let place = Place::new();
    place.damage("/usr/share/quay/0");
    place.damage("/usr/share/quay/1");
    repair(&place.settings("run", 0));
    let both = |text: [&str; 2]| {
        assert_eq!([place.read("/usr/share/quay/0"), place.read("/usr/share/quay/1")], text.map(str::to_owned));
    };
    let mut minute = 1;
    let mut again = |change: Option<u64>, of: u64| {
        minute += 1;
        let report = undo(&place.settings(&format!("undo {minute}"), minute), change).unwrap();
        assert!(report.changes[0].refused.is_empty(), "{report:#?}");
        assert_eq!((report.changes[0].of, report.changes[0].change), (of, Some(minute as u64)));
    };
    again(None, 1);
    both(["wrong\n", "wrong\n"]);
    again(Some(2), 2);
    both(["right 0\n", "right 1\n"]);
    // The first change is in effect by the redo alone.
    let refused = undo(&place.settings("not so", 90), Some(1)).unwrap_err().to_string();
    assert!(refused.contains("redone by change 3") && refused.contains("veritum undo 3"), "{refused}");
    again(None, 3);
    both(["wrong\n", "wrong\n"]);
    let words = ["undone", "done", "undone", "done"];
    assert_eq!(place.states().into_iter().map(|(_, state)| state).collect::<Vec<_>>(), words);
    again(Some(4), 4);
    again(None, 5);
    both(["wrong\n", "wrong\n"]);
    assert!(matches!(undo(&place.settings("nothing left", 99), None), Err(WorkError::NothingToUndo)));
}

#[test]
fn a_redo_of_half_an_undo_is_undone_by_itself() {
    let place = Place::new();
    place.damage("/usr/share/quay/0");
    place.damage("/usr/share/quay/1");
    repair(&place.settings("run", 0));
    undo(&place.settings("undo", 1), None).unwrap();
    std::fs::write(place.world.at("/usr/share/quay/1"), "mine\n").unwrap();
    let redone = undo(&place.settings("redo", 2), Some(2)).unwrap();
    assert_eq!((redone.changes[0].actions.len(), redone.changes[0].refused.len()), (1, 1));
    assert_eq!(place.read("/usr/share/quay/0"), "right 0\n");
    let back = undo(&place.settings("undo the redo", 3), None).unwrap();
    assert_eq!((back.changes[0].of, back.changes[0].actions.len(), back.changes[0].refused.len()), (3, 1, 0));
    assert_eq!((place.read("/usr/share/quay/0"), place.read("/usr/share/quay/1")), ("wrong\n".into(), "mine\n".into()));
}

/// Says stop after so many files were examined.
struct After(std::sync::atomic::AtomicI64);

impl Observer for After {
    fn on_event(&self, event: Event<'_>) -> Flow {
        let stops =
            matches!(event, Event::Advance { .. }) && self.0.fetch_sub(1, std::sync::atomic::Ordering::Relaxed) <= 0;
        if stops { Flow::Stop } else { Flow::Continue }
    }
}

#[test]
fn a_check_that_is_stopped_tells_what_it_found_until_then_and_calls_nothing_sound() {
    let place = Place::new();
    let before = open(&place.settings("whole", 0)).check(&Scope::default(), &NoObserver).unwrap();
    place.damage("/usr/share/pier/0");
    let mut outcomes = std::collections::BTreeSet::new();
    for reached in 0..i64::try_from(before.areas.iter().map(|a| a.examined).sum::<u64>()).unwrap() {
        let settings = Settings { jobs: 1, ..place.settings("stopped", 1) };
        let report = open(&settings).check(&Scope::default(), &After(reached.into())).unwrap();
        if !report.stopped {
            continue;
        }
        assert!(report.outcome == Outcome::Damaged || report.outcome == Outcome::Unchecked, "{reached}");
        assert!(report.unexamined.iter().any(|u| u.reason.contains("stopped before")), "{reached}");
        outcomes.insert(report.findings.len());
        let last = open(&settings).status(true).unwrap().last_check.unwrap();
        assert_eq!(last.problems, 0, "what was stopped is not the last check");
    }
    assert_eq!(outcomes.into_iter().collect::<Vec<_>>(), [0, 1], "the damaged file was reached or was not");
}

#[test]
fn a_finding_of_the_last_check_is_explained_without_looking_at_everything_again() {
    let place = Place::new();
    place.damage("/usr/share/quay/0");
    let found = open(&place.settings("check", 0)).check(&Scope::default(), &NoObserver).unwrap();
    let id = found.findings[0].id.as_str().to_owned();
    struct Looks(std::sync::atomic::AtomicU64);
    impl Observer for Looks {
        fn on_event(&self, event: Event<'_>) -> Flow {
            if let Event::Begin { phase: veritum_core::event::Phase::Comparing, items, .. } = event {
                self.0.fetch_add(items, std::sync::atomic::Ordering::Relaxed);
            }
            Flow::Continue
        }
    }
    let looks = Looks(0.into());
    let explained = open(&place.settings("explain", 1)).explain_finding(&id[..4], &looks).unwrap();
    assert_eq!(explained.finding.unwrap().id.as_str(), id);
    assert_eq!(looks.0.into_inner(), 1, "the path alone is looked at");
    // What is no longer so is not reported from memory.
    std::fs::write(place.world.at("/usr/share/quay/0"), "right 0\n").unwrap();
    assert!(open(&place.settings("explain", 2)).explain_finding(&id, &NoObserver).is_err());
}
