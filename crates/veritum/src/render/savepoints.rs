//! What `savepoint` and `list savepoints` print.

use veritum_core::report::{PackageChange, SavepointLine, SavepointReport, SavepointsReport};
use veritum_core::work::Switched;

use super::apps::text;
use super::layout::{cell, labelled, list};
use super::style::{Label, paint};
use super::{count, grouped, local, next, size};
use crate::context::Context;

/// The number of names that are shown of a list.
const SHOWN: usize = 3;

pub(crate) fn made(context: &Context, report: &SavepointReport) -> String {
    let Some(number) = report.savepoint else {
        let why = report.why_not.as_deref().unwrap_or_default();
        return format!("{}: {why}\n", paint(Label::Bad, "No savepoint was made"));
    };
    let mut out = format!(
        "{} of {}: {} files, folders and symlinks\n",
        paint(Label::Good, &format!("Savepoint {number}")),
        text(&report.machine.hostname),
        grouped(report.entries)
    );
    let copied = match report.copied_bytes {
        0 => "nothing was copied".into(),
        bytes => format!("{} copied", size(bytes)),
    };
    out.push_str(&format!("  {copied}; other contents share the system's own files until these are replaced\n"));
    if !report.missing.is_empty() {
        let what = count(report.missing.len() as u64, "entry is", "entries are");
        out.push_str(&format!("  {}\n", paint(Label::Problem, &format!("{what} not part of it:"))));
        let most = if context.global.all { usize::MAX } else { SHOWN };
        for missing in report.missing.iter().take(most) {
            out.push_str(&format!("    {}: {}\n", missing.path, missing.why));
        }
        if report.missing.len() > most {
            out.push_str(&format!("    and {} more (--all)\n", report.missing.len() - most));
        }
    }
    if let [first, others @ ..] = report.half_installed.as_slice() {
        let more = if others.is_empty() { String::new() } else { format!(" and {} more", others.len()) };
        let what = format!("An installation is half-way, also in this savepoint: {}{more}", text(first));
        let finish = paint(Label::Command, &context.command("repair updates"));
        out.push_str(&format!("  {}; {finish} finishes it\n", paint(Label::Problem, &what)));
    }
    if !report.removed.is_empty() {
        let numbers: Vec<String> = report.removed.iter().map(u64::to_string).collect();
        out.push_str(&format!("  Removed to make room: savepoint {}\n", numbers.join(", ")));
    }
    out.push_str(
        "  Not covered: users' homes, /root, /srv, /usr/local, logs, caches, data of services, the boot loader\n",
    );
    if context.global.verbose {
        for excluded in &report.excluded {
            out.push_str(&format!("    {}: {}\n", excluded.place, excluded.why));
        }
    }
    let commands = [(context.command("list savepoints"), "all savepoints, and what changed since each")];
    format!("{out}\n{}", next(context, &commands))
}

pub(crate) fn switched(context: &Context, on: bool, switched: Switched) -> String {
    let word = if on { "on" } else { "off" };
    let Switched::Now(change) = switched else {
        return format!("Automatic savepoints are {word} already.\n");
    };
    let what = match on {
        true => {
            "apt makes a savepoint before it changes packages; it goes on without one after 20 s.\n  dpkg called directly makes none"
        }
        false => "apt no longer makes savepoints; those that exist stay",
    };
    let undo = paint(Label::Command, &context.command(&format!("undo {change}")));
    format!("{}: {what}.\nUndo: {undo}\n", paint(Label::Good, &format!("Automatic savepoints are {word}")))
}

pub(crate) fn listed(context: &Context, report: &SavepointsReport) -> String {
    let on = (context.command("savepoint --automatic on"), "lets apt make one before it changes packages");
    if report.savepoints.is_empty() {
        return format!("No savepoints yet.\n\n{}", next(context, &[on]));
    }
    let mut head =
        format!("{}, {} in all", count(report.savepoints.len() as u64, "savepoint", "savepoints"), size(report.bytes));
    match (&report.trouble, report.before_trouble) {
        (Some(at), Some(number)) => {
            let found = format!("; the last before the trouble of {} is {number}", local(at));
            head.push_str(&paint(Label::Heading, &found));
        }
        (Some(at), None) => head.push_str(&paint(Label::Problem, &format!("; none is older than {}", local(at)))),
        _ => {}
    }
    let mut out = format!("{head}\n");
    let heading = |word: &str| labelled(Label::Heading, word);
    let mut rows =
        vec![["number", "made", "reason", "own size", "changed since, up to the next one"].map(heading).to_vec()];
    for line in &report.savepoints {
        rows.push(vec![
            cell(line.savepoint.to_string()),
            cell(if line.made.is_empty() { String::new() } else { local(&line.made) }),
            cell(reason(line)),
            cell(size(line.own_bytes)),
            changed(line, context.global.all),
        ]);
    }
    out.push_str(&list("  ", &rows, context.width));
    for line in report.savepoints.iter().filter(|line| line.lost > 0) {
        let files = count(line.lost, "file is", "files are");
        let why = "altered in place, damaged, deleted, or on a file system that is not mounted";
        let lost = format!("savepoint {}: {files} not kept whole ({why})", line.savepoint);
        out.push_str(&format!("  {}\n", paint(Label::Problem, &lost)));
    }
    let last_whole = || report.savepoints.iter().rfind(|line| line.trouble.is_none()).map(|line| line.savepoint);
    let mut commands = match report.before_trouble.or_else(last_whole) {
        Some(chosen) => {
            vec![(context.command(&format!("return {chosen} --plan")), "what a return to it would change")]
        }
        None => {
            vec![(context.command("savepoint"), "a new one: damaged parts that the system still has are written again")]
        }
    };
    commands.extend((!report.automatic).then_some(on));
    out.push_str(&format!("\n{}", next(context, &commands)));
    out
}

fn reason(line: &SavepointLine) -> String {
    let words = if line.reason.is_empty() { "made by hand".to_owned() } else { text(&line.reason) };
    if line.automatic { format!("{words} (automatic)") } else { words }
}

fn changed(line: &SavepointLine, all: bool) -> super::layout::Cell {
    if let Some(trouble) = &line.trouble {
        return labelled(Label::Bad, trouble.clone());
    }
    let mut parts = package_words(&line.packages, all);
    if line.config_files > 0 {
        parts.push(count(line.config_files, "configuration file", "configuration files"));
    }
    if parts.is_empty() { labelled(Label::Remark, "nothing") } else { cell(parts.join("; ")) }
}

/// `2 updated (gullmail, libgunwale5); 1 new (oakum)`.
fn package_words(packages: &[PackageChange], all: bool) -> Vec<String> {
    type IsKind = fn(&PackageChange) -> bool;
    let kinds: [(&str, IsKind); 3] = [
        ("updated", |change| change.from.is_some() && change.to.is_some()),
        ("new", |change| change.from.is_none()),
        ("removed", |change| change.to.is_none()),
    ];
    let mut parts = Vec::new();
    for (word, is_kind) in kinds {
        let names: Vec<&str> = packages.iter().filter(|c| is_kind(c)).map(|c| c.package.as_str()).collect();
        if names.is_empty() {
            continue;
        }
        let most = if all { names.len() } else { SHOWN };
        let more = if names.len() > most { format!(" and {} more", names.len() - most) } else { String::new() };
        let shown: Vec<&str> = names.iter().take(most).copied().collect();
        parts.push(format!("{} {word} ({}{more})", names.len(), shown.join(", ")));
    }
    parts
}
