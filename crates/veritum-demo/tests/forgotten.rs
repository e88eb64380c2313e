//! Packages that their own entry in the database forgets, hides or misnames: other witnesses show of them, and their files
//! are judged all the same.

#[path = "support/stand.rs"]
mod stand;
mod support;

use std::fs;
use std::path::Path;

use stand::Stand;
use support::{check, repair, undo};
use veritum_core::areas::{DATABASE, FILES};
use veritum_core::report::{CheckReport, Outcome};
use veritum_core::testkit::Tree;
use veritum_core::work::Settings;

const STATUS: &str = "/var/lib/dpkg/status";
const ALTERED: &str = "/usr/share/quay/part-2";

/// A machine whose packages are available, with a log, changelogs, and one altered file.
fn harbour() -> Stand {
    let stand = Stand::available();
    stand.write(
        "/var/log/dpkg.log",
        b"2026-01-01 10:00:00 install quay:amd64 <none> 1:1.0-1\n2026-01-01 10:00:01 install pier:all <none> 2.0\n",
    );
    fs::write(stand.at(ALTERED), "wrong\n").unwrap();
    stand
}

fn edit(stand: &Stand, path: &str, change: impl FnOnce(String) -> String) {
    let text = fs::read_to_string(stand.at(path)).unwrap();
    fs::write(stand.at(path), change(text)).unwrap();
}

fn without_entry(text: &str, name: &str) -> String {
    let of = |entry: &&str| !entry.starts_with(&format!("Package: {name}\n"));
    text.split_inclusive("\n\n").filter(of).collect()
}

/// Another package of the machine's architecture.
fn add_berth(stand: &Stand, more: &str) {
    let berth = format!(
        "Package: berth\nStatus: install ok installed\nVersion: 1\nArchitecture: amd64\n{more}Description: berth\n\n"
    );
    edit(stand, STATUS, |text| text + &berth);
    stand.write("/var/lib/dpkg/info/berth.list", b"/.\n");
}

fn remove_records(stand: &Stand, name: &str, keep: &[&str]) {
    for entry in fs::read_dir(stand.at("/var/lib/dpkg/info")).unwrap() {
        let path = entry.unwrap().path();
        let file = path.file_name().unwrap().to_string_lossy().into_owned();
        let Some((stem, suffix)) = file.rsplit_once('.') else { continue };
        if stem == name && !keep.contains(&suffix) {
            fs::remove_file(path).unwrap();
        }
    }
}

fn is_seen(report: &CheckReport, path: &str) -> bool {
    report.findings.iter().any(|f| f.area == FILES && f.subject.as_path().is_some_and(|p| p.to_string() == path))
}

fn of_database(report: &CheckReport) -> Vec<&str> {
    report.findings.iter().filter(|f| f.area == DATABASE).map(|f| f.verdict.word()).collect()
}

fn tree(machine: &Path) -> Tree {
    Tree::read(machine, &["var/lib/veritum"]).without_folder_times()
}

#[test]
fn a_package_without_entry_and_records_is_told_by_the_log_and_judged() {
    let stand = harbour();
    edit(&stand, STATUS, |text| without_entry(&text, "quay"));
    remove_records(&stand, "quay", &[]);
    let report = check(&stand.offline());
    assert!(of_database(&report).contains(&"inconsistent"), "{:#?}", report.findings);
    assert!(is_seen(&report, ALTERED), "{:#?}", report.findings);
    // Everything is restored, and what was there is restored again.
    let before = tree(&stand.world.machine());
    let repaired = repair(&stand.offline());
    assert_eq!(repaired.after.unwrap().problems(), 0);
    assert!(fs::read_to_string(stand.at(STATUS)).unwrap().contains("Package: quay\n"));
    undo(&stand.offline(), None).unwrap();
    assert_eq!(before.differences(&tree(&stand.world.machine())), [""; 0]);
}

