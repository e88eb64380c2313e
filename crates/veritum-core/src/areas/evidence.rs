//! Results that areas share: references, and one examination of all files. Made when an area first needs them.
//!
//! Two stages, because the second depends on the state of the store: a [first look](Cx::first_look) with the strongest
//! reference available; then, if something differs or is missing, the repository is asked, and the differing files are
//! [examined with that](Cx::full_look).

use std::cell::RefMut;
use std::collections::{BTreeSet, HashMap};
use std::time::Instant;

use super::database::{RecordFault, RecordJudge};
use super::files::{Case, FilesCheck, Seen, check_files, needed_packages};
use super::{Cx, DATABASE, FILES};
use crate::event::{Event, Phase};
use crate::history::{self, SeenFiles};
use crate::model::{Authority, Digest, PackageId, Scope, SystemPath};
use crate::platform::debian::Debian;
use crate::reference::{Expected, ExpectedKind, KnownRecords, Origin, Reference};
use crate::scan;
use crate::store::{Listing, Store};
use crate::system::WorkError;

/// References, and the problems of packages' records found on the way.
#[derive(Debug, Default)]
pub struct Gathered {
    /// The references.
    pub reference: Reference,
    /// The problems of packages' records.
    pub record_faults: Vec<RecordFault>,
}

/// One examination of all files in the scope.
#[derive(Debug)]
pub struct FilesLook {
    /// Its result.
    pub check: FilesCheck,
    /// The scope, in every spelling, with the other names of its files.
    pub scope: Scope,
    /// Observations of an earlier check whose files are skipped.
    pub before: Option<SeenFiles>,
    /// The store's contents, listed beside the rest of the work.
    pub listing: Option<Listing>,
    /// Whether it was interrupted.
    pub stopped: bool,
    /// Its duration in seconds.
    pub seconds: f64,
    /// Whether differing files were examined with the repository as well.
    is_full: bool,
    seen: Seen,
}

/// The results so far.
#[derive(Debug, Default)]
pub struct Evidence {
    /// The references.
    pub gathered: Option<Gathered>,
    /// The examination of files.
    pub look: Option<FilesLook>,
}

