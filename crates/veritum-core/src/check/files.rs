//! The area `files`: every owned file, link and folder against its reference.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

use super::folders::{Block, Move, Parents, Placement, is_volatile};
use super::meta::{self, MetaVerdict};
use super::reference::{Expected, Policy, Reference, Scope, Want};
use super::stray;
use crate::event::{Event, Observer, Phase};
use crate::model::{Area, FileKind, Finding, Identity, Stat, State, SystemPath, Verdict, Voucher};
use crate::platform::debian::{ALIASES, alias_target, explained_links};
use crate::scan::{self, Found, Look, Observation, Stopped, Task};
use crate::target::{Machine, Protection};

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
    pub folders: HashMap<SystemPath, SystemPath>,
    /// What could not be examined.
    pub unexamined: Vec<Unexamined>,
    /// Things looked at.
    pub examined: u64,
    /// Of them, how many each voucher answers for.
    pub vouched: BTreeMap<Voucher, u64>,
    /// Of those known by the machine's own records only: how many could only be seen to exist.
    pub presence_only: u64,
    /// Bytes that were read.
    pub bytes: u64,
    /// Owned by no component, beyond those listed in the notes.
    pub strays: u64,
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
    /// Whether to read from the medium rather than from the cache.
    pub fresh: bool,
}

/// Checks files.
///
/// # Errors
/// When the observer said stop.
pub fn check_files(
    case: Case<'_>,
    left_out: &dyn Fn(&SystemPath) -> bool,
    pool: &rayon::ThreadPool,
    observer: &dyn Observer,
) -> Result<FilesCheck, Stopped> {
    let trusted = case.policy.owner_of_root.map_or(0, |(uid, _)| uid);
    let parents = Parents::new(case.machine, case.reference, case.protection, trusted);
    let mut judge = Judge { case, out: FilesCheck::default(), missing: BTreeMap::new(), reasons: BTreeMap::new() };
    let mut seats: Vec<Seat> = Vec::new();
    let mut taken: HashMap<SystemPath, usize> = HashMap::new();
    for (at, expected) in case.reference.expected.iter().enumerate() {
        if !in_scope(&case, expected) || is_volatile(&expected.listed) {
            continue;
        }
        if let Some(seat) = judge.seat(&parents, at, expected) {
            // One place under two spellings (`/bin/x`, `/usr/bin/x`) is looked at once.
            if taken.insert(seat.physical.clone(), at).is_none() {
                seats.push(seat);
            }
        }
    }
    let tasks: Vec<Task> = seats.iter().map(|seat| task(case.reference, seat)).collect();
    let size = |task: &Task| if let Look::Blake3 { size } = task.look { size } else { 0 };
    observer.hear(Event::Begin {
        phase: Phase::Comparing,
        items: tasks.len() as u64,
        bytes: tasks.iter().map(size).sum(),
    });
    let observations = scan::observe(case.machine, &tasks, case.fresh, pool, observer)?;
    let anchors = anchors(case.reference, &seats, &observations);
    for (seat, observation) in seats.iter().zip(&observations) {
        judge.one(seat, observation, &anchors, left_out);
    }
    judge.missing_folders();
    for block in parents.blocks() {
        judge.blocked(&block);
    }
    for moved in parents.moves() {
        judge.moved(&moved);
    }
    if case.scope.is_all() {
        let owned: HashSet<&SystemPath> = taken.keys().collect();
        let (notes, more) = stray::find(case.machine, case.reference, &judge.out.folders, &owned);
        judge.out.notes.extend(notes);
        judge.out.strays = more;
    }
    observer.hear(Event::End);
    Ok(judge.finish(observer))
}

/// One thing to be looked at, and where it is.
struct Seat {
    expected: usize,
    physical: SystemPath,
}

fn in_scope(case: &Case<'_>, expected: &Expected) -> bool {
    let scope = case.scope;
    let path = scope.paths.is_empty() || scope.paths.iter().any(|p| expected.listed.is_within(p));
    let named = |at: usize| scope.components.contains(&case.reference.components[at].component.id.name);
    path && (scope.components.is_empty() || named(expected.component) || expected.also.iter().any(|c| named(*c)))
}

fn task(reference: &Reference, seat: &Seat) -> Task {
    let expected = &reference.expected[seat.expected];
    let look = match &expected.want {
        Want::File { size, .. } => Look::Blake3 { size: *size },
        Want::Recorded(_) => Look::Md5,
        _ => Look::Only,
    };
    let folder = seat.physical.parent().unwrap_or_else(SystemPath::root);
    Task { folder, name: seat.physical.name().to_vec(), look }
}

