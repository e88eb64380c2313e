//! The area `files`: compares every owned file, symlink and folder with its reference.

use std::collections::{BTreeMap, HashMap};

use super::case::{Case, FilesCheck, Location, content_sound};
use super::causes;
use super::folders::Parents;
use super::judge::Judge;
use super::locations::{has_location, locations};
use super::stray;
use crate::event::{Event, Observer, Phase};
use crate::machine::Machine;
use crate::model::{FileKind, Identity, PathMap, SystemPath};
use crate::reference::{ExpectedKind, Reference};
use crate::scan::{self, Look, Observation, RememberedParts, SnapshotBuilder, Stopped, Task, Watch};

/// The largest file that is read if its package declares no size.
const MAX_UNKNOWN: u64 = 16 << 30;

/// Earlier observations of the same check, in path order: reused if the same is wanted.
#[derive(Debug, Default)]
pub struct Seen {
    locations: Vec<Location>,
    /// What was wanted of each.
    looks: Vec<Look>,
    observations: Vec<Observation>,
}

/// Checks files; `seen` contains the observations of an earlier look, and is replaced by this one's.
///
/// # Errors
/// When the observer stopped the run.
pub fn check_files(
    case: Case<'_>,
    seen: &mut Seen,
    pool: &rayon::ThreadPool,
    observer: &dyn Observer,
) -> Result<FilesCheck, Stopped> {
    let trusted = case.policy.owner_of_root.map_or(0, |(uid, _)| uid);
    let parents = Parents::new(case.machine, case.reference, case.protection, trusted);
    let mut judge = Judge::new(case);
    let locations = locations(&mut judge, &parents, pool);
    let observations = observe(&case, &locations, std::mem::take(seen), pool, observer)?;
    let folders = judge.out.folders.clone();
    let (folders, sat, saw, machine) = (&folders, &locations, &observations, case.machine);
    // What is kept for the next check is built beside the judging, which one thread does.
    let keeping =
        |began| (RememberedParts::new(saw.iter(), began), snapshot_builder(machine, sat, saw, folders, began));
    let kept = std::thread::scope(|threads| {
        let kept = case.remember.map(|began| threads.spawn(move || keeping(began)));
        judge_all(&mut judge, &parents, &locations, &observations);
        if case.scope.is_all() {
            let several = observations.iter().filter_map(|o| match o {
                Observation::There(found) if found.stat.names > 1 => Some(found.stat.id),
                _ => None,
            });
            let files = several.collect();
            let (notes, more) = stray::find(case.machine, case.reference, folders, &locations, &files, pool);
            judge.out.notes.extend(notes);
            judge.out.strays = more;
        }
        kept.and_then(|kept| kept.join().ok())
    });
    observer.on_event(Event::End);
    judge.out.unread = observations.iter().filter(|o| matches!(o, Observation::There(f) if f.unread)).count() as u64;
    if let Some((remembered, snapshot_builder)) = kept {
        (judge.out.remembered, judge.out.snapshot_builder) = (remembered, snapshot_builder);
    }
    let mut checked = judge.finish(observer);
    // Only differing files are examined again.
    if case.keep_seen && !checked.faults.is_empty() {
        let looks = locations.iter().map(|location| look(case.reference, location)).collect();
        *seen = Seen { locations, looks, observations };
    } else {
        // Dropping a hundred thousand small allocations happens beside the rest of the work.
        pool.spawn(move || drop((locations, observations)));
    }
    causes::name(&mut checked.findings, &checked.notes);
    Ok(checked)
}

/// Judges the observations, then the folders that decide about everything below them.
fn judge_all(judge: &mut Judge<'_>, parents: &Parents<'_>, locations: &[Location], observations: &[Observation]) {
    let anchors = anchors(judge.case.reference, locations, observations);
    for (location, observation) in locations.iter().zip(observations) {
        judge.judge(location, observation, &anchors);
    }
    judge.missing_folders();
    for block in parents.blocks() {
        judge.blocked(&block);
    }
    for moved in parents.moves() {
        judge.moved(&moved);
    }
}

