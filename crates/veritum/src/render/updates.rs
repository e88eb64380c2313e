//! The output of `list updates`: run by run, newest first.

use veritum_core::platform::LogKind;
use veritum_core::report::{UpdateKind, UpdateLine, UpdateRun, UpdatesReport};

use super::layout::{Cell, cell, labelled, list};
use super::style::{Label, paint};
use super::{count, grouped, next, plain};
use crate::context::Context;

/// The number of packages of one run that are shown by default.
const SHOWN: usize = 8;
/// Longer commands are shortened by default.
const LONG_COMMAND: usize = 90;
/// The number of runs that are shown by default.
const RUNS: usize = 20;

pub(crate) fn describe(context: &Context, report: &UpdatesReport) -> String {
    let most = if context.global.all { usize::MAX } else { RUNS };
    let mut text = head(report);
    for run in report.runs.iter().take(most) {
        text.push('\n');
        text.push_str(&run_words(context, report, run));
    }
    if report.runs.len() > most {
        let more = format!("and {} earlier (--all)", count((report.runs.len() - most) as u64, "run", "runs"));
        text.push_str(&format!("\n{}\n", paint(Label::Remark, &more)));
    }
    format!("{text}\n{}", next(context, &commands(context, report)))
}

/// The answer: the updates before the trouble, or the number of all updates.
fn head(report: &UpdatesReport) -> String {
    let Some(first) = report.logged_since.as_deref() else {
        return "No package logs on this machine.\n".into();
    };
    if report.runs.is_empty() {
        return format!("No matching updates; the logs begin {}.\n", day(report, first));
    }
    let total = |runs: &mut dyn Iterator<Item = &UpdateRun>| {
        let lines: Vec<&UpdateLine> = runs.flat_map(|run| &run.lines).collect();
        summary(&lines)
    };
    let runs = |n: usize| count(n as u64, "run", "runs");
    let mut text = format!(
        "{} since {}: {}\n",
        runs(report.runs.len()),
        day(report, report.since.as_deref().unwrap_or(first)),
        total(&mut report.runs.iter())
    );
    if let Some(trouble) = &report.trouble {
        let marked = report.runs.iter().filter(|run| run.before_trouble).count();
        let told = match marked {
            0 => format!("nothing before {}", day(report, trouble)),
            _ => format!(
                "{} shortly before the trouble on {} (marked): {}",
                runs(marked),
                day(report, trouble),
                total(&mut report.runs.iter().filter(|run| run.before_trouble))
            ),
        };
        text.insert_str(0, &format!("{}\n", paint(Label::Heading, &told)));
    }
    text
}

/// `14 updates, 2 security; 1 new, 1 removed`.
fn summary(lines: &[&UpdateLine]) -> String {
    let many = |what: LogKind| lines.iter().filter(|l| l.what == what).count() as u64;
    let kinds = [UpdateKind::Security, UpdateKind::Major, UpdateKind::Back];
    let of_kind = |kind: UpdateKind| (lines.iter().filter(|l| l.kind == Some(kind)).count() as u64, kind);
    let mut parts = Vec::new();
    if many(LogKind::Updated) > 0 {
        let kinds: String = kinds
            .map(of_kind)
            .iter()
            .filter(|(n, _)| *n > 0)
            .map(|(n, kind)| format!(", {} {}", grouped(*n), kind_word(*kind)))
            .collect();
        parts.push(format!("{}{kinds}", count(many(LogKind::Updated), "update", "updates")));
    }
    for (what, word) in [(LogKind::Installed, "new"), (LogKind::Removed, "removed")] {
        if many(what) > 0 {
            parts.push(format!("{} {word}", grouped(many(what))));
        }
    }
    if parts.is_empty() { "nothing done".into() } else { parts.join("; ") }
}

fn kind_word(kind: UpdateKind) -> &'static str {
    if kind == UpdateKind::Back { "to an older version" } else { kind.word() }
}

