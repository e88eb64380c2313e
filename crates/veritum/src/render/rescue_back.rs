//! The output of `rescue --back`.

use veritum_core::model::{SystemPath, quoted};
use veritum_core::report::{BackHome, Count, RescueBackReport};

use super::layout::{Cell, cell, headline, labelled, paragraph, path, table};
use super::rescue::{files, listed};
use super::style::Label;
use super::{count, grouped, next, plain, size};
use crate::context::Context;

pub(crate) fn preview(context: &Context, report: &RescueBackReport) -> String {
    body(context, report) + "\n"
}

pub(crate) fn describe(context: &Context, report: &RescueBackReport, again: &str, declined: bool) -> String {
    if declined {
        return "Nothing was changed.\n".into();
    }
    let mut text = body(context, report);
    text.push_str(&next(context, &commands(context, report, again)));
    text
}

fn total(report: &RescueBackReport, of: impl Fn(&BackHome) -> Count) -> Count {
    report
        .homes
        .iter()
        .map(of)
        .fold(Count::default(), |all, one| Count { files: all.files + one.files, bytes: all.bytes + one.bytes })
}

fn body(context: &Context, report: &RescueBackReport) -> String {
    let mut text = answer(context, report);
    text.push_str(&homes(context, report));
    let rows = report.homes.iter().flat_map(|home| {
        let missing = home.missing.iter().map(|file| row(home, Label::Problem, "not restored", &file.why, &file.path));
        let gaps = |path| row(home, Label::Problem, "incomplete", "was not readable whole when it was copied", path);
        let replaced = |path| row(home, Label::Note, "replaced", "the version there is set aside", path);
        let newer = |path| row(home, Label::Remark, "left", "newer than its copy", path);
        let whole = |path| row(home, Label::Remark, "left", "its copy is incomplete", path);
        missing
            .chain(home.incomplete.iter().map(gaps))
            .chain(home.replaced.iter().map(replaced))
            .chain(home.newer.iter().map(newer))
            .chain(home.whole.iter().map(whole))
    });
    text.push_str(&listed(context, rows.collect()));
    let replaced: u64 = report.homes.iter().map(|home| home.replaced.len() as u64).sum();
    let mut remarks = vec![format!("From {}", plain(&report.source))];
    if replaced > 0 {
        let versions = count(replaced, "other version", "other versions");
        remarks.push(match report.plan_only {
            true => format!("{versions} would be set aside in the home"),
            false => format!("{versions} set aside in the home (.veritum-set-aside)"),
        });
    }
    if report.damaged_lines > 0 {
        let lines = count(report.damaged_lines, "line", "lines");
        remarks.push(format!("{lines} of the manifest cannot be read: the files that they describe are not restored"));
    }
    for home in report.homes.iter().filter(|home| report.plan_only && home.wanted.bytes > home.free_bytes) {
        let (needed, free) = (size(home.wanted.bytes), size(home.free_bytes));
        remarks.push(format!("{}: up to {needed} are needed in the home, and {free} are free", plain(&home.user)));
    }
    if report.plan_only && context.settings.root == std::path::Path::new("/") && total(report, |h| h.wanted).files > 0 {
        remarks.push("Applications that are running may overwrite what is restored: close them first".into());
    }
    text.push_str(&remarks.iter().map(|text| paragraph("  ", text, context.width)).collect::<String>());
    text
}

fn answer(context: &Context, report: &RescueBackReport) -> String {
    let machine = context.machine().unwrap_or_default();
    let name = if machine.hostname.is_empty() { machine.system } else { machine.hostname };
    let (wanted, restored) = (total(report, |home| home.wanted), total(report, |home| home.restored));
    let same = total(report, |home| home.same);
    let there = if same.files == 0 { String::new() } else { format!("; {} there already", files(same)) };
    let (label, word, rest) = if report.stopped {
        (Label::Bad, "INTERRUPTED", format!("{} restored in this run", files(restored)))
    } else if report.plan_only {
        (Label::Heading, "PLAN", format!("{} would be restored{there}", files(wanted)))
    } else if restored.files == 0 && wanted.files == 0 && report.is_complete() {
        (Label::Good, "OK", format!("nothing to restore{there}"))
    } else {
        let (label, word) = match (report.is_complete(), restored.files) {
            (true, _) => (Label::Good, "RESTORED"),
            (false, 0) => (Label::Bad, "NOT RESTORED"),
            (false, _) => (Label::Bad, "RESTORED IN PART"),
        };
        (label, word, format!("{}{there}", files(restored)))
    };
    headline(label, word, &format!("{}: {rest}", plain(&name)), context.width)
}

/// What is restored in each home.
fn homes(context: &Context, report: &RescueBackReport) -> String {
    let row = |home: &BackHome| -> Vec<Cell> {
        let user = cell(plain(&home.user));
        if let Some(why) = &home.trouble {
            return vec![user, labelled(Label::Problem, "not restored"), cell(plain(why))];
        }
        let what = if report.plan_only { home.wanted } else { home.restored };
        let mut words = vec![files(what)];
        let replaced = home.replaced.len() as u64;
        words.extend((replaced > 0).then(|| format!("{} of them in place of another version", grouped(replaced))));
        words.extend((home.same.files > 0).then(|| format!("{} there already", grouped(home.same.files))));
        let word = if report.plan_only { "to restore" } else { "restored" };
        vec![user, labelled(Label::Heading, word), cell(words.join(", "))]
    };
    table("  ", &report.homes.iter().map(row).collect::<Vec<_>>(), context.width)
}

fn row(home: &BackHome, label: Label, word: &'static str, why: &str, place: &SystemPath) -> Vec<Cell> {
    vec![cell(plain(&home.user)), labelled(label, word), cell(plain(why)), path(quoted(place.as_bytes()))]
}

fn commands(context: &Context, report: &RescueBackReport, again: &str) -> Vec<(String, &'static str)> {
    let mut all = Vec::new();
    let wanted = total(report, |home| home.wanted).files > 0;
    if report.plan_only && wanted {
        all.push((context.command(again), "restores them, after a question"));
    } else if report.stopped {
        all.push((context.command(again), "restores the rest"));
    }
    if report.homes.iter().any(|home| !home.newer.is_empty()) && !again.contains("--replace-newer") {
        all.push((
            context.command(&format!("{again} --replace-newer --plan")),
            "shows what replacing newer ones would do",
        ));
    }
    if report.homes.iter().any(|home| !home.changes.is_empty()) {
        all.push((context.command("undo"), "undoes it"));
    }
    all
}
