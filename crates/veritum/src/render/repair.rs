//! The output of `repair`: the plan, and the result.

use std::collections::{BTreeMap, BTreeSet};

use veritum_core::areas::{Stays, VOLUMES, about, blocks_updates};
use veritum_core::model::{Action, ActionKind, ActionResult, AreaName, Finding, FindingId, Subject, Verdict, quoted};
use veritum_core::plan::Left;
use veritum_core::report::{ActionReport, AreaChange, RepairReport};
use veritum_core::work::Preview;

use super::check::{disks_not_checked, doubt, downloads, ignore_disk_errors};
use super::findings::{heading, subject_of};
use super::layout::{Cell, cell, labelled, paragraph, path, table};
use super::style::{Label, paint};
use super::{count, entries, grouped, instruction, next, proof, running, size, subject, written};
use crate::context::Context;
use crate::places::{place, shown};

/// Further lines of a plan are counted.
const SHOWN: usize = 16;
/// With fewer columns, the size of a single file is left out.
const NARROW: usize = 80;
/// Further problems with the same reason are counted.
const SHOWN_LEFT: usize = 8;

/// One line of a plan: its step and area, its subject, the action, and the amount.
struct PlanLine<'a> {
    area: Option<&'a AreaName>,
    heading: String,
    label: &'static str,
    actions: Vec<&'a ActionReport>,
}

/// Actions grouped by area, package and kind.
fn plan_lines<'a>(actions: &'a [ActionReport], findings: &'a [Finding], all: bool) -> Vec<PlanLine<'a>> {
    let mut lines: Vec<PlanLine<'a>> = Vec::new();
    for action in actions {
        let finding = findings.iter().find(|finding| action.findings.contains(&finding.id));
        let area = finding.map(|finding| &finding.area);
        let named = action.package.as_ref().map(|id| id.name.clone());
        let of_subject = || match &action.subject {
            Subject::Source { .. } => "package lists".to_owned(),
            Subject::Object { .. } => "store".to_owned(),
            other => subject(other),
        };
        let name = finding.map(heading).or(named).unwrap_or_else(of_subject);
        let label = action.action.label();
        let same = |line: &&mut PlanLine<'a>| line.area == area && line.heading == name && line.label == label;
        match lines.iter_mut().find(same).filter(|_| !all) {
            Some(line) => line.actions.push(action),
            None => lines.push(PlanLine { area, heading: name, label, actions: vec![action] }),
        }
    }
    lines
}

/// The amount of a line.
fn amount(line: &PlanLine<'_>, findings: &[Finding]) -> Vec<Cell> {
    let files: u64 = line.actions.iter().map(|action| action.things).sum();
    let bytes: u64 = line.actions.iter().map(|action| action.bytes).sum();
    let [action] = line.actions.as_slice() else {
        let size = if bytes > 0 { format!(", {}", size(bytes)) } else { String::new() };
        return vec![cell(format!("{}{size}", entries(line.actions.iter().copied())))];
    };
    let of_store = |f: &&Finding| f.harms.is_some() && action.findings.contains(&f.id);
    let name = findings.iter().find(of_store).map_or_else(|| subject(&action.subject), subject_of);
    let amount = match (files, bytes, &action.subject) {
        (n, 0, Subject::Source { .. }) => count(n, "file", "files"),
        (n, bytes, Subject::Source { .. }) => format!("{}, {} to download", count(n, "file", "files"), size(bytes)),
        (n, bytes, _) if n > 1 => format!("{}, {}", count(n, "entry", "entries"), size(bytes)),
        (_, 0, _) => String::new(),
        (_, bytes, _) => size(bytes),
    };
    match name == line.heading {
        true => vec![cell(amount)],
        false if amount.is_empty() => vec![path(name)],
        false => vec![path(name), cell(amount)],
    }
}

