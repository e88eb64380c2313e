//! [`Examined`]: the result of one area; [`Checked`]: the results of all areas.

use std::collections::BTreeMap;
use std::time::Instant;

use super::position;
use super::step::Step;
use crate::model::{Action, AreaName, Authority, Finding, SystemPath};
use crate::plan::{DiskDoubt, Left};
use crate::report::{AreaReport, CheckReport, Outcome, UnexaminedReport, UnverifiedReport};
use crate::repository::Lacking;
use crate::scan::{RememberedParts, SnapshotBuilder};
use crate::supply::download_report;

/// The coverage of an area.
#[derive(Debug, Clone, Default)]
pub struct Coverage {
    /// The number of items examined.
    pub examined: u64,
    /// The number of bytes read.
    pub bytes: u64,
    /// The duration in seconds.
    pub seconds: f64,
    /// The number of items by the authority that verifies them.
    pub verified_by: BTreeMap<Authority, u64>,
    /// The number of items that only the local database verifies and that could only be seen to exist.
    pub presence_only: u64,
    /// How far it went, in a sentence, where it can go further.
    pub extent: Option<String>,
    /// What was not examined.
    pub unexamined: Vec<UnexaminedReport>,
    /// Whether something could not be examined: then the area is not reported as intact.
    pub incomplete: bool,
    /// Whether part of it is verified too weakly to be reported as intact.
    pub weak: bool,
    /// Installed packages by the authority that verifies them, if they were examined.
    pub packages: BTreeMap<Authority, u64>,
    /// What could not be verified for lack of packages.
    pub unverified: Option<UnverifiedReport>,
    /// The number of notes that are not listed.
    pub more_notes: u64,
}

/// What the next check can use.
#[derive(Debug, Default)]
pub struct Memory {
    /// The observations of files.
    pub files: RememberedParts,
    /// The state of every place; `None` when something could not be watched.
    pub snapshot: Option<SnapshotBuilder>,
}

/// Intact files that a repair keeps.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Stays {
    /// Their name, singular and plural.
    pub unit: (&'static str, &'static str),
    /// The number of files.
    pub things: u64,
    /// Their bytes.
    pub bytes: u64,
}

/// The result of examining one area.
#[derive(Debug, Default)]
pub struct Examined {
    /// The area.
    pub area: AreaName,
    /// Problems and notes, distinguished by their verdicts.
    pub findings: Vec<Finding>,
    /// The coverage.
    pub coverage: Coverage,
    /// What a repair would do, in order.
    pub steps: Vec<Step>,
    /// What a repair would not repair, and why.
    pub left: Vec<Left>,
    /// Intact files that a user might expect to be removed.
    pub stays: Option<Stays>,
    /// Files of packages that the area of files would repair, and on which this one rests.
    pub of_files: Vec<SystemPath>,
    /// A doubt about the disk: then nothing is written.
    pub doubt: Option<DiskDoubt>,
    /// Packages that must be downloaded before everything can be repaired, with their sources.
    pub downloads: Vec<(Lacking, String)>,
    /// What the next check can use.
    pub memory: Option<Memory>,
    /// Whether it was interrupted.
    pub stopped: bool,
    /// Whether it was interrupted before anything was examined.
    pub unreached: bool,
}

impl Examined {
    /// The same, with problems that only another command repairs: a check without a scope refers to that command.
    #[must_use]
    pub fn referred(mut self, action: &Action) -> Self {
        self.steps.clear();
        // Without the network, package lists are known from this machine alone: that does not limit the result about its files.
        (self.coverage.weak, self.coverage.incomplete) = (false, false);
        self.coverage.verified_by.clear();
        for finding in self.findings.iter_mut().filter(|finding| finding.verdict.is_problem()) {
            if finding.remedy.take().is_some() || finding.action.is_none() {
                finding.action = Some(action.clone());
            }
        }
        let of = |finding: &Finding| Left::new(finding, "repaired by its own command".into(), finding.action.clone());
        self.left = self.findings.iter().filter(|finding| finding.verdict.is_problem()).map(of).collect();
        self
    }

