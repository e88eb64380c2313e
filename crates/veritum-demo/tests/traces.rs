//! What a check leaves behind: nothing on a machine that is mounted from elsewhere, and notes with the administrator.

mod support;

use support::{check, folder, open, small_world};
use veritum_core::event::NoObserver;
use veritum_core::model::{Scope, SystemPath};
use veritum_core::testkit::Tree;
use veritum_core::work::Settings;

#[test]
fn whatever_only_looks_leaves_a_mounted_machine_as_it_was_state_folder_and_all() {
    let dir = folder();
    let world = small_world(dir.path());
    std::fs::write(world.at("/usr/share/quay/part-1"), "wrong\n").unwrap();
    let everything = || Tree::read(&world.machine(), &[]);
    let before = everything();
    check(&world.settings());
    check(&Settings { quick: true, ..world.settings() });
    let mut engine = open(&world.settings());
    engine.status(true).unwrap();
    engine.list_changes().unwrap();
    engine.explain_path(&SystemPath::literal("/usr/share/quay/part-1"), &NoObserver).unwrap();
    engine.plan_repair(&Scope::default(), &NoObserver, &mut |_| {}).unwrap();
    assert!(engine.recover(&NoObserver).unwrap().changes.is_empty());
    support::assert_same("nothing is written", &before, &everything());
    assert_eq!(open(&world.settings()).status(true).unwrap().last_check.unwrap().problems, 1);
}

#[test]
fn notes_on_a_machine_are_filed_by_its_own_id_wherever_it_is_mounted() {
    let dir = folder();
    let world = small_world(dir.path());
    let id = "0123456789abcdef0123456789abcdef";
    std::fs::write(world.at("/etc/machine-id"), format!("{id}\n")).unwrap();
    check(&world.settings());
    assert!(world.settings().notes.unwrap().join(id).join("last-check.json").exists());
    let elsewhere = dir.path().join("elsewhere");
    std::fs::rename(world.machine(), &elsewhere).unwrap();
    let there = Settings { root: elsewhere.clone(), ..world.settings() };
    assert!(open(&there).status(true).unwrap().last_check.is_some());
    // An id is foreign bytes: one that points elsewhere is none.
    for id in ["../../../etc", "", "0123", "0123456789abcdef0123456789abcdeg"] {
        std::fs::write(elsewhere.join("etc/machine-id"), id).unwrap();
        check(&there);
        let names: Vec<_> =
            std::fs::read_dir(there.notes.as_ref().unwrap()).unwrap().map(|e| e.unwrap().file_name()).collect();
        assert_eq!(names.len(), 2, "{id:?}: {names:?}");
    }
}

#[test]
fn with_a_state_folder_that_was_named_the_notes_lie_there_and_without_a_place_nowhere() {
    let dir = folder();
    let world = small_world(dir.path());
    let state = dir.path().join("state");
    check(&Settings { state_dir: Some(state.clone()), ..world.settings() });
    assert!(state.join("last-check.json").exists() && !world.settings().notes.unwrap().exists());
    let nowhere = Settings { notes: None, ..world.settings() };
    check(&nowhere);
    assert!(open(&nowhere).status(true).unwrap().last_check.is_none());
}
