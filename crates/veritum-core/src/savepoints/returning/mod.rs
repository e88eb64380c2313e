//! Returning to a savepoint: what differs, what of it returns, what stays and why, and the actions.
//!
//! Nothing here writes: the plan is carried out as one change, by the module [`crate::change`].

mod accounts;
mod actions;
mod compare;
mod config;
mod consequences;
mod database;
mod decide;
mod diversions;
mod menus;
mod owners;
mod packages;
mod singles;
mod unfinished;

use std::collections::{BTreeMap, HashMap, HashSet};

use super::manifest::{Entry, What};
use super::parts::{Head, Savepoints};
use super::pools::Pools;
use super::read::{SystemRead, read_system};
use super::{Coverage, SavepointError};
use crate::change::{ChangeContext, FolderTimes};
use crate::model::{Digest, Instant, SystemPath};
use crate::plan::{ItemKind, Operation, PlannedAction};
use crate::platform::Installed;
use crate::report::{AccountChanges, Consequences, PackageChange, StayReason};
use crate::scan::Remembered;
use crate::store::Contents as _;
use compare::differences;
use decide::{Decider, Fate};
use packages::Packages;

/// What is to return.
#[derive(Debug, Clone, Default)]
pub struct ReturnWanted {
    /// Only these packages; empty for the whole system.
    pub packages: Vec<String>,
    /// Configuration files that a person changed since, too.
    pub config: bool,
    /// Accounts and passwords, too.
    pub accounts: bool,
    /// Set aside everything made since, too.
    pub exact: bool,
}

/// The input of a plan.
pub struct ReturnCase<'a> {
    /// The machine, its state folder and its protected places.
    pub context: &'a ChangeContext<'a>,
    /// The installed packages.
    pub installed: &'a Installed,
    /// The savepoints.
    pub savepoints: &'a Savepoints,
    /// The pools with the contents.
    pub pools: &'a Pools<'a>,
    /// Contents of unchanged files.
    pub known: &'a [Remembered],
    /// The pool of threads.
    pub threads: &'a rayon::ThreadPool,
    /// What is to return.
    pub wanted: &'a ReturnWanted,
}

/// A file that needs a content that is not kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LostContent {
    /// The path.
    pub path: SystemPath,
    /// Its content.
    pub digest: Digest,
    /// Its size in bytes.
    pub size: u64,
    /// The package that owned it then.
    pub package: Option<PackageChange>,
}

/// What a return does.
#[derive(Debug, Default)]
pub struct ReturnPlan {
    /// Packages that differ: `from` is now, `to` is the savepoint.
    pub packages: Vec<PackageChange>,
    /// Packages that differ and stay as they are, with the reason.
    pub packages_staying: Vec<(PackageChange, StayReason)>,
    /// The actions, in order.
    pub actions: Vec<PlannedAction>,
    /// The times that folders get.
    pub times: FolderTimes,
    /// Contents that were composed for it.
    pub made: HashMap<Digest, Vec<u8>>,
    /// What differs and stays, with the reason.
    pub staying: BTreeMap<SystemPath, StayReason>,
    /// Accounts that differ.
    pub accounts: AccountChanges,
    /// What it means for the running system.
    pub consequences: Consequences,
    /// Contents that are not kept whole and come from stores or packages.
    pub elsewhere: HashSet<Digest>,
    /// Contents that are neither kept nor made.
    pub lost: Vec<LostContent>,
}

impl ReturnPlan {
    /// Whether it does nothing.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.actions.is_empty()
    }
}

/// Plans the return to a savepoint; writes nothing.
///
/// # Errors
/// When the savepoint is damaged, the packages cannot return without others, or the observer stopped the run.
pub fn plan_return(case: &ReturnCase<'_>, head: &Head) -> Result<ReturnPlan, SavepointError> {
    let then = case.savepoints.entries(head, case.threads)?;
    let coverage = Coverage::new(case.context.machine);
    if let Some(place) = coverage.not_mounted(case.context.machine).first() {
        return Err(SavepointError::NotMounted(place.clone()));
    }
    let singles: Vec<SystemPath> =
        then.iter().map(|entry| &entry.path).filter(|path| coverage.has_single(path)).cloned().collect();
    let now = read_system(case.context.machine, &singles, case.known, case.threads, case.context.observer)?;
    let packages = Packages::read(case, head, &then)?;
    let uncovered: Vec<SystemPath> =
        now.uncovered.iter().chain(now.missing.iter().map(|(path, _)| path)).cloned().collect();
    let times = FolderDates::new(&then, &now, &coverage);
    let differences = differences(then, now, &head.missing, &coverage);
    let mut plan = ReturnPlan { packages: packages.changes(), ..ReturnPlan::default() };
    plan.packages_staying = packages.staying();
    let diverted = diversions::moved(case, &packages, &differences)?;
    let mut fates = Decider::new(case, head, &coverage, &packages, &differences, diverted).fates();
    plan.accounts = accounts::changes(case, &differences);
    let mut made: HashMap<Digest, Vec<u8>> = HashMap::new();
    let mut differences = differences;
    (plan.accounts.added_again, plan.accounts.without_owner) =
        accounts::adapt(case, &mut differences, &mut fates, &mut made);
    database::adapt(case, &packages, &mut differences, &mut fates, &mut made);
    diversions::adapt(case, &packages, &mut differences, &mut fates, &mut made);
    let without_lines = menus::adapt(case, &mut differences, &mut fates, &mut made);
    plan.consequences = consequences::consequences(case, &packages, &differences, &fates);
    plan.staying = differences
        .iter()
        .zip(&fates)
        .filter_map(|(difference, fate)| match fate {
            Fate::Stays(why) => Some((difference.path.clone(), *why)),
            _ => None,
        })
        .collect();
    plan.actions = actions::actions(&packages, &uncovered, &differences, &fates, &mut plan.staying);
    plan.staying.extend(not_covered(case, &packages, &coverage).map(|path| (path, StayReason::NotCovered)));
    let not_recorded = head.missing.iter().map(|(path, _)| path);
    let not_recorded = not_recorded.filter(|path| case.context.machine.look(path).ok().flatten().is_some());
    plan.staying.extend(not_recorded.map(|path| (path.clone(), StayReason::NotRecorded)));
    plan.staying.extend(without_lines.into_iter().map(|path| (path, StayReason::MissingDevices)));
    plan.times = folder_times(times, &plan.actions);
    plan.lost = lost(case, &packages, &plan.actions, &made);
    plan.made = made;
    Ok(plan)
}

