//! Hostile input: packages, stores, links, journals. A clear error or finding, nothing written outside, no panic.

mod support;

use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};

use support::{STATE, check, folder, open, repair, told, undo};
use veritum_core::event::Silent;
use veritum_core::model::{Digest, SystemPath};
use veritum_core::store::{self, StoreError};
use veritum_core::testkit::Tree;
use veritum_core::trust::{KeyPair, StoreKeys};
use veritum_core::work::{WorkError, Workshop};
use veritum_demo::world::{World, add, add_file, package};
use veritum_demo::{Content, Package, Seed, write_deb};

fn world(dir: &Path) -> World {
    let mut quay = package("quay", "1.0-1");
    for n in 0..4 {
        add_file(&mut quay, &format!("/usr/share/quay/part-{n}"), &format!("right {n}\n"));
    }
    add_file(&mut quay, "/usr/lib/quay/deep/inside", "inside\n");
    add(&mut quay, "/usr/bin/quay", Content::File(vec![3; 3000]), 0o755);
    World::new(&dir.join("world"), &[quay])
}

fn damage(world: &World) {
    std::fs::write(world.at("/usr/share/quay/part-1"), "wrong\n").unwrap();
    std::fs::remove_file(world.at("/usr/bin/quay")).unwrap();
}

// --- packages ---

/// A package with one odd entry, written by hand: the usual writer refuses such names.
fn odd_deb(
    name: &[u8],
    kind: tar::EntryType,
    link: Option<&[u8]>,
    size: Option<u64>,
    before: &[(&str, tar::EntryType, &str)],
) -> Vec<u8> {
    let mut tar = tar::Builder::new(Vec::new());
    let mut push = |name: &[u8], kind: tar::EntryType, link: Option<&[u8]>, size: Option<u64>| {
        let mut header = tar::Header::new_gnu();
        header.as_old_mut().name[..name.len()].copy_from_slice(name);
        if let Some(link) = link {
            header.as_old_mut().linkname[..link.len()].copy_from_slice(link);
        }
        header.set_entry_type(kind);
        header.set_mode(0o644);
        header.set_uid(0);
        header.set_gid(0);
        header.set_mtime(0);
        header.set_size(size.unwrap_or(0));
        header.set_cksum();
        tar.append(&header, std::io::empty()).unwrap();
    };
    for (name, kind, link) in before {
        push(name.as_bytes(), *kind, Some(link.as_bytes()).filter(|l| !l.is_empty()), None);
    }
    push(name, kind, link, size);
    around(&tar.into_inner().unwrap(), "data.tar")
}

/// A package's outer archive around a data part.
fn around(data: &[u8], name: &str) -> Vec<u8> {
    let good = write_deb(&Package { compression: "", ..package("odd", "1.0") }).unwrap();
    let control_at = 8 + 60 + 4;
    let control_size: usize =
        std::str::from_utf8(&good[control_at + 48..control_at + 58]).unwrap().trim().parse().unwrap();
    let mut deb = good[..control_at + 60 + control_size + control_size % 2].to_vec();
    let mut builder = ar::Builder::new(Vec::new());
    builder.append(&ar::Header::new(name.as_bytes().to_vec(), data.len() as u64), data).unwrap();
    deb.extend_from_slice(&builder.into_inner().unwrap()[8..]);
    deb
}

