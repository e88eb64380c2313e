//! The findings of a check as lines: one for each package, or for a cause that several problems share.

use std::collections::BTreeMap;

use veritum_core::areas::{about, position};
use veritum_core::model::{
    Action, AreaName, FileKind, Finding, KnownBy, Severity, StartEffect, State, Subject, SystemPath, Verdict, quoted,
};
use veritum_core::report::{CheckReport, to_do};

use super::layout::{Cell, Width, cell, described, labelled, path, table};
use super::style::{Label, paint};
use super::{count, grouped, size, subject};
use crate::context::Context;

/// Further lines of repairable problems are counted.
const SHOWN: usize = 12;
/// From this number on, problems with a common cause are one line.
const SHARED: usize = 5;
/// The number of names shown for the problems of one package.
const NAMED: usize = 4;
/// Narrower terminals have no column for the difference.
const WIDE: usize = 80;

/// The heading of a finding: its package, or its kind.
pub(crate) fn heading(finding: &Finding) -> String {
    about(&finding.area).map_or_else(|| finding.area.word().to_owned(), |about| (about.heading)(finding).into_owned())
}

/// Problems of one package, or of one cause.
pub(super) struct Group<'a> {
    pub(super) heading: String,
    pub(super) findings: Vec<&'a Finding>,
    /// Their common cause, if there are many.
    cause: Option<&'a str>,
}

impl Group<'_> {
    fn severity(&self) -> Severity {
        self.findings.iter().map(|finding| finding.severity).min().unwrap_or(Severity::Low)
    }

    fn place(&self) -> usize {
        self.findings.iter().map(|finding| position(&finding.area)).min().unwrap_or(usize::MAX)
    }

    fn verdict(&self) -> String {
        let n = self.findings.len() as u64;
        let Some(first) = self.findings.first() else { return String::new() };
        if n == 1 {
            let all = std::iter::once(&first.verdict).chain(&first.also);
            return all.map(|verdict| verdict.word()).collect::<Vec<_>>().join("+");
        }
        match self.findings.iter().all(|finding| finding.verdict == first.verdict) {
            true => format!("{} {}", grouped(n), first.verdict.word()),
            false => count(n, "file", "files"),
        }
    }

    /// The last cells of a line: the subject and the difference of one problem, the names of several, or their common cause.
    fn text(&self, width: Width) -> Vec<Cell> {
        let Some(first) = self.findings.first() else { return Vec::new() };
        if let Some(cause) = self.cause {
            return vec![cell(cause)];
        }
        if self.findings.len() > 1 {
            return vec![cell(names(&self.findings))];
        }
        let subject = path(subject_of(first));
        match difference(first).filter(|_| !width.is_below(WIDE)) {
            Some(differs) => vec![subject, cell(differs)],
            None => vec![subject],
        }
    }
}

/// Findings by package; many findings with a common cause are one group, whatever their packages. With `all`, each is its own.
pub(super) fn groups<'a>(findings: &[&'a Finding], all: bool) -> Vec<Group<'a>> {
    let mut shared: BTreeMap<&str, usize> = BTreeMap::new();
    for cause in findings.iter().filter_map(|finding| finding.cause.as_deref()) {
        *shared.entry(cause).or_default() += 1;
    }
    let mut by_key: BTreeMap<(Option<&str>, String, usize), Vec<&Finding>> = BTreeMap::new();
    for (at, finding) in findings.iter().enumerate() {
        let cause = finding.cause.as_deref().filter(|cause| !all && shared[cause] >= SHARED);
        let key = match (all, cause) {
            (true, _) => (None, heading(finding), at),
            (false, Some(cause)) => (Some(cause), String::new(), 0),
            // What is wrong with different parts of a file system has nothing in common.
            (false, None) if is_by_itself(finding) => (None, heading(finding), at),
            (false, None) => (None, heading(finding), 0),
        };
        by_key.entry(key).or_default().push(finding);
    }
    let mut groups: Vec<Group<'_>> = by_key
        .into_iter()
        .map(|((cause, name, _), findings)| Group {
            heading: if name.is_empty() { common(&findings) } else { name },
            findings,
            cause,
        })
        .collect();
    groups.sort_by(|a, b| (a.severity(), a.place(), &a.heading).cmp(&(b.severity(), b.place(), &b.heading)));
    groups
}

/// Whether a finding has nothing in common with others of its heading.
fn is_by_itself(finding: &Finding) -> bool {
    matches!(finding.subject, Subject::Volume { .. }) || finding.effect.is_some()
}

