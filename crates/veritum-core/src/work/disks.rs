//! A check of disks and images by themselves, without a machine that is mounted.

pub use crate::areas::volumes::DisksWanted;
use crate::areas::volumes::examine_disks;
use crate::areas::{Examined, fill};
use crate::event::Observer;
use crate::report::{CheckReport, MachineReport};
use crate::system::WorkError;

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
