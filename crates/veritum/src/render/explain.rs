//! What `explain` prints.

use schemars::JsonSchema;
use serde::Serialize;
use unicode_width::UnicodeWidthStr as _;
use veritum_core::change::{Beside, ChangeLog, LoggedResult, RoundLog, Verb};
use veritum_core::model::{ActionKind, FileKind, Finding, Harm, State, SystemPath, quoted};
use veritum_core::plan::{KeptFolder, PlannedAction};
use veritum_core::report::{ChainLink, DamagedChange, ExplainReport, FirstDifference, KeptFile, to_do};

use super::findings::start_words;
use super::layout::{Cell, Width, cell, headline, labelled, lines, paragraph, path, table};
use super::style::{Label, paint};
use super::{count, grouped, instruction, local, next, plain, size};
use crate::context::Context;
use veritum_core::areas::{FILES, about};

/// A change with all its actions (`veritum.change/1`).
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct ChangeReport {
    /// `veritum.change/1`.
    format: String,
    /// Its number.
    change: u64,
    /// Its purpose.
    verb: Verb,
    /// The change that it undoes.
    of: Option<u64>,
    /// When it began, RFC 3339 in UTC.
    started: String,
    /// When it ended; `None` while it is unfinished.
    ended: Option<String>,
    /// The version of Veritum that made it.
    writer: String,
    /// Its actions on files.
    pub(crate) places: Vec<PlaceReport>,
    /// Its other actions, which are not undone.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    beside: Vec<Beside>,
}

/// One action of a change.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct PlaceReport {
    round: u32,
    path: veritum_core::model::SystemPath,
    package: Option<String>,
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
            let is_kept = outcome.is_some_and(|o| o.kept.is_some()) || round.kept.contains(&action.index);
            places.push(PlaceReport {
                round: round.round,
                path: action.listed.clone(),
                package: action.package.as_ref().map(|c| c.name.clone()),
                action: action.operation.kind(),
                result,
                why,
                kept: is_kept.then(|| kept_place(log, &round, action)),
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

/// The text for a word of a change log; a newer version's word is shown unchanged.
fn label_of(word: &str) -> &str {
    match ActionKind::from_word(word) {
        Some(kind) => kind.label(),
        None => word,
    }
}

/// The location of an action's backup: in the state folder, at the root of its own file system, or in the user's home.
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
            // Of a user's restored files, a folder is kept beside what was set aside from inside it.
            let is_beside = log.begin.home.as_ref().is_some_and(|home| home.card.is_none())
                && action.before.is_some_and(|before| before.kind == FileKind::Folder);
            let end = if is_beside { ".veritum-folder" } else { "" };
            format!("{home}/.veritum-set-aside/{name}/{below}{end}")
        }
        _ => format!("kept/{change}/{number}"),
    }
}

pub(crate) fn change_words(context: &Context, report: &ChangeReport) -> String {
    let what = match (report.verb, report.of) {
        (_, Some(of)) => format!("undid change {of}"),
        (Verb::Repair, None) => "repaired the system".to_owned(),
        (Verb::Reset, None) => "reset an application in a user's home".to_owned(),
        (Verb::Automatic, None) => "switched automatic savepoints on or off".to_owned(),
        (Verb::Return, None) => "returned to a savepoint".to_owned(),
        (Verb::RescueBack, None) => "restored rescued files in a user's home".to_owned(),
        _ => "changed the system".to_owned(),
    };
    let (label, state) = match report.ended {
        Some(_) => (Label::Heading, ""),
        None => (Label::Bad, " and was interrupted"),
    };
    let rest = format!("{what}{state}; started {}, Veritum {}", local(&report.started), report.writer);
    let mut text = headline(label, &format!("Change {}", report.change), &rest, context.width) + "\n";
    let rows: Vec<_> = report
        .places
        .iter()
        .map(|p| {
            let label = if p.result == LoggedResult::Done { Label::Good } else { Label::Problem };
            let backup = p.kept.as_ref().map(|kept| format!("backup: {kept}"));
            let tail = p.why.clone().into_iter().chain(backup).collect::<Vec<_>>().join("; ");
            vec![
                labelled(label, p.result.word()),
                cell(p.action.label()),
                path(quoted(p.path.as_bytes())),
                labelled(Label::Remark, tail),
            ]
        })
        .collect();
    text.push_str(&table("  ", &rows, context.width));
    let row = |one: &Beside| {
        let label = if one.result == LoggedResult::Done { Label::Good } else { Label::Problem };
        let words = [labelled(label, one.result.word()), cell(label_of(&one.what))];
        words.into_iter().chain([cell(one.subject.clone()), labelled(Label::Remark, remark(one))]).collect()
    };
    text.push_str(&table("  ", &report.beside.iter().map(row).collect::<Vec<_>>(), context.width));
    let is_done = |place: &PlaceReport| place.result == LoggedResult::Done;
    let nothing_to_undo = !report.places.iter().any(is_done) && !report.beside.iter().any(|one| one.undoable);
    match (report.ended.is_some(), nothing_to_undo) {
        (false, _) => text + "\n" + &next(context, &[(context.command("recover"), "completes it or rolls it back")]),
        (true, true) if report.beside.is_empty() => text + "Nothing took effect: there is nothing to undo.\n",
        (true, true) => text + "It cannot be undone.\n",
        (true, false) => {
            let undo = context.command(&format!("undo {}", report.change));
            text + &format!("Undo: {}\n", paint(Label::Command, &undo))
        }
    }
}

