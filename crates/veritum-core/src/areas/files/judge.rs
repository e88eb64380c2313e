//! Judges one entry at a time, and the folders that decide about everything below them.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use super::FILES;
use super::case::{Case, Fault, FilesCheck, Location, Unexamined, content_sound};
use super::folders::{Block, Move, Parents, Placement, merged_alias};
use super::meta::{self, MetaVerdict};
use super::states::{expected_state, found_state, stat_state};
use crate::event::{Event, Observer};
use crate::model::{Authority, FileKind, Finding, Identity, Stat, State, SystemPath, Verdict};
use crate::reference::{Expected, ExpectedKind};
use crate::scan::{self, Found, Observation};

/// A missing folder, and what should be below it.
#[derive(Default)]
struct MissingFolder {
    /// Its listed spellings (`/lib/x` and `/usr/lib/x` are the same folder).
    listed: BTreeSet<SystemPath>,
    /// Whether anything is expected there: not if the administrator excluded all of it.
    wanted: bool,
    below: u64,
    settings: u64,
    others: u64,
}

/// Judges entries and collects the results.
pub(super) struct Judge<'a> {
    pub(super) case: Case<'a>,
    pub(super) out: FilesCheck,
    /// Missing folders, by their expected place.
    missing: BTreeMap<SystemPath, MissingFolder>,
    reasons: BTreeMap<String, (u64, Option<SystemPath>)>,
    /// Whether the tool that sets capabilities is installed: without it no script could.
    may_have_capabilities: bool,
}

impl<'a> Judge<'a> {
    pub(super) fn new(case: Case<'a>) -> Self {
        let places = ["/sbin/setcap", "/usr/sbin/setcap"].map(SystemPath::literal);
        Self {
            case,
            out: FilesCheck::default(),
            missing: BTreeMap::new(),
            reasons: BTreeMap::new(),
            may_have_capabilities: places.iter().any(|place| case.machine.resolve(place).is_ok()),
        }
    }

    fn not_examined(&mut self, reason: String, path: &SystemPath) {
        let entry = self.reasons.entry(reason).or_insert((0, None));
        entry.0 += 1;
        entry.1.get_or_insert_with(|| path.clone());
    }

