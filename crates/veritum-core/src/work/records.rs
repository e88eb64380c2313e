//! The area `records`: looking at the package database, and putting it right before any file is judged by it.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::io;
use std::time::{Duration, Instant};

use super::supplies::Supplies;
use super::{Engine, Gathered, WorkError};
use crate::areas::records::{
    RecordContent, RecordFault, RecordFix, Unknown, judge_alternatives, judge_status, judge_tables,
};
use crate::areas::records::{RecordPlan, RecordRules, plan_records};
use crate::change::{ChangeContext, OpenChange, RoundReceipt, Verb};
use crate::model::{
    Area, Authority, ComponentId, Digest, FileKind, Finding, FindingId, Scope, Subject, SystemPath, Verdict,
};
use crate::platform::debian::{Debian, in_database};
use crate::reference::{ExpectedKind, Reference};
use crate::report::{AreaReport, Outcome, UnexaminedReport};
use crate::store::{Contents, StoreError};

/// Diverted files over this size are not read only to see whether they are what they seem to be.
const MAX_DIVERTED: u64 = 256 << 20;

/// What came of the package database.
#[derive(Debug)]
pub(super) struct RecordsPart {
    pub(super) findings: Vec<Finding>,
    pub(super) planned: RecordPlan,
    pub(super) area: AreaReport,
    pub(super) unexamined: Vec<UnexaminedReport>,
}

impl RecordsPart {
    /// What its actions are carried out with.
    pub(super) fn contents<'a>(&'a self, engine: &'a Engine) -> Made<'a> {
        Made { made: &self.planned.made, then: engine.contents() }
    }
}

impl Engine {
    /// Components something is wrong with the records of, and of which only their package could tell what.
    pub(super) fn weak_by_records(&self, gathered: &Gathered) -> Vec<ComponentId> {
        let wants = |f: &&RecordFault| f.fix.as_ref().is_err_and(|u| u.package_helps);
        let ids: BTreeSet<&ComponentId> =
            gathered.record_faults.iter().filter(wants).filter_map(|f| f.finding.component.as_ref()).collect();
        ids.into_iter().cloned().collect()
    }

    /// Judges the package database by a reference that was gathered with its records: all of it, or what of it concerns
    /// the components and paths that were named.
    pub(super) fn records(&self, gathered: &Gathered, scope: &Scope, spent: Duration) -> RecordsPart {
        let begun = Instant::now();
        let Gathered { reference, record_faults } = gathered;
        let holds = |place: &SystemPath, path: &SystemPath| self.holds(reference, place, path);
        let mut faults = judge_status(&self.database, &self.installed);
        // The table as a whole is told once, not for each entry that it lost.
        let lost: HashSet<String> = self
            .database
            .recovered
            .iter()
            .map(|r| r.stanza.key())
            .map(|(name, arch)| format!("{name}:{arch}"))
            .collect();
        let is_whole = |f: &RecordFault| matches!(&f.finding.subject, Subject::Record { entry: None, .. });
        let whole = faults.iter().any(|f| matches!(f.fix, Ok(RecordFix::Status)) && is_whole(f));
        faults.extend(self.contradicted().into_iter().map(|(id, version)| contradiction(id, &version)));
        faults.extend(record_faults.iter().cloned());
        faults.extend(judge_tables(&self.machine, &self.database, &self.installed, record_faults, &holds));
        faults.extend(judge_alternatives(&self.machine, &self.database, record_faults));
        faults.retain(|f| concerns(scope, &f.finding));
        self.find_members(&mut faults);
        for fault in &mut faults {
            self.name_the_kind(&mut fault.finding);
        }
        let rules = RecordRules {
            protection: &self.protection,
            place: &|path| self.place_of_file(path),
            owner: self.settings.policy.owner_of_root.unwrap_or((0, 0)),
            mtime: self.settings.now.as_second(),
            despite_disk: self.settings.despite_disk,
        };
        let mut planned = plan_records(&mut faults, &self.database, &rules);
        let is_part = |finding: &Finding| match &finding.subject {
            Subject::Record { entry: Some(entry), .. } => {
                finding.cause.as_deref() == Some("its entry is lost") && lost.contains(entry)
            }
            _ => false,
        };
        if whole {
            let hidden: HashSet<_> =
                faults.iter().map(|f| &f.finding).filter(|f| is_part(f)).map(|f| f.id.clone()).collect();
            planned.plan.actions.iter_mut().for_each(|a| a.findings.retain(|id| !hidden.contains(id)));
            faults.retain(|f| !hidden.contains(&f.finding.id));
        }
        let mut findings: Vec<Finding> = faults.into_iter().map(|f| f.finding).collect();
        findings.sort_by(|a, b| {
            (a.verdict, a.subject.as_path(), &a.subject.to_string()).cmp(&(
                b.verdict,
                b.subject.as_path(),
                &b.subject.to_string(),
            ))
        });
        findings.dedup_by(|a, b| a.id == b.id);
        let area = self.records_area(reference, &findings, spent + begun.elapsed());
        let unexamined = self.records_unexamined(reference);
        RecordsPart { findings, planned, area, unexamined }
    }

