//! What `list apps` prints.

use veritum_core::model::{is_harmless, quoted};
use veritum_core::report::{AppLine, AppState, AppsReport};

use super::style::{Label, paint};
use super::table::{Cell, cell, labelled, lines};
use super::{ago, count, next};
use crate::context::Context;

/// Longer names of vendors are cut unasked.
const LONG_VENDOR: usize = 28;

pub(crate) fn list(context: &Context, report: &AppsReport) -> String {
    let shown: Vec<&AppLine> = report.apps.iter().filter(|app| app.shown || is_told(app)).collect();
    let all: Vec<&AppLine> = if context.global.verbose { report.apps.iter().collect() } else { shown };
    let mut text = head(context, report, &all);
    if !all.is_empty() {
        text.push_str("\n  ");
        let words = ["name", "state", "called", "component", "vendor"];
        let heading = words.map(|word| labelled(Label::Heading, word)).into_iter().collect();
        let rows = all.iter().map(|app| row(app, context.global.verbose));
        let rows: Vec<Vec<Cell>> = std::iter::once(heading).chain(rows).collect();
        text.push_str(lines("  ", &rows).trim_start());
    }
    let left = report.apps.len() - all.len();
    if left > 0 {
        let more = format!("and {} that no menu shows (--verbose lists them)", count(left as u64, "entry", "entries"));
        text.push_str(&format!("\n  {}\n", paint(Label::Remark, &more)));
    }
    format!("{text}\n{}", next(&commands(context, &all)))
}

/// What is told although no menu shows it: something is wrong with it.
fn is_told(app: &AppLine) -> bool {
    app.trouble.is_some() || matches!(app.state, AppState::Problems | AppState::Incomplete)
}

fn is_bad(app: &AppLine) -> bool {
    app.trouble.is_some() || matches!(app.state, AppState::Problems | AppState::Incomplete)
}

fn head(context: &Context, report: &AppsReport, all: &[&AppLine]) -> String {
    let bad = all.iter().filter(|app| is_bad(app)).count() as u64;
    let apps = count(all.len() as u64, "application", "applications");
    let when = match &report.checked {
        Some(at) => format!("as of the last check, {}", ago(at, context.settings.now)),
        None => "this machine was not checked yet".into(),
    };
    match (bad, &report.checked) {
        (0, Some(_)) => format!("{}, nothing wrong with any, {when}\n", paint(Label::Good, &apps)),
        (0, None) => format!("{apps}; {when}\n"),
        _ => format!("{} of {apps} with something wrong, {when}\n", paint(Label::Bad, &bad.to_string())),
    }
}

/// Foreign text as it is, where nothing in it is awkward.
fn text(foreign: &str) -> String {
    if is_harmless(foreign) { foreign.to_owned() } else { quoted(foreign.as_bytes()) }
}

fn row(app: &AppLine, whole: bool) -> Vec<Cell> {
    let state = match (&app.trouble, app.state) {
        (Some(_), _) => labelled(Label::Problem, "entry unusable"),
        (None, AppState::Problems) => labelled(Label::Problem, count(app.problems, "problem", "problems")),
        (None, AppState::Incomplete) => labelled(Label::Problem, app.state.word()),
        (None, AppState::Sound) => cell(app.state.word()),
        (None, _) => labelled(Label::Remark, app.state.word()),
    };
    let component = app.component.as_ref().map_or_else(String::new, |id| format!("{} {}", id.name, id.version));
    let vendor = text(app.vendor.as_deref().unwrap_or_default());
    let vendor = match vendor.chars().count() > LONG_VENDOR && !whole {
        true => vendor.chars().take(LONG_VENDOR - 1).chain(['…']).collect(),
        false => vendor,
    };
    vec![
        cell(text(&app.name)),
        state,
        cell(text(&app.id)),
        cell(component),
        labelled(Label::Remark, app.trouble.as_deref().map_or(vendor, text)),
    ]
}

fn commands(context: &Context, all: &[&AppLine]) -> Vec<(String, &'static str)> {
    match all.iter().find_map(|app| app.component.as_ref().filter(|_| is_bad(app))) {
        Some(id) => {
            vec![(context.command(&format!("check component:{}", id.name)), "what is wrong with the first of them")]
        }
        None => vec![(context.command("check"), "looks whether everything is as it was installed")],
    }
}
