//! Hostile input: packages, stores, links, change logs. A clear error or finding, nothing written outside, no panic.

mod support;

use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};

use support::{STATE, check, files_of, folder, open, repair, small_world as world, spoil, told, undo};
use veritum_core::areas::{DATABASE, FILES, STORE};
use veritum_core::event::NoObserver;
use veritum_core::model::{Authority, Digest, SystemPath};
use veritum_core::store::{self, StoreError};
use veritum_core::testkit::Tree;
use veritum_core::trust::{KeyPair, StoreKeys};
use veritum_core::work::{Engine, WorkError};
use veritum_demo::world::{World, add_file, package};
use veritum_demo::{Seed, write_deb};

fn damage(world: &World) {
    std::fs::write(world.at("/usr/share/quay/part-1"), "wrong\n").unwrap();
    std::fs::remove_file(world.at("/usr/bin/quay")).unwrap();
}

// --- packages ---

fn error_of(world: &World) -> WorkError {
    let mut engine = open(&world.settings());
    engine.check(&Default::default(), &NoObserver).expect_err("this store must not be used")
}

fn files_below(folder: &Path) -> Vec<PathBuf> {
    let tree = Tree::read(folder, &[]);
    use std::os::unix::ffi::OsStrExt as _;
    tree.0.iter().filter(|(_, t)| t.kind == 'f').map(|(p, _)| folder.join(std::ffi::OsStr::from_bytes(p))).collect()
}

#[test]
fn a_damaged_content_is_never_written_and_the_rest_is_repaired() {
    let dir = folder();
    let world = world(dir.path());
    damage(&world);
    let object = |text: &[u8]| {
        let hex = Digest::hash(text).to_hex();
        world.store().join("objects").join(&hex[..2]).join(format!("{}.zst", &hex[2..]))
    };
    std::fs::write(object(b"right 1\n"), zstd::bulk::compress(b"evil 1!\n", 1).unwrap()).unwrap();
    let report = repair(&world.settings());
    let left = &files_of(&report).remaining;
    assert_eq!((left.len(), files_of(&report).repaired), (1, 1), "{left:?}");
    assert!(
        left[0].reason.contains("does not have its content"),
        "what is damaged is as good as none: {}",
        left[0].reason
    );
    let told = report.before.findings.iter().find(|f| f.area == STORE).unwrap();
    assert_eq!(told.harms.as_ref().unwrap().paths[0].to_string(), "/usr/share/quay/part-1");
    assert_eq!(std::fs::read(world.at("/usr/share/quay/part-1")).unwrap(), b"wrong\n");
    std::fs::remove_file(object(b"right 1\n")).unwrap();
    let report = repair(&world.settings());
    assert!(files_of(&report).remaining[0].reason.contains("does not have its content"), "{:?}", report.areas);
}

#[test]
fn altered_metadata_a_stranger_and_an_older_copy_are_refused() {
    let dir = folder();
    let world = world(dir.path());
    let old_metadata = dir.path().join("old");
    let copy = |from: &Path, to: &Path| {
        assert!(std::process::Command::new("cp").arg("-aT").arg(from).arg(to).status().unwrap().success())
    };
    copy(&world.store().join("metadata"), &old_metadata);
    check(&world.settings());
    for file in
        files_below(&world.store().join("metadata")).into_iter().chain(files_below(&world.store().join("targets")))
    {
        let bytes = std::fs::read(&file).unwrap();
        let mut altered = bytes.clone();
        let middle = altered.len() / 2;
        altered[middle] ^= 1;
        std::fs::write(&file, &altered).unwrap();
        let report = check(&world.settings());
        let told = &report.findings[0];
        let name = file.strip_prefix(world.store()).unwrap().to_string_lossy().into_owned();
        assert_eq!((told.area.clone(), told.subject.name()), (STORE, Some(name.as_str())));
        assert!(
            !report.area(DATABASE).unwrap().verified_by.contains_key(&Authority::Store),
            "{name}: nothing of it is believed"
        );
        std::fs::write(&file, bytes).unwrap();
    }
    // A newer signing is seen, then the older copy is restored.
    let mut more = package("more", "1.0");
    add_file(&mut more, "/usr/share/more", "more\n");
    let path = dir.path().join("more.deb");
    std::fs::write(&path, write_deb(&more).unwrap()).unwrap();
    store::fill(&world.store(), &[path], 1, &NoObserver).unwrap();
    let expires = jiff::Timestamp::from_second(veritum_demo::EXPIRES).unwrap();
    store::publish(&world.store(), &world.keys().publish, expires, &world.scratch(), Default::default()).unwrap();
    check(&world.settings());
    copy(&old_metadata, &world.store().join("metadata"));
    assert!(matches!(error_of(&world), WorkError::Store(StoreError::RolledBack { .. })));
    // A stranger's store at the same place.
    std::fs::remove_dir_all(world.store()).unwrap();
    let strange = || KeyPair::generate().unwrap();
    store::create(
        &world.store(),
        &dir.path().join("strange"),
        &StoreKeys { root: strange(), publish: strange() },
        expires,
    )
    .unwrap();
    assert!(matches!(error_of(&world), WorkError::Store(StoreError::NotTrusted { other_keys: true, .. })));
}

