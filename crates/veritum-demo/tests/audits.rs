//! The store itself: damage found, named by what it would have harmed, repaired from every kind of source, never used.

#[path = "support/mounts.rs"]
mod mounts;
mod support;

use std::path::{Path, PathBuf};

use support::{check, folder, open, spoil};
use veritum_core::areas::{DATABASE, FILES, STORE};
use veritum_core::event::{Event, Flow, NoObserver, Observer, Phase};
use veritum_core::model::{ActionResult, AreaName, Digest, Finding, PackageId, Scope, Verdict};
use veritum_core::report::{CheckReport, Outcome, RepairReport};
use veritum_core::store;
use veritum_core::trust::Versions;
use veritum_core::work::{Agreement, Settings, Supplier};
use veritum_demo::world::{World, add, add_file, package};
use veritum_demo::{Content, Seed};

/// A machine, its store, a copy of the store, and the packages.
struct Place {
    dir: tempfile::TempDir,
    world: World,
}

const PARTS: usize = 6;

fn place() -> Place {
    let dir = folder();
    let mut quay = package("quay", "1.0-1");
    for n in 0..PARTS {
        add_file(&mut quay, &format!("/usr/share/quay/part-{n}"), &format!("right {n}\n"));
    }
    add(&mut quay, "/usr/bin/quay", Content::File(vec![3; 900_000]), 0o755);
    let mut pier = package("pier", "2.0");
    add_file(&mut pier, "/usr/share/pier/part", "right 0\n");
    pier.scripts.push(("postinst", "#!/bin/sh\ntrue\n".into()));
    let world = World::new(&dir.path().join("world"), &[quay, pier]);
    copy(&world.store(), &dir.path().join("copy"));
    Place { dir, world }
}

fn copy(from: &Path, to: &Path) {
    assert!(std::process::Command::new("cp").arg("-a").arg(from).arg(to).status().unwrap().success());
}

impl Place {
    fn copy(&self) -> PathBuf {
        self.dir.path().join("copy")
    }

    fn from(&self, place: PathBuf) -> Settings {
        Settings { from: vec![Supplier::Place(place)], ..self.world.settings() }
    }

    fn object(&self, text: &[u8]) -> PathBuf {
        let hex = Digest::hash(text).to_hex();
        self.world.store().join(format!("objects/{}/{}.zst", &hex[..2], &hex[2..]))
    }

    fn files(&self) -> Vec<PathBuf> {
        let mut all = Vec::new();
        let mut folders = vec![self.world.store()];
        while let Some(folder) = folders.pop() {
            for entry in std::fs::read_dir(folder).unwrap() {
                let path = entry.unwrap().path();
                if path.is_dir() { folders.push(path) } else { all.push(path) }
            }
        }
        all.retain(|p| p.file_name().unwrap() != "lock");
        all.sort();
        all
    }

    fn lose(&self, text: &[u8]) {
        std::fs::remove_file(self.object(text)).unwrap();
    }

    fn machine_loses(&self, part: usize) {
        std::fs::write(self.world.at(&format!("/usr/share/quay/part-{part}")), "wrong\n").unwrap();
    }
}

fn only_store() -> Scope {
    Scope::only(STORE)
}

fn audit(settings: &Settings) -> CheckReport {
    open(settings).check(&only_store(), &NoObserver).unwrap()
}

fn fix(settings: &Settings) -> RepairReport {
    open(settings).repair(&only_store(), &NoObserver, &mut |_| Agreement::Yes).unwrap()
}

fn one(report: &CheckReport) -> &Finding {
    let [finding] = report.findings.as_slice() else { panic!("{:#?}", report.findings) };
    finding
}

#[test]
fn a_whole_store_is_sound_and_all_of_it_was_read() {
    let place = place();
    let report = audit(&place.world.settings());
    assert_eq!((report.outcome, report.findings.len(), report.notes.len()), (Outcome::Ok, 0, 0));
    assert!(
        report.area(STORE).unwrap().bytes > 900_000 && report.area(STORE).unwrap().extent.is_some(),
        "{:?}",
        report.areas
    );
    let plain = check(&place.world.settings());
    assert!([STORE, DATABASE, FILES].into_iter().all(|area| plain.area(area).is_some()), "{:?}", plain.areas);
    assert_eq!((plain.outcome, plain.area(STORE).unwrap().bytes), (Outcome::Ok, 0), "contents are not read unasked");
}