#[test]
fn hostile_packages_are_refused_with_a_reason_and_leave_no_trace() {
    use tar::EntryType as E;
    let dir = folder();
    let world = world(dir.path());
    let store_before = Tree::take(&world.store(), &["incoming", "lock"]);
    let cases: Vec<(&str, Vec<u8>)> = vec![
        ("..", odd_deb(b"./usr/../../etc/passwd", E::Regular, None, None, &[])),
        ("..", odd_deb(b"../evil", E::Symlink, Some(b"x"), None, &[])),
        ("no folder", odd_deb(b"./usr/link/inside", E::Regular, None, None, &[("./usr/link", E::Symlink, "/etc")])),
        ("twice", odd_deb(b"./a", E::Symlink, Some(b"y"), None, &[("./a", E::Symlink, "x")])),
        ("further name of nothing", odd_deb(b"./a", E::Link, Some(b"./nothing"), None, &[])),
        ("larger than", odd_deb(b"./a", E::Regular, None, Some(1 << 50), &[])),
        ("kind", odd_deb(b"./a", E::new(b'Z'), None, None, &[])),
        ("link to nothing", odd_deb(b"./a", E::Symlink, None, None, &[])),
        ("compression", around(b"BZh", "data.tar.bz2")),
        ("does not belong", around(b"x", "extra")),
        ("cannot be read", around(b"\xfd7zXZ\0garbage", "data.tar.xz")),
        ("debian-binary", b"!<arch>\nnot a package".to_vec()),
        ("debian-binary", Vec::new()),
    ];
    for (at, (reason, bytes)) in cases.into_iter().enumerate() {
        let path = dir.path().join("odd.deb");
        std::fs::write(&path, bytes).unwrap();
        let summary = store::fill(&world.store(), std::slice::from_ref(&path), 1, &Silent).unwrap();
        let [refused] = summary.refused.as_slice() else {
            panic!("case {at} ({reason}) was taken: {:?}", summary.added)
        };
        let why = veritum_core::model::error_chain(&refused.why);
        let near = why.contains(reason)
            || reason == "debian-binary" && (why.contains("outer archive") || why.contains("ends before"));
        assert!(near || reason == "larger than" && why.contains("cut off"), "case {at} ({reason}): {why}");
        assert_eq!(
            store_before.differences(&Tree::take(&world.store(), &["incoming", "lock"])),
            Vec::<String>::new(),
            "case {at}"
        );
    }
    // An absolute name is only another spelling.
    std::fs::write(dir.path().join("odd.deb"), odd_deb(b"/usr/share/fine", tar::EntryType::Regular, None, None, &[]))
        .unwrap();
    assert_eq!(store::fill(&world.store(), &[dir.path().join("odd.deb")], 1, &Silent).unwrap().added.len(), 1);
}

#[test]
fn a_package_cut_anywhere_is_refused() {
    let dir = folder();
    let world = world(dir.path());
    for compression in ["", ".gz", ".xz", ".zst"] {
        let mut odd = Package { compression, ..package("odd", "2.0") };
        add_file(&mut odd, "/usr/share/odd/file", &"content ".repeat(100));
        let whole = write_deb(&odd).unwrap();
        let path = dir.path().join("cut.deb");
        // The archive's own padding at the very end carries nothing.
        for cut in (0..whole.len() - 1).step_by(37) {
            std::fs::write(&path, &whole[..cut]).unwrap();
            let summary = store::fill(&world.store(), std::slice::from_ref(&path), 1, &Silent).unwrap();
            assert_eq!(
                (summary.refused.len(), summary.added.len()),
                (1, 0),
                "{compression} cut at {cut} of {}",
                whole.len()
            );
        }
    }
}

#[test]
fn five_hundred_random_damages_to_packages_never_end_the_program_or_forge_a_name() {
    let dir = folder();
    let world = world(dir.path());
    let mut chance = Seed::new(13, "packages");
    let (mut refused, mut taken) = (0, 0);
    for case in 0..500 {
        let compression = ["", ".gz", ".xz", ".zst"][case % 4];
        let mut odd = Package { compression, ..package("odd", &format!("3.0-{case}")) };
        add_file(&mut odd, "/usr/share/odd/file", &"content ".repeat(200));
        add(&mut odd, "/usr/share/odd/link", Content::Link("file".into()), 0o777);
        let path = dir.path().join("odd.deb");
        std::fs::write(&path, write_deb(&odd).unwrap()).unwrap();
        spoil(&path, &mut chance);
        let summary = store::fill(&world.store(), std::slice::from_ref(&path), 1, &Silent).unwrap();
        refused += summary.refused.len();
        taken += summary.added.len();
    }
    // A change in a header's time or an unused byte leaves a valid package; most leave none.
    assert!(refused > 300 && taken > 0, "{refused} refused, {taken} taken");
}

// --- stores ---

fn error_of(world: &World) -> WorkError {
    let mut workshop = open(&world.settings());
    workshop.check(&Default::default(), &Silent).expect_err("this store must not be used")
}

fn files_below(folder: &Path) -> Vec<PathBuf> {
    let tree = Tree::take(folder, &[]);
    use std::os::unix::ffi::OsStrExt as _;
    tree.0.iter().filter(|(_, t)| t.kind == 'f').map(|(p, _)| folder.join(std::ffi::OsStr::from_bytes(p))).collect()
}

