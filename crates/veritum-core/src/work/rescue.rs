//! Users' files to safety: from a system that runs or is mounted, or from disks that are not mounted.

use std::os::fd::AsFd as _;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::rescue_source::{RescueSource, Troubles, with_source};
use crate::devices::{Device, ReadAt as _};
use crate::event::Observer;
use crate::machine::Disk;
use crate::model::{SystemPath, error_words};
use crate::report::{
    DataKind, DeletedItem, IncompleteFile, KindCount, LostItem, MachineReport, MissingFile, RescueDeletedReport,
    RescueImageReport, RescueReport, RescueVerifyReport, RescuedHome,
};
use crate::rescue::manifest::EntryLine;
use crate::rescue::{self, Abilities, DeletedHomes, HomePlace, LostFile, RescueError, Rescued, Wanted};
use crate::system::{Settings, WorkError};

/// What is copied, and where to.
#[derive(Debug, Clone)]
pub struct RescueWanted {
    /// The folder on another disk.
    pub to: PathBuf,
    /// Where they come from.
    pub from: RescueSource,
    /// Only these kinds; all but caches if empty.
    pub kinds: Vec<DataKind>,
    /// Caches too.
    pub caches: bool,
    /// Whether it is only shown.
    pub plan_only: bool,
    /// Of files that were deleted, only these, or those in these folders; all if empty. By their paths in the homes or those they had.
    pub chosen: Vec<SystemPath>,
}

impl RescueWanted {
    /// All kinds of files but caches.
    #[must_use]
    pub fn new(to: PathBuf, from: RescueSource) -> Self {
        Self { to, from, kinds: Vec::new(), caches: false, plan_only: false, chosen: Vec::new() }
    }

    fn kinds(&self) -> Vec<DataKind> {
        let by_default = |kind: &DataKind| *kind != DataKind::Caches;
        let mut kinds = match self.kinds.is_empty() {
            true => DataKind::ALL.into_iter().filter(by_default).collect(),
            false => self.kinds.clone(),
        };
        if self.caches && !kinds.contains(&DataKind::Caches) {
            kinds.push(DataKind::Caches);
        }
        kinds
    }
}

/// Copies users' files to another disk.
///
/// # Errors
/// When nothing can be copied.
pub fn rescue_files(
    settings: &Settings,
    wanted: &RescueWanted,
    disk: &Arc<dyn Disk>,
    observer: &dyn Observer,
) -> Result<(RescueReport, MachineReport), RescueError> {
    let pool = rayon::ThreadPoolBuilder::new().num_threads(settings.jobs).build().map_err(|_| WorkError::Threads)?;
    with_source(settings, &wanted.from, disk, &mut |homes, opened| {
        let same_disk = opened.require_other_disk(&wanted.to, disk)?;
        if let Some(unknown) = wanted.chosen.iter().find(|chosen| !opened.lost.iter().any(|lost| lost.has(chosen))) {
            let (what, name, listed_by) = ("deleted file", unknown.to_string(), Some("rescue --deleted"));
            return Err(WorkError::Unknown { what, name, known: Vec::new(), listed_by }.into());
        }
        let chosen = opened.lost.as_ref().map(|lost| lost.only(&wanted.chosen));
        let source = chosen.as_ref().map_or(homes, |chosen| chosen as &dyn rescue::Source);
        let kinds = wanted.kinds();
        let how = Wanted { to: &wanted.to, kinds, plan_only: wanted.plan_only, now: settings.now };
        let rescued = rescue::rescue(source, &opened.origin, &how, disk.clone(), &pool, observer)?;
        let mut report = report(rescued, source.homes(), &opened.troubles, wanted);
        report.limits = opened.limits.clone();
        if chosen.is_some() {
            report.limits.push(MAY_BE_OTHERS.into());
        }
        report.same_disk = same_disk;
        Ok((report, opened.machine.clone()))
    })
}

/// What is not known of a deleted file.
const MAY_BE_OTHERS: &str = "the places of deleted files were free when they were read, but can hold other data meanwhile: compare the content with the name";

