//! The area `files`: every owned file, link and folder against its reference.

use std::collections::{BTreeMap, HashMap};

use super::causes;
use super::folders::Parents;
use super::judge::Judge;
use super::locations::{Location, has_location, locations};
use super::stray;
use crate::event::{Event, Observer, Phase};
use crate::machine::{Machine, Protection};
use crate::model::{Authority, FileKind, Finding, Identity, PathMap, Scope, Stat, SystemPath};
use crate::reference::{Expected, ExpectedKind, Policy, Reference};
use crate::scan::{self, Found, Look, Observation, Remembered, SnapshotBuilder, Stopped, Task, Watch};

/// The largest file that is read where nothing tells how large its component is.
const MAX_UNKNOWN: u64 = 16 << 30;

/// What is needed to put something right: the finding's position and what stands where.
#[derive(Debug, Clone)]
pub struct Fault {
    /// Position in [`FilesCheck::findings`].
    pub finding: usize,
    /// Position in the reference.
    pub expected: usize,
    /// Where, without links before the last name.
    pub physical: SystemPath,
    /// What stands there now.
    pub found: Option<Stat>,
    /// For names of one file: a sound name of it, to be linked to.
    pub sibling: Option<SystemPath>,
    /// Whether the content is as it should be, and only owner or mode is not.
    pub only_meta: bool,
    /// Whether nothing is wrong but that capabilities are gone, which only the package's own configuring gives.
    pub lost_capabilities: bool,
    /// For a folder that is missing or blocked: every listed spelling of it; all that is expected below comes back
    /// with it.
    pub roots: Vec<SystemPath>,
    /// For a folder that is a link on a merged system (`/lib64`): where the link leads.
    pub alias: Option<Vec<u8>>,
}

/// Something that could not be examined.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unexamined {
    /// Why.
    pub reason: String,
    /// How many.
    pub count: u64,
    /// One of them.
    pub example: Option<SystemPath>,
}

/// What came of a check of files.
#[derive(Debug, Default)]
pub struct FilesCheck {
    /// Problems, gravest and then in path order.
    pub findings: Vec<Finding>,
    /// Notes.
    pub notes: Vec<Finding>,
    /// For planning: one for each finding that stands at one place.
    pub faults: Vec<Fault>,
    /// Where folders really are, for planning: listed to physical.
    pub folders: PathMap<SystemPath>,
    /// What could not be examined.
    pub unexamined: Vec<Unexamined>,
    /// Things that could not be examined because a file system is not mounted, or another one is in the way.
    pub elsewhere: u64,
    /// Things that were not looked at because somebody said stop.
    pub not_reached: u64,
    /// Things looked at.
    pub examined: u64,
    /// Of them, how many each voucher answers for.
    pub vouched: BTreeMap<Authority, u64>,
    /// Of those known by the machine's own records only: how many could only be seen to exist.
    pub presence_only: u64,
    /// Bytes that were read.
    pub bytes: u64,
    /// Owned by no component, beyond those listed in the notes.
    pub strays: u64,
    /// Files that were not read, since they are just as they were at the last full check.
    pub unread: u64,
    /// What is to be remembered for the next check.
    pub remembered: Remembered,
    /// What stood at each place, when that is to be remembered; none when something cannot be watched.
    pub snapshot_builder: Option<SnapshotBuilder>,
}

/// Everything that a check of files needs.
#[derive(Clone, Copy)]
pub struct Case<'a> {
    /// The machine.
    pub machine: &'a Machine,
    /// What should be there.
    pub reference: &'a Reference,
    /// What is to be looked at.
    pub scope: &'a Scope,
    /// The operator's rules.
    pub policy: &'a Policy,
    /// What must not be altered.
    pub protection: &'a Protection,
    /// What the administrator told the package tool not to unpack.
    pub left_out: &'a dyn Fn(&SystemPath) -> bool,
    /// How contents are read.
    pub how: scan::How<'a>,
    /// When the check began, when what it sees is to be remembered.
    pub remember: Option<jiff::Timestamp>,
    /// Whether what is seen is to be kept for a further look.
    pub keep_seen: bool,
}

/// What was looked at before in the same check, in path order: not looked at again where the same is asked.
#[derive(Debug, Default)]
pub struct Seen(Vec<(Location, Look, Observation)>);

