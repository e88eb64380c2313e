//! What `explain` prints.

use schemars::JsonSchema;
use serde::Serialize;
use veritum_core::change::{Beside, ChangeLog, LoggedResult, RoundLog, Verb};
use veritum_core::model::{ActionKind, FileKind, Finding, Harm, State, SystemPath, own_command, quoted};
use veritum_core::plan::{KeptFolder, Left, PlannedAction};
use veritum_core::report::{DamagedChange, ExplainReport, FirstDifference, KeptFile, to_do};

use super::style::{Label, paint};
use super::table::{cell, labelled, lines};
use super::{grouped, local, next, plain, size};
use crate::context::Context;
use veritum_core::areas::{About, about};

/// One change, told whole (`veritum.change/1`).
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct ChangeReport {
    /// `veritum.change/1`.
    format: String,
    /// Its number.
    change: u64,
    /// What it was for.
    verb: Verb,
    /// Which change it takes back.
    of: Option<u64>,
    /// When it began, RFC 3339 in UTC.
    started: String,
    /// When it ended; none while it is unfinished.
    ended: Option<String>,
    /// The version of Veritum that made it.
    writer: String,
    /// What it did, place by place.
    places: Vec<PlaceReport>,
    /// What it did beside files; that is not taken back.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    beside: Vec<Beside>,
}

/// One place of a change.
#[derive(Debug, Serialize, JsonSchema)]
struct PlaceReport {
    round: u32,
    path: veritum_core::model::SystemPath,
    component: Option<String>,
    action: ActionKind,
    result: LoggedResult,
    why: Option<String>,
    kept: Option<String>,
}

pub(crate) fn change_report(log: &ChangeLog) -> ChangeReport {
    let mut places = Vec::new();
    for round in log.rounds().unwrap_or_default() {
        for action in round.actions {
            let outcome = round.outcomes.and_then(|o| o.iter().find(|o| o.index == action.index));
            let why = outcome.and_then(|o| o.failed.clone()).or_else(|| round.taken_back.map(str::to_owned));
            let result = match (outcome, &why) {
                (_, Some(_)) => LoggedResult::NotDone,
                (Some(_), None) => LoggedResult::Done,
                (None, None) => LoggedResult::Unfinished,
            };
            places.push(PlaceReport {
                round: round.round,
                path: action.listed.clone(),
                component: action.component.as_ref().map(|c| c.name.clone()),
                action: action.operation.kind(),
                result,
                why,
                kept: outcome.and_then(|o| o.kept.as_ref()).map(|_| kept_place(log, &round, action)),
            });
        }
    }
    ChangeReport {
        format: "veritum.change/1".into(),
        change: log.begin.change,
        verb: log.begin.verb,
        of: log.begin.of,
        started: log.begin.started.to_string(),
        ended: log.end().map(|(at, ..)| at.to_string()),
        writer: log.begin.writer.clone(),
        places,
        beside: log.beside(),
    }
}

/// What people read for a word of a change's log; one of a newer version stands for itself.
fn label_of(word: &str) -> &str {
    match ActionKind::from_word(word) {
        Some(kind) => kind.label(),
        None => word,
    }
}

/// Where what an action displaced is kept: in the state folder, at the top of its own file system, or in the user's home.
fn kept_place(log: &ChangeLog, round: &RoundLog<'_>, action: &PlannedAction) -> String {
    let parent = action.place.parent().unwrap_or_else(SystemPath::root);
    let (change, number) = (log.begin.change, format!("{}-{}", round.round, action.index));
    match round.parents.iter().find(|p| p.place == parent).map(|p| &p.keeps) {
        Some(KeptFolder::Top(top)) => {
            format!("{}/.veritum-kept/{change}/{number}", top.to_string().trim_end_matches('/'))
        }
        Some(KeptFolder::Aside(name)) => {
            let home = log.begin.home.as_ref().map(|home| home.place.clone()).unwrap_or_else(SystemPath::root);
            let below = action.place.below(&home).map(veritum_core::model::readable).unwrap_or_default();
            format!("{home}/.veritum-set-aside/{name}/{below}")
        }
        _ => format!("kept/{change}/{number}"),
    }
}