#[test]
fn a_damaged_content_is_told_by_the_packages_and_paths_that_it_would_have_harmed() {
    let place = place();
    std::fs::write(place.object(b"right 0\n"), "rubbish").unwrap();
    let report = audit(&place.world.settings());
    let found = one(&report);
    assert_eq!(found.verdict, Verdict::Altered);
    let harm = found.harms.as_ref().unwrap();
    let packages: Vec<&str> = harm.packages.iter().map(|c| c.name.as_str()).collect();
    let paths: Vec<String> = harm.paths.iter().map(ToString::to_string).collect();
    assert_eq!(
        (packages, paths),
        (vec!["pier", "quay"], vec!["/usr/share/pier/part".into(), "/usr/share/quay/part-0".into()])
    );
}

#[test]
fn each_source_gives_back_what_it_has_and_the_machine_is_not_touched() {
    // The machine itself, another store, packages.
    for (source, machine_has) in [(None, true), (Some("copy"), false), (Some("world/pool"), false)] {
        let place = place();
        let settings = match source {
            Some(name) => place.from(place.dir.path().join(name)),
            None => place.world.settings(),
        };
        place.lose(b"right 1\n");
        std::fs::write(place.object(b"right 2\n"), "").unwrap();
        if !machine_has {
            place.machine_loses(1);
            place.machine_loses(2);
        }
        let before = veritum_core::testkit::Tree::read(&place.world.machine(), &[]);
        let done = fix(&settings);
        assert_eq!(
            (
                done.area(STORE).unwrap().area.clone(),
                done.area(STORE).unwrap().repaired,
                done.area(STORE).unwrap().change
            ),
            (STORE, 2, None),
            "{source:?}"
        );
        assert!(
            done.area(STORE).unwrap().remaining.is_empty(),
            "{source:?}: {:?}",
            done.area(STORE).unwrap().remaining
        );
        assert_eq!(audit(&place.world.settings()).outcome, Outcome::Ok, "{source:?}");
        support::assert_same("the machine", &before, &veritum_core::testkit::Tree::read(&place.world.machine(), &[]));
        let aside: Vec<_> = place.files().into_iter().filter(|p| p.to_string_lossy().contains("set-aside")).collect();
        assert_eq!(aside.len(), 1, "{source:?}: what was damaged is kept: {aside:?}");
    }
}

#[test]
fn without_a_source_it_is_left_with_what_to_do_and_nothing_is_written() {
    let place = place();
    place.lose(b"right 1\n");
    place.machine_loses(1);
    let before = place.files();
    let done = fix(&place.world.settings());
    let [left] = done.area(STORE).unwrap().remaining.as_slice() else { panic!("{done:#?}") };
    assert!(left.action.as_ref().unwrap().contains("--from"), "{left:?}");
    assert_eq!(before, place.files());
}

#[test]
fn a_damaged_store_never_damages_a_file_and_a_plain_repair_puts_it_right_first() {
    let place = place();
    for part in [1, 2] {
        place.machine_loses(part);
        std::fs::write(place.object(format!("right {part}\n").as_bytes()), "rubbish").unwrap();
    }
    // Nothing available: found without being asked to read the store, and left.
    let report = support::repair(&place.world.settings());
    let came_to = |area: AreaName| report.area(area).map(|a| (a.repaired, a.remaining.len())).unwrap();
    assert_eq!([came_to(STORE), came_to(DATABASE), came_to(FILES)], [(0, 2), (0, 0), (0, 2)]);
    assert_eq!(std::fs::read_to_string(place.world.at("/usr/share/quay/part-1")).unwrap(), "wrong\n");
    // With the package: one question, the store first, then the files.
    let settings = place.from(place.world.pool());
    let mut asked = 0;
    let report = open(&settings)
        .repair(&Scope::default(), &NoObserver, &mut |preview| {
            asked += 1;
            assert_eq!(preview.actions.len(), 4, "{:#?}", preview.actions);
            Agreement::Yes
        })
        .unwrap();
    assert_eq!(
        (asked, report.area(STORE).unwrap().repaired, report.area(FILES).unwrap().repaired),
        (1, 2, 2),
        "{:#?}",
        report.areas
    );
    assert_eq!(report.after.unwrap().outcome, Outcome::Ok);
    assert_eq!(check(&place.world.settings()).outcome, Outcome::Ok);
}

