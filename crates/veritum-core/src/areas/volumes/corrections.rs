//! File systems of disks that are not mounted: what their own check finds, and would correct.

use std::collections::HashSet;
use std::path::Path;
use std::sync::atomic::AtomicBool;

use super::disks::{DisksWanted, examine_disks, finding, shown};
use crate::areas::{Examined, Step, Work};
use crate::devices::ext4::{FileSystem, Paths};
use crate::devices::{Device, DiskPart, VolumeKind, parts_of};
use crate::event::{Event, Observer, Phase};
use crate::model::{ActionKind, FindingId, Remedy, Subject, SystemPath, Verdict, error_words, readable};
use crate::plan::{Correction, DiskDoubt, Left, ToolChange};
use crate::platform::block_devices::in_use;
use crate::platform::e2fsck::{self, Findings, SuperblockCopy};
use crate::report::ActionReport;
use crate::system::WorkError;

/// What begins the words about what a file system's own check finds.
pub const CHECKED_WORDS: &str = "its own check (e2fsck) finds";
/// Further paths are counted.
const SHOWN: usize = 6;

/// What a correction could change, so that it is known whose files are concerned.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Concerned {
    /// Paths of files and folders, from the root of their file system.
    pub paths: Vec<Vec<u8>>,
    /// Whether it could concern any file.
    pub any: bool,
}

/// What the checks of the file systems found.
#[derive(Debug, Default)]
pub struct Corrections {
    /// Findings, steps, and what is left.
    pub examined: Examined,
    /// What each step could change, in their order.
    pub concerned: Vec<Concerned>,
}

/// Examines disks, and has each ext4 file system's own check examine it, too. Nothing is changed.
///
/// # Errors
/// As for a check of the disks.
pub fn examine_corrections(
    wanted: &DisksWanted,
    pool: &rayon::ThreadPool,
    stop: &AtomicBool,
    observer: &dyn Observer,
) -> Result<Corrections, WorkError> {
    let examined = examine_disks(wanted, pool, observer)?;
    let mut found = Corrections { examined, concerned: Vec::new() };
    found.examined.left.clear();
    for path in &wanted.disks {
        let device = Device::open(path)?;
        for part in parts_of(&device) {
            if part.contains.as_ref().is_none_or(|volume| volume.kind == VolumeKind::Ext4) {
                found.examine(&device, &part, stop, observer);
            }
        }
    }
    found.leave_the_rest();
    found.examined.doubt = found.doubt(wanted);
    Ok(found)
}

impl Corrections {
    fn examine(&mut self, device: &Device, part: &DiskPart<'_>, stop: &AtomicBool, observer: &dyn Observer) {
        let name = part.name(&shown(device.path()));
        let fs = match FileSystem::open(&part.bytes) {
            Ok(fs) => fs,
            // Without any superblock that can be read there is nothing that a check could begin with.
            Err(_) => return,
        };
        let own: Vec<FindingId> =
            self.examined.problems().filter(|f| is_about(&f.subject, &name)).map(|f| f.id.clone()).collect();
        if !part.bytes.own(device.gaps()).is_empty() {
            return self.leave(&own, &name, "the image has gaps, which its own check would take for its content");
        }
        if in_use(device.path(), part.start) {
            return self.leave(
                &own,
                &name,
                "it is mounted, or in use: unmount it first, or let it be checked at the next start",
            );
        }
        observer.on_event(Event::Begin { phase: Phase::Metadata, items: 0, bytes: 0 });
        let checked = e2fsck::check(device.path(), part.start, SuperblockCopy::of(&fs), stop);
        observer.on_event(Event::End);
        let checked = match checked {
            Ok(checked) => checked,
            Err(why) => return self.leave(&own, &name, &why),
        };
        if !checked.is_damaged && own.is_empty() {
            return;
        }
        if !checked.is_damaged && !fs.superblock.marked && fs.superblock.errors == 0 {
            return self.leave(&own, &name, "its own check (e2fsck) finds no damage");
        }
        let Some(disk) = absolute(device.path()) else {
            return self.leave(&own, &name, "its path cannot be used here");
        };
        let mut ids = own;
        if checked.is_damaged {
            let cause = format!("{CHECKED_WORDS}: {}", checked.words());
            let finding = finding(&name, Some("structure"), Verdict::Inconsistent, cause, None);
            ids.push(finding.id.clone());
            self.examined.findings.push(finding);
        }
        let remedy = Some(Remedy { action: ActionKind::Correct, from: None, download: None });
        let answered = self.examined.findings.iter_mut().filter(|finding| ids.contains(&finding.id));
        answered.for_each(|finding| {
            finding.remedy.clone_from(&remedy);
            finding.action = None;
        });
        let change = ToolChange::Correction(Correction {
            disk,
            offset: part.start,
            size: fs.superblock.blocks * fs.superblock.block_size,
            uuid: fs.superblock.uuid.clone(),
            overwritten: String::new(),
            undoes: None,
        });
        let about = self.examined.problems().filter_map(|finding| part_of(&finding.subject, &name));
        let concerned = concerned(&fs, &checked, about);
        let found = found_words(&name, &checked, &concerned);
        let shows = vec![ActionReport::on(ActionKind::Correct, Subject::Volume { name }, ids)];
        let mut step = Step::new(shows, Work::Change(change)).remarked(found).remarked(EFFECT);
        if fs.superblock.needs_recovery() {
            step = step.remarked(LOG);
        }
        self.examined.steps.push(step);
        self.concerned.push(concerned);
    }