pub(crate) fn change_words(context: &Context, report: &ChangeReport) -> String {
    let what = match (report.verb, report.of) {
        (_, Some(of)) => format!("took change {of} back"),
        (Verb::Repair, None) => "put things right".to_owned(),
        (Verb::Reset, None) => "set an application's things aside in a home".to_owned(),
        _ => "changed the machine".to_owned(),
    };
    let state = if report.ended.is_some() { String::new() } else { paint(Label::Bad, " and was interrupted") };
    let mut text = format!(
        "change {} {what}{state}, begun {}, by Veritum {}\n\n",
        report.change,
        local(&report.started),
        report.writer
    );
    let rows: Vec<_> = report
        .places
        .iter()
        .map(|p| {
            let label = if p.result == LoggedResult::Done { Label::Good } else { Label::Problem };
            let tail = p.why.clone().or_else(|| p.kept.as_ref().map(|k| format!("before: {k}"))).unwrap_or_default();
            vec![
                labelled(label, p.result.word()),
                cell(p.action.label()),
                cell(quoted(p.path.as_bytes())),
                labelled(Label::Remark, tail),
            ]
        })
        .collect();
    text.push_str(&lines("  ", &rows));
    let row = |one: &Beside| {
        let label = if one.result == LoggedResult::Done { Label::Good } else { Label::Problem };
        let words = [labelled(label, one.result.word()), cell(label_of(&one.what))];
        words
            .into_iter()
            .chain([cell(one.subject.clone()), labelled(Label::Remark, one.why.clone().unwrap_or_default())])
            .collect()
    };
    text.push_str(&lines("  ", &report.beside.iter().map(row).collect::<Vec<_>>()));
    text.push('\n');
    let command = if report.ended.is_some() && report.places.is_empty() {
        (context.command("list changes"), "all changes; this one has nothing that could be taken back")
    } else if report.ended.is_some() {
        (context.command(&format!("undo {}", report.change)), "takes it back")
    } else {
        (context.command("recover"), "finishes it or takes it back")
    };
    text + &next(&[command])
}

pub(crate) fn damaged_words(report: &DamagedChange) -> String {
    let (number, folder) = (report.change, quoted(report.folder.as_bytes()));
    let mut text = format!("The log of change {number} is {}: {}\n\n", paint(Label::Bad, "damaged"), report.why);
    text.push_str(match report.ended {
        true => "  That change had ended. It cannot be undone by Veritum; everything else works as usual.\n",
        false => {
            "  Whether that change had ended is not known, so nothing is changed on this machine until its log is\n  \
                  set aside. Files named .veritum-* beside others may be left of it.\n"
        }
    });
    text.push_str("  Nothing of it was altered or deleted.\n");
    if !report.kept.is_empty() {
        let row = |file: &KeptFile| vec![cell(quoted(file.path.as_bytes())), cell(quoted(file.kept.as_bytes()))];
        text.push_str(
            "\n  These files may have been replaced; where that happened, the earlier file is the second one:\n\n",
        );
        text.push_str(&lines("    ", &report.kept.iter().map(row).collect::<Vec<_>>()));
    }
    text.push_str("\n  docs/change.md tells how to put files back by hand.\n\n");
    text + &next(&[(
        format!("mv {folder} {}", quoted(format!("{}.damaged", report.folder).as_bytes())),
        "sets the log aside",
    )])
}

pub(crate) fn describe(context: &Context, report: &ExplainReport) -> String {
    let path = super::subject(&report.subject);
    let mut text = match &report.finding {
        Some(finding) if finding.subject == report.subject => {
            let label = if finding.verdict.is_problem() { Label::Bad } else { Label::Note };
            let also: String = finding.also.iter().map(|a| format!(" and {}", a.word())).collect();
            format!(
                "{path} is {}{also}  {}\n",
                paint(label, finding.verdict.word()),
                paint(Label::Name, finding.id.as_str())
            )
        }
        Some(finding) => {
            let above = finding.subject.as_path().map(|p| quoted(p.as_bytes())).unwrap_or_default();
            format!(
                "{path} cannot be looked at: {above} is {}  {}\n",
                paint(Label::Bad, finding.verdict.word()),
                paint(Label::Name, finding.id.as_str())
            )
        }
        None if report.owners.is_empty() => format!("{path} belongs to {}\n", paint(Label::Note, "no component")),
        None => format!("{path} is {}\n", paint(Label::Good, "as it should be")),
    };
    if let Some(cause) = report.finding.as_ref().and_then(|f| f.cause.as_ref()) {
        text.push_str(&format!("  {cause}\n"));
    }
    if let Some(remark) = &report.remark {
        text.push_str(&format!("  {remark}\n"));
    }
    if let Some(harms) = report.finding.as_ref().and_then(|f| f.harms.as_ref()) {
        text.push_str(&harm(harms));
    } else if !report.owners.is_empty() {
        let owners: Vec<String> = report.owners.iter().map(ToString::to_string).collect();
        text.push_str(&format!("\n{} {}\n", paint(Label::Heading, "belongs to"), owners.join(", ")));
    }
    text.push_str(&sides(report));
    if let Some(differs) = &report.differs {
        text.push_str(&difference(differs));
    }
    if !report.chain.is_empty() {
        text.push_str(&format!("\n{}\n", paint(Label::Heading, "Why this is believed")));
        let rows: Vec<_> =
            report.chain.iter().map(|l| vec![cell(l.what.clone()), labelled(Label::Remark, l.name.clone())]).collect();
        text.push_str(&lines("  ", &rows));
    }
    text.push('\n');
    text + &outlook(context, report)
}

