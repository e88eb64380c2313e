//! The output of `rescue`.

use veritum_core::model::quoted;
use veritum_core::report::{
    Count, DeletedItem, IncompleteFile, LostItem, MissingFile, RescueDeletedReport, RescueImageReport, RescueReport,
    RescueVerifyReport,
};

use super::layout::{Cell, cell, headline, labelled, paragraph, path, table};
use super::style::Label;
use super::{count, grouped, local, next, plain, size};
use crate::context::Context;

/// The number of files that are named, unless all are wanted.
const NAMED: usize = 10;

pub(crate) fn describe(context: &Context, report: &RescueReport, again: &str) -> String {
    let mut text = answer(context, report);
    text.push_str(&troubles(context, report));
    text.push_str(&incomplete(context, &report.incomplete));
    text.push_str(&missing(context, report));
    text.push_str(&kinds(context, report));
    text.push_str(&remarks(context, report));
    text.push_str(&next(context, &commands(context, report, again)));
    text
}

pub(super) fn files(count_of: Count) -> String {
    format!("{} ({})", count(count_of.files, "file", "files"), size(count_of.bytes))
}

fn answer(context: &Context, report: &RescueReport) -> String {
    let machine = context.machine().unwrap_or_default();
    let name = if machine.hostname.is_empty() { machine.system } else { machine.hostname };
    let left = report.missing.len() as u64 + report.incomplete.len() as u64;
    let (label, word, rest) = if report.plan_only {
        let room = match report.fits() {
            true => format!("{} free", size(report.free_bytes)),
            false => format!("but only {} are free", size(report.free_bytes)),
        };
        let label = if report.fits() { Label::Good } else { Label::Bad };
        (label, "PLAN", format!("{} would be copied to {}: {room}", files(report.wanted), report.destination))
    } else if let Some(why) = &report.failed {
        let done = files(report.copied);
        (Label::Bad, "NOT COMPLETE", format!("{why}; {done} copied in this run"))
    } else if report.stopped {
        (Label::Bad, "INTERRUPTED", format!("{} copied in this run", files(report.copied)))
    } else if report.copied.files == 0 && report.known.files == 0 && report.is_complete() {
        (Label::Good, "OK", "there are no such files".to_owned())
    } else {
        let label = if report.is_complete() { Label::Good } else { Label::Bad };
        let word = if report.is_complete() { "COPIED" } else { "COPIED IN PART" };
        let known = match report.known.files {
            0 => String::new(),
            _ => format!("; {} were there already", files(report.known)),
        };
        let lack = match left {
            0 => String::new(),
            1 => "; 1 is incomplete or missing".to_owned(),
            n => format!("; {} are incomplete or missing", grouped(n)),
        };
        let read_back = if report.copied.files > 0 { ", read back and compared" } else { "" };
        (label, word, format!("{}{read_back}{known}{lack}", files(report.copied)))
    };
    headline(label, word, &format!("{}: {rest}", plain(&name)), context.width)
}

fn troubles(context: &Context, report: &RescueReport) -> String {
    let homes = report.homes.iter().filter_map(|home| Some((home, home.trouble.as_ref()?)));
    let rows: Vec<Vec<Cell>> = homes
        .map(|(home, why)| vec![cell(plain(&home.user)), labelled(Label::Problem, "not copied"), cell(why.clone())])
        .collect();
    table("  ", &rows, context.width)
}

fn incomplete(context: &Context, all: &[IncompleteFile]) -> String {
    let row = |file: &IncompleteFile| {
        let lost = format!("{} of {} unreadable", size(file.unreadable()), size(file.size));
        vec![
            cell(plain(&file.user)),
            labelled(Label::Problem, "incomplete"),
            cell(lost),
            path(quoted(file.path.as_bytes())),
        ]
    };
    listed(context, all.iter().map(row).collect())
}