#[test]
fn a_missing_content_shows_in_a_plain_check_and_a_store_without_its_rights_is_left() {
    let place = place();
    place.lose(b"right 4\n");
    let report = check(&place.world.settings());
    assert_eq!((one(&report).verdict, one(&report).area.clone()), (Verdict::Missing, STORE));
    assert_eq!(report.area(DATABASE).unwrap().outcome, Outcome::Ok, "the machine's own file is OK");
}

#[test]
fn manifests_are_restored_from_packages_and_from_other_stores() {
    for source in ["world/pool", "copy"] {
        let place = place();
        let manifests: Vec<PathBuf> =
            place.files().into_iter().filter(|p| p.starts_with(place.world.store().join("manifests"))).collect();
        std::fs::write(&manifests[0], "rubbish").unwrap();
        std::fs::remove_file(&manifests[1]).unwrap();
        let report = audit(&place.world.settings());
        assert_eq!(report.findings.len(), 2, "{:#?}", report.findings);
        assert!(report.notes.is_empty(), "what a lost manifest names is not superfluous: {:#?}", report.notes);
        // The machine's files are judged by something weaker meanwhile, and that is said.
        assert_eq!(check(&place.world.settings()).area(DATABASE).unwrap().outcome, Outcome::OkLimited);
        fix(&place.from(place.dir.path().join(source)));
        assert_eq!(audit(&place.world.settings()).outcome, Outcome::Ok, "{source}");
    }
}

#[test]
fn what_is_looked_at_later_is_told_only_where_it_is_looked_at() {
    let place = place();
    let manifest = place.files().into_iter().find(|path| path.to_string_lossy().contains("/manifests/")).unwrap();
    std::fs::write(&manifest, "rubbish").unwrap();
    let told = |scope: &Scope| {
        let mut told = false;
        let ask = &mut |preview: &veritum_core::work::Preview<'_>| {
            told |= preview.remarks.iter().any(|remark| remark.contains("after the store is repaired"));
        };
        open(&place.from(place.copy())).plan_repair(scope, &NoObserver, ask).unwrap();
        told
    };
    assert!(!told(&only_store()), "nothing but the store is looked at");
    assert!(told(&Scope::default()));
}

#[test]
fn what_is_superfluous_goes_aside_and_what_belongs_there_never_does() {
    let place = place();
    let store = place.world.store();
    let stranger = Digest::hash(b"stranger").to_hex();
    let folder = store.join(format!("objects/{}", &stranger[..2]));
    std::fs::create_dir_all(&folder).unwrap();
    std::fs::write(folder.join(format!("{}.zst", &stranger[2..])), "x").unwrap();
    std::fs::write(store.join("notes.txt"), "x").unwrap();
    // A folder in the place of a content is in its way, not unused.
    place.lose(b"right 3\n");
    std::fs::create_dir(place.object(b"right 3\n")).unwrap();
    let report = audit(&place.world.settings());
    assert_eq!((report.findings.len(), report.notes.iter().filter(|n| n.verdict == Verdict::Unowned).count()), (1, 1));
    // Once all contents are known, the stranger among them can be reported: that is asked on its own.
    let mut asked = Vec::new();
    open(&place.world.settings())
        .repair(&only_store(), &NoObserver, &mut |preview| {
            asked.push((preview.actions.len(), preview.further));
            if preview.further { Agreement::No } else { Agreement::Yes }
        })
        .unwrap();
    assert_eq!(asked, [(2, false), (1, true)]);
    let report = audit(&place.world.settings());
    assert_eq!((report.outcome, report.notes.len()), (Outcome::Ok, 1), "{:#?}", report.notes);
    fix(&place.world.settings());
    assert!(audit(&place.world.settings()).notes.is_empty());
    assert!(store.join("set-aside/test/notes.txt").is_file() && !store.join("notes.txt").exists());
}