#[test]
fn a_damaged_content_is_never_written_and_the_rest_is_put_right() {
    let dir = folder();
    let world = world(dir.path());
    damage(&world);
    let object = |text: &[u8]| {
        let hex = Digest::of(text).to_hex();
        world.store().join("objects").join(&hex[..2]).join(format!("{}.zst", &hex[2..]))
    };
    std::fs::write(object(b"right 1\n"), zstd::bulk::compress(b"evil 1!\n", 1).unwrap()).unwrap();
    let report = repair(&world.settings());
    let left = &report.areas[0].remaining;
    assert_eq!((left.len(), report.areas[0].put_right), (1, 1), "{left:?}");
    assert!(left[0].reason.contains("damaged"), "{}", left[0].reason);
    assert_eq!(std::fs::read(world.at("/usr/share/quay/part-1")).unwrap(), b"wrong\n");
    std::fs::remove_file(object(b"right 1\n")).unwrap();
    let report = repair(&world.settings());
    assert!(report.areas[0].remaining[0].reason.contains("lacks"), "{:?}", report.areas[0].remaining);
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
        let error = error_of(&world);
        assert!(
            matches!(error, WorkError::Store(StoreError::Chain { .. } | StoreError::NotTrusted { .. })),
            "{}: {error:?}",
            file.display()
        );
        std::fs::write(&file, bytes).unwrap();
    }
    // A newer signing is seen, then the older copy comes back.
    let mut more = package("more", "1.0");
    add_file(&mut more, "/usr/share/more", "more\n");
    let path = dir.path().join("more.deb");
    std::fs::write(&path, write_deb(&more).unwrap()).unwrap();
    store::fill(&world.store(), &[path], 1, &Silent).unwrap();
    let expires = jiff::Timestamp::from_second(veritum_demo::EXPIRES).unwrap();
    store::publish(&world.store(), &world.keys().publish, expires, &world.scratch()).unwrap();
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
    assert!(
        report.unexamined.iter().any(|u| u.reason.contains("manifest of quay is not used")),
        "{:?}",
        report.unexamined
    );
    assert!(report.areas[0].vouched.keys().all(|v| *v == veritum_core::model::Voucher::Itself));
}

/// Damages one file at random; answers what it was, to be put back.
fn spoil(file: &Path, chance: &mut Seed) -> Vec<u8> {
    let before = std::fs::read(file).unwrap();
    let mut bytes = before.clone();
    let at = usize::try_from(chance.below(bytes.len().max(1) as u64)).unwrap();
    match chance.below(5) {
        0 => bytes.truncate(at),
        1 => bytes = chance.bytes(at),
        2 => bytes.clear(),
        3 => bytes.extend(chance.bytes(40)),
        _ if bytes.is_empty() => bytes.push(1),
        _ => bytes[at] ^= 1 << chance.below(8),
    }
    std::fs::write(file, bytes).unwrap();
    before
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
    let (mut refused, mut whole, mut part) = (0, 0, 0);
    for case in 0..1000 {
        damage(&world);
        let _ = std::fs::remove_dir_all(world.at(STATE));
        let file = &files[usize::try_from(chance.below(files.len() as u64)).unwrap()];
        let before = spoil(file, &mut chance);
        let what = format!("case {case}, {}", file.display());
        match support::try_repair(&world.settings(), std::sync::Arc::new(veritum_core::target::LiveDisk)) {
            Err(_) => refused += 1,
            Ok(report) if report.areas[0].remaining.is_empty() => whole += 1,
            Ok(_) => part += 1,
        }
        old_or_right(&world, &what);
        std::fs::write(file, before).unwrap();
        let _ = std::fs::remove_file(world.at("/usr/bin/quay"));
        std::fs::write(world.at("/usr/bin/quay"), vec![3; 3000]).unwrap();
    }
    assert!(
        refused > 20 && whole > 20 && part > 20,
        "each outcome must be met: {refused} refused, {whole} whole, {part} in part"
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
    // A second, interrupted change beside the whole one: its journal ends at the commit record.
    let mut chance = Seed::new(12, "state");
    let (mut failed, mut done) = (0, 0);
    for case in 0..1000 {
        copy(&good, &world.machine());
        let _ = std::fs::remove_file(world.at(&format!("{STATE}/reserve")));
        let files: Vec<PathBuf> = files_below(&world.at(STATE)).into_iter().filter(|f| !f.ends_with("lock")).collect();
        let file = &files[usize::try_from(chance.below(files.len() as u64)).unwrap()];
        spoil(file, &mut chance);
        let what = format!("case {case}, {}", file.display());
        let workshop = open(&world.settings());
        let _ = workshop.list_changes();
        let _ = workshop.status(true);
        let recovered = workshop.recover(&Silent);
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
        let before = Tree::take(&mine, &[]);
        store::fill(&world.store(), &[deb], 1, &Silent).expect_err(name);
        assert!(before.touched(&Tree::take(&mine, &[])).is_empty(), "{name}");
    }
}

// --- links and journals ---

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
    let before = Tree::take(&outside, &[]);
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
            let home = Tree::take(&world.at("/home"), &[]);
            let path = world.at(place);
            if path.is_dir() {
                std::fs::remove_dir_all(&path).unwrap()
            } else {
                std::fs::remove_file(&path).unwrap()
            }
            symlink(&target, &path).unwrap();
            let what = format!("{place} -> {target}");
            assert_eq!(told(&check(&world.settings()).findings), [(place.to_owned(), "wrong-kind")], "{what}");
            let report = repair(&world.settings());
            assert!(report.areas[0].remaining.is_empty(), "{what}: {:?}", report.areas[0].remaining);
            assert_eq!(check(&world.settings()).problems(), 0, "{what}");
            undo(&world.settings(), None).unwrap();
            assert_eq!(std::fs::read_link(&path).unwrap(), Path::new(&target), "{what}");
            assert!(
                before.touched(&Tree::take(&outside, &[])).is_empty()
                    && home.touched(&Tree::take(&world.at("/home"), &[])).is_empty(),
                "{what}"
            );
        }
    }
}

