//! What should be there: diversions, shared files, aliases, records of all kinds.

#[path = "support/place.rs"]
mod place;
mod support;

use std::os::unix::fs::PermissionsExt as _;

use place::{place, quay};
use support::{check, open, repair, told};
use veritum_core::areas::FILES;
use veritum_core::event::NoObserver;
use veritum_core::model::{Authority, Scope};
use veritum_core::report::Outcome;
use veritum_core::work::Settings;
use veritum_demo::world::{add, add_file, package};
use veritum_demo::{Content, Package};

#[test]
fn a_diverted_file_is_looked_for_where_it_was_moved_to() {
    let place = place(&[quay()]);
    let bin = place.world.at("/usr/bin");
    std::fs::rename(bin.join("quay"), bin.join("quay.real")).unwrap();
    std::fs::write(bin.join("quay"), "the administrator's own\n").unwrap();
    assert_eq!(place.findings(), [("/usr/bin/quay".to_owned(), "altered")]);
    place.write("/var/lib/dpkg/diversions", "/usr/bin/quay\n/usr/bin/quay.real\n:\n");
    assert_eq!((place.findings(), place.notes()), (vec![], vec![]));
    std::fs::write(bin.join("quay.real"), "damaged").unwrap();
    assert_eq!(place.findings(), [("/usr/bin/quay.real".to_owned(), "altered")]);
    repair(&place.world.settings());
    assert_eq!(std::fs::read(bin.join("quay")).unwrap(), b"the administrator's own\n");
    assert_eq!(std::fs::read(bin.join("quay.real")).unwrap(), vec![1; 2000]);
}

#[test]
fn a_file_diverted_by_a_package_leaves_its_place_to_that_one() {
    let mut tug = package("tug", "1.0");
    add(&mut tug, "/usr/bin/tug-quay", Content::File(b"tug\n".to_vec()), 0o755);
    let place = place(&[quay(), tug]);
    let bin = place.world.at("/usr/bin");
    std::fs::rename(bin.join("quay"), bin.join("quay.old")).unwrap();
    std::fs::rename(bin.join("tug-quay"), bin.join("quay")).unwrap();
    // tug's file is listed at /usr/bin/quay on this machine; quay's was set aside.
    place.write(
        "/var/lib/dpkg/diversions",
        "/usr/bin/quay\n/usr/bin/quay.old\ntug\n/usr/bin/tug-quay\n/usr/bin/quay\nquay\n",
    );
    assert_eq!(place.findings(), []);
}

#[test]
fn a_file_of_two_architectures_is_one_and_a_conflict_is_settled_by_the_machines_lists() {
    let mut amd = package("libkeel1", "2.0");
    add_file(&mut amd, "/usr/share/doc/libkeel1/notes", "same\n");
    add_file(&mut amd, "/usr/lib/amd/libkeel.so.1", "amd\n");
    amd.fields.push("Multi-Arch: same".into());
    let mut other = package("libkeel1", "2.0");
    other.arch = "i386".into();
    add_file(&mut other, "/usr/share/doc/libkeel1/notes", "same\n");
    add_file(&mut other, "/usr/lib/i386/libkeel.so.1", "i386\n");
    other.fields.push("Multi-Arch: same".into());
    // A package that took a file over from another: the machine's list says whose it is now.
    let mut before = package("hull", "1.0");
    add_file(&mut before, "/usr/share/hull/table", "old owner\n");
    let mut after = package("keel-data", "1.0");
    add_file(&mut after, "/usr/share/hull/table", "new owner\n");
    let place = place(&[amd, other, before, after]);
    place.write("/usr/share/hull/table", "new owner\n");
    std::fs::set_permissions(place.world.at("/usr/share/hull/table"), std::fs::Permissions::from_mode(0o644)).unwrap();
    place.write("/var/lib/dpkg/info/hull.list", "/.\n/usr\n/usr/share\n/usr/share/hull\n");
    assert_eq!(place.findings(), []);
    place.write("/usr/share/doc/libkeel1/notes", "altered\n");
    let finding = place.finding();
    assert_eq!(finding.package.unwrap().name, "libkeel1");
}