/// Why a tool did not do something; else what it found, or what was there before.
fn remark(one: &Beside) -> String {
    let before = || match one.undoable && !one.before.is_empty() {
        true => format!("before: {}", one.before),
        false => String::new(),
    };
    one.why.clone().or_else(|| one.found.clone()).unwrap_or_else(before)
}

pub(crate) fn damaged_words(context: &Context, report: &DamagedChange) -> String {
    let (number, folder) = (report.change, quoted(report.folder.as_bytes()));
    let rest = format!("the log of change {number}: {}", plain(&report.why));
    let mut text = headline(Label::Bad, "DAMAGED", &rest, context.width) + "\n";
    let effect = match report.ended {
        true => "That change was complete. Veritum cannot undo it; everything else works as usual.",
        false => {
            "Veritum cannot tell whether that change was complete, so it changes nothing on this machine until the log is \
             moved aside. Files named .veritum-* next to others may be left from the change."
        }
    };
    text.push_str(&paragraph("  ", &format!("{effect} Nothing was altered or deleted."), context.width));
    if !report.kept.is_empty() {
        let row = |file: &KeptFile| vec![cell(quoted(file.path.as_bytes())), cell(quoted(file.kept.as_bytes()))];
        text.push_str("\n  These files may have been replaced; the second path is the backup:\n\n");
        text.push_str(&lines("    ", &report.kept.iter().map(row).collect::<Vec<_>>()));
    }
    text.push_str("\n  How to restore files by hand: docs/change.md\n\n");
    text + &next(
        context,
        &[(format!("mv {folder} {}", quoted(format!("{}.damaged", report.folder).as_bytes())), "moves the log aside")],
    )
}

pub(crate) fn describe(context: &Context, report: &ExplainReport) -> String {
    let mut text = answer(context, report);
    let said = [report.finding.as_ref().and_then(|f| f.cause.clone()), report.remark.clone()];
    for line in said.into_iter().flatten() {
        text.push_str(&paragraph("  ", &line, context.width));
    }
    if let Some(harms) = report.finding.as_ref().and_then(|f| f.harms.as_ref()) {
        text.push_str(&harm(harms));
    }
    text.push_str(&sides(context, report));
    if let Some(differs) = &report.differs {
        text.push_str(&difference(context, differs));
    }
    text.push_str(&chain(context, report));
    text + &outlook(context, report)
}