/// Where two contents first differ: bytes on both sides, and lines of small text.
fn difference(differs: &FirstDifference) -> String {
    let line = differs.line.map(|l| format!(", line {}", grouped(l))).unwrap_or_default();
    let blank = |bytes: &str| if bytes.is_empty() { "(ends here)".to_owned() } else { bytes.to_owned() };
    let mut text = format!(
        "\nThe contents first differ after {} bytes{line}:\n  expected  {}\n  found     {}\n",
        grouped(differs.offset),
        blank(&differs.expected),
        blank(&differs.found)
    );
    let sides = [("expected", &differs.expected_lines), ("found", &differs.found_lines)];
    for (side, lines) in sides.into_iter().filter(|(_, lines)| !lines.is_empty()) {
        for (at, line) in lines.iter().enumerate() {
            let head = if at == 0 { side } else { "" };
            text.push_str(&format!("  {head:8} | {}\n", plain(line)));
        }
    }
    text
}

/// What a damaged part of a store would have harmed.
fn harm(harm: &Harm) -> String {
    let components: Vec<String> = harm.components.iter().map(ToString::to_string).collect();
    let mut text = format!("\n{} {}\n", paint(Label::Heading, "it would have harmed"), components.join(", "));
    text.extend(harm.paths.iter().map(|p| format!("  {}\n", quoted(p.as_bytes()))));
    if harm.more_paths > 0 {
        text.push_str(&format!("  and {} more\n", grouped(harm.more_paths)));
    }
    text
}

/// Expected and found, side by side; what differs is marked.
fn sides(report: &ExplainReport) -> String {
    let (Some(expected), found) = (&report.expected, report.found.clone().unwrap_or_default()) else {
        return String::new();
    };
    type Get = fn(&State) -> Option<String>;
    let rows: [(&str, Get); 7] = [
        ("kind", |s| s.kind.map(|k: FileKind| k.word().to_owned())),
        ("size", |s| s.size.map(|n| format!("{} ({})", size(n), grouped(n)))),
        ("content", |s| s.blake3.map(|d| d.to_hex()[..20].to_owned() + "…")),
        ("mode", |s| s.mode.clone()),
        ("owner", |s| s.owner.clone()),
        ("leads to", |s| s.target.as_ref().map(|t| quoted(t.as_bytes()))),
        ("modified", |s| s.modified.as_deref().map(local)),
    ];
    let looked = report.path.is_some() && report.finding.as_ref().is_some_and(|f| f.subject == report.subject);
    let mut table = vec![vec![cell(""), labelled(Label::Heading, "expected")]];
    if looked {
        table[0].push(labelled(Label::Heading, "found"));
    }
    for (name, get) in rows {
        let (should, is) = (get(expected), get(&found));
        if should.is_none() && is.is_none() {
            continue;
        }
        let unlike = should.is_some() && should != is && name != "modified";
        let is = is.unwrap_or_else(|| if report.found.is_none() { "nothing there".into() } else { "-".into() });
        let found = if unlike { labelled(Label::Problem, is) } else { cell(is) };
        let mut row = vec![cell(name), cell(should.unwrap_or_else(|| "-".into()))];
        if looked {
            row.push(found);
        }
        table.push(row);
    }
    let mut text = format!("\n{}", lines("", &table));
    if !expected.same_file_as.is_empty() {
        let names: Vec<String> = expected.same_file_as.iter().map(|p| quoted(p.as_bytes())).collect();
        text.push_str(&format!("one file with {}\n", names.join(", ")));
    }
    if found.capabilities {
        text.push_str("it carries file capabilities that its package does not give it\n");
    }
    text
}

/// What a person does about a finding, where it is mostly a person who does.
fn advised(context: &Context, finding: &Finding, left: Option<&Left>, about: &About) -> String {
    let named = match (about.selector, finding.subject.name()) {
        (Some((selector, _)), Some(name)) => format!("{selector}:{name}"),
        _ => about.name.word().to_owned(),
    };
    let check = (context.command(&format!("check {named}")), "looks at it, and at all that it rests on");
    match to_do(finding, left) {
        Some(advice) => match own_command(advice) {
            Some(words) => next(&[(context.command(words), "does it, after a question"), check]),
            None => format!("To do: {advice}\n{}", next(&[check])),
        },
        None if finding.remedy.is_some() => {
            next(&[(context.command(&format!("repair {named}")), "puts it right, after a question"), check])
        }
        None => next(&[check]),
    }
}

fn outlook(context: &Context, report: &ExplainReport) -> String {
    let Some(finding) = &report.finding else { return next(&[(context.command("check"), "looks at everything")]) };
    if let Some(about) = about(&finding.area).filter(|about| about.is_advised) {
        return advised(context, finding, report.left.as_ref(), about);
    }
    if !finding.verdict.is_problem() {
        return format!(
            "A note, no problem: a repair leaves it as it is.\n{}",
            next(&[(context.command("check"), "looks at everything")])
        );
    }
    if let Some(left) = &report.left {
        let more = to_do(finding, Some(left)).map(|todo| format!("; {todo}")).unwrap_or_default();
        return format!("A repair would leave it: {}{more}\n", left.reason);
    }
    let what = match finding.subject.as_path() {
        Some(path) => quoted(path.as_bytes()),
        None => finding.area.word().to_owned(),
    };
    let after = finding.advice.as_ref().map(|advice| format!("After a repair: {advice}\n")).unwrap_or_default();
    after + &next(&[(context.command(&format!("repair {what}")), "puts this right, after a question")])
}