impl Cx<'_> {
    /// The results so far.
    pub fn evidence(&self) -> RefMut<'_, Evidence> {
        self.evidence.borrow_mut()
    }

    /// Gathers references of the strongest authority available to this run: with an examination of the files where it is needed,
    /// because differing files are compared with further references.
    ///
    /// # Errors
    /// If the run was stopped.
    pub fn gather(&self) -> Result<(), WorkError> {
        if self.wants(&FILES) {
            return self.full_look();
        }
        if self.evidence().gathered.is_none() {
            let gathered = self.gather_available(self.scope)?;
            self.evidence().gathered = Some(gathered);
        }
        Ok(())
    }

    /// Calls a function with the references of a scope, by the strongest authority available without the network: with those of the whole
    /// system, if they were gathered already.
    ///
    /// # Errors
    /// If the run was stopped.
    pub fn with_reference<T>(&self, scope: &Scope, work: impl FnOnce(&Reference) -> T) -> Result<T, WorkError> {
        if self.scope.is_whole()
            && let Some(gathered) = &self.evidence().gathered
        {
            return Ok(work(&gathered.reference));
        }
        let scope = self.system.in_every_spelling(scope);
        let known = KnownRecords::of(self.system.installed.packages.len());
        let gather = || self.gathered_knowing(&scope, false, Some(&known)).reference;
        let mut reference = gather();
        if self.supply.prepare_available(&self.supply.weak_in_scope(&reference, &scope), self.observer)? {
            reference = gather();
        }
        Ok(work(&reference))
    }

    /// Examines the files with the strongest reference available. The local package database comes first; for a named scope the
    /// repository is asked as well.
    ///
    /// # Errors
    /// When the run was interrupted without results.
    pub fn first_look(&self) -> Result<(), WorkError> {
        if self.evidence().look.is_some() {
            return Ok(());
        }
        let begun = Instant::now();
        let mut scope = self.system.in_every_spelling(self.scope);
        let listing = self.supply.own_store().filter(|_| self.scope.is_whole()).and_then(Store::list_contents);
        let mut gathered = self.gather_available(&scope)?;
        if let Some(wider) = self.with_other_names(&gathered.reference, &scope) {
            scope = wider;
            gathered = self.gathered_for(&scope, self.wants(&DATABASE));
        }
        let before = if self.how.quick { self.system.notes().and_then(|notes| history::seen(&notes)) } else { None };
        let mut seen = Seen::default();
        let check = self.look(&gathered.reference, &scope, before.as_ref(), &mut seen)?;
        let stopped = check.not_reached > 0;
        let seconds = begun.elapsed().as_secs_f64();
        let look = FilesLook { check, scope, before, listing, stopped, seconds, is_full: false, seen };
        *self.evidence() = Evidence { gathered: Some(gathered), look: Some(look) };
        Ok(())
    }

    /// Examines differing files with the repository's references as well.
    ///
    /// # Errors
    /// When the run was interrupted without results.
    pub fn full_look(&self) -> Result<(), WorkError> {
        self.first_look()?;
        let Evidence { gathered, look } = std::mem::take(&mut *self.evidence());
        let (Some(mut gathered), Some(mut look)) = (gathered, look) else { return Ok(()) };
        let done = self.complete(&mut gathered, &mut look);
        *self.evidence() = Evidence { gathered: Some(gathered), look: Some(look) };
        done
    }

    fn complete(&self, gathered: &mut Gathered, look: &mut FilesLook) -> Result<(), WorkError> {
        // After an interruption the results so far are returned without further work.
        if look.is_full || look.stopped {
            return Ok(());
        }
        let begun = Instant::now();
        let reference = &gathered.reference;
        let (weak, lacking) =
            (weak_with_problems(reference, &look.check), self.without_contents(reference, &look.check));
        let more = self.supply.prepare(&weak, self.observer).and_then(|more| {
            self.supply.prepare(&lacking, self.observer)?;
            Ok(more)
        });
        if self.so_far(more, &mut look.stopped)? == Some(true) {
            *gathered = self.gathered_for(&look.scope, self.wants(&DATABASE));
            look.check = self.look(&gathered.reference, &look.scope, look.before.as_ref(), &mut look.seen)?;
            look.stopped = look.check.not_reached > 0;
        }
        // Dropping a hundred thousand small allocations happens beside the rest of the work.
        let seen = std::mem::take(&mut look.seen);
        self.system.pool.spawn(move || drop(seen));
        look.is_full = true;
        look.seconds += begun.elapsed().as_secs_f64();
        Ok(())
    }

    /// The references by the strongest authority available before anything was examined.
    fn gather_available(&self, scope: &Scope) -> Result<Gathered, WorkError> {
        let with_records = self.wants(&DATABASE);
        let items = self.system.installed.packages.len() as u64;
        self.observer.on_event(Event::Begin { phase: Phase::Reading, items, bytes: 0 });
        self.observer.on_event(Event::End);
        self.supply.fetch_ahead(scope, with_records, self.observer)?;
        // Everything that can be verified without downloading is; on request the repositories are asked as well.
        let prepare = |weak: &[PackageId]| match self.system.settings.complete || !scope.is_all() {
            true => self.supply.prepare(weak, self.observer),
            false => self.supply.prepare_available(weak, self.observer),
        };
        // Packages that no store has are known before anything is gathered, unless paths were named.
        let unstored = if scope.paths.is_empty() { self.supply.unstored(scope) } else { Vec::new() };
        prepare(&unstored)?;
        // Which paths are relevant depends on the sources where packages were named.
        let known = (!scope.paths.is_empty() && scope.packages.is_empty())
            .then(|| KnownRecords::of(self.system.installed.packages.len()));
        let gather = || self.gathered_knowing(scope, with_records, known.as_ref());
        let mut gathered = gather();
        let mut weak = self.supply.weak_in_scope(&gathered.reference, scope);
        weak.retain(|id| !unstored.contains(id));
        if prepare(&weak)? {
            gathered = gather();
        }
        if self.supply.prepare(&weak_by_records(&gathered), self.observer)? {
            gathered = gather();
        }
        Ok(gathered)
    }

    /// The references; on request the records of each package are judged on the way.
    #[must_use]
    pub fn gathered_for(&self, scope: &Scope, with_records: bool) -> Gathered {
        self.gathered_knowing(scope, with_records, None)
    }

    fn gathered_knowing(&self, scope: &Scope, with_records: bool, known: Option<&KnownRecords>) -> Gathered {
        self.supply.with_sources(|sources| {
            let system = self.system;
            let judge = with_records.then(|| RecordJudge::new(&system.machine, &system.database));
            let origin = Origin {
                machine: &system.machine,
                platform: &Debian,
                installed: &system.installed,
                sources,
                policy: &system.settings.policy,
                judge: judge.as_ref().map(|judge| judge as _),
                known,
            };
            let reference = Reference::gather(&origin, scope, &system.pool);
            Gathered { reference, record_faults: judge.map(RecordJudge::into_faults).unwrap_or_default() }
        })
    }

    /// The scope with the other names of its files: only all names show whether a hard link was split. `None` where there are
    /// none.
    fn with_other_names(&self, reference: &Reference, scope: &Scope) -> Option<Scope> {
        let named = |listed: &SystemPath| scope.paths.iter().any(|path| listed.is_within(path));
        let grouped = reference.expected.iter().filter(|e| e.group.is_some() && named(&e.listed));
        let packages: BTreeSet<&str> = grouped.map(|e| reference.package_of(e).name.as_str()).collect();
        if packages.is_empty() {
            return None;
        }
        let packages = packages.into_iter().map(str::to_owned).collect();
        let whole = self.gathered_for(&Scope { packages, ..Scope::default() }, false).reference;
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
        before: Option<&SeenFiles>,
        seen: &mut Seen,
    ) -> Result<FilesCheck, WorkError> {
        let system = self.system;
        let remember = scope.is_whole() && !self.how.quick;
        let case = Case {
            machine: &system.machine,
            reference,
            scope,
            policy: &system.settings.policy,
            protection: &system.protection,
            left_out: &system.left_out(),
            how: scan::How {
                written: self.how.written,
                remembered: before.map(|before| &before.files),
                partial: self.how.partial,
            },
            remember: remember.then_some(system.settings.now),
            // Where only the local database verifies, a second look with a better reference may follow.
            keep_seen: reference.packages.iter().any(|c| c.authority == Authority::Local),
        };
        check_files(case, seen, &system.pool, self.observer).map_err(|_| WorkError::Stopped)
    }

    /// Packages that a signed store verifies, but whose contents no store has.
    fn without_contents(&self, reference: &Reference, files: &FilesCheck) -> Vec<PackageId> {
        let lacks = |e: &&Expected| match &e.kind {
            ExpectedKind::File { digest, .. } => e.authority == Authority::Store && !self.supply.in_a_store(digest),
            _ => false,
        };
        let needed = needed_things(reference, files).into_iter();
        let ids: BTreeSet<&PackageId> = needed.filter(lacks).map(|e| reference.package_of(e)).collect();
        ids.into_iter().cloned().collect()
    }
}

