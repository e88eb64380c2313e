//! Random histories: a person damages, the tool repairs, is cut, recovers, undoes, again and again.
//!
//! Three things must hold all along, whatever comes in which order: after a repair the machine is as it was shipped,
//! after undoing it the latest change it is as it was before that change, and no content that anybody ever wrote is
//! lost: it is somewhere in the machine, or is kept.

mod support;

use std::collections::BTreeSet;
use std::fs;
use std::os::unix::fs::{PermissionsExt as _, symlink};
use std::path::Path;
use std::process::Command;
use std::sync::Arc;

use support::{STATE, folder, open, repair, try_repair, undo};
use veritum_core::event::NoObserver;
use veritum_core::testkit::{Accident, Lack, TestDisk, Tree};
use veritum_core::work::{Settings, WorkError};
use veritum_demo::Seed;
use veritum_demo::world::World;

const PLACES: [&str; 9] = [
    "/usr/share/quay/one",
    "/usr/share/quay/two",
    "/usr/share/quay/charts/deep/chart-0",
    "/usr/share/quay/charts/same",
    "/usr/share/quay/charts",
    "/usr/share/quay/link",
    "/usr/bin/pier",
    "/usr/bin/pier-b",
    "/usr/share/pier/templates",
];

/// A machine, what a person wrote on it so far, and what it looked like before each change that is.
struct History {
    world: World,
    seed: Seed,
    written: BTreeSet<String>,
    shipped: Tree,
    before: Vec<(u64, Tree)>,
    told: Vec<String>,
}

fn tree(machine: &Path) -> Tree {
    Tree::read(machine, &[STATE]).without_folder_times()
}

fn clear(path: &Path) {
    match fs::symlink_metadata(path) {
        Ok(there) if there.is_dir() => fs::remove_dir_all(path).unwrap(),
        Ok(_) => fs::remove_file(path).unwrap(),
        Err(_) => {}
    }
}

/// Every content below a folder that a person in these histories may have written.
fn contents(folder: &Path, into: &mut BTreeSet<String>) {
    for entry in fs::read_dir(folder).unwrap().flatten() {
        let kind = entry.file_type().unwrap();
        if kind.is_dir() {
            contents(&entry.path(), into);
        } else if kind.is_file() {
            into.extend(fs::read_to_string(entry.path()));
        }
    }
}

impl History {
    fn new(world: World, number: u64) -> Self {
        fs::create_dir(world.at(STATE)).unwrap();
        let shipped = tree(&world.machine());
        let seed = Seed::new(number, "history");
        Self { world, seed, written: BTreeSet::new(), shipped, before: Vec::new(), told: Vec::new() }
    }

    fn settings(&self) -> Settings {
        let run = format!("run {}", self.told.len());
        let now = jiff::Timestamp::from_second(veritum_demo::NOW + 60 * self.told.len() as i64).unwrap();
        Settings { run, now, ..self.world.settings() }
    }

    fn tree(&self) -> Tree {
        tree(&self.world.machine())
    }

    fn changes(&self) -> Vec<u64> {
        open(&self.settings()).list_changes().unwrap().changes.iter().map(|c| c.change).collect()
    }

    /// Puts something of a person's in a place. What it replaces is that person's own loss, not the tool's.
    fn damage(&mut self) {
        let place = self.seed.pick(&PLACES);
        let path = self.world.at(place);
        if !path.parent().is_some_and(Path::is_dir) {
            return;
        }
        let mine = format!("written {}\n", self.seed.number());
        let kind = self.seed.below(6);
        match kind {
            0 => clear(&path),
            1 | 2 => {
                clear(&path);
                fs::write(&path, &mine).unwrap();
            }
            3 => {
                clear(&path);
                fs::create_dir(&path).unwrap();
                fs::write(path.join("mine"), &mine).unwrap();
            }
            4 => {
                clear(&path);
                symlink("/home/mirela", &path).unwrap();
            }
            _ if fs::symlink_metadata(&path).is_ok_and(|m| m.is_file()) => {
                fs::set_permissions(&path, fs::Permissions::from_mode(0o700)).unwrap();
            }
            _ => {}
        }
        self.told.push(format!("damage {kind} at {place}"));
        self.written.clear();
        contents(&self.world.machine(), &mut self.written);
        self.written.retain(|text| text.starts_with("written "));
    }

    fn nothing_is_lost(&self) {
        let mut there = BTreeSet::new();
        contents(&self.world.machine(), &mut there);
        let lost: Vec<_> = self.written.difference(&there).collect();
        assert!(lost.is_empty(), "lost: {lost:?}\n{}", self.told.join("\n"));
        assert_eq!(fs::read_to_string(self.world.at("/home/mirela/letter")).unwrap(), "private\n");
    }

    /// What differs from the machine as it was shipped; a person's own file in a folder of it is no one's business.
    fn unlike_shipped(&self) -> Vec<String> {
        let mut lines = self.shipped.differences(&self.tree());
        lines.retain(|line| !line.ends_with("/mine: new"));
        lines
    }

