//! What `repair` prints: the plan, and what came of it.

use std::collections::BTreeMap;

use veritum_core::model::{ActionKind, ActionResult, Finding, FindingId, Subject, quoted};
use veritum_core::plan::Left;
use veritum_core::report::{ActionReport, AreaChange, CheckReport, RepairReport};
use veritum_core::work::Preview;

use super::check::{despite_disk, doubt, downloads, subject_of};
use super::style::{Label, paint};
use super::table::{cell, labelled, lines};
use super::{count, grouped, next, renewing, running, size, subject};
use crate::context::{Context, place, shown};
use veritum_core::areas::about;

/// Actions beyond these are counted.
const SHOWN: usize = 40;
/// Places that share a reason beyond these are counted.
const SHOWN_LEFT: usize = 8;

pub(crate) fn action_lines(actions: &[ActionReport], findings: &[Finding], all: bool) -> String {
    let most = if all { usize::MAX } else { SHOWN };
    let about = |action: &ActionReport| {
        let of_store = |f: &&Finding| f.harms.is_some() && action.findings.contains(&f.id);
        findings.iter().find(of_store).map_or_else(|| subject(&action.subject), subject_of)
    };
    let row = |action: &ActionReport| {
        let amount = match (action.things, action.bytes) {
            (n, bytes) if n > 1 => format!("{}, {}", count(n, "thing", "things"), size(bytes)),
            (_, 0) => String::new(),
            (_, bytes) => size(bytes),
        };
        vec![cell(action.action.label()), cell(about(action)), labelled(Label::Remark, amount)]
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
        let own = |next: &&str| {
            one.path.as_ref().is_some_and(|p| next.contains(&quoted(p.as_bytes())))
                || next.contains(one.finding.as_str())
        };
        let next = one.next.as_deref().filter(|next| !own(next));
        reasons.entry((&one.reason, next)).or_default().push(one);
    }
    let mut text = String::new();
    for ((reason, next), group) in reasons {
        let rows: Vec<_> = group
            .iter()
            .take(SHOWN_LEFT)
            .map(|one| vec![labelled(Label::Name, one.finding.as_str()), cell(subject(&one.subject))])
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

fn not_touched(only_store: bool) -> String {
    if only_store {
        return format!("{} the machine, the store's keys.\n", paint(Label::Heading, "Not touched:"));
    }
    format!(
        "{} users' folders (/home, /root), settings files that were edited or removed, anything that no component owns.\n",
        paint(Label::Heading, "Not touched:")
    )
}

fn plan_text(
    context: &Context,
    check: &CheckReport,
    actions: &[ActionReport],
    left: &[Left],
    (bytes, stay): (u64, Option<(u64, u64)>),
) -> String {
    if renewing::is_only_updates(check)
        || actions.iter().any(|action| matches!(action.action, ActionKind::Pause | ActionKind::Configure))
    {
        return updates_text(context, check, actions, left, stay);
    }
    let right: usize = actions.iter().map(|a| a.findings.len()).sum();
    if right > 0 && actions.iter().all(|action| action.action == ActionKind::Register) {
        let head = paint(Label::Heading, &count(right as u64, "application", "applications"));
        let lines = action_lines(actions, &check.findings, context.global.verbose);
        return format!(
            "{head} would be listed anew by the desktop's own tool:\n{lines}\nNothing else is touched. The list is made of what is installed; it is not taken back by `undo`.\n"
        );
    }
    let mut text =
        format!("{} would be put right:\n", paint(Label::Heading, &count(right as u64, "problem", "problems")));
    text.push_str(&action_lines(actions, &check.findings, context.global.verbose));
    if !left.is_empty() {
        text.push_str(&format!(
            "\n{} would remain:\n{}",
            paint(Label::Bad, &count(left.len() as u64, "problem", "problems")),
            left_lines(left)
        ));
    }
    let of_store = |a: &&ActionReport| matches!(a.subject, Subject::Object { .. } | Subject::Index { .. });
    let in_store = actions.iter().filter(of_store).count();
    let store = context.settings.store.as_ref().map_or_else(String::new, place);
    if in_store > 0 {
        text.push_str(&format!(
            "\nThe store comes first: what it would get is verified against what its keeper signed; what is damaged goes to {store}/set-aside.\n"
        ));
    }
    let only_store = in_store == actions.len();
    if only_store {
        return text + &not_touched(true);
    }
    let from = if store.is_empty() { String::new() } else { format!(" from the signed store {store}") };
    let known = |a: &&ActionReport| check.findings.iter().any(|f| a.findings.contains(&f.id) && is_local(f));
    let local = if actions.iter().any(|a| known(&a)) { " and what the machine itself still knows" } else { "" };
    text.push_str(&format!(
        "\nIt would write {}{from}{local}. What it replaces is kept, and `veritum undo` brings it back.\n{}",
        size(bytes),
        not_touched(false)
    ));
    text
}

fn updates_text(
    context: &Context,
    check: &CheckReport,
    actions: &[ActionReport],
    left: &[Left],
    stay: Option<(u64, u64)>,
) -> String {
    let stays = |id: &FindingId| left.iter().any(|left| left.finding == *id);
    let right = |f: &&Finding| actions.iter().any(|a| a.findings.contains(&f.id)) && !stays(&f.id);
    let right = check.findings.iter().filter(right).count() as u64;
    if actions.iter().all(|action| action.action == ActionKind::Pause) && !actions.is_empty() {
        return renewing::hold_words(actions);
    }
    if actions.iter().all(|action| action.action == ActionKind::Configure) && !actions.is_empty() {
        return renewing::finish_words(actions, &check.findings);
    }
    let head = match right {
        0 => "This would be done:\n".to_owned(),
        n => format!("{} would be put right:\n", paint(Label::Heading, &count(n, "problem", "problems"))),
    };
    let most = if context.global.verbose { usize::MAX } else { SHOWN };
    let mut text = head + &renewing::action_lines(actions, &check.findings, most);
    if actions.len() > most {
        text.push_str(&format!("  and {} more (--verbose lists them)\n", grouped((actions.len() - most) as u64)));
    }
    if !left.is_empty() {
        let remain = count(left.len() as u64, "problem", "problems");
        text.push_str(&format!("\n{} would remain:\n{}", paint(Label::Bad, &remain), left_lines(left)));
    }
    text + &renewing::stay_words(stay, actions)
}

/// Whether a finding is about a record of which no package knows how it should be.
fn is_local(finding: &Finding) -> bool {
    finding.vouched_by.is_none() && about(&finding.area).is_some_and(|about| about.by_reference)
}

pub(crate) fn preview_words(context: &Context, preview: &Preview<'_>) -> String {
    let head = if preview.further { "Putting that right brought more to light.\n\n" } else { "" };
    let plan = plan_text(context, preview.check, &preview.actions, preview.left, (preview.bytes, preview.stay));
    let rest = match preview.ahead {
        true if preview.actions.iter().all(|action| action.action == ActionKind::Pause) => {
            "What is damaged is looked at after this, and asked about.\n"
        }
        true => {
            "The files are judged by what is installed: what is wrong with them is looked at after this, and asked about.\n"
        }
        false => "",
    };
    format!("{head}{plan}{rest}\n")
}

pub(crate) fn plan_words(context: &Context, report: &RepairReport, named: &str) -> String {
    let actions: Vec<ActionReport> = report.areas.iter().flat_map(|a| a.actions.clone()).collect();
    let left: Vec<Left> = report.areas.iter().flat_map(|a| a.remaining.clone()).collect();
    // What was to be downloaded was, unless the repair was only to be shown.
    let waits = report.plan_only && !report.before.downloads.is_empty();
    let mut text =
        if report.before.problems() == 0 && (actions.is_empty() || !renewing::is_only_updates(&report.before)) {
            let told = if waits { downloads(&report.before) } else { String::new() };
            format!("{}: nothing wrong was found.\n{told}", paint(Label::Good, "nothing to put right"))
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
            plan_text(context, &report.before, &actions, &left, (actions.iter().map(|a| a.bytes).sum(), None))
        };
    text.push_str(&doubt(&report.before));
    text.push_str("Nothing was changed.\n\n");
    let commands = if actions.is_empty() && !waits {
        vec![(context.command("status"), "what else is pending on this machine")]
    } else if report.before.doubt.is_some() {
        vec![despite_disk(context, named)]
    } else {
        vec![(context.command(&format!("repair{named}")), "does it, after a question")]
    };
    text + &next(&commands)
}

/// What a person should do now about what was put right.
fn advice(report: &RepairReport) -> Vec<&String> {
    let done: Vec<_> =
        report.areas.iter().flat_map(|a| &a.actions).filter(|a| a.result == ActionResult::Done).collect();
    let found = report.before.findings.iter().filter(|f| done.iter().any(|a| a.findings.contains(&f.id)));
    let mut all: Vec<&String> = found.filter_map(|f| f.advice.as_ref()).collect();
    all.sort();
    all.dedup();
    all
}

pub(crate) fn words(
    context: &Context,
    report: &RepairReport,
    (named, checked): (&str, &str),
    declined: bool,
) -> String {
    let proof = report.proof.as_ref().map(renewing::proof_words).unwrap_or_default();
    let Some(after) = &report.after else {
        if declined {
            return "Nothing was changed.\n".into();
        }
        return proof + &plan_words(context, report, named);
    };
    let right: u64 = report.areas.iter().map(|a| a.put_right).sum();
    let left: Vec<Left> = report.areas.iter().flat_map(|a| a.remaining.clone()).collect();
    let remain = after.problems();
    let mut text = proof + &format!("{} put right", paint(Label::Good, &count(right, "problem", "problems")));
    if remain == 0 && left.is_empty() {
        text.push_str(", none remain (checked again on the disk itself)\n");
    } else {
        text.push_str(&format!(
            ", {}:\n{}",
            paint(Label::Bad, &count(left.len() as u64, "remains", "remain")),
            left_lines(&left)
        ));
    }
    let on_files = |a: &&AreaChange| {
        a.actions.iter().any(|action| action.result == ActionResult::Done && action.action.is_undoable())
    };
    let numbers: Vec<u64> = report.areas.iter().filter(on_files).filter_map(|a| a.change).collect();
    for number in &numbers {
        text.push_str(&format!(
            "Change {number} keeps what was replaced; its journal lies in {}\n",
            journal_place(context, *number)
        ));
    }
    for advice in advice(report) {
        text.push_str(&format!("{} {advice}\n", paint(Label::Heading, "Still to be done:")));
    }
    text.push_str(&running::words(&report.running));
    text.push('\n');
    let mut commands = Vec::new();
    commands.extend(running::command(&report.running));
    commands.push((context.command(&format!("check{checked}")), "looks at it once more"));
    let store_too =
        report.areas.iter().any(|a| !a.actions.is_empty() && about(&a.area).is_some_and(|about| !about.is_of_machine));
    let what = if store_too { "takes back what was done to the machine" } else { "takes it all back" };
    match numbers.as_slice() {
        [] => {}
        [number] => commands.push((context.command(&format!("undo {number}")), what)),
        // Without a number all changes of the latest run are meant.
        _ => commands.push((context.command("undo"), what)),
    }
    text + &next(&commands)
}

fn journal_place(context: &Context, number: u64) -> String {
    match &context.settings.state {
        Some(state) => shown(&state.join("changes").join(number.to_string())),
        None => format!("/var/lib/veritum/changes/{number} of the machine"),
    }
}
