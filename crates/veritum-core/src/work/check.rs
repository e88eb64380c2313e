//! `check`: gathering the reference, looking, judging, telling.

use std::collections::HashMap;
use std::time::Instant;

use super::supplies::download_report;
use super::{WorkError, Workshop};
use crate::archive::Lacking;
use crate::change::unfinished;
use crate::check::{Case, FilesCheck, Reference, Scope, Seen, check_files};
use crate::event::{Event, Observer, Phase};
use crate::history;
use crate::model::{Area, ComponentId, Voucher};
use crate::plan::{DiskDoubt, FileRules, Plan, plan_files};
use crate::report::{AreaReport, CheckReport, MachineReport, OutcomeWord, UnexaminedReport};
use crate::target::marked_errors;

/// A check with what planning needs of it.
pub(super) struct Checked {
    pub(super) reference: Reference,
    pub(super) plan: Plan,
    pub(super) report: CheckReport,
    /// Packages that must be downloaded before all of it can be put right.
    pub(super) downloads: Vec<Lacking>,
}

impl Workshop {
    /// Checks what is named, or everything.
    ///
    /// # Errors
    /// When the machine or the store cannot be read, or a change is under way.
    pub fn check(&mut self, scope: &Scope, observer: &dyn Observer) -> Result<CheckReport, WorkError> {
        self.require_store_sound()?;
        let state = self.state()?;
        let lock = self.shared_lock(state.as_ref())?;
        self.require_named(scope)?;
        let mut checked = self.checked(scope, false, &HashMap::new(), observer)?;
        if let Some(state) = &state {
            checked.report.unfinished_changes = unfinished(&self.machine, state)?;
        }
        drop(lock);
        if scope.is_all() {
            // On a medium that cannot be written, or without the rights, nothing is kept: the answer is the same.
            if let Some(state) = state.or_else(|| self.make_state().ok()) {
                let _ = history::keep_last_check(&state, &checked.report);
            }
        }
        Ok(checked.report)
    }

    /// Refuses names of components that are not installed.
    pub(super) fn require_named(&self, scope: &Scope) -> Result<(), WorkError> {
        let installed = |name: &String| self.installed.components.iter().any(|c| c.id.name == *name);
        match scope.components.iter().find(|name| !installed(name)) {
            Some(name) => {
                let known = self.installed.components.iter().map(|c| c.id.name.clone()).collect();
                Err(WorkError::Unknown { what: "installed component", name: name.clone(), known })
            }
            None => Ok(()),
        }
    }

    /// Judges by the strongest reference at hand. What the machine's own records say comes first; where that differs, or
    /// where something was named, the archive is asked as well. `failed` are downloads that were tried.
    pub(super) fn checked(
        &self,
        scope: &Scope,
        fresh: bool,
        failed: &HashMap<ComponentId, String>,
        observer: &dyn Observer,
    ) -> Result<Checked, WorkError> {
        let begun = Instant::now();
        observer.hear(Event::Begin { phase: Phase::Reading, items: self.installed.components.len() as u64, bytes: 0 });
        let mut reference = self.reference();
        observer.hear(Event::End);
        if self.settings.full_chain || !scope.is_all() {
            let weak = self.weak_in_scope(&reference, scope);
            if self.prepare(&weak, observer)? {
                reference = self.reference();
            }
        } else if self.recall(&reference) {
            reference = self.reference();
        }
        let mut seen = Seen::new();
        let mut files = self.look(&reference, scope, fresh, &mut seen, observer)?;
        let weak = self.weak_with_problems(&reference, &files);
        if self.prepare(&weak, observer)? {
            reference = self.reference();
            files = self.look(&reference, scope, fresh, &mut seen, observer)?;
        }
        drop(seen);
        if reference.components.iter().any(|c| c.voucher == Voucher::Itself) {
            // Where the archives stand is told even when nothing of them was needed.
            self.with_archive(|_| ());
        }
        let left_out = self.left_out();
        let has_content = self.contents_at_hand();
        let supply = |id: &ComponentId| self.supply(&reference, id, failed);
        let rules = FileRules {
            protection: &self.protection,
            has_content: &has_content,
            supply: &supply,
            left_out: &left_out,
            despite_disk: self.settings.despite_disk,
        };
        let mut plan = plan_files(&mut files, &reference, &rules);
        let errors = marked_errors(&self.machine);
        if errors > 0 && plan.doubt.is_none() && !self.settings.despite_disk {
            plan.doubt = Some(DiskDoubt::MarkedErrors { errors });
        }
        let seconds = begun.elapsed().as_secs_f64();
        let downloads = self.to_download(&reference, &files);
        files.findings.splice(0..0, self.source_findings());
        let mut report = self.report(scope, &reference, &files, &plan, seconds);
        report.downloads = downloads.iter().map(|(l, from)| download_report(l, from.clone(), None)).collect();
        let downloads = downloads.into_iter().map(|(lacking, _)| lacking).collect();
        drop(has_content);
        Ok(Checked { reference, plan, report, downloads })
    }

