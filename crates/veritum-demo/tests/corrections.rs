//! File systems of disks that are not mounted: corrected by their own check only after users' files were copied, and undone exactly.

mod support;

use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::Arc;

use support::{folder, is_root, open, small_world, undo};
use veritum_core::areas::VOLUMES;
use veritum_core::event::NoObserver;
use veritum_core::machine::{Disk, LiveDisk};
use veritum_core::model::{ActionKind, ActionResult, Digest};
use veritum_core::report::RepairReport;
use veritum_core::work::{
    Agreement, CorrectionsWanted, DisksWanted, RescueSource, RescueWanted, WorkError, rescue_files,
};
use veritum_demo::world::World;

struct OldDisk {
    dir: tempfile::TempDir,
    world: World,
    image: PathBuf,
}

impl OldDisk {
    /// An image of a system with mirela's letter; `None`, with a line that says so, where it cannot be made.
    fn new() -> Option<Self> {
        if ["mkfs.ext4", "e2fsck", "e2undo", "debugfs"]
            .iter()
            .any(|tool| Command::new(tool).arg("-V").output().is_err())
        {
            println!("SKIPPED: e2fsprogs is not installed");
            return None;
        }
        let dir = folder();
        let world = small_world(dir.path());
        let from = dir.path().join("from");
        for (path, text) in [
            ("etc/passwd", "mirela:x:1000:1000:Mirela:/home/mirela:/bin/sh\n"),
            ("etc/machine-id", "4711\n"),
            ("etc/hostname", "old\n"),
            ("usr/bin/ferry", "a program\n"),
            ("home/mirela/letter.txt", "dear harbour office\n"),
        ] {
            let path = from.join(path);
            std::fs::create_dir_all(path.parent().unwrap()).unwrap();
            std::fs::write(path, text).unwrap();
        }
        let image = dir.path().join("old.img");
        let made = Command::new("mkfs.ext4")
            .args(["-q", "-b", "1024", "-E", "root_owner=0:0", "-d"])
            .arg(&from)
            .arg(&image)
            .arg("16M")
            .status();
        assert!(made.unwrap().success());
        let disk = Self { dir, world, image };
        for path in ["/home/mirela", "/home/mirela/letter.txt"] {
            disk.debug(&format!("sif {path} uid 1000"));
        }
        Some(disk)
    }

    /// Changes the image with the file system's own debugger.
    fn debug(&self, request: &str) {
        let said = Command::new("debugfs").args(["-w", "-R", request]).arg(&self.image).output().unwrap();
        assert!(said.status.success(), "{said:?}");
    }

    fn digest(&self) -> Digest {
        Digest::hash(&std::fs::read(&self.image).unwrap())
    }

    fn wanted(&self, rescued: Option<&Path>) -> CorrectionsWanted {
        let disks = DisksWanted { disks: vec![self.image.clone()], ..DisksWanted::default() };
        CorrectionsWanted { disks, rescued: rescued.map(Path::to_owned), plan_only: false }
    }

    fn repair(&self, rescued: Option<&Path>) -> Result<RepairReport, WorkError> {
        let settings = self.world.settings();
        open(&settings).repair_disks(&self.wanted(rescued), &NoObserver, &mut |_| Agreement::Yes)
    }

    fn is_sound(&self) -> bool {
        Command::new("e2fsck").arg("-fn").arg(&self.image).output().unwrap().status.success()
    }

    /// Copies the users' files elsewhere, and returns the folder.
    fn rescue(&self) -> PathBuf {
        let to = self.dir.path().join("copies");
        std::fs::create_dir_all(&to).unwrap();
        let from = RescueSource { disks: vec![self.image.clone()], ..RescueSource::default() };
        let wanted = RescueWanted::new(to.clone(), from);
        let disk: Arc<dyn Disk> = Arc::new(LiveDisk);
        rescue_files(&self.world.settings(), &wanted, &disk, &NoObserver).unwrap();
        to
    }
}

fn actions(report: &RepairReport) -> Vec<(ActionKind, ActionResult)> {
    report.areas.iter().flat_map(|area| &area.actions).map(|action| (action.action, action.result)).collect()
}

#[test]
fn damage_of_the_system_is_corrected_at_once_and_undone_to_the_byte() {
    let Some(disk) = OldDisk::new() else { return };
    assert!(
        actions(&disk.repair(None).unwrap()).is_empty() && disk.is_sound(),
        "nothing is corrected where nothing is wrong"
    );
    disk.debug("sif /usr/bin/ferry blocks 99");
    let damaged = disk.digest();
    let mut seen = Vec::new();
    let declined = open(&disk.world.settings()).repair_disks(&disk.wanted(None), &NoObserver, &mut |preview| {
        seen.extend(preview.remarks.clone());
        Agreement::No
    });
    assert!(declined.unwrap().after.is_none() && disk.digest() == damaged);
    assert!(seen.iter().any(|remark| remark.contains("Concerned: /usr/bin/ferry")), "{seen:?}");
    let report = disk.repair(None).unwrap();
    assert_eq!(actions(&report), [(ActionKind::Correct, ActionResult::Done)]);
    assert!(disk.is_sound() && report.area(VOLUMES).unwrap().remaining.is_empty(), "{report:#?}");
    let corrected = disk.digest();
    let undone = undo(&disk.world.settings(), None).unwrap();
    assert_eq!(undone.changes[0].actions[0].action, ActionKind::UndoCorrection);
    assert_eq!(disk.digest(), damaged);
    undo(&disk.world.settings(), undone.changes[0].change).unwrap();
    assert_eq!(disk.digest(), corrected);
}

