//! Each kind of damage alone, and all together: found, told rightly, put right exactly, taken back exactly.

mod support;

use support::{Demo, assert_same, check, is_root, repair, told, undo};
use veritum_core::report::OutcomeWord;
use veritum_core::testkit::Tree;
use veritum_demo::{FAULTS, Fault};

fn possible() -> Vec<&'static Fault> {
    FAULTS.iter().filter(|f| is_root() || !f.needs_root).collect()
}

fn expected(faults: &[&Fault], note: bool) -> Vec<(String, &'static str)> {
    let mut all: Vec<_> = faults.iter().filter(|f| f.note == note).map(|f| (f.path.to_owned(), f.verdict)).collect();
    all.sort();
    all
}

fn homes(demo: &Demo) -> Tree {
    Tree::take(&demo.machine().join("home"), &[])
}

/// The whole life of some damage.
fn lives(faults: &[&'static Fault]) {
    let names: Vec<&str> = faults.iter().map(|f| f.name).collect();
    let what = names.join(", ");
    // What a repair must bring about: only what it may put right is undone.
    let notes: Vec<&Fault> = faults.iter().copied().filter(|f| f.note).collect();
    let repaired = Demo::with(&notes).tree();
    let demo = Demo::with(faults);
    let (damaged, users) = (demo.tree(), homes(&demo));

    let report = check(&demo.settings());
    assert_eq!(told(&report.findings), expected(faults, false), "{what}");
    assert_eq!(told(&report.notes), expected(faults, true), "{what}");
    assert_same(&format!("{what}: a check changes nothing"), &damaged, &demo.tree());

    let report = repair(&demo.settings());
    assert!(report.areas[0].remaining.is_empty(), "{what}: {:?}", report.areas[0].remaining);
    assert_same(&format!("{what}: repaired"), &repaired, &demo.tree());
    let after = check(&demo.settings());
    assert_eq!((after.outcome, told(&after.findings)), (OutcomeWord::Sound, vec![]), "{what}");

    if report.areas[0].change.is_some() {
        undo(&demo.settings(), None).unwrap();
        assert_same(&format!("{what}: undone"), &damaged, &demo.tree());
        undo(&demo.settings(), Some(2)).unwrap();
        assert_same(&format!("{what}: the undo undone"), &repaired, &demo.tree());
    }
    let touched = users.touched(&homes(&demo));
    assert!(touched.is_empty(), "{what}: users' folders were touched: {touched:?}");
}

#[test]
fn an_undamaged_machine_is_sound_and_nothing_is_noted() {
    let demo = Demo::with(&[]);
    let report = check(&demo.settings());
    assert_eq!((report.outcome, told(&report.findings), told(&report.notes)), (OutcomeWord::Sound, vec![], vec![]));
    assert!(report.unexamined.is_empty(), "{:?}", report.unexamined);
}

#[test]
fn each_kind_of_damage_alone_is_found_and_put_right() {
    for fault in possible() {
        lives(&[fault]);
    }
}

#[test]
fn all_kinds_of_damage_together_are_found_and_put_right() {
    lives(&possible());
}

#[test]
fn a_repair_keeps_no_staged_file_and_a_second_one_does_nothing() {
    let demo = Demo::with(&possible());
    repair(&demo.settings());
    let left: Vec<_> = demo.tree().0.into_keys().filter(|p| p.windows(9).any(|w| w == b".veritum-")).collect();
    assert!(left.is_empty(), "{left:?}");
    assert_eq!(repair(&demo.settings()).areas[0].change, None);
}

#[test]
fn a_check_by_the_machines_own_records_finds_changed_content_and_says_that_it_is_weak() {
    let demo = Demo::with(&[
        veritum_demo::by_name("emptied-file").unwrap(),
        veritum_demo::by_name("missing-program").unwrap(),
    ]);
    let mut settings = demo.settings();
    settings.store = None;
    // An operator who knows no vendor.
    settings.trust = demo.machine().join("nobody");
    let report = check(&settings);
    assert_eq!(told(&report.findings).len(), 2);
    assert!(
        report
            .findings
            .iter()
            .all(|f| f.vouched_by == Some(veritum_core::model::Voucher::Itself) && f.remedy.is_none())
    );
    let intact = Demo::with(&[]);
    let mut settings = intact.settings();
    settings.store = None;
    let report = check(&settings);
    assert_eq!((report.outcome, told(&report.findings)), (OutcomeWord::SoundAsKnown, vec![]));
    assert!(report.areas[0].presence_only > 0);
}

#[test]
fn the_demo_is_the_same_each_time() {
    let again = support::folder();
    let folder = again.path().join("demo");
    let options = veritum_demo::BuildOptions { folder: &folder, seed: 42, faults: &[], jobs: 1 };
    veritum_demo::build(options, &veritum_core::event::Silent).unwrap();
    let bare = |top: &std::path::Path| {
        let mut tree = Tree::take(top, &["lock", "incoming"]);
        // Only the machine's times are made; those of the other folders are the builder's.
        tree.0.values_mut().for_each(|t| t.mtime = (0, 0));
        tree
    };
    for part in ["machine", "archive", "store", "keys"] {
        let (first, second) = (bare(&support::pristine().join("demo").join(part)), bare(&folder.join(part)));
        assert_same(part, &first, &second);
    }
    let machine = |top: std::path::PathBuf| Tree::take(&top.join("machine"), &[]);
    assert_same("machine, with its times", &machine(support::pristine().join("demo")), &machine(folder));
}

#[test]
fn a_top_level_link_of_a_merged_system_comes_back_as_a_link() {
    for target in [Some("/home/mirela"), Some("usr/sbin"), None] {
        let demo = Demo::with(&[]);
        let lib = demo.machine().join("lib");
        std::fs::remove_file(&lib).unwrap();
        if let Some(target) = target {
            std::os::unix::fs::symlink(target, &lib).unwrap();
        }
        let found = told(&check(&demo.settings()).findings);
        assert!(found.len() == 1 && found[0].0 == "/lib", "{target:?}: {found:?}");
        repair(&demo.settings());
        assert_eq!(std::fs::read_link(&lib).unwrap(), std::path::Path::new("usr/lib"));
        assert_eq!(check(&demo.settings()).outcome, OutcomeWord::Sound, "{target:?}");
    }
}
