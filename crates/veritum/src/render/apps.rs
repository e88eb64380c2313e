//! What `list apps` and `explain app:NAME` print.

use veritum_core::apps::Class;
use veritum_core::model::{is_harmless, quoted};
use veritum_core::report::{AppLine, AppReport, AppState, AppsReport, CardOrigin};

use super::style::{Label, paint};
use super::table::{Cell, cell, labelled, lines};
use super::{ago, count, next, size};
use crate::context::Context;

/// So many things that were left out are told of each home.
const LEFT: usize = 5;
/// Longer names of vendors are cut unasked.
const LONG_VENDOR: usize = 28;

pub(crate) fn list(context: &Context, report: &AppsReport) -> String {
    let shown: Vec<&AppLine> = report.apps.iter().filter(|app| app.shown || is_bad(app)).collect();
    let all: Vec<&AppLine> = if context.global.verbose { report.apps.iter().collect() } else { shown };
    let mut text = head(context, report, &all);
    if !all.is_empty() {
        text.push_str("\n  ");
        let mut words = vec!["name", "state", "called", "component", "vendor"];
        if all.iter().any(|app| app.sizes.is_some()) {
            words.splice(4.., ["installed", "cache", "settings", "users' own"]);
        }
        let heading = words.into_iter().map(|word| labelled(Label::Heading, word)).collect();
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

/// Whether something is wrong with it: then it is told although no menu shows it.
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

/// A card's place with the base directories where they mostly are.
fn at_home(place: &str) -> String {
    let bases = [
        ("{config}", "~/.config"),
        ("{cache}", "~/.cache"),
        ("{data}", "~/.local/share"),
        ("{state}", "~/.local/state"),
    ];
    match bases.into_iter().find_map(|(base, home)| Some((place.strip_prefix(base)?, home))) {
        Some((rest, home)) => format!("{home}{rest}"),
        None => place.to_owned(),
    }
}

/// Foreign text as it is, where nothing in it is awkward.
pub(crate) fn text(foreign: &str) -> String {
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
    let mut cells = vec![cell(text(&app.name)), state, cell(text(&app.id)), cell(component)];
    match &app.sizes {
        Some(sizes) => {
            let some = |bytes: u64| if bytes == 0 { "-".to_owned() } else { size(bytes) };
            cells.push(cell(sizes.installed.map_or_else(|| "-".into(), size)));
            cells.extend([sizes.cache, sizes.settings, sizes.own].map(|bytes| cell(some(bytes))));
        }
        None => cells.push(labelled(Label::Remark, app.trouble.as_deref().map_or(vendor, text))),
    }
    cells
}

fn commands(context: &Context, all: &[&AppLine]) -> Vec<(String, &'static str)> {
    match all.iter().find(|app| is_bad(app)) {
        Some(app) => vec![(context.command(&format!("check app:{}", app.id)), "what is wrong with the first of them")],
        None => vec![(context.command("check"), "looks whether everything is as it was installed")],
    }
}

pub(crate) fn about(context: &Context, report: &AppReport) -> String {
    let AppReport { app, finding, card, .. } = report;
    let head = match finding {
        Some(finding) => format!(
            "{} cannot be started from the desktop: {}",
            text(&app.name),
            text(finding.cause.as_deref().unwrap_or(finding.verdict.word()))
        ),
        None => format!("{} can be started from the desktop", text(&app.name)),
    };
    let label = if finding.is_some() { Label::Bad } else { Label::Good };
    let mut out = format!("{}\n\n", paint(label, &head));
    let state = match app.state {
        AppState::Problems => format!("{} in the last check", count(app.problems, "problem", "problems")),
        other => other.word().to_owned(),
    };
    let component = app.component.as_ref().map(|id| format!("{} {}, {state}", id.name, id.version));
    let rests_on = match report.rests_on.len() {
        0 => None,
        1 => Some("nothing but its own component".to_owned()),
        n => Some(count(n as u64 - 1, "component besides its own", "components besides its own")),
    };
    let program = report.program.as_deref().map(text);
    let facts = [
        ("entry", Some(text(&app.entry.to_string()))),
        ("starts", program),
        ("component", Some(component.unwrap_or_else(|| app.state.word().to_owned()))),
        ("rests on", rests_on),
        ("vendor", app.vendor.as_deref().map(text)),
    ];
    let rows: Vec<Vec<Cell>> =
        facts.into_iter().filter_map(|(name, fact)| Some(vec![labelled(Label::Heading, name), cell(fact?)])).collect();
    out.push_str(&lines("", &rows));
    let who = match card.from {
        CardOrigin::Carried => "by the card that is carried along",
        CardOrigin::Operator => "by your card",
        CardOrigin::Cautious => "no card tells; by the base directories, in doubt the user's own",
    };
    out.push_str(&format!("\n{} ({who})\n", paint(Label::Heading, "What it keeps in a home")));
    let mut rows = Vec::new();
    for part in &card.parts {
        for (at, place) in part.places.iter().enumerate() {
            let words = part_words(part.class, part.what.as_deref());
            rows.push(vec![cell(if at == 0 { words } else { String::new() }), cell(text(&at_home(place)))]);
        }
    }
    out.push_str(&lines("  ", &rows));
    out.push_str(&homes(report));
    let commands = match finding {
        Some(_) => {
            vec![(context.command(&format!("repair app:{}", app.id)), "shows what would be put right, and asks")]
        }
        None => vec![
            (
                context.command(&format!("check app:{}", app.id)),
                "looks at its component, all that this rests on, and what it keeps in homes",
            ),
            (context.command(&format!("reset {} --plan", app.id)), "what a reset would set aside, and what stays"),
        ],
    };
    format!("{out}\n{}", next(&commands))
}

/// What it does keep in the homes of those who log in.
fn homes(report: &AppReport) -> String {
    if report.homes.is_empty() {
        return "\nNobody who logs in has anything of it in their home.\n".into();
    }
    let mut text = format!("\n{}\n", paint(Label::Heading, "What it does keep there"));
    let mut rows = Vec::new();
    for home in &report.homes {
        let mut user = Some(self::text(&home.user));
        if let Some(trouble) = &home.trouble {
            rows.push(vec![cell(user.take().unwrap_or_default()), labelled(Label::Problem, trouble.clone())]);
        }
        for part in &home.parts {
            rows.push(vec![
                cell(user.take().unwrap_or_default()),
                cell(part_words(part.class, part.what.as_deref())),
                cell(count(part.files, "file", "files")),
                cell(size(part.bytes)),
            ]);
        }
        for left in home.left.iter().take(LEFT) {
            let words = format!("left out: {}", quoted(left.path.as_bytes()));
            rows.push(vec![
                cell(user.take().unwrap_or_default()),
                labelled(Label::Remark, words),
                labelled(Label::Remark, left.why.clone()),
            ]);
        }
        if home.left.len() > LEFT {
            let more = format!("and {} more left out (--json lists them)", home.left.len() - LEFT);
            rows.push(vec![cell(""), labelled(Label::Remark, more)]);
        }
    }
    text.push_str(&lines("  ", &rows));
    text
}

pub(crate) fn part_words(class: Class, what: Option<&str>) -> String {
    let what = what.map_or_else(String::new, |what| format!(": {}", text(what)));
    if class == Class::Own { format!("the user's own{what}") } else { format!("{}{what}", class.word()) }
}
