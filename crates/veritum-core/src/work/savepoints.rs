//! `savepoint` and `list savepoints`.

use std::collections::HashSet;

use jiff::civil::DateTime;

use super::{Engine, WorkError};
use crate::change::{ChangeContext, ChangeError, RoundReceipt, StateFolder, unfinished};
use crate::event::Observer;
use crate::machine::MachineTimeZone;
use crate::model::error_chain;
use crate::plan::{ItemKind, Operation};
use crate::platform::Platform as _;
use crate::platform::debian::Debian;
use crate::report::{ExcludedPlace, PackageChange, SavepointLine, SavepointReport, SavepointsReport, UnrecordedFile};
use crate::savepoints::{
    Coverage, Head, InstalledPackage, Made, Making, Reason, SavepointError, SavepointSummary, Savepoints, WrittenFile,
    config_changes, excluded_places, make, make_room, package_changes, renew, summaries,
};

impl Engine {
    /// Makes a savepoint.
    ///
    /// # Errors
    /// When another program is changing the machine, there is no free space, or the disk failed.
    pub fn savepoint(&self, reason: &str, observer: &dyn Observer) -> Result<SavepointReport, WorkError> {
        self.system.require_writable()?;
        let state = self.system.make_state()?;
        let context = self.context(&state, observer);
        let _locks = context.lock(&Debian.locks())?;
        if let Some(number) = unfinished(&state)?.first() {
            return Err(ChangeError::Earlier(*number).into());
        }
        self.make_savepoint(&context, Reason { text: reason.to_owned(), ..Reason::default() })
    }

    /// Makes a savepoint; the lock is held.
    pub(super) fn make_savepoint(
        &self,
        context: &ChangeContext<'_>,
        reason: Reason,
    ) -> Result<SavepointReport, WorkError> {
        let made = self.with_making(context, |making| make(making, reason))?;
        Ok(self.savepoint_report(made))
    }

    /// Removes old savepoints where there is not enough space; the lock is held.
    pub(super) fn make_room(&self, context: &ChangeContext<'_>) -> Result<(), WorkError> {
        self.with_making(context, make_room).map(drop)
    }

