//! A check of disks and images by themselves, without a machine that is mounted; and of the system on them.

use std::sync::Arc;

use super::{Engine, Settings};
use crate::areas::bootchain::examine_bare_disks;
pub use crate::areas::volumes::DisksWanted;
use crate::areas::volumes::examine_disks;
use crate::areas::{Examined, fill};
use crate::devices::{DiskSet, Patches};
use crate::event::Observer;
use crate::machine::{MachineError, RawDisk, raw_systems, started_system};
use crate::model::Scope;
use crate::platform::debian::Debian;
use crate::report::{CheckReport, MachineReport};
use crate::system::WorkError;

/// What is on disks that are not mounted.
#[derive(Debug)]
pub enum OnDisks {
    /// An installed system that can be read without mounting it.
    System(Box<Engine>),
    /// None.
    Bare(Arc<DiskSet>),
}

impl Engine {
    /// Opens the system on the disks of the settings, which is read without mounting it: that on the first of them with one, and of several
    /// there that on the partition of the settings, else that which the disk starts, else the first. Its root is an ext4 file system.
    ///
    /// # Errors
    /// When a disk cannot be opened, the system cannot be read, or there is none on the partition of the settings.
    pub fn open_on_disks(settings: Settings) -> Result<OnDisks, WorkError> {
        Self::open_planned(settings, &[])
    }

    /// The same, as the disks are after these patches were written: those of each disk, in the same order.
    pub(super) fn open_planned(settings: Settings, planned: &[Patches]) -> Result<OnDisks, WorkError> {
        let mut set = DiskSet::open_planned(&settings.disks, planned)?;
        let mut systems = raw_systems(&set);
        if systems.is_empty() {
            // Its partition can have been deleted. What else was left in unused places says nothing.
            let mut searched = DiskSet::open_planned(&settings.disks, planned)?;
            searched.search_lost();
            systems = raw_systems(&searched);
            if !systems.is_empty() {
                set = searched;
            }
        }
        let set = Arc::new(set);
        let Some(root) = chosen(&set, &systems, settings.partition)? else { return Ok(OnDisks::Bare(set)) };
        let path = set.disk_of(&set.volumes[root]).device.path().to_owned();
        let failed = |source| MachineError::Open { path: path.clone(), source };
        let disk = RawDisk::open(&set, root, &path).map_err(failed)?;
        let settings = Settings { root: path, ..settings };
        Ok(OnDisks::System(Box::new(Self::open_from(settings, Arc::new(disk), Some(set), Debian::read)?)))
    }
}

/// The system that is meant, by the position of its root. The first disk with a system is the one that is meant; others have more of its file
/// systems.
fn chosen(set: &DiskSet, systems: &[usize], partition: Option<u32>) -> Result<Option<usize>, WorkError> {
    let number = |at: usize| Some(set.volumes[at].partition.as_ref()?.number);
    if let Some(partition) = partition {
        let found = systems.iter().find(|at| number(**at) == Some(partition));
        let partitions = || systems.iter().filter_map(|at| number(*at)).collect();
        let missing = || WorkError::NoSystem { partition, partitions: partitions() };
        return found.copied().map(Some).ok_or_else(missing);
    }
    let Some(disk) = systems.iter().map(|at| set.volumes[*at].disk).min() else { return Ok(None) };
    let on_it: Vec<usize> = systems.iter().copied().filter(|at| set.volumes[*at].disk == disk).collect();
    let started = || started_system(set, &on_it, disk);
    Ok(if on_it.len() > 1 { started() } else { None }.or(on_it.first().copied()))
}

/// Examines disks on which no system can be read: their tables, and their file systems if those are wanted.
///
/// # Errors
/// As for [`check_disks`].
pub fn check_bare_disks(
    wanted: &DisksWanted,
    set: Arc<DiskSet>,
    with_volumes: bool,
    (jobs, now): (usize, jiff::Timestamp),
    observer: &dyn Observer,
) -> Result<CheckReport, WorkError> {
    let pool = rayon::ThreadPoolBuilder::new().num_threads(jobs).build().map_err(|_| WorkError::Threads)?;
    let mut all = Vec::new();
    if with_volumes {
        all.push(examine_disks(wanted, &pool, observer)?);
    }
    all.push(examine_bare_disks(set, &Scope::default(), (now, wanted.ignore_disk_errors)));
    let mut report = report_of(wanted, &all[0], now);
    fill(&all.iter().collect::<Vec<_>>(), &mut report, None);
    Ok(report)
}

/// Examines the file systems of disks and images; `jobs` is the number of threads.
///
/// # Errors
/// When one of them is not a disk, or cannot be opened.
pub fn check_disks(
    wanted: &DisksWanted,
    jobs: usize,
    now: jiff::Timestamp,
    observer: &dyn Observer,
) -> Result<CheckReport, WorkError> {
    let pool = rayon::ThreadPoolBuilder::new().num_threads(jobs).build().map_err(|_| WorkError::Threads)?;
    let examined = examine_disks(wanted, &pool, observer)?;
    Ok(report_of(wanted, &examined, now))
}

/// The document of a check of disks.
pub(super) fn report_of(wanted: &DisksWanted, examined: &Examined, now: jiff::Timestamp) -> CheckReport {
    let disks = &wanted.disks;
    let name = disks.iter().map(|path| path.display().to_string()).collect::<Vec<_>>().join(", ");
    let system = if disks.len() == 1 { "disk or image" } else { "disks or images" };
    let mut report = CheckReport {
        machine: MachineReport { hostname: name, system: system.into(), ..MachineReport::default() },
        reference: "the checksums in the file systems themselves".into(),
        limited: true,
        ..CheckReport::blank(now)
    };
    fill(&[examined], &mut report, None);
    report
}
