//! Each kind of damage alone, and all together: found, reported rightly, repaired exactly, undone exactly.

mod support;

use std::os::unix::fs::PermissionsExt;

use support::{Demo, assert_same, check, is_root, repair, told, undo};
use veritum_core::areas::STORE;
use veritum_core::report::Outcome;
use veritum_core::testkit::Tree;
use veritum_core::work::Settings;
use veritum_demo::{FAULTS, Fault};

fn possible() -> Vec<&'static Fault> {
    FAULTS
        .iter()
        .filter(|f| (is_root() || !f.needs_root) && !f.in_store && !f.in_updates && !f.in_homes && !f.stays && !f.many)
        .collect()
}

fn expected(faults: &[&Fault], note: bool) -> Vec<(String, &'static str)> {
    let places = |f: &&Fault| std::iter::once((f.path, f.verdict)).chain(f.also.iter().copied()).collect::<Vec<_>>();
    let of_kind = faults.iter().copied().filter(|f| f.note == note);
    let mut all: Vec<_> = of_kind.flat_map(|f| places(&f)).map(|(path, verdict)| (path.to_owned(), verdict)).collect();
    all.sort();
    all
}

/// A record that is put together again is as new as that.
fn without_times_of_records(mut tree: Tree) -> Tree {
    for (path, thing) in &mut tree.0 {
        if path.starts_with(b"var/lib/dpkg/") {
            thing.mtime = (0, 0);
        }
    }
    tree
}

fn homes(demo: &Demo) -> Tree {
    Tree::read(&demo.machine().join("home"), &[])
}