fn run_words(context: &Context, report: &UpdatesReport, run: &UpdateRun) -> String {
    let all: Vec<&UpdateLine> = run.lines.iter().collect();
    let mark = if run.before_trouble { paint(Label::Problem, "   before the trouble") } else { String::new() };
    let mut text = format!(
        "{}: {}{mark}\n",
        paint(Label::Heading, &machine_time(report, &run.began, "%Y-%m-%d %H:%M %Z")),
        summary(&all)
    );
    let by = run.by.as_deref().map(|by| format!("by {}: ", plain(by)));
    if let Some(command) = &run.command {
        let whole = plain(command);
        let short: String = whole.chars().take(LONG_COMMAND).collect();
        let cut = if short.len() < whole.len() && !context.global.verbose { short + "…" } else { whole };
        let asked = format!("{}{cut}", by.unwrap_or_default());
        text.push_str(&format!("    {}\n", paint(Label::Remark, &asked)));
    }
    if let Some(why) = &run.failed {
        text.push_str(&format!("    {}\n", paint(Label::Problem, &format!("failed: {}", plain(why)))));
    } else if run.ended.is_none() {
        text.push_str(&format!("    {}\n", paint(Label::Problem, "did not finish: interrupted?")));
    }
    let most = if context.global.all { usize::MAX } else { SHOWN };
    let rows: Vec<Vec<Cell>> = run.lines.iter().take(most).map(|line| row(line, context.global.verbose)).collect();
    text.push_str(&list("    ", &rows, context.width));
    if run.lines.len() > most {
        let more = format!("and {} more (--all)", grouped((run.lines.len() - most) as u64));
        text.push_str(&format!("    {}\n", paint(Label::Remark, &more)));
    }
    text
}

fn row(line: &UpdateLine, verbose: bool) -> Vec<Cell> {
    let (what, label) = match (line.what, line.kind) {
        (_, Some(UpdateKind::Back)) => ("to an older version", Label::Problem),
        (_, Some(UpdateKind::Security)) => ("security update", Label::Good),
        (_, Some(UpdateKind::Major)) => ("major update", Label::Note),
        (LogKind::Updated, _) => ("update", Label::Remark),
        (LogKind::Installed, _) if line.from.is_some() => ("reinstalled", Label::Remark),
        (LogKind::Installed, _) => ("new", Label::Remark),
        (LogKind::Removed, _) => ("removed", Label::Note),
    };
    let name = if line.arch.is_empty() { line.package.clone() } else { format!("{}:{}", line.package, line.arch) };
    let versions = match (&line.from, &line.to) {
        (Some(from), Some(to)) if from != to => format!("{} to {}", plain(from), plain(to)),
        (_, Some(one)) | (Some(one), None) => plain(one),
        (None, None) => String::new(),
    };
    let mut row = vec![labelled(label, what), cell(plain(&name)), cell(versions)];
    row.extend(line.origin.as_deref().filter(|_| verbose).map(|origin| labelled(Label::Remark, plain(origin))));
    row
}

/// A time in the machine's own zone, which its users and logs use.
fn machine_time(report: &UpdatesReport, utc: &str, form: &str) -> String {
    // The logs' own local time, which is right although its zone is not known.
    let form = if report.time_zone.is_known() { form } else { form.trim_end_matches(" %Z") };
    report.time_zone.local(utc).map_or_else(|| utc.to_owned(), |at| at.strftime(form).to_string())
}

fn day(report: &UpdatesReport, utc: &str) -> String {
    machine_time(report, utc, "%Y-%m-%d")
}

fn commands(context: &Context, report: &UpdatesReport) -> Vec<(String, &'static str)> {
    let mut commands = Vec::new();
    if let Some(latest) = report.runs.first().filter(|_| report.trouble.is_none()) {
        let command = context.command(&format!("list updates --trouble {}", day(report, &latest.began)));
        commands.push((command, "marks updates before the day of the trouble"));
    }
    commands.push((context.command("check"), "checks all files"));
    commands
}

#[cfg(test)]
mod tests {
    use super::*;

    fn line(what: LogKind, kind: Option<UpdateKind>) -> UpdateLine {
        let (package, arch) = ("quay".into(), "amd64".into());
        let (from, to) = (Some("1".into()).filter(|_| what != LogKind::Installed), Some("2".into()));
        UpdateLine { package, arch, what, from, to, kind, origin: None }
    }

    #[test]
    fn a_run_is_told_as_people_know_it() {
        let all = [
            line(LogKind::Updated, Some(UpdateKind::Security)),
            line(LogKind::Updated, None),
            line(LogKind::Updated, Some(UpdateKind::Back)),
            line(LogKind::Installed, None),
            line(LogKind::Removed, None),
        ];
        let told = summary(&all.iter().collect::<Vec<_>>());
        assert_eq!(told, "3 updates, 1 security, 1 to an older version; 1 new; 1 removed");
        assert_eq!(summary(&[]), "nothing done");
    }
}