    fn with_making<T>(
        &self,
        context: &ChangeContext<'_>,
        work: impl FnOnce(&Making<'_>) -> Result<T, SavepointError>,
    ) -> Result<T, WorkError> {
        let (system, notes, changes) = (&self.system, self.system.make_notes(), || self.package_changes());
        let making = Making {
            context,
            installed: &system.installed,
            notes: notes.as_ref(),
            threads: &system.pool,
            changes: &changes,
            now: system.settings.now,
        };
        Ok(work(&making)?)
    }

    /// After a repair: what it restored takes the place of damaged contents of savepoints.
    pub(super) fn renew_kept(&self, state: &StateFolder, receipts: &[(u64, RoundReceipt)], observer: &dyn Observer) {
        let mut written = Vec::new();
        for (_, receipt) in receipts {
            let done = receipt.outcomes.iter().filter(|outcome| outcome.failed.is_none());
            let done: HashSet<u32> = done.map(|outcome| outcome.index).collect();
            for action in receipt.actions.iter().filter(|action| done.contains(&action.index)) {
                let Operation::Put(items) = &action.operation else { continue };
                written.extend(items.iter().filter_map(|item| {
                    let ItemKind::File { size, digest } = item.kind else { return None };
                    Some(WrittenFile { place: action.place.join(item.below.relative()).ok()?, digest, size })
                }));
            }
        }
        let (system, notes) = (&self.system, self.system.notes());
        // The repair is done: what cannot be renewed now is by the next savepoint.
        let context = self.context(state, observer);
        let _ = renew(&context, &system.installed, notes.as_ref(), &system.pool, &written);
    }

    /// The report that no savepoint was made.
    #[must_use]
    pub fn no_savepoint(&self, why: String) -> SavepointReport {
        SavepointReport {
            format: SavepointReport::FORMAT.into(),
            machine: self.system.machine_report(),
            savepoint: None,
            why_not: Some(why),
            reason: String::new(),
            entries: 0,
            added: 0,
            copied_bytes: 0,
            missing: Vec::new(),
            half_installed: Vec::new(),
            removed: Vec::new(),
            excluded: Vec::new(),
            automatic: None,
            change: None,
        }
    }

    fn savepoint_report(&self, made: Made) -> SavepointReport {
        let Made { head, added, copied, removed, .. } = made;
        let missing = head.missing.into_iter().map(|(path, why)| UnrecordedFile { path, why });
        SavepointReport {
            format: SavepointReport::FORMAT.into(),
            machine: self.system.machine_report(),
            savepoint: Some(head.savepoint),
            why_not: None,
            reason: head.reason,
            entries: head.entries,
            added,
            copied_bytes: copied,
            missing: missing.collect(),
            half_installed: self.half_installed(),
            removed,
            excluded: self.excluded(),
            automatic: None,
            change: None,
        }
    }

    /// What savepoints of this machine do not cover.
    fn excluded(&self) -> Vec<ExcludedPlace> {
        let coverage = Coverage::new(&self.system.machine);
        let homes = coverage.homes().iter().map(|home| (home.to_string(), "a user's home"));
        let places = excluded_places().map(|(place, why)| (place.to_owned(), why)).chain(homes);
        places.map(|(place, why)| ExcludedPlace { place, why: why.into() }).collect()
    }

    /// All savepoints; `trouble` is when the trouble began, in the machine's local time.
    ///
    /// # Errors
    /// When their folder cannot be read.
    pub fn list_savepoints(
        &self,
        trouble: Option<DateTime>,
        observer: &dyn Observer,
    ) -> Result<SavepointsReport, WorkError> {
        let zone = MachineTimeZone::read(&self.system.machine);
        let trouble = trouble.and_then(|at| zone.timestamp_at(at));
        let mut report = SavepointsReport {
            format: SavepointsReport::FORMAT.into(),
            machine: self.system.machine_report(),
            savepoints: Vec::new(),
            bytes: 0,
            trouble: trouble.map(|at| at.to_string()),
            before_trouble: None,
            automatic: self.is_automatic(),
        };
        let Some(state) = self.system.readable_state()? else { return Ok(report) };
        let _lock = self.system.shared_lock(Some(&state))?;
        let notes = self.system.notes();
        let (all, bytes) = summaries(&self.context(&state, observer), notes.as_ref(), &self.system.pool)?;
        report.bytes = bytes;
        let made = |summary: &SavepointSummary| summary.head.as_ref().ok().map(|head| (head.made, head.savepoint));
        report.savepoints = self.savepoint_lines(&state, &all)?;
        let is_damaged =
            |number: &u64| report.savepoints.iter().any(|line| line.savepoint == *number && line.trouble.is_some());
        let before = all.iter().filter_map(made).filter(|(made, _)| trouble.is_some_and(|at| *made <= at));
        report.before_trouble = before.filter(|(_, number)| !is_damaged(number)).max().map(|(_, number)| number);
        Ok(report)
    }

    /// Each savepoint with what changed up to the next one that can be read, or up to now.
    fn savepoint_lines(&self, state: &StateFolder, all: &[SavepointSummary]) -> Result<Vec<SavepointLine>, WorkError> {
        let Some(savepoints) = Savepoints::find(state)? else { return Ok(Vec::new()) };
        let now = InstalledPackage::all(&self.system.installed);
        let line = |(at, summary): (usize, &SavepointSummary)| {
            let next = all[at + 1..].iter().find_map(|later| later.head.as_ref().ok());
            line(&savepoints, summary, next, &now, &self.system.machine)
        };
        Ok(all.iter().enumerate().map(line).collect())
    }

    /// When packages were changed, by the system's own logs.
    fn package_changes(&self) -> Vec<jiff::Timestamp> {
        let zone = MachineTimeZone::read(&self.system.machine);
        Debian.runs(&self.system.machine).iter().filter_map(|run| zone.timestamp(&run.began)).collect()
    }
}

fn line(
    savepoints: &Savepoints,
    summary: &SavepointSummary,
    next: Option<&Head>,
    now: &[InstalledPackage],
    machine: &crate::machine::Machine,
) -> SavepointLine {
    let mut line = SavepointLine {
        savepoint: summary.number,
        made: String::new(),
        reason: String::new(),
        automatic: false,
        packages: Vec::new(),
        config_files: 0,
        entries: 0,
        own_bytes: summary.own_bytes,
        lost: summary.lost,
        trouble: None,
    };
    let head = match &summary.head {
        Ok(head) => head,
        Err(e) => return SavepointLine { trouble: Some(error_chain(e)), ..line },
    };
    line.made = head.made.to_string();
    line.reason.clone_from(&head.reason);
    (line.automatic, line.entries) = (head.automatic, head.entries);
    let packages = || -> Result<(Vec<PackageChange>, u64), crate::savepoints::SavepointError> {
        let then = savepoints.packages(head)?;
        match next {
            Some(next) => {
                Ok((package_changes(&then, &savepoints.packages(next)?), config_changes(savepoints, head, next)?))
            }
            None => Ok((
                package_changes(&then, now),
                crate::savepoints::config_changes_until_now(savepoints, head, machine)?,
            )),
        }
    };
    match packages() {
        Ok(changes) => (line.packages, line.config_files) = changes,
        Err(e) => line.trouble = Some(error_chain(&e)),
    }
    line
}