#[test]
fn without_a_log_a_changelog_or_a_dependency_tells_of_it() {
    for witness in ["changelog", "dependency"] {
        let stand = harbour();
        fs::remove_file(stand.at("/var/log/dpkg.log")).unwrap();
        match witness {
            "changelog" => stand.write("/usr/share/doc/quay/changelog.Debian", b"quay (1:1.0-1) stable; urgency=low\n"),
            _ => add_berth(&stand, "Depends: quay (>= 1.0)\n"),
        }
        edit(&stand, STATUS, |text| without_entry(&text, "quay"));
        remove_records(&stand, "quay", &[]);
        assert!(is_seen(&check(&stand.offline()), ALTERED), "{witness}");
    }
}

#[test]
fn without_any_witness_what_lies_in_the_cache_or_in_a_store_tells_whose_files_they_are() {
    for source in ["cache", "store"] {
        let stand = harbour();
        fs::remove_file(stand.at("/var/log/dpkg.log")).unwrap();
        edit(&stand, STATUS, |text| without_entry(&text, "quay"));
        remove_records(&stand, "quay", &[]);
        add_berth(&stand, "");
        let settings = match source {
            "cache" => stand.offline(),
            _ => {
                fs::remove_dir_all(stand.at("/var/cache/apt/archives")).unwrap();
                // A store that was filled from the packages of another machine.
                let other = veritum_demo::world::World::new(&stand.dir.path().join("other"), &stand.packages);
                Settings { store: other.settings().store, trust: other.settings().trust, ..stand.offline() }
            }
        };
        let report = check(&settings);
        assert!(of_database(&report).contains(&"inconsistent"), "{source}: {:#?}", report.findings);
        assert!(is_seen(&report, ALTERED), "{source}: {:#?}", report.findings);
    }
}

#[test]
fn of_several_versions_available_that_have_most_files_in_common_the_right_one_is_told() {
    let stand = harbour();
    let mut older = stand.packages[0].clone();
    older.version = "1:0.9-1".into();
    let changed = older.items.iter_mut().find(|item| item.path.ends_with("part-3")).unwrap();
    changed.content = veritum_demo::Content::File(b"of the version before\n".to_vec());
    let packages = stand.packages.iter().chain([&older]).collect();
    stand.publish(&veritum_demo::repository::Suite::new(stand::SUITE, packages));
    stand.lists("");
    let deb = stand.at("/var/cache/apt/archives/quay_1%3a0.9-1_amd64.deb");
    fs::write(deb, veritum_demo::write_deb(&older).unwrap()).unwrap();
    fs::remove_file(stand.at("/var/log/dpkg.log")).unwrap();
    edit(&stand, STATUS, |text| without_entry(&text, "quay"));
    remove_records(&stand, "quay", &[]);
    add_berth(&stand, "");
    let report = check(&stand.offline());
    assert!(is_seen(&report, ALTERED), "{:#?}", report.findings);
    assert!(!is_seen(&report, "/usr/share/quay/part-3"), "{:#?}", report.findings);
}

#[test]
fn a_package_in_the_cache_whose_files_are_gone_or_another_ones_is_not_missed() {
    for gone in [true, false] {
        let stand = harbour();
        fs::remove_file(stand.at("/var/log/dpkg.log")).unwrap();
        fs::write(stand.at(ALTERED), "right 2\n").unwrap();
        let [list, sums] =
            ["list", "md5sums"].map(|suffix| fs::read(stand.at(&format!("/var/lib/dpkg/info/quay.{suffix}"))).unwrap());
        edit(&stand, STATUS, |text| without_entry(&text, "quay"));
        remove_records(&stand, "quay", &[]);
        add_berth(&stand, "");
        if gone {
            fs::remove_dir_all(stand.at("/usr/share/quay")).unwrap();
            fs::remove_file(stand.at("/usr/bin/quay")).unwrap();
        } else {
            // The package goes by another name now.
            stand.write("/var/lib/dpkg/info/berth.list", &list);
            stand.write("/var/lib/dpkg/info/berth.md5sums", &sums);
        }
        let report = check(&stand.offline());
        assert!(report.findings.is_empty(), "gone: {gone}: {:#?}", report.findings);
    }
}

