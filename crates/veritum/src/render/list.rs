//! What `list` prints.

use veritum_core::change::Verb;
use veritum_core::platform::InstallState;
use veritum_core::report::{ChangeState, ChangesReport, PackagesReport};

use super::apps::text;
use super::layout::{cell, labelled, list};
use super::style::{Label, paint};
use super::{count, local, next, size};
use crate::context::Context;

pub(crate) fn packages(context: &Context, report: &PackagesReport) -> String {
    let rows: Vec<_> = report
        .packages
        .iter()
        .map(|c| {
            let state = if c.progress == InstallState::Installed {
                cell(c.verified_by.word())
            } else {
                labelled(Label::Problem, c.progress.word())
            };
            vec![
                cell(c.package.name.clone()),
                cell(c.package.version.clone()),
                cell(c.package.arch.clone()),
                state,
                labelled(Label::Remark, c.summary.clone()),
            ]
        })
        .collect();
    format!("{}\n{}", count(report.packages.len() as u64, "package", "packages"), list("  ", &rows, context.width))
}

pub(crate) fn changes(context: &Context, report: &ChangesReport) -> String {
    if report.changes.is_empty() {
        return format!("No changes yet.\n\n{}", next(context, &[(context.command("check"), "checks everything")]));
    }
    let mut rows = vec![vec![
        labelled(Label::Heading, "change"),
        labelled(Label::Heading, "started"),
        labelled(Label::Heading, "what"),
        labelled(Label::Heading, "state"),
        labelled(Label::Heading, "files"),
        labelled(Label::Heading, "keeps"),
        labelled(Label::Heading, "packages"),
    ]];
    for line in &report.changes {
        let what = match (line.verb, line.of, &line.area) {
            (_, Some(of), _) => format!("undid {of}"),
            (Some(Verb::Repair), None, Some(area)) => format!("repaired {}", area.word()),
            (Some(Verb::Reset), None, _) => "reset".into(),
            (Some(Verb::Automatic), None, _) => "automatic savepoints".into(),
            (Some(Verb::Return), None, _) => {
                format!("returned to savepoint {}", line.savepoint.unwrap_or_default())
            }
            (Some(Verb::RescueBack), None, _) => "restored files".into(),
            _ => "unknown".into(),
        };
        let label = match line.state {
            ChangeState::Unfinished | ChangeState::Unreadable => Label::Bad,
            ChangeState::Done => Label::Good,
            _ => Label::Remark,
        };
        let what_of = |app: &str| if app.is_empty() { "files".to_owned() } else { text(app) };
        let home = line.home.as_ref().map(|home| format!("{} of {}", what_of(&home.app), text(&home.user)));
        let mut names = line.packages.iter().take(3).cloned().collect::<Vec<_>>().join(", ");
        if line.packages.len() > 3 {
            names.push_str(&format!(" and {} more", line.packages.len() - 3));
        }
        rows.push(vec![
            cell(line.change.to_string()),
            cell(local(&line.started)),
            cell(what),
            labelled(label, line.state.word()),
            cell(line.places.to_string()),
            cell(if line.home.is_some() { "in the home".into() } else { size(line.kept_bytes) }),
            labelled(Label::Remark, line.trouble.clone().or(home).unwrap_or(names)),
        ]);
    }
    let open = report.changes.iter().any(|c| c.state == ChangeState::Unfinished);
    let last = report.changes.iter().rev().find(|c| c.state == ChangeState::Done);
    let head = if open {
        paint(Label::Bad, "a change was interrupted")
    } else {
        count(report.changes.len() as u64, "change", "changes")
    };
    let mut commands = Vec::new();
    if open {
        commands.push((context.command("recover"), "completes it or rolls it back"));
    } else if let Some(last) = last {
        commands.push((context.command(&format!("explain {}", last.change)), "what it changed"));
    } else {
        commands.push((context.command("check"), "checks everything"));
    }
    format!("{head}\n{}\n{}", list("  ", &rows, context.width), next(context, &commands))
}
