//! `check`: gathering the reference, looking, judging, telling.

use std::time::Instant;

use super::{WorkError, Workshop};
use crate::change::unfinished;
use crate::check::{Case, FilesCheck, Reference, Scope, check_files};
use crate::event::{Event, Observer, Phase};
use crate::history;
use crate::model::{Area, Voucher};
use crate::plan::{DiskDoubt, FileRules, Plan, plan_files};
use crate::report::{AreaReport, CheckReport, MachineReport, OutcomeWord, UnexaminedReport};
use crate::store::Contents;
use crate::target::marked_errors;

/// A check with what planning needs of it.
pub(super) struct Checked {
    pub(super) reference: Reference,
    pub(super) plan: Plan,
    pub(super) report: CheckReport,
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
        let mut checked = self.checked(scope, false, observer)?;
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

    pub(super) fn checked(&self, scope: &Scope, fresh: bool, observer: &dyn Observer) -> Result<Checked, WorkError> {
        let begun = Instant::now();
        observer.hear(Event::Begin { phase: Phase::Reading, items: self.installed.components.len() as u64, bytes: 0 });
        let reference = self.reference();
        observer.hear(Event::End);
        let left_out = self.left_out();
        let case = Case {
            machine: &self.machine,
            reference: &reference,
            scope,
            policy: &self.settings.policy,
            protection: &self.protection,
            fresh,
        };
        let mut files = check_files(case, &left_out, &self.pool, observer).map_err(|_| WorkError::Stopped)?;
        let has_content = |digest: &crate::model::Digest| self.store.as_ref().is_some_and(|s| s.has_content(digest));
        let rules = FileRules {
            protection: &self.protection,
            has_content: &has_content,
            left_out: &left_out,
            despite_disk: self.settings.despite_disk,
        };
        let mut plan = plan_files(&mut files, &reference, &rules);
        let errors = marked_errors(&self.machine);
        if errors > 0 && plan.doubt.is_none() && !self.settings.despite_disk {
            plan.doubt = Some(DiskDoubt::MarkedErrors { errors });
        }
        let seconds = begun.elapsed().as_secs_f64();
        let report = self.report(scope, &reference, &files, &plan, seconds);
        Ok(Checked { reference, plan, report })
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
        match &self.store {
            Some(store) => format!("the signed store {}", store.path().display()),
            None => "the machine's own records only".into(),
        }
    }
}