    /// An area without results.
    #[must_use]
    pub fn new(area: AreaName) -> Self {
        Self { area, ..Self::default() }
    }

    /// An area that an interruption prevented.
    #[must_use]
    pub fn not_reached(area: AreaName) -> Self {
        let mut examined = Self { unreached: true, ..Self::new(area) };
        examined.leave_out("stopped before this was checked");
        examined
    }

    /// Records that something was not examined, and why.
    pub fn leave_out(&mut self, reason: impl Into<String>) {
        self.leave_out_many(reason, 1, None);
    }

    /// Records that several items were not examined for the same reason, with an example.
    pub fn leave_out_many(&mut self, reason: impl Into<String>, count: u64, example: Option<SystemPath>) {
        let area = self.area.clone();
        self.coverage.unexamined.push(UnexaminedReport { area, reason: reason.into(), count, example });
    }

    /// Adds to what was examined in words.
    pub fn note_extent(&mut self, words: String) {
        let extent = self.coverage.extent.get_or_insert_default();
        if !extent.is_empty() {
            extent.push_str("; ");
        }
        extent.push_str(&words);
    }

    /// Records the duration.
    pub fn took(&mut self, since: Instant) {
        self.coverage.seconds += since.elapsed().as_secs_f64();
    }

    /// The problems.
    pub fn problems(&self) -> impl Iterator<Item = &Finding> {
        self.findings.iter().filter(|finding| finding.verdict.is_problem())
    }

    /// The notes.
    pub fn notes(&self) -> impl Iterator<Item = &Finding> {
        self.findings.iter().filter(|finding| !finding.verdict.is_problem())
    }

    /// The number of problems that a repair would answer.
    #[must_use]
    pub fn repairable(&self) -> u64 {
        self.problems().filter(|finding| finding.remedy.is_some()).count() as u64
    }

    /// The outcome.
    #[must_use]
    pub fn outcome(&self) -> Outcome {
        if self.problems().next().is_some() {
            Outcome::Damaged
        } else if self.coverage.incomplete || self.stopped || self.unreached {
            Outcome::Unchecked
        } else if self.coverage.weak {
            Outcome::OkLimited
        } else {
            Outcome::Ok
        }
    }

    fn report(&self) -> AreaReport {
        let Coverage { examined, bytes, seconds, verified_by, presence_only, extent, .. } = &self.coverage;
        AreaReport {
            area: self.area.clone(),
            outcome: self.outcome(),
            examined: *examined,
            bytes: *bytes,
            seconds: *seconds,
            problems: self.problems().count() as u64,
            repairable: self.repairable(),
            verified_by: verified_by.clone(),
            presence_only: *presence_only,
            extent: extent.clone(),
        }
    }
}

/// The results of all examined areas, in working order.
#[derive(Debug, Default)]
pub struct Checked {
    areas: Vec<Examined>,
}

impl Checked {
    /// The result of an area.
    #[must_use]
    pub fn get(&self, area: &AreaName) -> Option<&Examined> {
        self.areas.iter().find(|examined| examined.area == *area)
    }

    /// The result of an area, mutable.
    pub fn get_mut(&mut self, area: &AreaName) -> Option<&mut Examined> {
        self.areas.iter_mut().find(|examined| examined.area == *area)
    }

    /// Replaces or adds the result of an area.
    pub fn replace(&mut self, examined: Examined) {
        match self.get_mut(&examined.area) {
            Some(known) => *known = examined,
            None => {
                let at = position(&examined.area);
                let before = self.areas.iter().take_while(|known| position(&known.area) < at).count();
                self.areas.insert(before, examined);
            }
        }
    }

    /// What the next check can use.
    pub fn take_memory(&mut self) -> Option<Memory> {
        self.areas.iter_mut().find_map(|examined| examined.memory.take())
    }

