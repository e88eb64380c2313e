//! Change logs that were damaged after they were written: reported, never guessed over, and in no one else's way.

mod support;

use std::path::PathBuf;

use support::{folder, open, repair, undo};
use veritum_core::areas::FILES;
use veritum_core::change::ChangeError;
use veritum_core::event::NoObserver;
use veritum_core::testkit::Tree;
use veritum_core::work::{Settings, WorkError};
use veritum_demo::world::{World, add_file, package};

struct Place {
    _dir: tempfile::TempDir,
    world: World,
}

impl Place {
    /// A machine on which as many repairs were made, each of one file.
    fn with(changes: u64) -> Self {
        let dir = folder();
        let mut quay = package("quay", "1.0-1");
        for n in 0..4 {
            add_file(&mut quay, &format!("/usr/share/quay/{n}"), &format!("right {n}\n"));
        }
        let place = Self { world: World::new(&dir.path().join("world"), &[quay]), _dir: dir };
        for n in 0..changes {
            place.damage(n);
            assert_eq!(repair(&place.settings(n)).area(FILES).unwrap().change, Some(n + 1));
        }
        place
    }

    fn settings(&self, minute: u64) -> Settings {
        let minute = i64::try_from(minute).unwrap();
        let now = jiff::Timestamp::from_second(veritum_demo::NOW + minute * 60).unwrap();
        Settings { run: format!("run {minute}"), now, ..self.world.settings() }
    }

    fn damage(&self, n: u64) {
        std::fs::write(self.world.at(&format!("/usr/share/quay/{n}")), "wrong\n").unwrap();
    }

    fn log(&self, change: u64) -> PathBuf {
        self.world.at(&format!("/var/lib/veritum/changes/{change}/journal"))
    }

    fn spoil(&self, change: u64, at: usize) {
        let mut bytes = std::fs::read(self.log(change)).unwrap();
        bytes[at] ^= 1;
        std::fs::write(self.log(change), bytes).unwrap();
    }

    fn tree(&self) -> Tree {
        Tree::read(&self.world.machine(), &[])
    }
}

fn is_change_log(error: &WorkError, number: u64) -> bool {
    matches!(error, WorkError::Change(ChangeError::Journal { change, .. }) if *change == number)
}

#[test]
fn a_changed_byte_anywhere_in_the_last_log_is_reported_and_nothing_is_written() {
    let place = Place::with(1);
    let whole = std::fs::read(place.log(1)).unwrap();
    for at in (0..whole.len()).step_by(whole.len() / 150 + 1).chain([1, 7, 8, 9, 25, whole.len() - 1]) {
        place.spoil(1, at);
        let before = place.tree();
        let status = open(&place.settings(1)).status(true).unwrap();
        assert_eq!(status.unfinished_changes, [0u64; 0], "byte {at}");
        assert_eq!((status.damaged_changes.len(), status.damaged_changes[0].change), (1, 1), "byte {at}");
        let listed = open(&place.settings(1)).list_changes().unwrap();
        assert_eq!(listed.changes[0].state.word(), "unreadable", "byte {at}");
        // That it has ended is known from the index: recovery has nothing to do, and says so.
        assert!(open(&place.settings(1)).recover(&NoObserver).unwrap().changes.is_empty(), "byte {at}");
        assert!(is_change_log(&undo(&place.settings(2), None).unwrap_err(), 1), "byte {at}");
        assert!(is_change_log(&undo(&place.settings(2), Some(1)).unwrap_err(), 1), "byte {at}");
        support::assert_same("nothing is written", &before, &place.tree());
        std::fs::write(place.log(1), &whole).unwrap();
    }
    undo(&place.settings(3), None).unwrap();
    assert_eq!(std::fs::read(place.world.at("/usr/share/quay/0")).unwrap(), b"wrong\n");
}