/// Lists what was deleted and is still in trash folders, what Veritum set aside, and of disks what ext4's journal still describes; of that
/// caches only if they are wanted.
///
/// # Errors
/// When there are no homes, or it was interrupted.
pub fn deleted_files(
    settings: &Settings,
    from: &RescueSource,
    caches: bool,
    disk: &Arc<dyn Disk>,
    observer: &dyn Observer,
) -> Result<(RescueDeletedReport, MachineReport), RescueError> {
    with_source(settings, from, disk, &mut |source, opened| {
        let found = rescue::list_all(source, observer)?;
        let item = |deleted: rescue::Deleted| DeletedItem {
            user: source.homes()[deleted.home].user.clone(),
            place: deleted.place,
            was: deleted.was,
            at: deleted.at,
            set_aside: deleted.set_aside,
            count: deleted.count,
        };
        let mut deleted: Vec<DeletedItem> = rescue::list_deleted(source, &found).into_iter().map(item).collect();
        deleted.sort_by(|a, b| b.at.cmp(&a.at).then_with(|| a.place.cmp(&b.place)));
        let troubled = opened.troubles.iter().map(|(user, why)| format!("the home of {user}: {why}"));
        let unread = found.unread.len();
        let unread = (unread > 0).then(|| format!("{unread} files or folders in the homes could not be read"));
        let limits = troubled.chain(opened.limits.iter().cloned()).chain(unread).collect();
        let lost = opened.lost.iter().flat_map(|lost| lost_items(source.homes(), lost, caches)).collect();
        let journals_read = opened.lost.is_some();
        let report =
            RescueDeletedReport { format: RescueDeletedReport::FORMAT.into(), deleted, lost, journals_read, limits };
        Ok((report, opened.machine.clone()))
    })
}

/// Deleted files for people: the most valuable first, and of these the latest.
fn lost_items(homes: &[HomePlace], lost: &DeletedHomes<'_>, caches: bool) -> Vec<LostItem> {
    let time = |seconds: i64| jiff::Timestamp::from_second(seconds).map(|at| at.to_string()).unwrap_or_default();
    let item = |lost: &LostFile| {
        let home = &homes[lost.home];
        let (lost_blocks, _) = lost.file.lost_blocks();
        Some(LostItem {
            user: home.user.clone(),
            path: home.place.join(&lost.place).ok()?,
            was: lost.file.path.as_ref().and_then(|path| SystemPath::parse(path).ok()),
            inode: lost.file.inode.number,
            kind: lost.kind,
            size: lost.file.inode.size,
            changed: time(lost.file.inode.mtime),
            at: lost.file.at.map(time),
            content: lost.content.clone(),
            erased: lost.is_erased,
            lost_bytes: lost_blocks.saturating_mul(lost.block_size),
            whole: lost.file.is_whole(),
        })
    };
    let wanted = lost.files.iter().filter(|lost| caches || lost.kind != DataKind::Caches);
    let mut items: Vec<LostItem> = wanted.filter_map(item).collect();
    items.sort_by(|a, b| a.kind.cmp(&b.kind).then_with(|| b.at.cmp(&a.at)).then_with(|| a.path.cmp(&b.path)));
    items
}

fn report(rescued: Rescued, homes: &[HomePlace], troubles: &Troubles, wanted: &RescueWanted) -> RescueReport {
    let kinds = wanted.kinds();
    let mut told: Vec<RescuedHome> = homes
        .iter()
        .enumerate()
        .map(|(at, home)| RescuedHome {
            user: home.user.clone(),
            home: Some(home.place.clone()),
            kinds: rescued
                .found
                .iter()
                .filter(|((of, _), _)| *of == at)
                .map(|((_, kind), count)| KindCount { kind: *kind, count: *count, selected: kinds.contains(kind) })
                .collect(),
            trouble: None,
        })
        .collect();
    let troubled = |(user, why): &(String, String)| {
        let (user, trouble) = (user.clone(), Some(why.clone()));
        RescuedHome { user, home: None, kinds: Vec::new(), trouble }
    };
    told.extend(troubles.iter().map(troubled));
    let missing = rescued.missing.into_iter();
    let failed = rescued.failed.as_ref().map(|e| {
        let cause = std::error::Error::source(e).map(error_words).unwrap_or_default();
        format!("{e}: {cause}")
    });
    RescueReport {
        format: RescueReport::FORMAT.into(),
        destination: rescued.folder.display().to_string(),
        plan_only: wanted.plan_only,
        homes: told,
        wanted: rescued.wanted,
        needed_bytes: rescued.needed,
        free_bytes: rescued.free,
        known: rescued.known,
        copied: rescued.copied,
        incomplete: rescued.incomplete.into_iter().map(incomplete).collect(),
        missing: missing.map(|(at, path, why)| MissingFile { user: homes[at].user.clone(), path, why }).collect(),
        changed_meanwhile: rescued.changed,
        renamed: rescued.renamed,
        only_recorded: rescued.only_recorded,
        special: rescued.special,
        not_kept: rescued.can.as_ref().map(not_kept).unwrap_or_default(),
        same_disk: false,
        limits: Vec::new(),
        stopped: rescued.stopped,
        failed,
        seconds: rescued.seconds,
    }
}

