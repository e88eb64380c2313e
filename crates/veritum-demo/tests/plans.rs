//! What is planned for each kind of damage: which action, what is asked, what is left alone and why.

mod support;

use std::fs;
use std::os::unix::fs::{PermissionsExt as _, symlink};

use support::{check, files_of, folder, open, repair, undo};
use veritum_core::areas::FILES;
use veritum_core::event::NoObserver;
use veritum_core::model::{Digest, Scope};
use veritum_core::report::RepairReport;
use veritum_core::work::{Agreement, Settings};
use veritum_demo::Content;
use veritum_demo::world::{World, add, add_file, package};

struct Place {
    _dir: tempfile::TempDir,
    world: World,
}

impl Place {
    fn new() -> Self {
        let dir = folder();
        let mut quay = package("quay", "1.0-1");
        for name in ["one", "two", "three"] {
            add_file(&mut quay, &format!("/usr/share/quay/{name}"), &format!("right {name}\n"));
        }
        add_file(&mut quay, "/usr/share/quay/charts/deep/a", "a\n");
        add(&mut quay, "/usr/share/quay/charts/deep/b", Content::Name("/usr/share/quay/charts/deep/a".into()), 0o644);
        add(&mut quay, "/usr/share/quay/link", Content::Link("one".into()), 0o777);
        let mut pier = package("pier", "1.0-1");
        add_file(&mut pier, "/lib/pier/below", "below\n");
        add(&mut pier, "/usr/bin/pier", Content::File(vec![7; 3000]), 0o755);
        add(&mut pier, "/usr/bin/pier-b", Content::Name("/usr/bin/pier".into()), 0o755);
        let world = World::new(&dir.path().join("world"), &[quay, pier]);
        Self { _dir: dir, world }
    }

    fn settings(&self) -> Settings {
        self.world.settings()
    }

    fn plan(&self, settings: &Settings) -> RepairReport {
        open(settings).plan_repair(&Scope::default(), &NoObserver, &mut |_| {}).unwrap()
    }

    /// Path, action, things and bytes of what is planned.
    fn planned(&self) -> Vec<(String, String, u64, u64)> {
        let report = self.plan(&self.settings());
        assert!(report.plan_only && report.area(FILES).unwrap().change.is_none());
        let of = |a: &veritum_core::report::ActionReport| {
            (a.subject.to_string(), a.action.word().to_owned(), a.things, a.bytes)
        };
        let mut all: Vec<_> = report.area(FILES).unwrap().actions.iter().map(of).collect();
        all.sort();
        all
    }

    fn left(&self, settings: &Settings) -> Vec<(String, String, bool)> {
        let report = self.plan(settings);
        report
            .area(FILES)
            .unwrap()
            .remaining
            .iter()
            .map(|l| (l.subject.to_string(), l.reason.clone(), l.action.is_some()))
            .collect()
    }

    fn write(&self, path: &str, text: &str) {
        fs::write(self.world.at(path), text).unwrap();
    }
}

fn row(path: &str, action: &str, things: u64, bytes: u64) -> (String, String, u64, u64) {
    (path.into(), action.into(), things, bytes)
}

#[test]
fn a_sound_machine_needs_nothing_and_the_plan_says_so() {
    let place = Place::new();
    let report = place.plan(&place.settings());
    assert!(
        report.area(FILES).unwrap().actions.is_empty()
            && report.area(FILES).unwrap().remaining.is_empty()
            && report.after.is_none()
    );
}

#[test]
fn each_kind_of_damage_has_its_action() {
    let place = Place::new();
    let at = |path: &str| place.world.at(path);
    place.write("/usr/share/quay/one", "wrong\n");
    fs::remove_file(at("/usr/share/quay/two")).unwrap();
    fs::set_permissions(at("/usr/share/quay/three"), fs::Permissions::from_mode(0o600)).unwrap();
    fs::remove_dir_all(at("/usr/share/quay/charts")).unwrap();
    fs::remove_file(at("/usr/share/quay/link")).unwrap();
    symlink("two", at("/usr/share/quay/link")).unwrap();
    // The other name still has the right content: nothing needs to be fetched.
    fs::remove_file(at("/usr/bin/pier-b")).unwrap();
    assert_eq!(
        place.planned(),
        [
            row("/usr/bin/pier-b", "relink", 1, 0),
            row("/usr/share/quay/charts", "restore", 4, 2),
            row("/usr/share/quay/link", "restore", 1, 0),
            row("/usr/share/quay/one", "restore", 1, 10),
            row("/usr/share/quay/three", "set-permissions", 1, 0),
            row("/usr/share/quay/two", "restore", 1, 10),
        ]
    );
}

