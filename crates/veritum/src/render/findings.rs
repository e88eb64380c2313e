//! The findings of a check, grouped, with causes and actions.

use std::borrow::Cow;
use std::collections::BTreeMap;

use veritum_core::areas::{about, position};
use veritum_core::model::{AreaName, Finding, Subject, Verdict, quoted};
use veritum_core::plan::Left;
use veritum_core::report::{CheckReport, to_do};

use super::style::{Label, paint};
use super::table::{Cell, cell, labelled, lines};
use super::{count, grouped, subject};
use crate::context::Context;

/// Findings of one component beyond these are counted.
const SHOWN: usize = 6;
/// From so many findings on a cause that they share is told once.
const MANY_ALIKE: usize = 10;

/// The words for a heading.
pub(crate) fn heading(finding: &Finding) -> Cow<'static, str> {
    match about(&finding.area) {
        Some(about) => (about.heading)(finding),
        None => Cow::Owned(finding.area.word().to_owned()),
    }
}

/// Whether the problems of an area are mostly answered by a person.
pub(super) fn is_advised(area: &AreaName) -> bool {
    about(area).is_some_and(|about| about.is_advised)
}

/// The order in which findings are told: area by area, in each component by component.
pub(super) fn place_of(finding: &Finding) -> (usize, String) {
    (position(&finding.area), heading(finding).into_owned())
}

fn verdict_cell(finding: &Finding) -> Cell {
    let label = if finding.verdict.is_problem() { Label::Problem } else { Label::Note };
    let mut verdict = finding.verdict.word().to_owned();
    for also in &finding.also {
        verdict.push('+');
        verdict.push_str(also.word());
    }
    labelled(label, verdict)
}

/// What a finding is about; of a store's part, what it stands for.
pub(crate) fn subject_of(finding: &Finding) -> String {
    let name = subject(&finding.subject);
    let Some(harm) = &finding.harms else { return name };
    let more = harm.paths.len() as u64 + harm.more_paths;
    let component = harm.components.first().map_or_else(String::new, |c| format!("{} {}", c.name, c.version));
    match (&finding.subject, harm.paths.first()) {
        (_, Some(path)) if more > 1 => {
            format!("content of {} and {} more ({name})", quoted(path.as_bytes()), grouped(more - 1))
        }
        (_, Some(path)) => format!("content of {} ({name})", quoted(path.as_bytes())),
        (Subject::Object { name: whole }, None) if whole.starts_with("manifests/") => {
            format!("manifest of {component} ({name})")
        }
        (Subject::Object { .. }, None) => format!("records of {component} ({name})"),
        _ => format!("entry of {component} for the next signing ({name})"),
    }
}

/// A finding as a row; its component is named where it differs from the row above.
fn row(finding: &Finding, head: String) -> Vec<Cell> {
    vec![
        labelled(Label::Heading, head),
        verdict_cell(finding),
        labelled(Label::Name, finding.id.as_str()),
        cell(subject_of(finding)),
    ]
}

pub(super) fn findings(context: &Context, report: &CheckReport) -> String {
    let mut groups: BTreeMap<(usize, String), Vec<&Finding>> = BTreeMap::new();
    for finding in &report.findings {
        groups.entry(place_of(finding)).or_default().push(finding);
    }
    let most = if context.global.ungrouped { usize::MAX } else { SHOWN };
    let mut rows = Vec::new();
    let mut remarks: Vec<Vec<String>> = Vec::new();
    for ((_, heading), group) in &groups {
        for (at, finding) in group.iter().take(most).enumerate() {
            rows.push(row(finding, if at == 0 { heading.clone() } else { String::new() }));
            let needless = finding.verdict == Verdict::Missing && !is_advised(&finding.area);
            let cause = finding.cause.clone().filter(|_| context.global.verbose || !needless);
            // What many have in common is told once, at the end.
            remarks.push(cause.filter(|c| !common_causes(group).contains_key(c.as_str())).into_iter().collect());
        }
        if let Some(last) = remarks.last_mut() {
            last.extend(group_remarks(group, most, &report.left));
        }
    }
    let mut text = String::new();
    for (line, remarks) in lines("  ", &rows).lines().zip(remarks) {
        text.push_str(line.trim_end());
        text.push('\n');
        for remark in remarks {
            text.push_str(&format!("      {}\n", paint(Label::Remark, &remark)));
        }
    }
    if text.is_empty() { text } else { format!("\n{text}") }
}

