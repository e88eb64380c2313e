//! Contents of a savepoint that are no longer kept: from apt's cache or the repository, or nothing is done.

#[path = "support/stand.rs"]
mod stand;
mod support;
#[path = "support/savepoints.rs"]
mod two_releases;

use std::fs;

use stand::Stand;
use support::{STATE, assert_same, open};
use two_releases::{exactly, later, return_to, savepoint};
use veritum_core::testkit::Tree;
use veritum_core::work::Settings;
use veritum_demo::world::{add, package};
use veritum_demo::{Content, EXPIRES};

fn tree(stand: &Stand) -> Tree {
    Tree::read(&stand.world.machine(), &[STATE])
}

/// A machine with a savepoint, whose program was written over in place and then updated: its earlier content is nowhere.
fn machine_with_a_lost_program() -> (Stand, Tree, Settings) {
    let stand = Stand::new();
    stand.lists("");
    let settings = stand.settings();
    let now = jiff::Timestamp::from_second(EXPIRES - 3600).unwrap();
    savepoint(&later(&settings, 10));
    let before = tree(&stand);
    fs::write(stand.at("/usr/bin/quay"), vec![9; 30_000]).unwrap();
    let mut quay = package("quay", "1:2.0-1");
    add(&mut quay, "/usr/bin/quay", Content::File(b"quay 2\n".to_vec()), 0o755);
    stand.world.upgrade(&[quay, stand.packages[1].clone()]).unwrap();
    (stand, before, Settings { now, ..settings })
}

#[test]
fn they_come_from_apts_cache_without_the_network() {
    let (stand, _, settings) = machine_with_a_lost_program();
    stand.cache();
    let cached = tree(&stand);
    let offline = Settings { repositories: stand.offline().repositories, ..settings };
    let report = return_to(&open(&offline), 1, &exactly()).unwrap();
    assert_eq!((report.change, report.lost.len()), (Some(1), 0), "{report:#?}");
    assert_eq!(fs::read(stand.at("/usr/bin/quay")).unwrap(), vec![3; 30_000]);
    assert!(stand.mirror.asked().is_empty());
    support::undo(&offline, None).unwrap();
    assert_same("undone", &cached, &tree(&stand));
}

#[test]
fn they_are_downloaded() {
    let (stand, before, settings) = machine_with_a_lost_program();
    let report = return_to(&open(&settings), 1, &exactly()).unwrap();
    assert_eq!((report.change, report.lost.len()), (Some(1), 0), "{report:#?}");
    assert_same("returned", &before, &tree(&stand));
    let fetched = stand.fetched();
    assert!(fetched.len() == 1 && fetched[0].contains("quay_1.0-1"), "{fetched:?}");
}

#[test]
fn without_network_and_cache_nothing_is_done() {
    let (stand, _, settings) = machine_with_a_lost_program();
    let updated = tree(&stand);
    let offline = Settings { repositories: stand.offline().repositories, ..settings };
    let report = return_to(&open(&offline), 1, &exactly()).unwrap();
    assert_eq!((report.change, report.lost.len()), (None, 1), "{report:#?}");
    assert_same("nothing was done", &updated, &tree(&stand));
}
