//! Reading the surface of a volume, and what the unreadable places belong to, in words.

use std::collections::{BTreeMap, HashSet};
use std::ops::Range;
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use super::disks::DiskVolume;
use super::packages::PackagesOn;
use super::surface_notes::SurfaceNotes;
use crate::areas::{Examined, VOLUMES};
use crate::devices::ext4::{FileSystem, Owner, Part, Paths, owners};
use crate::devices::{ReadAt as _, Surface, identify, read_surface};
use crate::event::{Event, Flow, Observer, Phase};
use crate::model::{Action, Finding, SurfaceExtent, Verdict, readable};

/// How far it came is recorded so often: a power cut loses no more.
const SAVED_AFTER: Duration = Duration::from_secs(20);
/// More files with unreadable places are counted.
const MAX_FILES: usize = 200;
/// More files without names are one finding.
const MAX_NAMELESS: usize = 5;
/// Homes of users, from the root of a file system; and of a file system that is mounted there.
const HOMES: [&[u8]; 2] = [b"/home/", b"/root/"];

/// Reads a volume; `fs` is its file system, if it is ext4.
pub(super) fn examine(
    volume: &DiskVolume<'_>,
    fs: Option<&FileSystem<'_>>,
    extent: SurfaceExtent,
    (notes, now): (Option<&Path>, i64),
    observer: &dyn Observer,
    examined: &mut Examined,
) {
    let name = &volume.name;
    let (ranges, what) = match (extent, fs) {
        (SurfaceExtent::Used, Some(fs)) => (fs.used_ranges(), "every block in use"),
        (SurfaceExtent::Used, None) => {
            return examined
                .leave_out(format!("the surface of {name}: which of its blocks are in use is not known here"));
        }
        (SurfaceExtent::All, _) => (std::iter::once(0..volume.bytes.size()).collect(), "every block"),
    };
    let uuid = identify(&volume.bytes).map(|volume| volume.uuid).filter(|uuid| !uuid.is_empty());
    let notes = notes.zip(uuid);
    let used = extent == SurfaceExtent::Used;
    let notes = notes.map(|(folder, uuid)| SurfaceNotes::of(folder, &uuid, volume.bytes.size(), used));
    let earlier = notes.as_ref().and_then(|notes| notes.load(now)).unwrap_or_default();
    let begin = earlier.stopped_at.unwrap_or_default();
    if begin > 0 {
        examined.note_extent(format!("the surface of {name} was continued {} MiB after its beginning", begin >> 20));
    }
    let end = |range: &Range<u64>| range.end.min(volume.bytes.size());
    let bytes = ranges.iter().map(|range| end(range).saturating_sub(range.start.max(begin))).sum();
    observer.on_event(Event::Begin { phase: Phase::Surface, items: 0, bytes });
    let stop = AtomicBool::new(false);
    let mut saved = Instant::now();
    let surface = read_surface(&volume.bytes, &ranges, earlier, &mut |so_far: &Surface, read_to, bytes| {
        if let Some(notes) = notes.as_ref().filter(|_| saved.elapsed() > SAVED_AFTER) {
            let _ = notes.save(so_far, read_to, now);
            saved = Instant::now();
        }
        let flow = observer.on_event(Event::Advance { items: 0, bytes });
        stop.fetch_or(flow == Flow::Stop, Ordering::Relaxed);
        !stop.load(Ordering::Relaxed)
    });
    observer.on_event(Event::End);
    examined.coverage.bytes += surface.read;
    if let Some(at) = surface.stopped_at {
        examined.stopped = true;
        let is_kept = notes.as_ref().is_some_and(|notes| notes.save(&surface, at, now).is_ok());
        let how = if is_kept { "; the same command continues there" } else { "" };
        examined.leave_out(format!("the surface of {name}: stopped {} MiB after its beginning{how}", at >> 20));
    } else if let Some(notes) = &notes {
        notes.forget();
    }
    let read = match surface.stopped_at {
        None => format!("{what} of {name} was read: {} MiB", surface.read >> 20),
        Some(_) => format!("a part of {name} was read: {} MiB", surface.read >> 20),
    };
    examined.note_extent(match surface.unreadable {
        0 => read,
        n => format!("{read}; {} KiB in {} cannot be read", n >> 10, places(surface.ranges.len())),
    });
    match fs {
        _ if surface.ranges.is_empty() => {}
        Some(fs) => of_files(volume, fs, &surface.ranges, examined),
        None => {
            let cause = format!("{} KiB cannot be read, {}", surface.unreadable >> 10, first(&surface.ranges));
            examined.findings.push(volume.finding(None, Verdict::Unreadable, cause, Some(copy_first())));
        }
    }
}

/// Names what lies in the gaps of an image: what the disk could not be read for when it was copied.
pub(super) fn name_gaps(
    volume: &DiskVolume<'_>,
    fs: Option<&FileSystem<'_>>,
    gaps: &[Range<u64>],
    examined: &mut Examined,
) {
    if gaps.is_empty() {
        return;
    }
    let bytes: u64 = gaps.iter().map(|gap| gap.end - gap.start).sum();
    let what = format!("{} KiB in {} of {} are missing in the image", bytes >> 10, places(gaps.len()), volume.name);
    examined.note_extent(what);
    match fs {
        Some(fs) => of_files(volume, fs, gaps, examined),
        None => {
            let cause = format!("{} KiB are missing in the image, {}", bytes >> 10, first(gaps));
            examined.findings.push(volume.finding(None, Verdict::Unreadable, cause, Some(copy_first())));
        }
    }
}

