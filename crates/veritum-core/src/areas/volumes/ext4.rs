//! What is wrong with an ext4 file system, in words: which files and folders its damaged metadata are about.

use std::collections::{BTreeMap, HashSet};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use super::disks::{DiskVolume, check_at_start, correct_it};
use crate::areas::{Examined, VOLUMES};
use crate::devices::ReadAt as _;
use crate::devices::ext4::{
    Checked, Fault, FileSystem, NotReplayed, Part, Paths, Problem, RecordedError, Replayed, Superblock,
};
use crate::event::{Event, Flow, Observer, Phase};
use crate::model::{Action, Finding, Verdict, readable};

/// More findings are counted together: what else is wrong does not change what to do.
const MAX_FINDINGS: usize = 200;
/// How often what looks wrong is read again on a disk that may be in use, and how long after.
const AGAIN: usize = 5;
const PAUSE: Duration = Duration::from_millis(100);

/// Examines the metadata of an ext4 file system.
pub(super) fn examine(
    volume: &DiskVolume<'_>,
    pool: &rayon::ThreadPool,
    observer: &dyn Observer,
    examined: &mut Examined,
) {
    let name = &volume.name;
    let replayed = volume.replayed();
    let fs = match FileSystem::open_with(&volume.bytes, replayed.as_ref().ok()) {
        Ok(fs) => fs,
        Err(why) => return examined.leave_out(format!("{name}: {why}")),
    };
    let superblock = &fs.superblock;
    examined.coverage.examined += 1;
    observer.on_event(Event::Begin { phase: Phase::Metadata, items: u64::from(superblock.groups()), bytes: 0 });
    let stop = AtomicBool::new(false);
    let go_on = |_| {
        let flow = observer.on_event(Event::Advance { items: 1, bytes: 0 });
        stop.fetch_or(flow == Flow::Stop, Ordering::Relaxed);
        !stop.load(Ordering::Relaxed)
    };
    let mut checked = fs.check(pool, &go_on);
    observer.on_event(Event::End);
    if checked.stopped {
        examined.stopped = true;
        examined.leave_out(format!("{name}: stopped before all of it was read"));
    }
    let problems = std::mem::take(&mut checked.problems);
    let problems = if volume.may_change { lasting(&fs, problems) } else { problems };
    examined.findings.extend(recorded(volume, &fs));
    if fs.is_cut() && !volume.is_cut {
        let (size, there) = (superblock.blocks * superblock.block_size, volume.bytes.size());
        let cause = format!("it has {} MiB, and its place on the disk only {}", size >> 20, there >> 20);
        examined.findings.push(volume.finding(None, Verdict::Truncated, cause, Some(what_to_do(volume))));
    }
    let findings = described(volume, &fs, &problems);
    let more = findings.len().saturating_sub(MAX_FINDINGS) as u64 + checked.more;
    examined.findings.extend(findings.into_iter().take(MAX_FINDINGS));
    if more > 0 {
        let cause = format!("{more} more, which are not listed");
        examined.findings.push(volume.finding(
            Some("other damaged metadata"),
            Verdict::Corrupt,
            cause,
            Some(what_to_do(volume)),
        ));
    }
    let unusable = fs.journal_fault().filter(|_| !volume.may_change);
    if let Some(why) = unusable {
        let cause = format!("{why}: the kernel does not mount the file system");
        let what = Some("the file system's journal");
        examined.findings.push(volume.finding(what, Verdict::Corrupt, cause, Some(what_to_do(volume))));
    }
    // As long as it is mounted it is marked so.
    if superblock.needs_recovery() && volume.mounted_at.is_none() && unusable.is_none() {
        examined.findings.push(not_unmounted(volume, &replayed));
    }
    examined.note_extent(extent(name, superblock, &checked));
}

/// What a file system is like that was not unmounted cleanly.
fn not_unmounted(volume: &DiskVolume<'_>, replayed: &Result<Replayed<'_>, NotReplayed>) -> Finding {
    const NOT_CLEAN: &str = "not unmounted cleanly: the file system's journal is applied at the next mount";
    let cause = match replayed {
        Ok(replayed) if replayed.is_all() => {
            let blocks = if replayed.blocks() == 1 { "block" } else { "blocks" };
            format!("{NOT_CLEAN}; it was examined as it will be then ({} {blocks} differ)", replayed.blocks())
        }
        Ok(_) => format!("{NOT_CLEAN}; a part of it (fast commits) is not read here"),
        Err(NotReplayed::Unusable(why)) => format!("{NOT_CLEAN}; it cannot be read here: {why}"),
        Err(NotReplayed::Damaged(fault)) => {
            let why = if *fault == Fault::Unreadable { "cannot be read" } else { "is damaged: a checksum is wrong" };
            let cause =
                format!("{why}; what was written last may be lost, and other metadata may only seem to be damaged");
            let what = Some("the file system's journal");
            return volume.finding(what, Verdict::Corrupt, cause, Some(what_to_do(volume)));
        }
        Err(NotReplayed::NotNeeded) => {
            "not unmounted cleanly, or still mounted: the file system's journal is applied at the next mount".into()
        }
    };
    volume.finding(None, Verdict::NotUnmounted, cause, None)
}

