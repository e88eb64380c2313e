//! A change of every kind of action on a disk that fails, stops or loses what was not synced, at every operation.

mod support;

use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::Arc;

use support::{STATE, assert_same, folder, open, repair, try_repair, undo};
use veritum_core::areas::{DATABASE, FILES};
use veritum_core::event::NoObserver;
use veritum_core::machine::{Disk, LiveDisk};
use veritum_core::testkit::{Accident, Lack, TestDisk, Tree};
use veritum_core::work::{Agreement, Engine, Settings};
use veritum_demo::world::World;

const IO: i32 = 5;
const FULL: i32 = 28;

/// A machine on which twenty things of every kind are damaged, and one as it is after the repair.
struct Pair {
    _dir: tempfile::TempDir,
    world: World,
    damaged: PathBuf,
    repaired: PathBuf,
    before: Tree,
    after: Tree,
}

fn tree(machine: &Path) -> Tree {
    Tree::read(machine, &[STATE])
}

/// What is compared: where a file is kept as a copy, its hard links come apart from it.
fn seen(lack: Lack, machine: &Path) -> Tree {
    if lack == Lack::Moving { tree(machine).apart() } else { tree(machine) }
}

fn copy(from: &Path, to: &Path) {
    let _ = std::fs::remove_dir_all(to);
    assert!(Command::new("cp").arg("-a").arg(from).arg(to).status().unwrap().success());
}

fn at(settings: &Settings, machine: &Path) -> Settings {
    Settings { root: machine.to_owned(), ..settings.clone() }
}

impl Pair {
    fn new() -> Self {
        let dir = folder();
        let world = support::twenty::world(&dir.path().join("world"));
        support::twenty::damage(&world);
        // Made beforehand, so that its making is no part of what is compared.
        std::fs::create_dir(world.at(STATE)).unwrap();
        let (damaged, repaired) = (dir.path().join("damaged"), dir.path().join("repaired"));
        copy(&world.machine(), &damaged);
        copy(&world.machine(), &repaired);
        let before = tree(&damaged);
        let report = repair(&at(&world.settings(), &repaired));
        assert!(
            report.area(FILES).unwrap().remaining.is_empty() && report.area(FILES).unwrap().actions.len() >= 12,
            "{report:#?}"
        );
        let after = tree(&repaired);
        Self { _dir: dir, world, damaged, repaired, before, after }
    }
}

/// Recovery, twice; afterwards it is all or nothing.
fn settle(what: &str, lack: Lack, settings: &Settings, outcomes: [&Tree; 2]) -> usize {
    for _ in 0..2 {
        let disk = Arc::new(TestDisk::lacking(lack, Accident::None));
        let engine = Engine::open(settings.clone(), disk).unwrap();
        engine.recover(&NoObserver).unwrap_or_else(|e| panic!("{what}: {e:?}"));
    }
    let now = seen(lack, &settings.root);
    let Some(which) = outcomes.iter().position(|t| t.differences(&now).is_empty()) else {
        let [a, b] = outcomes.map(|t| t.differences(&now).join("\n  "));
        panic!("{what}: neither the one nor the other:\n  {a}\n--\n  {b}");
    };
    assert!(open(settings).interrupted().unwrap().is_empty(), "{what}");
    which
}

/// Every accident on an ordinary file system; on those that lack something, the two that cover most.
fn accidents(lack: Lack, n: usize) -> Vec<Accident> {
    let all = [Accident::Fail(n, IO), Accident::Cut(n), Accident::Fail(n, FULL), Accident::Stop(n)];
    all.into_iter().take(if lack == Lack::Nothing { 4 } else { 2 }).collect()
}

/// Runs `work` with each accident at every operation; says how often each outcome was met.
fn sweep(
    lack: Lack,
    from: &Path,
    settings: &Settings,
    outcomes: [&Tree; 2],
    work: impl Fn(&Settings, Arc<dyn Disk>) -> bool,
    then: impl Fn(&Settings, usize),
) -> [usize; 2] {
    let here = folder();
    let machine = here.path().join("machine");
    let settings = at(settings, &machine);
    copy(from, &machine);
    let counting = Arc::new(TestDisk::lacking(lack, Accident::None));
    assert!(work(&settings, counting.clone()));
    assert_same("undisturbed", outcomes[1], &seen(lack, &machine));
    let total = counting.operations();
    assert!(total > 60, "only {total} operations");
    let mut met = [0, 0];
    // Where a file system lacks something, every other operation is enough: each kind comes many times.
    for n in (0..total).step_by(if lack == Lack::Nothing { 1 } else { 2 }) {
        for accident in accidents(lack, n) {
            copy(from, &machine);
            let disk = Arc::new(TestDisk::lacking(lack, accident));
            work(&settings, disk.clone());
            assert!(disk.happened(), "{accident:?}");
            drop(disk);
            let which = settle(&format!("{lack:?} {accident:?} of {total}"), lack, &settings, outcomes);
            met[which] += 1;
            // The way back is tried where it differs: not at every operation, so that the sweep stays short.
            if n % 7 == 0 {
                then(&settings, which);
            }
        }
    }
    met
}