#[test]
fn each_signed_file_alone_is_named_and_is_restored_from_a_copy_of_the_store() {
    let signed = |place: &Place| -> Vec<PathBuf> {
        let store = place.world.store();
        let is = |p: &PathBuf| ["metadata", "targets"].iter().any(|f| p.starts_with(store.join(f)));
        place.files().into_iter().filter(|p| is(p) || p.ends_with("store.json")).collect()
    };
    let count = signed(&place()).len();
    assert_eq!(count, 6);
    for at in 0..count {
        for missing in [false, true] {
            let place = place();
            let file = signed(&place)[at].clone();
            let whole = std::fs::read(&file).unwrap();
            if missing {
                std::fs::remove_file(&file).unwrap();
            } else {
                std::fs::write(&file, &whole[..whole.len() / 2]).unwrap();
            }
            let report = audit(&place.world.settings());
            let name = file.strip_prefix(place.world.store()).unwrap().to_string_lossy().into_owned();
            assert_eq!(one(&report).subject.name(), Some(name.as_str()));
            assert_eq!(one(&report).verdict, if missing { Verdict::Missing } else { Verdict::Altered }, "{name}");
            // A plain check goes on with what else there is.
            let plain = check(&place.world.settings());
            assert_eq!(plain.outcome, Outcome::Damaged, "{name}");
            assert!(plain.area(FILES).is_some_and(|files| files.examined > 0), "{name}: {:?}", plain.areas);
            fix(&place.from(place.copy()));
            assert_eq!(audit(&place.world.settings()).outcome, Outcome::Ok, "{name}");
            assert_eq!(std::fs::read(&file).unwrap(), whole, "{name}");
        }
    }
}

#[test]
fn the_index_and_the_list_of_keys_need_no_copy_and_the_maintainer_can_sign_the_rest_again() {
    let place = place();
    let store = place.world.store();
    let index = place.files().into_iter().find(|p| p.starts_with(store.join("targets"))).unwrap();
    std::fs::write(&index, "{}").unwrap();
    std::fs::write(store.join("metadata/1.root.json"), "{}").unwrap();
    assert!(fix(&place.world.settings()).area(STORE).unwrap().remaining.is_empty());
    assert_eq!(audit(&place.world.settings()).outcome, Outcome::Ok);

    std::fs::write(store.join("metadata/timestamp.json"), "{}").unwrap();
    let left = fix(&place.world.settings()).area(STORE).unwrap().remaining.clone();
    assert!(left[0].action.as_ref().unwrap().contains("store sign"), "{left:?}");
    let expires = jiff::Timestamp::from_second(veritum_demo::EXPIRES).unwrap();
    let key = place.world.keys().publish;
    let made = store::publish(&store, &key, expires, &place.world.scratch(), Versions::default()).unwrap();
    assert!(made.signed && made.versions.timestamp == 2, "newer than what could no longer be read");
    assert_eq!(audit(&place.world.settings()).outcome, Outcome::Ok);
}

#[test]
fn an_older_copy_does_not_bring_a_store_back_in_time() {
    let place = place();
    let mut extra = package("extra", "1");
    add_file(&mut extra, "/usr/share/extra/x", "x\n");
    let deb = place.dir.path().join("extra.deb");
    std::fs::write(&deb, veritum_demo::write_deb(&extra).unwrap()).unwrap();
    let store = place.world.store();
    store::fill(&store, &[deb], 2, &NoObserver).unwrap();
    let expires = jiff::Timestamp::from_second(veritum_demo::EXPIRES).unwrap();
    store::publish(&store, &place.world.keys().publish, expires, &place.world.scratch(), Versions::default()).unwrap();
    assert_eq!(audit(&place.world.settings()).outcome, Outcome::Ok, "seen from now on");
    std::fs::write(store.join("metadata/timestamp.json"), "{}").unwrap();
    let tried = open(&place.from(place.copy())).repair(&only_store(), &NoObserver, &mut |_| Agreement::Yes);
    let refused = match tried {
        Ok(done) => format!("{:?}", done.area(STORE).unwrap().remaining),
        Err(e) => e.to_string(),
    };
    assert!(refused.contains("older than"), "{refused}");
    assert_eq!(std::fs::read(store.join("metadata/timestamp.json")).unwrap(), b"{}");
}

