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
use crate::model::{Area, ComponentId, SystemPath, Voucher};
use crate::plan::{DiskDoubt, FileRules, Plan, plan_files};
use crate::platform::debian::{ALIASES, explained_links};
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
        let scope = &self.in_every_spelling(scope);
        observer.hear(Event::Begin { phase: Phase::Reading, items: self.installed.components.len() as u64, bytes: 0 });
        let mut reference = self.reference(scope);
        observer.hear(Event::End);
        if self.settings.full_chain || !scope.is_all() {
            let weak = self.weak_in_scope(&reference, scope);
            if self.prepare(&weak, observer)? {
                reference = self.reference(scope);
            }
        } else if self.recall(&reference) {
            reference = self.reference(scope);
        }
        let mut seen = Seen::default();
        let mut files = self.look(&reference, scope, fresh, &mut seen, observer)?;
        let weak = self.weak_with_problems(&reference, &files);
        if self.prepare(&weak, observer)? {
            reference = self.reference(scope);
            files = self.look(&reference, scope, fresh, &mut seen, observer)?;
        }
        // A hundred thousand small pieces are let go beside the rest of the work.
        self.pool.spawn(move || drop(seen));
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
        let downloads = self.to_download(&reference, &files, scope);
        files.findings.splice(0..0, self.source_findings());
        let mut report = self.report(scope, &reference, &files, &plan, seconds);
        report.downloads = downloads.iter().map(|(l, from)| download_report(l, from.clone())).collect();
        let downloads = downloads.into_iter().map(|(lacking, _)| lacking).collect();
        drop(has_content);
        Ok(Checked { reference, plan, report, downloads })
    }

    /// The spellings under which components may list a path: as it was named, where it really is, and on a merged
    /// system through the top-level links (`/usr/bin/x` is listed as `/bin/x`).
    pub(super) fn spellings(&self, path: &SystemPath) -> Vec<SystemPath> {
        let mut all = vec![path.clone()];
        let real = path.parent().and_then(|p| self.machine.resolve(&p).ok());
        all.extend(real.and_then(|p| p.child(path.name()).ok()));
        let root = self.machine.dir(&SystemPath::root()).ok();
        for alias in ALIASES {
            let (top, below) = (format!("/{alias}"), format!("/usr/{alias}"));
            let target = root.as_ref().and_then(|r| r.disk().read_link(r.fd(), alias.as_bytes()).ok());
            let Ok(below) = SystemPath::parse(below.as_bytes()) else { continue };
            if !target.is_some_and(|t| explained_links(top.as_bytes(), &t)) {
                continue;
            }
            for at in 0..all.len() {
                if let Some(rest) = all[at].below(&below) {
                    all.extend(SystemPath::parse(&[top.as_bytes(), b"/", rest].concat()).ok());
                }
            }
        }
        all.sort();
        all.dedup();
        // The one that was named stays the first.
        all.sort_by_key(|p| p != path);
        all
    }

    fn in_every_spelling(&self, scope: &Scope) -> Scope {
        let paths = scope.paths.iter().flat_map(|p| self.spellings(p)).collect();
        Scope { paths, components: scope.components.clone() }
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
            left_out: &self.left_out(),
            fresh,
            // Where only the machine answers, a second look with a better reference may follow.
            keep_seen: reference.components.iter().any(|c| c.voucher == Voucher::Itself),
        };
        check_files(case, seen, &self.pool, observer).map_err(|_| WorkError::Stopped)
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