/// The lines of a plan, in steps if there are several areas.
pub(crate) fn action_lines(context: &Context, actions: &[ActionReport], findings: &[Finding]) -> String {
    let all = context.global.all || context.global.verbose;
    let lines = plan_lines(actions, findings, all);
    let areas: BTreeSet<_> = lines.iter().filter_map(|line| line.area).collect();
    let most = if all || lines.len() == SHOWN + 1 { usize::MAX } else { SHOWN };
    let mut step = 0;
    let mut before: Option<&AreaName> = None;
    let mut rows = Vec::new();
    for (at, line) in lines.iter().enumerate() {
        let is_new = at == 0 || line.area != before;
        step += usize::from(is_new);
        before = line.area;
        if at >= most {
            continue;
        }
        let head = if is_new { format!("Step {step}") } else { String::new() };
        let steps = if areas.len() > 1 { vec![labelled(Label::Heading, head)] } else { Vec::new() };
        let what = vec![labelled(Label::Heading, line.heading.clone()), cell(line.label)];
        let mut amount = amount(line, findings);
        if context.width.is_below(NARROW) {
            amount.truncate(1);
        }
        rows.push([steps, what, amount].concat());
    }
    let mut text = table("  ", &rows, context.width);
    if lines.len() > most {
        text.push_str(&format!("  ... {} (--all)\n", count((lines.len() - most) as u64, "more line", "more lines")));
    }
    text
}

/// What is not repaired, by reason, each with what to do.
pub(crate) fn left_lines(context: &Context, left: &[Left]) -> String {
    let mut reasons: BTreeMap<(&str, Option<&Action>), Vec<&Left>> = BTreeMap::new();
    for one in left {
        // An action that names the subject itself is not shared.
        let is_own = |action: &&Action| {
            one.path.as_ref().is_some_and(|p| action.contains(&quoted(p.as_bytes())))
                || action.contains(one.finding.as_str())
        };
        let action = one.action.as_ref().filter(|action| !is_own(action));
        reasons.entry((&one.reason, action)).or_default().push(one);
    }
    let most = if context.global.all { usize::MAX } else { SHOWN_LEFT };
    let mut rows = Vec::new();
    for ((reason, action), group) in reasons {
        for (at, one) in group.iter().take(most).enumerate() {
            let id = labelled(Label::Name, &one.finding.as_str()[..4]);
            let why = if at == 0 { cell(reason) } else { cell("") };
            rows.push(vec![id, path(subject(&one.subject)), why]);
        }
        if group.len() > most {
            let more = count((group.len() - most) as u64, "more", "more");
            rows.push(vec![cell(""), cell(format!("... {more} (--all)"))]);
        }
        if let Some(action) = action {
            rows.push(vec![cell(""), labelled(Label::Command, format!("-> {}", context.action(action)))]);
        }
    }
    table("  ", &rows, context.width)
}

/// What none of these areas' repairs touches.
fn not_touched(areas: &[AreaName], runs_scripts: bool) -> String {
    let abouts: Vec<_> = areas.iter().filter_map(about).collect();
    // A repair of the store does not touch the machine; in a repair of both only the machine's areas count.
    let on_machine = abouts.iter().any(|about| about.is_of_machine);
    let mut abouts = abouts.into_iter().filter(|about| about.is_of_machine == on_machine);
    let mut common = abouts.next().map(|about| about.not_touched.to_vec()).unwrap_or_default();
    abouts.for_each(|about| common.retain(|what| about.not_touched.contains(what)));
    match common.is_empty() {
        true => String::new(),
        false => {
            // Packages' own scripts are not under Veritum's control.
            let head = if runs_scripts { "Not touched by Veritum itself:" } else { "Not touched:" };
            format!("{head} {}.", common.join(", "))
        }
    }
}

fn stays_words(stays: &[Stays]) -> Option<String> {
    let word = |stays: &Stays| format!("{} ({})", count(stays.things, stays.unit.0, stays.unit.1), size(stays.bytes));
    let all: Vec<String> = stays.iter().map(word).collect();
    (!all.is_empty()).then(|| format!("Kept: {}.", all.join("; ")))
}

