//! The area `updates`: everything that can block updates, each with its cause.

mod caches;
mod check;
mod downloads;
mod history;
mod holders;
mod installs;
mod lists;
mod locks;
mod plan;
mod proof;
mod repositories;
mod services;
mod settings;
mod steps;

pub(crate) use caches::binary_caches;
pub(crate) use check::{UpdatesPart, look};
pub(crate) use downloads::{Offers, begun_lists, downloaded, downloads, escaping_links, folders};
pub(crate) use history::{TERM, TERM_TAIL, history, last_success};
pub(crate) use holders::services_in_the_way;
pub(crate) use installs::{installs, restart_note};
pub(crate) use lists::{Clock, lists, sources};
pub(crate) use locks::{Watched, locks};
pub use plan::{Aside, Coming, UpdateRules, leave_the_rest, plan_room, plan_updates};
pub(crate) use repositories::{advice, fetch_advice, repositories};
pub(crate) use services::services;
pub(crate) use settings::{in_words, needed_room, room, settings};

use std::borrow::Cow;
use std::collections::{BTreeMap, HashMap};

use super::{About, Area, Checked, Cx, Examined, Step, USERS_FOLDERS};
use crate::plan::Left;
use crate::platform::Platform as _;
use crate::platform::debian::Debian;
use crate::report::ProofReport;
use crate::system::WorkError;

use crate::model::{
    Action, ActionKind, AreaName, Authority, Finding, FindingId, PackageId, Remedy, Subject, SystemPath, Verdict,
};

/// The area's name.
pub const UPDATES: AreaName = AreaName::new("updates");

/// Whether a problem keeps updates from being downloaded or installed. The other problems of the area do not: apt downloads a
/// truncated package again, a service that failed can be started by hand, a setting lowers protection only, and the
/// failure of the last run is history.
#[must_use]
pub fn blocks_updates(finding: &Finding) -> bool {
    let harmless = [Verdict::Truncated, Verdict::Failed, Verdict::InsecureSetting, Verdict::LastRunFailed]
        .contains(&finding.verdict);
    finding.area == UPDATES && finding.verdict.is_problem() && !harmless
}

/// The area `updates`.
pub struct Updates;

static ABOUT: About = About {
    name: UPDATES,
    help: "anything that blocks updates: downloads, package lists, sources, locks, half-done installs",
    by_default: false,
    only_when_named: &["repositories"],
    unit: ("item", "items"),
    selector: None,
    heading: |finding| part_of(&finding.subject),
    counted_as: &[],
    by_package: false,
    rereads_the_medium: false,
    not_touched: &["what is installed", "APT sources and settings", USERS_FOLDERS],
    repaired_by_name: false,
    is_advised: true,
    is_of_machine: true,
    by_reference: false,
};

impl Area for Updates {
    fn about(&self) -> &'static About {
        &ABOUT
    }

    fn check(&self, cx: &Cx<'_>, _: &Checked) -> Result<Examined, WorkError> {
        let part = look(cx)?;
        if !cx.scope.is_deep(&UPDATES) {
            let mut examined = part.examined;
            // What the package database records of installations is reported there.
            let is_told = |finding: &Finding| matches!(finding.subject, Subject::Package { .. });
            // Package lists that were never downloaded are not damage.
            let is_new = |finding: &Finding| {
                matches!(finding.subject, Subject::Source { .. }) && finding.verdict == Verdict::Missing
            };
            examined.findings.retain(|finding| !(finding.verdict.is_problem() && is_told(finding) || is_new(finding)));
            return Ok(examined.referred(&Action::command("veritum repair updates")));
        }
        match cx.how.plans {
            true => steps::planned(cx, part),
            false => Ok(without_network(cx, part.examined)),
        }
    }

    fn locks(&self) -> Vec<SystemPath> {
        Debian.update_locks()
    }

    fn before(&self, cx: &Cx<'_>, ours: &[SystemPath]) -> Result<Option<Step>, WorkError> {
        Ok(steps::pausing(services_in_the_way(cx, ours)?))
    }

    fn confirm(&self, cx: &Cx<'_>) -> Result<Option<ProofReport>, WorkError> {
        proof::proof(cx).map(Some)
    }

    fn not_confirmed(&self, cx: &Cx<'_>, why: &str) -> Option<ProofReport> {
        Some(proof::not_tried(cx, why))
    }
}

