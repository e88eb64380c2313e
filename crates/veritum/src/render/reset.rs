//! What `reset` prints: the list before, and what came of it.

use veritum_core::apps::{Class, UNSAVED_WORK};
use veritum_core::model::quoted;
use veritum_core::report::{CardOrigin, Fate, HomeReset, OwnReport, ResetReport, RunningApp};

use super::apps::{part_words, text};
use super::style::{Label, paint};
use super::table::{Cell, cell, labelled, lines};
use super::{count, grouped, local, next, size};
use crate::context::Context;

/// So many things of one kind are named.
const NAMED: usize = 5;

/// Whether anything of a home is to be set aside.
fn has_something(home: &HomeReset) -> bool {
    home.running.is_empty() && home.trouble.is_none() && !home.actions.is_empty()
}

fn ready(report: &ResetReport) -> u64 {
    report.homes.iter().filter(|home| has_something(home)).count() as u64
}

pub(crate) fn preview(context: &Context, report: &ResetReport) -> String {
    let head = format!("{} would be reset for {}", text(&report.name), count(ready(report), "user", "users"));
    let mut out = format!("{}\n\n", paint(Label::Heading, &head));
    out.push_str(&table(report));
    out.push_str(&stopped(context, report));
    out.push_str(&format!("\n{} what stays, everything else in these homes", paint(Label::Heading, "Not touched:")));
    out.push_str(", the program itself.\n");
    if report.card == CardOrigin::Cautious {
        out.push_str(
            "No card tells what it keeps: by the base directories, in doubt the user's own (`explain` shows it).\n",
        );
    }
    out.push_str(
        "What is set aside stays in the home. `veritum undo` brings it back, also after new settings were made.\n\n",
    );
    out
}

/// Each home by part, and what becomes of it.
fn table(report: &ResetReport) -> String {
    let mut rows: Vec<Vec<Cell>> = Vec::new();
    for home in &report.homes {
        let mut user = Some(text(&home.user));
        if !rows.is_empty() {
            rows.push(Vec::new());
        }
        for fate in [Fate::SetAside, Fate::Stays] {
            let mut word = Some(match fate {
                Fate::SetAside if home.running.is_empty() => labelled(Label::Heading, "set aside"),
                Fate::SetAside => labelled(Label::Remark, "once closed"),
                Fate::Stays => labelled(Label::Remark, "stays"),
            });
            for part in home.parts.iter().filter(|part| part.fate == fate) {
                rows.push(vec![
                    cell(user.take().unwrap_or_default()),
                    word.take().unwrap_or_else(|| cell("")),
                    cell(part_words(part.class, part.what.as_deref())),
                    cell(count(part.files, "file", "files")),
                    cell(size(part.bytes)),
                ]);
            }
        }
        for left in home.left.iter().take(NAMED) {
            rows.push(vec![
                cell(user.take().unwrap_or_default()),
                labelled(Label::Remark, "left out"),
                labelled(Label::Remark, quoted(left.path.as_bytes())),
                labelled(Label::Remark, left.why.clone()),
            ]);
        }
        if home.left.len() > NAMED {
            let more = format!("and {} more (--json lists them)", grouped((home.left.len() - NAMED) as u64));
            rows.push(vec![cell(""), cell(""), labelled(Label::Remark, more)]);
        }
    }
    lines("  ", &rows)
}

/// Homes in which nothing is done, and why.
fn stopped(context: &Context, report: &ResetReport) -> String {
    let mut out = String::new();
    for home in &report.homes {
        let user = text(&home.user);
        if !home.running.is_empty() {
            let head =
                format!("{user}: {} is running; nothing of it is touched until it is closed", text(&report.name));
            out.push_str(&format!("{}\n", paint(Label::Bad, &head)));
            out.push_str(&lines("  ", &home.running.iter().map(process).collect::<Vec<_>>()));
            let open = home.running.iter().flat_map(|process| &process.open).collect::<Vec<_>>();
            for path in open.iter().take(NAMED) {
                out.push_str(&format!("  it has {} open: save it first\n", quoted(path.as_bytes())));
            }
            for part in home.parts.iter().filter(|part| part.class == Class::Own) {
                if let Some(what) = part.what.as_deref().filter(|what| *what == UNSAVED_WORK) {
                    out.push_str(&format!(
                        "  {} of {} lie in its profile\n",
                        count(part.files, "file", "files"),
                        text(what)
                    ));
                }
            }
        }
        if let Some(trouble) = &home.trouble {
            out.push_str(&format!("{}\n", paint(Label::Bad, &format!("{user}: {trouble}"))));
        }
        let failed = home.actions.iter().filter_map(|action| Some((action.path.as_ref()?, action.why.as_ref()?)));
        let blocked = home.blocked.iter().map(|one| (&one.path, &one.why));
        let all: Vec<_> = failed.chain(blocked).collect();
        let most = if context.global.verbose { usize::MAX } else { NAMED };
        for (path, why) in all.iter().take(most) {
            out.push_str(&format!("{} {}: {why}\n", paint(Label::Bad, "left where it is:"), quoted(path.as_bytes())));
        }
        if all.len() > most {
            out.push_str(&format!("  and {} more (--verbose lists them)\n", grouped((all.len() - most) as u64)));
        }
    }
    out
}