#[test]
fn a_path_is_one_under_both_spellings_of_a_merged_system() {
    let mut old = package("rig", "1.0");
    add_file(&mut old, "/lib/rig/block", "block\n");
    let mut new = package("rig-extra", "1.0");
    add_file(&mut new, "/usr/lib/rig/extra", "extra\n");
    let place = place(&[old, new]);
    assert_eq!((place.findings(), place.notes()), (vec![], vec![]));
    std::fs::remove_dir_all(place.world.at("/usr/lib/rig")).unwrap();
    assert_eq!(place.check().findings.len(), 1, "{:?}", place.findings());
    repair(&place.world.settings());
    assert_eq!(std::fs::read(place.world.at("/usr/lib/rig/block")).unwrap(), b"block\n");
    assert_eq!(std::fs::read(place.world.at("/usr/lib/rig/extra")).unwrap(), b"extra\n");
    let scope =
        Scope { paths: vec![veritum_core::model::SystemPath::literal("/usr/lib/rig/extra")], ..Scope::default() };
    assert_eq!(open(&place.world.settings()).check(&scope, &NoObserver).unwrap().outcome, Outcome::Ok);
}

#[test]
fn a_folder_in_the_place_of_a_merged_systems_link_is_spare_or_left_standing() {
    let mut rig = package("rig", "1.0");
    add_file(&mut rig, "/lib/rig-loader", "loader\n");
    let place = place(&[rig]);
    let link = place.world.at("/lib");
    let target = std::fs::read_link(&link).unwrap();
    let replace = |names: &[&str]| {
        std::fs::remove_file(&link).unwrap();
        std::fs::create_dir(&link).unwrap();
        names.iter().for_each(|name| std::fs::write(link.join(name), "other\n").unwrap());
    };
    for names in [&[][..], &["rig-loader"]] {
        replace(names);
        assert_eq!(place.findings(), [("/lib".to_owned(), "wrong-type")], "{names:?}");
        repair(&place.world.settings());
        assert_eq!(std::fs::read_link(&link).unwrap(), target);
        assert_eq!(std::fs::read(place.world.at("/usr/lib/rig-loader")).unwrap(), b"loader\n");
    }
    // What only that folder has may be needed, so it stays.
    replace(&["driver"]);
    assert_eq!(place.findings(), [("/lib/rig-loader".to_owned(), "missing")]);
}

#[test]
fn a_half_installed_package_is_not_judged_and_that_is_said() {
    let place = place(&[quay()]);
    let status = place.world.at("/var/lib/dpkg/status");
    let text = std::fs::read_to_string(&status).unwrap();
    std::fs::write(&status, text.replace("install ok installed", "install reinstreq half-installed")).unwrap();
    std::fs::remove_file(place.world.at("/usr/bin/quay")).unwrap();
    let report = place.check();
    assert_eq!(told(&report.findings), [("/var/lib/dpkg/status".to_owned(), "incomplete")]);
    assert!(report.findings[0].action.as_ref().unwrap().contains("--reinstall quay"), "{:?}", report.findings);
    assert!(
        report.unexamined.iter().any(|u| u.reason.contains("quay") && u.reason.contains("half-installed")),
        "{:?}",
        report.unexamined
    );
    // Removed, with its settings left behind: nothing of it is expected.
    std::fs::write(&status, text.replace("install ok installed", "deinstall ok config-files")).unwrap();
    std::fs::remove_file(place.world.at("/var/lib/dpkg/info/quay.md5sums")).unwrap();
    std::fs::write(place.world.at("/var/lib/dpkg/info/quay.list"), "/.\n").unwrap();
    assert_eq!(place.findings(), []);
}

