//! The folders of the caches themselves: not there, or something else in their place.

#[path = "support/stand.rs"]
mod stand;
mod support;

use std::fs;
use std::os::unix::fs::symlink;
use std::path::Path;

use stand::{Stand, names};
use support::{STATE, assert_same, open, undo};
use veritum_core::areas::UPDATES;
use veritum_core::event::NoObserver;
use veritum_core::model::{Scope, Verdict};
use veritum_core::report::{ProofOutcome, RepairReport};
use veritum_core::testkit::Tree;
use veritum_core::work::Agreement;

const CACHE: &str = "/var/cache/apt/archives";
const LISTS: &str = "/var/lib/apt/lists";

/// What is reported of things that are in the place of a folder.
fn told(stand: &Stand) -> Vec<String> {
    let updates = Scope::only(UPDATES);
    let report = open(&stand.settings()).check(&updates, &NoObserver).unwrap();
    assert!(report.unexamined.is_empty(), "{:?}", report.unexamined);
    let wrong = report.findings.iter().filter(|f| f.verdict == Verdict::WrongType);
    wrong.map(|f| f.subject.to_string()).collect()
}

/// Repairs; whatever was there is restored with `undo`.
fn repaired(stand: &Stand, look: impl FnOnce(&RepairReport)) {
    let before = Tree::read(&stand.world.machine(), &[STATE]);
    let report = open(&stand.settings()).repair(&Scope::only(UPDATES), &NoObserver, &mut |_| Agreement::Yes);
    let report = report.unwrap();
    assert_eq!(report.proof.as_ref().unwrap().outcome, ProofOutcome::Proved, "{:#?}", report.proof);
    assert!(report.area(UPDATES).unwrap().remaining.is_empty(), "{:#?}", report.area(UPDATES).unwrap().remaining);
    look(&report);
    undo(&stand.settings(), None).unwrap();
    assert_same("all of it comes back", &before, &Tree::read(&stand.world.machine(), &[STATE]));
}

#[test]
fn what_is_in_the_place_of_a_folder_is_set_aside() {
    let put_file = |at: &Path| fs::write(at, "not a folder").unwrap();
    let put_link = |at: &Path| symlink("/nowhere", at).unwrap();
    let put_link_to_file = |at: &Path| symlink("/etc/apt/sources.list", at).unwrap();
    let kinds: [&dyn Fn(&Path); 3] = [&put_file, &put_link, &put_link_to_file];
    for folder in [format!("{CACHE}/partial"), format!("{LISTS}/partial")] {
        for put in kinds {
            let stand = Stand::available();
            let _ = fs::remove_dir(stand.at(&folder));
            put(&stand.at(&folder));
            assert_eq!(told(&stand), std::slice::from_ref(&folder));
            repaired(&stand, |_| assert!(stand.at(&folder).symlink_metadata().is_err()));
        }
    }
}

#[test]
fn a_folder_that_an_administrator_moved_is_none_of_that() {
    let stand = Stand::available();
    for (folder, to) in [(CACHE, "/var/large/archives"), (LISTS, "/var/large/lists")] {
        fs::create_dir_all(stand.at("/var/large")).unwrap();
        fs::rename(stand.at(folder), stand.at(to)).unwrap();
        symlink(to, stand.at(folder)).unwrap();
    }
    assert!(told(&stand).is_empty());
    fs::write(stand.at("/var/cache/apt/pkgcache.bin"), "nothing of apt's").unwrap();
    repaired(&stand, |report| assert_eq!(report.area(UPDATES).unwrap().actions.len(), 1));
}

#[test]
fn lists_whose_folder_is_not_there_come_with_their_folder() {
    let stand = Stand::available();
    let before = names(&stand.at(LISTS));
    let there = |report: &RepairReport| {
        let mut after = names(&stand.at(LISTS));
        after.retain(|name| name != "lock" && name != "partial");
        let lists: Vec<&String> = before.iter().filter(|n| *n != "lock" && *n != "partial").collect();
        assert_eq!(after.len(), lists.len(), "{after:?} {lists:?} {:#?}", report.area(UPDATES).unwrap().actions);
    };
    fs::remove_dir_all(stand.at(LISTS)).unwrap();
    assert!(told(&stand).is_empty(), "dpkg makes one that is not there");
    repaired(&stand, there);
    fs::write(stand.at(LISTS), "not a folder").unwrap();
    assert_eq!(told(&stand), [LISTS]);
    repaired(&stand, there);
}