/// Causes that many findings of a group have in common, and how many.
fn common_causes<'a>(group: &[&'a Finding]) -> BTreeMap<&'a str, usize> {
    let mut causes = BTreeMap::new();
    for cause in group.iter().filter_map(|f| f.cause.as_deref()) {
        *causes.entry(cause).or_insert(0) += 1;
    }
    causes.retain(|_, n| *n >= MANY_ALIKE);
    causes
}

/// What is said once for all findings of a component.
fn group_remarks(group: &[&Finding], most: usize, all_left: &[Left]) -> Vec<String> {
    let mut remarks = Vec::new();
    if group.len() > most {
        remarks.push(format!("and {} more of it (--ungrouped lists them)", grouped((group.len() - most) as u64)));
    }
    for (cause, n) in common_causes(group) {
        remarks.push(format!("{} of them: {cause}", grouped(n as u64)));
    }
    let mut afterwards: Vec<&String> =
        group.iter().filter(|f| f.remedy.is_some()).filter_map(|f| f.advice.as_ref()).collect();
    afterwards.sort();
    afterwards.dedup();
    remarks.extend(afterwards.iter().map(|advice| format!("after a repair: {advice}")));
    let left: Vec<&&Finding> = group.iter().filter(|f| f.remedy.is_none()).collect();
    let todo = |f: &Finding| to_do(f, all_left.iter().find(|left| left.finding == f.id)).map(str::to_owned);
    let mut advice: Vec<String> = left.iter().filter_map(|f| todo(f)).collect();
    advice.sort();
    advice.dedup();
    for one in advice {
        let n = left.iter().filter(|f| todo(f).as_ref() == Some(&one)).count();
        let who = if n == group.len() { "left".to_owned() } else { format!("{} left", grouped(n as u64)) };
        match group.iter().all(|f| is_advised(&f.area)) {
            true => remarks.push(format!("to do: {one}")),
            false => remarks.push(format!("{who}: {one}")),
        }
    }
    remarks
}

/// What several applications rest on and is damaged: it comes before all that each of them has.
pub(super) fn shared_causes(context: &Context, report: &CheckReport) -> String {
    let mut text = String::new();
    for note in report.notes.iter().filter(|note| note.verdict == Verdict::SharedCause) {
        let head = paint(Label::Bad, &format!("{} first", super::subject(&note.subject)));
        let advice = note.advice.as_ref().map(|command| format!("\n       {}", context.completed(command.clone())));
        text.push_str(&format!(
            "\n{head}: {}{}\n",
            note.cause.as_deref().unwrap_or_default(),
            advice.unwrap_or_default()
        ));
    }
    text
}

pub(super) fn notes(context: &Context, report: &CheckReport) -> String {
    if report.notes.is_empty() || report.notes.iter().all(|n| n.verdict == Verdict::SharedCause) {
        return String::new();
    }
    if context.global.verbose {
        let rows: Vec<_> = report.notes.iter().map(|n| row(n, heading(n).into_owned())).collect();
        return format!("\nNotes (no problems, left as they are):\n{}", lines("  ", &rows));
    }
    let mut counts: BTreeMap<(Verdict, &str, &str), u64> = BTreeMap::new();
    for note in &report.notes {
        if let Some((one, many)) = counted_as(&note.area, note.verdict) {
            *counts.entry((note.verdict, one, many)).or_default() += 1;
        }
    }
    if report.more_strays > 0
        && let Some((one, many)) = Verdict::Stray.counted_as()
    {
        *counts.entry((Verdict::Stray, one, many)).or_default() += report.more_strays;
    }
    let parts: Vec<String> = counts.iter().map(|((_, one, many), n)| count(*n, one, many)).collect();
    format!("\nNotes, no problems: {}.\n{}\n", parts.join(", "), paint(Label::Remark, "      (--verbose lists them)"))
}

/// What one such note is in an area, and several are. What comes first on the screen is not counted once more.
fn counted_as(area: &AreaName, verdict: Verdict) -> Option<(&'static str, &'static str)> {
    let words = about(area).map_or_else(|| verdict.counted_as(), |about| about.counted_as(verdict));
    words.filter(|_| verdict != Verdict::SharedCause)
}