/// A journal of our making with these records.
fn forge(world: &World, records: &[serde_json::Value]) {
    let folder = world.at(STATE).join("changes/1");
    std::fs::create_dir_all(&folder).unwrap();
    let mode =
        |path: &Path| std::fs::set_permissions(path, std::os::unix::fs::PermissionsExt::from_mode(0o700)).unwrap();
    mode(&world.at(STATE));
    let mut bytes = Vec::new();
    for record in records {
        let json = serde_json::to_vec(record).unwrap();
        bytes.extend(format!("{:08x} {} ", json.len(), &Digest::of(&json).to_hex()[..16]).bytes());
        bytes.extend(json);
        bytes.push(b'\n');
    }
    std::fs::write(folder.join("journal"), bytes).unwrap();
}

#[test]
fn a_hostile_journal_writes_nowhere_it_should_not() {
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
        for deed in [
            json!("set-aside"),
            json!({"set-meta":{"mode":511,"uid":0,"gid":0}}),
            json!({"put":[{"below":"/","kind":"folder","mode":511,"uid":0,"gid":0,"mtime":0}]}),
            json!({"return":{"change":1,"round":1,"index":1,"kept":{"stat":stat.clone(),"digest":null},"folder":{"top":"/home/mirela"}}}),
        ] {
            let dir = folder();
            let world = world(dir.path());
            symlink("/home/mirela", world.at("/usr/share/out")).unwrap();
            std::fs::write(world.at("/home/mirela/.veritum-1-1-1"), "named like ours\n").unwrap();
            let home = Tree::take(&world.at("/home"), &[]);
            let letter =
                std::os::unix::fs::MetadataExt::ino(&std::fs::metadata(world.at("/home/mirela/letter")).unwrap());
            let mut seen = stat.clone();
            seen["id"] = json!({"dev": std::os::unix::fs::MetadataExt::dev(&std::fs::metadata(world.machine()).unwrap()), "ino": letter});
            let action =
                json!({"index":1,"findings":[],"listed":"/x","place":place,"component":null,"before":seen,"deed":deed});
            let parent = place.rsplit_once('/').unwrap().0;
            let plan = json!({"record":"plan","round":1,"actions":[action],"parents":[{"place":parent,"mtime":{"s":1,"n":0},"keeps":"state"}]});
            let commit = json!({"record":"commit","round":1,"staged":[[1,{"dev":1,"ino":letter}]],"given_up":[]});
            for records in [vec![begin.clone(), plan.clone()], vec![begin.clone(), plan.clone(), commit.clone()]] {
                let _ = std::fs::remove_dir_all(world.at(STATE));
                forge(&world, &records);
                let _ = open(&world.settings()).recover(&Silent);
                let touched = home.touched(&Tree::take(&world.at("/home"), &[]));
                assert!(touched.is_empty(), "{place} {deed}: {touched:?}");
            }
        }
    }
    let _ = SystemPath::root();
}

#[test]
fn a_newer_journal_is_refused_before_anything_is_written() {
    use serde_json::json;
    let dir = folder();
    let world = world(dir.path());
    damage(&world);
    forge(&world, &[json!({"record":"begin","format":"veritum.journal/9","shape":"unknown"})]);
    let before = Tree::take(&world.machine(), &[STATE]);
    let error = support::try_repair(&world.settings(), std::sync::Arc::new(veritum_core::target::LiveDisk))
        .expect_err("it must be refused");
    assert!(veritum_core::model::error_chain(&error).contains("newer Veritum"), "{error:?}");
    assert_eq!(before.differences(&Tree::take(&world.machine(), &[STATE])), Vec::<String>::new());
    let _: Result<Workshop, WorkError> = Ok(open(&world.settings()));
}
