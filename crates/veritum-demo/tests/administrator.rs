//! What an administrator decided: overrides, what is left out, settings, folders moved elsewhere.

#[path = "support/place.rs"]
mod place;
mod support;

use std::os::unix::fs::{PermissionsExt as _, symlink};

use place::{Place, place, quay};
use support::{is_root, repair, told};
use veritum_demo::world::add_file;

#[test]
fn an_override_decides_owner_and_mode_and_is_put_back() {
    let place = place(&[quay()]);
    let program = place.world.at("/usr/bin/quay");
    place.write("/var/lib/dpkg/statoverride", "root root 4750 /usr/bin/quay\nroot root 0700 /usr/bin/not-there\n");
    std::fs::set_permissions(&program, std::fs::Permissions::from_mode(0o4750)).unwrap();
    assert_eq!(place.findings(), []);
    std::fs::set_permissions(&program, std::fs::Permissions::from_mode(0o4777)).unwrap();
    assert_eq!(place.findings(), [("/usr/bin/quay".to_owned(), "wrong-permissions")]);
    repair(&place.world.settings());
    assert_eq!(std::fs::metadata(&program).unwrap().permissions().mode() & 0o7777, 0o4750);
    std::fs::remove_file(&program).unwrap();
    repair(&place.world.settings());
    assert_eq!(std::fs::metadata(&program).unwrap().permissions().mode() & 0o7777, 0o4750);
}

#[test]
fn what_the_administrator_leaves_out_is_not_missed_but_judged_when_it_is_there() {
    let mut quay = quay();
    add_file(&mut quay, "/usr/share/doc/quay/changes", "changes\n");
    add_file(&mut quay, "/usr/share/doc/quay/copyright", "copyright\n");
    let place = place(&[quay]);
    place.write(
        "/etc/dpkg/dpkg.cfg.d/01_nodoc",
        "path-exclude=/usr/share/doc/*\npath-include=/usr/share/doc/*/copyright\n",
    );
    std::fs::remove_file(place.world.at("/usr/share/doc/quay/changes")).unwrap();
    assert_eq!(place.findings(), []);
    std::fs::remove_file(place.world.at("/usr/share/doc/quay/copyright")).unwrap();
    assert_eq!(place.findings(), [("/usr/share/doc/quay/copyright".to_owned(), "missing")]);
    place.write("/usr/share/doc/quay/changes", "altered\n");
    assert_eq!(place.findings().len(), 2);
}

#[test]
fn a_folder_of_what_was_left_out_is_not_missed_and_is_not_restored() {
    let mut quay = quay();
    add_file(&mut quay, "/usr/share/man/man3/quay.3", "page\n");
    add_file(&mut quay, "/usr/share/doc/quay/examples/one", "one\n");
    add_file(&mut quay, "/usr/share/doc/quay/copyright", "copyright\n");
    let place = place(&[quay]);
    place.write(
        "/etc/dpkg/dpkg.cfg.d/01_nodoc",
        "path-exclude=/usr/share/doc/*\npath-include=/usr/share/doc/*/copyright\npath-exclude=/usr/share/man/*\n",
    );
    std::fs::remove_dir_all(place.world.at("/usr/share/man/man3")).unwrap();
    std::fs::remove_dir_all(place.world.at("/usr/share/doc/quay/examples")).unwrap();
    assert_eq!(place.findings(), []);
    std::fs::remove_dir_all(place.world.at("/usr/share/man")).unwrap();
    std::fs::remove_dir_all(place.world.at("/usr/share/doc/quay")).unwrap();
    let missing = |path: &str| (path.to_owned(), "missing");
    assert_eq!(place.findings(), [missing("/usr/share/doc/quay"), missing("/usr/share/man")]);
    repair(&place.world.settings());
    let there = |path: &str| place.world.at(path).exists();
    assert!(there("/usr/share/doc/quay/copyright") && there("/usr/share/man"));
    assert!(!there("/usr/share/doc/quay/examples") && !there("/usr/share/man/man3"));
}