#[test]
fn an_essential_package_that_nothing_names_is_missed_even_when_nothing_available_has_it() {
    for essential in [true, false] {
        let mut stand = harbour();
        let [quay, _] = &mut stand.packages[..] else { panic!() };
        quay.fields.push(if essential { "Essential: yes" } else { "Priority: required" }.into());
        stand.publish(&stand.suite());
        stand.lists("");
        fs::remove_file(stand.at("/var/log/dpkg.log")).unwrap();
        edit(&stand, STATUS, |text| without_entry(&text, "quay"));
        remove_records(&stand, "quay", &[]);
        add_berth(&stand, "");
        stand.write("/var/lib/dpkg/info/berth.md5sums", b"");
        fs::remove_dir_all(stand.at("/var/cache/apt/archives")).unwrap();
        let report = check(&stand.offline());
        let told: Vec<&str> = report.findings.iter().filter_map(|f| f.cause.as_deref()).collect();
        assert_eq!(told.iter().any(|cause| cause.contains("missing entries: quay")), essential, "{told:?}");
        // A repair of something else in the database does not forget it.
        edit(&stand, STATUS, |text| text.trim_end().to_owned());
        let after = repair(&stand.offline()).after.unwrap();
        let is_missed =
            |f: &veritum_core::model::Finding| f.cause.as_ref().is_some_and(|c| c.contains("missing entries: quay"));
        assert_eq!(after.findings.iter().any(is_missed), essential, "{:#?}", after.findings);
    }
}

#[test]
fn of_a_forgotten_package_that_nothing_available_knows_there_is_a_finding_that_stays() {
    let stand = harbour();
    edit(&stand, STATUS, |text| without_entry(&text, "quay"));
    remove_records(&stand, "quay", &[]);
    fs::remove_dir_all(stand.at("/var/cache/apt/archives")).unwrap();
    fs::remove_dir_all(stand.at("/var/lib/apt/lists")).unwrap();
    let report = check(&stand.offline());
    assert!(report.outcome == Outcome::Damaged && of_database(&report).contains(&"inconsistent"));
    let lost = |f: &veritum_core::model::Finding| {
        f.cause.as_ref().is_some_and(|cause| cause.contains("missing entries: quay"))
    };
    assert!(report.findings.iter().any(lost), "{:#?}", report.findings);
    let after = repair(&stand.offline());
    assert!(after.areas.iter().any(|area| !area.remaining.is_empty()) || after.before.problems() > 0);
    assert_eq!(check(&stand.offline()).outcome, Outcome::Damaged);
}

#[test]
fn an_entry_that_cannot_be_taken_in_is_a_finding_and_hides_no_file() {
    let long = "1".repeat(250);
    let refused = [
        ("Version: 1:1.0-1", format!("Version: 1:1.0-1{long}")),
        ("Version: 1:1.0-1", "Version: /../1".to_owned()),
        ("Architecture: amd64", format!("Architecture: {long}")),
        ("Status: install ok installed", "Status: install ok whatever".to_owned()),
    ];
    for (right, wrong) in refused {
        let stand = harbour();
        edit(&stand, STATUS, |text| {
            let entry = text.split_inclusive("\n\n").find(|e| e.starts_with("Package: quay\n")).unwrap().to_owned();
            text.replace(&entry, &entry.replace(right, &wrong))
        });
        let report = check(&stand.offline());
        assert!(!of_database(&report).is_empty(), "{wrong}");
        assert!(is_seen(&report, ALTERED), "{wrong}: {:#?}", report.findings);
    }
}

