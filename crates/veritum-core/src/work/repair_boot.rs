//! `repair bootchain` of disks that are not mounted: planned to the end before anything is written, on the disks as they will be, and proved
//! there by the same examination.

use std::collections::BTreeSet;

use super::consent::{Ask, Preview};
use super::disks::{OnDisks, report_of};
use super::examine::check_all;
use super::repaired::Repaired;
use super::session::Session;
use super::steps::write_to_disk;
use super::{Agreement, Engine, Settings, WorkError};
use crate::areas::bootchain::examine_bare_disks;
use crate::areas::volumes::DisksWanted;
use crate::areas::{BOOTCHAIN, Checked, DiskWork, Failed, How, Step, Work};
use crate::change::{ChangeError, Verb, unfinished};
use crate::devices::Patches;
use crate::event::{Observer, Uninterruptible};
use crate::model::{FindingId, Scope};
use crate::report::{ActionReport, CheckReport, RepairReport, RunningReport};
use crate::system::require_elsewhere;

/// What was repaired can reveal what was behind it: so often it is looked again. What only the last look reveals is not planned: nothing
/// would prove it.
const MAX_LOOKS: usize = 8;

/// What of disks is repaired.
#[derive(Debug, Clone, Copy, Default)]
pub struct BootRepairWanted {
    /// Whether a partition table that is only proposed is written, too.
    pub writes_table: bool,
    /// Whether it is only shown.
    pub plan_only: bool,
}

/// What is planned for one disk.
#[derive(Debug, Clone, Default)]
struct DiskPlan {
    patches: Patches,
    shows: Vec<ActionReport>,
    parts: Vec<String>,
    writes_files: bool,
}

/// One examination of the disks: its document, and what a repair would do next.
struct Look {
    report: CheckReport,
    steps: Vec<Step>,
}

/// Examines the disks as they are after what was planned for each was written.
fn look(settings: &Settings, scope: &Scope, planned: &[DiskPlan], observer: &dyn Observer) -> Result<Look, WorkError> {
    let patches: Vec<Patches> = planned.iter().map(|disk| disk.patches.clone()).collect();
    match Engine::open_planned(settings.clone(), &patches)? {
        OnDisks::Bare(set) => {
            let examined = examine_bare_disks(set, scope, (settings.now, settings.ignore_disk_errors));
            let wanted = DisksWanted { disks: settings.disks.clone(), ..DisksWanted::default() };
            Ok(Look { report: report_of(&wanted, &examined, settings.now), steps: examined.steps })
        }
        OnDisks::System(engine) => {
            let none = Failed::new();
            let mut checked: Checked = check_all(&engine.cx(scope, How::plain(&none), observer))?;
            let report = engine.report(scope, &checked);
            let steps = checked.get_mut(&BOOTCHAIN).map(|examined| std::mem::take(&mut examined.steps));
            engine.leave();
            Ok(Look { report, steps: steps.unwrap_or_default() })
        }
    }
}

impl Engine {
    /// Repairs what starts the system on disks that are not mounted; `ask` shows the plan before. What is written over is kept in the
    /// state folder of the settings, which must be elsewhere.
    ///
    /// # Errors
    /// When a disk cannot be examined, no state folder is named, or a change log cannot be written.
    pub fn repair_boot(
        &mut self,
        wanted: BootRepairWanted,
        observer: &dyn Observer,
        ask: &mut Ask<'_>,
    ) -> Result<RepairReport, WorkError> {
        let settings = self.system.settings.clone();
        let scope = Scope { writes_table: wanted.writes_table, ..Scope::only(BOOTCHAIN) };
        let (report, steps) = plan(&settings, &scope, observer)?;
        let planned = steps.iter().map(|step| (BOOTCHAIN, step.shows.clone())).collect();
        let done = Repaired::new(report.clone(), planned);
        if steps.is_empty() {
            return Ok(done.only_planned(wanted.plan_only));
        }
        if !wanted.plan_only {
            require_elsewhere(&settings)?;
        }
        let area = BOOTCHAIN;
        let shown: Vec<_> = steps.iter().map(|step| (&area, step)).collect();
        if ask(&Preview::new(&report, &shown)) == Agreement::No || wanted.plan_only {
            return Ok(done.only_planned(true));
        }
        let done = self.write(steps, done, observer)?;
        let after = look(&settings, &scope, &[], &Uninterruptible(observer))?.report;
        Ok(done.finish(after, RunningReport::default()))
    }