#[test]
fn an_altered_manifest_is_not_believed_and_that_is_said() {
    let dir = folder();
    let world = world(dir.path());
    let manifest = files_below(&world.store().join("manifests")).remove(0);
    let plain = zstd::bulk::decompress(&std::fs::read(&manifest).unwrap(), 1 << 20).unwrap();
    let forged = String::from_utf8(plain).unwrap().replace("/usr/share/quay/part-0", "/usr/share/quay/part-9");
    std::fs::write(&manifest, zstd::bulk::compress(forged.as_bytes(), 1).unwrap()).unwrap();
    let report = check(&world.settings());
    let told = report.findings.iter().find(|f| f.area == STORE).unwrap();
    assert_eq!(told.harms.as_ref().unwrap().packages[0].name, "quay");
    assert!(report.area(DATABASE).unwrap().verified_by.keys().all(|v| *v == Authority::Local));
}

/// Every file is as it was, or as it should be.
fn old_or_right(world: &World, what: &str) {
    for (path, allowed) in [
        ("/usr/share/quay/part-1", [&b"wrong\n"[..], b"right 1\n"]),
        ("/usr/share/quay/part-0", [b"right 0\n", b"right 0\n"]),
        ("/home/mirela/letter", [b"private\n", b"private\n"]),
    ] {
        let now = std::fs::read(world.at(path)).unwrap();
        assert!(allowed.contains(&now.as_slice()), "{what}: {path} is {now:?}");
    }
    let program = std::fs::read(world.at("/usr/bin/quay")).unwrap_or_default();
    assert!(program.is_empty() || program == vec![3; 3000], "{what}");
}

#[test]
fn a_thousand_random_damages_to_the_store_never_reach_the_machine() {
    let dir = folder();
    let world = world(dir.path());
    let files = files_below(&world.store());
    let mut chance = Seed::new(11, "store");
    let (mut mended, mut whole, mut part) = (0, 0, 0);
    for case in 0..1000 {
        damage(&world);
        let _ = std::fs::remove_dir_all(world.at(STATE));
        let file = &files[usize::try_from(chance.below(files.len() as u64)).unwrap()];
        let before = spoil(file, &mut chance);
        let what = format!("case {case}, {}", file.display());
        match support::try_repair(&world.settings(), std::sync::Arc::new(veritum_core::machine::LiveDisk)) {
            // What was altered into a newer format is refused.
            Err(_) => {}
            Ok(report) => {
                mended += usize::from(report.areas.iter().any(|a| a.area == STORE && a.repaired > 0));
                if files_of(&report).remaining.is_empty() { whole += 1 } else { part += 1 }
            }
        }
        old_or_right(&world, &what);
        std::fs::write(file, before).unwrap();
        let _ = std::fs::remove_file(world.at("/usr/bin/quay"));
        std::fs::write(world.at("/usr/bin/quay"), vec![3; 3000]).unwrap();
    }
    assert!(
        mended > 20 && whole > 20 && part > 20,
        "each outcome must be met: {mended} mended first, {whole} whole, {part} in part"
    );
}

