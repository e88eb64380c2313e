//! The output of `status`: the last check's result, what is pending, and what can be verified.

use veritum_core::machine::MachineTimeZone;
use veritum_core::model::{Authority, quoted};
use veritum_core::platform::LogKind;
use veritum_core::report::{ComputerReport, Outcome, RecentReport, SourceReport, SourceState, StatusReport};

use super::check::authority_words;
use super::layout::{Cell, cell, headline, labelled, table};
use super::style::Label;
use super::{ago, count, grouped, local, next, plain, size};
use crate::context::Context;
use crate::places::{place, shown};

/// Less free space than this on the root's file system counts as full.
const NEARLY_FULL: u64 = 100 << 20;
/// The number of recent days with installations that are shown.
const DAYS: usize = 3;
/// Further packages of one day are counted.
const NAMED: usize = 4;

/// The answer: the last check's result, if that is still valid.
fn answer(report: &StatusReport, now: jiff::Timestamp) -> (Label, &'static str, String) {
    let unknown = |why: String| (Label::Note, "NOT CHECKED", why);
    let Some(last) = &report.last_check else { return unknown("never checked".into()) };
    let when = ago(&last.at, now);
    if report.changed_since_check {
        return unknown(format!("changed since the last check ({when})"));
    }
    let checked = format!("checked {when}");
    match last.outcome {
        Outcome::Damaged => {
            let problems = count(last.problems, "problem", "problems");
            let able = match last.repairable {
                0 => String::new(),
                n => format!(", {} can be repaired", grouped(n)),
            };
            (Label::Bad, "DAMAGED", format!("{problems}{able} ({checked})"))
        }
        Outcome::Unchecked => unknown(format!("nothing could be checked ({when})")),
        Outcome::OkLimited => (Label::Good, "OK (limited)", format!("no problems ({checked})")),
        Outcome::Ok => (Label::Good, "OK", format!("no problems ({checked})")),
    }
}

/// What is pending, most urgent first.
fn pending(report: &StatusReport) -> Vec<String> {
    let mut all = Vec::new();
    if !report.unfinished_changes.is_empty() {
        let numbers = report.unfinished_changes.iter().map(u64::to_string).collect::<Vec<_>>().join(", ");
        all.push(format!("change {numbers} was interrupted"));
    }
    for damaged in &report.damaged_changes {
        let effect =
            if damaged.ended { "it cannot be undone" } else { "nothing can be changed until it is moved aside" };
        all.push(format!("the log of change {} is damaged: {}; {effect}", damaged.change, plain(&damaged.why)));
    }
    if report.disk_errors > 0 {
        let errors = count(report.disk_errors, "error", "errors");
        all.push(format!(
            "{errors} of the disk recorded by the kernel: back up the users' files first, then test the disk"
        ));
    }
    if report.free_bytes.is_some_and(|free| free < NEARLY_FULL) && !report.read_only {
        all.push("the disk is nearly full".into());
    }
    if !report.half_installed.is_empty() {
        let n = report.half_installed.len() as u64;
        let names = report.half_installed.iter().map(|name| plain(name)).collect::<Vec<_>>().join(", ");
        all.push(format!("{}: {names}", count(n, "half-installed package", "half-installed packages")));
    }
    all.extend(report.restart_due.iter().map(|why| format!("restart due: {}", plain(why))));
    all
}

/// The packages of one day: `3 updated (a, b, c), 1 installed (d)`.
fn day_words(day: &[RecentReport]) -> String {
    let kinds = [(LogKind::Updated, "updated"), (LogKind::Installed, "installed"), (LogKind::Removed, "removed")];
    let mut parts = Vec::new();
    for (what, word) in kinds {
        let mut names: Vec<&str> = day.iter().filter(|r| r.what == what).map(|r| r.package.as_str()).collect();
        names.sort_unstable();
        names.dedup();
        if names.is_empty() {
            continue;
        }
        let more = if names.len() > NAMED { ", …" } else { "" };
        let named = names.iter().take(NAMED).map(|n| quoted(n.as_bytes())).collect::<Vec<_>>().join(", ");
        parts.push(format!("{} {word} ({named}{more})", grouped(names.len() as u64)));
    }
    parts.join(", ")
}

/// The latest days with installations, updates or removals, newest first.
fn recent_days(zone: &MachineTimeZone, recent: &[RecentReport]) -> Vec<(String, String)> {
    let day = |one: &RecentReport| {
        zone.local(&one.at).map_or_else(|| one.at.clone(), |at| at.strftime("%Y-%m-%d").to_string())
    };
    let days = recent.chunk_by(|a, b| day(a) == day(b)).take(DAYS);
    days.map(|all| (day(&all[0]), day_words(all))).collect()
}

