//! The part of a check that is about files: what they are held against, what is seen of them, what a repair would do.

use std::collections::BTreeSet;
use std::time::Instant;

use super::check::{Wanted, not_reached};
use super::store::{Depth, StorePart};
use super::{Engine, Gathered, WorkError};
use crate::archive::Lacking;
use crate::areas::files::{Case, FilesCheck, Seen, check_files};
use crate::areas::files::{FileRules, plan_files};
use crate::event::{Event, Observer, Phase};
use crate::history::{self, SeenFiles};
use crate::machine::marked_errors;
use crate::model::{Area, Authority, ComponentId, Digest, Scope, SystemPath};
use crate::plan::{DiskDoubt, Plan};
use crate::reference::Reference;
use crate::report::{AreaReport, Outcome, UnexaminedReport, UnverifiedReport};
use crate::scan::How;
use crate::store::Store;

/// How files are looked at, and whether what is seen is remembered.
#[derive(Clone, Copy)]
struct Looks<'a> {
    how: How<'a>,
    remember: bool,
}

/// What came of the files.
pub(super) struct FilesPart {
    pub(super) gathered: Gathered,
    pub(super) check: FilesCheck,
    pub(super) plan: Plan,
    pub(super) downloads: Vec<(Lacking, String)>,
    pub(super) area: AreaReport,
    pub(super) unexamined: Vec<UnexaminedReport>,
    pub(super) unverified: Option<UnverifiedReport>,
    /// Whether it was interrupted before all of it was done.
    pub(super) stopped: bool,
}