/// What a problem means for the next start, and how it is known.
pub(super) fn start_words(finding: &Finding) -> Option<String> {
    let effect = finding.effect.map(|effect| match effect {
        StartEffect::BreaksStart => "breaks the start",
        StartEffect::SlowsStart => "slows the start, or leaves part of it out",
        StartEffect::Latent => "still starts",
    });
    let known = finding.known_by.map(|known| match known {
        KnownBy::Package => "compared with the package",
        KnownBy::SelfProof => "by its own checksum or structure",
        KnownBy::Derived => "derived from what is on the disk",
        KnownBy::Medium => "reported by the medium",
    });
    let parts: Vec<&str> = [effect, known].into_iter().flatten().collect();
    (!parts.is_empty()).then(|| parts.join("; "))
}

/// The heading of findings with a common cause: their package, or their number.
fn common(findings: &[&Finding]) -> String {
    let mut headings: Vec<String> = findings.iter().map(|finding| heading(finding)).collect();
    headings.sort();
    headings.dedup();
    match headings.as_slice() {
        [one] => one.clone(),
        several => count(several.len() as u64, "package", "packages"),
    }
}

/// The names of several problems, with their common folder.
fn names(findings: &[&Finding]) -> String {
    let paths: Vec<&SystemPath> = findings.iter().filter_map(|finding| finding.subject.as_path()).collect();
    let more = |n: usize| if n > 0 { format!(" and {} more", grouped(n as u64)) } else { String::new() };
    let folder = paths.first().and_then(|path| path.parent());
    match folder
        .filter(|folder| paths.len() == findings.len() && paths.iter().all(|p| p.parent().as_ref() == Some(folder)))
    {
        Some(folder) => {
            let mut names: Vec<String> = paths.iter().map(|path| quoted(path.name())).collect();
            names.dedup();
            let shown = names.iter().take(NAMED).cloned().collect::<Vec<_>>().join(", ");
            format!("{}: {shown}{}", quoted(folder.as_bytes()), more(names.len().saturating_sub(NAMED)))
        }
        None => format!(
            "{}{}",
            findings.first().map(|first| subject_of(first)).unwrap_or_default(),
            more(findings.len() - 1)
        ),
    }
}

/// The subject of a finding; for a part of a store, the package whose content it is.
pub(crate) fn subject_of(finding: &Finding) -> String {
    let name = subject(&finding.subject);
    let Some(harm) = &finding.harms else { return name };
    let more = harm.paths.len() as u64 + harm.more_paths;
    let package = harm.packages.first().map_or_else(String::new, |c| format!("{} {}", c.name, c.version));
    match (&finding.subject, harm.paths.first()) {
        (_, Some(path)) if more > 1 => {
            format!("content of {} and {} more ({name})", quoted(path.as_bytes()), grouped(more - 1))
        }
        (_, Some(path)) => format!("content of {} ({name})", quoted(path.as_bytes())),
        (Subject::Object { name: whole }, None) if whole.starts_with("manifests/") => {
            format!("manifest of {package} ({name})")
        }
        (Subject::Object { .. }, None) => format!("database files of {package} ({name})"),
        _ => format!("unsigned entry of {package} ({name})"),
    }
}

/// The difference from the expected state, in a few words.
pub(crate) fn difference(finding: &Finding) -> Option<String> {
    if let Some(cause) = &finding.cause {
        return Some(cause.clone());
    }
    let (Some(expected), Some(found)) = (&finding.expected, &finding.found) else { return None };
    let should = |is: String, should: String| Some(format!("{is}, should be {should}"));
    let mut parts = std::iter::once(&finding.verdict).chain(&finding.also).filter_map(|verdict| match verdict {
        Verdict::Altered => content_difference(expected, found),
        Verdict::WrongOwner => should(found.owner.clone()?, expected.owner.clone()?),
        Verdict::WrongPermissions if found.capabilities => Some("has file capabilities, should have none".into()),
        Verdict::WrongPermissions => should(found.mode.clone()?, expected.mode.clone()?),
        Verdict::WrongTarget => {
            let [is, to] = [found.target.as_ref()?, expected.target.as_ref()?].map(|target| quoted(target.as_bytes()));
            should(format!("-> {is}"), format!("-> {to}"))
        }
        Verdict::WrongType => should(found.kind?.word().to_owned(), expected.kind.map(FileKind::word)?.to_owned()),
        Verdict::HardlinkSplit => {
            let other = expected.same_file_as.first()?;
            Some(format!("should be a hard link to {}", quoted(other.as_bytes())))
        }
        _ => None,
    });
    let first = parts.next()?;
    Some(parts.fold(first, |all, part| format!("{all}; {part}")))
}

