//! `check`: gathering the reference, looking, judging, telling.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::time::{Duration, Instant};

use super::records::RecordsPart;
use super::store::{Depth, StorePart};
use super::supplies::download_report;
use super::updates::{AskArchives, LocksHeld};
use super::{WorkError, Workshop};
use crate::archive::{Archive, Lacking};
use crate::change::{StateFolder, unfinished};
use crate::check::{Case, FilesCheck, Reference, Scope, Seen, check_files};
use crate::event::{Event, Observer, Phase};
use crate::history::{self, SeenFiles, keep_seen};
use crate::model::{Area, ComponentId, Digest, SystemPath, Voucher};
use crate::plan::{DiskDoubt, FileRules, Left, Plan, plan_files};
use crate::platform::debian::{ALIASES, explained_links};
use crate::report::{AreaReport, CheckReport, MachineReport, OutcomeWord, UnexaminedReport, UnverifiedReport};
use crate::scan::{How, Remembered, Settling};
use crate::store::Store;
use crate::target::marked_errors;

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
    pub(super) settling: Option<Settling>,
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
}

impl Workshop {
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
            && let Some(report) = self.settled_report(state.as_ref(), observer)
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
                failed = self.download(&checked.downloads, observer)?;
                checked = self.checked_again(checked, Wanted { failed: &failed, ..wanted }, observer)?;
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
                let settled = checked.settling.and_then(|s| self.settled_check(s, &checked.report));
                let seen = SeenFiles { at: checked.report.at.clone(), files: checked.remembered, settled };
                let _ = keep_seen(&notes, &seen);
                self.pool.spawn(move || drop(seen));
            }
        }
        // No change begins before all is noted that was seen.
        drop(lock);
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

    /// Looks at what is wanted, the store before anything is held against it.
    pub(super) fn checked(&self, wanted: Wanted<'_>, observer: &dyn Observer) -> Result<Checked, WorkError> {
        let mut store = match wanted.store {
            Some(Depth::Whole) => Some(self.whole_store(wanted.fresh, observer)?),
            Some(Depth::Present) | None => None,
        };
        let mut areas = Vec::new();
        let (mut remembered, mut settling) = (Remembered::default(), None);
        let (mut reference, mut plan, mut downloads) = (Reference::default(), Plan::default(), Vec::new());
        let mut report = self.blank_report(wanted.scope);
        let mut records = None;
        if wanted.scope.wants(Area::Records) && !wanted.scope.wants(Area::Files) {
            let begun = Instant::now();
            reference = self.referenced(wanted.scope, observer)?;
            report.components = Self::components_by_voucher(&reference);
            records = Some(self.records(&reference, wanted.scope, begun.elapsed()));
        }
        if wanted.scope.wants(Area::Files) {
            let scope = &self.in_every_spelling(wanted.scope);
            let files = self.files(Wanted { scope, ..wanted }, &mut store, observer)?;
            (plan, downloads) = (files.plan, files.downloads);
            areas.push(files.area);
            report.components = Self::components_by_voucher(&files.reference);
            report.findings = files.check.findings;
            report.notes = files.check.notes;
            report.more_strays = files.check.strays;
            (remembered, settling) = (files.check.remembered, files.check.settling);
            report.unexamined = files.unexamined;
            report.unverified = files.unverified;
            report.stopped = files.check.not_reached > 0;
            reference = files.reference;
            records = wanted.scope.wants(Area::Records).then(|| self.records(&reference, wanted.scope, Duration::ZERO));
        }
        if let Some(part) = &records {
            areas.insert(0, part.area.clone());
            report.findings.splice(0..0, part.findings.iter().cloned());
            report.unexamined.splice(0..0, part.unexamined.iter().cloned());
            report.left.extend(part.planned.plan.left.iter().cloned());
            // A disk that is in doubt is written nowhere.
            plan.doubt = plan.doubt.or_else(|| part.planned.plan.doubt.clone());
        }
        if wanted.scope.wants(Area::Updates) && !report.stopped {
            let part = self.updates(LocksHeld::ByOthers, AskArchives::IfAllowed, observer)?;
            areas.push(part.area);
            report.findings.extend(part.findings);
            report.notes.extend(part.notes);
            report.unexamined.extend(part.unexamined);
        }
        if wanted.scope.wants(Area::Apps) && !report.stopped {
            let mut part = self.apps_part(wanted.scope);
            part.come_right_with(&report.findings, wanted.scope);
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
        report.outcome = areas.iter().map(|a| a.outcome).min().unwrap_or(OutcomeWord::Unexamined);
        report.areas = areas;
        report.sources = self.source_reports();
        report.not_remembered = self.stores.iter().filter_map(|store| Some(store.doubt()?.to_owned())).collect();
        report.not_remembered.extend(self.open_archive(Archive::doubts).unwrap_or_default());
        report.left.extend(plan.left.iter().cloned());
        report.doubt.clone_from(&plan.doubt);
        report.downloads = downloads.iter().map(|(l, from)| download_report(l, from.clone())).collect();
        let downloads = downloads.into_iter().map(|(lacking, _)| lacking).collect();
        Ok(Checked { reference, plan, store, records, report, remembered, settling, downloads })
    }

    /// Judges files by the strongest reference at hand. What the machine's own records say comes first; where that
    /// differs, or where something was named, the archive is asked as well.
    fn files(
        &self,
        wanted: Wanted<'_>,
        store: &mut Option<StorePart>,
        observer: &dyn Observer,
    ) -> Result<FilesPart, WorkError> {
        let Wanted { scope, written, failed, .. } = wanted;
        let begun = Instant::now();
        let wider;
        let with_records = scope.wants(Area::Records);
        let listing = self.own_store().filter(|_| wanted.store == Some(Depth::Present)).and_then(Store::list_contents);
        let mut reference = self.referenced(scope, observer)?;
        let scope = match self.with_other_names(&reference, scope) {
            Some(names) => {
                wider = names;
                reference = self.gathered(&wider, with_records);
                &wider
            }
            None => scope,
        };
        let before = if wanted.quick { self.notes().and_then(|notes| history::seen(&notes)) } else { None };
        let looks = Looks {
            how: How { written, remembered: before.as_ref().map(|b| &b.files), partial: wanted.partial },
            remember: scope.is_whole() && !wanted.quick,
        };
        let mut seen = Seen::default();
        let mut files = self.look(&reference, scope, looks, &mut seen, observer)?;
        // Whoever said stop gets what was found until then, and waits for nothing more.
        let stopped = files.not_reached > 0;
        if wanted.store == Some(Depth::Present) && !stopped {
            *store = self.present_store(&reference, &files, wanted.fetch, listing, observer)?;
        }
        if !stopped {
            let weak = self.weak_with_problems(&reference, &files);
            let lacking = self.without_contents(&reference, &files);
            let more = self.prepare(&weak, observer)?;
            self.prepare(&lacking, observer)?;
            if more {
                reference = self.gathered(scope, with_records);
                files = self.look(&reference, scope, looks, &mut seen, observer)?;
            }
        }
        // A hundred thousand small pieces are let go beside the rest of the work.
        self.pool.spawn(move || drop(seen));
        if reference.components.iter().any(|c| c.voucher == Voucher::Itself) {
            // Where the archives stand is told even when nothing of them was needed.
            self.with_archive(|_| ());
        }
        let seconds = begun.elapsed().as_secs_f64();
        let left_out = self.left_out();
        let at_hand = self.contents_at_hand();
        // What the store is going to get back counts as had: its repair comes first.
        let coming = store.as_ref().map(StorePart::coming).unwrap_or_default();
        let has_content = |digest: &Digest| coming.contains(digest) || at_hand(digest);
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
        let downloads = self.to_download(&reference, &files, scope);
        // What is wrong with an archive is no answer about something that was named.
        if scope.is_all() {
            files.findings.splice(0..0, self.source_findings());
        }
        let mut area = files_area(scope, &reference, &files, seconds);
        if files.not_reached > 0 && area.outcome != OutcomeWord::Problems {
            area.outcome = OutcomeWord::Unexamined;
        }
        if wanted.quick {
            area.extent = Some(self.quick_words(before.as_ref(), files.unread));
        }
        let unexamined = self.unexamined(scope, &reference, &files);
        let unverified = self.unverified(&reference, scope);
        drop(at_hand);
        Ok(FilesPart { reference, check: files, plan, downloads, area, unexamined, unverified })
    }

    /// What should be there, by the strongest reference at hand before anything was looked at.
    fn referenced(&self, scope: &Scope, observer: &dyn Observer) -> Result<Reference, WorkError> {
        let with_records = scope.wants(Area::Records);
        observer.hear(Event::Begin { phase: Phase::Reading, items: self.installed.components.len() as u64, bytes: 0 });
        observer.hear(Event::End);
        self.fetch_ahead(scope, observer)?;
        let mut reference = self.gathered(scope, with_records);
        let weak = self.weak_in_scope(&reference, scope);
        // Whatever can be verified without downloading is; where it was asked for, the archives are asked as well.
        let prepared = match self.settings.full_chain || !scope.is_all() {
            true => self.prepare(&weak, observer)?,
            false => self.prepare_at_hand(&weak, observer)?,
        };
        if prepared {
            reference = self.gathered(scope, with_records);
        }
        let weak = self.weak_by_records(&reference);
        if self.prepare(&weak, observer)? {
            reference = self.gathered(scope, with_records);
        }
        Ok(reference)
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

    /// What was named with the other names of its files: whether a hard link was cut, only all of them can tell. `None` where
    /// there are none.
    fn with_other_names(&self, reference: &Reference, scope: &Scope) -> Option<Scope> {
        let named = |listed: &SystemPath| scope.paths.iter().any(|path| listed.is_within(path));
        let grouped = reference.expected.iter().filter(|e| e.group.is_some() && named(&e.listed));
        let components: BTreeSet<&str> = grouped.map(|e| reference.component_of(e).name.as_str()).collect();
        if components.is_empty() {
            return None;
        }
        let components = components.into_iter().map(str::to_owned).collect();
        let whole = self.gathered(&Scope { components, ..Scope::default() }, false);
        let listed = |at: &usize| &whole.expected[*at].listed;
        let of_named = whole.groups.iter().filter(|group| group.members.iter().any(|at| named(listed(at))));
        let more: Vec<SystemPath> =
            of_named.flat_map(|group| &group.members).map(listed).filter(|path| !named(path)).cloned().collect();
        (!more.is_empty()).then(|| Scope { paths: [scope.paths.clone(), more].concat(), ..scope.clone() })
    }

    /// Refuses a path that was named where there is nothing, and no component has anything.
    pub(super) fn require_there(&self, scope: &Scope) -> Result<(), WorkError> {
        for path in &scope.paths {
            let spelled = Scope { paths: self.spellings(path), ..Scope::default() };
            let there = || {
                let folder = self.machine.resolve(&path.parent().unwrap_or_else(SystemPath::root)).ok()?;
                if path.is_root() {
                    return Some(());
                }
                self.machine.look(&folder.child(path.name()).ok()?).ok()?.map(|_| ())
            };
            let owned = |reference: &Reference| {
                reference.expected.iter().any(|e| spelled.paths.iter().any(|path| e.listed.is_within(path)))
            };
            let part_is_missing = self.machine.extent().unmounted_above(path).is_some();
            if there().is_none() && !part_is_missing && !owned(&self.reference(&spelled)) {
                return Err(WorkError::NoSuchFile { path: path.clone() });
            }
        }
        Ok(())
    }

    fn in_every_spelling(&self, scope: &Scope) -> Scope {
        let paths = scope.paths.iter().flat_map(|p| self.spellings(p)).collect();
        Scope { paths, ..scope.clone() }
    }

    fn look(
        &self,
        reference: &Reference,
        scope: &Scope,
        looks: Looks<'_>,
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
            how: looks.how,
            remember: looks.remember.then_some(self.settings.now),
            // Where only the machine answers, a second look with a better reference may follow.
            keep_seen: reference.components.iter().any(|c| c.voucher == Voucher::Itself),
        };
        check_files(case, seen, &self.pool, observer).map_err(|_| WorkError::Stopped)
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

    /// How far a quick check went.
    fn quick_words(&self, before: Option<&SeenFiles>, unread: u64) -> String {
        let Some(before) = before.filter(|b| !b.files.is_empty()) else {
            return "quick, but no earlier check is remembered: everything was read".into();
        };
        let since = self.since_words(&before.at);
        format!("quick: {unread} files unchanged since the check of {since} were not read")
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

    /// What was not examined of the files.
    fn unexamined(&self, scope: &Scope, reference: &Reference, files: &FilesCheck) -> Vec<UnexaminedReport> {
        let one = |reason: String| UnexaminedReport { area: Area::Files, reason, count: 1, example: None };
        let mut unexamined: Vec<UnexaminedReport> = files
            .unexamined
            .iter()
            .map(|u| UnexaminedReport { count: u.count, example: u.example.clone(), ..one(u.reason.clone()) })
            .collect();
        // Where the package database itself is looked at, it is told there.
        unexamined.extend(self.machine.extent().covered().iter().map(|place| {
            one(format!("{place} is examined as it is, but fstab names a file system for it that is not mounted"))
        }));
        if !scope.wants(Area::Records) {
            unexamined.extend(self.installed.problems.iter().map(|p| one(format!("{}: {}", p.path, p.what))));
        }
        // Of the store in use it is a finding of its own.
        let broken = reference.broken_manifests.iter().filter(|(id, _)| self.own_store().is_none_or(|s| !s.has(id)));
        unexamined
            .extend(broken.map(|(id, why)| one(format!("a store's manifest of {} is not used ({why})", id.name))));
        unexamined
    }

    /// A report of which nothing is known yet.
    pub(super) fn blank_report(&self, scope: &Scope) -> CheckReport {
        CheckReport {
            format: CheckReport::FORMAT.into(),
            at: self.settings.now.to_string(),
            outcome: OutcomeWord::Unexamined,
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

/// How files are looked at, and whether what is seen is remembered.
#[derive(Clone, Copy)]
struct Looks<'a> {
    how: How<'a>,
    remember: bool,
}

/// What came of the files.
struct FilesPart {
    reference: Reference,
    check: FilesCheck,
    plan: Plan,
    downloads: Vec<(Lacking, String)>,
    area: AreaReport,
    unexamined: Vec<UnexaminedReport>,
    unverified: Option<UnverifiedReport>,
}

fn files_area(scope: &Scope, reference: &Reference, files: &FilesCheck, seconds: f64) -> AreaReport {
    let problems = files.findings.iter().filter(|f| f.verdict.is_problem()).count() as u64;
    let repairable = files.findings.iter().filter(|f| f.remedy.is_some()).count() as u64;
    let weak = files.vouched.get(&Voucher::Itself).copied().unwrap_or(0);
    let outcome = match (problems, files.examined) {
        (1.., _) => OutcomeWord::Problems,
        (0, 0) => OutcomeWord::Unexamined,
        // What was not examined is not sound.
        _ if files.elsewhere > 0 => OutcomeWord::Unexamined,
        _ if !files.unexamined.is_empty() => OutcomeWord::SoundAsKnown,
        _ if weak > 0 || !reference.unknown.is_empty() && scope.is_all() => OutcomeWord::SoundAsKnown,
        _ => OutcomeWord::Sound,
    };
    AreaReport {
        area: Area::Files,
        outcome,
        examined: files.examined,
        bytes: files.bytes,
        seconds,
        problems,
        repairable,
        vouched: files.vouched.clone(),
        presence_only: files.presence_only,
        extent: None,
    }
}
