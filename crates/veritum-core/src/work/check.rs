//! `check`: gathering the reference, looking, judging, telling.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::time::{Duration, Instant};

use super::records::RecordsPart;
use super::store::{Depth, StorePart};
use super::supplies::download_report;
use super::updates::{AskArchives, LocksHeld};
use super::{Engine, WorkError};
use crate::archive::{Archive, Lacking};
use crate::change::{StateFolder, unfinished};
use crate::event::Observer;
use crate::history::{SeenFiles, keep_seen};
use crate::model::{Area, ComponentId, Scope, SystemPath};
use crate::plan::{Left, Plan};
use crate::reference::Reference;
use crate::report::{CheckReport, MachineReport, Outcome, UnexaminedReport};
use crate::scan::{Remembered, SnapshotBuilder};

/// A check with what planning needs of it.
pub(super) struct Checked {
    /// What files were held against; nothing when they were not looked at.
    pub(super) reference: Reference,
    /// What was planned for files; nothing when they were not looked at.
    pub(super) plan: Plan,
    /// What came of the store, when it was looked at.
    pub(super) store: Option<StorePart>,
    /// What came of the package database, when it was looked at.
    pub(super) records: Option<RecordsPart>,
    pub(super) report: CheckReport,
    /// What was seen of the files.
    pub(super) remembered: Remembered,
    /// What stood where.
    pub(super) snapshot_builder: Option<SnapshotBuilder>,
    /// Packages that must be downloaded before all of it can be put right.
    pub(super) downloads: Vec<Lacking>,
}

/// What is to be checked, and how.
#[derive(Clone, Copy)]
pub(super) struct Wanted<'a> {
    pub(super) scope: &'a Scope,
    /// How far the store is looked into; not at all without.
    pub(super) store: Option<Depth>,
    /// Whether the store is read from the medium rather than from the cache.
    pub(super) fresh: bool,
    /// Places of the machine that were just written: they are read from the medium.
    pub(super) written: Option<&'a HashSet<SystemPath>>,
    /// Whether what has not changed since the last full check is not read again.
    pub(super) quick: bool,
    /// Whether what a repair is going to take is fetched from a store on a web server.
    pub(super) fetch: bool,
    /// Downloads that were tried and did not come about.
    pub(super) failed: &'a HashMap<ComponentId, String>,
    /// Whether what was found until somebody said stop is an answer, too.
    pub(super) partial: bool,
}

impl<'a> Wanted<'a> {
    /// Files only, as they are.
    pub(super) fn files(scope: &'a Scope, failed: &'a HashMap<ComponentId, String>) -> Self {
        Self { scope, store: None, fresh: false, written: None, quick: false, fetch: false, failed, partial: false }
    }

    /// What came of a part; `None` when it was interrupted and what was found until then is an answer.
    pub(super) fn so_far<T>(&self, part: Result<T, WorkError>, stopped: &mut bool) -> Result<Option<T>, WorkError> {
        match part {
            Err(WorkError::Stopped) if self.partial => {
                *stopped = true;
                Ok(None)
            }
            other => other.map(Some),
        }
    }
}

/// That an area was not examined because the check was interrupted.
pub(super) fn not_reached(area: Area, why: &str) -> UnexaminedReport {
    UnexaminedReport { area, reason: why.into(), count: 1, example: None }
}

impl Engine {
    /// Checks what is named, or everything.
    ///
    /// # Errors
    /// When the machine or the store cannot be read, or a change is under way.
    pub fn check(&mut self, scope: &Scope, observer: &dyn Observer) -> Result<CheckReport, WorkError> {
        self.require_store_sound(scope)?;
        let state = self.readable_state()?;
        let lock = self.shared_lock(state.as_ref())?;
        let scope = &self.with_apps(scope)?;
        self.find_forgotten();
        self.require_named(scope)?;
        self.require_there(scope)?;
        let none = HashMap::new();
        let quick = self.settings.quick;
        if quick
            && scope.is_whole()
            && let Some(report) = self.unchanged_report(state.as_ref(), observer)
        {
            self.note_last_check(&report);
            return Ok(report);
        }
        let wanted = Wanted { store: self.depth(scope), quick, partial: true, ..Wanted::files(scope, &none) };
        let mut checked = self.checked(wanted, observer)?;
        let (failed, weak);
        if self.settings.full_chain && !checked.report.stopped {
            weak = self.weak_in_scope(&checked.reference, scope);
            checked.downloads.retain(|lacking| weak.contains(&lacking.id));
            if !checked.downloads.is_empty() {
                let answers = self.download(&checked.downloads, observer);
                match wanted.so_far(answers, &mut checked.report.stopped)? {
                    Some(answers) => {
                        failed = answers;
                        checked = self.checked_again(checked, Wanted { failed: &failed, ..wanted }, observer)?;
                    }
                    None => {
                        checked.report.outcome = checked.report.outcome.min(Outcome::Unexamined);
                        let why = "stopped before all signed packages were downloaded";
                        checked.report.unexamined.push(not_reached(Area::Files, why));
                    }
                }
            }
        }
        if let Some(state) = &state {
            self.tell_unfinished(state, &mut checked.report);
        }
        // A hundred thousand small pieces are let go beside the rest of the work.
        self.pool.spawn(move || drop(checked.reference));
        if scope.is_whole() && !checked.report.stopped {
            self.note_last_check(&checked.report);
            if !quick && let Some(notes) = self.make_notes() {
                let settled = checked.snapshot_builder.and_then(|s| self.clean_check(s, &checked.report));
                let seen = SeenFiles { at: checked.report.at.clone(), files: checked.remembered, settled };
                let _ = keep_seen(&notes, &seen);
                self.pool.spawn(move || drop(seen));
            }
        }
        // No change begins before all is noted that was seen.
        drop(lock);
        Ok(checked.report)
    }

