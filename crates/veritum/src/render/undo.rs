//! What `undo` and `recover` print.

use std::collections::{BTreeMap, BTreeSet};

use veritum_core::model::{ActionKind, SystemPath, quoted};
use veritum_core::report::{ActionReport, RecoverReport, UndoReport, UndoneChange};

use super::repair::action_lines;
use super::style::{Label, paint};
use super::{count, entries, grouped, next, running, written};
use crate::context::Context;
use veritum_core::change::Recovered;

/// The number of places of a group that are listed by default.
const NAMED: usize = 3;

/// What is not undone: one line for each package and reason, with the first places; all of them on request.
fn refusals(report: &UndoReport, all: bool) -> String {
    let mut groups: BTreeMap<(Option<&str>, &str), Vec<&SystemPath>> = BTreeMap::new();
    for one in report.changes.iter().flat_map(|c| &c.refused) {
        groups.entry((one.package.as_deref(), &one.why)).or_default().push(&one.path);
    }
    let places: usize = groups.values().map(Vec::len).sum();
    if places == 0 {
        return String::new();
    }
    let head = count(places as u64, "file is not undone", "files are not undone");
    let mut text = format!("{}:\n", paint(Label::Bad, &head));
    for ((package, why), paths) in groups {
        let places = if paths.len() == 1 { String::new() } else { format!("{} files: ", grouped(paths.len() as u64)) };
        text.push_str(&format!("  {}: {places}{why}\n", package.unwrap_or("no package")));
        let named = if all { paths.len() } else { NAMED };
        for path in paths.iter().take(named) {
            text.push_str(&format!("      {}\n", quoted(path.as_bytes())));
        }
        if paths.len() > named {
            let more = grouped((paths.len() - named) as u64);
            text.push_str(&format!("      and {more} more (--verbose)\n"));
        }
    }
    text
}

pub(crate) fn preview(context: &Context, report: &UndoReport) -> String {
    let mut text = String::new();
    for change in &report.changes {
        let whose = change
            .user
            .as_deref()
            .map_or_else(String::new, |user| format!(" in the home of {}", super::apps::text(user)));
        let head = paint(Label::Heading, &format!("change {}", change.of));
        text.push_str(&format!("Undo {head}{whose}:\n"));
        let (exact, others): (Vec<ActionReport>, Vec<ActionReport>) =
            change.actions.iter().cloned().partition(|action| action.written.is_some());
        text.push_str(&action_lines(context, &others, &[]));
        text.push_str(&written::describe(&exact, context.global.all || context.global.verbose));
    }
    text.push_str(&refusals(report, context.global.verbose));
    let on_files = report.changes.iter().flat_map(|change| &change.actions).any(|action| !action.action.is_of_tool());
    let kept =
        if on_files { "What is there now is backed up, so the undo can be undone." } else { "The undo can be undone." };
    text.push_str(&format!("\n{kept}\n{} everything else.\n", paint(Label::Heading, "Not touched:")));
    text + "\n"
}

pub(crate) fn describe(context: &Context, report: &UndoReport) -> String {
    let done: Vec<_> = report.changes.iter().filter(|c| c.change.is_some()).collect();
    if done.is_empty() {
        if report.changes.is_empty() {
            return format!(
                "No changes to undo.\n\n{}",
                next(context, &[(context.command("list changes"), "all changes")])
            );
        }
        let nothing = report.changes.iter().all(|c| c.actions.is_empty());
        let head = if report.plan_only && !nothing {
            preview(context, report)
        } else {
            refusals(report, context.global.verbose)
        };
        return format!("{head}Nothing was changed.\n");
    }
    let mut text = String::new();
    for change in &done {
        let done = change.actions.iter().filter(|a| a.why.is_none());
        let (by_tools, done): (Vec<_>, Vec<_>) = done.partition(|a| a.action.is_of_tool() || is_written_back(a.action));
        let (aside, restored): (Vec<_>, Vec<_>) = done.into_iter().partition(|a| a.action == ActionKind::SetAside);
        let mut words = Vec::new();
        let label = |a: &ActionReport| match a.action {
            action if is_written_back(action) => "what was there is written back",
            other => other.label(),
        };
        words.extend(by_tools.iter().map(|a| format!("{}: {}", super::subject(&a.subject), label(a))));
        words.extend(
            (!restored.is_empty() || aside.is_empty() && by_tools.is_empty())
                .then(|| format!("{} restored", entries(restored.into_iter()))),
        );
        words.extend((!aside.is_empty()).then(|| format!("{} set aside", entries(aside.into_iter()))));
        text.push_str(&format!(
            "Undone: {}, {}\n",
            paint(Label::Good, &format!("change {}", change.of)),
            words.join(", ")
        ));
        if let (Some(user), Some(own)) = (&change.user, &change.own) {
            text.push_str(&format!("  {}: {}\n", super::apps::text(user), super::reset::own_words(Some(own))));
            text.push_str(&super::reset::differences(Some(own)));
        }
        for failed in change.actions.iter().filter(|a| a.why.is_some()) {
            text.push_str(&format!(
                "  {}: {}\n",
                super::subject(&failed.subject),
                failed.why.clone().unwrap_or_default()
            ));
        }
    }
    text.push_str(&refusals(report, context.global.verbose));
    text.push_str(&running::describe(&report.running));
    if let Some(number) = done.first().and_then(|c| c.change) {
        text.push_str(&format!("Redo: {}\n", paint(Label::Command, &context.command(&format!("undo {number}")))));
    }
    let mut commands: Vec<_> = running::command(&report.running).into_iter().collect();
    commands.push((check_of(context, &done), "what is damaged now"));
    text + &next(context, &commands)
}

