//! What `repair` prints: the plan, and what came of it.

use std::collections::{BTreeMap, BTreeSet};

use veritum_core::areas::{Stays, about};
use veritum_core::model::{ActionResult, AreaName, Finding, FindingId, Subject, quoted};
use veritum_core::plan::Left;
use veritum_core::report::{ActionReport, AreaChange, RepairReport};
use veritum_core::work::Preview;

use super::check::{despite_disk, doubt, downloads};
use super::findings::subject_of;
use super::style::{Label, paint};
use super::table::{cell, labelled, lines};
use super::{count, grouped, next, proof, running, size, subject};
use crate::context::Context;
use crate::places::{place, shown};

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
        let amount = match (action.things, action.bytes, &action.subject) {
            (n, 0, Subject::Source { .. }) => count(n, "file", "files"),
            (n, bytes, Subject::Source { .. }) => format!("{}, {} to fetch", count(n, "file", "files"), size(bytes)),
            (n, bytes, _) if n > 1 => format!("{}, {}", count(n, "thing", "things"), size(bytes)),
            (_, 0, _) => String::new(),
            (_, bytes, _) => size(bytes),
        };
        let verdict = findings.iter().find(|f| action.findings.contains(&f.id)).map(|f| f.verdict.word().to_owned());
        let told: Vec<String> = verdict.into_iter().chain(Some(amount).filter(|amount| !amount.is_empty())).collect();
        vec![cell(action.action.label()), cell(about(action)), labelled(Label::Remark, told.join("; "))]
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
            // Packages' own scripts do as they like.
            let head = if runs_scripts { "Not touched by Veritum itself:" } else { "Not touched:" };
            format!("{} {}.\n", paint(Label::Heading, head), common.join(", "))
        }
    }
}

fn stays_words(stays: &[Stays]) -> String {
    let word = |stays: &Stays| format!("{}, {}", count(stays.things, stays.unit.0, stays.unit.1), size(stays.bytes));
    match stays {
        [] => String::new(),
        all => {
            let all: Vec<String> = all.iter().map(word).collect();
            format!("{} {}.\n", paint(Label::Heading, "Stays:"), all.join("; "))
        }
    }
}

/// How much would be written, and from which source.
fn written_words(context: &Context, preview: &Preview<'_>) -> String {
    let Preview { check, actions, written, keeps, .. } = preview;
    if !keeps {
        return String::new();
    }
    let kept = "Replaced and moved files are kept; `veritum undo` restores them.\n";
    if *written == 0 {
        return kept.to_owned();
    }
    let from = context.settings.store.as_ref().map(|store| format!(" from the signed store {}", place(store)));
    let known = |a: &&ActionReport| check.findings.iter().any(|f| a.findings.contains(&f.id) && is_local(f));
    let local = if actions.iter().any(|a| known(&a)) { " and what the machine itself still knows" } else { "" };
    format!("It would write {}{}{local}. {kept}", size(*written), from.unwrap_or_default())
}

/// The preview before the question.
pub(crate) fn preview_words(context: &Context, preview: &Preview<'_>) -> String {
    let Preview { check, actions, remarks, areas, runs_scripts, stays, further, .. } = preview;
    let head = if *further { "Putting that right brought more to light.\n\n" } else { "" };
    let left: &[Left] = if *further { &[] } else { &check.left };
    let stays_so = |id: &FindingId| left.iter().any(|left| left.finding == *id);
    let answered: BTreeSet<&FindingId> =
        actions.iter().flat_map(|action| &action.findings).filter(|id| !stays_so(id)).collect();
    let mut text = match answered.len() {
        0 => format!("{head}This would be done:\n"),
        n => format!("{head}{} would be put right:\n", paint(Label::Heading, &count(n as u64, "problem", "problems"))),
    };
    text.push_str(&action_lines(actions, &check.findings, context.global.verbose));
    if !left.is_empty() {
        let remain = paint(Label::Bad, &count(left.len() as u64, "problem", "problems"));
        text.push_str(&format!("\n{remain} would remain:\n{}", left_lines(left)));
    }
    text.push('\n');
    remarks.iter().for_each(|remark| text.push_str(&format!("{remark}\n")));
    text + &written_words(context, preview) + &stays_words(stays) + &not_touched(areas, *runs_scripts) + "\n"
}

