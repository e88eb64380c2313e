//! The check of a mounted file system at the next start: arranged with the file system's own tool, undone, cut, and read afterwards.

#[path = "support/mounts.rs"]
mod mounts;
mod support;

use std::path::{Path, PathBuf};
use std::process::Command;

use support::{folder, open, small_world, undo};
use veritum_core::areas::VOLUMES;
use veritum_core::devices::ext4::{FileSystem, MountCounts};
use veritum_core::devices::{Device, ReadAt as _, Window};
use veritum_core::event::NoObserver;
use veritum_core::model::{ActionKind, ActionResult, Scope, Verdict};
use veritum_core::plan::DiskDoubt;
use veritum_core::report::{ChangeState, CheckReport, RepairReport};
use veritum_core::work::{Agreement, Settings, WorkError};

/// A machine with /home on a file system of its own, in an image.
struct HomeDisk {
    dir: tempfile::TempDir,
    settings: Settings,
    image: PathBuf,
    mounted: Option<mounts::Mounted>,
}

impl HomeDisk {
    /// `None`, with a line that says so, where it cannot be made. `pass` is the sixth field of its line in fstab.
    fn new(pass: &str) -> Option<Self> {
        if !mounts::root_or_skip("a file system in an image") {
            return None;
        }
        if ["mkfs.ext4", "tune2fs", "e2fsck"].iter().any(|tool| Command::new(tool).arg("-V").output().is_err()) {
            println!("SKIPPED: e2fsprogs is not installed");
            return None;
        }
        let dir = folder();
        let world = small_world(dir.path());
        std::fs::write(world.at("/etc/fstab"), format!("UUID=1 / ext4 rw 0 1\nUUID=2 /home ext4 rw 0 {pass}\n"))
            .unwrap();
        std::fs::write(world.at("/etc/machine-id"), "0123\n").unwrap();
        let home = world.at("/home");
        std::fs::create_dir_all(&home).unwrap();
        let image = dir.path().join("home.img");
        mounts::run("mkfs.ext4", &["-q", "-b", "1024", "-d", home.to_str().unwrap(), image.to_str().unwrap(), "24M"]);
        let mut disk = Self { settings: world.settings(), dir, image, mounted: None };
        disk.mount();
        Some(disk)
    }

    fn home(&self) -> PathBuf {
        self.settings.root.join("home")
    }

    fn mount(&mut self) {
        self.mounted = Some(mounts::Mounted::new(&self.home(), &["-o", "loop", self.image.to_str().unwrap()]));
    }

    /// What happens at a start: it is checked if that is due, then mounted.
    fn restart(&mut self) {
        mounts::run("umount", &[self.home().to_str().unwrap()]);
        self.mounted = None;
        let said = Command::new("e2fsck").arg("-p").arg(&self.image).output().unwrap();
        assert!(said.status.code().is_some_and(|status| status < 4), "{said:?}");
        self.mount();
    }

    fn device(&self) -> PathBuf {
        let said = Command::new("findmnt").args(["-no", "SOURCE"]).arg(self.home()).output().unwrap();
        PathBuf::from(String::from_utf8(said.stdout).unwrap().trim())
    }

    fn counts(&self) -> MountCounts {
        let device = Device::open(&self.device()).unwrap();
        FileSystem::open(&Window::new(&device, 0, device.size())).unwrap().superblock.counts
    }

    fn check(&self) -> CheckReport {
        open(&self.settings).check(&scope(), &NoObserver).unwrap()
    }

    fn repair(&self, scope: &Scope) -> RepairReport {
        open(&self.settings).repair(scope, &NoObserver, &mut |_| Agreement::Yes).unwrap()
    }

    /// Changes a bit of a folder's first block, where the kernel sees it too.
    fn damage(&self, name: &str) {
        use std::os::unix::fs::FileExt as _;
        let said = Command::new("debugfs").args(["-R", &format!("bmap {name} 0")]).arg(&self.image).output().unwrap();
        let block: u64 = String::from_utf8_lossy(&said.stdout).trim().parse().unwrap();
        let device = std::fs::OpenOptions::new().read(true).write(true).open(self.device()).unwrap();
        let mut byte = [0];
        device.read_exact_at(&mut byte, block * 1024 + 40).unwrap();
        device.write_all_at(&[byte[0] ^ 2], block * 1024 + 40).unwrap();
    }
}