fn missing(context: &Context, report: &RescueReport) -> String {
    let row = |file: &MissingFile| {
        vec![
            cell(plain(&file.user)),
            labelled(Label::Problem, "not copied"),
            cell(plain(&file.why)),
            path(quoted(file.path.as_bytes())),
        ]
    };
    listed(context, report.missing.iter().map(row).collect())
}

/// The first rows, or all of them.
pub(super) fn listed(context: &Context, mut rows: Vec<Vec<Cell>>) -> String {
    let more = rows.len().saturating_sub(NAMED);
    if context.global.all || more == 0 {
        return table("  ", &rows, context.width);
    }
    rows.truncate(NAMED);
    format!("{}  ... {} more (--all)\n", table("  ", &rows, context.width), grouped(more as u64))
}

/// What the homes contain, by user.
fn kinds(context: &Context, report: &RescueReport) -> String {
    let mut rows: Vec<Vec<Cell>> = Vec::new();
    let head = if report.plan_only { "to copy" } else { "selected" };
    for home in report.homes.iter().filter(|home| home.trouble.is_none()) {
        let mut user = Some(plain(&home.user));
        for (word, selected) in [(head, true), ("left out", false)] {
            let all = home.kinds.iter().filter(|kind| kind.selected == selected);
            let words: Vec<String> = all.map(|kind| format!("{} {}", kind.kind.word(), files(kind.count))).collect();
            if !words.is_empty() {
                rows.push(vec![
                    cell(user.take().unwrap_or_default()),
                    labelled(Label::Heading, word),
                    cell(words.join(", ")),
                ]);
            }
        }
    }
    table("  ", &rows, context.width)
}

fn remarks(context: &Context, report: &RescueReport) -> String {
    let mut all: Vec<String> = Vec::new();
    if !report.plan_only {
        all.push(format!("Copies, and a manifest with the checksum of each: {}", report.destination));
    }
    if !report.incomplete.is_empty() {
        all.push("Incomplete files are stored as NAME.incomplete, with zeros for what cannot be read".into());
    }
    if report.same_disk {
        all.push("That folder is on the same file system as the homes: a failing disk takes both".into());
    }
    if !report.not_kept.is_empty() {
        let what = report.not_kept.join(", ");
        all.push(format!("The destination cannot keep {what}: the manifest records them"));
    }
    if report.renamed > 0 {
        let names = count(report.renamed, "file has", "files have");
        all.push(format!("{names} another name there, because of the destination's file system: see the manifest"));
    }
    if !report.changed_meanwhile.is_empty() {
        let files = count(report.changed_meanwhile.len() as u64, "file was", "files were");
        all.push(format!("{files} changed while being copied: close the applications, and run the command again"));
    }
    if report.special > 0 && context.global.verbose {
        all.push(format!(
            "{} without content were left out",
            count(report.special, "pipe or socket", "pipes and sockets")
        ));
    }
    all.extend(report.limits.iter().map(|limit| capitalised(&plain(limit))));
    if !report.plan_only {
        all.push("Nothing was written to the users' homes".into());
    }
    all.iter().map(|text| paragraph("  ", text, context.width)).collect()
}

fn capitalised(text: &str) -> String {
    let mut letters = text.chars();
    letters.next().map_or_else(String::new, |first| first.to_uppercase().chain(letters).collect())
}

fn commands(context: &Context, report: &RescueReport, again: &str) -> Vec<(String, &'static str)> {
    let mut all = Vec::new();
    if report.plan_only && report.fits() && report.wanted.files > 0 {
        all.push((context.command(again), "copies them"));
    } else if report.stopped || report.failed.is_some() {
        all.push((context.command(again), "resumes"));
    } else if report.copied.files > 0 {
        let folder = quoted(report.destination.as_bytes());
        all.push((format!("veritum rescue --verify {folder}"), "compares the copies with their manifest, later"));
    }
    all
}