    fn look(
        &self,
        reference: &Reference,
        scope: &Scope,
        fresh: bool,
        seen: &mut Seen,
        observer: &dyn Observer,
    ) -> Result<FilesCheck, WorkError> {
        let case = Case {
            machine: &self.machine,
            reference,
            scope,
            policy: &self.settings.policy,
            protection: &self.protection,
            fresh,
            // Where only the machine answers, a second look with a better reference may follow.
            keep_seen: reference.components.iter().any(|c| c.voucher == Voucher::Itself),
        };
        check_files(case, seen, &self.left_out(), &self.pool, observer).map_err(|_| WorkError::Stopped)
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

    fn report(
        &self,
        scope: &Scope,
        reference: &Reference,
        files: &FilesCheck,
        plan: &Plan,
        seconds: f64,
    ) -> CheckReport {
        let problems = files.findings.iter().filter(|f| f.verdict.is_problem()).count() as u64;
        let repairable = files.findings.iter().filter(|f| f.remedy.is_some()).count() as u64;
        let weak = files.vouched.get(&Voucher::Itself).copied().unwrap_or(0);
        let mut unexamined: Vec<UnexaminedReport> = files
            .unexamined
            .iter()
            .map(|u| UnexaminedReport {
                area: Area::Files,
                reason: u.reason.clone(),
                count: u.count,
                example: u.example.clone(),
            })
            .collect();
        unexamined.extend(self.installed.problems.iter().map(|p| UnexaminedReport {
            area: Area::Files,
            reason: format!("{}: {}", p.path, p.what),
            count: 1,
            example: None,
        }));
        let outcome = match (problems, files.examined) {
            (1.., _) => OutcomeWord::Problems,
            (0, 0) => OutcomeWord::Unexamined,
            _ if weak > 0 || !reference.unknown.is_empty() && scope.is_all() => OutcomeWord::SoundAsKnown,
            _ => OutcomeWord::Sound,
        };
        let area = AreaReport {
            area: Area::Files,
            outcome,
            examined: files.examined,
            bytes: files.bytes,
            seconds,
            problems,
            repairable,
            vouched: files.vouched.clone(),
            presence_only: files.presence_only,
        };
        let broken = reference.broken_manifests.iter().map(|(id, why)| UnexaminedReport {
            area: Area::Files,
            reason: format!("the store's manifest of {} is not used ({why})", id.name),
            count: 1,
            example: None,
        });
        unexamined.extend(broken);
        CheckReport {
            format: CheckReport::FORMAT.into(),
            at: self.settings.now.to_string(),
            outcome,
            machine: self.machine_report(),
            reference: self.reference_words(),
            components: Self::components_by_voucher(reference),
            sources: self.source_reports(),
            downloads: Vec::new(),
            areas: vec![area],
            findings: files.findings.clone(),
            notes: files.notes.clone(),
            more_strays: files.strays,
            unexamined,
            // Told by `check`; a repair has refused to begin while there was one.
            unfinished_changes: Vec::new(),
            left: plan.left.clone(),
            doubt: plan.doubt.clone(),
            limited: !scope.is_all(),
        }
    }

    fn reference_words(&self) -> String {
        match self.stores.first() {
            Some(store) => format!("the signed store {}", store.path().display()),
            None => "the machine's own records only".into(),
        }
    }
}
