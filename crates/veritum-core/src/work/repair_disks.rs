//! `repair volumes` of disks that are not mounted: by the file systems' own check, after users' files that are concerned were copied.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::consent::{Ask, Preview};
use super::disks::{DisksWanted, report_of};
use super::repaired::Repaired;
use super::rescue_source::{origin_of, volumes};
use super::session::Session;
use super::steps::change_by_tool;
use super::{Agreement, Engine, WorkError};
use crate::areas::volumes::{CHECKED_WORDS, Concerned, Corrections, examine_corrections};
use crate::areas::{Step, VOLUMES, Work};
use crate::change::{ChangeError, Verb, unfinished};
use crate::devices::Device;
use crate::devices::ext4::FileSystem;
use crate::event::Observer;
use crate::machine::{Disk, LiveDisk};
use crate::model::{Action, quoted};
use crate::plan::Left;
use crate::report::{RepairReport, RunningReport};
use crate::rescue::{Source as _, UnmountedHomes, require_rescued};

/// What of disks is repaired.
#[derive(Debug, Clone, Default)]
pub struct CorrectionsWanted {
    /// The disks.
    pub disks: DisksWanted,
    /// The folder that users' files were copied to.
    pub rescued: Option<PathBuf>,
    /// Whether it is only shown.
    pub plan_only: bool,
}

impl Engine {
    /// Has the file systems of disks corrected by their own check; `ask` shows the plan before.
    ///
    /// # Errors
    /// When a disk cannot be examined, users' files are not where it was said, or a change log cannot be written.
    pub fn repair_disks(
        &mut self,
        wanted: &CorrectionsWanted,
        observer: &dyn Observer,
        ask: &mut Ask<'_>,
    ) -> Result<RepairReport, WorkError> {
        let mut found = self.look_at_disks(wanted, observer)?;
        hold_back(wanted, &mut found)?;
        let report = report_of(&wanted.disks, &found.examined, self.system.settings.now);
        let steps = std::mem::take(&mut found.examined.steps);
        let planned = steps.iter().map(|step| (VOLUMES, step.shows.clone())).collect();
        let done = Repaired::new(report.clone(), planned);
        let area = VOLUMES;
        let shown: Vec<_> = steps.iter().map(|step| (&area, step)).collect();
        if steps.is_empty() {
            return Ok(done.only_planned(wanted.plan_only));
        }
        if ask(&Preview::new(&report, &shown)) == Agreement::No || wanted.plan_only {
            return Ok(done.only_planned(true));
        }
        let done = self.correct(steps, done, observer)?;
        let mut after = self.look_at_disks(wanted, observer)?;
        hold_back(wanted, &mut after)?;
        let after = report_of(&wanted.disks, &after.examined, self.system.settings.now);
        Ok(done.finish(after, RunningReport::default()))
    }

    fn look_at_disks(&self, wanted: &CorrectionsWanted, observer: &dyn Observer) -> Result<Corrections, WorkError> {
        examine_corrections(&wanted.disks, &self.system.pool, &self.system.settings.stop, observer)
    }

    fn correct(&self, steps: Vec<Step>, mut done: Repaired, observer: &dyn Observer) -> Result<Repaired, WorkError> {
        let state = self.system.make_state()?;
        let context = self.context(&state, observer);
        let _locks = context.lock_own()?;
        if let Some(number) = unfinished(&state)?.first() {
            return Err(ChangeError::Earlier(*number).into());
        }
        let mut session = Session::new(context, &self.system.settings, Verb::Repair, VOLUMES);
        for step in steps {
            let Work::Change(change) = &step.work else { continue };
            // What cannot be completed is not begun: it is no part of the change.
            let why = match self.system.require_ready(change, &state) {
                Ok(()) => change_by_tool(&self.system, &mut session, change, &step.shows)?,
                Err(why) => Some(why),
            };
            session.answered_beside(u64::from(why.is_none()));
            done.did(&VOLUMES, session.number, step.shows.iter().map(|a| a.clone().settled(why.clone())).collect());
        }
        session.end(0)?;
        Ok(done)
    }
}

/// Takes out the steps that could concern users' files that are not known to be elsewhere.
fn hold_back(wanted: &CorrectionsWanted, found: &mut Corrections) -> Result<(), WorkError> {
    let doubtful = found.examined.doubt.is_some();
    let users = users_at_risk(&wanted.disks, &found.concerned, doubtful)?;
    if let Some(folder) = &wanted.rescued {
        let known = require_rescued(folder, &users.disk, &users.machine, &users.names);
        found.examined.doubt = None;
        return known.map_err(|why| WorkError::NotRescued { folder: folder.clone(), why });
    }
    let (why, next) = match (users.names.is_empty(), doubtful) {
        (true, false) => return Ok(()),
        (true, true) => {
            let next = "test disk and memory first, then repeat this with --ignore-disk-errors".into();
            ("the disk may be failing: parts of the metadata cannot be read".to_owned(), next)
        }
        (false, _) => (format!("users' files may be concerned ({})", users.names.join(", ")), copy_first(wanted)),
    };
    for step in std::mem::take(&mut found.examined.steps) {
        let ids = step.shows.iter().flat_map(|action| &action.findings);
        for id in ids {
            let Some(finding) = found.examined.findings.iter_mut().find(|finding| finding.id == *id) else { continue };
            finding.remedy = None;
            let checked = finding.cause.as_ref().filter(|cause| cause.starts_with(CHECKED_WORDS));
            let why = checked.map_or_else(|| why.clone(), |cause| format!("{cause}; {why}"));
            found.examined.left.push(Left::new(finding, why, Some(next.clone())));
        }
    }
    Ok(())
}

