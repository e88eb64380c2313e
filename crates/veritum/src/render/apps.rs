//! What `list apps` and `explain app:NAME` print.

use veritum_core::apps::Class;
use veritum_core::model::{is_harmless, quoted};
use veritum_core::report::{AppLine, AppReport, AppState, AppsReport, CardOrigin};

use super::layout::{Cell, cell, headline, labelled, list as list_of, table};
use super::style::{Label, paint};
use super::{ago, count, next, size};
use crate::context::Context;

/// The number of files not moved that are listed for each home.
const LEFT: usize = 5;
/// Longer vendor names are shortened by default.
const LONG_VENDOR: usize = 28;

pub(crate) fn list(context: &Context, report: &AppsReport) -> String {
    let shown: Vec<&AppLine> = report.apps.iter().filter(|app| app.shown || is_bad(app)).collect();
    let all: Vec<&AppLine> = if context.global.verbose { report.apps.iter().collect() } else { shown };
    let mut text = head(context, report, &all);
    if !all.is_empty() {
        text.push_str("\n  ");
        let mut words = vec!["name", "state", "called", "package", "vendor"];
        if all.iter().any(|app| app.sizes.is_some()) {
            words.splice(4.., ["installed", "cache", "settings", "user data"]);
        }
        let heading = words.into_iter().map(|word| labelled(Label::Heading, word)).collect();
        let rows = all.iter().map(|app| row(app, context.global.verbose));
        let rows: Vec<Vec<Cell>> = std::iter::once(heading).chain(rows).collect();
        text.push_str(list_of("  ", &rows, context.width).trim_start());
    }
    let left = report.apps.len() - all.len();
    if left > 0 {
        let more = format!("and {} hidden from menus (--verbose)", count(left as u64, "entry", "entries"));
        text.push_str(&format!("\n  {}\n", paint(Label::Remark, &more)));
    }
    format!("{text}\n{}", next(context, &commands(context, &all)))
}

/// Whether it has a problem: then it is listed even if no menu shows it.
fn is_bad(app: &AppLine) -> bool {
    app.trouble.is_some() || matches!(app.state, AppState::Damaged | AppState::Incomplete)
}

fn head(context: &Context, report: &AppsReport, all: &[&AppLine]) -> String {
    let bad = all.iter().filter(|app| is_bad(app)).count() as u64;
    let apps = count(all.len() as u64, "application", "applications");
    let when = match &report.checked {
        Some(at) => format!("at the last check, {}", ago(at, context.settings.now)),
        None => "not checked yet".into(),
    };
    match (bad, &report.checked) {
        (0, Some(_)) => headline(Label::Good, &apps, &format!("no problems ({when})"), context.width),
        (0, None) => headline(Label::Heading, &apps, &when, context.width),
        _ => headline(Label::Bad, &format!("{bad} of {apps}"), &format!("with problems ({when})"), context.width),
    }
}

/// A card's place with the usual base directories.
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

/// Foreign text, unchanged if it is harmless.
pub(crate) fn text(foreign: &str) -> String {
    if is_harmless(foreign) { foreign.to_owned() } else { quoted(foreign.as_bytes()) }
}

fn row(app: &AppLine, whole: bool) -> Vec<Cell> {
    let state = match (&app.trouble, app.state) {
        (Some(_), _) => labelled(Label::Problem, "invalid entry"),
        (None, AppState::Damaged) => labelled(Label::Problem, count(app.problems, "problem", "problems")),
        (None, AppState::Incomplete) => labelled(Label::Problem, app.state.word()),
        (None, AppState::Ok) => cell(app.state.word()),
        (None, _) => labelled(Label::Remark, app.state.word()),
    };
    let package = app.package.as_ref().map_or_else(String::new, |id| format!("{} {}", id.name, id.version));
    let vendor = text(app.vendor.as_deref().unwrap_or_default());
    let vendor = match vendor.chars().count() > LONG_VENDOR && !whole {
        true => vendor.chars().take(LONG_VENDOR - 1).chain(['…']).collect(),
        false => vendor,
    };
    let mut cells = vec![cell(text(&app.name)), state, cell(text(&app.id)), cell(package)];
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
        Some(app) => vec![(context.command(&format!("check app:{}", app.id)), "details of the first one")],
        None => vec![(context.command("check"), "checks all files")],
    }
}