fn process(process: &RunningApp) -> Vec<Cell> {
    let since = process.since.as_deref().map_or_else(String::new, |since| format!("since {}", local(since)));
    vec![cell(text(&process.name)), cell(format!("process {}", process.pid)), labelled(Label::Remark, since)]
}

pub(crate) fn describe(context: &Context, report: &ResetReport, again: &str, declined: bool) -> String {
    let done: Vec<&HomeReset> = report.homes.iter().filter(|home| home.change.is_some()).collect();
    if done.is_empty() {
        return if declined { "Nothing was changed.\n".into() } else { nothing(context, report, again) };
    }
    let head = format!("{} is reset for {}", text(&report.name), count(done.len() as u64, "user", "users"));
    let mut out = format!("{}\n\n", paint(Label::Good, &head));
    let rows: Vec<Vec<Cell>> = done.iter().flat_map(|home| outcome(home)).collect();
    out.push_str(&lines("  ", &rows));
    out.extend(done.iter().map(|home| differences(home.own.as_ref())));
    out.push_str(&stopped(context, report));
    let undo = done.last().and_then(|home| home.change).map(|number| match done.len() {
        1 => context.command(&format!("undo {number}")),
        _ => context.command("undo"),
    });
    let mut commands: Vec<(String, &str)> = Vec::new();
    commands.extend(undo.map(|undo| (undo, "brings everything back, if it is no better with fresh settings")));
    out + "\nStart it and see whether the trouble is gone.\n" + &next(&commands)
}

/// What came of one home: what is set aside, and that nothing else was touched.
fn outcome(home: &HomeReset) -> [Vec<Cell>; 2] {
    let moved = home.parts.iter().filter(|part| part.fate == Fate::SetAside);
    let (files, bytes) = moved.fold((0, 0), |(files, bytes), part| (files + part.files, bytes + part.bytes));
    let place = home.set_aside_in.as_ref().map_or_else(String::new, |place| quoted(place.as_bytes()));
    let whole = home.blocked.is_empty() && home.actions.iter().all(|action| action.why.is_none());
    let amount = match whole {
        true => format!("{}, {}", count(files, "file", "files"), size(bytes)),
        false => "what could be moved".to_owned(),
    };
    // "Untouched" is said only where it was seen.
    let seen = match &home.own {
        Some(own) if own.unchanged => labelled(Label::Good, "untouched"),
        Some(_) => labelled(Label::Note, "counted"),
        None => labelled(Label::Note, "not counted"),
    };
    [
        vec![cell(text(&home.user)), cell("set aside"), cell(format!("{amount}, in {place}"))],
        vec![cell(""), seen, cell(own_words(home.own.as_ref()))],
    ]
}

/// A user's own before and after, in a line.
pub(crate) fn own_words(own: Option<&OwnReport>) -> String {
    let Some(own) = own else { return "what is the user's own could not be counted; nothing of it was planned".into() };
    let how = if own.contents { "every one read" } else { "by numbers and times" };
    let head = format!("{} of their own, {}", count(own.files, "file", "files"), size(own.bytes));
    let state = match own.unchanged {
        true => format!("unchanged ({how})"),
        false => format!("{} changed meanwhile by others ({how})", grouped(own.different)),
    };
    let unseen = match own.unseen {
        0 => String::new(),
        n => format!("; {} not looked into", count(n, "folder", "folders")),
    };
    let unread = match own.unread {
        0 => String::new(),
        n => format!("; {} by numbers only", count(n, "file", "files")),
    };
    format!("{head}, {state}{unseen}{unread}")
}

/// What others changed meanwhile.
pub(crate) fn differences(own: Option<&OwnReport>) -> String {
    let Some(own) = own else { return String::new() };
    let row = |one: &veritum_core::report::Difference| vec![cell(one.what.clone()), cell(quoted(one.path.as_bytes()))];
    let rows: Vec<Vec<Cell>> = own.differences.iter().take(NAMED).map(row).collect();
    let more = own.different.saturating_sub(rows.len() as u64);
    let tail = if more > 0 { format!("      and {} more (--json lists them)\n", grouped(more)) } else { String::new() };
    lines("      ", &rows) + &tail
}

fn nothing(context: &Context, report: &ResetReport, again: &str) -> String {
    if report.homes.iter().any(has_something) && report.plan_only {
        let head = preview(context, report);
        let again = context.command(again);
        return head + &next(&[(again, "does it, after a question")]);
    }
    let stops = stopped(context, report);
    let name = text(&report.name);
    if !stops.is_empty() {
        let again = context.command(again);
        return format!("{stops}\nNothing was changed.\n{}", next(&[(again, "once that is put right")]));
    }
    let table = table(report);
    let explain = context.command(&format!("explain app:{}", quoted(report.id.as_bytes())));
    let why = format!("{}\n{table}", paint(Label::Good, &format!("There is nothing of {name} to be set aside.")));
    format!("{why}\n{}", next(&[(explain, "tells where it keeps things")]))
}