/// Without the network, missing lists cannot be repaired.
fn without_network(cx: &Cx<'_>, mut examined: Examined) -> Examined {
    let is_absent = |f: &&mut Finding| matches!(f.subject, Subject::Source { .. }) && f.verdict == Verdict::Missing;
    for finding in examined.findings.iter_mut().filter(is_absent).filter(|_| !cx.system.settings.repositories.network) {
        if finding.remedy.take().is_some() {
            let action = Action::explained("with a network, fetch the package lists", "apt-get update");
            finding.action = Some(action.clone());
            examined.left.push(Left::new(finding, "network use is disabled".into(), Some(action)));
        }
    }
    examined
}

/// The part of updates to which something belongs.
fn part_of(subject: &Subject) -> Cow<'static, str> {
    Cow::Borrowed(match (subject, subject.as_path()) {
        (Subject::Package { name }, _) => return Cow::Owned(name.clone()),
        (Subject::Source { .. }, _) => "package lists",
        (Subject::Service { .. }, _) => "services",
        (Subject::Setting { .. }, _) => "settings",
        (_, Some(path)) if path.is_within_place("/etc/apt") => "sources",
        (_, Some(path)) if path.name().starts_with(b"lock") => "locks",
        (_, Some(path)) if path.is_within_place("/run") => "reboot",
        (_, Some(path)) if path.as_bytes() == b"/var/cache/apt/archives" => "free space",
        (_, Some(path)) if path.name().ends_with(b".bin") => "caches",
        _ => "downloads",
    })
}

/// Further findings of one kind are counted, not listed.
const LISTED: usize = 1000;
/// The number of causes of one finding that are reported.
const CAUSES: usize = 3;

/// An intact download.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct VerifiedDownload {
    /// Its path.
    pub path: SystemPath,
    /// Its size in bytes.
    pub bytes: u64,
    /// Its package.
    pub package: PackageId,
}

/// The result of examining one part of updates.
#[derive(Debug, Default)]
pub(crate) struct ExaminedPart {
    /// Problems and notes.
    pub(crate) findings: Vec<Finding>,
    /// What could not be examined: reason, number, example.
    pub(crate) unexamined: Vec<(String, u64, Option<SystemPath>)>,
    /// The number of items examined.
    pub(crate) examined: u64,
    /// Those of them that have a reference, by its authority.
    pub(crate) verified_by: BTreeMap<Authority, u64>,
    /// The number of bytes read.
    pub(crate) bytes: u64,
    /// Intact downloads.
    pub(crate) verified: Vec<VerifiedDownload>,
    /// The number of findings of each kind.
    kinds: BTreeMap<Verdict, usize>,
}

impl ExaminedPart {
    /// Adds another part's result.
    pub(crate) fn merge(&mut self, other: Self) {
        self.findings.extend(other.findings);
        self.unexamined.extend(other.unexamined);
        self.bytes += other.bytes;
        self.verified.extend(other.verified);
        self.examined += other.examined;
        other.verified_by.into_iter().for_each(|(authority, n)| *self.verified_by.entry(authority).or_default() += n);
    }

    /// Adds the repositories' answers: a source whose lists are wrong and that offers no better ones is one finding, which
    /// cannot be repaired from here.
    pub(crate) fn answered(&mut self, mut repositories: Self) {
        for new in &mut repositories.findings {
            let same = |f: &Finding| f.subject == new.subject && f.verdict.is_problem();
            let Some(at) = self.findings.iter().position(same).filter(|_| new.verdict.is_problem()) else { continue };
            let lists = self.findings.remove(at);
            let mut all = [vec![lists.verdict, new.verdict], lists.also, new.also.clone()].concat();
            all.sort();
            all.dedup();
            let cause = [lists.cause, new.cause.take()].into_iter().flatten().collect::<Vec<_>>().join("; ");
            let gravest = Finding::on(UPDATES, new.subject.clone(), all.remove(0));
            *new = Finding { also: all, cause: Some(cause), action: new.action.take(), ..gravest };
        }
        self.merge(repositories);
    }

    fn saw(&mut self, authority: Authority, things: u64) {
        self.examined += things;
        *self.verified_by.entry(authority).or_default() += things;
    }