impl Engine {
    /// Judges files by the strongest reference at hand. What the machine's own records say comes first; where that
    /// differs, or where something was named, the archive is asked as well.
    pub(super) fn files(
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
        let mut gathered = self.referenced(scope, observer)?;
        let scope = match self.with_other_names(&gathered.reference, scope) {
            Some(names) => {
                wider = names;
                gathered = self.gathered(&wider, with_records);
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
        let mut files = self.look(&gathered.reference, scope, looks, &mut seen, observer)?;
        // Whoever said stop gets what was found until then, and waits for nothing more.
        let mut stopped = files.not_reached > 0;
        if wanted.store == Some(Depth::Present) && !stopped {
            let part = self.present_store(&gathered.reference, &files, wanted.fetch, listing, observer);
            *store = wanted.so_far(part, &mut stopped)?.flatten();
        }
        if !stopped {
            let weak = self.weak_with_problems(&gathered.reference, &files);
            let lacking = self.without_contents(&gathered.reference, &files);
            let more = self.prepare(&weak, observer).and_then(|more| {
                self.prepare(&lacking, observer)?;
                Ok(more)
            });
            if wanted.so_far(more, &mut stopped)? == Some(true) {
                gathered = self.gathered(scope, with_records);
                files = self.look(&gathered.reference, scope, looks, &mut seen, observer)?;
                stopped = files.not_reached > 0;
            }
        }
        // A hundred thousand small pieces are let go beside the rest of the work.
        self.pool.spawn(move || drop(seen));
        if gathered.reference.components.iter().any(|c| c.authority == Authority::SelfReported) {
            // Where the archives stand is told even when nothing of them was needed.
            self.with_archive(|_| ());
        }
        let seconds = begun.elapsed().as_secs_f64();
        let left_out = self.left_out();
        let at_hand = self.contents_at_hand();
        // What the store is going to get back counts as had: its repair comes first.
        let coming = store.as_ref().map(StorePart::coming).unwrap_or_default();
        let has_content = |digest: &Digest| coming.contains(digest) || at_hand(digest);
        let supply = |id: &ComponentId| self.supply(&gathered.reference, id, failed);
        let rules = FileRules {
            protection: &self.protection,
            has_content: &has_content,
            supply: &supply,
            left_out: &left_out,
            despite_disk: self.settings.despite_disk,
        };
        let mut plan = plan_files(&mut files, &gathered.reference, &rules);
        let errors = marked_errors(&self.machine);
        if errors > 0 && plan.doubt.is_none() && !self.settings.despite_disk {
            plan.doubt = Some(DiskDoubt::MarkedErrors { errors });
        }
        let downloads = self.to_download(&gathered.reference, &files, scope);
        // What is wrong with an archive is no answer about something that was named.
        if scope.is_all() {
            files.findings.splice(0..0, self.source_findings());
        }
        let mut area = files_area(scope, &gathered.reference, &files, seconds);
        if stopped {
            area.outcome = area.outcome.min(Outcome::Unexamined);
        }
        if wanted.quick {
            area.extent = Some(self.quick_words(before.as_ref(), files.unread));
        }
        let mut unexamined = self.unexamined(scope, &gathered.reference, &files);
        if stopped && files.not_reached == 0 {
            unexamined
                .push(not_reached(Area::Files, "stopped before what was found was compared with the signed packages"));
        }
        let unverified = self.unverified(&gathered.reference, scope);
        drop(at_hand);
        Ok(FilesPart { gathered, check: files, plan, downloads, area, unexamined, unverified, stopped })
    }

    /// What should be there, by the strongest reference at hand before anything was looked at.
    pub(super) fn referenced(&self, scope: &Scope, observer: &dyn Observer) -> Result<Gathered, WorkError> {
        let with_records = scope.wants(Area::Records);
        observer.on_event(Event::Begin {
            phase: Phase::Reading,
            items: self.installed.components.len() as u64,
            bytes: 0,
        });
        observer.on_event(Event::End);
        self.fetch_ahead(scope, observer)?;
        // Whatever can be verified without downloading is; where it was asked for, the archives are asked as well.
        let prepare = |weak: &[ComponentId]| match self.settings.full_chain || !scope.is_all() {
            true => self.prepare(weak, observer),
            false => self.prepare_at_hand(weak, observer),
        };
        // What no store knows is known before anything is gathered, but where paths were named.
        let unstored = if scope.paths.is_empty() { self.unstored(scope) } else { Vec::new() };
        prepare(&unstored)?;
        let mut gathered = self.gathered(scope, with_records);
        let mut weak = self.weak_in_scope(&gathered.reference, scope);
        weak.retain(|id| !unstored.contains(id));
        if prepare(&weak)? {
            gathered = self.gathered(scope, with_records);
        }
        let weak = self.weak_by_records(&gathered);
        if self.prepare(&weak, observer)? {
            gathered = self.gathered(scope, with_records);
        }
        Ok(gathered)
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
        let whole = self.gathered(&Scope { components, ..Scope::default() }, false).reference;
        let listed = |at: &usize| &whole.expected[*at].listed;
        let of_named = whole.groups.iter().filter(|group| group.members.iter().any(|at| named(listed(at))));
        let more: Vec<SystemPath> =
            of_named.flat_map(|group| &group.members).map(listed).filter(|path| !named(path)).cloned().collect();
        (!more.is_empty()).then(|| Scope { paths: [scope.paths.clone(), more].concat(), ..scope.clone() })
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
            keep_seen: reference.components.iter().any(|c| c.authority == Authority::SelfReported),
        };
        check_files(case, seen, &self.pool, observer).map_err(|_| WorkError::Stopped)
    }

    /// How far a quick check went.
    fn quick_words(&self, before: Option<&SeenFiles>, unread: u64) -> String {
        let Some(before) = before.filter(|b| !b.files.is_empty()) else {
            return "quick, but no earlier check is remembered: everything was read".into();
        };
        let since = self.since_words(&before.at);
        format!("quick: {unread} files unchanged since the check of {since} were not read")
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
}

fn files_area(scope: &Scope, reference: &Reference, files: &FilesCheck, seconds: f64) -> AreaReport {
    let problems = files.findings.iter().filter(|f| f.verdict.is_problem()).count() as u64;
    let repairable = files.findings.iter().filter(|f| f.remedy.is_some()).count() as u64;
    let weak = files.vouched.get(&Authority::SelfReported).copied().unwrap_or(0);
    let outcome = match (problems, files.examined) {
        (1.., _) => Outcome::Problems,
        (0, 0) => Outcome::Unexamined,
        // What was not examined is not sound.
        _ if files.elsewhere > 0 => Outcome::Unexamined,
        _ if !files.unexamined.is_empty() => Outcome::SoundAsKnown,
        _ if weak > 0 || !reference.unknown.is_empty() && scope.is_all() => Outcome::SoundAsKnown,
        _ => Outcome::Sound,
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
