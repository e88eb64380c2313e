//! What `status` prints.

use veritum_core::model::quoted;
use veritum_core::platform::LogKind;
use veritum_core::report::{ComputerReport, Outcome, RecentReport, SourceReport, SourceState, StatusReport};

use super::style::{Label, paint};
use super::table::{cell, labelled, lines};
use super::{ago, count, grouped, local, next, plain, size, with_vouchers};
use crate::context::Context;

/// Less than this on the file system of the root is told as full.
const NEARLY_FULL: u64 = 100 << 20;
/// So many of the latest days on which something was installed are told.
const DAYS: usize = 3;
/// Components of one day beyond these are counted.
const NAMED: usize = 4;

/// The gravest thing that is pending, in a few words.
fn pending(report: &StatusReport) -> String {
    if !report.unfinished_changes.is_empty() {
        paint(Label::Bad, "a change was interrupted")
    } else if let Some(damaged) = report.damaged_changes.first() {
        paint(Label::Bad, &format!("the log of change {} is damaged", damaged.change))
    } else if !report.half_installed.is_empty() {
        paint(
            Label::Bad,
            &count(report.half_installed.len() as u64, "component is half-installed", "components are half-installed"),
        )
    } else if let Some(last) =
        report.last_check.as_ref().filter(|l| l.outcome == Outcome::Problems && !report.changed_since_check)
    {
        paint(Label::Bad, &format!("{} at the last check", count(last.problems, "problem", "problems")))
    } else if report.disk_errors > 0 {
        paint(Label::Bad, "its disk gave errors")
    } else if report.free_bytes.is_some_and(|n| n < NEARLY_FULL) && !report.read_only {
        paint(Label::Bad, "its disk is full")
    } else if !report.restart_due.is_empty() {
        paint(Label::Bad, "a restart is due")
    } else {
        paint(Label::Good, "nothing is pending")
    }
}

