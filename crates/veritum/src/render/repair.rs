//! What `repair` prints: the plan, and what came of it.

use std::collections::BTreeMap;

use veritum_core::model::quoted;
use veritum_core::plan::Left;
use veritum_core::report::{ActionReport, ProgramReport, RepairReport};
use veritum_core::work::Preview;

use super::check::{doubt, downloads};
use super::style::{Label, paint};
use super::table::{cell, labelled, lines};
use super::{count, grouped, next, size};
use crate::context::{Context, shown};

/// Actions beyond these are counted.
const SHOWN: usize = 40;
/// Places that share a reason beyond these are counted.
const SHOWN_LEFT: usize = 8;

/// What an action is called.
pub(crate) fn action_words(word: &str) -> &str {
    match word {
        "restore" => "restore",
        "relink" => "make one file again",
        "set-mode" => "set owner and mode",
        "bring-back" => "bring back",
        "set-aside" => "set aside",
        other => other,
    }
}

pub(crate) fn action_lines(actions: &[ActionReport], all: bool) -> String {
    let most = if all { usize::MAX } else { SHOWN };
    let row = |action: &ActionReport| {
        let amount = match (action.things, action.bytes) {
            (n, bytes) if n > 1 => format!("{}, {}", count(n, "thing", "things"), size(bytes)),
            (_, 0) => String::new(),
            (_, bytes) => size(bytes),
        };
        vec![cell(action_words(&action.action)), cell(quoted(action.path.as_bytes())), labelled(Label::Remark, amount)]
    };
    let rows: Vec<_> = actions.iter().take(most).map(row).collect();
    let mut text = lines("  ", &rows);
    if actions.len() > most {
        text.push_str(&format!("  and {} more (--verbose lists them)\n", grouped((actions.len() - most) as u64)));
    }
    text
}

/// What remains, by reason; what shares one is told with it once.
pub(crate) fn left_lines(left: &[Left]) -> String {
    let mut reasons: BTreeMap<(&str, Option<&str>), Vec<&Left>> = BTreeMap::new();
    for one in left {
        // A next step that names the place itself is no shared one.
        let next = one.next.as_deref().filter(|next| !next.contains(&quoted(one.path.as_bytes())));
        reasons.entry((&one.reason, next)).or_default().push(one);
    }
    let mut text = String::new();
    for ((reason, next), group) in reasons {
        let rows: Vec<_> = group
            .iter()
            .take(SHOWN_LEFT)
            .map(|one| vec![labelled(Label::Name, one.finding.as_str()), cell(quoted(one.path.as_bytes()))])
            .collect();
        text.push_str(&lines("  ", &rows));
        if group.len() > SHOWN_LEFT {
            text.push_str(&format!("  and {} more\n", grouped((group.len() - SHOWN_LEFT) as u64)));
        }
        let next = next.map(|n| format!("; {n}")).unwrap_or_default();
        text.push_str(&format!("      {}\n", paint(Label::Remark, &format!("{reason}{next}"))));
    }
    text
}

fn not_touched() -> String {
    format!(
        "{} users' folders (/home, /root), settings files that were edited or removed, anything that no component owns.\n",
        paint(Label::Heading, "Not touched:")
    )
}

fn plan_text(context: &Context, actions: &[ActionReport], left: &[Left], bytes: u64) -> String {
    let right: usize = actions.iter().map(|a| a.findings.len()).sum();
    let mut text =
        format!("{} would be put right:\n", paint(Label::Heading, &count(right as u64, "problem", "problems")));
    text.push_str(&action_lines(actions, context.global.verbose));
    if !left.is_empty() {
        text.push_str(&format!(
            "\n{} would remain:\n{}",
            paint(Label::Bad, &count(left.len() as u64, "problem", "problems")),
            left_lines(left)
        ));
    }
    let from =
        context.settings.store.as_ref().map_or_else(String::new, |s| format!(" from the signed store {}", shown(s)));
    text.push_str(&format!(
        "\nIt would write {}{from}. What it replaces is kept, and `veritum undo` brings it back.\n{}",
        size(bytes),
        not_touched()
    ));
    text
}

pub(crate) fn preview_words(context: &Context, preview: &Preview<'_>) -> String {
    let head = if preview.further { "Putting that right brought more to light.\n\n" } else { "" };
    format!("{head}{}\n", plan_text(context, &preview.actions, preview.left, preview.bytes))
}

pub(crate) fn plan_words(context: &Context, report: &RepairReport) -> String {
    let actions: Vec<ActionReport> = report.areas.iter().flat_map(|a| a.actions.clone()).collect();
    let left: Vec<Left> = report.areas.iter().flat_map(|a| a.remaining.clone()).collect();
    let mut text = if report.before.problems() == 0 {
        format!("{}: nothing wrong was found.\n", paint(Label::Good, "nothing to put right"))
    } else if actions.is_empty() && !report.before.downloads.is_empty() {
        format!(
            "{} can be planned before what belongs there is at hand.\n{}{}",
            paint(Label::Bad, "nothing"),
            downloads(&report.before),
            left_lines(&left)
        )
    } else if actions.is_empty() {
        format!("{} can be put right from here:\n{}", paint(Label::Bad, "nothing"), left_lines(&left))
    } else {
        plan_text(context, &actions, &left, actions.iter().map(|a| a.bytes).sum())
    };
    text.push_str(&doubt(&report.before));
    text.push_str("Nothing was changed.\n\n");
    let waits = !report.before.downloads.is_empty();
    let commands = if actions.is_empty() && !waits || report.before.doubt.is_some() {
        vec![(context.command("status"), "what else is pending on this machine")]
    } else {
        vec![(context.command("repair"), "does it, after a question")]
    };
    text + &next(&commands)
}