#[test]
fn damaged_records_are_told_and_the_rest_goes_on() {
    let mut tug = package("tug", "1.0");
    add_file(&mut tug, "/usr/share/tug", "tug\n");
    let place = place(&[quay(), tug]);
    let mut settings = place.world.settings();
    settings.store = None;
    place.write("/var/lib/dpkg/info/quay.list", "");
    place.write("/usr/share/tug", "altered\n");
    let report = check(&settings);
    let list = || ("/var/lib/dpkg/info/quay.list".to_owned(), "corrupt");
    assert_eq!(told(&report.findings), [("/usr/share/tug".to_owned(), "altered"), list()]);
    assert!(report.unexamined.iter().any(|u| u.reason.contains("quay")), "{:?}", report.unexamined);
    assert_eq!(report.findings[0].verified_by, Some(Authority::Local));
    // With a store the files can be judged without the list.
    assert_eq!(place.findings(), [("/usr/share/tug".to_owned(), "altered"), list()]);
    place.write("/var/lib/dpkg/diversions", "/one/line\n");
    assert!(place.findings().contains(&("/var/lib/dpkg/diversions".to_owned(), "corrupt")));
}

#[test]
fn a_package_of_another_version_is_judged_by_the_local_database() {
    let place = place(&[quay()]);
    let status = place.world.at("/var/lib/dpkg/status");
    let text = std::fs::read_to_string(&status).unwrap();
    std::fs::write(&status, text.replace("Version: 1.0-1", "Version: 1.0-2")).unwrap();
    std::fs::remove_file(place.world.at("/usr/bin/quay")).unwrap();
    let finding = place.finding();
    assert_eq!((finding.verified_by, finding.remedy.is_some()), (Some(Authority::Local), false));
    assert_eq!(repair(&place.world.settings()).area(FILES).unwrap().change, None, "never from another version");
}

#[test]
fn privilege_is_judged_by_the_packages_own_scripts() {
    let mut quay = quay();
    add(&mut quay, "/usr/lib/quay/helper", Content::File(vec![2; 100]), 0o755);
    quay.scripts.push((
        "postinst",
        "#!/bin/sh\n# chmod u+s /usr/bin/quay\nchown root:root /usr/lib/quay/helper\nchmod 4755 /usr/lib/quay/helper\n"
            .into(),
    ));
    let place = place(&[quay]);
    for path in ["/usr/bin/quay", "/usr/lib/quay/helper"] {
        std::fs::set_permissions(place.world.at(path), std::fs::Permissions::from_mode(0o4755)).unwrap();
    }
    assert_eq!(place.findings(), [("/usr/bin/quay".to_owned(), "wrong-permissions")], "a comment sets nothing");
    repair(&place.world.settings());
    // Privilege that only this machine remembers is never given unasked.
    std::fs::write(place.world.at("/usr/lib/quay/helper"), "damaged").unwrap();
    std::fs::set_permissions(place.world.at("/usr/lib/quay/helper"), std::fs::Permissions::from_mode(0o4755)).unwrap();
    repair(&place.world.settings());
    assert_eq!(std::fs::metadata(place.world.at("/usr/lib/quay/helper")).unwrap().permissions().mode() & 0o7777, 0o755);
    assert_eq!(place.findings(), []);
}

#[test]
fn awkward_names_and_kinds_survive_check_repair_and_undo() {
    let mut quay = quay();
    for name in ["a name with spaces", "naïve – ünï", "back\\slash", "new\nline", "-dash", "$(touch x)", "\u{202e}odd"]
    {
        add_file(&mut quay, &format!("/usr/share/quay/odd/{name}"), name);
    }
    add(&mut quay, "/usr/share/quay/empty", Content::Folder, 0o755);
    add_file(&mut quay, "/usr/share/quay/nothing", "");
    let place = place(&[quay]);
    assert_eq!(place.findings(), []);
    let odd = place.world.at("/usr/share/quay/odd");
    for entry in std::fs::read_dir(&odd).unwrap() {
        std::fs::write(entry.unwrap().path(), "damaged").unwrap();
    }
    std::fs::remove_dir(place.world.at("/usr/share/quay/empty")).unwrap();
    assert_eq!(place.findings().len(), 8);
    let report = repair(&place.world.settings());
    assert!(report.area(FILES).unwrap().remaining.is_empty());
    for entry in std::fs::read_dir(&odd).unwrap() {
        let path = entry.unwrap().path();
        assert_eq!(std::fs::read_to_string(&path).unwrap(), path.file_name().unwrap().to_str().unwrap());
    }
    support::undo(&place.world.settings(), None).unwrap();
    assert_eq!(place.findings().len(), 8);
}