#[test]
fn a_stranger_who_replaces_the_list_of_keys_is_no_damage() {
    let place = place();
    let other = folder();
    let stranger = World::new(&other.path().join("world"), &[package("quay", "1.0-1")]);
    for name in ["metadata/1.root.json", "metadata/timestamp.json"] {
        std::fs::copy(stranger.store().join(name), place.world.store().join(name)).unwrap();
    }
    // The same keys would be the same owner: these are seeds of the test, so another root is written.
    let keys = veritum_core::trust::StoreKeys {
        root: veritum_core::trust::KeyPair::from_seed(&[9; 32]).unwrap(),
        publish: veritum_core::trust::KeyPair::from_seed(&[8; 32]).unwrap(),
    };
    let expires = jiff::Timestamp::from_second(veritum_demo::EXPIRES).unwrap();
    let root = veritum_core::trust::first_root(&keys, expires).unwrap();
    std::fs::write(place.world.store().join("metadata/1.root.json"), root).unwrap();
    let refused = open(&place.world.settings()).check(&only_store(), &NoObserver).unwrap_err();
    assert!(refused.to_string().contains("not trusted"), "{refused}");
}

#[test]
fn pipes_and_links_in_a_store_are_neither_waited_for_nor_believed() {
    let place = place();
    let pipe = |path: &Path| {
        let _ = std::fs::remove_file(path);
        let kind = rustix::fs::FileType::Fifo;
        rustix::fs::mknodat(rustix::fs::CWD, path, kind, rustix::fs::Mode::RWXU, 0).unwrap();
    };
    pipe(&place.object(b"right 1\n"));
    pipe(&place.world.store().join("metadata/timestamp.json"));
    let report = audit(&place.from(place.copy()));
    assert_eq!(one(&report).subject.name(), Some("metadata/timestamp.json"));
    fix(&place.from(place.copy()));
    assert_eq!(audit(&place.world.settings()).outcome, Outcome::Ok);
}

#[test]
fn any_damage_to_a_store_is_found_or_harmless_and_a_copy_puts_it_right() {
    let chance = &mut Seed::new(20_261_123, "audits");
    let mut found_some = 0;
    for round in 0..60 {
        let place = place();
        let files = place.files();
        let mut changed = Vec::new();
        for _ in 0..1 + chance.below(4) {
            let file = &files[usize::try_from(chance.below(files.len() as u64)).unwrap()];
            match chance.below(4) {
                0 if file.exists() => std::fs::remove_file(file).unwrap(),
                _ if file.exists() => drop(spoil(file, chance)),
                _ => {}
            }
            changed.push(file.clone());
        }
        let settings = place.from(place.copy());
        // A version that was flipped into a higher one is refused rather than guessed at.
        let Ok(before) = open(&settings).check(&only_store(), &NoObserver) else { continue };
        found_some += usize::from(before.outcome == Outcome::Damaged);
        let done = fix(&settings);
        assert!(done.areas.iter().all(|a| a.remaining.is_empty()), "{round}: {changed:?} {:#?}", done.areas);
        let after = audit(&place.world.settings());
        assert_eq!(after.outcome, Outcome::Ok, "{round}: {changed:?} {:#?}", after.findings);
        assert_eq!(check(&place.world.settings()).outcome, Outcome::Ok, "{round}: {changed:?}");
    }
    assert!(found_some > 50, "{found_some}");
}