/// The state and the owner.
fn answer(context: &Context, report: &ExplainReport) -> String {
    let path = super::subject(&report.subject);
    let owners = report.owners.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
    let id = |finding: &Finding| finding.id.as_str()[..4].to_owned();
    match &report.finding {
        Some(finding) if finding.subject == report.subject => {
            let label = if finding.verdict.is_problem() { Label::Bad } else { Label::Note };
            let also: String = finding.also.iter().map(|verdict| format!(", {}", verdict.word())).collect();
            let word = format!("{}{also}", finding.verdict.word()).to_uppercase();
            answer_line(label, &word, &path, &[id(finding), owners], context.width)
        }
        Some(finding) => {
            let above = finding.subject.as_path().map(|p| quoted(p.as_bytes())).unwrap_or_default();
            let what = format!("{path}: {above} is {}", finding.verdict.word());
            answer_line(Label::Bad, "NOT CHECKED", &what, &[id(finding), owners], context.width)
        }
        None if report.owners.is_empty() => answer_line(Label::Note, "UNOWNED", &path, &[], context.width),
        None => answer_line(Label::Good, "OK", &path, &[owners], context.width),
    }
}

/// The answer in one line, or, if that is too long, with its details on a second line.
fn answer_line(label: Label, word: &str, what: &str, details: &[String], width: Width) -> String {
    let details = details.iter().filter(|text| !text.is_empty()).cloned().collect::<Vec<_>>().join("  ");
    let whole = format!("{what}  {details}");
    match width.is_below(word.len() + 2 + whole.trim_end().width()) {
        true => headline(label, word, what, width) + &paragraph("  ", &details, width),
        false => format!("{}  {}\n", paint(label, word), whole.trim_end()),
    }
}

/// The chain of trust: in one line, or step by step.
fn chain(context: &Context, report: &ExplainReport) -> String {
    let (Some(first), Some(last)) = (report.chain.first(), report.chain.last()) else { return String::new() };
    if context.global.verbose {
        let row = |link: &ChainLink| vec![cell(link.what.clone()), cell(link.name.clone())];
        let rows: Vec<_> = report.chain.iter().map(row).collect();
        return format!("  {}\n{}", paint(Label::Heading, "Chain of trust"), table("    ", &rows, context.width));
    }
    let short = |name: &str| {
        if name.len() > 44 { format!("{}...", &name.chars().take(24).collect::<String>()) } else { name.to_owned() }
    };
    let mut source = format!("{} {}", first.what, short(&first.name));
    if report.chain.len() > 1 {
        source.push_str(&format!("; {} {} (chain of trust: --verbose)", last.what, short(&last.name)));
    }
    table("  ", &[vec![labelled(Label::Heading, "Source"), cell(source)]], context.width)
}

/// The first difference of two contents; with `--verbose` bytes of both sides, and lines of small texts.
fn difference(context: &Context, differs: &FirstDifference) -> String {
    let line = differs.line.map(|l| format!(", line {}", grouped(l))).unwrap_or_default();
    let head = format!("  First difference at byte {}{line}", grouped(differs.offset));
    let blank = |bytes: &str| if bytes.is_empty() { "(ends here)".to_owned() } else { bytes.to_owned() };
    let mut rows = Vec::new();
    if context.global.verbose {
        rows.push(vec![cell("expected"), cell(blank(&differs.expected))]);
        rows.push(vec![cell("found"), cell(blank(&differs.found))]);
    }
    let sides = [("expected", &differs.expected_lines), ("found", &differs.found_lines)];
    for (side, lines) in sides.into_iter().filter(|(_, lines)| !lines.is_empty()) {
        for (at, line) in lines.iter().enumerate() {
            rows.push(vec![cell(if at == 0 { side } else { "" }), cell(format!("| {}", plain(line)))]);
        }
    }
    let more = if rows.is_empty() { " (bytes: --verbose)" } else { "" };
    format!("{head}{more}\n{}", table("    ", &rows, context.width))
}

/// What a damaged part of a store would have affected, had it been used.
fn harm(harm: &Harm) -> String {
    let packages: Vec<String> = harm.packages.iter().map(ToString::to_string).collect();
    let mut text = format!("  {} {}\n", paint(Label::Heading, "Part of"), packages.join(", "));
    text.extend(harm.paths.iter().map(|p| format!("    {}\n", quoted(p.as_bytes()))));
    if harm.more_paths > 0 {
        text.push_str(&format!("    and {} more\n", grouped(harm.more_paths)));
    }
    text
}