fn content_sound(expected: &Expected, found: &Found) -> bool {
    match &expected.want {
        Want::File { digest, .. } => found.digest == Some(*digest),
        Want::Recorded(md5) => found.md5 == Some(*md5),
        _ => true,
    }
}

/// For each hard-link group the inode that the most sound names have, and the first of those names.
fn anchors(
    reference: &Reference,
    seats: &[Seat],
    observations: &[Observation],
) -> HashMap<usize, (Identity, SystemPath)> {
    let mut votes: BTreeMap<usize, Vec<(Identity, &SystemPath)>> = BTreeMap::new();
    for (seat, observation) in seats.iter().zip(observations) {
        let expected = &reference.expected[seat.expected];
        if let (Some(group), Observation::There(found)) = (expected.group, observation)
            && found.stat.kind == FileKind::File
            && content_sound(expected, found)
        {
            votes.entry(group).or_default().push((found.stat.id, &seat.physical));
        }
    }
    let mut anchors = HashMap::new();
    for (group, names) in votes {
        let count = |id: &Identity| names.iter().filter(|(i, _)| i == id).count();
        // The first of the most: deterministic, since seats stand in the reference's order.
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

/// A folder that is not there, and what should be below it.
#[derive(Default)]
struct MissingFolder {
    /// Its listed spellings (`/lib/x` and `/usr/lib/x` are one folder).
    listed: BTreeSet<SystemPath>,
    below: u64,
    settings: u64,
    others: u64,
}

struct Judge<'a> {
    case: Case<'a>,
    out: FilesCheck,
    /// Missing folders, by where they should be.
    missing: BTreeMap<SystemPath, MissingFolder>,
    reasons: BTreeMap<String, (u64, Option<SystemPath>)>,
}

impl Judge<'_> {
    fn not_examined(&mut self, reason: String, path: &SystemPath) {
        let entry = self.reasons.entry(reason).or_insert((0, None));
        entry.0 += 1;
        entry.1.get_or_insert_with(|| path.clone());
    }

    /// Where a thing is to be looked at; none when a folder above it already tells its fate.
    fn seat(&mut self, parents: &Parents<'_>, at: usize, expected: &Expected) -> Option<Seat> {
        let listed = &expected.listed;
        let parent = listed.parent()?;
        let place = if expected.want == Want::Folder { parents.place(listed) } else { parents.place(&parent) };
        match place {
            Placement::At(physical) => {
                let (folder, physical) = match expected.want {
                    Want::Folder => (listed.clone(), physical),
                    _ => (parent, physical.child(listed.name()).ok()?),
                };
                let folder_at = if expected.want == Want::Folder { Some(physical.clone()) } else { physical.parent() };
                if let Some(folder_at) = folder_at {
                    self.out.folders.entry(folder).or_insert(folder_at);
                }
                Some(Seat { expected: at, physical })
            }
            Placement::Missing { listed: missing, physical } => {
                let folder = self.missing.entry(physical).or_default();
                if missing != *listed {
                    folder.below += 1;
                    folder.settings += u64::from(expected.settings);
                    folder.others += u64::from(!expected.settings && expected.want != Want::Folder);
                }
                folder.listed.insert(missing);
                self.count(expected);
                None
            }
            Placement::Blocked { .. } => {
                self.count(expected);
                None
            }
            Placement::Outside { why } => {
                self.not_examined(why, listed);
                None
            }
            Placement::Forbidden => {
                self.not_examined("needs root".into(), listed);
                None
            }
            Placement::Unreadable(error) => {
                self.unreadable(at, &SystemPath::root(), None, &error);
                None
            }
        }
    }

    fn count(&mut self, expected: &Expected) {
        self.out.examined += 1;
        *self.out.vouched.entry(expected.voucher).or_default() += 1;
    }

    fn one(
        &mut self,
        seat: &Seat,
        observation: &Observation,
        anchors: &HashMap<usize, (Identity, SystemPath)>,
        left_out: &dyn Fn(&SystemPath) -> bool,
    ) {
        let reference = self.case.reference;
        let expected = &reference.expected[seat.expected];
        match observation {
            Observation::Forbidden => return self.not_examined("needs root".into(), &expected.listed),
            Observation::Absent if left_out(&expected.listed) => return,
            _ => self.count(expected),
        }
        match observation {
            Observation::Absent if expected.settings => self.note(seat.expected, Verdict::SettingsRemoved, None),
            Observation::Absent => {
                let sibling = self.sibling(expected, anchors, None);
                self.fault(seat, Verdict::Missing, vec![], None, sibling, false);
            }
            Observation::Unreadable { stat, error } => self.unreadable(seat.expected, &seat.physical, *stat, error),
            Observation::There(found) => {
                self.out.bytes += scan::read_bytes(found);
                self.there(seat, found, anchors);
            }
            Observation::Forbidden => {}
        }
    }

    fn sibling(
        &self,
        expected: &Expected,
        anchors: &HashMap<usize, (Identity, SystemPath)>,
        own: Option<&SystemPath>,
    ) -> Option<SystemPath> {
        let (_, path) = anchors.get(&expected.group?)?;
        (Some(path) != own).then(|| path.clone())
    }

    fn there(&mut self, seat: &Seat, found: &Found, anchors: &HashMap<usize, (Identity, SystemPath)>) {
        let expected = &self.case.reference.expected[seat.expected];
        let mut verdicts = Vec::new();
        match kind_verdict(expected, found) {
            Some(Verdict::WrongKind) if expected.settings && found.stat.kind == FileKind::Link => {
                return self.note(seat.expected, Verdict::Edited, Some(found));
            }
            Some(verdict) => verdicts.push(verdict),
            None if !content_sound(expected, found) => verdicts.push(Verdict::Altered),
            None => {}
        }
        let kind_right = !verdicts.contains(&Verdict::WrongKind);
        let users = self.case.machine.users();
        let meta = if kind_right { meta::judge(expected, found, users, self.case.policy) } else { MetaVerdict::Sound };
        if expected.settings && kind_right {
            if verdicts.contains(&Verdict::Altered) {
                self.note(seat.expected, Verdict::Edited, Some(found));
            } else if meta == MetaVerdict::Adjusted {
                self.note(seat.expected, Verdict::Adjusted, Some(found));
            }
            return;
        }
        let sound_so_far = verdicts.is_empty();
        if meta == MetaVerdict::Wrong {
            verdicts.push(Verdict::WrongMode);
        }
        if meta == MetaVerdict::Adjusted && sound_so_far {
            self.note(seat.expected, Verdict::Adjusted, Some(found));
        }
        let anchor = expected.group.and_then(|g| anchors.get(&g));
        let cut = sound_so_far && kind_right && anchor.is_some_and(|(id, _)| *id != found.stat.id);
        if cut {
            verdicts.push(Verdict::LinkCut);
        }
        if expected.voucher == Voucher::Itself && matches!(expected.want, Want::Something | Want::Folder) {
            self.out.presence_only += 1;
        }
        let Some((first, also)) = verdicts.split_first() else { return };
        let sibling = self.sibling(expected, anchors, Some(&seat.physical));
        let only_meta = *first == Verdict::WrongMode && also.is_empty() && !found.capabilities;
        self.fault(seat, *first, also.to_vec(), Some(found), sibling, only_meta);
    }

    fn fault(
        &mut self,
        seat: &Seat,
        verdict: Verdict,
        also: Vec<Verdict>,
        found: Option<&Found>,
        sibling: Option<SystemPath>,
        only_meta: bool,
    ) {
        let mut finding = self.describe(seat.expected, verdict, found);
        finding.also = also;
        if let (Verdict::WrongKind, Some(found)) = (verdict, found) {
            let should = finding.expected.as_ref().and_then(|s| s.kind).map_or("something else", FileKind::word);
            finding.cause = Some(format!("a {} stands where a {should} belongs", found.stat.kind.word()));
        }
        let fault = Fault {
            finding: self.out.findings.len(),
            expected: seat.expected,
            physical: seat.physical.clone(),
            found: found.map(|f| f.stat),
            sibling,
            only_meta,
            roots: Vec::new(),
            alias: None,
        };
        self.out.findings.push(finding);
        self.out.faults.push(fault);
    }

    fn note(&mut self, expected: usize, verdict: Verdict, found: Option<&Found>) {
        let note = self.describe(expected, verdict, found);
        self.out.notes.push(note);
    }

    fn unreadable(&mut self, at: usize, physical: &SystemPath, stat: Option<Stat>, error: &str) {
        let mut finding = self.describe(at, Verdict::Unreadable, None);
        finding.cause = Some(format!("reading gives an error: {error}"));
        finding.advice = Some("Bring the users' files to safety first, then test the disk.".into());
        finding.found = stat.map(|s| stat_state(&s, self.case.machine));
        let fault = Fault {
            finding: self.out.findings.len(),
            expected: at,
            physical: physical.clone(),
            found: stat,
            sibling: None,
            only_meta: false,
            roots: Vec::new(),
            alias: None,
        };
        self.out.findings.push(finding);
        self.out.faults.push(fault);
    }

    fn describe(&self, at: usize, verdict: Verdict, found: Option<&Found>) -> Finding {
        let expected = &self.case.reference.expected[at];
        let mut finding = Finding::on_path(Area::Files, &expected.listed, verdict);
        finding.component = Some(self.case.reference.component_of(expected).clone());
        finding.vouched_by = Some(expected.voucher);
        finding.expected = Some(expected_state(self.case.reference, expected, self.case.machine));
        finding.found = found.map(|f| found_state(f, self.case.machine));
        finding
    }

    fn missing_folders(&mut self) {
        for (physical, folder) in std::mem::take(&mut self.missing) {
            let reference = self.case.reference;
            let named = folder.listed.iter().filter(|l| reference.at(l).is_some());
            let Some(listed) = named.min_by_key(|l| (**l != physical, (*l).clone())) else { continue };
            let Some(at) = reference.at(listed) else { continue };
            // Where a component ships a link, the link's own finding tells of it.
            if matches!(reference.expected[at].want, Want::Link(_)) {
                continue;
            }
            // Settings that an administrator removed with their folder are as deliberate as one removed alone.
            if folder.settings > 0 && folder.others == 0 {
                self.note(at, Verdict::SettingsRemoved, None);
                continue;
            }
            let mut finding = self.describe(at, Verdict::Missing, None);
            if folder.below > 0 {
                finding.cause =
                    Some(format!("the whole folder is missing, with {} things that belong in it", folder.below));
            }
            self.push_folder(finding, at, physical, None, folder.listed.into_iter().collect());
        }
    }

    fn blocked(&mut self, block: &Block) {
        let Some(at) = self.case.reference.at(&block.listed) else { return };
        // Where a component ships a link, the link's own finding tells of it.
        if matches!(self.case.reference.expected[at].want, Want::Link(_)) {
            return;
        }
        let mut finding = self.describe(at, Verdict::WrongKind, None);
        finding.cause = Some(block.why.clone());
        let mut state = stat_state(&block.stat, self.case.machine);
        state.target = block.target.as_deref().map(crate::model::readable);
        finding.found = Some(state);
        self.push_folder(finding, at, block.physical.clone(), Some(block.stat), vec![block.listed.clone()]);
    }

    fn push_folder(
        &mut self,
        finding: Finding,
        expected: usize,
        physical: SystemPath,
        found: Option<Stat>,
        roots: Vec<SystemPath>,
    ) {
        let alias = self.merged_alias(&physical);
        let mut finding = finding;
        if let Some(target) = &alias {
            let should = finding.expected.get_or_insert_with(State::default);
            (should.kind, should.mode, should.target) =
                (Some(FileKind::Link), None, Some(crate::model::readable(target)));
        }
        let fault = Fault {
            finding: self.out.findings.len(),
            expected,
            physical,
            found,
            sibling: None,
            only_meta: false,
            roots,
            alias,
        };
        self.out.findings.push(finding);
        self.out.faults.push(fault);
    }

    /// Where a top-level folder leads on a merged system; none where it is a folder of its own.
    fn merged_alias(&self, physical: &SystemPath) -> Option<Vec<u8>> {
        let machine = self.case.machine;
        let target = alias_target(physical.as_bytes())?;
        let folder = SystemPath::below_root(&target).ok()?;
        let there = machine.look(&folder).ok().flatten().is_some_and(|s| s.kind == FileKind::Folder);
        let top = machine.dir(&SystemPath::root()).ok()?;
        // Merged, when any of the other aliases is such a link.
        let merged = ALIASES.iter().any(|alias| {
            let link = top.disk().read_link(top.fd(), alias.as_bytes());
            link.is_ok_and(|t| explained_links(format!("/{alias}").as_bytes(), &t))
        });
        (there && merged).then_some(target)
    }

    fn moved(&mut self, moved: &Move) {
        let mut note = match self.case.reference.at(&moved.listed) {
            Some(at) => self.describe(at, Verdict::Moved, None),
            None => Finding::on_path(Area::Files, &moved.listed, Verdict::Moved),
        };
        let mut state = stat_state(&moved.stat, self.case.machine);
        state.target = Some(moved.to.to_string());
        note.found = Some(state);
        self.out.notes.push(note);
    }

    /// Puts findings in order, gravest first, and the faults with them.
    fn finish(mut self, observer: &dyn Observer) -> FilesCheck {
        let mut order: Vec<usize> = (0..self.out.findings.len()).collect();
        order.sort_by(|a, b| {
            let key = |i: &usize| (self.out.findings[*i].verdict, &self.out.findings[*i].subject);
            key(a).cmp(&key(b))
        });
        let mut new_place = vec![0; order.len()];
        for (new, old) in order.iter().enumerate() {
            new_place[*old] = new;
        }
        self.out.findings = order.iter().map(|i| self.out.findings[*i].clone()).collect();
        for fault in &mut self.out.faults {
            fault.finding = new_place[fault.finding];
        }
        self.out.faults.sort_by_key(|f| f.finding);
        self.out.notes.sort_by(|a, b| (a.verdict, &a.subject).cmp(&(b.verdict, &b.subject)));
        for finding in &self.out.findings {
            observer.hear(Event::Found(finding));
        }
        let reference = self.case.reference;
        let mut unexamined: Vec<Unexamined> =
            self.reasons.into_iter().map(|(reason, (count, example))| Unexamined { reason, count, example }).collect();
        if self.case.scope.paths.is_empty() {
            for (id, why) in &reference.unknown {
                if self.case.scope.components.is_empty() || self.case.scope.components.contains(&id.name) {
                    unexamined.push(Unexamined {
                        reason: format!("component {}: {why}", id.name),
                        count: 1,
                        example: None,
                    });
                }
            }
        }
        self.out.unexamined = unexamined;
        self.out
    }
}