#[test]
fn what_waits_for_the_next_signing_is_audited_and_never_superfluous() {
    let place = place();
    let mut extra = package("extra", "1");
    add_file(&mut extra, "/usr/share/extra/x", "waits\n");
    let deb = place.dir.path().join("extra.deb");
    std::fs::write(&deb, veritum_demo::write_deb(&extra).unwrap()).unwrap();
    store::fill(&place.world.store(), &[deb], 2, &NoObserver).unwrap();
    let report = audit(&place.world.settings());
    assert_eq!((report.outcome, report.notes.len()), (Outcome::Ok, 0), "{:#?}", report.notes);
    place.lose(b"waits\n");
    let report = audit(&place.world.settings());
    let harmed: Vec<PackageId> = one(&report).harms.clone().unwrap().packages;
    assert_eq!(harmed[0].name, "extra");
}

/// Says stop when the first part of a store was repaired.
#[derive(Default)]
struct StopsMending(std::sync::atomic::AtomicBool);

impl Observer for StopsMending {
    fn on_event(&self, event: Event<'_>) -> Flow {
        use std::sync::atomic::Ordering::Relaxed;
        if matches!(event, Event::Begin { phase: Phase::Mending, .. }) {
            self.0.store(true, Relaxed);
        }
        if self.0.load(Relaxed) && matches!(event, Event::Advance { .. }) { Flow::Stop } else { Flow::Continue }
    }
}

#[test]
fn an_interrupted_repair_of_a_store_tells_what_was_done_and_goes_on_the_next_time() {
    let place = place();
    (1..4).for_each(|part| place.lose(format!("right {part}\n").as_bytes()));
    let settings = place.from(place.copy());
    let done = open(&settings).repair(&only_store(), &StopsMending::default(), &mut |_| Agreement::Yes).unwrap();
    assert_eq!(
        (done.area(STORE).unwrap().repaired, done.area(STORE).unwrap().remaining.len()),
        (1, 2),
        "{:#?}",
        done.area(STORE).unwrap()
    );
    assert_eq!(done.area(STORE).unwrap().actions.iter().filter(|a| a.result == ActionResult::Failed).count(), 2);
    assert_eq!(fix(&settings).area(STORE).unwrap().repaired, 2);
    assert_eq!(audit(&place.world.settings()).outcome, Outcome::Ok);
}

#[test]
fn a_store_without_room_is_told_as_that_and_no_source_is_called_damaged() {
    if !mounts::root_or_skip("a small disk") {
        return;
    }
    let place = place();
    let large = Seed::new(9, "large").bytes(600_000);
    let mut tower = package("tower", "1.0");
    add(&mut tower, "/usr/share/tower/large", Content::File(large.clone()), 0o644);
    let world = World::new(&place.dir.path().join("other"), &[tower]);
    let disk = place.dir.path().join("small");
    let _mounted = mounts::Mounted::new(&disk, &["-t", "tmpfs", "-o", "size=900k", "tmpfs"]);
    copy(&world.store(), &disk);
    let hex = Digest::hash(&large).to_hex();
    let object = disk.join(format!("store/objects/{}/{}.zst", &hex[..2], &hex[2..]));
    std::fs::remove_file(&object).unwrap();
    std::fs::write(disk.join("filler"), vec![1; 500_000]).unwrap();
    let sources = [None, Some(world.store())];
    for from in sources {
        let from: Vec<Supplier> = from.into_iter().map(Supplier::Place).collect();
        let settings = Settings { store: Some(disk.join("store").into()), from, ..world.settings() };
        let done = fix(&settings);
        assert_eq!(done.area(STORE).unwrap().repaired, 0);
        let why = done.area(STORE).unwrap().actions[0].why.as_deref().unwrap_or_default();
        assert!(why.to_lowercase().contains("no space") && !why.contains("damaged"), "{why}");
        assert!(!object.exists());
    }
    std::fs::remove_file(disk.join("filler")).unwrap();
    let settings = Settings { store: Some(disk.join("store").into()), ..world.settings() };
    assert_eq!(fix(&settings).area(STORE).unwrap().repaired, 1);
}