fn computer_words(computer: &ComputerReport) -> String {
    let mut parts: Vec<String> =
        [&computer.model, &computer.processor].into_iter().filter(|p| !p.is_empty()).cloned().collect();
    parts.push(count(computer.threads, "thread", "threads"));
    parts.push(format!("{} memory", size(computer.memory_bytes)));
    parts.join(", ")
}

fn disk_words(report: &StatusReport) -> String {
    let Some(free) = report.free_bytes else { return "free space unknown".into() };
    let read_only = if report.read_only { ", mounted read-only" } else { "" };
    let errors = match report.disk_errors {
        0 => String::new(),
        n => format!(", {}", count(n, "recorded error", "recorded errors")),
    };
    format!("{} free{read_only}{errors}", size(free))
}

/// The number of packages that each reference can verify, or verified at the last check: of the packages of that time.
fn verified_words(report: &StatusReport) -> String {
    let all = match report.verified_at_last_check {
        true => report.verified_by.values().sum(),
        false => report.machine.packages,
    };
    let parts = report.verified_by.iter().map(|(authority, n)| match *n == all {
        true => format!("{} against {}", count(all, "package", "packages"), authority_words(*authority)),
        false => {
            format!("{} of {} against {}", grouped(*n), count(all, "package", "packages"), authority_words(*authority))
        }
    });
    let weak = report.verified_by.keys().all(|authority| *authority == Authority::Local);
    let note = if weak && all > 0 { " (contents only; no owners, permissions or links)" } else { "" };
    parts.collect::<Vec<_>>().join(", ") + note
}

/// A repository, and whether its package lists can be used.
fn source_words(source: &SourceReport) -> String {
    let name = plain(&source.source);
    let why = source.why.as_deref().unwrap_or_default();
    match source.standing {
        SourceState::Verified => {
            let dated = source.dated.as_deref().map(|d| format!(", dated {}", local(d))).unwrap_or_default();
            let part = if why.is_empty() { String::new() } else { format!("; but {why}") };
            format!("{name}: signed by a known key{dated}{part}")
        }
        SourceState::Absent => format!("{name}: {why}"),
        _ => format!("{name}: ignored: {why}"),
    }
}

/// The heading of a row only where it changes.
fn row(name: &str, value: String) -> Vec<Cell> {
    vec![labelled(Label::Heading, name), cell(value)]
}

fn rows(name: &str, values: impl IntoIterator<Item = String>) -> Vec<Vec<Cell>> {
    values.into_iter().enumerate().map(|(at, value)| row(if at == 0 { name } else { "" }, value)).collect()
}

pub(crate) fn describe(context: &Context, report: &StatusReport) -> String {
    let machine = &report.machine;
    let name = if machine.hostname.is_empty() { "this machine" } else { &machine.hostname };
    let place = match machine.live {
        true => machine.system.clone(),
        false => format!("{}, mounted at {}", machine.system, shown(&context.settings.root)),
    };
    let (label, word, sentence) = answer(report, context.settings.now);
    let mut text = headline(label, word, &format!("{name} ({place}): {sentence}"), context.width);
    let mut all = rows("Pending", pending(report));
    let days = recent_days(&report.time_zone, &report.recent);
    let shown_days = if context.global.verbose { DAYS } else { 1 };
    all.extend(rows("Installed", days.into_iter().take(shown_days).map(|(day, what)| format!("{day}: {what}"))));
    all.push(row("Disk", disk_words(report)));
    if !report.users.is_empty() {
        all.push(row("Users", report.users.join(", ")));
    }
    if !report.full_rights {
        all.push(row("Rights", "not root: part of the system cannot be read, nothing can be changed".into()));
    }
    if report.changes > 0 {
        let kept = size(report.kept_bytes);
        all.push(row("Changes", format!("{} ({kept} of backups; veritum list changes)", report.changes)));
    }
    if report.savepoints > 0 || report.automatic_savepoints {
        let last = report.last_savepoint.as_deref().map(|at| format!(", the latest {}", local(at))).unwrap_or_default();
        let automatic = if report.automatic_savepoints { "; apt makes them" } else { "" };
        let words = format!("{}{last}{automatic} (veritum list savepoints)", report.savepoints);
        all.push(row("Savepoints", words));
    }
    // Before the first check it is not known what the repositories can verify.
    if !report.verified_by.is_empty() {
        match report.verified_at_last_check {
            true => all.push(row("Verified", format!("{} (at the last check)", verified_words(report)))),
            false => all.push(row("Verifies", verified_words(report))),
        }
    }
    if let Some(trouble) = &report.store_trouble {
        all.push(row("Store", format!("cannot be used: {trouble}")));
    }
    all.extend(rows("Not checked", report.not_here.iter().cloned()));
    if context.global.verbose {
        all.extend(details(report));
    }
    text.push_str(&table("  ", &all, context.width));
    text + &next(context, &commands(context, report))
}