fn scope() -> Scope {
    Scope { selected: vec![(VOLUMES, "/home".to_owned())], ..Scope::default() }
}

fn asked_for() -> Scope {
    Scope { checks_at_start: true, ..scope() }
}

/// What was done: each action with its result.
fn done(report: &RepairReport) -> Vec<(ActionKind, ActionResult)> {
    let actions = report.areas.iter().flat_map(|area| &area.actions);
    actions.map(|action| (action.action, action.result)).collect()
}

fn notes(report: &CheckReport) -> Vec<Verdict> {
    report.notes.iter().map(|note| note.verdict).collect()
}

#[test]
fn a_check_is_arranged_undone_and_done_again() {
    let Some(disk) = HomeDisk::new("2") else { return };
    let before = disk.counts();
    assert_eq!((before.maximum, notes(&disk.check()).len()), (-1, 0));
    let report = disk.repair(&asked_for());
    assert_eq!(done(&report), [(ActionKind::ArrangeCheck, ActionResult::Done)]);
    assert!(disk.counts().is_due());
    assert_eq!(notes(&disk.check()), [Verdict::CheckArranged]);
    assert!(disk.repair(&asked_for()).after.is_none(), "it is arranged already");
    let undone = undo(&disk.settings, None).unwrap();
    assert_eq!(undone.changes[0].actions[0].action, ActionKind::RestoreCounts);
    assert_eq!((disk.counts(), notes(&disk.check()).len()), (before, 0));
    assert!(matches!(undo(&disk.settings, Some(1)), Err(WorkError::Unknown { .. })), "it is undone");
    let redone = undo(&disk.settings, Some(2)).unwrap();
    assert_eq!(redone.changes[0].actions[0].action, ActionKind::ArrangeCheck);
    assert!(disk.counts().is_due());
}

#[test]
fn after_the_check_its_result_is_read_and_the_maximum_is_set_back() {
    let Some(mut disk) = HomeDisk::new("2") else { return };
    // A check that is not due leaves everything as it was arranged.
    disk.restart();
    let before = disk.counts();
    disk.repair(&asked_for());
    std::thread::sleep(std::time::Duration::from_millis(1100));
    disk.restart();
    let now = disk.counts();
    assert_eq!((now.mounts, now.maximum), (1, 50), "it was checked");
    let report = disk.check();
    assert_eq!((report.problems(), notes(&report)), (0, vec![Verdict::CheckedAtStart]));
    let extent = report.area(VOLUMES).unwrap().extent.clone().unwrap();
    assert!(
        extent.contains("as change 1 arranged") && extent.contains("the maximum of 50 mounts is still set"),
        "{extent}"
    );
    let repaired = disk.repair(&scope());
    assert_eq!(done(&repaired), [(ActionKind::RestoreCounts, ActionResult::Done)]);
    assert_eq!(disk.counts(), MountCounts { mounts: 1, maximum: before.maximum });
    assert!(notes(&disk.check()).is_empty());
    let log = open(&disk.settings).explain_change(2).unwrap();
    assert!(log.beside()[0].found.as_ref().unwrap().contains("not marked with errors"), "{:?}", log.beside());
    // The arrangement is over: undoing it would change nothing that it did.
    let undone = undo(&disk.settings, Some(1)).unwrap();
    assert_eq!((undone.changes[0].actions.len(), undone.changes[0].refused[0].why.as_str()), (0, "changed since"));
}

#[test]
fn damaged_metadata_have_a_check_arranged_and_after_an_earlier_one_that_is_one_change_with_both() {
    let Some(mut disk) = HomeDisk::new("2") else { return };
    std::fs::create_dir(disk.home().join("letters")).unwrap();
    disk.restart();
    disk.repair(&asked_for());
    std::thread::sleep(std::time::Duration::from_millis(1100));
    disk.restart();
    let checked = disk.counts();
    disk.damage("/letters");
    let report = disk.check();
    assert_eq!(support::told(&report.findings), [("/home/letters".to_owned(), "corrupt")]);
    assert_eq!(report.findings[0].remedy.as_ref().unwrap().action, ActionKind::ArrangeCheck);
    let repaired = disk.repair(&scope());
    let both = [ActionKind::RestoreCounts, ActionKind::ArrangeCheck];
    assert_eq!(done(&repaired), both.map(|kind| (kind, ActionResult::Done)));
    let left = &repaired.area(VOLUMES).unwrap().remaining;
    assert_eq!((left.len(), left[0].reason.as_str()), (1, "its check at the next start is arranged"));
    assert!(disk.counts().is_due());
    let undone = undo(&disk.settings, Some(2)).unwrap();
    assert_eq!((undone.changes[0].actions.len(), undone.changes[0].refused.len()), (2, 0));
    assert_eq!(disk.counts(), checked);
}