/// What is wrong with the kind, or with a link's target or a device's number.
fn kind_verdict(expected: &Expected, found: &Found) -> Option<Verdict> {
    let kind = found.stat.kind;
    let right = match &expected.want {
        Want::File { .. } | Want::Recorded(_) => kind == FileKind::File,
        Want::Something => true,
        Want::Folder => kind == FileKind::Folder,
        Want::Link(_) => kind == FileKind::Link,
        Want::Fifo => kind == FileKind::Pipe,
        Want::Device { major, minor, .. } => {
            kind == FileKind::Device && found.stat.rdev == rustix::fs::makedev(*major, *minor)
        }
    };
    if !right {
        return Some(Verdict::WrongKind);
    }
    match &expected.want {
        Want::Link(target) if found.target.as_ref() != Some(target) => Some(Verdict::Relinked),
        _ => None,
    }
}

fn stat_state(stat: &Stat, machine: &Machine) -> State {
    State {
        kind: Some(stat.kind),
        size: (stat.kind == FileKind::File).then_some(stat.size),
        mode: (stat.kind != FileKind::Link).then(|| format!("{:04o}", stat.mode)),
        owner: Some(machine.users().owner_text(stat.uid, stat.gid)),
        modified: jiff::Timestamp::new(stat.mtime.s, i32::try_from(stat.mtime.n).unwrap_or(0))
            .ok()
            .map(|t| t.to_string()),
        ..State::default()
    }
}