/// The whole life of some damage.
fn lives(faults: &[&'static Fault]) {
    let names: Vec<&str> = faults.iter().map(|f| f.name).collect();
    let what = names.join(", ");
    // What a repair must bring about: only what it may repaired is undone.
    let notes: Vec<&Fault> = faults.iter().copied().filter(|f| f.note).collect();
    let repaired = without_times_of_records(Demo::with(&notes).tree());
    let now = |demo: &Demo| without_times_of_records(demo.tree());
    let demo = Demo::with(faults);
    let (damaged, users) = (demo.tree(), homes(&demo));

    let report = check(&demo.settings());
    assert_eq!(told(&report.findings), expected(faults, false), "{what}");
    assert_eq!(told(&report.notes), expected(faults, true), "{what}");
    assert_same(&format!("{what}: a check changes nothing"), &damaged, &demo.tree());

    let report = repair(&demo.settings());
    assert!(report.areas.iter().all(|a| a.remaining.is_empty()), "{what}: {:?}", report.areas);
    assert_same(&format!("{what}: repaired"), &repaired, &now(&demo));
    let after = check(&demo.settings());
    assert_eq!((after.outcome, told(&after.findings)), (Outcome::Ok, vec![]), "{what}");

    let changes = report.areas.iter().filter(|a| a.change.is_some()).count() as u64;
    if changes > 0 {
        undo(&demo.settings(), None).unwrap();
        assert_same(&format!("{what}: undone"), &damaged, &demo.tree());
        for number in (changes + 1..=2 * changes).rev() {
            undo(&demo.settings(), Some(number)).unwrap();
        }
        assert_same(&format!("{what}: the undo undone"), &repaired, &now(&demo));
    }
    let touched = users.touched(&homes(&demo));
    assert!(touched.is_empty(), "{what}: users' folders were touched: {touched:?}");
}

#[test]
fn an_undamaged_machine_is_sound_and_nothing_is_noted() {
    let demo = Demo::with(&[]);
    let report = check(&demo.settings());
    assert_eq!((report.outcome, told(&report.findings), told(&report.notes)), (Outcome::Ok, vec![], vec![]));
    assert!(report.unexamined.is_empty(), "{:?}", report.unexamined);
}

#[test]
fn each_kind_of_damage_alone_is_found_and_repaired() {
    for fault in possible() {
        lives(&[fault]);
    }
}

#[test]
fn all_kinds_of_damage_together_are_found_and_repaired() {
    lives(&possible());
}

#[test]
fn the_answer_does_not_depend_on_how_many_threads_there_are() {
    let demo = Demo::with(&possible());
    let by = |jobs: usize| {
        let report = check(&Settings { jobs, ..demo.settings() });
        (
            report.findings,
            report.notes,
            report.left,
            report.more_strays,
            report.areas.iter().map(|a| a.examined).sum::<u64>(),
        )
    };
    let alone = by(1);
    for jobs in [2, 3, 7] {
        assert_eq!(by(jobs), alone, "{jobs} threads");
    }
}

#[test]
fn a_repair_keeps_no_staged_file_and_a_second_one_does_nothing() {
    let demo = Demo::with(&possible());
    repair(&demo.settings());
    let left: Vec<_> = demo.tree().0.into_keys().filter(|p| p.windows(9).any(|w| w == b".veritum-")).collect();
    assert!(left.is_empty(), "{left:?}");
    assert!(repair(&demo.settings()).areas.iter().all(|a| a.change.is_none()));
}

#[test]
fn a_check_by_the_local_database_finds_changed_content_and_says_that_it_is_weak() {
    let demo = Demo::with(&[
        veritum_demo::by_name("emptied-file").unwrap(),
        veritum_demo::by_name("missing-program").unwrap(),
    ]);
    let mut settings = demo.settings();
    settings.store = None;
    // An administrator who knows no vendor.
    settings.trust = demo.machine().join("nobody");
    let report = check(&settings);
    assert_eq!(told(&report.findings).len(), 2);
    assert!(
        report
            .findings
            .iter()
            .all(|f| f.verified_by == Some(veritum_core::model::Authority::Local) && f.remedy.is_none())
    );
    let intact = Demo::with(&[]);
    let mut settings = intact.settings();
    settings.store = None;
    let report = check(&settings);
    assert_eq!((report.outcome, told(&report.findings)), (Outcome::OkLimited, vec![]));
    assert!(report.areas.iter().any(|a| a.presence_only > 0));
}

#[test]
fn an_interrupted_installation_is_told_with_what_finishes_it_and_its_files_are_not_judged() {
    let fault = veritum_demo::by_name("half-installed").unwrap();
    let demo = Demo::with(&[fault, veritum_demo::by_name("status-corrupt").unwrap()]);
    let intact = without_times_of_records(Demo::with(&[fault]).tree());
    let report = repair(&demo.settings());
    let left: Vec<_> = report.areas.iter().flat_map(|a| &a.remaining).collect();
    assert_eq!(left.len(), 1, "{left:?}");
    assert!(left[0].action.as_ref().unwrap().contains("--reinstall harbourcam"), "{left:?}");
    assert_same("the rest of the table is back", &intact, &without_times_of_records(demo.tree()));
    let after = report.after.unwrap();
    assert!(after.unexamined.iter().any(|u| u.reason.contains("harbourcam")), "{:?}", after.unexamined);
}

#[test]
fn a_package_that_another_installer_replaced_is_one_cause_and_is_restored() {
    let fault = veritum_demo::by_name("replaced-package").unwrap();
    let demo = Demo::with(&[fault]);
    let report = check(&demo.settings());
    assert_eq!((report.findings.len(), report.doubt.as_ref()), (30, None));
    assert!(report.findings.iter().all(|f| f.cause.as_ref().is_some_and(|c| c.contains("another installer"))));
    repair(&demo.settings());
    let after = check(&demo.settings());
    assert_eq!((after.findings.len(), after.notes.len()), (0, 30), "what it brought is nobody's, and stays");
}

#[test]
fn the_demo_is_the_same_each_time() {
    let again = support::folder();
    let folder = again.path().join("demo");
    let options = veritum_demo::BuildOptions { folder: &folder, seed: 42, faults: &[], jobs: 1 };
    veritum_demo::build(options, &veritum_core::event::NoObserver).unwrap();
    let bare = |top: &std::path::Path| {
        let mut tree = Tree::read(top, &["lock", "incoming"]);
        // Only the machine's times are made; those of the other folders are the builder's.
        tree.0.values_mut().for_each(|t| t.mtime = (0, 0));
        tree
    };
    for part in ["machine", "repository", "store", "keys"] {
        let (first, second) = (bare(&support::pristine().join("demo").join(part)), bare(&folder.join(part)));
        assert_same(part, &first, &second);
    }
    let machine = |top: std::path::PathBuf| Tree::read(&top.join("machine"), &[]);
    assert_same("machine, with its times", &machine(support::pristine().join("demo")), &machine(folder));
}

#[test]
fn a_top_level_link_of_a_merged_system_is_restored_as_a_link() {
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
        assert_eq!(check(&demo.settings()).outcome, Outcome::Ok, "{target:?}");
    }
}