#[test]
fn of_a_file_with_two_names_one_is_written_and_the_other_is_a_name_of_it() {
    let place = Place::new();
    for name in ["/usr/bin/pier", "/usr/bin/pier-b"] {
        fs::remove_file(place.world.at(name)).unwrap();
    }
    assert_eq!(place.planned(), [row("/usr/bin/pier", "restore", 1, 3000), row("/usr/bin/pier-b", "relink", 1, 0)]);
}

#[test]
fn a_plan_writes_nothing() {
    let place = Place::new();
    place.write("/usr/share/quay/one", "wrong\n");
    let before = veritum_core::testkit::Tree::read(&place.world.machine(), &[]);
    place.planned();
    assert!(before.touched(&veritum_core::testkit::Tree::read(&place.world.machine(), &[])).is_empty());
}

#[test]
fn without_a_store_everything_is_left_with_what_to_give() {
    let place = Place::new();
    place.write("/usr/share/quay/one", "wrong\n");
    let left = place.left(&Settings { store: None, ..place.settings() });
    let reason = "known from the local package database only".to_owned();
    assert_eq!(left, [("/usr/share/quay/one".to_owned(), reason, true)]);
}

#[test]
fn a_content_that_the_store_lacks_is_left_and_the_rest_is_repaired() {
    let place = Place::new();
    place.write("/usr/share/quay/one", "wrong\n");
    place.write("/usr/share/quay/two", "wrong\n");
    let hex = Digest::hash(b"right one\n").to_hex();
    fs::remove_file(place.world.store().join(format!("objects/{}/{}.zst", &hex[..2], &hex[2..]))).unwrap();
    let report = repair(&place.settings());
    let area = files_of(&report);
    assert_eq!((area.repaired, area.remaining.len()), (1, 1), "{area:?}");
    assert_eq!(area.remaining[0].subject.to_string(), "/usr/share/quay/one");
    assert!(area.remaining[0].reason.contains("does not have its content"), "{:?}", area.remaining);
    assert!(
        area.remaining[0]
            .action
            .as_ref()
            .map(ToString::to_string)
            .as_deref()
            .is_some_and(|n| n.contains("veritum store add"))
    );
    assert_eq!(fs::read_to_string(place.world.at("/usr/share/quay/two")).unwrap(), "right two\n");
    assert_eq!(fs::read_to_string(place.world.at("/usr/share/quay/one")).unwrap(), "wrong\n");
}

/// A link of the merged system that is missing hides what is damaged below it.
fn hidden_damage() -> Place {
    let place = Place::new();
    fs::remove_file(place.world.at("/lib")).unwrap();
    place.write("/usr/lib/pier/below", "wrong\n");
    let found = support::told(&check(&place.settings()).findings);
    assert_eq!(found.iter().map(|(path, _)| path.as_str()).collect::<Vec<_>>(), ["/lib"]);
    place
}

#[test]
fn what_comes_to_light_later_is_asked_about_again() {
    let place = hidden_damage();
    let mut asked = Vec::new();
    let report = open(&place.settings())
        .repair(&Scope::default(), &NoObserver, &mut |preview| {
            asked.push((preview.further, preview.actions.iter().map(|a| a.subject.to_string()).collect::<Vec<_>>()));
            Agreement::Yes
        })
        .unwrap();
    assert_eq!(asked.len(), 2, "{asked:?}");
    assert_eq!(asked[0], (false, vec!["/lib".to_owned()]));
    assert!(asked[1].0 && asked[1].1[0].ends_with("pier/below"), "{asked:?}");
    assert!(report.area(FILES).unwrap().remaining.is_empty(), "{:?}", report.area(FILES).unwrap().remaining);
    assert_eq!(fs::read_to_string(place.world.at("/usr/lib/pier/below")).unwrap(), "below\n");
    // Both rounds are one change, and are undone as one.
    undo(&place.settings(), None).unwrap();
    assert!(!place.world.at("/lib").exists());
    assert_eq!(fs::read_to_string(place.world.at("/usr/lib/pier/below")).unwrap(), "wrong\n");
}

#[test]
fn a_no_to_what_came_to_light_later_leaves_just_that() {
    let place = hidden_damage();
    let mut answers = [Agreement::Yes, Agreement::No].into_iter();
    let report = open(&place.settings())
        .repair(&Scope::default(), &NoObserver, &mut |_| answers.next().expect("two questions"))
        .unwrap();
    assert!(place.world.at("/lib").exists());
    assert_eq!(fs::read_to_string(place.world.at("/usr/lib/pier/below")).unwrap(), "wrong\n");
    let area = report.area(FILES).unwrap();
    assert_eq!(area.remaining.len(), 1, "{area:?}");
    assert!(area.remaining[0].subject.to_string().ends_with("pier/below"));
    assert!(area.remaining[0].reason.contains("found by the final check"), "{:?}", area.remaining);
}

