//! `check`: every area of the scope in working order, and the notes that are kept.

use super::examine::{check_all, not_reached, tell_unfinished};
use super::identify::find_forgotten;
use super::names::{require_named, require_there};
use super::quick::{clean_check, unchanged_report};
use super::{Engine, WorkError};
use crate::areas::{AREAS, Checked, Cx, Evidence, FILES, Failed, How, Memory, is_wanted};
use crate::event::Observer;
use crate::history::{ToRemember, keep_seen};
use crate::homes::HomesSeen;
use crate::model::{AreaName, PackageId, Reach, Scope};
use crate::report::{CheckReport, DownloadReport, Outcome};
use crate::repository::Lacking;

impl Engine {
    /// Checks the scope.
    ///
    /// # Errors
    /// When the machine or the store cannot be read, or a change is in progress.
    pub fn check(&mut self, scope: &Scope, observer: &dyn Observer) -> Result<CheckReport, WorkError> {
        let state = self.system.readable_state()?;
        self.require_store_sound(scope)?;
        let lock = self.system.shared_lock(state.as_ref())?;
        let scope = &resolve(self, scope, observer)?;
        let quick = self.system.settings.quick;
        if quick
            && scope.is_whole()
            && let Some(report) = unchanged_report(self, state.as_ref(), observer)
        {
            self.system.note_last_check(&report);
            return Ok(report);
        }
        let none = Failed::new();
        let how = How { quick, partial: true, ..How::plain(&none) };
        let cx = self.cx(scope, how, observer);
        let mut checked = check_all(&cx)?;
        let mut report = self.report(scope, &checked);
        let mut evidence = cx.into_evidence();
        if self.system.settings.complete && !report.stopped {
            match download_unverified(self, scope, &checked, &evidence, observer) {
                Err(WorkError::Stopped) => {
                    report.stopped = true;
                    report.outcome = report.outcome.min(Outcome::Unchecked);
                    report.unexamined.push(not_reached(FILES, "stopped before all signed packages were downloaded"));
                }
                Err(e) => return Err(e),
                Ok(None) => {}
                Ok(Some((failed, tried))) => {
                    let cx = self.cx(scope, How { failed: &failed, ..how }, observer);
                    checked = check_all(&cx)?;
                    let downloads = told_downloads(&report, &tried, &failed);
                    report = CheckReport { downloads, ..self.report(scope, &checked) };
                    evidence = cx.into_evidence();
                }
            }
        }
        if let Some(state) = &state {
            tell_unfinished(state, &mut report);
        }
        // Dropping a hundred thousand small allocations happens beside the rest of the work.
        self.system.pool.spawn(move || drop(evidence));
        if scope.is_whole() && !report.stopped {
            self.system.note_last_check(&report);
            if !quick {
                remember(self, checked, &report);
            }
        }
        // No change begins before all observations are recorded.
        drop(lock);
        Ok(report)
    }

    /// The input of the areas.
    pub(super) fn cx<'a>(&'a self, scope: &'a Scope, how: How<'a>, observer: &'a dyn Observer) -> Cx<'a> {
        let wanted = AREAS.iter().filter(|area| is_wanted(**area, scope)).map(|area| area.about().name.clone());
        self.cx_for(wanted.collect(), scope, how, observer)
    }

    /// The context in which these areas are examined.
    pub(super) fn cx_for<'a>(
        &'a self,
        wanted: Vec<AreaName>,
        scope: &'a Scope,
        how: How<'a>,
        observer: &'a dyn Observer,
    ) -> Cx<'a> {
        Cx::new(self.supply(), &self.homes, scope, wanted, how, observer)
    }

    /// The document of a check.
    pub(super) fn report(&self, scope: &Scope, checked: &Checked) -> CheckReport {
        let mut report = self.blank_report(scope);
        checked.fill(&mut report, self.system.settings.min_trust);
        report.sources = self.supply().source_reports();
        report.not_remembered = self.supply().doubts();
        report
    }

    /// A document without results.
    pub(super) fn blank_report(&self, scope: &Scope) -> CheckReport {
        CheckReport {
            machine: self.system.machine_report(),
            reference: self.supply().reference_words(),
            limited: !scope.is_all() || !scope.selected.is_empty(),
            everything: scope.reach == Reach::Everything,
            ..CheckReport::blank(self.system.settings.now)
        }
    }
}

/// Resolves what was typed into the scope of the run.
pub(super) fn resolve(engine: &mut Engine, scope: &Scope, observer: &dyn Observer) -> Result<Scope, WorkError> {
    // Every run examines the homes itself.
    engine.homes = HomesSeen::default();
    let none = Failed::new();
    let mut resolved = scope.clone();
    {
        let cx = engine.cx(scope, How::plain(&none), observer);
        AREAS.iter().try_for_each(|area| area.resolve(&cx, &mut resolved))?;
    }
    find_forgotten(engine);
    require_named(&engine.system, &resolved)?;
    require_there(engine, &resolved)?;
    Ok(resolved)
}

/// If everything is to be compared with its package: downloads missing packages. `None` if none is missing.
fn download_unverified(
    engine: &Engine,
    scope: &Scope,
    checked: &Checked,
    evidence: &Evidence,
    observer: &dyn Observer,
) -> Result<Option<(Failed, Vec<Lacking>)>, WorkError> {
    let Some(gathered) = &evidence.gathered else { return Ok(None) };
    let weak: Vec<PackageId> = engine.supply().weak_in_scope(&gathered.reference, scope);
    let lacking = checked.downloads().into_iter().map(|(lacking, _)| lacking);
    let lacking: Vec<Lacking> = lacking.filter(|lacking| weak.contains(&lacking.id)).collect();
    if lacking.is_empty() {
        return Ok(None);
    }
    Ok(Some((engine.supply().download(&lacking, observer)?, lacking)))
}

/// Saves the observations of a full check, for checks that only read what changed since.
fn remember(engine: &Engine, mut checked: Checked, report: &CheckReport) {
    let Some(notes) = engine.system.make_notes() else { return };
    let Memory { files, snapshot } = checked.take_memory().unwrap_or_default();
    let settled = snapshot.and_then(|snapshot| clean_check(engine, snapshot, report));
    let seen = ToRemember { at: report.at.clone(), files, settled };
    let _ = keep_seen(&notes, &seen);
    engine.system.pool.spawn(move || drop(seen));
}

/// The results of downloads.
pub(super) fn told_downloads(before: &CheckReport, tried: &[Lacking], failed: &Failed) -> Vec<DownloadReport> {
    let told = before.downloads.iter().filter(|d| tried.iter().any(|lacking| lacking.id == d.package));
    told.map(|d| DownloadReport { failed: failed.get(&d.package).cloned(), ..d.clone() }).collect()
}