/// Whether a finding is about a record of which no package knows how it should be.
fn is_local(finding: &Finding) -> bool {
    finding.vouched_by.is_none() && about(&finding.area).is_some_and(|about| about.by_reference)
}

/// What `repair --plan` prints; `shown` is the preview, if there is anything to ask.
pub(crate) fn plan_words(context: &Context, report: &RepairReport, shown: Option<String>, named: &str) -> String {
    let left: Vec<Left> = report.areas.iter().flat_map(|a| a.remaining.clone()).collect();
    // What was to be downloaded was, unless the repair was only to be shown.
    let waits = report.plan_only && !report.before.downloads.is_empty();
    let is_shown = shown.is_some();
    let mut text = match shown {
        Some(shown) => shown,
        None if report.before.problems() == 0 => {
            let told = if waits { downloads(&report.before) } else { String::new() };
            format!("{}: nothing wrong was found.\n{told}", paint(Label::Good, "nothing to put right"))
        }
        None if !report.before.downloads.is_empty() => format!(
            "{} can be planned before what belongs there is at hand.\n{}{}",
            paint(Label::Bad, "nothing"),
            downloads(&report.before),
            left_lines(&left)
        ),
        None => format!("{} can be put right from here:\n{}", paint(Label::Bad, "nothing"), left_lines(&left)),
    };
    text.push_str(&doubt(&report.before));
    text.push_str("Nothing was changed.\n\n");
    let commands = if report.before.doubt.is_some() {
        vec![despite_disk(context, named)]
    } else if is_shown || waits {
        vec![(context.command(&format!("repair{named}")), "does it, after a question")]
    } else {
        vec![(context.command("status"), "what else is pending on this machine")]
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

pub(crate) fn describe(
    context: &Context,
    report: &RepairReport,
    (named, checked): (&str, &str),
    declined: bool,
) -> String {
    let proof = report.proof.as_ref().map(proof::describe).unwrap_or_default();
    let Some(after) = &report.after else {
        if declined {
            return "Nothing was changed.\n".into();
        }
        return proof + &plan_words(context, report, None, named);
    };
    let right: u64 = report.areas.iter().map(|a| a.put_right).sum();
    let left: Vec<Left> = report.areas.iter().flat_map(|a| a.remaining.clone()).collect();
    let remain = after.problems();
    let mut text = proof + &format!("{} put right", paint(Label::Good, &count(right, "problem", "problems")));
    if remain == 0 && left.is_empty() {
        text.push_str(&format!(", none remain ({})\n", checked_again(report)));
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
    text.push_str(&running::describe(&report.running));
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

/// How the end of a repair was checked: only some areas read again from the medium what they wrote.
fn checked_again(report: &RepairReport) -> &'static str {
    let acted = |area: &&AreaChange| area.actions.iter().any(|action| action.result == ActionResult::Done);
    let mut acted = report.areas.iter().filter(acted).filter_map(|area| about(&area.area));
    match acted.all(|about| about.rereads_the_medium) {
        true => "checked again on the disk itself",
        false => "checked again",
    }
}

fn journal_place(context: &Context, number: u64) -> String {
    match &context.settings.state {
        Some(state) => shown(&state.join("changes").join(number.to_string())),
        None => format!("/var/lib/veritum/changes/{number} of the machine"),
    }
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
                && plain.ends_with(" what is installed, sources and settings, users' folders (/home, /root).\n")
        );
        assert!(told(&[UPDATES], true).contains("Not touched by Veritum itself:"));
        let both = told(&[FILES, UPDATES], false);
        assert!(both.ends_with(" users' folders (/home, /root).\n") && !both.contains("what is installed"), "{both}");
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
                put_right: 1,
                remaining: Vec::new(),
            };
            let before = CheckReport::blank(jiff::Timestamp::UNIX_EPOCH);
            checked_again(&RepairReport::new(false, areas.iter().map(change).collect(), before))
        };
        assert_eq!(told(&[STORE, FILES]), "checked again on the disk itself");
        assert_eq!((told(&[FILES, UPDATES]), told(&[APPS])), ("checked again", "checked again"));
    }
}