pub(crate) fn about(context: &Context, report: &AppReport) -> String {
    let AppReport { app, finding, card, .. } = report;
    let head = match finding {
        Some(finding) => {
            let why = text(finding.cause.as_deref().unwrap_or(finding.verdict.word()));
            format!("cannot be started from the desktop: {why}")
        }
        None => "can be started from the desktop".to_owned(),
    };
    let label = if finding.is_some() { Label::Bad } else { Label::Good };
    let mut out = headline(label, &text(&app.name), &head, context.width) + "\n";
    let state = match app.state {
        AppState::Damaged => format!("{} at the last check", count(app.problems, "problem", "problems")),
        other => other.word().to_owned(),
    };
    let package = app.package.as_ref().map(|id| format!("{} {}, {state}", id.name, id.version));
    let rests_on = match report.rests_on.len() {
        0 => None,
        1 => Some("no other packages".to_owned()),
        n => Some(count(n as u64 - 1, "other package", "other packages")),
    };
    let program = report.program.as_deref().map(text);
    let facts = [
        ("entry", Some(text(&app.entry.to_string()))),
        ("starts", program),
        ("package", Some(package.unwrap_or_else(|| app.state.word().to_owned()))),
        ("depends on", rests_on),
        ("vendor", app.vendor.as_deref().map(text)),
    ];
    let rows: Vec<Vec<Cell>> =
        facts.into_iter().filter_map(|(name, fact)| Some(vec![labelled(Label::Heading, name), cell(fact?)])).collect();
    out.push_str(&table("", &rows, context.width));
    let who = match card.from {
        CardOrigin::BuiltIn => "from Veritum's application card",
        CardOrigin::Administrator => "from your application card",
        CardOrigin::NoCard => "no application card: standard XDG directories; unknown files count as user data",
    };
    out.push_str(&format!("\n{} ({who})\n", paint(Label::Heading, "Its data in a home")));
    let mut rows = Vec::new();
    for part in &card.parts {
        for (at, place) in part.places.iter().enumerate() {
            let words = part_words(part.class, part.what.as_deref());
            rows.push(vec![cell(if at == 0 { words } else { String::new() }), cell(text(&at_home(place)))]);
        }
    }
    out.push_str(&table("  ", &rows, context.width));
    out.push_str(&homes(context, report));
    let commands = match finding {
        Some(_) => {
            vec![(context.command(&format!("repair app:{}", app.id)), "shows the plan, then asks")]
        }
        None => vec![
            (context.command(&format!("check app:{}", app.id)), "checks its package, dependencies and data in homes"),
            (context.command(&format!("reset {} --plan", app.id)), "what a reset would move aside, and what stays"),
        ],
    };
    format!("{out}\n{}", next(context, &commands))
}

/// Its data in the homes of login users.
fn homes(context: &Context, report: &AppReport) -> String {
    if report.homes.is_empty() {
        return "\nNo login user has data of it in the home.\n".into();
    }
    let mut text = format!("\n{}\n", paint(Label::Heading, "Data found"));
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
        for path in home.unsaved.iter().take(LEFT) {
            let words = labelled(Label::Note, format!("not saved yet: {}", quoted(path.as_bytes())));
            rows.push(vec![cell(user.take().unwrap_or_default()), words]);
        }
        for process in &home.running {
            let words = labelled(Label::Note, format!("running: {} ({})", self::text(&process.name), process.pid));
            rows.push(vec![cell(user.take().unwrap_or_default()), words]);
            let open = process.open.iter().take(LEFT);
            rows.extend(
                open.map(|path| vec![cell(""), labelled(Label::Note, format!("open: {}", quoted(path.as_bytes())))]),
            );
        }
        for left in home.left.iter().take(LEFT) {
            let words = format!("not moved: {}", quoted(left.path.as_bytes()));
            rows.push(vec![
                cell(user.take().unwrap_or_default()),
                labelled(Label::Remark, words),
                labelled(Label::Remark, left.why.clone()),
            ]);
        }
        if home.left.len() > LEFT {
            let more = format!("and {} more not moved (--json)", home.left.len() - LEFT);
            rows.push(vec![cell(""), labelled(Label::Remark, more)]);
        }
    }
    text.push_str(&table("  ", &rows, context.width));
    text
}

pub(crate) fn part_words(class: Class, what: Option<&str>) -> String {
    let what = what.map_or_else(String::new, |what| format!(": {}", text(what)));
    if class == Class::Own { format!("user data{what}") } else { format!("{}{what}", class.word()) }
}