fn found_state(found: &Found, machine: &Machine) -> State {
    State {
        blake3: found.digest,
        target: found.target.as_deref().map(crate::model::readable),
        capabilities: found.capabilities,
        ..stat_state(&found.stat, machine)
    }
}

/// How an expected thing should be, for people and for JSON.
#[must_use]
pub fn expected_state(reference: &Reference, expected: &Expected, machine: &Machine) -> State {
    let meta = expected.overridden.or(expected.meta);
    let is_link = matches!(expected.want, Want::Link(_));
    let kind = match expected.want {
        Want::File { .. } | Want::Recorded(_) => Some(FileKind::File),
        Want::Something => None,
        Want::Folder => Some(FileKind::Folder),
        Want::Link(_) => Some(FileKind::Link),
        Want::Fifo => Some(FileKind::Pipe),
        Want::Device { .. } => Some(FileKind::Device),
    };
    let names = expected.group.map(|g| &reference.groups[g].members).into_iter().flatten();
    State {
        kind,
        size: if let Want::File { size, .. } = expected.want { Some(size) } else { None },
        blake3: if let Want::File { digest, .. } = expected.want { Some(digest) } else { None },
        mode: meta.filter(|_| !is_link).map(|m| format!("{:04o}", m.mode)),
        owner: meta.map(|m| machine.users().owner_text(m.uid, m.gid)),
        target: if let Want::Link(target) = &expected.want { Some(crate::model::readable(target)) } else { None },
        modified: meta
            .filter(|m| m.mtime != 0)
            .and_then(|m| jiff::Timestamp::from_second(m.mtime).ok())
            .map(|t| t.to_string()),
        same_file_as: names
            .map(|m| &reference.expected[*m].listed)
            .filter(|p| **p != expected.listed)
            .cloned()
            .collect(),
        capabilities: false,
    }
}