#[test]
fn settings_are_the_administrators_and_a_folder_in_their_place_is_a_problem() {
    let mut quay = quay();
    for name in ["a.conf", "b.conf", "c.conf", "d.conf"] {
        add_file(&mut quay, &format!("/etc/quay/{name}"), "x = 1\n");
        quay.items.last_mut().unwrap().settings = true;
    }
    let place = place(&[quay]);
    place.write("/etc/quay/a.conf", "x = 2\n");
    std::fs::remove_file(place.world.at("/etc/quay/b.conf")).unwrap();
    std::fs::set_permissions(place.world.at("/etc/quay/c.conf"), std::fs::Permissions::from_mode(0o600)).unwrap();
    std::fs::remove_file(place.world.at("/etc/quay/d.conf")).unwrap();
    symlink("a.conf", place.world.at("/etc/quay/d.conf")).unwrap();
    let expected =
        [("a", "config-modified"), ("b", "config-removed"), ("c", "permissions-customised"), ("d", "config-modified")];
    assert_eq!(place.notes(), expected.map(|(n, v)| (format!("/etc/quay/{n}.conf"), v)));
    assert_eq!(place.findings(), []);
    std::fs::remove_file(place.world.at("/etc/quay/a.conf")).unwrap();
    std::fs::create_dir(place.world.at("/etc/quay/a.conf")).unwrap();
    assert_eq!(place.findings(), [("/etc/quay/a.conf".to_owned(), "wrong-type")]);
    // All of them removed with their folder is as deliberate as one.
    std::fs::remove_dir_all(place.world.at("/etc/quay")).unwrap();
    assert_eq!((place.findings(), place.notes()), (vec![], vec![("/etc/quay".to_owned(), "config-removed")]));
}

#[test]
fn an_administrators_link_is_followed_only_when_it_is_plainly_one() {
    let case = |name: &str, prepare: &dyn Fn(&Place, &std::path::Path), expected: &str| {
        let place = place(&[quay()]);
        let share = place.world.at("/usr/share/quay");
        let to = place.world.at("/var/quay-moved");
        std::fs::rename(&share, &to).unwrap();
        prepare(&place, &to);
        if !share.exists() && !share.is_symlink() {
            symlink("/var/quay-moved", &share).unwrap();
        }
        let report = place.check();
        let all: Vec<_> = told(&report.findings).into_iter().chain(told(&report.notes)).collect();
        assert!(all.iter().any(|(path, verdict)| path == "/usr/share/quay" && *verdict == expected), "{name}: {all:?}");
    };
    case("plain", &|_, _| {}, "moved");
    case("relative", &|p, _| symlink("../../var/quay-moved", p.world.at("/usr/share/quay")).unwrap(), "moved");
    case(
        "open to all",
        &|_, to| std::fs::set_permissions(to, std::fs::Permissions::from_mode(0o777)).unwrap(),
        "wrong-type",
    );
    case("empty", &|_, to| std::fs::remove_file(to.join("part")).unwrap(), "wrong-type");
    case("to a user's folder", &|p, _| symlink("/home/mirela", p.world.at("/usr/share/quay")).unwrap(), "wrong-type");
    case("above users' folders", &|p, _| symlink("/", p.world.at("/usr/share/quay")).unwrap(), "wrong-type");
    case("to nothing", &|p, _| symlink("/nowhere", p.world.at("/usr/share/quay")).unwrap(), "wrong-type");
    case("round", &|p, _| symlink("quay", p.world.at("/usr/share/quay")).unwrap(), "wrong-type");
    if is_root() {
        case("a user's", &|_, to| std::os::unix::fs::chown(to, Some(1000), Some(1000)).unwrap(), "wrong-type");
    }
}

#[test]
fn what_lies_in_a_moved_folder_is_judged_and_repaired_there() {
    let place = place(&[quay()]);
    let to = place.world.at("/var/quay-moved");
    std::fs::rename(place.world.at("/usr/share/quay"), &to).unwrap();
    symlink("/var/quay-moved", place.world.at("/usr/share/quay")).unwrap();
    std::fs::write(to.join("part"), "damaged").unwrap();
    std::fs::write(to.join("own"), "the administrator's").unwrap();
    assert_eq!(place.findings(), [("/usr/share/quay/part".to_owned(), "altered")]);
    repair(&place.world.settings());
    assert_eq!(std::fs::read(to.join("part")).unwrap(), b"part\n");
    assert!(place.world.at("/usr/share/quay").is_symlink() && to.join("own").exists());
}