    /// Looks at what is wanted, the store before anything is held against it.
    pub(super) fn checked(&self, wanted: Wanted<'_>, observer: &dyn Observer) -> Result<Checked, WorkError> {
        let mut report = self.blank_report(wanted.scope);
        let stopped = &mut report.stopped;
        let mut store = match wanted.store {
            Some(Depth::Whole) => wanted.so_far(self.whole_store(wanted.fresh, observer), stopped)?,
            Some(Depth::Present) | None => None,
        };
        let mut areas = Vec::new();
        let (mut remembered, mut snapshot_builder) = (Remembered::default(), None);
        let (mut reference, mut plan, mut downloads) = (Reference::default(), Plan::default(), Vec::new());
        let mut records = None;
        if wanted.scope.wants(Area::Records) && !wanted.scope.wants(Area::Files) && !*stopped {
            let begun = Instant::now();
            if let Some(known) = wanted.so_far(self.referenced(wanted.scope, observer), stopped)? {
                report.components = Self::components_by_authority(&known.reference);
                records = Some(self.records(&known, wanted.scope, begun.elapsed()));
                reference = known.reference;
            }
        }
        if wanted.scope.wants(Area::Files) && !*stopped {
            let scope = &self.in_every_spelling(wanted.scope);
            let part = self.files(Wanted { scope, ..wanted }, &mut store, observer);
            if let Some(files) = wanted.so_far(part, stopped)? {
                *stopped |= files.stopped;
                (plan, downloads) = (files.plan, files.downloads);
                areas.push(files.area);
                report.components = Self::components_by_authority(&files.gathered.reference);
                report.findings = files.check.findings;
                report.notes = files.check.notes;
                report.more_strays = files.check.strays;
                (remembered, snapshot_builder) = (files.check.remembered, files.check.snapshot_builder);
                report.unexamined = files.unexamined;
                report.unverified = files.unverified;
                let wants = wanted.scope.wants(Area::Records);
                records = wants.then(|| self.records(&files.gathered, wanted.scope, Duration::ZERO));
                reference = files.gathered.reference;
            }
        }
        if let Some(part) = &records {
            areas.insert(0, part.area.clone());
            report.findings.splice(0..0, part.findings.iter().cloned());
            report.unexamined.splice(0..0, part.unexamined.iter().cloned());
            report.left.extend(part.planned.plan.left.iter().cloned());
            // A disk that is in doubt is written nowhere.
            plan.doubt = plan.doubt.or_else(|| part.planned.plan.doubt.clone());
        }
        let updates = match wanted.scope.wants(Area::Updates) && !report.stopped {
            true => {
                let part = self.updates(LocksHeld::ByOthers, AskArchives::IfAllowed, observer);
                wanted.so_far(part, &mut report.stopped)?
            }
            false => None,
        };
        if let Some(part) = updates {
            areas.push(part.area);
            report.findings.extend(part.findings);
            report.notes.extend(part.notes);
            report.unexamined.extend(part.unexamined);
        }
        if wanted.scope.wants(Area::Apps) && !report.stopped {
            let mut part = self.apps_part(wanted.scope);
            part.mark_fixed_by_files(&report.findings, wanted.scope);
            let left = part.findings.iter().filter(|f| f.remedy.is_none());
            report.left.extend(left.map(|f| Left::of(f, f.cause.clone().unwrap_or_default(), f.advice.clone())));
            areas.push(part.area);
            report.findings.extend(part.findings);
            report.notes.extend(self.shared_causes(wanted.scope, &report.findings));
            report.notes.extend(part.notes);
            report.unexamined.extend(part.unexamined);
        }
        if let Some(part) = &store {
            areas.insert(0, part.area.clone());
            report.findings.splice(0..0, part.findings.iter().cloned());
            report.notes.splice(0..0, part.notes.iter().cloned());
            report.unexamined.splice(0..0, part.unexamined.iter().cloned());
            report.left.extend(part.plan.left.iter().cloned());
            for (lacking, from) in &part.downloads {
                if !downloads.iter().any(|(l, _): &(Lacking, String)| l.id == lacking.id) {
                    downloads.push((lacking.clone(), from.clone()));
                }
            }
        }
        report.too_weak =
            self.settings.require.map_or(0, |least| areas.iter_mut().map(|area| area.require(least)).sum());
        report.outcome = areas.iter().map(|a| a.outcome).min().unwrap_or(Outcome::Unexamined);
        if report.stopped {
            report.outcome = report.outcome.min(Outcome::Unexamined);
            let wants = |area: Area| wanted.scope.wants(area) && (area != Area::Store || wanted.store.is_some());
            let left = |area: &Area| wants(*area) && !areas.iter().any(|a| a.area == *area);
            let left = Area::ALL.into_iter().filter(left);
            report.unexamined.extend(left.map(|area| not_reached(area, "stopped before it was reached")));
        }
        report.areas = areas;
        report.sources = self.source_reports();
        report.not_remembered = self.stores.iter().filter_map(|store| Some(store.doubt()?.to_owned())).collect();
        report.not_remembered.extend(self.open_archive(Archive::doubts).unwrap_or_default());
        report.left.extend(plan.left.iter().cloned());
        report.doubt.clone_from(&plan.doubt);
        report.downloads = downloads.iter().map(|(l, from)| download_report(l, from.clone())).collect();
        let downloads = downloads.into_iter().map(|(lacking, _)| lacking).collect();
        Ok(Checked { reference, plan, store, records, report, remembered, snapshot_builder, downloads })
    }