fn sweep_repairs(lack: Lack) {
    let pair = Pair::new();
    let [before, after] = [&pair.damaged, &pair.repaired].map(|machine| seen(lack, machine));
    let met = sweep(
        lack,
        &pair.damaged,
        &pair.world.settings(),
        [&before, &after],
        |s, disk| try_repair(s, disk).is_ok(),
        |settings, which| {
            if which == 1 {
                undo(settings, None).unwrap();
                assert_same("undone after recovery", &before, &seen(lack, &settings.root));
            } else {
                repair(settings);
                assert_same("repaired after recovery", &after, &seen(lack, &settings.root));
            }
        },
    );
    assert!(met[0] > 50 && met[1] > 50, "both outcomes must be met: {met:?}");
}

fn sweep_undos(lack: Lack) {
    let pair = Pair::new();
    let [before, after] = [&pair.damaged, &pair.repaired].map(|machine| seen(lack, machine));
    let undo_on = |settings: &Settings, disk: Arc<dyn Disk>| {
        let engine = Engine::open(settings.clone(), disk);
        engine.is_ok_and(|w| w.undo(None, false, &NoObserver, &mut |_| Agreement::Yes).is_ok())
    };
    let outcomes = [&after, &before];
    let met = sweep(lack, &pair.repaired, &pair.world.settings(), outcomes, undo_on, |settings, which| {
        if which == 0 {
            undo(settings, Some(1)).unwrap();
            assert_same("undone after recovery", &before, &seen(lack, &settings.root));
        }
    });
    assert!(met[0] > 20 && met[1] > 20, "both outcomes must be met: {met:?}");
}

#[test]
fn a_repair_is_whole_or_not_at_all_whatever_the_disk_does() {
    sweep_repairs(Lack::Nothing);
}

#[test]
fn a_repair_is_whole_or_not_at_all_where_names_cannot_be_exchanged() {
    sweep_repairs(Lack::Exchange);
}

#[test]
fn a_repair_is_whole_or_not_at_all_where_nothing_can_be_moved_to_another_folder() {
    sweep_repairs(Lack::Moving);
}

#[test]
fn a_repair_of_the_package_database_is_whole_or_not_at_all_whatever_the_disk_does() {
    let dir = folder();
    let world = support::twenty::world(&dir.path().join("world"));
    std::fs::create_dir(world.at(STATE)).unwrap();
    let info = |name: &str| world.at("/var/lib/dpkg/info").join(name);
    std::fs::remove_file(info("quay.list")).unwrap();
    std::fs::remove_file(info("quay.md5sums")).unwrap();
    std::fs::create_dir(info("quay.md5sums")).unwrap();
    std::fs::write(info("pier.prerm"), "#!/bin/sh\n").unwrap();
    std::fs::write(world.at("/var/lib/dpkg/updates/0001"), [0; 64]).unwrap();
    let (damaged, repaired) = (dir.path().join("damaged"), dir.path().join("repaired"));
    copy(&world.machine(), &damaged);
    copy(&world.machine(), &repaired);
    let report = repair(&at(&world.settings(), &repaired));
    assert_eq!(report.area(DATABASE).unwrap().repaired, 4, "{report:#?}");
    let [before, after] = [&damaged, &repaired].map(|machine| tree(machine));
    let met = sweep(
        Lack::Nothing,
        &damaged,
        &world.settings(),
        [&before, &after],
        |s, disk| try_repair(s, disk).is_ok(),
        |settings, which| {
            if which == 1 {
                undo(settings, None).unwrap();
                assert_same("undone after recovery", &before, &tree(&settings.root));
            }
        },
    );
    assert!(met[0] > 50 && met[1] > 50, "both outcomes must be met: {met:?}");
}

#[test]
fn an_undo_is_whole_or_not_at_all_whatever_the_disk_does() {
    sweep_undos(Lack::Nothing);
}

#[test]
fn an_undo_is_whole_or_not_at_all_where_names_cannot_be_exchanged() {
    sweep_undos(Lack::Exchange);
}

#[test]
fn an_undo_is_whole_or_not_at_all_where_nothing_can_be_moved_to_another_folder() {
    sweep_undos(Lack::Moving);
}