#[test]
fn users_files_that_are_concerned_are_copied_first() {
    let Some(disk) = OldDisk::new() else { return };
    disk.debug("sif /home/mirela/letter.txt blocks 99");
    let damaged = disk.digest();
    let report = disk.repair(None).unwrap();
    let left = &report.area(VOLUMES).unwrap().remaining[0];
    assert!(left.reason.contains("users' files may be concerned (mirela)"), "{left:?}");
    assert!(left.action.as_ref().unwrap().command.as_ref().unwrap().starts_with("veritum rescue --to DIR --disk "));
    let refused = disk.repair(Some(disk.dir.path()));
    assert!(matches!(refused, Err(WorkError::NotRescued { .. })), "{refused:?}");
    assert_eq!(disk.digest(), damaged);
    let copies = disk.rescue();
    let report = disk.repair(Some(&copies)).unwrap();
    assert_eq!(actions(&report), [(ActionKind::Correct, ActionResult::Done)]);
    assert!(disk.is_sound());
}

#[test]
fn an_image_that_is_in_use_or_was_changed_since_is_left_alone() {
    let Some(disk) = OldDisk::new() else { return };
    disk.debug("sif /usr/bin/ferry blocks 99");
    disk.repair(None).unwrap();
    disk.debug("sif /usr/bin/ferry blocks 98");
    let changed = disk.digest();
    let undone = undo(&disk.world.settings(), None).unwrap();
    let why = undone.changes[0].refused[0].why.as_str();
    assert!(why == "the file system was changed since" && disk.digest() == changed, "{undone:#?}");
    if !is_root() {
        return println!("SKIPPED: a loop device needs root");
    }
    let said = Command::new("losetup").args(["--find", "--show"]).arg(&disk.image).output().unwrap();
    let device = String::from_utf8(said.stdout).unwrap().trim().to_owned();
    let report = disk.repair(None).unwrap();
    Command::new("losetup").args(["--detach", &device]).status().unwrap();
    let left = &report.area(VOLUMES).unwrap().remaining;
    assert!(actions(&report).is_empty() && left[0].reason.contains("in use"), "{report:#?}");
    assert_eq!(disk.digest(), changed);
}

/// The disk in a partition of another that begins at 1 MiB, with an MBR.
fn in_a_partition(inner: &[u8]) -> Vec<u8> {
    let mut whole = vec![0u8; 1 << 20];
    let (start, size) = (2048u32.to_le_bytes(), u32::try_from(inner.len() / 512).unwrap().to_le_bytes());
    whole[446 + 4] = 0x83;
    whole[446 + 8..446 + 12].copy_from_slice(&start);
    whole[446 + 12..446 + 16].copy_from_slice(&size);
    whole[510..512].copy_from_slice(&[0x55, 0xaa]);
    whole.extend_from_slice(inner);
    whole.extend(vec![7u8; 1 << 20]);
    whole
}

#[test]
fn a_file_system_whose_first_superblock_is_lost_is_corrected_by_a_copy() {
    let Some(disk) = OldDisk::new() else { return };
    if !is_root() {
        return println!("SKIPPED: a loop device needs root");
    }
    let mut whole = in_a_partition(&std::fs::read(&disk.image).unwrap());
    let at = (1 << 20) + 1024;
    whole[at..at + 1024].fill(0);
    std::fs::write(&disk.image, &whole).unwrap();
    // By a copy of the superblock, more than the superblock can be wrong: users' files come first.
    let copies = disk.rescue();
    let report = disk.repair(Some(&copies)).unwrap();
    assert_eq!(actions(&report), [(ActionKind::Correct, ActionResult::Done)], "{report:?}");
    assert!(report.area(VOLUMES).unwrap().remaining.is_empty(), "{report:?}");
    undo(&disk.world.settings(), None).unwrap();
    assert_eq!(disk.digest(), Digest::hash(&whole));
}

#[test]
fn what_lies_in_a_partition_is_corrected_there_and_nowhere_else() {
    let Some(disk) = OldDisk::new() else { return };
    if !is_root() {
        return println!("SKIPPED: a loop device needs root");
    }
    disk.debug("sif /usr/bin/ferry blocks 99");
    let inner = std::fs::read(&disk.image).unwrap();
    let whole = in_a_partition(&inner);
    std::fs::write(&disk.image, &whole).unwrap();
    let report = disk.repair(None).unwrap();
    assert_eq!(actions(&report), [(ActionKind::Correct, ActionResult::Done)]);
    let now = std::fs::read(&disk.image).unwrap();
    let end = whole.len() - (1 << 20);
    assert!(now[..1 << 20] == whole[..1 << 20] && now[end..] == whole[end..], "nothing outside of it was written");
    assert_ne!(now[1 << 20..end], inner[..]);
    undo(&disk.world.settings(), None).unwrap();
    assert_eq!(Digest::hash(&std::fs::read(&disk.image).unwrap()), Digest::hash(&whole));
}