#[test]
fn pipes_devices_and_huge_holes_neither_hang_nor_flood() {
    let place = place(&[quay()]);
    let (part, program) = (place.world.at("/usr/share/quay/part"), place.world.at("/usr/bin/quay"));
    std::fs::remove_file(&part).unwrap();
    rustix::fs::mknodat(rustix::fs::CWD, &part, rustix::fs::FileType::Fifo, rustix::fs::Mode::RUSR, 0).unwrap();
    std::fs::File::create(&program).unwrap().set_len(1 << 40).unwrap();
    assert_eq!(
        place.findings(),
        [("/usr/bin/quay".to_owned(), "altered"), ("/usr/share/quay/part".to_owned(), "wrong-type")]
    );
    repair(&place.world.settings());
    assert_eq!(place.findings(), []);
    support::undo(&place.world.settings(), None).unwrap();
    assert_eq!(std::fs::metadata(&program).unwrap().len(), 1 << 40);
}

#[test]
fn many_unrelated_altered_files_raise_doubt_about_the_disk() {
    let packages: Vec<Package> = (0..7)
        .map(|n| {
            let mut one = package(&format!("bulk{n}"), "1.0");
            (0..9).for_each(|f| add_file(&mut one, &format!("/usr/share/bulk{n}/{f}"), "right\n"));
            one
        })
        .collect();
    let place = place(&packages);
    for n in 0..7 {
        (0..9).for_each(|f| place.write(&format!("/usr/share/bulk{n}/{f}"), "wrong\n"));
    }
    let report = repair(&place.world.settings());
    assert!(report.area(FILES).unwrap().change.is_none() && report.before.doubt.is_some(), "{:?}", report.before.doubt);
    let despite = Settings { ignore_disk_errors: true, ..place.world.settings() };
    assert_eq!(repair(&despite).area(FILES).unwrap().repaired, 63);
    assert_eq!(place.findings(), []);
}

#[test]
fn what_another_installer_replaced_is_one_cause_and_no_doubt_about_the_disk() {
    let packages: Vec<Package> = (0..7)
        .map(|n| {
            let mut one = package(&format!("bulk{n}"), "1.0");
            (0..22).for_each(|f| add_file(&mut one, &format!("/usr/lib/bulk{n}/core/{f}"), "right\n"));
            one
        })
        .collect();
    let place = place(&packages);
    for n in 0..7 {
        (0..20).for_each(|f| place.write(&format!("/usr/lib/bulk{n}/core/{f}"), "newer than the package\n"));
        std::fs::remove_file(place.world.at(&format!("/usr/lib/bulk{n}/core/21"))).unwrap();
        place.write(&format!("/usr/lib/bulk{n}/core/of-the-newer-one"), "new\n");
    }
    let report = place.check();
    assert_eq!((report.findings.len(), report.doubt), (147, None));
    let cause = |f: &veritum_core::model::Finding| f.cause.clone().unwrap_or_default();
    assert!(report.findings.iter().all(|f| cause(f).starts_with("everything below /usr/lib/bulk")));
    // Who wants the packaged version back all the same gets it, and the newer one is kept.
    assert_eq!(repair(&place.world.settings()).area(FILES).unwrap().repaired, 147);
    assert_eq!(place.findings(), []);
}
