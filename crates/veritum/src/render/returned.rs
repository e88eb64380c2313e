//! What `return` prints.

use veritum_core::model::{ActionKind, quoted};
use veritum_core::report::{AccountChanges, PackageChange, ReturnReport, StayReason, StayingPlace};

use super::apps::text;
use super::layout::{cell, labelled, table};
use super::style::{Label, paint};
use super::{count, entries, grouped, local, next, running, size};
use crate::context::Context;

/// The number of names that are shown of a list.
const SHOWN: usize = 4;
/// The number of places that are shown of a list.
const PLACES: usize = 8;

/// A row of the preview: what it is about, whether it is a warning, and the text.
type Row = (&'static str, bool, String);

pub(crate) fn preview(context: &Context, report: &ReturnReport) -> String {
    let mut out = format!("{} of {}{}\n\n", head(report), local(&report.made), because(report));
    out.push_str(&rows(context, report));
    out.push_str(&staying(context, report));
    out.push_str(&lost(context, report));
    let homes = "users' homes, /root, /srv, /usr/local, logs, data of services, the boot loader";
    out.push_str(&format!("\n  {} {homes}\n", paint(Label::Heading, "Not touched:")));
    out.push_str("  Replaced files are backed up: `veritum undo` undoes all of it.\n\n");
    out
}

/// What returns, what that means, and the accounts and packages that stay.
fn rows(context: &Context, report: &ReturnReport) -> String {
    let all = context.global.all;
    let mut rows: Vec<Row> = Vec::new();
    rows.extend(packages(&report.packages, all).into_iter().map(|text| ("Packages", false, text)));
    rows.extend(files(report).map(|text| ("Files", false, text)));
    rows.extend(consequences(report, all));
    rows.extend(accounts(&report.accounts, report.with_accounts).map(|text| ("Accounts", false, text)));
    rows.extend(report.packages_staying.iter().map(|staying| {
        let version = staying.package.from.as_deref().unwrap_or("not installed");
        ("Stays", false, format!("{} {version}: {}", text(&staying.package.package), staying.reason.describe()))
    }));
    let mut last = "";
    let row = |(what, warns, words): Row| {
        let heading = labelled(Label::Heading, if what == last { "" } else { what });
        last = what;
        vec![heading, if warns { labelled(Label::Problem, words) } else { cell(words) }]
    };
    let rows: Vec<_> = rows.into_iter().map(row).collect();
    table("  ", &rows, context.width)
}

fn head(report: &ReturnReport) -> String {
    let number = paint(Label::Heading, &format!("savepoint {}", report.savepoint));
    format!("Return of {} to {number}", text(&report.machine.hostname))
}

fn because(report: &ReturnReport) -> String {
    if report.reason.is_empty() { String::new() } else { format!(" ({})", text(&report.reason)) }
}

/// A line for each kind of change.
fn packages(packages: &[PackageChange], all: bool) -> Vec<String> {
    let version = |version: &Option<String>| version.as_deref().map(text).unwrap_or_default();
    type IsKind = fn(&PackageChange) -> bool;
    let kinds: [(&str, IsKind); 3] = [
        ("to another version", |p| p.from.is_some() && p.to.is_some()),
        ("come back", |p| p.from.is_none()),
        ("go away", |p| p.to.is_none()),
    ];
    let name = |package: &PackageChange| match (&package.from, &package.to) {
        (Some(_), Some(_)) => {
            format!("{} {} to {}", text(&package.package), version(&package.from), version(&package.to))
        }
        (None, to) => format!("{} {}", text(&package.package), version(to)),
        (from, None) => format!("{} {}", text(&package.package), version(from)),
    };
    let mut lines = Vec::new();
    for (words, is_kind) in kinds {
        let found: Vec<String> = packages.iter().filter(|package| is_kind(package)).map(name).collect();
        if found.is_empty() {
            continue;
        }
        let most = if all { found.len() } else { SHOWN };
        let more = match found.len().saturating_sub(most) {
            0 => String::new(),
            more => format!(", and {} more (--all)", grouped(more as u64)),
        };
        lines.push(format!("{} {words}: {}{more}", found.len(), found[..most.min(found.len())].join(", ")));
    }
    lines
}

fn files(report: &ReturnReport) -> Option<String> {
    let of = |kind: ActionKind| report.actions.iter().filter(move |action| action.action == kind);
    let written: u64 = [ActionKind::Restore, ActionKind::Relink].into_iter().flat_map(of).map(|a| a.things).sum();
    let bytes: u64 = of(ActionKind::Restore).map(|action| action.bytes).sum();
    let modes = of(ActionKind::SetMode).count() as u64;
    let mut parts = Vec::new();
    let written_words = || format!("{} written, {}", count(written, "entry", "entries"), size(bytes));
    parts.extend((written > 0).then(written_words));
    let any_aside = of(ActionKind::SetAside).next().is_some();
    parts.extend(any_aside.then(|| format!("{} set aside", entries(of(ActionKind::SetAside)))));
    parts.extend((modes > 0).then(|| count(modes, "folder's permissions set", "folders' permissions set")));
    (!parts.is_empty()).then(|| parts.join("; "))
}

fn some(names: &[String], all: bool) -> String {
    let most = if all { names.len() } else { SHOWN };
    let more = names.len().saturating_sub(most);
    let shown: Vec<String> = names.iter().take(most).map(|name| text(name)).collect();
    if more > 0 { format!("{} and {more} more (--all)", shown.join(", ")) } else { shown.join(", ") }
}

fn consequences(report: &ReturnReport, all: bool) -> Vec<Row> {
    let found = &report.consequences;
    let paths = |paths: &[veritum_core::model::SystemPath]| {
        some(&paths.iter().map(|path| quoted(path.as_bytes())).collect::<Vec<_>>(), all)
    };
    let mut rows: Vec<Row> = Vec::new();
    if !found.drivers.is_empty() {
        rows.push(("Drivers", false, some(&found.drivers, all)));
    }
    if !found.kernels.is_empty() {
        rows.push(("Kernel", false, paths(&found.kernels)));
    }
    if !found.initramfs.is_empty() {
        rows.push(("Initramfs", false, paths(&found.initramfs)));
    }
    if !found.services.is_empty() {
        rows.push(("Services", false, some(&found.services, all)));
    }
    if !found.restart.is_empty() {
        let when = if report.machine.live { "needed afterwards" } else { "not needed, the system is not running" };
        rows.push(("Restart", report.machine.live, format!("{when}: {}", some(&found.restart, all))));
    }
    if !found.data.is_empty() {
        let words = format!("{}: stays; the newer version may have converted it", paths(&found.data));
        rows.push(("Data", true, words));
    }
    rows
}

fn accounts(accounts: &AccountChanges, return_too: bool) -> Option<String> {
    let mut parts = Vec::new();
    for (names, words) in [
        (&accounts.added, "added since"),
        (&accounts.removed, "removed since"),
        (&accounts.passwords, "password changed since"),
        (&accounts.groups, "groups with other members since"),
    ] {
        parts.extend((!names.is_empty()).then(|| format!("{words}: {}", some(names, false))));
    }
    if !accounts.added_again.is_empty() {
        parts.push(format!("added again for returned files: {}", some(&accounts.added_again, false)));
    }
    if !accounts.without_owner.is_empty() {
        let places: Vec<String> = accounts.without_owner.iter().map(ToString::to_string).collect();
        parts.push(format!(
            "files of an account whose id another one has now, which get the id 65534: {}",
            some(&places, false)
        ));
    }
    if parts.is_empty() {
        return None;
    }
    let what =
        if return_too { "return, with their passwords of then" } else { "stay as they are (--accounts returns them)" };
    Some(format!("{what}; {}", parts.join("; ")))
}

/// What stays although it differs: some of it, or all.
fn staying(context: &Context, report: &ReturnReport) -> String {
    // Accounts have a row of their own.
    let named: Vec<&StayingPlace> =
        report.staying.iter().filter(|place| place.reason != StayReason::Accounts).collect();
    if named.is_empty() {
        return String::new();
    }
    let head = count(named.len() as u64, "place stays as it is", "places stay as they are");
    let mut out = format!("\n  {}\n", paint(Label::Heading, &format!("{head}:")));
    let most = if context.global.all { usize::MAX } else { PLACES };
    let row = |place: &&StayingPlace| {
        vec![cell(quoted(place.path.as_bytes())), labelled(Label::Remark, place.reason.describe())]
    };
    let rows: Vec<_> = named.iter().take(most).map(row).collect();
    out.push_str(&table("    ", &rows, context.width));
    if named.len() > most {
        out.push_str(&format!("    and {} more (--all)\n", grouped((named.len() - most) as u64)));
    }
    out
}

fn lost(context: &Context, report: &ReturnReport) -> String {
    if report.lost.is_empty() {
        return String::new();
    }
    let head = count(report.lost.len() as u64, "file's content is", "files' contents are");
    let head = format!("{head} no longer kept and in no store or package here:");
    let mut out = format!("\n  {}\n", paint(Label::Bad, &head));
    let most = if context.global.all { usize::MAX } else { PLACES };
    for file in report.lost.iter().take(most) {
        let package = file.package.as_deref().map(text).unwrap_or_default();
        out.push_str(&format!("    {}  {package}\n", quoted(file.path.as_bytes())));
    }
    if report.lost.len() > most {
        out.push_str(&format!("    and {} more (--all)\n", grouped((report.lost.len() - most) as u64)));
    }
    out
}

pub(crate) fn describe(context: &Context, report: &ReturnReport, again: &str, declined: bool) -> String {
    if report.change.is_none() {
        return not_done(context, report, again, declined);
    }
    let packages = match report.packages.len() as u64 {
        0 => String::new(),
        number => format!("{}, ", count(number, "package", "packages")),
    };
    let mut out = format!(
        "{} to savepoint {} of {}: {packages}{}\n",
        paint(Label::Good, "RETURNED"),
        report.savepoint,
        local(&report.made),
        files(report).unwrap_or_default()
    );
    out.push_str(&staying(context, report));
    if !report.consequences.data.is_empty() {
        for row in consequences(report, false).iter().filter(|(what, ..)| *what == "Data") {
            out.push_str(&format!("  Data: {}\n", row.2));
        }
    }
    if report.machine.live && !report.consequences.restart.is_empty() {
        let why = report.consequences.restart.join(", ");
        out.push_str(&format!("  {}: {why}\n", paint(Label::Problem, "Restart the system")));
    }
    out.push_str(&held_back(report));
    if let Some(why) = &report.not_regenerated {
        let what = paint(Label::Problem, "Generated files were not generated again");
        out.push_str(&format!("  {what}: {why}\n"));
    } else if !report.regenerated.is_empty() {
        out.push_str(&format!(
            "  Generated again by dpkg's triggers: {}\n",
            some(&report.regenerated, context.global.all)
        ));
    }
    out.push_str(&running::describe(&report.running));
    if let Some(number) = report.change {
        let undo = paint(Label::Command, &context.command(&format!("undo {number}")));
        out.push_str(&format!("\nUndo: {undo}\n"));
    }
    let mut commands: Vec<_> = running::command(&report.running).into_iter().collect();
    commands.push((context.command("check"), "what is damaged now"));
    out + &next(context, &commands)
}

/// How to keep the earlier versions.
fn held_back(report: &ReturnReport) -> String {
    let earlier = report.packages.iter().filter(|package| package.is_downgrade());
    let names: Vec<String> = earlier.map(|package| text(&package.package)).collect();
    let command = match names.len() {
        0 => return String::new(),
        1..=SHOWN => format!("apt-mark hold {}", names.join(" ")),
        _ => "apt-mark hold NAME, for the package that causes the trouble".into(),
    };
    let when = if report.machine.live { "" } else { ", once the system runs" };
    format!("  The next update may install the newer versions again. To prevent that{when}: {command}\n")
}

fn not_done(context: &Context, report: &ReturnReport, again: &str, declined: bool) -> String {
    if declined {
        return "Nothing was changed.\n".into();
    }
    if report.actions.is_empty() && report.lost.is_empty() {
        let (rows, staying) = (rows(context, report), staying(context, report));
        let (name, number) = (text(&report.machine.hostname), report.savepoint);
        if rows.is_empty() && staying.is_empty() {
            return format!("{name} is as it was at savepoint {number}; nothing to return.\n");
        }
        let gap = if rows.is_empty() { "" } else { "\n" };
        return format!("Nothing returns to savepoint {number} of {name}; what differs stays:\n{gap}{rows}{staying}");
    }
    let mut out = preview(context, report);
    if !report.lost.is_empty() {
        out.push_str(&format!(
            "{}: nothing was changed.\n\n",
            paint(Label::Bad, "The return is not possible as a whole")
        ));
        let commands = [
            (context.command("list savepoints"), "other savepoints"),
            (
                context.command(&format!("{again} --from PATH")),
                "with a folder of packages or a repository that has them",
            ),
        ];
        return out + &next(context, &commands);
    }
    out + "Nothing was changed.\n" + &next(context, &[(context.command(again), "asks, then returns")])
}