#[test]
fn nothing_is_asked_that_is_not_carried_out_then() {
    let place = Place::new();
    place.write("/usr/share/quay/one", "wrong\n");
    let mut asked = 0;
    let report = open(&place.settings())
        .repair(&Scope::default(), &NoObserver, &mut |_| {
            asked += 1;
            // A person is at work: what was agreed to cannot be done, and there is more by now.
            place.write("/usr/share/quay/one", "wrong in another way\n");
            place.write("/usr/share/quay/two", "wrong\n");
            Agreement::Yes
        })
        .unwrap();
    assert_eq!(
        (asked, report.area(FILES).unwrap().repaired, report.area(FILES).unwrap().remaining.len()),
        (1, 0, 2),
        "{:?}",
        report.areas
    );
}

#[test]
fn a_change_of_two_rounds_at_one_place_is_undone_whole() {
    let place = Place::new();
    // The folder is restored in the first round, and only then can the other name be made one with it.
    fs::remove_dir_all(place.world.at("/usr/share/quay/charts/deep")).unwrap();
    fs::create_dir(place.world.at("/usr/share/quay/charts/deep")).unwrap();
    place.write("/usr/share/quay/charts/deep/mine", "mine\n");
    let before = veritum_core::testkit::Tree::read(&place.world.machine(), &[support::STATE]);
    let report = repair(&place.settings());
    assert!(report.area(FILES).unwrap().remaining.is_empty());
    let report = undo(&place.settings(), None).unwrap();
    assert!(report.changes[0].refused.is_empty(), "{:?}", report.changes[0].refused);
    let now = veritum_core::testkit::Tree::read(&place.world.machine(), &[support::STATE]);
    assert_eq!(before.differences(&now), Vec::<String>::new());
}

#[test]
fn what_a_package_sets_itself_stays_where_it_can_be_seen_and_is_named_where_it_cannot() {
    let dir = folder();
    let mut quay = package("quay", "1.0-1");
    add(&mut quay, "/usr/lib/quay/switch", Content::File(vec![5; 300]), 0o755);
    quay.scripts.push(("postinst", "#!/bin/sh\nchmod 4755 /usr/lib/quay/switch\n".into()));
    let world = World::new(&dir.path().join("world"), &[quay]);
    let place = world.at("/usr/lib/quay/switch");
    let mode = || fs::metadata(&place).unwrap().permissions().mode() & 0o7777;
    fs::set_permissions(&place, fs::Permissions::from_mode(0o4755)).unwrap();
    assert!(check(&world.settings()).findings.is_empty());
    let damaged = |bits: u32| {
        fs::write(&place, "wrong").unwrap();
        fs::set_permissions(&place, fs::Permissions::from_mode(bits)).unwrap();
        repair(&world.settings())
    };
    let report = damaged(0o750);
    assert_eq!((report.area(FILES).unwrap().repaired, mode()), (1, 0o750));
    assert!(report.before.findings[0].action.as_ref().unwrap().contains("dpkg-reconfigure quay"));
    // Privilege that only the machine remembers is not given unasked.
    damaged(0o4755);
    assert_eq!(mode(), 0o755);
}

#[test]
fn the_loader_and_its_library_are_put_last_and_side_by_side() {
    let dir = folder();
    let mut runtime = package("abeam-runtime", "1.0-1");
    for name in ["ld-linux-demo.so.2", "libc.so.6", "libm.so.6"] {
        add_file(&mut runtime, &format!("/usr/lib/{name}"), name);
    }
    let mut quay = package("quay", "1.0-1");
    add_file(&mut quay, "/usr/lib/aaa", "a\n");
    add_file(&mut quay, "/usr/lib/zzz", "z\n");
    let world = World::new(&dir.path().join("world"), &[runtime, quay]);
    for name in ["aaa", "ld-linux-demo.so.2", "libc.so.6", "libm.so.6", "zzz"] {
        fs::write(world.at(&format!("/usr/lib/{name}")), "x").unwrap();
    }
    let report = open(&world.settings()).plan_repair(&Scope::default(), &NoObserver, &mut |_| {}).unwrap();
    let order: Vec<_> = report.area(FILES).unwrap().actions.iter().map(|a| a.subject.to_string()).collect();
    let names: Vec<_> = order.iter().map(|p| p.rsplit('/').next().unwrap()).collect();
    assert_eq!(names, ["aaa", "zzz", "ld-linux-demo.so.2", "libc.so.6", "libm.so.6"]);
}