fn incomplete(entry: EntryLine) -> IncompleteFile {
    let EntryLine { user, path, stored, size, gaps, .. } = entry;
    IncompleteFile { user, path, stored, size, gaps }
}

fn not_kept(can: &Abilities) -> Vec<String> {
    let all = [
        (can.owners, "owners"),
        (can.modes, "permissions"),
        (can.symlinks, "symlinks"),
        (can.hard_links, "hard links"),
        (can.attributes, "extended attributes"),
    ];
    all.into_iter().filter(|(kept, _)| !kept).map(|(_, what)| what.to_owned()).collect()
}

/// Copies a disk into an image, what can be read first.
///
/// # Errors
/// When the disk cannot be opened, or the image cannot be created.
pub fn image_of_disk(
    device: &Path,
    image: &Path,
    disk: &Arc<dyn Disk>,
    observer: &dyn Observer,
) -> Result<RescueImageReport, RescueError> {
    let begun = std::time::Instant::now();
    let fail = |source| rescue::DestinationError { place: image.to_owned(), source };
    let opened = Device::open(device).map_err(WorkError::from)?;
    let above = match image.parent() {
        Some(above) if !above.as_os_str().is_empty() => above,
        _ => Path::new("."),
    };
    let folder = disk.open_root(above).map_err(fail)?;
    if opened.holds(disk.look_open(folder.as_fd()).map_err(fail)?.id.dev) {
        return Err(RescueError::SameDisk { place: image.to_owned() });
    }
    let free = disk.room(folder.as_fd()).map_err(fail)?.bytes;
    if !image.exists() && opened.size() > free {
        let (place, needed) = (above.to_owned(), opened.size());
        return Err(RescueError::Full { place, needed, free, fitting: Vec::new() });
    }
    let source = device.display().to_string();
    let done = rescue::image_disk(&opened, &source, image, observer)?;
    Ok(RescueImageReport {
        format: RescueImageReport::FORMAT.into(),
        source,
        image: image.display().to_string(),
        size: done.map.size,
        read_bytes: done.read,
        resumed: done.resumed,
        unreadable: done.map.unreadable,
        pending: done.map.pending,
        stopped: done.stopped,
        failed: done.failed,
        seconds: begun.elapsed().as_secs_f64(),
    })
}

/// Compares copied files with their manifest; `jobs` is the number of threads.
///
/// # Errors
/// When there is no manifest that can be used.
pub fn verify_rescued(
    folder: &Path,
    jobs: usize,
    disk: &Arc<dyn Disk>,
    observer: &dyn Observer,
) -> Result<RescueVerifyReport, RescueError> {
    let pool = rayon::ThreadPoolBuilder::new().num_threads(jobs).build().map_err(|_| WorkError::Threads)?;
    let verified = rescue::verify(folder, disk, &pool, observer)?;
    let run = verified.run.unwrap_or_default();
    let problem =
        |problem: rescue::StoredProblem| MissingFile { user: problem.user, path: problem.stored, why: problem.why };
    Ok(RescueVerifyReport {
        format: RescueVerifyReport::FORMAT.into(),
        destination: verified.folder.display().to_string(),
        from: run.host,
        since: run.at,
        intact: verified.intact,
        incomplete: verified.incomplete.into_iter().map(incomplete).collect(),
        only_recorded: verified.only_recorded,
        problems: verified.problems.into_iter().map(problem).collect(),
        damaged_lines: verified.damaged_lines,
        stopped: verified.stopped,
    })
}