    /// The place of an entry; `None` when a folder above it already decides.
    pub(super) fn location(&mut self, parents: &Parents<'_>, at: usize, expected: &Expected) -> Option<Location> {
        let listed = &expected.listed;
        let parent = listed.parent()?;
        let is_folder = expected.kind == ExpectedKind::Folder;
        match parents.place(if is_folder { listed } else { &parent }) {
            Placement::At(physical) if is_folder => {
                self.out.folders.entry(listed.clone()).or_insert_with(|| physical.clone());
                let folder = physical.parent().unwrap_or_else(SystemPath::root);
                Some(Location { expected: at, physical, folder })
            }
            Placement::At(folder) => {
                self.out.folders.entry(parent).or_insert_with(|| folder.clone());
                Some(Location { expected: at, physical: folder.child(listed.name()).ok()?, folder })
            }
            Placement::Missing { listed: missing, physical } => {
                let folder = self.missing.entry(physical).or_default();
                let above = missing != *listed;
                folder.listed.insert(missing);
                if (self.case.left_out)(listed) {
                    return None;
                }
                folder.wanted = true;
                if above {
                    folder.below += 1;
                    folder.settings += u64::from(expected.settings);
                    folder.others += u64::from(!expected.settings && expected.kind != ExpectedKind::Folder);
                }
                self.count(expected);
                None
            }
            Placement::Blocked { .. } => {
                self.count(expected);
                None
            }
            Placement::Outside { why, elsewhere } => {
                self.out.elsewhere += u64::from(elsewhere);
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
        *self.out.verified_by.entry(expected.authority).or_default() += 1;
    }

    pub(super) fn judge(
        &mut self,
        location: &Location,
        observation: &Observation,
        anchors: &HashMap<u32, (Identity, SystemPath)>,
    ) {
        let reference = self.case.reference;
        let expected = &reference.expected[location.expected];
        match observation {
            Observation::Forbidden => return self.not_examined("needs root".into(), &expected.listed),
            Observation::NotReached => {
                self.out.not_reached += 1;
                return self.not_examined("stopped before this was checked".into(), &expected.listed);
            }
            Observation::Absent if (self.case.left_out)(&expected.listed) => return,
            _ => self.count(expected),
        }
        match observation {
            Observation::Absent if expected.settings => self.note(location.expected, Verdict::ConfigRemoved, None),
            Observation::Absent => {
                let sibling = self.sibling(expected, anchors, None);
                self.fault(location, Verdict::Missing, vec![], None, sibling, false);
            }
            Observation::Unreadable(failure) => {
                self.unreadable(location.expected, &location.physical, failure.stat, &failure.error);
            }
            Observation::There(found) => {
                self.out.bytes += scan::read_bytes(found);
                self.there(location, found, anchors);
            }
            Observation::Forbidden | Observation::NotReached => {}
        }
    }

    fn sibling(
        &self,
        expected: &Expected,
        anchors: &HashMap<u32, (Identity, SystemPath)>,
        own: Option<&SystemPath>,
    ) -> Option<SystemPath> {
        let (_, path) = anchors.get(&expected.group?)?;
        (Some(path) != own).then(|| path.clone())
    }

    fn there(&mut self, location: &Location, found: &Found, anchors: &HashMap<u32, (Identity, SystemPath)>) {
        let expected = &self.case.reference.expected[location.expected];
        let mut verdicts = Vec::new();
        match kind_verdict(expected, found) {
            Some(Verdict::WrongType) if expected.settings && found.stat.kind == FileKind::Link => {
                return self.note(location.expected, Verdict::ConfigModified, Some(found));
            }
            Some(verdict) => verdicts.push(verdict),
            None if !content_sound(expected, found) => verdicts.push(Verdict::Altered),
            None => {}
        }
        let kind_right = !verdicts.contains(&Verdict::WrongType);
        let users = self.case.machine.users();
        let meta = if kind_right { meta::judge(expected, found, users, self.case.policy) } else { MetaVerdict::Sound };
        if expected.settings && kind_right {
            if verdicts.contains(&Verdict::Altered) {
                self.note(location.expected, Verdict::ConfigModified, Some(found));
            } else if meta == MetaVerdict::Adjusted {
                self.note(location.expected, Verdict::PermissionsCustomised, Some(found));
            }
            return;
        }
        let sound_so_far = verdicts.is_empty();
        let lost = self.may_have_capabilities && meta::lost_capabilities(expected, found);
        if meta == MetaVerdict::Wrong || lost {
            verdicts.extend(meta::differences(expected, found, self.case.policy, lost));
        }
        if meta == MetaVerdict::Adjusted && sound_so_far {
            self.note(location.expected, Verdict::PermissionsCustomised, Some(found));
        }
        let anchor = expected.group.and_then(|g| anchors.get(&g));
        let cut = sound_so_far && kind_right && anchor.is_some_and(|(id, _)| *id != found.stat.id);
        if cut {
            verdicts.push(Verdict::HardlinkSplit);
        }
        if expected.authority == Authority::Local
            && matches!(expected.kind, ExpectedKind::Something | ExpectedKind::Folder)
        {
            self.out.presence_only += 1;
        }
        let Some((first, also)) = verdicts.split_first() else { return };
        let sibling = self.sibling(expected, anchors, Some(&location.physical));
        let of_meta = |verdict: &Verdict| matches!(verdict, Verdict::WrongOwner | Verdict::WrongPermissions);
        let only_meta = verdicts.iter().all(of_meta) && !found.capabilities;
        self.fault(location, *first, also.to_vec(), Some(found), sibling, only_meta);
        if lost && let (Some(finding), Some(fault)) = (self.out.findings.last_mut(), self.out.faults.last_mut()) {
            finding.cause.get_or_insert_with(|| "the file capabilities set by its package are missing".into());
            fault.lost_capabilities = only_meta && meta != MetaVerdict::Wrong;
        }
    }

    fn fault(
        &mut self,
        location: &Location,
        verdict: Verdict,
        also: Vec<Verdict>,
        found: Option<&Found>,
        sibling: Option<SystemPath>,
        only_meta: bool,
    ) {
        let mut finding = self.describe(location.expected, verdict, found);
        finding.also = also;
        if let (Verdict::WrongType, Some(found)) = (verdict, found) {
            let should = finding.expected.as_ref().and_then(|s| s.kind).map_or("something else", FileKind::word);
            finding.cause = Some(format!("a {} is in place of a {should}", found.stat.kind.word()));
        }
        let fault = Fault {
            finding: self.out.findings.len(),
            expected: location.expected,
            physical: location.physical.clone(),
            found: found.map(|f| f.stat),
            sibling,
            only_meta,
            lost_capabilities: false,
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
        finding.cause = Some(format!("read error: {error}"));
        finding.action = Some("back up the users' files first, then test the disk".into());
        finding.found = stat.map(|s| stat_state(&s, self.case.machine));
        let fault = Fault {
            finding: self.out.findings.len(),
            expected: at,
            physical: physical.clone(),
            found: stat,
            sibling: None,
            only_meta: false,
            lost_capabilities: false,
            roots: Vec::new(),
            alias: None,
        };
        self.out.findings.push(finding);
        self.out.faults.push(fault);
    }

    fn describe(&self, at: usize, verdict: Verdict, found: Option<&Found>) -> Finding {
        let expected = &self.case.reference.expected[at];
        let mut finding = Finding::on_path(FILES, &expected.listed, verdict);
        finding.package = Some(self.case.reference.package_of(expected).clone());
        finding.verified_by = Some(expected.authority);
        finding.expected = Some(expected_state(self.case.reference, expected, self.case.machine));
        finding.found = found.map(|f| found_state(f, self.case.machine));
        finding
    }

    pub(super) fn missing_folders(&mut self) {
        let missing = std::mem::take(&mut self.missing);
        for (physical, folder) in missing.into_iter().filter(|(_, folder)| folder.wanted) {
            let reference = self.case.reference;
            let named = folder.listed.iter().filter(|l| reference.at(l).is_some());
            let Some(listed) = named.min_by_key(|l| (**l != physical, (*l).clone())) else { continue };
            let Some(at) = reference.at(listed) else { continue };
            // Where a package ships a symlink, the symlink's own finding reports it.
            if matches!(reference.expected[at].kind, ExpectedKind::Link(_)) {
                continue;
            }
            // Configuration files removed with their folder are as deliberate as one removed alone.
            if folder.settings > 0 && folder.others == 0 {
                self.note(at, Verdict::ConfigRemoved, None);
                continue;
            }
            let mut finding = self.describe(at, Verdict::Missing, None);
            if folder.below > 0 {
                finding.cause = Some(format!("the whole folder is missing, with {} entries", folder.below));
            }
            self.push_folder(finding, at, physical, None, folder.listed.into_iter().collect());
        }
    }

    pub(super) fn blocked(&mut self, block: &Block) {
        let Some(at) = self.case.reference.at(&block.listed) else { return };
        // Where a package ships a symlink, the symlink's own finding reports it.
        if matches!(self.case.reference.expected[at].kind, ExpectedKind::Link(_)) {
            return;
        }
        let mut finding = self.describe(at, Verdict::WrongType, None);
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
        let alias = merged_alias(self.case.machine, &physical);
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
            lost_capabilities: false,
            roots,
            alias,
        };
        self.out.findings.push(finding);
        self.out.faults.push(fault);
    }

    pub(super) fn moved(&mut self, moved: &Move) {
        let mut note = match self.case.reference.at(&moved.listed) {
            Some(at) => self.describe(at, Verdict::Moved, None),
            None => Finding::on_path(FILES, &moved.listed, Verdict::Moved),
        };
        let mut state = stat_state(&moved.stat, self.case.machine);
        state.target = Some(moved.to.to_string());
        note.found = Some(state);
        self.out.notes.push(note);
    }

    /// Sorts findings, most serious first, and the faults with them.
    pub(super) fn finish(mut self, observer: &dyn Observer) -> FilesCheck {
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
            observer.on_event(Event::Found(finding));
        }
        let reference = self.case.reference;
        let mut unexamined: Vec<Unexamined> =
            self.reasons.into_iter().map(|(reason, (count, example))| Unexamined { reason, count, example }).collect();
        if self.case.scope.paths.is_empty() {
            for (id, why) in &reference.unknown {
                if self.case.scope.packages.is_empty() || self.case.scope.packages.contains(&id.name) {
                    unexamined.push(Unexamined {
                        reason: format!("package {}: {why}", id.name),
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

/// What is wrong with the type, a symlink's target or a device's number.
fn kind_verdict(expected: &Expected, found: &Found) -> Option<Verdict> {
    let kind = found.stat.kind;
    let right = match &expected.kind {
        ExpectedKind::File { .. } | ExpectedKind::Recorded(_) => kind == FileKind::File,
        ExpectedKind::Something => true,
        ExpectedKind::Folder => kind == FileKind::Folder,
        ExpectedKind::Link(_) => kind == FileKind::Link,
        ExpectedKind::Fifo => kind == FileKind::Pipe,
        ExpectedKind::Device { major, minor, .. } => {
            kind == FileKind::Device && found.stat.rdev == rustix::fs::makedev(*major, *minor)
        }
    };
    if !right {
        return Some(Verdict::WrongType);
    }
    match &expected.kind {
        ExpectedKind::Link(target) if found.target.as_deref() != Some(target) => Some(Verdict::WrongTarget),
        _ => None,
    }
}