pub(crate) fn describe_verified(context: &Context, report: &RescueVerifyReport) -> String {
    let bad = report.problems.len() as u64;
    // A disk without a system has no name.
    let machine = if report.from.is_empty() { "a disk".to_owned() } else { plain(&report.from) };
    let from = format!("{machine}, copied since {}", local(&report.since));
    let intact = files(report.intact);
    let (label, word, rest) = match (bad, report.stopped) {
        (0, true) => (Label::Bad, "INTERRUPTED", format!("{intact} match the manifest so far")),
        (0, false) if report.damaged_lines > 0 => {
            let lines = count(report.damaged_lines, "line", "lines");
            (Label::Bad, "DAMAGED", format!("{lines} of the manifest; {intact} match the rest of it"))
        }
        (0, false) if !report.incomplete.is_empty() => {
            let were = count(report.incomplete.len() as u64, "file was", "files were");
            (Label::Bad, "INCOMPLETE", format!("{intact} match the manifest; {were} not readable whole when copied"))
        }
        (0, false) => (Label::Good, "OK", format!("{intact} match the manifest")),
        (n, _) => {
            let differ = count(n, "file does not", "files do not");
            (Label::Bad, "DAMAGED", format!("{differ} match the manifest; {intact} do"))
        }
    };
    let mut text = headline(label, word, &format!("{from}: {rest}"), context.width);
    let row = |file: &MissingFile| {
        let shown = format!("{}{}", report.destination, file.path);
        vec![labelled(Label::Problem, "damaged"), cell(plain(&file.why)), path(quoted(shown.as_bytes()))]
    };
    text.push_str(&listed(context, report.problems.iter().map(row).collect()));
    text.push_str(&incomplete(context, &report.incomplete));
    if report.only_recorded > 0 {
        let links = count(report.only_recorded, "symlink is", "symlinks are");
        text.push_str(&paragraph("  ", &format!("{links} recorded in the manifest only"), context.width));
    }
    text
}

pub(crate) fn describe_image(context: &Context, report: &RescueImageReport) -> String {
    let bad = RescueImageReport::bytes_of(&report.unreadable);
    let pending = RescueImageReport::bytes_of(&report.pending);
    let read = format!("{} read in this run", size(report.read_bytes));
    let places = count(report.unreadable.len() as u64, "place", "places");
    let (label, word, rest) = match (&report.failed, report.stopped, bad) {
        (Some(why), ..) => (Label::Bad, "NOT COMPLETE", format!("{why}; {read}, {} left", size(pending + bad))),
        (None, true, _) => (Label::Bad, "INTERRUPTED", format!("{read}, {} left", size(pending + bad))),
        (None, false, 0) => (Label::Good, "COPIED", format!("all of it ({})", size(report.size))),
        (None, false, bad) => {
            let all = size(report.size);
            (Label::Bad, "COPIED IN PART", format!("{} in {places} of {all} cannot be read", size(bad)))
        }
    };
    let mut text = headline(label, word, &format!("{}: {rest}", plain(&report.source)), context.width);
    let row = |(from, to): &(u64, u64)| {
        let at = format!("{} KiB after the beginning", grouped(from >> 10));
        vec![labelled(Label::Problem, "unreadable"), cell(size(to - from)), cell(at)]
    };
    text.push_str(&listed(context, report.unreadable.iter().map(row).collect()));
    text.push_str(&paragraph(
        "  ",
        &format!("Image: {}, with a map of its gaps beside it", report.image),
        context.width,
    ));
    let image = quoted(report.image.as_bytes());
    let again = format!("rescue --image {image} --disk {}", quoted(report.source.as_bytes()));
    let commands = match report.stopped || report.failed.is_some() {
        true => vec![(context.command(&again), "resumes")],
        false => vec![
            (context.command(&format!("check volumes --disk {image}")), "names the files that lie in its gaps"),
            (context.command(&format!("rescue --to DIR --disk {image}")), "copies users' files from the image"),
        ],
    };
    text.push_str(&next(context, &commands));
    text
}