/// What packages that come back had outside the covered places, and is missing now: of folders only the uppermost.
fn not_covered<'a>(
    case: &'a ReturnCase<'_>,
    packages: &'a Packages,
    coverage: &'a Coverage,
) -> impl Iterator<Item = SystemPath> + 'a {
    let machine = case.context.machine;
    // What is below a folder that does not exist, or cannot be examined, is not named.
    let is_missing = |path: &SystemPath| {
        let folder = path.parent().and_then(|parent| machine.resolve(&parent).ok());
        let place = folder.and_then(|folder| folder.child(path.name()).ok());
        place.is_some_and(|place| {
            !(coverage.has(&place) || coverage.has_single(&place)) && matches!(machine.look(&place), Ok(None))
        })
    };
    let comes_back = |moving: &packages::Moving| moving.change.to.is_none() && moving.wanted && moving.stays.is_none();
    let paths = packages.paths_then().filter_map(move |(path, mut owners)| owners.any(comes_back).then_some(path));
    paths.filter(move |path| is_missing(path)).cloned()
}

/// The covered folders of both states: the time then, and whether it is another one now.
struct FolderDates(BTreeMap<SystemPath, (Instant, bool)>);

impl FolderDates {
    fn new(then: &[Entry], now: &SystemRead, coverage: &Coverage) -> Self {
        let is_folder = |entry: &&Entry| entry.what == What::Folder && coverage.has(&entry.path);
        let now: HashMap<&SystemPath, Instant> =
            now.entries.iter().filter(is_folder).map(|entry| (&entry.path, entry.mtime)).collect();
        let both = then.iter().filter(is_folder).filter_map(|entry| {
            let differs = *now.get(&entry.path)? != entry.mtime;
            Some((entry.path.clone(), (entry.mtime, differs)))
        });
        Self(both.collect())
    }
}

/// The times that folders get: those that differ, and those in which something changes.
fn folder_times(folders: FolderDates, actions: &[PlannedAction]) -> FolderTimes {
    let changing: HashSet<SystemPath> = actions.iter().filter_map(|action| action.place.parent()).collect();
    let gets = folders.0.into_iter().filter(|(folder, (_, differs))| *differs || changing.contains(folder));
    gets.map(|(folder, (time, _))| (folder, time)).collect()
}

/// The contents that actions need and that are neither kept whole nor made. Each kept one is read.
fn lost(
    case: &ReturnCase<'_>,
    packages: &Packages,
    actions: &[PlannedAction],
    made: &HashMap<Digest, Vec<u8>>,
) -> Vec<LostContent> {
    use rayon::prelude::*;
    let mut needed: HashMap<Digest, (u64, SystemPath)> = HashMap::new();
    for action in actions {
        let items = if let Operation::Put(items) = &action.operation { items.as_slice() } else { &[] };
        for item in items {
            if let ItemKind::File { size, digest } = item.kind
                && !made.contains_key(&digest)
            {
                let path = action.place.join(item.below.relative()).unwrap_or_else(|_| action.place.clone());
                needed.entry(digest).or_insert((size, path));
            }
        }
    }
    let is_lost = |(digest, (size, path)): (Digest, (u64, SystemPath))| {
        let whole = case.pools.has_content(&digest) && case.pools.is_whole(&digest, size, &[]);
        (!whole).then(|| LostContent { package: packages.owner_then(&path), path, digest, size })
    };
    let mut lost: Vec<LostContent> = case.threads.install(|| needed.into_par_iter().filter_map(is_lost).collect());
    lost.sort_by(|a, b| a.path.cmp(&b.path));
    if lost.iter().any(|lost| lost.package.is_none()) {
        let owners = packages::owners(case, &lost.iter().map(|lost| lost.path.clone()).collect());
        for lost in lost.iter_mut().filter(|lost| lost.package.is_none()) {
            lost.package = owners.get(&lost.path).cloned();
        }
    }
    lost
}
