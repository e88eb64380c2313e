//! A return, or its undo, that is cut off: one state or the other after recovery, whatever the disk and other programs do.

mod support;
#[path = "support/savepoints.rs"]
mod two_releases;

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::Arc;

use support::{STATE, folder, open};
use two_releases::{covered, exactly, return_to, returned, updated};
use veritum_core::event::NoObserver;
use veritum_core::machine::Disk;
use veritum_core::testkit::{Accident, TestDisk, Tree};
use veritum_core::work::{Agreement, Engine, Settings};
use veritum_demo::world::World;

type Work = fn(&Engine) -> bool;

/// The two states, each with a copy of the machine and what leads from it to the other one.
struct Both {
    dir: tempfile::TempDir,
    world: World,
    settings: Settings,
    updated: Tree,
    returned: Tree,
}

impl Both {
    fn new() -> Self {
        let dir = folder();
        let (world, settings, _, updated) = updated(dir.path());
        copy(&world.machine(), &dir.path().join("updated"));
        returned(&settings, &exactly());
        copy(&world.machine(), &dir.path().join("returned"));
        let returned = covered(&world);
        Self { dir, world, settings, updated, returned }
    }

    /// The machine's copy, the state before and the other one, and the work.
    fn works(&self) -> [(PathBuf, [&Tree; 2], Work); 2] {
        [
            (self.dir.path().join("updated"), [&self.updated, &self.returned], |engine| {
                return_to(engine, 1, &exactly()).is_ok_and(|r| r.change.is_some())
            }),
            (self.dir.path().join("returned"), [&self.returned, &self.updated], |engine| {
                engine.undo(None, false, &NoObserver, &mut |_| Agreement::Yes).is_ok()
            }),
        ]
    }

    fn run(&self, from: &Path, work: Work, accident: Accident) -> (Arc<TestDisk>, bool) {
        copy(from, &self.world.machine());
        let disk = Arc::new(TestDisk::new(accident));
        let as_disk: Arc<dyn Disk> = disk.clone();
        let fine = Engine::open(self.settings.clone(), as_disk).is_ok_and(|engine| work(&engine));
        (disk, fine)
    }

    fn operations(&self, from: &Path, work: Work) -> usize {
        let (counting, fine) = self.run(from, work, Accident::None);
        assert!(fine);
        let total = counting.operations();
        assert!(total > 60, "only {total} operations");
        total
    }
}

fn copy(from: &Path, to: &Path) {
    let _ = fs::remove_dir_all(to);
    assert!(Command::new("cp").arg("-a").arg(from).arg(to).status().unwrap().success());
}

/// Which of the trees it is now.
fn which(trees: [&Tree; 2], now: &Tree, what: &str) -> usize {
    trees.iter().position(|tree| tree.differences(now).is_empty()).unwrap_or_else(|| {
        let [a, b] = trees.map(|tree| tree.differences(now).join("\n  "));
        panic!("{what}: neither the one nor the other:\n  {a}\n--\n  {b}")
    })
}

fn accidents(n: usize) -> [Accident; 2] {
    if n.is_multiple_of(2) {
        [Accident::Cut(n), Accident::Stop(n)]
    } else {
        [Accident::Fail(n, 28), Accident::Fail(n, 5)]
    }
}

#[test]
fn a_return_and_its_undo_are_whole_or_not_at_all_whatever_the_disk_does() {
    let both = Both::new();
    for (from, outcomes, work) in both.works() {
        let mut met = [0, 0];
        // Two kinds of accident at every third operation: a full sweep of all takes minutes.
        for n in (0..both.operations(&from, work)).step_by(3) {
            for accident in accidents(n) {
                let (disk, _) = both.run(&from, work, accident);
                assert!(disk.happened(), "{accident:?}");
                drop(disk);
                for _ in 0..2 {
                    open(&both.settings).recover(&NoObserver).unwrap_or_else(|e| panic!("{accident:?}: {e:?}"));
                }
                met[which(outcomes, &covered(&both.world), &format!("{accident:?}"))] += 1;
            }
        }
        assert!(met[0] > 10 && met[1] > 10, "both outcomes must be met: {met:?}");
    }
}

/// The contents of the backups of the change with this number.
fn backups(world: &World, change: u64) -> Vec<Vec<u8>> {
    let folder = fs::read_dir(world.at(STATE).join(format!("kept/{change}")));
    folder.into_iter().flatten().filter_map(|entry| fs::read(entry.unwrap().path()).ok()).collect()
}

#[test]
fn what_another_program_writes_between_a_cut_and_recovery_stays_and_the_return_is_whole_or_not_at_all() {
    let both = Both::new();
    // One that is exchanged, one that goes with the return and comes with the undo, and one the other way round.
    for changed in ["/usr/bin/quay", "/etc/rig.conf", "/usr/share/quay/old-only"] {
        let without = |tree: &Tree| {
            let mut tree = tree.clone().without_folder_times();
            tree.0.retain(|path, _| path != &changed.as_bytes()[1..]);
            tree
        };
        for (from, outcomes, work) in both.works() {
            let original = fs::read(from.join(&changed[1..])).ok();
            let outcomes = outcomes.map(without);
            let (mut met, mut named, mut kept) = ([0, 0], 0, 0);
            for n in (0..both.operations(&from, work)).step_by(4) {
                let what = format!("{changed}, stop {n}");
                both.run(&from, work, Accident::Stop(n));
                let (place, new) = (both.world.at(changed), both.world.at("/usr/lib/of-another-program"));
                let replaced = fs::read(&place).ok();
                fs::write(&new, "of another program\n").unwrap();
                fs::rename(&new, &place).unwrap();
                let report = open(&both.settings).recover(&NoObserver).unwrap_or_else(|e| panic!("{what}: {e:?}"));
                assert!(open(&both.settings).recover(&NoObserver).unwrap().changes.is_empty());
                assert_eq!(fs::read(&place).unwrap(), b"of another program\n", "{what}");
                met[which([&outcomes[0], &outcomes[1]], &without(&covered(&both.world)), &what)] += 1;
                if let Some(original) = original.as_ref().filter(|original| replaced.as_ref() != Some(original)) {
                    assert!(
                        (1..=2).any(|change| backups(&both.world, change).contains(original)),
                        "{what}: the file that was there is lost"
                    );
                    kept += 1;
                }
                if let [done] = report.changes.as_slice() {
                    named += usize::from(done.why.as_ref().is_some_and(|why| why.starts_with(changed)));
                }
            }
            assert!(met[0] > 10 && met[1] > 0 && named > 0, "{changed}: each must be met: {met:?}, {named}");
            assert_eq!(original.is_some(), kept > 0, "{changed}");
        }
    }
}
