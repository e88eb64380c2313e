//! What `status` prints.

use veritum_core::model::Voucher;
use veritum_core::report::{OutcomeWord, StatusReport};

use super::style::{Label, paint};
use super::table::{cell, labelled, lines};
use super::{count, local, next, size};
use crate::context::Context;

pub(crate) fn words(context: &Context, report: &StatusReport) -> String {
    let machine = &report.machine;
    let name = if machine.hostname.is_empty() { "a machine without a name" } else { &machine.hostname };
    let pending = if !report.unfinished_changes.is_empty() {
        paint(Label::Bad, "a change was interrupted")
    } else if !report.half_installed.is_empty() {
        paint(
            Label::Bad,
            &count(report.half_installed.len() as u64, "component is half-installed", "components are half-installed"),
        )
    } else if let Some(last) =
        report.last_check.as_ref().filter(|l| l.outcome == OutcomeWord::Problems && !report.changed_since_check)
    {
        paint(Label::Bad, &format!("{} at the last check", count(last.problems, "problem", "problems")))
    } else {
        paint(Label::Good, "nothing is pending")
    };
    let mut text = format!(
        "{name}: {}, {}; {pending}\n\n",
        machine.system,
        if machine.live { "running here" } else { "mounted from elsewhere" }
    );
    let mut rows = Vec::new();
    let mut row = |name: &str, value: String| rows.push(vec![labelled(Label::Heading, name), cell(value)]);
    row("root", machine.target.clone());
    row(
        "rights",
        if report.full_rights {
            "all of it can be read and changed".into()
        } else {
            "as an ordinary user: part of it cannot be read, nothing can be changed".into()
        },
    );
    row("users", if report.users.is_empty() { "none that log in".into() } else { report.users.join(", ") });
    let by = |voucher: Voucher| report.vouched.get(&voucher).copied().unwrap_or(0);
    row(
        "vouched for",
        format!(
            "{} of {} by a signed store, {} by the machine's own records only",
            by(Voucher::Signed),
            count(machine.components, "component", "components"),
            by(Voucher::Itself)
        ),
    );
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
        (None, None) => row("store", "none named (--store LOCATION)".into()),
    }
    row(
        "last check",
        report.last_check.as_ref().map_or_else(
            || "never".into(),
            |last| {
                let words = if last.outcome == OutcomeWord::Problems {
                    count(last.problems, "problem", "problems")
                } else {
                    last.outcome.word().to_owned()
                };
                format!(
                    "{}: {words}{}",
                    local(&last.at),
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
    for half in &report.half_installed {
        row("half-installed", half.clone());
    }
    for what in &report.not_here {
        row("not examined", what.clone());
    }
    text.push_str(&lines("  ", &rows));
    text.push('\n');
    let command = match (&report.unfinished_changes[..], &report.store_trouble, &report.last_check) {
        ([_, ..], _, _) => (context.command("recover"), "finishes or takes back what was interrupted"),
        (_, Some(trouble), _) if trouble.contains("not trusted") => {
            (context.command("store trust LOCATION"), "shows the store's keys, and asks")
        }
        (_, _, Some(last)) if last.outcome == OutcomeWord::Problems && !report.changed_since_check => {
            (context.command("repair"), "shows what it would do, and asks")
        }
        _ => (context.command("check"), "looks at every file, changes nothing"),
    };
    text + &next(&[command])
}