/// Whether it is no file of which the undo writes back what was there.
fn is_written_back(action: ActionKind) -> bool {
    matches!(action, ActionKind::WriteDisk | ActionKind::WriteFirmware)
}

/// The check of what was undone: of a disk, where only bytes of one were written back.
fn check_of(context: &Context, done: &[&UndoneChange]) -> String {
    let all: Vec<_> = done.iter().flat_map(|change| &change.actions).collect();
    if all.is_empty() || !all.iter().all(|action| is_written_back(action.action)) {
        return context.command("check");
    }
    let disks: BTreeSet<&str> =
        all.iter().filter_map(|action| action.written.as_ref()).flat_map(|w| &w.ranges).map(|r| &*r.disk).collect();
    let named = match context.global.disk.is_empty() && context.global.root.is_none() {
        true => disks.iter().map(|disk| format!(" --disk {}", quoted(disk.as_bytes()))).collect(),
        false => String::new(),
    };
    context.command(&format!("check bootchain{named}"))
}

fn numbers(open: &[u64]) -> String {
    open.iter().map(u64::to_string).collect::<Vec<_>>().join(", ")
}

pub(crate) fn recover_plan(open: &[u64]) -> String {
    if open.is_empty() {
        "Nothing to recover: no change was interrupted.\n".into()
    } else {
        format!(
            "Interrupted: change {}. `veritum recover` completes it if it was committed, else rolls it back.\n",
            numbers(open)
        )
    }
}

pub(crate) fn recover_question(open: &[u64]) -> String {
    format!("Complete or roll back the interrupted change {} on this mounted system?", numbers(open))
}

/// The result of each interrupted change, one line each.
pub(crate) fn recovered_lines(report: &RecoverReport) -> String {
    let mut text = String::new();
    for done in &report.changes {
        let words = match (done.result, &done.why) {
            (Recovered::Finished, _) => "was committed; now completed".into(),
            (Recovered::TakenBack, None) => "was not committed; rolled back, the system is unchanged".into(),
            (Recovered::TakenBack, Some(why)) => {
                format!("could not be completed ({why}); rolled back, as it takes effect as a whole or not at all")
            }
            (Recovered::Closed, Some(why)) => format!("was interrupted; {why}"),
            (Recovered::Closed, None) => "was complete; only its last log entry was missing".into(),
        };
        let label = if done.why.is_some() { Label::Problem } else { Label::Good };
        text.push_str(&format!("{} {words}\n", paint(label, &format!("change {}", done.change))));
    }
    text
}

pub(crate) fn recovered(context: &Context, report: &RecoverReport) -> String {
    let text = recovered_lines(report) + "\n";
    let disturbed = report.changes.iter().filter(|done| done.why.is_some() && done.result != Recovered::Closed);
    let explain = |number: u64| {
        (context.command(&format!("explain {number}")), "what was rolled back, and what is left in the backups")
    };
    let mut commands: Vec<_> = disturbed.map(|done| explain(done.change)).collect();
    commands.push((context.command("check"), "checks everything"));
    text + &next(context, &commands)
}

#[cfg(test)]
mod tests {
    use veritum_core::change::RecoveredChange;
    use veritum_core::report::{RefusalReport, UndoneChange};

    use super::*;

    fn refused(path: &str, package: Option<&str>, why: &str) -> RefusalReport {
        let path = SystemPath::parse(path.as_bytes()).unwrap();
        RefusalReport { path, package: package.map(Into::into), why: why.into() }
    }

    #[test]
    fn what_recovery_did_is_said_and_why_a_committed_change_was_rolled_back() {
        let done = |result, why: Option<&str>| RecoveredChange { change: 4, result, why: why.map(Into::into) };
        let lines =
            |done| recovered_lines(&RecoverReport { format: RecoverReport::FORMAT.into(), changes: vec![done] });
        assert!(lines(done(Recovered::Finished, None)).contains("now completed"));
        assert!(lines(done(Recovered::TakenBack, None)).contains("the system is unchanged"));
        assert!(lines(done(Recovered::Closed, None)).contains("was complete"));
        let text = lines(done(Recovered::Closed, Some("it is not known whether this was done: quay")));
        assert!(text.contains("was interrupted; it is not known") && !text.contains("was complete"), "{text}");
        let text = lines(done(Recovered::TakenBack, Some("/usr/bin/quay: changed since it was checked")));
        assert!(text.contains("(/usr/bin/quay: changed since it was checked); rolled back"), "{text}");
        assert!(!text.contains("unchanged") && !text.contains("not committed"), "{text}");
    }

    #[test]
    fn refusals_are_listed_package_by_package() {
        let mut all: Vec<_> =
            (0..5).map(|n| refused(&format!("/usr/share/pier/{n}"), Some("pier"), "updated since")).collect();
        all.push(refused("/usr/bin/quay", Some("quay"), "changed since"));
        let change = UndoneChange { of: 1, change: None, actions: Vec::new(), refused: all, user: None, own: None };
        let report = UndoReport {
            format: UndoReport::FORMAT.into(),
            plan_only: true,
            changes: vec![change],
            running: Default::default(),
        };
        let text = refusals(&report, false);
        assert!(text.contains("6 files are not undone"), "{text}");
        assert!(text.contains("  pier: 5 files: updated since\n      /usr/share/pier/0\n"), "{text}");
        assert!(text.contains("and 2 more") && !text.contains("/usr/share/pier/3"), "{text}");
        assert!(text.contains("  quay: changed since\n      /usr/bin/quay\n"), "{text}");
        assert!(refusals(&report, true).contains("/usr/share/pier/4") && !refusals(&report, true).contains("more"));
    }
}