/// Checks files; `seen` is what an earlier look of the same check saw, and is replaced by what this one sees.
///
/// # Errors
/// When the observer said stop.
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
    let looks: Vec<Look> = locations.iter().map(|location| look(case.reference, location)).collect();
    let observations = observe(&case, &locations, &looks, std::mem::take(seen), pool, observer)?;
    let folders = judge.out.folders.clone();
    let (folders, sat, saw, machine) = (&folders, &locations, &observations, case.machine);
    // What is kept for the next check is put together beside the judging, which one thread does.
    let keeping = |began| (Remembered::of(saw.iter(), began), snapshot_builder(machine, sat, saw, folders, began));
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
    if case.keep_seen {
        seen.0 = locations
            .into_iter()
            .zip(looks)
            .zip(observations)
            .map(|((location, look), seen)| (location, look, seen))
            .collect();
    } else {
        // A hundred thousand small pieces are let go beside the rest of the work.
        pool.spawn(move || drop((locations, looks, observations)));
    }
    let mut checked = judge.finish(observer);
    causes::name(&mut checked.findings, &checked.notes);
    Ok(checked)
}

/// Judges what was looked at, then the folders that tell the fate of what is below them.
fn judge_all(judge: &mut Judge<'_>, parents: &Parents<'_>, locations: &[Location], observations: &[Observation]) {
    let anchors = anchors(judge.case.reference, locations, observations);
    for (location, observation) in locations.iter().zip(observations) {
        judge.one(location, observation, &anchors);
    }
    judge.missing_folders();
    for block in parents.blocks() {
        judge.blocked(&block);
    }
    for moved in parents.moves() {
        judge.moved(&moved);
    }
}

/// What stood at each place that was looked at, and at the folders around them; none when something could not be looked at.
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

/// Looks at what was not looked at yet.
fn observe(
    case: &Case<'_>,
    locations: &[Location],
    looks: &[Look],
    seen: Seen,
    pool: &rayon::ThreadPool,
    observer: &dyn Observer,
) -> Result<Vec<Observation>, Stopped> {
    if seen.0.is_empty() {
        let tasks: Vec<Task<'_>> =
            locations.iter().zip(looks).map(|(location, look)| task(case, location, *look)).collect();
        begin(&tasks, observer);
        return scan::observe(case.machine, &tasks, case.how, pool, observer);
    }
    let mut seen = seen.0.into_iter().peekable();
    let mut known: Vec<Option<Observation>> = Vec::with_capacity(locations.len());
    let mut open = Vec::new();
    for (location, look) in locations.iter().zip(looks) {
        while seen.next_if(|(before, ..)| before.place() < location.place()).is_some() {}
        match seen.next_if(|(before, ..)| before.place() == location.place()) {
            Some((_, before, observation)) if before == *look => known.push(Some(observation)),
            _ => {
                known.push(None);
                open.push(task(case, location, *look));
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

/// What is to be known of what is there.
fn look(reference: &Reference, location: &Location) -> Look {
    let expected = &reference.expected[location.expected];
    match &expected.kind {
        ExpectedKind::File { size, .. } => Look::Blake3 { size: *size },
        ExpectedKind::Recorded(_) => {
            // What a component says of its size is an estimate, and sometimes wrong.
            let says = reference.components[expected.component].component.installed_bytes;
            Look::Md5 { most: says.map_or(MAX_UNKNOWN, |bytes| bytes.saturating_mul(4).saturating_add(1 << 30)) }
        }
        _ => Look::Only,
    }
}

/// Whether the content is as it should be, as far as it is known.
pub(super) fn content_sound(expected: &Expected, found: &Found) -> bool {
    match &expected.kind {
        ExpectedKind::File { digest, .. } => found.digest == Some(*digest),
        ExpectedKind::Recorded(md5) => found.md5 == Some(*md5),
        _ => true,
    }
}

/// For each hard-link group the inode that the most sound names have, and the first of those names.
fn anchors(
    reference: &Reference,
    locations: &[Location],
    observations: &[Observation],
) -> HashMap<usize, (Identity, SystemPath)> {
    let mut votes: BTreeMap<usize, Vec<(Identity, &SystemPath)>> = BTreeMap::new();
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
        // The first of the most: deterministic, since seats stand in path order.
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
