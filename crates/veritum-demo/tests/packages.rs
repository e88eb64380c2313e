//! Packages of a stranger: odd, cut, or damaged anywhere.

mod support;

use support::{folder, small_world as world, spoil};
use veritum_core::event::NoObserver;
use veritum_core::store::{self};
use veritum_core::testkit::Tree;
use veritum_demo::world::{add, add_file, package};
use veritum_demo::{Content, Package, Seed, write_deb};

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

/// A package's outer repository around a data part.
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
    let store_before = Tree::read(&world.store(), &["incoming", "lock"]);
    let cases: Vec<(&str, Vec<u8>)> = vec![
        ("..", odd_deb(b"./usr/../../etc/passwd", E::Regular, None, None, &[])),
        ("..", odd_deb(b"../evil", E::Symlink, Some(b"x"), None, &[])),
        ("not a folder", odd_deb(b"./usr/link/inside", E::Regular, None, None, &[("./usr/link", E::Symlink, "/etc")])),
        ("listed twice", odd_deb(b"./a", E::Symlink, Some(b"y"), None, &[("./a", E::Symlink, "x")])),
        ("has no target", odd_deb(b"./a", E::Link, Some(b"./nothing"), None, &[])),
        ("a size limit", odd_deb(b"./a", E::Regular, None, Some(1 << 50), &[])),
        ("unsupported type", odd_deb(b"./a", E::new(b'Z'), None, None, &[])),
        ("has no target", odd_deb(b"./a", E::Symlink, None, None, &[])),
        ("compression", around(b"BZh", "data.tar.bz2")),
        ("unexpected member", around(b"x", "extra")),
        ("cannot be read", around(b"\xfd7zXZ\0garbage", "data.tar.xz")),
        ("debian-binary", b"!<arch>\nnot a package".to_vec()),
        ("debian-binary", Vec::new()),
    ];
    for (at, (reason, bytes)) in cases.into_iter().enumerate() {
        let path = dir.path().join("odd.deb");
        std::fs::write(&path, bytes).unwrap();
        let summary = store::fill(&world.store(), std::slice::from_ref(&path), 1, &NoObserver).unwrap();
        let [refused] = summary.refused.as_slice() else {
            panic!("case {at} ({reason}) was taken: {:?}", summary.added)
        };
        let why = veritum_core::model::error_chain(&refused.why);
        let near = why.contains(reason)
            || reason == "debian-binary"
                && (why.contains("the outer ar archive is damaged (") || why.contains("the data member is missing"));
        assert!(
            near || reason == "a size limit" && why.contains("the .deb file is truncated"),
            "case {at} ({reason}): {why}"
        );
        assert_eq!(
            store_before.differences(&Tree::read(&world.store(), &["incoming", "lock"])),
            Vec::<String>::new(),
            "case {at}"
        );
    }
    // An absolute name is only another spelling.
    std::fs::write(dir.path().join("odd.deb"), odd_deb(b"/usr/share/fine", tar::EntryType::Regular, None, None, &[]))
        .unwrap();
    assert_eq!(store::fill(&world.store(), &[dir.path().join("odd.deb")], 1, &NoObserver).unwrap().added.len(), 1);
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
        // The repository's own padding at the very end carries nothing.
        for cut in (0..whole.len() - 1).step_by(37) {
            std::fs::write(&path, &whole[..cut]).unwrap();
            let summary = store::fill(&world.store(), std::slice::from_ref(&path), 1, &NoObserver).unwrap();
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
        let summary = store::fill(&world.store(), std::slice::from_ref(&path), 1, &NoObserver).unwrap();
        refused += summary.refused.len();
        taken += summary.added.len();
    }
    // A change in a header's time or an unused byte leaves a valid package; most leave none.
    assert!(refused > 300 && taken > 0, "{refused} refused, {taken} taken");
}

// --- stores ---