    fn write(&self, steps: Vec<Step>, mut done: Repaired, observer: &dyn Observer) -> Result<Repaired, WorkError> {
        let state = self.system.make_state()?;
        let context = self.context(&state, observer);
        let _locks = context.lock_own()?;
        if let Some(number) = unfinished(&state)?.first() {
            return Err(ChangeError::Earlier(*number).into());
        }
        let mut session = Session::new(context, &self.system.settings, Verb::Repair, BOOTCHAIN);
        for step in steps {
            let Work::Disk(work) = &step.work else { continue };
            let why = write_to_disk(&mut session, work)?;
            let answered = step.shows.iter().map(|action| action.findings.len() as u64).sum();
            session.answered_beside(if why.is_none() { answered } else { 0 });
            done.did(&BOOTCHAIN, session.number, step.shows.iter().map(|a| a.clone().settled(why.clone())).collect());
        }
        session.end(0)?;
        Ok(done)
    }
}

/// Plans until nothing more can be repaired, and proves on the disks as they will be that what was planned is repaired by it. What does not
/// prove is left out, and everything else is planned again.
fn plan(settings: &Settings, scope: &Scope, observer: &dyn Observer) -> Result<(CheckReport, Vec<Step>), WorkError> {
    let mut scope = scope.clone();
    loop {
        let (report, steps, unproved) = plan_once(settings, &scope, observer)?;
        if unproved.is_empty() {
            return Ok((report, steps));
        }
        scope.not_answered.extend(unproved);
    }
}

/// One plan, and what of it does not prove.
fn plan_once(
    settings: &Settings,
    scope: &Scope,
    observer: &dyn Observer,
) -> Result<(CheckReport, Vec<Step>, Vec<FindingId>), WorkError> {
    let mut planned = vec![DiskPlan::default(); settings.disks.len()];
    let Look { mut report, steps } = look(settings, scope, &planned, observer)?;
    // A disk that fails is copied before anything is written to it.
    if report.doubt.is_some() {
        return Ok((report, Vec::new(), Vec::new()));
    }
    let mut remarks = BTreeSet::new();
    let mut any = add(settings, &mut planned, &mut remarks, steps);
    let mut looks = 0;
    while any {
        looks += 1;
        let Look { report: then, steps } = look(settings, scope, &planned, observer)?;
        let answered: BTreeSet<&FindingId> =
            planned.iter().flat_map(|disk| &disk.shows).flat_map(|action| &action.findings).collect();
        let unproved = then.findings.iter().map(|finding| finding.id.clone()).filter(|id| answered.contains(id));
        let unproved: Vec<FindingId> = unproved.collect();
        if !unproved.is_empty() {
            return Ok((report, Vec::new(), unproved));
        }
        // What was behind the first problems is shown with them.
        let is_new = |id: &FindingId| !report.findings.iter().any(|known| known.id == *id);
        let new: Vec<_> = then.findings.iter().filter(|finding| is_new(&finding.id)).cloned().collect();
        report.findings.extend(new);
        report.left = then.left;
        any = looks < MAX_LOOKS && add(settings, &mut planned, &mut remarks, steps);
    }
    let steps = settings.disks.iter().zip(planned).filter(|(_, disk)| !disk.patches.is_empty()).map(|(path, disk)| {
        let DiskPlan { patches, shows, parts, writes_files } = disk;
        let work = DiskWork { path: path.clone(), patches, parts, only_start: !writes_files };
        remarks.iter().fold(Step::new(shows, Work::Disk(work)), |step, remark: &String| step.remarked(remark.clone()))
    });
    Ok((report, steps.collect(), Vec::new()))
}

/// Adds what is to be done next; whether there was anything.
fn add(settings: &Settings, planned: &mut [DiskPlan], remarks: &mut BTreeSet<String>, steps: Vec<Step>) -> bool {
    let mut any = false;
    for step in steps {
        let Work::Disk(work) = step.work else { continue };
        let Some(at) = settings.disks.iter().position(|path| *path == work.path) else { continue };
        let disk = &mut planned[at];
        disk.patches.extend(&work.patches);
        disk.shows.extend(step.shows);
        disk.parts.extend(work.parts);
        disk.writes_files |= !work.only_start;
        remarks.extend(step.remarks);
        any = true;
    }
    any
}
