//! Savepoints and returns on a real file system whose power is cut: one state or the other, and nothing half.

#[path = "support/mounts.rs"]
mod mounts;
mod support;
#[path = "support/savepoints.rs"]
mod two_releases;

use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::Arc;

use mounts::{Mounted, cut_power, root_or_skip, run, unmount};
use support::{STATE, assert_same, folder, open, undo};
use two_releases::{covered, exactly, later, return_to, savepoint, update, world};
use veritum_core::event::NoObserver;
use veritum_core::testkit::{Accident, TestDisk, Tree};
use veritum_core::work::{Engine, Settings};
use veritum_demo::world::World;

/// An ext4 file system in a file, with a machine that has a savepoint and was updated since.
struct Disk {
    dir: tempfile::TempDir,
}

impl Disk {
    /// `None`, with a line that says so, where it cannot be made.
    fn new(what: &str) -> Option<Self> {
        if !root_or_skip(what) {
            return None;
        }
        let disk = Self { dir: folder() };
        std::fs::File::create(disk.clean()).unwrap().set_len(24 << 20).unwrap();
        if !Command::new("mkfs.ext4").args(["-q", "-m", "0"]).arg(disk.clean()).status().is_ok_and(|s| s.success()) {
            println!("SKIPPED: {what}: no mkfs.ext4");
            return None;
        }
        let mounted = disk.mount(&disk.clean());
        let world = world(&mounted.0);
        savepoint(&Settings { jobs: 1, ..later(&world.settings(), 10) });
        world.upgrade(&update()).unwrap();
        disk.unmount(mounted);
        Some(disk)
    }

    fn clean(&self) -> PathBuf {
        self.dir.path().join("clean")
    }

    fn mount(&self, image: &Path) -> Mounted {
        Mounted::new(&self.dir.path().join("disk"), &["-o", "loop", image.to_str().unwrap()])
    }

    /// A copy of the machine as it was made.
    fn fresh(&self) -> Mounted {
        let image = self.image();
        run("cp", &["--sparse=always", self.clean().to_str().unwrap(), image.to_str().unwrap()]);
        self.mount(&image)
    }

    fn image(&self) -> PathBuf {
        self.dir.path().join("image")
    }

    #[allow(clippy::unused_self, reason = "the counterpart of mount")]
    fn unmount(&self, mounted: Mounted) {
        unmount(&mounted.0);
        std::mem::forget(mounted);
    }

    fn world(&self) -> World {
        World::at_folder(&self.dir.path().join("disk/world"))
    }

    fn settings(&self) -> Settings {
        // One thread: then operations have the same order each time.
        Settings { jobs: 1, ..later(&self.world().settings(), 20) }
    }

    /// The number of operations of some work.
    fn operations(&self, work: &dyn Fn(Engine)) -> usize {
        let mounted = self.fresh();
        let counting = Arc::new(TestDisk::new(Accident::None));
        work(Engine::open(self.settings(), counting.clone()).unwrap());
        let total = counting.operations();
        drop(counting);
        self.unmount(mounted);
        total
    }

    /// The work with the power cut at one operation; the machine afterwards, on a disk of another number.
    fn cut(&self, at: usize, work: &dyn Fn(Engine)) -> Mounted {
        let mounted = self.fresh();
        let top = std::fs::File::open(&mounted.0).unwrap();
        let disk = Arc::new(TestDisk::stopping_with(at, move || cut_power(&top)));
        work(Engine::open(self.settings(), disk).unwrap());
        self.unmount(mounted);
        // As after a restart, or from rescue media, the disk gets another device number: its own is taken meanwhile.
        let spare = self.dir.path().join("spare");
        std::fs::File::create(&spare).unwrap().set_len(1 << 20).unwrap();
        let taken = Command::new("losetup").args(["--find", "--show"]).arg(&spare).output().unwrap();
        let again = self.mount(&self.image());
        run("losetup", &["--detach", String::from_utf8(taken.stdout).unwrap().trim()]);
        again
    }
}

#[test]
fn a_return_is_whole_or_not_at_all() {
    let Some(disk) = Disk::new("a power cut in a return") else { return };
    let work = |engine: Engine| drop(return_to(&engine, 1, &exactly()));
    let total = disk.operations(&work);
    let mounted = disk.fresh();
    let before: Tree = covered(&disk.world());
    return_to(&open(&disk.settings()), 1, &exactly()).unwrap();
    let after = covered(&disk.world());
    disk.unmount(mounted);
    let mut met = [0, 0];
    for n in (0..total).step_by(2) {
        let mounted = disk.cut(n, &work);
        for _ in 0..2 {
            open(&disk.settings()).recover(&NoObserver).unwrap_or_else(|e| panic!("cut at {n} of {total}: {e:?}"));
        }
        let now = covered(&disk.world());
        let which = [&before, &after].iter().position(|tree| tree.differences(&now).is_empty());
        let Some(which) = which else {
            let (before, after) = (before.differences(&now), after.differences(&now));
            panic!("cut at {n} of {total}: neither:\n{}\n--\n{}", before.join("\n"), after.join("\n"))
        };
        met[which] += 1;
        if which == 1 && n % 5 == 0 {
            undo(&disk.settings(), None).unwrap();
            assert_same("undone", &before, &covered(&disk.world()));
        }
        disk.unmount(mounted);
    }
    assert!(met[0] > 20 && met[1] > 20, "both must be met: {met:?} of {total}");
}

#[test]
fn a_savepoint_is_whole_or_none() {
    let Some(disk) = Disk::new("a power cut in a savepoint") else { return };
    let work = |engine: Engine| drop(engine.savepoint("", &NoObserver));
    let total = disk.operations(&work);
    let mounted = disk.fresh();
    let before = covered(&disk.world());
    disk.unmount(mounted);
    let mut met = [0, 0];
    for n in 0..total {
        let mounted = disk.cut(n, &work);
        assert_same(&format!("cut at {n} of {total}"), &before, &covered(&disk.world()));
        let whole = || {
            let listed = open(&disk.settings()).list_savepoints(None, &NoObserver).unwrap();
            let whole = listed.savepoints.iter().all(|s| s.lost == 0 && s.trouble.is_none());
            assert!(whole, "cut at {n} of {total}: {listed:#?}");
            listed.savepoints.len()
        };
        met[whole() - 1] += 1;
        savepoint(&disk.settings());
        whole();
        assert!(!disk.world().at(&format!("/{STATE}/savepoints/under-way")).exists());
        disk.unmount(mounted);
    }
    assert!(met[0] > 10 && met[1] > 0, "both must be met: {met:?} of {total}");
}