    /// Records why a file system is not corrected.
    fn leave(&mut self, findings: &[FindingId], name: &str, why: &str) {
        if findings.is_empty() {
            self.examined.leave_out(format!("{name} was not examined by its own check: {why}"));
        }
        let problems = self.examined.findings.iter().filter(|finding| findings.contains(&finding.id));
        let left: Vec<Left> =
            problems.map(|finding| Left::new(finding, why.to_owned(), finding.action.clone())).collect();
        self.examined.left.extend(left);
    }

    /// Records that nothing is done about other problems.
    fn leave_the_rest(&mut self) {
        let is_open = |id: &FindingId| !self.examined.left.iter().any(|left| left.finding == *id);
        let rest = self.examined.problems().filter(|finding| finding.remedy.is_none() && is_open(&finding.id));
        let left =
            rest.map(|finding| Left::new(finding, "Veritum does not change this".into(), finding.action.clone()));
        let left: Vec<Left> = left.collect();
        self.examined.left.extend(left);
    }

    /// A doubt about a disk whose metadata cannot be read.
    fn doubt(&self, wanted: &DisksWanted) -> Option<DiskDoubt> {
        let unreadable =
            self.examined.problems().filter(|finding| finding.verdict == Verdict::Unreadable).count() as u64;
        (unreadable > 0 && !wanted.ignore_disk_errors).then_some(DiskDoubt::ReadErrors { files: unreadable })
    }
}

/// What a correction does.
const EFFECT: &str = "The file system's own check can change files, and moves what has no name to lost+found. What it overwrites is kept, so \
    that `veritum undo` can restore it, as long as the file system is not used in between. The disk must not lose power meanwhile.";
const LOG: &str = "It was not unmounted cleanly: the file system's own log is applied first.";

/// Whether a finding is about a file system, or a part of it.
fn is_about(subject: &Subject, name: &str) -> bool {
    subject.name() == Some(name) || part_of(subject, name).is_some()
}

/// The part of a file system that a finding is about.
fn part_of<'a>(subject: &'a Subject, name: &str) -> Option<&'a str> {
    subject.name()?.strip_prefix(name)?.strip_prefix(": ")
}

/// The absolute path of a disk on the running system.
fn absolute(disk: &Path) -> Option<SystemPath> {
    use std::os::unix::ffi::OsStrExt as _;
    let path = disk.canonicalize().map_err(|e| error_words(&e)).ok()?;
    SystemPath::parse(path.as_os_str().as_bytes()).ok()
}

/// What the check of a file system found, and the first of the files that are concerned.
fn found_words(name: &str, checked: &Findings, concerned: &Concerned) -> String {
    let what = match checked.is_damaged {
        true => format!("{CHECKED_WORDS}: {}", checked.words()),
        false => format!("{CHECKED_WORDS} no damage, and removes the marks of earlier errors"),
    };
    let mut paths: Vec<String> = concerned.paths.iter().map(|path| readable(path)).collect();
    paths.sort();
    paths.dedup();
    let more = paths.len().saturating_sub(SHOWN);
    let shown = paths.iter().take(SHOWN).cloned().collect::<Vec<_>>().join(", ");
    match (paths.is_empty(), more) {
        (true, _) => format!("{name}: {what}."),
        (false, 0) => format!("{name}: {what}. Concerned: {shown}."),
        (false, more) => format!("{name}: {what}. Concerned: {shown} and {more} more."),
    }
}

/// What a correction could change, by the messages and by the parts that were found to be damaged before.
fn concerned<'a>(fs: &FileSystem<'_>, checked: &Findings, own: impl Iterator<Item = &'a str>) -> Concerned {
    let inodes: HashSet<u32> = checked.inodes.iter().copied().collect();
    let paths = if inodes.is_empty() { Paths::default() } else { Paths::find(fs, &inodes) };
    let named: Vec<Vec<u8>> = inodes.iter().flat_map(|inode| paths.of(*inode)).collect();
    let nameless = inodes.iter().any(|inode| paths.of(*inode).is_empty());
    let from_own = own.map(|part| part.as_bytes().to_vec());
    let (from_own, parts): (Vec<Vec<u8>>, Vec<Vec<u8>>) = from_own.partition(|part| part.starts_with(b"/"));
    // What is marked as used, and counts, are no file's own.
    let is_vague =
        |part: &[u8]| part != b"structure" && !part.starts_with(b"the map of") && !part.starts_with(b"group ");
    let any =
        nameless || checked.classes.keys().any(|class| !class.names_files()) || parts.iter().any(|part| is_vague(part));
    Concerned { paths: [named, from_own].concat(), any }
}