/// Expected and found state, side by side where they differ; the rest by name.
fn sides(context: &Context, report: &ExplainReport) -> String {
    let (Some(expected), found) = (&report.expected, report.found.clone().unwrap_or_default()) else {
        return String::new();
    };
    type Get = fn(&State) -> Option<String>;
    let rows: [(&str, Get); 7] = [
        ("type", |s| s.kind.map(|k: FileKind| k.word().to_owned())),
        ("size", |s| s.size.map(|n| format!("{} ({})", size(n), count(n, "byte", "bytes")))),
        ("BLAKE3", |s| s.blake3.map(|d| d.to_hex()[..20].to_owned() + "...")),
        ("mode", |s| s.mode.clone()),
        ("owner", |s| s.owner.clone()),
        ("points to", |s| s.target.as_ref().map(|t| quoted(t.as_bytes()))),
        ("modified", |s| s.modified.as_deref().map(local)),
    ];
    let is_finding = report.path.is_some() && report.finding.as_ref().is_some_and(|f| f.subject == report.subject);
    let (mut differs, mut same): (Vec<Vec<Cell>>, Vec<&str>) = Default::default();
    for (name, get) in rows {
        let (should, is) = (get(expected), get(&found));
        if should.is_none() && is.is_none() {
            continue;
        }
        // Times are not compared.
        let unlike = should.is_some() && should != is && name != "modified";
        if !unlike && !context.global.verbose && is_finding {
            if should == is {
                same.push(name);
            }
            continue;
        }
        let is = is.unwrap_or_else(|| if report.found.is_none() { "missing".into() } else { "-".into() });
        let mut row = vec![labelled(Label::Heading, name), cell(should.unwrap_or_else(|| "-".into()))];
        if is_finding {
            row.push(if unlike { labelled(Label::Problem, is) } else { cell(is) });
        }
        differs.push(row);
    }
    // For a missing file, the expected state is of little use.
    if report.found.is_none() && is_finding && !context.global.verbose {
        differs.clear();
    }
    let mut text = String::new();
    if !differs.is_empty() {
        let mut head = vec![cell(""), labelled(Label::Heading, "expected")];
        if is_finding {
            head.push(labelled(Label::Heading, "found"));
        }
        text.push_str(&table("  ", &[vec![head], differs].concat(), context.width));
    }
    if !same.is_empty() {
        text.push_str(&paragraph("  ", &format!("As expected: {}", same.join(", ")), context.width));
    }
    if !expected.same_file_as.is_empty() {
        let names: Vec<String> = expected.same_file_as.iter().map(|p| quoted(p.as_bytes())).collect();
        text.push_str(&paragraph("  ", &format!("Hard links: {}", names.join(", ")), context.width));
    }
    if found.capabilities {
        text.push_str("  It has file capabilities that its package does not set.\n");
    }
    text
}

/// What can be done about it, and the next command.
fn outlook(context: &Context, report: &ExplainReport) -> String {
    let Some(finding) = &report.finding else { return String::new() };
    if !finding.verdict.is_problem() {
        return "  A note, not a problem: a repair does not change it.\n".into();
    }
    let action = to_do(finding, report.left.as_ref());
    let mut text = String::new();
    if let Some(words) = start_words(finding) {
        text.push_str(&paragraph("  ", &format!("Next start: {words}"), context.width));
    }
    if let Some(left) = &report.left {
        let said = finding.cause.as_deref() == Some(left.reason.as_str());
        if !said {
            text.push_str(&paragraph("  ", &format!("Not repaired: {}", left.reason), context.width));
        }
    }
    let named = named(finding);
    if finding.remedy.is_some() && report.left.is_none() {
        if let Some(action) = action {
            text.push_str(&instruction(context, "After the repair:", action));
        }
        return text + &next(context, &[(context.command(&format!("repair {named}")), "shows the plan, then asks")]);
    }
    match action {
        Some(action) => match action.complete_command() {
            Some(words) => text + &next(context, &[(context.command(words), "asks first")]),
            None => text + &instruction(context, "Action:", action),
        },
        None => text,
    }
}

/// The argument that repairs only this finding.
fn named(finding: &Finding) -> String {
    let selector = about(&finding.area).and_then(|about| about.selector);
    match (selector, finding.subject.name(), finding.subject.as_path()) {
        (Some((selector, _)), Some(name), _) => format!("{selector}:{name}"),
        (_, _, Some(path)) if finding.area == FILES => quoted(path.as_bytes()),
        _ => finding.area.word().to_owned(),
    }
}