/// What a person should do now about what was put right.
fn advice(report: &RepairReport) -> Vec<&String> {
    let done: Vec<_> = report.areas.iter().flat_map(|a| &a.actions).filter(|a| a.result == "done").collect();
    let found = report.before.findings.iter().filter(|f| done.iter().any(|a| a.findings.contains(&f.id)));
    let mut all: Vec<&String> = found.filter_map(|f| f.advice.as_ref()).collect();
    all.sort();
    all.dedup();
    all
}

pub(crate) fn words(context: &Context, report: &RepairReport, declined: bool) -> String {
    let Some(after) = &report.after else {
        if declined {
            return "Nothing was changed.\n".into();
        }
        return plan_words(context, report);
    };
    let right: u64 = report.areas.iter().map(|a| a.put_right).sum();
    let left: Vec<Left> = report.areas.iter().flat_map(|a| a.remaining.clone()).collect();
    let remain = after.problems();
    let mut text = format!("{} put right", paint(Label::Good, &count(right, "problem", "problems")));
    if remain == 0 && left.is_empty() {
        text.push_str(", none remain (checked again on the disk itself)\n");
    } else {
        text.push_str(&format!(
            ", {}:\n{}",
            paint(Label::Bad, &count(left.len() as u64, "remains", "remain")),
            left_lines(&left)
        ));
    }
    let numbers: Vec<u64> = report.areas.iter().filter_map(|a| a.change).collect();
    for number in &numbers {
        text.push_str(&format!(
            "Change {number} keeps what was replaced; its journal lies in {}\n",
            journal_place(context, *number)
        ));
    }
    for advice in advice(report) {
        text.push_str(&format!("{} {advice}\n", paint(Label::Heading, "Still to be done:")));
    }
    text.push_str(&still_running(&report.programs, report.programs_unseen));
    text.push('\n');
    let mut commands = Vec::new();
    let services = services(&report.programs);
    if !services.is_empty() {
        let command = format!("systemctl restart {}", services.join(" "));
        commands.push((command, "ends the old files' use; have work in open programs saved before"));
    }
    commands.push((context.command("check"), "looks at everything once more"));
    if let Some(number) = numbers.first() {
        commands.push((context.command(&format!("undo {number}")), "takes it all back"));
    }
    text + &next(&commands)
}

/// The services, as a shell takes their names.
fn services(programs: &[ProgramReport]) -> Vec<String> {
    let mut names: Vec<String> =
        programs.iter().filter_map(|p| p.service.as_deref()).map(|name| quoted(name.as_bytes())).collect();
    names.dedup();
    names
}

/// Programs that still run on what was replaced, and what to do about those that are no service.
fn still_running(programs: &[ProgramReport], unseen: u64) -> String {
    if programs.is_empty() {
        return String::new();
    }
    let running: u64 = programs.iter().map(|p| p.pids.len() as u64).sum();
    let head = count(running, "program still runs", "programs still run");
    let mut text = format!("\n{} on what was replaced:\n", paint(Label::Bad, &head));
    let row = |program: &ProgramReport| {
        let pids = program.pids.iter().take(6).map(u32::to_string).collect::<Vec<_>>().join(", ");
        let more = if program.pids.len() > 6 { ", …" } else { "" };
        let noun = if program.pids.len() == 1 { "process" } else { "processes" };
        let what = program.service.clone().unwrap_or_else(|| "no service: end it and start it again".into());
        vec![cell(quoted(program.name.as_bytes())), labelled(Label::Remark, format!("{noun} {pids}{more}")), cell(what)]
    };
    text.push_str(&lines("  ", &programs.iter().map(row).collect::<Vec<_>>()));
    if programs.iter().any(|p| p.pids.contains(&1)) {
        text.push_str("  The first of all programs is among them: restart the machine.\n");
    }
    if unseen > 0 {
        let others = count(unseen, "other program", "other programs");
        text.push_str(&format!("  {others} could not be looked into (of other users, or in a container).\n"));
    }
    text
}

fn journal_place(context: &Context, number: u64) -> String {
    match &context.settings.state {
        Some(state) => shown(&state.join("changes").join(number.to_string())),
        None => format!("/var/lib/veritum/changes/{number} of the machine"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn program(service: Option<&str>, name: &str, pids: &[u32]) -> ProgramReport {
        ProgramReport { service: service.map(Into::into), name: name.into(), pids: pids.to_vec() }
    }

    #[test]
    fn programs_on_old_files_are_told_with_what_restarts_them() {
        let all = [
            program(None, "init", &[1]),
            program(None, "mail\u{7}", &[70, 71, 72, 73, 74, 75, 76]),
            program(Some("printing.service"), "spool", &[40]),
            program(Some("printing.service"), "worker", &[41, 42]),
        ];
        let text = still_running(&all, 2);
        assert!(text.contains("11 programs still run"), "{text}");
        assert!(text.contains("40") && text.contains("41, 42") && text.contains("70, 71, 72, 73, 74, 75, …"), "{text}");
        assert!(text.contains(r"$'mail\x07'") && text.contains("no service: end it and start it again"), "{text}");
        assert!(text.contains("restart the machine") && text.contains("2 other programs could not be looked into"));
        assert_eq!(services(&all), ["printing.service"]);
        assert_eq!(services(&[program(Some("a; b.service"), "b", &[9])]), ["$'a; b.service'"]);
        assert_eq!((still_running(&[], 5), services(&[]).len()), (String::new(), 0));
    }
}
