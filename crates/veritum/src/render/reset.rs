//! The output of `reset`: the plan, and the result.

use veritum_core::apps::{ASIDE, Class, UNSAVED_WORK};
use veritum_core::model::{quoted, readable};
use veritum_core::report::{CardOrigin, Fate, HomeReset, OwnReport, ResetPart, ResetReport, RunningApp};

use super::apps::{part_words, text};
use super::layout::{Cell, cell, labelled, lines, paragraph, table};
use super::style::{Label, paint};
use super::{count, grouped, local, next, size};
use crate::context::Context;

/// The number of files of one kind that are named.
const NAMED: usize = 5;

/// Whether anything in a home is to be set aside.
fn has_something(home: &HomeReset) -> bool {
    home.running.is_empty() && home.trouble.is_none() && !home.actions.is_empty()
}

pub(crate) fn preview(context: &Context, report: &ResetReport) -> String {
    let users: Vec<String> =
        report.homes.iter().filter(|home| has_something(home)).map(|home| text(&home.user)).collect();
    let users = if users.len() > NAMED { count(users.len() as u64, "user", "users") } else { users.join(", ") };
    let head = format!("Reset {} for {users}. Nothing is deleted; `veritum undo` restores it.", text(&report.name));
    let mut out = table("", &[vec![labelled(Label::Heading, head)]], context.width);
    out.push_str(&parts_table(context, report));
    out.push_str(&stopped(context, report));
    if report.card == CardOrigin::NoCard {
        let note =
            "No application card: standard XDG directories; unknown files count as user data (`explain` lists them).";
        out.push_str(&paragraph("  ", note, context.width));
    }
    out + "\n"
}

/// Each home: what is moved, what is kept, what is not moved and why.
fn parts_table(context: &Context, report: &ResetReport) -> String {
    let mut rows: Vec<Vec<Cell>> = Vec::new();
    for home in &report.homes {
        let mut user = Some(text(&home.user));
        let mut head = |label: Label, word: &str| vec![cell(user.take().unwrap_or_default()), labelled(label, word)];
        let words = |fate: Fate| {
            let parts = home.parts.iter().filter(|part| part.fate == fate);
            let word = |part: &ResetPart| {
                let what = part_words(part.class, part.what.as_deref());
                format!("{what} {} {}", count(part.files, "file", "files"), size(part.bytes))
            };
            parts.map(word).collect::<Vec<_>>().join(", ")
        };
        let (moved, kept) = (words(Fate::SetAside), words(Fate::Stays));
        if !moved.is_empty() {
            let word = if home.running.is_empty() { "moved" } else { "after closing" };
            let to = format!("{moved} -> ~/{}/", readable(ASIDE.as_bytes()));
            rows.push([head(Label::Heading, word), vec![cell(to)]].concat());
        }
        let rest = if kept.is_empty() {
            "everything else in the home".to_owned()
        } else {
            format!("{kept}, everything else in the home")
        };
        rows.push([head(Label::Heading, "kept"), vec![cell(rest)]].concat());
        for left in home.left.iter().take(NAMED) {
            let why = format!("{}: {}", quoted(left.path.as_bytes()), left.why);
            rows.push([head(Label::Note, "not moved"), vec![cell(why)]].concat());
        }
        if home.left.len() > NAMED {
            let more = format!("... {} more (--json)", grouped((home.left.len() - NAMED) as u64));
            rows.push([head(Label::Note, ""), vec![cell(more)]].concat());
        }
    }
    table("  ", &rows, context.width)
}