/// The amount to write, and its source.
fn written_words(context: &Context, preview: &Preview<'_>) -> Option<String> {
    let Preview { check, actions, written, keeps, .. } = preview;
    if !keeps {
        return None;
    }
    let is_on = |action: &ActionReport| matches!(action.action, ActionKind::WriteDisk | ActionKind::WriteFirmware);
    let on_disks = actions.iter().any(is_on);
    let kept = match on_disks {
        true => "Backup: yes (`veritum undo` writes back what was there).",
        false => "Backup: yes (`veritum undo` restores replaced files).",
    };
    if *written == 0 {
        return Some(kept.to_owned());
    }
    let is_exact = actions.iter().all(|action| action.written.is_some());
    let from = context.settings.store.as_ref().filter(|_| !is_exact);
    let from = from.map(|store| format!(" from the signed store {}", place(store)));
    let known = |a: &&ActionReport| check.findings.iter().any(|f| a.findings.contains(&f.id) && is_local(f));
    let local = if actions.iter().any(|a| known(&a)) { " and from the machine's own records" } else { "" };
    Some(format!("Writes {}{}{local}. {kept}", size(*written), from.unwrap_or_default()))
}

/// The preview before the question.
pub(crate) fn preview_words(context: &Context, preview: &Preview<'_>) -> String {
    let Preview { check, actions, remarks, areas, runs_scripts, stays, further, .. } = preview;
    let left: &[Left] = if *further { &[] } else { &check.left };
    // What is left, and notes, are not problems that are repaired.
    let stays_so =
        |id: &FindingId| left.iter().any(|left| left.finding == *id) || check.notes.iter().any(|note| note.id == *id);
    let answered: BTreeSet<&FindingId> =
        actions.iter().flat_map(|action| &action.findings).filter(|id| !stays_so(id)).collect();
    let head = match (answered.len(), further) {
        (0, _) => "Repair plan".to_owned(),
        (n, true) => {
            format!("Repair plan: {} that the repair revealed", count(n as u64, "more problem", "more problems"))
        }
        (n, false) if left.is_empty() => format!("Repair plan: {}", count(n as u64, "problem", "problems")),
        (n, false) => {
            let all = n as u64 + left.len() as u64;
            format!("Repair plan: {} of {}", grouped(n as u64), count(all, "problem", "problems"))
        }
    };
    let known: Vec<Finding> = check.findings.iter().chain(&check.notes).cloned().collect();
    let (exact, others): (Vec<ActionReport>, Vec<ActionReport>) =
        actions.iter().cloned().partition(|action| action.written.is_some());
    let all = context.global.all || context.global.verbose;
    let mut text = format!("{}\n{}", paint(Label::Heading, &head), action_lines(context, &others, &known));
    text.push_str(&written::describe(&exact, all));
    if !left.is_empty() {
        text.push_str(&format!("\n{}\n{}", paint(Label::Heading, "Not repaired"), left_lines(context, left)));
    }
    text.push('\n');
    let lines =
        remarks.iter().map(|remark| (*remark).clone()).chain(written_words(context, preview)).chain(stays_words(stays));
    for line in lines.chain(Some(not_touched(areas, *runs_scripts)).filter(|line| !line.is_empty())) {
        text.push_str(&paragraph("", &line, context.width));
    }
    text + "\n"
}

/// Whether a finding is about a record for which no package is the reference.
fn is_local(finding: &Finding) -> bool {
    finding.verified_by.is_none() && about(&finding.area).is_some_and(|about| about.by_reference)
}

/// The output of `repair --plan`; `shown` is the preview, if there is anything to ask.
pub(crate) fn plan_words(context: &Context, report: &RepairReport, shown: Option<String>, named: &str) -> String {
    let left: Vec<Left> = report.areas.iter().flat_map(|a| a.remaining.clone()).collect();
    // Downloads were done, unless the repair was only to be shown.
    let waits = report.plan_only && !report.before.downloads.is_empty();
    let is_shown = shown.is_some();
    let mut text = match shown {
        Some(shown) => shown,
        None if report.before.problems() == 0 => {
            let later = if waits { downloads(context, &report.before) } else { String::new() };
            let known = report.before.notes.iter().filter(|note| note.verdict == Verdict::CheckArranged);
            let known =
                known.map(|note| format!("    {} is checked at the next start already.\n", subject(&note.subject)));
            let known: String = known.collect();
            let open = disks_not_checked(&report.before);
            match open.is_empty() {
                true => format!("{}  No problems found, nothing to repair.\n{known}{later}", paint(Label::Good, "OK")),
                false => {
                    format!("{}  No problems found in what could be checked.\n{open}", paint(Label::Bad, "NOT CHECKED"))
                }
            }
        }
        None if !report.before.downloads.is_empty() => format!(
            "{}  The plan is known only after packages are downloaded.\n{}{}",
            paint(Label::Bad, "NOT REPAIRED"),
            downloads(context, &report.before),
            left_lines(context, &left)
        ),
        None => format!(
            "{}  Nothing can be repaired automatically:\n{}",
            paint(Label::Bad, "NOT REPAIRED"),
            left_lines(context, &left)
        ),
    };
    text.push_str(&doubt(context, &report.before));
    text.push_str("Nothing was changed.\n");
    let only_volumes = report.areas.iter().all(|area| area.area == VOLUMES);
    let commands = if report.before.doubt.is_some() && only_volumes {
        let then = context.command(&format!("repair{named} --rescued DIR"));
        vec![(context.command("rescue --to DIR"), "first"), (then, "if these copies are there")]
    } else if report.before.doubt.is_some() {
        vec![ignore_disk_errors(context, named)]
    } else if is_shown || waits {
        vec![(context.command(&format!("repair{named}")), "asks, then repairs")]
    } else {
        own_commands(context, &left)
    };
    text + &next(context, &commands)
}