    fn records_area(&self, reference: &Reference, findings: &[Finding], spent: Duration) -> AreaReport {
        let vouched: BTreeMap<Authority, u64> = reference.records_vouched.clone();
        let problems = findings.len() as u64;
        let weak = vouched.contains_key(&Authority::SelfReported);
        let outcome = match (problems, weak) {
            (1.., _) => Outcome::Problems,
            (0, true) => Outcome::SoundAsKnown,
            (0, false) => Outcome::Sound,
        };
        AreaReport {
            area: Area::Records,
            outcome,
            examined: vouched.values().sum(),
            bytes: 0,
            seconds: spent.as_secs_f64(),
            problems,
            repairable: findings.iter().filter(|f| f.remedy.is_some()).count() as u64,
            vouched,
            presence_only: 0,
            extent: None,
        }
    }

    fn records_unexamined(&self, reference: &Reference) -> Vec<UnexaminedReport> {
        let count = self.database.lost.len() as u64;
        let reason = "components of which no record says the version: their files are not examined".to_owned();
        let lost = (count > 0).then_some(UnexaminedReport { area: Area::Records, reason, count, example: None });
        let count = reference.bad_records.len() as u64;
        let reason = "the store's own copy of what records should be is damaged: veritum check store".to_owned();
        let bad = (count > 0).then_some(UnexaminedReport { area: Area::Records, reason, count, example: None });
        lost.into_iter().chain(bad).collect()
    }

    /// Members that no store has come from packages at hand, or not at all.
    fn find_members(&self, faults: &mut [RecordFault]) {
        let mut packages: HashMap<ComponentId, Option<BTreeMap<String, Vec<u8>>>> = HashMap::new();
        for fault in faults {
            let (Ok(RecordFix::Write { content, .. }), Some(id)) = (&mut fault.fix, &fault.finding.component) else {
                continue;
            };
            let RecordContent::Member { name, digest, .. } = content else { continue };
            if self.in_a_store(digest) {
                continue;
            }
            let members = packages
                .entry(id.clone())
                .or_insert_with(|| self.open_archive(|archive| archive.members(&self.machine, id)).flatten());
            match members.as_ref().and_then(|m| m.get(name)).filter(|bytes| Digest::of(bytes) == *digest) {
                Some(bytes) => *content = RecordContent::Bytes(bytes.clone()),
                None => {
                    let reason = "neither a store nor a package at hand has it".to_owned();
                    let next = Some("give a place that has its package: --from PATH".to_owned());
                    fault.fix = Err(Unknown { reason, next, package_helps: true });
                }
            }
        }
    }

    /// What is no file is not read: that is no fault of the medium's.
    fn name_the_kind(&self, finding: &mut Finding) {
        let stat = finding.subject.as_path().and_then(|path| self.place_of_file(path)?.1);
        if finding.verdict == Verdict::Unreadable && stat.is_some_and(|s| s.kind != FileKind::File) {
            let cause = finding.cause.as_deref().and_then(|cause| Some(cause.split_once("; ")?.1.to_owned()));
            finding.id = FindingId::of(finding.area, &finding.subject, Verdict::WrongKind);
            (finding.verdict, finding.cause) = (Verdict::WrongKind, cause);
        }
    }