/// Homes that are not changed, and why.
fn stopped(context: &Context, report: &ResetReport) -> String {
    let mut out = String::new();
    for home in &report.homes {
        let user = text(&home.user);
        if !home.running.is_empty() {
            let head = format!("{user}: {} is running; nothing is moved until it is closed", text(&report.name));
            out.push_str(&format!("{}\n", paint(Label::Bad, &head)));
            out.push_str(&lines("  ", &home.running.iter().map(process).collect::<Vec<_>>()));
            let open = home.running.iter().flat_map(|process| &process.open).collect::<Vec<_>>();
            for path in open.iter().take(NAMED) {
                out.push_str(&format!("  open file: {}; save it first\n", quoted(path.as_bytes())));
            }
            for part in home.parts.iter().filter(|part| part.class == Class::Own) {
                if let Some(what) = part.what.as_deref().filter(|what| *what == UNSAVED_WORK) {
                    out.push_str(&format!(
                        "  {} of {} in its profile\n",
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
            out.push_str(&format!("{} {}: {why}\n", paint(Label::Bad, "not moved:"), quoted(path.as_bytes())));
        }
        if all.len() > most {
            out.push_str(&format!("  and {} more (--verbose)\n", grouped((all.len() - most) as u64)));
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
    let head = format!("{} for {}", text(&report.name), count(done.len() as u64, "user", "users"));
    let mut out = format!("{}  {head}\n", paint(Label::Good, "RESET"));
    let rows: Vec<Vec<Cell>> = done.iter().flat_map(|home| outcome(home)).collect();
    out.push_str(&table("  ", &rows, context.width));
    out.extend(done.iter().map(|home| differences(home.own.as_ref())));
    out.push_str(&stopped(context, report));
    let undo = done.last().and_then(|home| home.change).map(|number| match done.len() {
        1 => context.command(&format!("undo {number}")),
        _ => context.command("undo"),
    });
    let undo = undo.map(|undo| format!("Undo: {}\n", paint(Label::Command, &undo)));
    out + "Start it and check whether the problem is gone.\n" + &undo.unwrap_or_default()
}

/// The result in one home: what was set aside, and that nothing else was touched.
fn outcome(home: &HomeReset) -> [Vec<Cell>; 2] {
    let moved = home.parts.iter().filter(|part| part.fate == Fate::SetAside);
    let (files, bytes) = moved.fold((0, 0), |(files, bytes), part| (files + part.files, bytes + part.bytes));
    let place = home.set_aside_in.as_ref().map_or_else(String::new, |place| quoted(place.as_bytes()));
    let whole = home.blocked.is_empty() && home.actions.iter().all(|action| action.why.is_none());
    let amount = match whole {
        true => format!("{}, {}", count(files, "file", "files"), size(bytes)),
        false => "what could be moved".to_owned(),
    };
    // "Untouched" is only said if it was verified.
    let seen = match &home.own {
        Some(own) if own.unchanged => labelled(Label::Good, "kept"),
        Some(_) => labelled(Label::Note, "counted"),
        None => labelled(Label::Note, "not counted"),
    };
    [
        vec![cell(text(&home.user)), cell("moved"), cell(format!("{amount} -> {place}"))],
        vec![cell(""), seen, cell(own_words(home.own.as_ref()))],
    ]
}

/// The user data before and after, in one line.
pub(crate) fn own_words(own: Option<&OwnReport>) -> String {
    let Some(own) = own else { return "user data could not be counted; none of it was to be moved".into() };
    let how = if own.contents { "every file read" } else { "by count, size and time" };
    let head = format!("user data: {}, {}", count(own.files, "file", "files"), size(own.bytes));
    let state = match own.unchanged {
        true => format!("unchanged ({how})"),
        false => format!("{} changed meanwhile by other programs ({how})", grouped(own.different)),
    };
    let unseen = match own.unseen {
        0 => String::new(),
        n => format!("; {} not readable", count(n, "folder", "folders")),
    };
    let unread = match own.unread {
        0 => String::new(),
        n => format!("; {} by size and time only", count(n, "file", "files")),
    };
    format!("{head}, {state}{unseen}{unread}")
}

/// Changes by other programs in the meantime.
pub(crate) fn differences(own: Option<&OwnReport>) -> String {
    let Some(own) = own else { return String::new() };
    let row = |one: &veritum_core::report::Difference| vec![cell(one.what.clone()), cell(quoted(one.path.as_bytes()))];
    let rows: Vec<Vec<Cell>> = own.differences.iter().take(NAMED).map(row).collect();
    let more = own.different.saturating_sub(rows.len() as u64);
    let tail = if more > 0 { format!("      ... {} more (--json)\n", grouped(more)) } else { String::new() };
    lines("      ", &rows) + &tail
}

fn nothing(context: &Context, report: &ResetReport, again: &str) -> String {
    if report.homes.iter().any(has_something) && report.plan_only {
        let head = preview(context, report);
        let again = context.command(again);
        return head + &next(context, &[(again, "asks first")]);
    }
    let stops = stopped(context, report);
    let name = text(&report.name);
    if !stops.is_empty() {
        let again = context.command(again);
        return format!("{stops}\nNothing was changed.\n{}", next(context, &[(again, "after that is fixed")]));
    }
    let table = parts_table(context, report);
    let explain = context.command(&format!("explain app:{}", quoted(report.id.as_bytes())));
    let why = format!("{}\n{table}", paint(Label::Good, &format!("{name} has nothing to move aside.")));
    format!("{why}\n{}", next(context, &[(explain, "shows where its data is")]))
}
