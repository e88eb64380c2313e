//! What the tests of whole machines share.
#![allow(dead_code, reason = "each test file uses a part of it")]

pub(crate) mod test_home;
pub(crate) mod twenty;

use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::{Arc, OnceLock};

use veritum_core::areas::{FILES, UPDATES};
use veritum_core::change::{ChangeContext, Disks, StateFolder};
use veritum_core::event::NoObserver;
use veritum_core::machine::{Disk, LiveDisk, Machine, Protection};
use veritum_core::model::Scope;
use veritum_core::report::{AreaChange, CheckReport, RepairReport, UndoReport};
use veritum_core::testkit::Tree;
use veritum_core::work::{Agreement, Engine, Settings, WorkError};
use veritum_demo::world::{World, add, add_file, package};
use veritum_demo::{BuildOptions, Content, Fault, Seed, build};

/// Where the state is: it is no part of what is compared.
pub(crate) const STATE: &str = "var/lib/veritum";

/// A private folder, in memory where that can be had: there syncing costs nothing.
pub(crate) fn folder() -> tempfile::TempDir {
    tempfile::tempdir_in("/dev/shm").or_else(|_| tempfile::tempdir()).unwrap()
}

/// What a change needs, with these disks.
pub(crate) fn change_context<'a>(
    machine: &'a Machine,
    state: &'a StateFolder,
    protection: &'a Protection,
    disks: &'a dyn Disks,
) -> ChangeContext<'a> {
    let services = &veritum_core::platform::services::NoServices;
    let observer = &NoObserver;
    ChangeContext { machine, state, protection, observer, clear_immutable: false, services, disks, home: None }
}

pub(crate) fn is_root() -> bool {
    rustix::process::geteuid().is_root()
}

/// A demo machine without damage, built once for all tests of a file.
pub(crate) fn pristine() -> &'static Path {
    static BUILT: OnceLock<tempfile::TempDir> = OnceLock::new();
    let dir = BUILT.get_or_init(|| {
        let dir = folder();
        let folder = dir.path().join("demo");
        build(BuildOptions { folder: &folder, seed: 42, faults: &[], jobs: 2 }, &NoObserver).unwrap();
        dir
    });
    dir.path()
}

/// A copy of the demo machine with that damage, the store shared with all others.
pub(crate) struct Demo {
    dir: tempfile::TempDir,
}

impl Demo {
    pub(crate) fn with(faults: &[&Fault]) -> Self {
        let dir = folder();
        let copied =
            Command::new("cp").arg("-a").arg(pristine().join("demo/machine")).arg(dir.path()).status().unwrap();
        assert!(copied.success());
        for fault in faults {
            veritum_demo::apply(&dir.path().join("machine"), fault).unwrap();
        }
        Self { dir }
    }

    pub(crate) fn machine(&self) -> PathBuf {
        self.dir.path().join("machine")
    }

    pub(crate) fn settings(&self) -> Settings {
        veritum_demo::world::settings(self.machine(), &pristine().join("demo"), self.dir.path())
    }

    pub(crate) fn tree(&self) -> Tree {
        Tree::read(&self.machine(), &[STATE])
    }
}

pub(crate) fn open(settings: &Settings) -> Engine {
    Engine::open(settings.clone(), Arc::new(LiveDisk)).unwrap()
}

pub(crate) fn check(settings: &Settings) -> CheckReport {
    open(settings).check(&Scope::default(), &NoObserver).unwrap()
}

pub(crate) fn repair(settings: &Settings) -> RepairReport {
    try_repair(settings, Arc::new(LiveDisk)).unwrap()
}

pub(crate) fn try_repair(settings: &Settings, disk: Arc<dyn Disk>) -> Result<RepairReport, WorkError> {
    Engine::open(settings.clone(), disk)?.repair(&Scope::default(), &NoObserver, &mut |_| Agreement::Yes)
}

pub(crate) fn undo(settings: &Settings, change: Option<u64>) -> Result<UndoReport, WorkError> {
    open(settings).undo(change, false, &NoObserver, &mut |_| Agreement::Yes)
}

/// A machine with one package of a few files, and its store.
pub(crate) fn small_world(dir: &Path) -> World {
    let mut quay = package("quay", "1.0-1");
    for n in 0..4 {
        add_file(&mut quay, &format!("/usr/share/quay/part-{n}"), &format!("right {n}\n"));
    }
    add_file(&mut quay, "/usr/lib/quay/deep/inside", "inside\n");
    add(&mut quay, "/usr/bin/quay", Content::File(vec![3; 3000]), 0o755);
    World::new(&dir.join("world"), &[quay])
}

/// Damages one file at random; answers what it was, to be put back.
pub(crate) fn spoil(file: &Path, chance: &mut Seed) -> Vec<u8> {
    let before = std::fs::read(file).unwrap();
    let mut bytes = before.clone();
    let at = usize::try_from(chance.below(bytes.len().max(1) as u64)).unwrap();
    match chance.below(5) {
        0 => bytes.truncate(at),
        1 => bytes = chance.bytes(at),
        2 => bytes.clear(),
        3 => bytes.extend(chance.bytes(40)),
        _ if bytes.is_empty() => bytes.push(1),
        _ => bytes[at] ^= 1 << chance.below(8),
    }
    std::fs::write(file, bytes).unwrap();
    before
}

/// What became of the files in a repair.
pub(crate) fn files_of(report: &RepairReport) -> &AreaChange {
    report.areas.iter().find(|a| a.area == FILES).unwrap()
}

/// A file among the administrator's notes on a machine that has no id.
pub(crate) fn note(settings: &Settings, name: &str) -> PathBuf {
    let folders = std::fs::read_dir(settings.notes.as_ref().unwrap()).unwrap();
    let mut found = folders.map(|folder| folder.unwrap().path().join(name)).filter(|path| path.exists());
    found.next().unwrap_or_else(|| panic!("no note {name}"))
}

/// Subjects and verdicts of findings or notes, in order.
pub(crate) fn told(findings: &[veritum_core::model::Finding]) -> Vec<(String, &'static str)> {
    let mut told: Vec<_> =
        findings.iter().map(|f| (f.subject.as_path().unwrap().to_string(), f.verdict.word())).collect();
    told.sort();
    told
}

#[track_caller]
pub(crate) fn assert_same(what: &str, before: &Tree, after: &Tree) {
    let differences = before.differences(after);
    assert!(differences.is_empty(), "{what}:\n{}", differences.join("\n"));
}

/// Repairs updates, whatever is asked.
pub(crate) fn try_renew(settings: &Settings) -> Result<RepairReport, WorkError> {
    open(settings).repair(&Scope::only(UPDATES), &NoObserver, &mut |_| Agreement::Yes)
}

pub(crate) fn renew(settings: &Settings) -> RepairReport {
    try_renew(settings).unwrap()
}