#[test]
fn where_fstab_says_that_it_is_not_checked_nothing_is_arranged() {
    let Some(disk) = HomeDisk::new("0") else { return };
    let before = disk.counts();
    let report = disk.repair(&asked_for());
    assert!(done(&report).is_empty() && report.before.unexamined[0].reason.contains("fstab says"), "{report:#?}");
    std::fs::create_dir(disk.home().join("letters")).unwrap();
    mounts::run("sync", &["-f", disk.home().to_str().unwrap()]);
    disk.damage("/letters");
    let report = disk.repair(&scope());
    assert!(done(&report).is_empty() && report.area(VOLUMES).unwrap().remaining[0].reason.contains("fstab says"));
    assert_eq!(disk.counts(), before);
}

#[test]
fn a_disk_in_doubt_is_not_checked_before_the_users_files_are_elsewhere() {
    let Some(disk) = HomeDisk::new("2") else { return };
    let name = disk.device().file_name().unwrap().to_string_lossy().into_owned();
    if std::fs::write(format!("/sys/fs/ext4/{name}/trigger_fs_error"), "test").is_err() {
        println!("SKIPPED: this kernel records no errors on request");
        return;
    }
    let report = disk.check();
    assert_eq!(report.doubt, Some(DiskDoubt::MarkedErrors { errors: 1 }));
    let before = disk.counts();
    let report = disk.repair(&asked_for());
    assert!(
        done(&report).is_empty() && report.area(VOLUMES).unwrap().remaining[0].reason.contains("anyway"),
        "{report:#?}"
    );
    let with = |folder: &Path| Scope { rescued: Some(folder.to_owned()), ..scope() };
    let refused = open(&disk.settings).repair(&with(disk.dir.path()), &NoObserver, &mut |_| Agreement::Yes);
    assert!(matches!(refused, Err(WorkError::NotRescued { .. })), "{refused:?}");
    assert_eq!(disk.counts(), before);
}

#[test]
fn a_change_that_was_cut_while_the_tool_ran_is_closed_and_can_be_undone() {
    let Some(disk) = HomeDisk::new("2") else { return };
    let before = disk.counts();
    disk.repair(&asked_for());
    let state = disk.settings.root.join("var/lib/veritum");
    let journal = state.join("changes/1/journal");
    let whole = std::fs::read_to_string(&journal).unwrap();
    let cut: String = whole.split_inclusive('\n').take(2).collect();
    assert!(cut.contains("delegated") && !cut.contains("delegated-done"));
    for takes_effect in [true, false] {
        std::fs::write(&journal, &cut).unwrap();
        let _ = std::fs::remove_file(state.join("changes.index"));
        if !takes_effect {
            let (mounts, maximum) = (before.mounts.to_string(), before.maximum.to_string());
            let device = disk.device();
            mounts::run("tune2fs", &["-C", &mounts, "-c", &maximum, device.to_str().unwrap()]);
        }
        assert!(open(&disk.settings).undo(None, false, &NoObserver, &mut |_| Agreement::Yes).is_err(), "unfinished");
        open(&disk.settings).recover(&NoObserver).unwrap();
        let listed = open(&disk.settings).list_changes().unwrap().changes[0].state;
        assert_eq!(listed, ChangeState::Done, "what the tool did is not known");
        let undone = undo(&disk.settings, Some(1)).unwrap();
        assert_eq!(undone.changes[0].refused.len(), usize::from(!takes_effect), "{undone:#?}");
        assert_eq!(disk.counts(), before);
        let second = state.join("changes/2");
        let _ = std::fs::remove_dir_all(second);
    }
}