pub(crate) fn describe_deleted(context: &Context, report: &RescueDeletedReport, users: &[String]) -> String {
    let machine = context.machine().unwrap_or_default();
    let name = if machine.hostname.is_empty() { machine.system } else { machine.hostname };
    let trash = report.deleted.iter().filter(|item| !item.set_aside).count() as u64;
    let aside = report.deleted.len() as u64 - trash;
    let mut rest = match (trash, aside) {
        (0, 0) => "nothing is in the trash, and nothing was set aside".to_owned(),
        (n, 0) => format!("{} in the trash", count(n, "file or folder is", "files and folders are")),
        (n, m) => format!("{} in the trash, {} set aside by Veritum", grouped(n), grouped(m)),
    };
    if report.journals_read {
        let whole = report.lost.iter().filter(|item| item.whole && !item.erased).count() as u64;
        let others = count(report.lost.len() as u64, "other deleted file", "other deleted files");
        rest.push_str(&match report.lost.len() {
            0 => "; of other deleted files nothing is known".to_owned(),
            _ => format!("; {others} found, {} perhaps whole", grouped(whole)),
        });
    }
    let mut text = headline(Label::Heading, "DELETED", &format!("{}: {rest}", plain(&name)), context.width);
    let row = |item: &DeletedItem| {
        let when = item.at.as_deref().map_or_else(String::new, |at| at.replace('T', " "));
        let what = if item.set_aside { "set aside".to_owned() } else { when };
        let shown = item.was.as_ref().unwrap_or(&item.place);
        vec![cell(plain(&item.user)), cell(plain(&what)), cell(files(item.count)), path(quoted(shown.as_bytes()))]
    };
    text.push_str(&listed(context, report.deleted.iter().map(row).collect()));
    let versions = |item: &LostItem| report.lost.iter().filter(|other| other.was == item.was).count();
    text.push_str(&listed(context, report.lost.iter().map(|item| lost(item, versions(item) == 1)).collect()));
    let limit = match (report.journals_read, report.lost.is_empty()) {
        (false, _) => {
            "Files that were deleted otherwise are looked for on disks that are not mounted (--disk DEVICE): by what ext4's journal still has of them"
        }
        (true, true) => {
            "Neither size nor places of a deleted file are kept; ext4's journal has them only of what was written shortly before"
        }
        (true, false) => {
            "Found by what ext4's journal still has of them. Their places were free when this was read, but can hold other data meanwhile: compare the content with the name"
        }
    };
    let all = report.limits.iter().map(|limit| capitalised(&plain(limit))).chain([limit.to_owned()]);
    text.push_str(&all.map(|limit| paragraph("  ", &limit, context.width)).collect::<String>());
    let users: String = users.iter().map(|user| format!(" --user {}", quoted(user.as_bytes()))).collect();
    let mut commands = Vec::new();
    if trash > 0 {
        let command = context.command(&format!("rescue --to DIR --only trash{users}"));
        commands.push((command, "copies what is in the trash to another disk"));
    }
    if !report.lost.is_empty() {
        let command = context.command(&format!("rescue --deleted --to DIR{users}"));
        commands.push((command, "copies the other deleted files to another disk (--file PATH: only one)"));
    }
    text.push_str(&next(context, &commands));
    text
}

/// A deleted file that is not in a trash folder: with the path that it had, if it is the only one.
fn lost(item: &LostItem, is_only: bool) -> Vec<Cell> {
    let when = item.at.as_deref().map_or_else(|| "deleted".to_owned(), local);
    let content = item.content.clone().unwrap_or_else(|| "unknown content".to_owned());
    let state = match item {
        LostItem { erased: true, .. } => "begins with zeros".to_owned(),
        LostItem { whole: true, .. } => "perhaps whole".to_owned(),
        LostItem { lost_bytes: 0, .. } => "perhaps in part".to_owned(),
        item => format!("{} overwritten", size(item.lost_bytes)),
    };
    vec![
        cell(plain(&item.user)),
        cell(when),
        cell(size(item.size)),
        cell(plain(&content)),
        cell(state),
        path(quoted(item.was.as_ref().filter(|_| is_only).unwrap_or(&item.path).as_bytes())),
    ]
}