    /// All areas.
    pub fn areas(&self) -> impl Iterator<Item = &Examined> {
        self.areas.iter()
    }

    /// All findings, problems and notes.
    pub fn findings(&self) -> impl Iterator<Item = &Finding> {
        self.areas.iter().flat_map(|examined| &examined.findings)
    }

    /// Why a repair would not answer a finding, if it would not.
    #[must_use]
    pub fn left_of(&self, finding: &Finding) -> Option<&Left> {
        self.areas.iter().flat_map(|examined| &examined.left).find(|left| left.finding == finding.id)
    }

    /// The number of all problems.
    #[must_use]
    pub fn problems(&self) -> u64 {
        self.areas.iter().map(|examined| examined.problems().count() as u64).sum()
    }

    /// Whether the last examined area was interrupted: then nothing else is started.
    #[must_use]
    pub fn stopped_short(&self) -> bool {
        self.areas.iter().any(|examined| examined.stopped)
    }

    /// The first doubt about the disk.
    #[must_use]
    pub fn doubt(&self) -> Option<&DiskDoubt> {
        self.areas.iter().find_map(|examined| examined.doubt.as_ref())
    }

    /// Packages that must be downloaded before everything can be repaired, each once.
    #[must_use]
    pub fn downloads(&self) -> Vec<(Lacking, String)> {
        downloads(&self.areas.iter().collect::<Vec<_>>())
    }

    /// Writes all results into the document of a check; `least` is the required strength of verification.
    pub fn fill(&self, report: &mut CheckReport, least: Option<Authority>) {
        fill(&self.areas.iter().collect::<Vec<_>>(), report, least);
    }
}

fn downloads(areas: &[&Examined]) -> Vec<(Lacking, String)> {
    let mut all: Vec<(Lacking, String)> = Vec::new();
    // Downloads for files come first: those for the store are reported only if they differ.
    for (lacking, from) in areas.iter().rev().flat_map(|examined| &examined.downloads) {
        if !all.iter().any(|(known, _)| known.id == lacking.id) {
            all.push((lacking.clone(), from.clone()));
        }
    }
    all
}

/// Writes the results of these areas into the document of a check; `least` is the required strength of verification.
pub fn fill(areas: &[&Examined], report: &mut CheckReport, least: Option<Authority>) {
    let reached: Vec<&&Examined> = areas.iter().filter(|examined| !examined.unreached).collect();
    let coverage = || reached.iter().map(|examined| &examined.coverage);
    report.areas = reached.iter().map(|examined| examined.report()).collect();
    report.too_weak = least.map_or(0, |least| report.areas.iter_mut().map(|area| area.require(least)).sum());
    report.outcome = report.areas.iter().map(|area| area.outcome).min().unwrap_or(Outcome::Unchecked);
    report.stopped = areas.iter().any(|examined| examined.stopped || examined.unreached);
    if report.stopped {
        report.outcome = report.outcome.min(Outcome::Unchecked);
    }
    report.findings = areas.iter().flat_map(|examined| examined.problems()).cloned().collect();
    report.notes = areas.iter().flat_map(|examined| examined.notes()).cloned().collect();
    report.more_strays = coverage().map(|coverage| coverage.more_notes).sum();
    report.unexamined = areas.iter().flat_map(|examined| &examined.coverage.unexamined).cloned().collect();
    report.packages =
        coverage().map(|coverage| &coverage.packages).find(|all| !all.is_empty()).cloned().unwrap_or_default();
    report.unverified = coverage().find_map(|coverage| coverage.unverified.clone());
    report.left = areas.iter().flat_map(|examined| &examined.left).cloned().collect();
    report.doubt = areas.iter().find_map(|examined| examined.doubt.clone());
    report.downloads = downloads(areas).iter().map(|(lacking, from)| download_report(lacking, from.clone())).collect();
}