/// Details: hardware, the store, the repositories.
fn details(report: &StatusReport) -> Vec<Vec<Cell>> {
    let mut all = vec![row("Root", report.machine.root.clone()), row("Computer", computer_words(&report.computer))];
    if let Some(store) = &report.store {
        let packages = count(store.packages, "package", "packages");
        let until = local(&store.expires);
        all.push(row(
            "Store",
            format!("{}, {packages}, index version {}, valid until {until}", store.location, store.signing),
        ));
        all.push(row("Trusted key", store.keys.join(", ")));
    }
    all.extend(rows("Repositories", report.sources.iter().map(source_words)));
    all
}

fn commands(context: &Context, report: &StatusReport) -> Vec<(String, &'static str)> {
    let valid = report.last_check.as_ref().filter(|_| !report.changed_since_check);
    let one = match (&report.unfinished_changes[..], valid.map(|last| last.outcome)) {
        ([_, ..], _) => (context.command("recover"), "completes or rolls back the interrupted change"),
        _ if !report.damaged_changes.is_empty() => {
            let number = report.damaged_changes[0].change;
            (context.command(&format!("explain {number}")), "what is left of its log, and how to move it aside")
        }
        _ if report.store_untrusted && context.settings.store.is_some() => {
            let store = context.settings.store.as_ref().map(place).unwrap_or_default();
            (context.command(&format!("store trust {store}")), "shows the store's keys, then asks")
        }
        // A plain check would not find what only a full one examines.
        (_, Some(Outcome::Damaged)) if valid.is_some_and(|last| last.everything) => {
            (context.command("check all"), "shows the problems")
        }
        (_, Some(Outcome::Damaged)) => (context.command("check"), "shows the problems"),
        (_, Some(Outcome::Ok | Outcome::OkLimited)) => return Vec::new(),
        _ => (context.command("check"), "checks the system (read-only)"),
    };
    vec![one]
}

#[cfg(test)]
mod tests {
    use super::*;

    fn one(at: &str, what: LogKind, package: &str) -> RecentReport {
        let (at, package) = (at.into(), package.into());
        RecentReport { at, what, package, arch: String::new(), from: None, to: None }
    }

    #[test]
    fn the_latest_days_are_told_with_a_few_names_each() {
        let mut recent: Vec<_> =
            ["f", "e", "d", "c", "b", "a"].map(|n| one("2026-03-04T10:00:00Z", LogKind::Updated, n)).into();
        recent.push(one("2026-03-04T09:00:00Z", LogKind::Installed, "new\u{1b}[31m"));
        recent.push(one("2026-03-04T08:00:00Z", LogKind::Updated, "a"));
        for day in ["2026-03-03", "2026-03-02", "2026-03-01"] {
            recent.push(one(&format!("{day}T10:00:00Z"), LogKind::Removed, "old"));
        }
        let days = recent_days(&MachineTimeZone::default(), &recent);
        assert_eq!(days.len(), DAYS);
        assert_eq!(days[0].0, "2026-03-04");
        assert_eq!(days[0].1, r"6 updated (a, b, c, d, …), 1 installed ($'new\x1b[31m')");
        assert_eq!(days[1], ("2026-03-03".into(), "1 removed (old)".into()));
        assert!(recent_days(&MachineTimeZone::default(), &[]).is_empty());
    }

    #[test]
    fn a_repository_is_shown_with_why_it_is_not_used() {
        let mut source = SourceReport {
            source: "http://a.example/ stable".into(),
            standing: SourceState::Refused,
            why: Some("no key counts".into()),
            action: None,
            key: None,
            dated: None,
            expired: false,
        };
        assert_eq!(source_words(&source), "http://a.example/ stable: ignored: no key counts");
        (source.standing, source.why) = (SourceState::Absent, Some("no release file on this system".into()));
        assert_eq!(source_words(&source), "http://a.example/ stable: no release file on this system");
    }

    #[test]
    fn the_computer_is_told_without_what_it_does_not_say() {
        let mut computer = ComputerReport {
            model: String::new(),
            processor: "Foreshore F4".into(),
            threads: 1,
            memory_bytes: 8 << 30,
        };
        assert_eq!(computer_words(&computer), "Foreshore F4, 1 thread, 8.0 GiB memory");
        computer.model = "Slipway Desk 3".into();
        assert!(computer_words(&computer).starts_with("Slipway Desk 3, Foreshore F4, "));
    }
}