#[test]
fn a_thousand_random_damages_to_the_state_folder_never_reach_the_machine() {
    let dir = folder();
    let world = world(dir.path());
    damage(&world);
    repair(&world.settings());
    let good = dir.path().join("good");
    let copy = |from: &Path, to: &Path| {
        let _ = std::fs::remove_dir_all(to);
        assert!(std::process::Command::new("cp").arg("-aT").arg(from).arg(to).status().unwrap().success());
    };
    copy(&world.machine(), &good);
    // A second, interrupted change next to the whole one: its change log ends at the commit record.
    let mut chance = Seed::new(12, "state");
    let (mut failed, mut done) = (0, 0);
    for case in 0..1000 {
        copy(&good, &world.machine());
        let _ = std::fs::remove_file(world.at(&format!("{STATE}/reserve")));
        let files: Vec<PathBuf> = files_below(&world.at(STATE)).into_iter().filter(|f| !f.ends_with("lock")).collect();
        let file = &files[usize::try_from(chance.below(files.len() as u64)).unwrap()];
        spoil(file, &mut chance);
        let what = format!("case {case}, {}", file.display());
        let engine = open(&world.settings());
        let _ = engine.list_changes();
        let _ = engine.status(true);
        let recovered = engine.recover(&NoObserver);
        match undo(&world.settings(), None) {
            Ok(report) if recovered.is_ok() && report.changes.iter().all(|c| c.refused.is_empty()) => done += 1,
            _ => failed += 1,
        }
        old_or_right(&world, &what);
    }
    assert!(failed > 50 && done > 50, "each outcome must be met: {failed} failed, {done} done");
}

#[test]
fn links_in_a_store_are_not_written_through() {
    let dir = folder();
    let mine = dir.path().join("mine");
    for name in ["incoming", "objects", "filled", "metadata"] {
        let inner = tempfile::tempdir_in(dir.path()).unwrap();
        let world = world(inner.path());
        std::fs::create_dir_all(mine.join("fill-me")).unwrap();
        std::fs::write(mine.join("fill-me/letter"), "mine\n").unwrap();
        let place = world.store().join(name);
        std::fs::rename(&place, world.store().join("aside")).unwrap();
        symlink(&mine, &place).unwrap();
        let mut odd = package("odd", "3.0");
        add_file(&mut odd, "/usr/share/odd", "odd\n");
        let deb = inner.path().join("odd.deb");
        std::fs::write(&deb, write_deb(&odd).unwrap()).unwrap();
        let before = Tree::read(&mine, &[]);
        store::fill(&world.store(), &[deb], 1, &NoObserver).expect_err(name);
        assert!(before.touched(&Tree::read(&mine, &[])).is_empty(), "{name}");
    }
}

// --- links and change logs ---

#[test]
fn links_that_lead_out_are_found_and_never_followed() {
    let dir = folder();
    let outside = dir.path().join("outside");
    for below in ["share/quay", "quay/deep", "deep"] {
        std::fs::create_dir_all(outside.join(below)).unwrap();
    }
    for file in ["share/quay/part-1", "quay/deep/inside", "deep/inside", "inside", "part-1", "quay-program"] {
        std::fs::write(outside.join(file), "outside\n").unwrap();
    }
    let before = Tree::read(&outside, &[]);
    let climbing = format!("../../../../../../../../../../{}", outside.display());
    for place in [
        "/usr/share/quay",
        "/usr/lib/quay",
        "/usr/lib/quay/deep",
        "/usr/share/quay/part-1",
        "/usr/bin/quay",
        "/usr/share",
    ] {
        for target in [
            outside.display().to_string(),
            climbing.clone(),
            "/home/mirela".into(),
            "/proc/self/root".into(),
            "nowhere".into(),
        ] {
            let inner = tempfile::tempdir_in(dir.path()).unwrap();
            let world = world(inner.path());
            let home = Tree::read(&world.at("/home"), &[]);
            let path = world.at(place);
            if path.is_dir() {
                std::fs::remove_dir_all(&path).unwrap()
            } else {
                std::fs::remove_file(&path).unwrap()
            }
            symlink(&target, &path).unwrap();
            let what = format!("{place} -> {target}");
            assert_eq!(told(&check(&world.settings()).findings), [(place.to_owned(), "wrong-type")], "{what}");
            let report = repair(&world.settings());
            assert!(
                report.area(FILES).unwrap().remaining.is_empty(),
                "{what}: {:?}",
                report.area(FILES).unwrap().remaining
            );
            assert_eq!(check(&world.settings()).problems(), 0, "{what}");
            undo(&world.settings(), None).unwrap();
            assert_eq!(std::fs::read_link(&path).unwrap(), Path::new(&target), "{what}");
            assert!(
                before.touched(&Tree::read(&outside, &[])).is_empty()
                    && home.touched(&Tree::read(&world.at("/home"), &[])).is_empty(),
                "{what}"
            );
        }
    }
}