/// The Veritum commands for what is not repaired, if it is known to them: problems of disks by themselves cannot be explained further.
fn own_commands(context: &Context, left: &[Left]) -> Vec<(String, &'static str)> {
    let of_disks = !context.global.disk.is_empty();
    let mut all = left.iter().filter_map(|left| left.action.as_ref()?.complete_command());
    let words = all.find(|words| !(of_disks && words.starts_with("explain ")));
    words.map(|words| (context.command(words), "for what is left")).into_iter().collect()
}

/// What a person should do now about what was repaired.
fn afterwards(report: &RepairReport) -> BTreeSet<&Action> {
    let done: Vec<_> =
        report.areas.iter().flat_map(|a| &a.actions).filter(|a| a.result == ActionResult::Done).collect();
    let is_left = |f: &&Finding| report.areas.iter().flat_map(|a| &a.remaining).any(|left| left.finding == f.id);
    let found = report.before.findings.iter().filter(|f| done.iter().any(|a| a.findings.contains(&f.id)));
    let found = found.filter(|f| !is_left(f));
    // What is no problem, but not the last word either: an emergency menu.
    let noted = report.after.iter().flat_map(|after| &after.notes);
    let noted = noted.filter(|f| done.iter().any(|action| action.subject == f.subject));
    found.chain(noted).filter_map(|f| f.action.as_ref()).collect()
}

pub(crate) fn describe(context: &Context, report: &RepairReport, named: &str, declined: bool) -> String {
    let last = report.after.as_ref().unwrap_or(&report.before);
    let blocking = last.findings.iter().filter(|finding| blocks_updates(finding)).count() as u64;
    let proof = report.proof.as_ref().map(|proof| proof::describe(context, proof, blocking)).unwrap_or_default();
    let Some(after) = &report.after else {
        if declined {
            return "Nothing was changed.\n".into();
        }
        return proof + &plan_words(context, report, None, named);
    };
    let repaired: u64 = report.areas.iter().map(|a| a.repaired).sum();
    let left: Vec<Left> = report.areas.iter().flat_map(|a| a.remaining.clone()).collect();
    let none_left = after.problems() == 0 && left.is_empty();
    let checked = checked_again(report);
    let mut text = proof;
    let acted = report.areas.iter().flat_map(|a| &a.actions).any(|action| action.result == ActionResult::Done);
    text.push_str(&match (repaired, none_left) {
        (0, true) if acted => format!("{}  no problems ({checked})\n", paint(Label::Good, "OK")),
        (0, true) => format!("{}  no problems, nothing to repair\n", paint(Label::Good, "OK")),
        (_, true) => {
            format!(
                "{}  {}; none left ({checked})\n",
                paint(Label::Good, "REPAIRED"),
                count(repaired, "problem", "problems")
            )
        }
        (0, false) => format!(
            "{}  {} left\n{}",
            paint(Label::Bad, "NOT REPAIRED"),
            count(left.len() as u64, "problem is", "problems are"),
            left_lines(context, &left)
        ),
        (_, false) => format!(
            "{}  {} repaired ({checked}), {} left\n{}",
            paint(Label::Bad, "PARTLY REPAIRED"),
            count(repaired, "problem", "problems"),
            grouped(left.len() as u64),
            left_lines(context, &left)
        ),
    });
    text.push_str(&arranged(report));
    for action in afterwards(report) {
        text.push_str(&instruction(context, "Action:", action));
    }
    text.push_str(&running::describe(&report.running));
    let on_files = |a: &&AreaChange| {
        a.actions.iter().any(|action| action.result == ActionResult::Done && action.action.is_undoable())
    };
    let numbers: Vec<u64> = report.areas.iter().filter(on_files).filter_map(|a| a.change).collect();
    for number in &numbers {
        text.push_str(&format!("Change {number}: backups and log in {}\n", change_log_place(context, *number)));
    }
    let undo = match numbers.as_slice() {
        [] => String::new(),
        [number] => format!("Undo: {}\n", paint(Label::Command, &context.command(&format!("undo {number}")))),
        // Without a number all changes of the latest run are undone.
        _ => format!("Undo: {}\n", paint(Label::Command, &context.command("undo"))),
    };
    let commands: Vec<_> = running::command(&report.running).into_iter().chain(own_commands(context, &left)).collect();
    text + &undo + &next(context, &commands)
}