    /// Adds a finding, or only counts it if there are very many of its kind.
    fn add(&mut self, finding: Finding) {
        let kind = self.kinds.entry(finding.verdict).or_default();
        *kind += 1;
        if *kind <= LISTED {
            self.findings.push(finding);
            return;
        }
        let reason = format!("more than {LISTED} are {}", finding.verdict.word());
        let example = finding.subject.as_path().cloned().unwrap_or_else(SystemPath::root);
        self.passed_over(&reason, &example);
    }

    /// Counts items that were not examined for the same reason.
    fn passed_over(&mut self, reason: &str, example: &SystemPath) {
        match self.unexamined.iter_mut().find(|(why, ..)| why == reason) {
            Some((_, count, _)) => *count += 1,
            None => self.unexamined.push((reason.to_owned(), 1, Some(example.clone()))),
        }
    }

    /// Merges findings of the same kind on one subject, each with its cause.
    pub(crate) fn into_findings(self) -> Vec<Finding> {
        let mut known: HashMap<FindingId, usize> = HashMap::new();
        let mut all: Vec<(Finding, Vec<String>)> = Vec::new();
        for finding in self.findings {
            let at = *known.entry(finding.id.clone()).or_insert(all.len());
            match all.get_mut(at) {
                Some((_, causes)) => causes.extend(finding.cause),
                None => all.push((Finding { cause: None, ..finding.clone() }, finding.cause.into_iter().collect())),
            }
        }
        let joined = |(finding, mut causes): (Finding, Vec<String>)| {
            causes.dedup();
            let more = causes.len().saturating_sub(CAUSES);
            causes.truncate(CAUSES);
            let rest = if more > 0 { format!("; and {more} more") } else { String::new() };
            Finding { cause: (!causes.is_empty()).then(|| causes.join("; ") + &rest), ..finding }
        };
        all.into_iter().map(joined).collect()
    }
}

fn at_path(path: &SystemPath, verdict: Verdict, cause: &str, action: Option<Action>) -> Finding {
    with(Finding::on_path(UPDATES, path, verdict), cause, action)
}

fn about(subject: Subject, verdict: Verdict, cause: &str, action: Option<Action>) -> Finding {
    with(Finding::on(UPDATES, subject, verdict), cause, action)
}

/// What is set aside is kept, and apt downloads it again.
fn to_set_aside(finding: Finding) -> Finding {
    Finding { remedy: Some(Remedy { action: ActionKind::SetAside, from: None, download: None }), ..finding }
}

fn with(finding: Finding, cause: &str, action: Option<Action>) -> Finding {
    Finding { cause: Some(cause.to_owned()), action, ..finding }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_some_problems_block_updates() {
        let path = SystemPath::literal("/var/cache/apt/archives/quay_1_amd64.deb");
        let blocks = |verdict| blocks_updates(&Finding::on_path(UPDATES, &path, verdict));
        assert!(blocks(Verdict::BadSignature) && blocks(Verdict::Altered) && blocks(Verdict::Incomplete));
        assert!(!blocks(Verdict::Truncated) && !blocks(Verdict::Failed), "apt downloads it again; it runs by hand");
        assert!(!blocks(Verdict::UpdateAvailable), "a note");
        assert!(!blocks_updates(&Finding::on_path(crate::areas::FILES, &path, Verdict::Altered)));
    }

    #[test]
    fn one_subject_is_one_finding_with_all_its_causes() {
        let path = SystemPath::literal("/etc/apt/sources.list");
        let mut part = ExaminedPart::default();
        for line in 1..=5 {
            part.add(at_path(&path, Verdict::Corrupt, &format!("line {line}"), Some("correct it".into())));
        }
        part.add(at_path(&path, Verdict::Duplicate, "twice", None));
        let told: Vec<_> = part.into_findings().into_iter().map(|f| (f.verdict, f.cause.unwrap())).collect();
        let garbled = (Verdict::Corrupt, "line 1; line 2; line 3; and 2 more".to_owned());
        assert_eq!(told, [garbled, (Verdict::Duplicate, "twice".to_owned())]);
    }

    #[test]
    fn hundreds_of_thousands_of_one_kind_are_counted() {
        let mut part = ExaminedPart::default();
        for number in 0..LISTED + 5 {
            let path = SystemPath::parse(format!("/var/cache/apt/archives/partial/{number}").as_bytes()).unwrap();
            part.add(at_path(&path, Verdict::Unverified, "why", None));
        }
        assert_eq!((part.findings.len(), part.unexamined[0].1), (LISTED, 5));
    }
}