#[test]
fn an_entry_that_says_removed_is_contradicted_by_what_removing_would_have_taken_away() {
    for keep in [&["list"][..], &["postinst"], &[]] {
        let stand = harbour();
        edit(&stand, STATUS, |text| {
            let entry = text.split_inclusive("\n\n").find(|e| e.starts_with("Package: quay\n")).unwrap().to_owned();
            text.replace(&entry, &entry.replace("install ok installed", "deinstall ok config-files"))
        });
        stand.write("/var/lib/dpkg/info/quay.postinst", b"#!/bin/sh\n");
        remove_records(&stand, "quay", keep);
        let report = check(&stand.offline());
        assert!(is_seen(&report, ALTERED), "{keep:?}: {:#?}", report.findings);
    }
}

#[test]
fn a_version_that_log_and_changelog_contradict_is_not_believed() {
    let stand = harbour();
    stand.write("/usr/share/doc/quay/changelog.Debian", b"quay (1:1.0-1) stable; urgency=low\n");
    edit(&stand, STATUS, |text| text.replace("Version: 1:1.0-1\n", "Version: 1:1.1-1\n"));
    let report = check(&stand.offline());
    assert!(is_seen(&report, ALTERED) && !of_database(&report).is_empty(), "{:#?}", report.findings);
    assert_eq!(report.findings.iter().find(|f| f.area == FILES).unwrap().package.as_ref().unwrap().version, "1:1.0-1");
    // Without anything that knows the right one it is reported all the same.
    let alone = Settings { trust: stand.dir.path().join("nobody"), ..stand.offline() };
    let cache = veritum_core::repository::RepositorySettings {
        cache: stand.dir.path().join("none"),
        ..alone.repositories.clone()
    };
    fs::write(stand.at(ALTERED), "right 2\n").unwrap();
    let report = check(&Settings { repositories: cache, ..alone });
    assert_eq!(of_database(&report), ["inconsistent"]);
    assert!(report.findings[0].cause.as_ref().unwrap().contains("say 1:1.0-1"), "{:#?}", report.findings);
}

#[test]
fn a_database_that_is_lost_is_restored_whole_from_every_witness_that_is_left() {
    let stand = harbour();
    let whole = fs::read_to_string(stand.at(STATUS)).unwrap();
    fs::remove_file(stand.at(STATUS)).unwrap();
    remove_records(&stand, "quay", &["md5sums"]);
    assert!(!stand.at("/var/lib/dpkg/info/quay.list").exists());
    assert_eq!(repair(&stand.offline()).after.unwrap().problems(), 0);
    let names = |text: &str| text.lines().filter(|l| l.starts_with("Package: ")).map(str::to_owned).collect::<Vec<_>>();
    let mut expected = names(&whole);
    expected.sort();
    assert_eq!(names(&fs::read_to_string(stand.at(STATUS)).unwrap()), expected);
    // A copy that went through another system is a copy.
    fs::remove_file(stand.at(STATUS)).unwrap();
    fs::remove_dir_all(stand.at("/var/cache/apt/archives")).unwrap();
    stand.write("/var/lib/dpkg/status-old", whole.replace('\n', "\r\n").as_bytes());
    repair(&stand.offline());
    assert_eq!(names(&fs::read_to_string(stand.at(STATUS)).unwrap()), expected);
}

#[test]
fn a_last_entry_without_its_line_end_is_read_and_gets_the_end_alone() {
    let stand = harbour();
    fs::write(stand.at(ALTERED), "right 2\n").unwrap();
    let whole = fs::read_to_string(stand.at(STATUS)).unwrap();
    fs::write(stand.at(STATUS), whole.trim_end()).unwrap();
    let report = check(&stand.offline());
    assert_eq!(of_database(&report), ["corrupt"]);
    assert!(
        report.findings[0].cause.as_ref().unwrap().contains("the last line has no line end, which dpkg rejects"),
        "{:#?}",
        report.findings
    );
    repair(&stand.offline());
    assert_eq!(fs::read_to_string(stand.at(STATUS)).unwrap(), whole);
}