/// What was read, and what it says nothing about.
fn extent(name: &str, superblock: &Superblock, checked: &Checked) -> String {
    let what = match superblock.has_checksums() {
        true => "structure and checksums of the metadata",
        false => "structure of the metadata (it has no checksums)",
    };
    let compared = match checked.compared {
        true => ", compared with each other",
        false => {
            "; names, links and used blocks were not compared with each other (only where it was unmounted cleanly and can be read)"
        }
    };
    format!("{name} (ext4): {what} of {} inodes{compared}; contents are no part of this", checked.inodes)
}

/// Those problems that are still there when they are read again.
fn lasting(fs: &FileSystem<'_>, mut problems: Vec<Problem>) -> Vec<Problem> {
    for _ in 0..AGAIN {
        if problems.is_empty() {
            break;
        }
        std::thread::sleep(PAUSE);
        problems.retain(|problem| fs.is_still_there(problem));
    }
    problems
}

/// The errors that the kernel recorded in the superblock.
fn recorded(volume: &DiskVolume<'_>, fs: &FileSystem<'_>) -> Option<Finding> {
    let superblock = &fs.superblock;
    let words = |error: &RecordedError| {
        let at = jiff::Timestamp::from_second(error.at).map(|at| at.strftime("%Y-%m-%d %H:%M UTC").to_string());
        let inode = if error.inode == 0 { String::new() } else { format!(" (inode {})", error.inode) };
        format!("{} in {}{inode}", at.unwrap_or_default(), readable(error.function.as_bytes()))
    };
    let cause = match (superblock.errors, &superblock.first_error, &superblock.last_error) {
        (0, ..) if superblock.marked => "marked with errors by the kernel".to_owned(),
        (0, ..) => return None,
        (1, Some(first), _) => format!("one error recorded by the kernel: {}", words(first)),
        (n, Some(first), Some(last)) => {
            format!("{n} errors recorded by the kernel: the first {}, the last {}", words(first), words(last))
        }
        (n, ..) => format!("{n} errors recorded by the kernel"),
    };
    Some(volume.finding(None, Verdict::ErrorsRecorded, cause, Some(what_to_do(volume))))
}

/// The problems as findings: one for each file, folder and part, with what it means.
fn described(volume: &DiskVolume<'_>, fs: &FileSystem<'_>, problems: &[Problem]) -> Vec<Finding> {
    let inodes: HashSet<u32> = problems.iter().filter_map(|problem| problem.inode).collect();
    let paths = if inodes.is_empty() { Paths::default() } else { Paths::find(fs, &inodes) };
    let mut grouped: BTreeMap<(Part, u32, Option<u32>), Vec<&Problem>> = BTreeMap::new();
    for problem in problems {
        grouped.entry((problem.part, problem.group, problem.inode)).or_default().push(problem);
    }
    let one = |((part, group, inode), problems): (&(Part, u32, Option<u32>), &Vec<&Problem>)| {
        let what = match inode {
            Some(inode) => of_inode(&paths, *inode, *part),
            None => of_group(*part, *group),
        };
        let unreadable = problems.iter().any(|problem| problem.fault == Fault::Unreadable);
        let verdict = if unreadable { Verdict::Unreadable } else { Verdict::Corrupt };
        let place = inode.and_then(|inode| volume.place(&paths, inode));
        match place {
            Some(place) => Finding {
                cause: Some(cause(*part, problems)),
                action: Some(what_to_do(volume)),
                ..Finding::on_path(VOLUMES, &place, verdict)
            },
            None => volume.finding(Some(&what), verdict, cause(*part, problems), Some(what_to_do(volume))),
        }
    };
    grouped.iter().map(one).collect()
}

fn what_to_do(volume: &DiskVolume<'_>) -> Action {
    if volume.mounted_at.is_some() { check_at_start() } else { correct_it() }
}

fn of_inode(paths: &Paths, inode: u32, part: Part) -> String {
    let names = paths.of(inode);
    let name =
        names.first().map_or_else(|| format!("inode {inode}, which no readable folder names"), |path| readable(path));
    match part {
        Part::Attributes => format!("{name} (attributes)"),
        Part::Places => format!("{name} (where its content is)"),
        _ => name,
    }
}

fn of_group(part: Part, group: u32) -> String {
    let what = match part {
        Part::Superblock if group == 0 => return "the superblock".to_owned(),
        Part::Superblock => "the copy of the superblock",
        Part::Descriptor => "the descriptor",
        Part::BlockBitmap => "the map of used blocks",
        Part::InodeBitmap => "the map of used inodes",
        Part::Usage => return format!("group {group}"),
        _ => "the inodes",
    };
    format!("{what} of group {group}")
}

/// What is wrong, and what that means for the user.
fn cause(part: Part, problems: &[&Problem]) -> String {
    let why = match &problems[0].fault {
        Fault::Unreadable => "cannot be read",
        Fault::Checksum => "its checksum is wrong",
        Fault::Structure(why) => why,
    };
    let blocks: Vec<String> = problems.iter().filter_map(|p| p.block).map(|block| block.to_string()).collect();
    let place = match blocks.len() {
        0 => String::new(),
        1 => format!(" (block {})", blocks[0]),
        n => format!(" ({n} blocks, {} first)", blocks[0]),
    };
    let means = match part {
        Part::Inode => "; owner, size and content may be wrong",
        Part::Places => "; the file may be incomplete",
        Part::Folder => "; files in it may be missing",
        Part::InodeTable => "; the files that are recorded there may be missing",
        _ => "",
    };
    format!("{why}{place}{means}")
}