    #[track_caller]
    fn is_shipped(&self, what: &str) {
        let lines = self.unlike_shipped();
        assert!(lines.is_empty(), "{what}:\n{}\n--\n{}", lines.join("\n"), self.told.join("\n"));
    }

    #[track_caller]
    fn is(&self, expected: &Tree, what: &str) {
        let differences = expected.differences(&self.tree());
        assert!(differences.is_empty(), "{what}:\n{}\n--\n{}", differences.join("\n"), self.told.join("\n"));
    }

    fn repair(&mut self) {
        let before = self.tree();
        let changes = self.changes();
        let report = repair(&self.settings());
        self.told.push(format!("repair: {:?}", report.areas.iter().map(|a| a.change).collect::<Vec<_>>()));
        self.is_shipped("after a repair");
        self.before.extend(self.changes().into_iter().filter(|n| !changes.contains(n)).map(|n| (n, before.clone())));
    }

    /// A repair or an undo that meets an accident somewhere, and recovery from it.
    fn accident(&mut self) {
        let before = self.tree();
        let changes = self.changes();
        let n = usize::try_from(self.seed.below(160)).unwrap();
        let accident = match self.seed.below(3) {
            0 => Accident::Fail(n, 5),
            1 => Accident::Stop(n),
            _ => Accident::Cut(n),
        };
        let lack = if self.seed.below(3) == 0 { Lack::Exchange } else { Lack::Nothing };
        let came = try_repair(&self.settings(), Arc::new(TestDisk::lacking(lack, accident)));
        self.told.push(format!("{accident:?}, {lack:?}: {}", came.map_or_else(|e| e.to_string(), |_| "done".into())));
        let between = self.seed.below(3) == 0;
        if between {
            self.damage();
        }
        open(&self.settings()).recover(&NoObserver).unwrap_or_else(|e| panic!("{e:?}\n{}", self.told.join("\n")));
        // With a person at work in between there is no telling what it should be: only that nothing is lost.
        if between || self.tree().differences(&before).is_empty() {
            return;
        }
        let new: Vec<u64> = self.changes().into_iter().filter(|n| !changes.contains(n)).collect();
        let [number] = new[..] else { panic!("one change was begun: {new:?}\n{}", self.told.join("\n")) };
        // A cut between two rounds leaves the first: not intact yet, but whole, and it can be undone.
        if !self.unlike_shipped().is_empty() {
            let now = self.tree();
            let report = undo(&self.settings(), Some(number)).unwrap();
            self.told.push(format!("undo of the round that stood of {number}"));
            self.is(&before, "taken back after a cut between rounds");
            undo(&self.settings(), report.changes[0].change).unwrap();
            self.is(&now, "and brought again");
        }
        self.before.push((number, before));
    }

    fn undo(&mut self) {
        let changes = self.changes();
        let (now, shipped) = (self.tree(), self.unlike_shipped().is_empty());
        match undo(&self.settings(), None) {
            Err(WorkError::NothingToUndo) => self.told.push("nothing to undo".into()),
            Err(e) => panic!("{e:?}\n{}", self.told.join("\n")),
            Ok(report) => {
                let of = report.changes[0].of;
                self.told.push(format!("undo of {of}, refused {}", report.changes[0].refused.len()));
                let whole = report.changes.iter().all(|c| c.refused.is_empty());
                // Only when nothing was damaged since does the whole machine be restored as it was then.
                let before = self.before.iter().rev().find(|(n, _)| *n == of).map(|(_, t)| t.clone());
                if let (true, true, Some(before)) = (whole, shipped, before) {
                    self.is(&before, "after an undo");
                }
                let added: Vec<u64> = self.changes().into_iter().filter(|n| !changes.contains(n)).collect();
                // The undo of an undo brings it all again.
                if let (true, Some(again)) = (whole, added.last()) {
                    undo(&self.settings(), Some(*again)).unwrap();
                    self.told.push(format!("redo, the undo of {again}"));
                    self.is(&now, "after a redo");
                }
            }
        }
    }

    fn step(&mut self) {
        match self.seed.below(8) {
            0..=3 => self.damage(),
            4 => self.repair(),
            5 => self.accident(),
            _ => self.undo(),
        }
        self.nothing_is_lost();
    }
}

#[test]
fn whatever_happens_in_whatever_order_nothing_is_lost_and_every_step_can_be_undone() {
    let made = folder();
    support::twenty::world(&made.path().join("world"));
    for number in 0..60 {
        let here = folder();
        let world = made.path().join("world");
        assert!(Command::new("cp").arg("-a").arg(world).arg(here.path()).status().unwrap().success());
        let mut history = History::new(World::at_folder(&here.path().join("world")), number);
        for _ in 0..16 {
            history.step();
        }
        history.repair();
        history.nothing_is_lost();
    }
}