#[test]
fn where_a_file_can_have_no_second_name_it_is_left_with_the_reason() {
    let pair = Pair::new();
    let here = folder();
    let machine = here.path().join("machine");
    copy(&pair.damaged, &machine);
    let settings = at(&pair.world.settings(), &machine);
    let report = try_repair(&settings, Arc::new(TestDisk::lacking(Lack::Names, Accident::None))).unwrap();
    let area = report.area(FILES).unwrap();
    let left = area.actions.iter().filter(|a| a.why.is_some()).collect::<Vec<_>>();
    assert!(left.iter().all(|a| a.why.as_deref().is_some_and(|w| w.contains("hard links"))), "{left:?}");
    assert!(left.iter().any(|a| a.subject.to_string().ends_with("/quay/one")) && !area.remaining.is_empty());
    // What needs no second name is done all the same: a folder's tree, a mode.
    let now = tree(&machine);
    assert!(now.0.contains_key(b"usr/share/pier/templates/letter".as_slice()));
    let changed = pair.before.differences(&now);
    assert!(changed.iter().any(|l| l.starts_with("usr/share/pier/mode: mode")), "{changed:?}");
    assert!(!changed.iter().any(|l| l.starts_with("usr/share/quay/one")), "{changed:?}");
    undo(&settings, None).unwrap();
    assert_same("undone", &pair.before, &tree(&machine));
}

#[test]
fn recovery_itself_may_be_interrupted_at_every_operation() {
    let pair = Pair::new();
    let here = folder();
    let machine = here.path().join("machine");
    let settings = at(&pair.world.settings(), &machine);
    for lack in [Lack::Nothing, Lack::Exchange] {
        let counting = Arc::new(TestDisk::lacking(lack, Accident::None));
        copy(&pair.damaged, &machine);
        try_repair(&settings, counting.clone()).unwrap();
        // One interruption before the commit record, one in the middle of the exchanges.
        for stop in [counting.operations() / 3, counting.operations() * 2 / 3] {
            for n in 0.. {
                copy(&pair.damaged, &machine);
                let _ = try_repair(&settings, Arc::new(TestDisk::lacking(lack, Accident::Stop(stop))));
                let disk = Arc::new(TestDisk::lacking(lack, Accident::Cut(n)));
                let _ = Engine::open(settings.clone(), disk.clone()).map(|w| w.recover(&NoObserver));
                let what = format!("{lack:?}, stopped at {stop}, recovery cut at {n}");
                settle(&what, lack, &settings, [&pair.before, &pair.after]);
                if !disk.happened() {
                    break;
                }
            }
        }
    }
}

#[test]
fn a_file_that_changes_between_check_and_exchange_is_left_alone() {
    let pair = Pair::new();
    let here = folder();
    let machine = here.path().join("machine");
    copy(&pair.damaged, &machine);
    let settings = at(&pair.world.settings(), &machine);
    let report = open(&settings)
        .repair(&veritum_core::model::Scope::default(), &NoObserver, &mut |_| {
            std::fs::write(machine.join("usr/share/quay/one"), "somebody is at work here").unwrap();
            Agreement::Yes
        })
        .unwrap();
    let action =
        report.area(FILES).unwrap().actions.iter().find(|a| a.subject.to_string().ends_with("/quay/one")).unwrap();
    assert_eq!(action.why.as_deref(), Some("changed since it was checked"));
    // The next round looks again, and then it is repaired; what a person wrote is kept.
    assert_eq!(tree(&machine).differences(&pair.after), Vec::<String>::new());
    undo(&settings, None).unwrap();
    assert_eq!(std::fs::read(machine.join("usr/share/quay/one")).unwrap(), b"somebody is at work here");
}

#[test]
fn an_undo_refuses_what_has_changed_since_and_takes_the_rest_back() {
    let pair = Pair::new();
    let here = folder();
    let machine = here.path().join("machine");
    copy(&pair.repaired, &machine);
    std::fs::write(machine.join("usr/share/quay/one"), "edited after the repair").unwrap();
    let report = undo(&at(&pair.world.settings(), &machine), None).unwrap();
    assert_eq!(report.changes[0].refused.len(), 1);
    assert_eq!(std::fs::read(machine.join("usr/share/quay/one")).unwrap(), b"edited after the repair");
    assert_eq!(std::fs::read(machine.join("usr/share/quay/two")).unwrap(), b"");
}

#[test]
fn nothing_is_made_on_a_disk_that_cannot_be_written() {
    let pair = Pair::new();
    let here = folder();
    let machine = here.path().join("machine");
    copy(&pair.damaged, &machine);
    let settings = at(&pair.world.settings(), &machine);
    let disk: Arc<dyn Disk> = Arc::new(TestDisk::new(Accident::Stop(0)));
    let report = Engine::open(settings.clone(), disk);
    // Looking is done by reading alone: the very first change stops everything, and there is none.
    let report = report
        .and_then(|mut w| w.plan_repair(&veritum_core::model::Scope::default(), &NoObserver, &mut |_| {}))
        .unwrap();
    assert!(report.plan_only && report.before.problems() >= 12);
    assert_same("only looked at", &pair.before, &tree(&machine));
    let _: &dyn Disk = &LiveDisk;
}