/// A change log of our making with these records.
fn forge(world: &World, records: &[serde_json::Value]) {
    let folder = world.at(STATE).join("changes/1");
    std::fs::create_dir_all(&folder).unwrap();
    let mode =
        |path: &Path| std::fs::set_permissions(path, std::os::unix::fs::PermissionsExt::from_mode(0o700)).unwrap();
    mode(&world.at(STATE));
    let mut bytes = Vec::new();
    for record in records {
        let json = serde_json::to_vec(record).unwrap();
        bytes.extend(format!("{:08x} {} ", json.len(), &Digest::hash(&json).to_hex()[..16]).bytes());
        bytes.extend(json);
        bytes.push(b'\n');
    }
    std::fs::write(folder.join("journal"), bytes).unwrap();
}

#[test]
fn a_hostile_change_log_writes_nowhere_it_should_not() {
    use serde_json::json;
    let stat = json!({"kind":"file","mode":420,"uid":0,"gid":0,"size":8,"mtime":{"s":0,"n":0},"ctime":{"s":0,"n":0},"id":{"dev":1,"ino":1},"names":1,"rdev":0});
    let begin = json!({"record":"begin","format":"veritum.journal/1","writer":"0","change":1,"verb":"repair","area":"files","started":"2026-03-04T07:30:00Z","run":"x"});
    for place in [
        "/home/mirela/letter",
        "/usr/share/out/letter",
        "/root/x",
        "/etc/../home/mirela/letter",
        "/proc/self/cwd/x",
        "/var/lib/veritum/lock",
    ] {
        for operation in [
            json!("set-aside"),
            json!({"set-meta":{"mode":511,"uid":0,"gid":0}}),
            json!({"put":[{"below":"/","kind":"folder","mode":511,"uid":0,"gid":0,"mtime":0}]}),
            json!({"return":{"change":1,"round":1,"index":1,"kept":{"stat":stat.clone(),"digest":null},"folder":{"top":"/home/mirela"}}}),
        ] {
            let dir = folder();
            let world = world(dir.path());
            symlink("/home/mirela", world.at("/usr/share/out")).unwrap();
            std::fs::write(world.at("/home/mirela/.veritum-1-1-1"), "named like ours\n").unwrap();
            let home = Tree::read(&world.at("/home"), &[]);
            let letter =
                std::os::unix::fs::MetadataExt::ino(&std::fs::metadata(world.at("/home/mirela/letter")).unwrap());
            let mut seen = stat.clone();
            seen["id"] = json!({"dev": std::os::unix::fs::MetadataExt::dev(&std::fs::metadata(world.machine()).unwrap()), "ino": letter});
            let action = json!({"index":1,"findings":[],"listed":"/x","place":place,"component":null,"before":seen,"deed":operation});
            let parent = place.rsplit_once('/').unwrap().0;
            let plan = json!({"record":"plan","round":1,"actions":[action],"parents":[{"place":parent,"mtime":{"s":1,"n":0},"keeps":"state"}]});
            let commit = json!({"record":"commit","round":1,"staged":[[1,{"dev":1,"ino":letter}]],"given_up":[]});
            for records in [vec![begin.clone(), plan.clone()], vec![begin.clone(), plan.clone(), commit.clone()]] {
                let _ = std::fs::remove_dir_all(world.at(STATE));
                forge(&world, &records);
                let _ = open(&world.settings()).recover(&NoObserver);
                let touched = home.touched(&Tree::read(&world.at("/home"), &[]));
                assert!(touched.is_empty(), "{place} {operation}: {touched:?}");
            }
        }
    }
    let _ = SystemPath::root();
}

#[test]
fn a_newer_change_log_is_refused_before_anything_is_written() {
    use serde_json::json;
    let dir = folder();
    let world = world(dir.path());
    damage(&world);
    forge(&world, &[json!({"record":"begin","format":"veritum.journal/9","shape":"unknown"})]);
    let before = Tree::read(&world.machine(), &[STATE]);
    let error = support::try_repair(&world.settings(), std::sync::Arc::new(veritum_core::machine::LiveDisk))
        .expect_err("it must be refused");
    assert!(veritum_core::model::error_chain(&error).contains("newer Veritum"), "{error:?}");
    assert_eq!(before.differences(&Tree::read(&world.machine(), &[STATE])), Vec::<String>::new());
    let _: Result<Engine, WorkError> = Ok(open(&world.settings()));
}
