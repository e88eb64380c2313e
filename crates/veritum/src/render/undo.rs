//! What `undo` and `recover` print.

use veritum_core::model::quoted;
use veritum_core::report::{RecoverReport, UndoReport};

use super::repair::action_lines;
use super::style::{Label, paint};
use super::{count, next};
use crate::context::Context;

fn refusals(report: &UndoReport) -> String {
    let all: Vec<_> = report.changes.iter().flat_map(|c| &c.refused).collect();
    if all.is_empty() {
        return String::new();
    }
    let mut text = format!(
        "{}:\n",
        paint(Label::Bad, &count(all.len() as u64, "place is not taken back", "places are not taken back"))
    );
    for one in all {
        text.push_str(&format!("  {}\n      {}\n", quoted(one.path.as_bytes()), one.why));
    }
    text
}

pub(crate) fn preview(context: &Context, report: &UndoReport) -> String {
    let mut text = String::new();
    for change in &report.changes {
        text.push_str(&format!("{} would be taken back:\n", paint(Label::Heading, &format!("change {}", change.of))));
        text.push_str(&action_lines(&change.actions, context.global.verbose));
    }
    text.push_str(&refusals(report));
    text.push_str("\nWhat stands there now is kept in turn, so this can be taken back too.\n");
    text.push_str(&format!("{} everything else.\n", paint(Label::Heading, "Not touched:")));
    text + "\n"
}

pub(crate) fn words(context: &Context, report: &UndoReport) -> String {
    let done: Vec<_> = report.changes.iter().filter(|c| c.change.is_some()).collect();
    if done.is_empty() {
        let nothing = report.changes.iter().all(|c| c.actions.is_empty());
        let head = if report.plan_only && !nothing { preview(context, report) } else { refusals(report) };
        return format!("{head}Nothing was changed.\n");
    }
    let mut text = String::new();
    for change in &done {
        let places = change.actions.iter().filter(|a| a.why.is_none()).count() as u64;
        text.push_str(&format!(
            "{} taken back: {} as before\n",
            paint(Label::Good, &format!("change {}", change.of)),
            count(places, "place is", "places are")
        ));
        for failed in change.actions.iter().filter(|a| a.why.is_some()) {
            text.push_str(&format!(
                "  {}: {}\n",
                quoted(failed.path.as_bytes()),
                failed.why.clone().unwrap_or_default()
            ));
        }
    }
    text.push_str(&refusals(report));
    text.push('\n');
    let mut commands = vec![(context.command("check"), "looks at everything")];
    if let Some(number) = done.first().and_then(|c| c.change) {
        commands.push((context.command(&format!("undo {number}")), "brings the change again"));
    }
    text + &next(&commands)
}

fn numbers(open: &[u64]) -> String {
    open.iter().map(u64::to_string).collect::<Vec<_>>().join(", ")
}

pub(crate) fn recover_plan(open: &[u64]) -> String {
    if open.is_empty() {
        "Nothing was interrupted: there is nothing to recover.\n".into()
    } else {
        format!(
            "Interrupted: change {}. `veritum recover` finishes what was committed and takes back what was not.\n",
            numbers(open)
        )
    }
}

pub(crate) fn recover_question(open: &[u64]) -> String {
    format!("Finish or take back the interrupted change {} on this mounted system?", numbers(open))
}

/// What became of each interrupted change, a line each.
pub(crate) fn recovered_lines(report: &RecoverReport) -> String {
    let mut text = String::new();
    for (number, what) in &report.changes {
        let words = match what.as_str() {
            "finished" => "had been committed and is finished now",
            "taken-back" => "had not been committed and is taken back: the machine is as before it",
            _ => "was whole; only its last record was missing",
        };
        text.push_str(&format!("{} {words}\n", paint(Label::Good, &format!("change {number}"))));
    }
    text
}

pub(crate) fn recovered(context: &Context, report: &RecoverReport) -> String {
    let text = recovered_lines(report) + "\n";
    text + &next(&[(context.command("check"), "looks at everything")])
}