    /// Where a file really lies, and what stands there.
    pub(super) fn place_of_file(&self, path: &SystemPath) -> Option<(SystemPath, Option<crate::model::Stat>)> {
        let parent = self.machine.resolve(&path.parent()?).ok()?;
        let place = parent.child(path.name()).ok()?;
        let dir = self.machine.dir(&parent).ok()?;
        Some((place, dir.look(path.name()).ok()?))
    }

    /// Whether a place holds exactly the content that belongs at a listed path.
    fn holds(&self, reference: &Reference, place: &SystemPath, path: &SystemPath) -> bool {
        let Some(expected) = reference.at(path).map(|at| &reference.expected[at]) else { return false };
        let Ok(Some(bytes)) = self.machine.read_up_to(place, MAX_DIVERTED) else { return false };
        match &expected.kind {
            ExpectedKind::File { digest, .. } => Digest::of(&bytes) == *digest,
            ExpectedKind::Recorded(md5) => crate::model::Md5::of(&bytes) == *md5,
            _ => false,
        }
    }

    /// Carries out what was planned for the records, as a change of its own.
    pub(super) fn change_records(
        &self,
        context: ChangeContext<'_>,
        part: &RecordsPart,
    ) -> Result<(u64, RoundReceipt), WorkError> {
        let contents = part.contents(self);
        let mut change =
            OpenChange::begin(context, Verb::Repair, Area::Records, None, &self.settings.run, self.settings.now)?;
        let number = change.number();
        let receipt = match change.round(part.planned.plan.actions.clone(), &contents) {
            Ok(receipt) => receipt,
            Err(e) => {
                if !matches!(e, crate::change::ChangeError::Unfinished { .. }) {
                    change.end(0, part.area.problems, self.settings.now)?;
                }
                return Err(e.into());
            }
        };
        let failed: HashSet<u32> = receipt.outcomes.iter().filter(|o| o.failed.is_some()).map(|o| o.index).collect();
        let done = receipt.actions.iter().filter(|a| !failed.contains(&a.index));
        let answered: u64 = done.map(|a| a.findings.len() as u64).sum();
        change.end(answered, part.area.problems.saturating_sub(answered), self.settings.now)?;
        Ok((number, receipt))
    }

    /// Reads anew what is installed, after its records were put right.
    pub(super) fn read_again(&mut self) -> Result<(), WorkError> {
        (self.installed, self.database) = Debian::read(&self.machine)?;
        self.identify();
        self.find_forgotten();
        Ok(())
    }
}

/// That the package log and a changelog name another version than an entry.
fn contradiction(id: ComponentId, version: &str) -> RecordFault {
    let entry = format!("{}:{}", id.name, id.arch);
    let subject = Subject::Record { path: in_database("status"), entry: Some(entry) };
    let mut finding = Finding::on(Area::Records, subject, Verdict::AtOdds);
    finding.cause = Some(format!(
        "its entry says version {}, and the package log and its changelog say {version}: nothing at hand knows that one",
        id.version
    ));
    let next = format!("apt-get install --reinstall {}", id.name);
    finding.component = Some(id);
    let unknown =
        Unknown { reason: "no package at hand tells which is right".into(), next: Some(next), package_helps: false };
    RecordFault { finding, fix: Err(unknown) }
}

/// Whether a finding is about what was named.
fn concerns(scope: &Scope, finding: &Finding) -> bool {
    let of_component = || finding.component.as_ref().is_some_and(|id| scope.components.contains(&id.name));
    let at_path = || finding.subject.as_path().is_some_and(|path| scope.paths.iter().any(|p| path.is_within(p)));
    scope.is_all() || of_component() || at_path()
}

/// Contents that were put together here, and all other supplies after them.
pub(super) struct Made<'a> {
    made: &'a HashMap<Digest, Vec<u8>>,
    then: Supplies<'a>,
}

impl Contents for Made<'_> {
    fn copy(&self, digest: &Digest, size: u64, to: &mut dyn FnMut(&[u8]) -> io::Result<()>) -> Result<(), StoreError> {
        match self.made.get(digest) {
            Some(bytes) => to(bytes).map_err(|source| StoreError::File { path: "status".into(), source }),
            None => self.then.copy(digest, size, to),
        }
    }

    fn has_content(&self, digest: &Digest) -> bool {
        self.made.contains_key(digest) || self.then.has_content(digest)
    }
}