/// What was done on one day: `3 updated (a, b, c), 1 installed (d)`.
fn day_words(day: &[RecentReport]) -> String {
    let kinds = [(LogKind::Updated, "updated"), (LogKind::Installed, "installed"), (LogKind::Removed, "removed")];
    let mut parts = Vec::new();
    for (what, word) in kinds {
        let mut names: Vec<&str> = day.iter().filter(|r| r.what == what).map(|r| r.component.as_str()).collect();
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

/// The latest days on which something was installed, updated or removed, newest first.
fn recent_days(recent: &[RecentReport]) -> Vec<(String, String)> {
    fn day(one: &RecentReport) -> &str {
        one.at.split(' ').next().unwrap_or_default()
    }
    let days = recent.chunk_by(|a, b| day(a) == day(b)).take(DAYS);
    days.map(|all| (day(&all[0]).to_owned(), day_words(all))).collect()
}

fn computer_words(computer: &ComputerReport) -> String {
    let mut parts: Vec<String> =
        [&computer.model, &computer.processor].into_iter().filter(|p| !p.is_empty()).cloned().collect();
    parts.push(count(computer.threads, "thread", "threads"));
    parts.push(format!("{} memory", size(computer.memory_bytes)));
    parts.join(", ")
}

fn room_words(report: &StatusReport) -> String {
    let Some(free) = report.free_bytes else { return "its file system does not tell".into() };
    let full = if free < NEARLY_FULL { ": nearly nothing" } else { "" };
    let read_only = if report.read_only { ", mounted read-only" } else { "" };
    format!("{} free{full}{read_only}", size(free))
}

/// Where an archive stands; what can be done about one that does not count stands on a line of its own.
fn source_words(source: &SourceReport) -> Vec<String> {
    let name = plain(&source.source);
    let why = source.why.as_deref().unwrap_or_default();
    match source.standing {
        SourceState::Vouched => {
            let dated = source.dated.as_deref().map(|d| format!(", as of {}", local(d))).unwrap_or_default();
            let part = if why.is_empty() { String::new() } else { format!("; but {why}") };
            vec![format!("{name}: signed by a known key{dated}{part}")]
        }
        SourceState::Absent => vec![format!("{name}: {why}")],
        _ => format!("{name}: not used, {why}").split("; ").map(ToOwned::to_owned).collect(),
    }
}

pub(crate) fn describe(context: &Context, report: &StatusReport) -> String {
    let machine = &report.machine;
    let name = if machine.hostname.is_empty() { "a machine without a name" } else { &machine.hostname };
    let pending = pending(report);
    let mut text = format!(
        "{name}: {}, {}; {pending}\n\n",
        machine.system,
        if machine.live { "running here" } else { "mounted from elsewhere" }
    );
    let mut rows = Vec::new();
    let mut row = |name: &str, value: String| rows.push(vec![labelled(Label::Heading, name), cell(value)]);
    row("root", machine.target.clone());
    // Of a disk that is mounted elsewhere it is only sometimes the computer: told when asked for more.
    if machine.live || context.global.verbose {
        row("this computer", computer_words(&report.computer));
    }
    row("room", room_words(report));
    if report.disk_errors > 0 {
        let errors = count(report.disk_errors, "error", "errors");
        row("disk", format!("{errors} counted by the kernel: bring the users' files to safety, then test the disk"));
    }
    for why in &report.restart_due {
        row("restart due", why.clone());
    }
    row(
        "rights",
        if report.full_rights {
            "all of it can be read and changed".into()
        } else {
            "as an ordinary user: part of it cannot be read, nothing can be changed".into()
        },
    );
    row("users", if report.users.is_empty() { "none that log in".into() } else { report.users.join(", ") });
    let components = count(machine.components, "component", "components");
    row("vouched for", with_vouchers(&components, &report.vouched, "by"));
    match (&report.store, &report.store_trouble) {
        (Some(store), _) => {
            row(
                "store",
                format!(
                    "{}, {}, signing {}, valid until {}",
                    store.location,
                    count(store.components, "component", "components"),
                    store.signing,
                    local(&store.expires)
                ),
            );
            row("pinned key", store.keys.join(", "));
        }
        (None, Some(trouble)) => row("store", format!("cannot be used: {trouble}")),
        (None, None) => {}
    }
    for (at, line) in report.sources.iter().flat_map(source_words).enumerate() {
        row(if at == 0 { "archives" } else { "" }, line);
    }
    row(
        "last check",
        report.last_check.as_ref().map_or_else(
            || "never".into(),
            |last| {
                let words = if last.outcome == Outcome::Problems {
                    count(last.problems, "problem", "problems")
                } else {
                    last.outcome.word().to_owned()
                };
                format!(
                    "{} ({}): {words}{}",
                    local(&last.at),
                    ago(&last.at, context.settings.now),
                    if report.changed_since_check { "; changed since" } else { "" }
                )
            },
        ),
    );
    row(
        "changes",
        if report.changes == 0 {
            "none".into()
        } else {
            format!("{}, keeping {} for undo", report.changes, size(report.kept_bytes))
        },
    );
    for (at, (day, what)) in recent_days(&report.recent).into_iter().enumerate() {
        row(if at == 0 { "lately" } else { "" }, format!("{day}: {what}"));
    }
    for damaged in &report.damaged_changes {
        let effect = match damaged.ended {
            true => "that change cannot be undone",
            false => "nothing is changed before it is set aside",
        };
        row("damaged log", format!("change {}: {}; {effect}", damaged.change, damaged.why));
    }
    for half in &report.half_installed {
        row("half-installed", half.clone());
    }
    for what in &report.not_here {
        row("not examined", what.clone());
    }
    text.push_str(&lines("  ", &rows));
    text.push('\n');
    let command = match (&report.unfinished_changes[..], &report.last_check) {
        ([_, ..], _) => (context.command("recover"), "finishes or takes back what was interrupted"),
        _ if !report.damaged_changes.is_empty() => (
            context.command(&format!("explain {}", report.damaged_changes[0].change)),
            "what can still be read of it, and how to set it aside",
        ),
        _ if report.store_untrusted => (context.command("store trust LOCATION"), "shows the store's keys, and asks"),
        (_, Some(last)) if last.outcome == Outcome::Problems && !report.changed_since_check => {
            (context.command("repair"), "shows what it would do, and asks")
        }
        _ => (context.command("check"), "looks at every file, changes nothing"),
    };
    text + &next(&[command])
}

#[cfg(test)]
mod tests {
    use super::*;

    fn one(at: &str, what: LogKind, component: &str) -> RecentReport {
        let (at, component) = (at.into(), component.into());
        RecentReport { at, what, component, arch: String::new(), from: None, to: None }
    }

    #[test]
    fn the_latest_days_are_told_with_a_few_names_each() {
        let mut recent: Vec<_> =
            ["f", "e", "d", "c", "b", "a"].map(|n| one("2026-03-04 10:00:00", LogKind::Updated, n)).into();
        recent.push(one("2026-03-04 09:00:00", LogKind::Installed, "new\u{1b}[31m"));
        recent.push(one("2026-03-04 08:00:00", LogKind::Updated, "a"));
        for day in ["2026-03-03", "2026-03-02", "2026-03-01"] {
            recent.push(one(&format!("{day} 10:00:00"), LogKind::Removed, "old"));
        }
        let days = recent_days(&recent);
        assert_eq!(days.len(), DAYS);
        assert_eq!(days[0].0, "2026-03-04");
        assert_eq!(days[0].1, r"6 updated (a, b, c, d, …), 1 installed ($'new\x1b[31m')");
        assert_eq!(days[1], ("2026-03-03".into(), "1 removed (old)".into()));
        assert!(recent_days(&[]).is_empty());
    }

    #[test]
    fn what_can_be_done_about_an_archive_stands_on_its_own_line() {
        let mut source = SourceReport {
            source: "http://a.example/ stable".into(),
            standing: SourceState::Refused,
            why: Some("no key counts; when you know it: veritum store trust /k.gpg".into()),
            key: None,
            dated: None,
            expired: false,
        };
        let lines = source_words(&source);
        assert_eq!(lines[0], "http://a.example/ stable: not used, no key counts");
        assert_eq!(lines[1], "when you know it: veritum store trust /k.gpg");
        (source.standing, source.why) = (SourceState::Absent, Some("it has no release file here".into()));
        assert_eq!(source_words(&source), ["http://a.example/ stable: it has no release file here"]);
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