impl Evidence {
    /// Contents that a repair of the examined files would take from the store.
    #[must_use]
    pub fn needed_contents(&self) -> HashMap<Digest, u64> {
        let content =
            |e: &Expected| if let ExpectedKind::File { size, digest } = e.kind { Some((digest, size)) } else { None };
        match (&self.gathered, &self.look) {
            (Some(gathered), Some(look)) => {
                needed_things(&gathered.reference, &look.check).into_iter().filter_map(content).collect()
            }
            _ => HashMap::new(),
        }
    }
}

/// What a repair of the files would restore: the file itself, and for a folder everything below it.
fn needed_things<'a>(reference: &'a Reference, files: &FilesCheck) -> Vec<&'a Expected> {
    let mut things = Vec::new();
    for fault in files.faults.iter().filter(|f| !f.only_meta && f.alias.is_none()) {
        if fault.roots.is_empty() {
            things.push(&reference.expected[fault.expected]);
        } else {
            let below = |e: &&Expected| fault.roots.iter().any(|root| e.listed.is_within(root));
            things.extend(reference.expected.iter().filter(below));
        }
    }
    things
}

/// Packages with problems that only the local database verifies.
fn weak_with_problems(reference: &Reference, files: &FilesCheck) -> Vec<PackageId> {
    let mut weak: BTreeSet<&PackageId> = BTreeSet::new();
    for fault in &files.faults {
        weak.extend(needed_packages(fault, &reference.expected[fault.expected], reference));
    }
    reference.only_weak(&weak)
}

/// Packages whose records have problems that only their .deb file could resolve.
fn weak_by_records(gathered: &Gathered) -> Vec<PackageId> {
    let wants = |f: &&RecordFault| f.fix.as_ref().is_err_and(|u| u.package_helps);
    let ids: BTreeSet<&PackageId> =
        gathered.record_faults.iter().filter(wants).filter_map(|f| f.finding.package.as_ref()).collect();
    ids.into_iter().cloned().collect()
}