#[test]
fn a_damaged_log_that_may_be_of_an_unfinished_change_keeps_everything_from_being_written() {
    let place = Place::with(1);
    std::fs::remove_file(place.world.at("/var/lib/veritum/changes.index")).unwrap();
    let bytes = std::fs::read(place.log(1)).unwrap();
    let end = bytes[..bytes.len() - 1].iter().rposition(|b| *b == b'\n').unwrap() + 1;
    place.spoil(1, end + 3);
    place.damage(2);
    let before = place.tree();
    let status = open(&place.settings(1)).status(true).unwrap();
    assert!(!status.damaged_changes[0].ended);
    assert!(is_change_log(&open(&place.settings(1)).recover(&NoObserver).unwrap_err(), 1));
    let disk = std::sync::Arc::new(veritum_core::machine::LiveDisk);
    assert!(is_change_log(&support::try_repair(&place.settings(1), disk).unwrap_err(), 1));
    support::assert_same("nothing is written", &before, &place.tree());
    // What can still be read of it says where the earlier file is.
    let explained = open(&place.settings(1)).explain_damaged(1).unwrap().unwrap();
    assert_eq!(explained.kept[0].path.to_string(), "/usr/share/quay/0");
    assert_eq!(std::fs::read(&explained.kept[0].kept).unwrap(), b"wrong\n");
    // Set aside as the output says, it is in no one's way, and its number and backups are not used again.
    std::fs::rename(&explained.folder, format!("{}.damaged", explained.folder)).unwrap();
    assert_eq!(repair(&place.settings(4)).area(FILES).unwrap().change, Some(2));
    assert_eq!(std::fs::read(&explained.kept[0].kept).unwrap(), b"wrong\n");
    assert!(open(&place.settings(5)).status(true).unwrap().damaged_changes.is_empty());
}

#[test]
fn a_damaged_log_of_an_earlier_change_keeps_only_its_own_undo_from_being_made() {
    for index in [true, false] {
        let place = Place::with(2);
        place.spoil(1, 40);
        if !index {
            std::fs::remove_file(place.world.at("/var/lib/veritum/changes.index")).unwrap();
        }
        place.damage(2);
        assert_eq!(repair(&place.settings(5)).area(FILES).unwrap().change, Some(3));
        let undone = undo(&place.settings(6), None).unwrap();
        assert_eq!((undone.changes[0].of, undone.changes[0].actions.len()), (3, 1));
        assert!(is_change_log(&undo(&place.settings(7), Some(1)).unwrap_err(), 1));
        undo(&place.settings(8), Some(2)).unwrap();
        let status = open(&place.settings(9)).status(true).unwrap();
        assert_eq!((status.damaged_changes.len(), status.damaged_changes[0].ended), (1, true));
    }
}

#[test]
fn a_log_that_lost_its_end_is_not_taken_for_an_interrupted_change() {
    let place = Place::with(1);
    let bytes = std::fs::read(place.log(1)).unwrap();
    let end = bytes[..bytes.len() - 1].iter().rposition(|b| *b == b'\n').unwrap() + 1;
    for cut in [end, end + 40] {
        std::fs::write(place.log(1), &bytes[..cut]).unwrap();
        let status = open(&place.settings(1)).status(true).unwrap();
        assert_eq!((status.unfinished_changes.len(), status.damaged_changes.len()), (0, 1), "cut at {cut}");
        assert!(open(&place.settings(1)).recover(&NoObserver).unwrap().changes.is_empty());
    }
}

#[test]
fn the_index_of_changes_tells_what_their_logs_tell() {
    let place = Place::with(3);
    undo(&place.settings(4), None).unwrap();
    let listed = |place: &Place| open(&place.settings(5)).list_changes().unwrap();
    let with = listed(&place);
    let index = place.world.at("/var/lib/veritum/changes.index");
    let bytes = std::fs::read(&index).unwrap();
    std::fs::remove_file(&index).unwrap();
    assert_eq!(listed(&place), with);
    // A damaged index is as none.
    for at in [0, 30, bytes.len() / 2, bytes.len() - 2] {
        let mut spoilt = bytes.clone();
        spoilt[at] ^= 4;
        std::fs::write(&index, spoilt).unwrap();
        assert_eq!(listed(&place), with, "byte {at}");
    }
}

#[test]
fn backups_are_given_up_after_thirty_days_by_the_next_change_and_an_undo_says_so() {
    let place = Place::with(2);
    let kept = |change: u64| place.world.at(&format!("/var/lib/veritum/kept/{change}"));
    place.damage(2);
    repair(&place.settings(29 * 24 * 60));
    assert!(kept(1).exists() && kept(2).exists());
    place.damage(3);
    repair(&place.settings(31 * 24 * 60));
    assert!(!kept(1).exists() && !kept(2).exists());
    assert!(kept(3).exists() && kept(4).exists(), "the latest and what is younger stay");
    let undone = undo(&place.settings(31 * 24 * 60 + 1), Some(1)).unwrap();
    assert!(undone.changes[0].refused[0].why.contains("was deleted on 2026-"), "{undone:#?}");
    assert!(open(&place.settings(5)).status(true).unwrap().kept_bytes > 0);
}