/// What the unreadable places belong to.
pub(super) fn of_files(volume: &DiskVolume<'_>, fs: &FileSystem<'_>, ranges: &[Range<u64>], examined: &mut Examined) {
    let size = fs.superblock.block_size;
    let mut blocks: Vec<u64> = ranges.iter().flat_map(|range| range.start / size..range.end.div_ceil(size)).collect();
    blocks.dedup();
    let mut by_owner: BTreeMap<Owner, Vec<u64>> = BTreeMap::new();
    for (block, owner) in blocks.iter().zip(owners(fs, &blocks)) {
        by_owner.entry(owner).or_default().push(*block);
    }
    let inodes: HashSet<u32> = by_owner.keys().filter_map(inode_of).collect();
    let paths = if inodes.is_empty() { Paths::default() } else { Paths::find(fs, &inodes) };
    let users = by_owner.keys().filter_map(inode_of).filter(|inode| is_users(&paths.of(*inode))).count();
    // Where a folder is damaged, thousands of files can have lost their names at once.
    let nameless = |owner: &Owner| inode_of(owner).is_some_and(|inode| paths.of(inode).is_empty());
    let lost: Vec<&Owner> = by_owner.keys().filter(|owner| nameless(owner)).collect();
    let lost = if lost.len() > MAX_NAMELESS { lost.len() } else { 0 };
    if lost > 0 {
        let cause = format!("parts of {lost} files cannot be read");
        let what = "files that no readable folder names";
        examined.findings.push(volume.finding(Some(what), Verdict::Unreadable, cause, Some(copy_first())));
    }
    by_owner.retain(|owner, _| lost == 0 || !nameless(owner));
    let path_of = |owner: &Owner| inode_of(owner).and_then(|inode| paths.of(inode).into_iter().next());
    let on_disk = by_owner.keys().take(MAX_FILES).filter(|_| volume.mounted_at.is_none());
    let packages = PackagesOn::find(fs, on_disk.filter_map(path_of));
    for (owner, blocks) in by_owner.iter().take(MAX_FILES) {
        let (what, means) = described(owner, &paths);
        let amount = match blocks.len() {
            1 => format!("block {} cannot be read", blocks[0]),
            n => format!("{n} blocks cannot be read, block {} first", blocks[0]),
        };
        let cause = format!("{amount}{means}");
        let place = inode_of(owner).and_then(|inode| volume.place(&paths, inode));
        let finding = match place {
            Some(place) => {
                let on_path = Finding::on_path(VOLUMES, &place, Verdict::Unreadable);
                Finding { cause: Some(cause), action: Some(copy_first()), ..on_path }
            }
            None => {
                let mut finding = volume.finding(Some(&what), Verdict::Unreadable, cause, Some(copy_first()));
                path_of(owner).inspect(|path| packages.name(path, &mut finding));
                finding
            }
        };
        // An unreadable folder is known from its metadata already.
        if !examined.findings.iter().any(|known| known.id == finding.id) {
            examined.findings.push(finding);
        }
    }
    if by_owner.len() > MAX_FILES {
        examined.leave_out_many("more files with unreadable places", (by_owner.len() - MAX_FILES) as u64, None);
    }
    if users > 0 {
        let files = if users == 1 { "file of a user has" } else { "files of users have" };
        examined.note_extent(format!("{users} {files} unreadable places"));
    }
}

fn inode_of(owner: &Owner) -> Option<u32> {
    match owner {
        Owner::File(inode) | Owner::Metadata(inode) => Some(*inode),
        _ => None,
    }
}

fn is_users(names: &[Vec<u8>]) -> bool {
    names.iter().any(|name| HOMES.iter().any(|home| name.starts_with(home)))
}

/// The name of what a block belongs to, and what it means that it cannot be read.
fn described(owner: &Owner, paths: &Paths) -> (String, &'static str) {
    let named = |inode: u32| {
        let name = paths.of(inode).first().map(|path| readable(path));
        name.unwrap_or_else(|| format!("inode {inode}, which no readable folder names"))
    };
    match owner {
        Owner::File(inode) => (named(*inode), ""),
        Owner::Metadata(inode) => (format!("{} (where its content is)", named(*inode)), "; the file may be incomplete"),
        Owner::Group(Part::InodeTable, group) => {
            (format!("inodes of group {group}"), "; files that are recorded there may be missing")
        }
        Owner::Group(..) => ("metadata of the file system".to_owned(), ""),
        Owner::Journal => ("the file system's journal".to_owned(), ""),
        Owner::Free => ("free space".to_owned(), "; no file is concerned, until one is written there"),
        Owner::Unknown => ("blocks in use that no file has".to_owned(), ""),
    }
}

fn first(ranges: &[Range<u64>]) -> String {
    let at = ranges.first().map_or(0, |range| range.start);
    format!("in {}, {} KiB after the beginning first", places(ranges.len()), at >> 10)
}

pub(super) fn places(count: usize) -> String {
    if count == 1 { "one place".to_owned() } else { format!("{count} places") }
}

pub(super) fn copy_first() -> Action {
    "the disk may be failing: users' files first (veritum rescue --to DIR, on another disk), before anything is written"
        .into()
}