fn copy_first(wanted: &CorrectionsWanted) -> Action {
    let disks: Vec<String> = wanted.disks.disks.iter().map(|disk| quoted_path(disk)).collect();
    Action::explained(
        "copy them to another disk first, then repeat this with --rescued DIR",
        format!("veritum rescue --to DIR --disk {}", disks.join(" --disk ")),
    )
}

fn quoted_path(path: &Path) -> String {
    quoted(path.as_os_str().as_encoded_bytes())
}

/// Users whose files could be changed, and what identifies their machine in a manifest of rescued files.
struct AtRisk {
    names: Vec<String>,
    machine: String,
    disk: Arc<dyn Disk>,
}

fn users_at_risk(wanted: &DisksWanted, concerned: &[Concerned], all: bool) -> Result<AtRisk, WorkError> {
    let devices = wanted.disks.iter().map(|path| Device::open(path)).collect::<Result<Vec<_>, _>>()?;
    let windows: Vec<_> = devices.iter().flat_map(|device| volumes(device, &mut Vec::new())).collect();
    let replayed: Vec<_> = windows.iter().map(|volume| volume.replayed().ok()).collect();
    let both = windows.iter().zip(&replayed);
    let systems: Vec<FileSystem<'_>> =
        both.filter_map(|(volume, replayed)| FileSystem::open_with(&volume.bytes, replayed.as_ref()).ok()).collect();
    let source = UnmountedHomes::find(&systems, Vec::new());
    let any = all || concerned.iter().any(|concerned| concerned.any);
    let paths: Vec<&Vec<u8>> = concerned.iter().flat_map(|concerned| &concerned.paths).collect();
    let within = |home: &[u8]| {
        // Of a file system of homes alone, paths begin below /home.
        let below = home.strip_prefix(b"/home").unwrap_or(home);
        let is_in = |path: &[u8], home: &[u8]| {
            path == home || home == b"/" || path.strip_prefix(home).is_some_and(|rest| rest.starts_with(b"/"))
        };
        paths.iter().any(|path| is_in(path, home) || is_in(path, below) || is_in(home, path))
    };
    let homes = source.homes().iter().filter(|home| any || within(home.place.as_bytes()));
    let mut names: Vec<String> = homes.map(|home| home.user.clone()).collect();
    names.sort();
    names.dedup();
    Ok(AtRisk { names, machine: origin_of(&systems).machine, disk: Arc::new(LiveDisk) })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::areas::Examined;
    use crate::areas::volumes::Concerned;
    use crate::devices::ext4::MountCounts;
    use crate::model::{ActionKind, Finding, SystemPath, Verdict};
    use crate::plan::{CountsChange, DiskDoubt, ToolChange};
    use crate::report::ActionReport;

    /// What is left of a step where no users' files are concerned.
    fn held_back(doubt: Option<DiskDoubt>) -> (usize, Vec<String>) {
        let place = SystemPath::literal("/quay");
        let finding = Finding::on_path(VOLUMES, &place, Verdict::Corrupt);
        let counts = MountCounts { mounts: 1, maximum: 1 };
        let (uuid, found) = (String::new(), None);
        let change = CountsChange { place, uuid, before: counts, after: counts, last_check: 0, found };
        let shows = vec![ActionReport::on(ActionKind::Correct, finding.subject.clone(), vec![finding.id.clone()])];
        let step = Step::new(shows, Work::Change(ToolChange::MountCounts(change)));
        let examined = Examined { findings: vec![finding], steps: vec![step], doubt, ..Examined::new(VOLUMES) };
        let mut found = Corrections { examined, concerned: vec![Concerned::default()] };
        hold_back(&CorrectionsWanted::default(), &mut found).unwrap();
        let left = found.examined.left.into_iter().map(|left| left.reason).collect();
        (found.examined.steps.len(), left)
    }

    #[test]
    fn a_disk_in_doubt_is_not_written_although_no_users_files_are_on_it() {
        assert_eq!(held_back(None), (1, Vec::new()));
        let (steps, left) = held_back(Some(DiskDoubt::ReadErrors { files: 1 }));
        assert_eq!((steps, left.len()), (0, 1));
        assert!(left[0].contains("may be failing"), "{left:?}");
    }
}