/// A machine with a store of its own that has this damage; the repository next to it.
fn with_hurt_store(faults: &[&Fault]) -> (Demo, veritum_core::work::Settings) {
    let demo = Demo::with(&[]);
    let folder = demo.machine().parent().unwrap().to_owned();
    for name in ["store", "repository"] {
        let from = support::pristine().join("demo").join(name);
        assert!(std::process::Command::new("cp").arg("-a").arg(from).arg(&folder).status().unwrap().success());
    }
    for fault in faults {
        veritum_demo::apply_to_store(&demo.machine(), &folder.join("store"), fault).unwrap();
    }
    let settings = veritum_core::work::Settings {
        store: Some(folder.join("store").into()),
        from: vec![veritum_core::work::Supplier::Place(folder.join("repository"))],
        ..demo.settings()
    };
    (demo, settings)
}

#[test]
fn each_kind_of_damage_to_the_store_is_found_and_repaired_and_the_machine_is_not_touched() {
    use veritum_core::event::NoObserver;
    use veritum_core::model::Scope;
    let whole = Scope::only(STORE);
    let all: Vec<&Fault> = FAULTS.iter().filter(|f| f.in_store).collect();
    assert_eq!(all.len(), 4);
    for faults in all.chunks(1).chain([all.as_slice()]) {
        let (demo, settings) = with_hurt_store(faults);
        let before = demo.tree();
        let report = support::open(&settings).check(&whole, &NoObserver).unwrap();
        let words = |note: bool| {
            let mut words: Vec<_> = faults.iter().filter(|f| f.note == note).map(|f| f.verdict).collect();
            words.sort_unstable();
            words
        };
        let mut found: Vec<_> = report.findings.iter().map(|f| f.verdict.word()).collect();
        found.sort_unstable();
        assert_eq!(found, words(false), "{faults:?}");
        assert_eq!(report.notes.iter().map(|n| n.verdict.word()).collect::<Vec<_>>(), words(true), "{faults:?}");
        for fault in faults.iter().filter(|f| !f.note) {
            let harms = |f: &&veritum_core::model::Finding| {
                let harm = f.harms.as_ref().unwrap();
                harm.paths.iter().any(|p| p.to_string() == fault.path)
                    || harm.packages.iter().any(|c| c.name == fault.path)
            };
            assert_eq!(report.findings.iter().filter(harms).count(), 1, "{fault:?}");
        }
        let yes = &mut |_: &veritum_core::work::Preview<'_>| veritum_core::work::Agreement::Yes;
        support::open(&settings).repair(&whole, &NoObserver, yes).unwrap();
        let after = support::open(&settings).check(&whole, &NoObserver).unwrap();
        assert_eq!((after.outcome, after.notes.len()), (Outcome::Ok, 0), "{faults:?} {:#?}", after.findings);
        assert_same("the machine", &before, &demo.tree());
    }
}

#[test]
fn owner_and_mode_of_the_root_itself_are_judged_and_repaired() {
    let demo = Demo::with(&[]);
    let (settings, root) = (demo.settings(), demo.machine());
    let set = |mode: u32| std::fs::set_permissions(&root, PermissionsExt::from_mode(mode)).unwrap();
    let is = || std::fs::metadata(&root).unwrap().permissions().mode() & 0o7777;
    set(0o755);
    assert!(check(&settings).findings.is_empty());
    set(0o777);
    assert_eq!(told(&check(&settings).findings), [("/".to_owned(), "wrong-permissions")]);
    let before = demo.tree();
    repair(&settings);
    assert_eq!(is(), 0o755);
    assert!(check(&settings).findings.is_empty());
    undo(&settings, None).unwrap();
    assert_same("undone", &before, &demo.tree());
    assert_eq!(is(), 0o777);
}