/// The state of every examined place and the folders around them; `None` when something could not be examined.
fn snapshot_builder(
    machine: &Machine,
    locations: &[Location],
    observations: &[Observation],
    folders: &PathMap<SystemPath>,
    began: jiff::Timestamp,
) -> Option<SnapshotBuilder> {
    let mut snapshot_builder = SnapshotBuilder::since(began);
    let watch = |place: &SystemPath| if stray::is_searched(place) { Watch::Close } else { Watch::Loose };
    for (location, observation) in locations.iter().zip(observations) {
        let stat = match observation {
            Observation::There(found) => Some(&found.stat),
            Observation::Absent => None,
            _ => return None,
        };
        snapshot_builder.add(&location.folder, &location.physical, stat, watch(&location.physical));
    }
    for place in folders.values() {
        let folder = place.parent().unwrap_or_else(SystemPath::root);
        if has_location(locations, &folder, place.name()) {
            continue;
        }
        snapshot_builder.add(&folder, place, machine.look(place).ok()?.as_ref(), watch(place));
    }
    Some(snapshot_builder)
}

/// Examines what was not examined yet.
fn observe(
    case: &Case<'_>,
    locations: &[Location],
    seen: Seen,
    pool: &rayon::ThreadPool,
    observer: &dyn Observer,
) -> Result<Vec<Observation>, Stopped> {
    if seen.locations.is_empty() {
        let tasks: Vec<Task<'_>> =
            locations.iter().map(|location| task(case, location, look(case.reference, location))).collect();
        begin(&tasks, observer);
        return scan::observe(case.machine, &tasks, case.how, pool, observer);
    }
    let Seen { locations: places, looks, observations } = seen;
    let mut seen = places.into_iter().zip(looks).zip(observations).peekable();
    let mut known: Vec<Option<Observation>> = Vec::with_capacity(locations.len());
    let mut open = Vec::new();
    for location in locations {
        let look = look(case.reference, location);
        while seen.next_if(|((before, _), _)| before.place() < location.place()).is_some() {}
        match seen.next_if(|((before, _), _)| before.place() == location.place()) {
            Some(((_, before), observation)) if before == look => known.push(Some(observation)),
            _ => {
                known.push(None);
                open.push(task(case, location, look));
            }
        }
    }
    begin(&open, observer);
    let fresh = scan::observe(case.machine, &open, case.how, pool, observer)?;
    let mut fresh = fresh.into_iter();
    Ok(known.into_iter().map(|k| k.or_else(|| fresh.next()).unwrap_or(Observation::Absent)).collect())
}

fn task<'a>(case: &Case<'_>, location: &'a Location, look: Look) -> Task<'a> {
    Task { folder: &location.folder, name: location.name(), look, fresh: case.how.was_written(&location.physical) }
}

fn begin(tasks: &[Task<'_>], observer: &dyn Observer) {
    let bytes = tasks.iter().map(|task| task.look.bytes()).sum();
    observer.on_event(Event::Begin { phase: Phase::Comparing, items: tasks.len() as u64, bytes });
}

/// What to learn about a place.
fn look(reference: &Reference, location: &Location) -> Look {
    let expected = &reference.expected[location.expected];
    match &expected.kind {
        ExpectedKind::File { size, .. } => Look::Blake3 { size: *size },
        ExpectedKind::Recorded(_) => {
            // The size that a package declares is an estimate, and sometimes wrong.
            let says = reference.packages[expected.package].package.installed_bytes;
            Look::Md5 { most: says.map_or(MAX_UNKNOWN, |bytes| bytes.saturating_mul(4).saturating_add(1 << 30)) }
        }
        _ => Look::Only,
    }
}

/// For each hard-link group the inode with the most intact names, and the first of those names.
fn anchors(
    reference: &Reference,
    locations: &[Location],
    observations: &[Observation],
) -> HashMap<u32, (Identity, SystemPath)> {
    let mut votes: BTreeMap<u32, Vec<(Identity, &SystemPath)>> = BTreeMap::new();
    for (location, observation) in locations.iter().zip(observations) {
        let expected = &reference.expected[location.expected];
        if let (Some(group), Observation::There(found)) = (expected.group, observation)
            && found.stat.kind == FileKind::File
            && content_sound(expected, found)
        {
            votes.entry(group).or_default().push((found.stat.id, &location.physical));
        }
    }
    let mut anchors = HashMap::new();
    for (group, names) in votes {
        let count = |id: &Identity| names.iter().filter(|(i, _)| i == id).count();
        // The first of the most frequent: deterministic, since locations are in path order.
        let mut best = &names[0];
        for name in &names[1..] {
            if count(&name.0) > count(&best.0) {
                best = name;
            }
        }
        anchors.insert(group, (best.0, best.1.clone()));
    }
    anchors
}