/// The file systems whose check is arranged by this repair.
fn arranged(report: &RepairReport) -> String {
    let actions = report.areas.iter().flat_map(|area| &area.actions);
    let done = actions.filter(|a| a.action == ActionKind::ArrangeCheck && a.result == ActionResult::Done);
    done.map(|action| {
        format!("Arranged: {} is checked at the next start, before it is mounted.\n", subject(&action.subject))
    })
    .collect()
}

/// How the result was checked: only some areas read again from the medium what they wrote.
fn checked_again(report: &RepairReport) -> &'static str {
    let acted = |area: &&AreaChange| area.actions.iter().any(|action| action.result == ActionResult::Done);
    let mut acted = report.areas.iter().filter(acted).filter_map(|area| about(&area.area));
    match acted.all(|about| about.rereads_the_medium) {
        true => "re-read from the disk and verified",
        false => "checked again",
    }
}

fn change_log_place(context: &Context, number: u64) -> String {
    let state = context.settings.state_dir.clone();
    let root = || context.settings.root.join("var/lib/veritum");
    shown(&state.unwrap_or_else(root).join("changes").join(number.to_string()))
}

#[cfg(test)]
mod tests {
    use veritum_core::areas::{APPS, FILES, STORE, UPDATES};
    use veritum_core::model::ActionKind;
    use veritum_core::report::CheckReport;

    use super::*;

    #[test]
    fn what_is_not_touched_holds_in_every_area_and_is_not_promised_for_scripts_of_packages() {
        let told = |areas: &[AreaName], runs_scripts| not_touched(areas, runs_scripts);
        let plain = told(&[UPDATES], false);
        assert!(
            plain.contains("Not touched:")
                && plain.ends_with(" what is installed, APT sources and settings, users' homes (/home, /root).")
        );
        assert!(told(&[UPDATES], true).contains("Not touched by Veritum itself:"));
        let both = told(&[FILES, UPDATES], false);
        assert!(both.ends_with(" users' homes (/home, /root).") && !both.contains("what is installed"), "{both}");
        assert_eq!(told(&[STORE, FILES], false), told(&[FILES], false), "the machine is what matters");
        assert!(told(&[STORE], false).contains("the machine"));
    }

    #[test]
    fn only_what_was_read_from_the_medium_is_said_to_be_checked_on_it() {
        let told = |areas: &[AreaName]| {
            let action = |area: &AreaName| ActionReport {
                result: ActionResult::Done,
                ..ActionReport::on(ActionKind::SetAside, Subject::Service { name: area.word().into() }, Vec::new())
            };
            let change = |area: &AreaName| AreaChange {
                area: area.clone(),
                change: None,
                actions: vec![action(area)],
                repaired: 1,
                remaining: Vec::new(),
            };
            let before = CheckReport::blank(jiff::Timestamp::UNIX_EPOCH);
            checked_again(&RepairReport::new(false, areas.iter().map(change).collect(), before))
        };
        assert_eq!(told(&[STORE, FILES]), "re-read from the disk and verified");
        assert_eq!((told(&[FILES, UPDATES]), told(&[APPS])), ("checked again", "checked again"));
    }
}