fn content_difference(expected: &State, found: &State) -> Option<String> {
    match (found.size?, expected.size) {
        (0, _) => Some("empty".into()),
        (is, Some(should)) if is != should => Some(format!("{}, should be {}", size(is), size(should))),
        _ => None,
    }
}

fn verdict_cell(group: &Group<'_>) -> Cell {
    let is_problem = group.findings.iter().any(|finding| finding.verdict.is_problem());
    labelled(if is_problem { Label::Problem } else { Label::Note }, group.verdict())
}

fn id_cell(group: &Group<'_>) -> Cell {
    labelled(Label::Name, group.findings.first().map_or("", |finding| &finding.id.as_str()[..4]))
}

/// Groups as lines: package, verdict, ID of the first problem, subject and difference.
pub(super) fn group_lines(groups: &[Group<'_>], width: Width) -> String {
    let row = |group: &Group<'_>| {
        let head = vec![labelled(Label::Heading, group.heading.clone()), verdict_cell(group), id_cell(group)];
        (head, group.text(width))
    };
    described("    ", &groups.iter().map(row).collect::<Vec<_>>(), width)
}

/// What only a person can repair, each with what to do.
pub(super) fn needs_you(context: &Context, report: &CheckReport) -> String {
    let left = |finding: &Finding| report.left.iter().find(|left| left.finding == finding.id);
    let open: Vec<&Finding> = report.findings.iter().filter(|finding| finding.remedy.is_none()).collect();
    if open.is_empty() {
        return String::new();
    }
    // Findings of one package are one line only if they have the same action.
    let mut by_answer: BTreeMap<(Option<Action>, Option<&str>), Vec<&Finding>> = BTreeMap::new();
    for finding in open {
        let answer = (to_do(finding, left(finding)).cloned(), left(finding).map(|left| left.reason.as_str()));
        by_answer.entry(answer).or_default().push(finding);
    }
    let mut all: Vec<(Group<'_>, Option<Action>, Option<&str>)> = Vec::new();
    for ((action, reason), findings) in by_answer {
        let groups = groups(&findings, context.global.all);
        all.extend(groups.into_iter().map(|group| (group, action.clone(), reason)));
    }
    // In the order of the report: it is that in which a start meets them.
    let place = |finding: &Finding| report.findings.iter().position(|own| own.id == finding.id);
    let first = |group: &Group<'_>| group.findings.first().filter(|f| f.effect.is_some()).and_then(|f| place(f));
    all.sort_by_key(|(group, ..)| (group.severity(), group.place(), group.heading.clone(), first(group)));
    let mut rows = Vec::new();
    for (at, (group, action, reason)) in all.iter().enumerate() {
        let head = vec![labelled(Label::Heading, group.heading.clone()), verdict_cell(group), id_cell(group)];
        rows.push((head, vec![cell(open_text(group, *reason, action.is_some()))]));
        // The common part of several problems follows the last of them.
        if let Some(action) = action.as_ref().filter(|_| all.get(at + 1).is_none_or(|(_, next, _)| next != action)) {
            let blank = || vec![cell(""), cell(""), cell("")];
            rows.push((blank(), vec![labelled(Label::Command, format!("-> {}", context.action(action)))]));
        }
    }
    format!("\n  {}\n{}", paint(Label::Heading, "Needs you"), described("    ", &rows, context.width))
}

/// What is wrong, and why a repair does not answer it.
fn open_text(group: &Group<'_>, reason: Option<&str>, has_action: bool) -> String {
    let Some(first) = group.findings.first() else { return String::new() };
    let is_said = |subject: &Subject| match subject {
        // What of the boot chain is meant does not follow from its cause.
        Subject::Record { entry: Some(_), .. } if first.effect.is_none() => true,
        other => other.name().is_some_and(|name| name == group.heading),
    };
    let cause = difference(first);
    let what = match (group.findings.len(), &group.cause) {
        (_, Some(cause)) => (*cause).to_owned(),
        (1, None) if is_said(&first.subject) => cause.clone().unwrap_or_default(),
        (1, None) => [Some(subject_of(first)), cause.clone()].into_iter().flatten().collect::<Vec<_>>().join(": "),
        _ => names(&group.findings),
    };
    let what = match start_words(first).filter(|_| group.findings.len() == 1) {
        Some(words) => format!("{what} ({words})"),
        None => what,
    };
    // The reason, unless it repeats the cause, or the action is enough.
    match reason.filter(|reason| !reason.is_empty() && !has_action && !what.contains(reason)) {
        Some(reason) if what.is_empty() => reason.to_owned(),
        Some(reason) => format!("{what}; {reason}"),
        None => what,
    }
}

/// What a repair answers, by package.
pub(super) fn repairable(context: &Context, report: &CheckReport) -> String {
    let found: Vec<&Finding> = report.findings.iter().filter(|finding| finding.remedy.is_some()).collect();
    if found.is_empty() {
        return String::new();
    }
    let groups = groups(&found, context.global.all);
    // One further line is shown rather than counted.
    let most = if context.global.all || groups.len() == SHOWN + 1 { usize::MAX } else { SHOWN };
    let head = format!("Can be repaired ({})", grouped(found.len() as u64));
    let mut text = format!("\n  {}\n", paint(Label::Heading, &head));
    text.push_str(&group_lines(&groups[..groups.len().min(most)], context.width));
    if groups.len() > most {
        let rest = &groups[most..];
        let problems: usize = rest.iter().map(|group| group.findings.len()).sum();
        let packages = count(rest.len() as u64, "more line", "more lines");
        text.push_str(&format!("    ... {packages} with {} (--all)\n", count(problems as u64, "problem", "problems")));
    }
    text
}

/// Damage that several applications share: repairing it first may answer the rest.
pub(super) fn shared_causes(context: &Context, report: &CheckReport) -> String {
    let shared = report.notes.iter().filter(|note| note.verdict == Verdict::SharedCause);
    let rows: Vec<Vec<Cell>> = shared
        .flat_map(|note| {
            let name = labelled(Label::Heading, subject(&note.subject));
            let cause = vec![name, cell(note.cause.clone().unwrap_or_default())];
            let action = note.action.as_ref();
            let action = action.map(|action| labelled(Label::Command, format!("-> {}", context.action(action))));
            std::iter::once(cause).chain(action.map(|action| vec![cell(""), action]))
        })
        .collect();
    match rows.is_empty() {
        true => String::new(),
        false => format!("\n  {}\n{}", paint(Label::Heading, "Repair first"), table("    ", &rows, context.width)),
    }
}

/// The notes, one by one.
pub(super) fn note_lines(context: &Context, report: &CheckReport) -> String {
    let notes: Vec<&Finding> = report.notes.iter().filter(|note| note.verdict != Verdict::SharedCause).collect();
    match notes.is_empty() {
        true => String::new(),
        false => {
            let head = paint(Label::Heading, "Notes (not problems, not changed)");
            format!("\n  {head}\n{}", group_lines(&groups(&notes, true), context.width))
        }
    }
}

/// The notes, counted: `2 configuration files modified, 36 unowned files`.
pub(super) fn note_counts(report: &CheckReport) -> String {
    let mut counts: BTreeMap<(Verdict, &str, &str), u64> = BTreeMap::new();
    for note in &report.notes {
        if let Some((one, many)) = counted_as(&note.area, note.verdict) {
            *counts.entry((note.verdict, one, many)).or_default() += 1;
        }
    }
    if report.more_strays > 0
        && let Some((one, many)) = Verdict::Unowned.counted_as()
    {
        *counts.entry((Verdict::Unowned, one, many)).or_default() += report.more_strays;
    }
    let parts: Vec<String> = counts.iter().map(|((_, one, many), n)| count(*n, one, many)).collect();
    parts.join(", ")
}

/// How a note is counted in an area. Common causes have a separate section.
fn counted_as(area: &AreaName, verdict: Verdict) -> Option<(&'static str, &'static str)> {
    let words = about(area).map_or_else(|| verdict.counted_as(), |about| about.counted_as(verdict));
    words.filter(|_| verdict != Verdict::SharedCause)
}

/// Whether most problems have a few causes: then packages are counted, not files.
pub(super) fn has_few_causes(findings: &[Finding]) -> bool {
    let all: Vec<&Finding> = findings.iter().collect();
    let shared: usize =
        groups(&all, false).iter().filter(|group| group.cause.is_some()).map(|group| group.findings.len()).sum();
    shared * 5 > findings.len() * 4
}