    /// Tells which changes are unfinished. A journal that cannot be read is another stick's, or damaged: what was seen of
    /// the machine is worth telling all the same.
    pub(super) fn tell_unfinished(&self, state: &StateFolder, report: &mut CheckReport) {
        match unfinished(state) {
            Ok(numbers) => report.unfinished_changes = numbers,
            Err(e) => report.unexamined.push(UnexaminedReport {
                area: Area::Files,
                reason: format!("what earlier changes did: {}", crate::model::error_chain(&e)),
                count: 1,
                example: None,
            }),
        }
    }

    /// When a check was, and how far that can be relied upon.
    pub(super) fn since_words(&self, at: &str) -> String {
        // A mounted disk may have been changed by a system that sets its clock as it likes.
        let weak = match self.machine.is_live() {
            true => "",
            false => " (weak: the disk was out of sight meanwhile)",
        };
        let time = at.parse::<jiff::Timestamp>();
        let time = time.map_or_else(|_| "an unknown time".into(), |at| at.strftime("%Y-%m-%d %H:%M UTC").to_string());
        format!("{time}{weak}")
    }

    pub(super) fn machine_report(&self) -> MachineReport {
        let identified = self.machine.identified();
        MachineReport {
            target: self.machine.path().display().to_string(),
            system: identified.system.clone(),
            hostname: identified.hostname.clone(),
            components: self.installed.components.len() as u64,
            live: self.machine.is_live(),
        }
    }

    /// A report of which nothing is known yet.
    pub(super) fn blank_report(&self, scope: &Scope) -> CheckReport {
        CheckReport {
            format: CheckReport::FORMAT.into(),
            at: self.settings.now.to_string(),
            outcome: Outcome::Unexamined,
            machine: self.machine_report(),
            reference: self.reference_words(),
            components: BTreeMap::new(),
            sources: Vec::new(),
            downloads: Vec::new(),
            areas: Vec::new(),
            findings: Vec::new(),
            notes: Vec::new(),
            more_strays: 0,
            unexamined: Vec::new(),
            // Told by `check`; a repair has refused to begin while there was one.
            unfinished_changes: Vec::new(),
            left: Vec::new(),
            doubt: None,
            unverified: None,
            too_weak: 0,
            not_remembered: Vec::new(),
            stopped: false,
            limited: !scope.is_all() || !scope.apps.is_empty(),
        }
    }

    pub(super) fn reference_words(&self) -> String {
        match self.stores.first() {
            Some(store) => format!("the signed store {}", store.location()),
            None => "the machine's own records only".into(),
        }
    }
}
