//! `list apps` and `explain app:NAME`: the applications, with their states at the last check.

use super::{Engine, WorkError};
use crate::apps::{Card, Class};
use crate::areas::apps::{App, Integration, apps, called, card_of, finding_on};
use crate::model::PackageId;
use crate::platform::InstallState;
use crate::platform::debian::{in_database, rests_on};
use crate::report::{
    AppLine, AppReport, AppSizes, AppState, AppsReport, CardOrigin, CardReport, LastCheck, PartReport,
};
use crate::scan::Choice;
use crate::system::System;

impl Engine {
    /// The applications, with their states at the last check and, on request, their disk usage.
    ///
    /// # Errors
    /// When the state folder cannot be read.
    pub fn list_apps(&self, sizes: bool) -> Result<AppsReport, WorkError> {
        let system = &self.system;
        let last = system.last_check();
        let integration = Integration::read(&system.machine);
        let line = |app: &App| app_line(system, app, last.as_ref(), &integration);
        let all = apps(system);
        let mut apps: Vec<AppLine> = all.iter().map(line).collect();
        if sizes {
            for (line, sizes) in apps.iter_mut().zip(sizes_of(system, &all)) {
                line.sizes = Some(sizes);
            }
        }
        apps.sort_by(|a, b| (a.name.to_lowercase(), &a.id).cmp(&(b.name.to_lowercase(), &b.id)));
        Ok(AppsReport { format: AppsReport::FORMAT.into(), checked: last.map(|last| last.at), apps })
    }

    /// Describes one application: its package, its dependencies, what prevents its start, and its data in homes.
    ///
    /// # Errors
    /// When no application, or more than one, matches; when a card of the administrator's cannot be used.
    pub fn explain_app(&self, typed: &str) -> Result<AppReport, WorkError> {
        let system = &self.system;
        let apps = apps(system);
        let app = called(&apps, typed)?;
        let integration = Integration::read(&system.machine);
        let last = system.last_check();
        let on = app.package.as_ref().map(|id| rests_on(&id.name, system.database.stanzas())).unwrap_or_default();
        let (card, from) = card_of(system, app)?;
        Ok(AppReport {
            format: AppReport::FORMAT.into(),
            app: app_line(system, app, last.as_ref(), &integration),
            program: app.program().map(str::to_owned),
            rests_on: on.into_iter().collect(),
            finding: finding_on(system, app, &integration),
            homes: system.homes_with(&card, app.sandbox()),
            card: told(&card, from),
        })
    }
}

fn app_line(system: &System, app: &App, last: Option<&LastCheck>, integration: &Integration<'_>) -> AppLine {
    let problems = match (&app.package, last) {
        (Some(id), Some(last)) => last.packages.get(&id.name).copied().unwrap_or(0),
        _ => 0,
    };
    AppLine {
        name: app.name().to_owned(),
        id: app.entry.id.clone(),
        entry: app.entry.path.clone(),
        package: app.package.clone(),
        vendor: app.package.as_ref().and_then(|id| vendor_of(system, id)),
        shown: app.entry.entry.as_ref().is_ok_and(|entry| integration.shows(entry)),
        state: state_of(system, app, last, problems),
        problems,
        trouble: app.entry.entry.as_ref().err().map(ToString::to_string),
        sizes: None,
    }
}

/// The disk usage of each of these, in the homes of all login users.
fn sizes_of(system: &System, apps: &[App]) -> Vec<AppSizes> {
    let installed = |app: &App| {
        let id = app.package.as_ref()?;
        system.installed.packages.iter().find(|c| c.id == *id)?.installed_bytes
    };
    let mut all: Vec<AppSizes> =
        apps.iter().map(|app| AppSizes { installed: installed(app), ..AppSizes::default() }).collect();
    let accounts = system.users_named(None).unwrap_or_default();
    let cards: Vec<_> = apps.iter().map(|app| card_of(system, app).ok()).collect();
    for (_, open_home) in system.open_homes(&accounts) {
        let Ok(home) = open_home else { continue };
        for ((app, card), sizes) in apps.iter().zip(&cards).zip(&mut all) {
            let found = card.as_ref().and_then(|(card, _)| home.app_data(card, app.sandbox(), &Choice::default()).ok());
            for part in found.iter().flat_map(|found| &found.parts) {
                let sum = match part.class {
                    Class::Cache => &mut sizes.cache,
                    Class::Own => &mut sizes.own,
                    _ => &mut sizes.settings,
                };
                *sum = sum.saturating_add(part.tally.bytes);
            }
        }
    }
    all
}

fn state_of(system: &System, app: &App, last: Option<&LastCheck>, problems: u64) -> AppState {
    let Some(id) = &app.package else { return AppState::Unowned };
    let package = system.installed.packages.iter().find(|c| c.id == *id);
    match (package.map(|c| c.install_state), last) {
        (Some(progress), _) if progress != InstallState::Installed => AppState::Incomplete,
        (_, None) => AppState::Unchecked,
        (_, Some(last)) if was_installed_after(system, id, &last.at) => AppState::ChangedSince,
        _ if problems > 0 => AppState::Damaged,
        _ => AppState::Ok,
    }
}

/// Whether a package's list of files was written after a time: dpkg writes it with each installation.
fn was_installed_after(system: &System, id: &PackageId, moment: &str) -> bool {
    let Ok(moment) = moment.parse::<jiff::Timestamp>() else { return false };
    let names = [format!("info/{}:{}.list", id.name, id.arch), format!("info/{}.list", id.name)];
    let stat = |name: &String| system.machine.look(&in_database(name)).ok().flatten();
    names.iter().find_map(stat).is_some_and(|stat| stat.ctime.s > moment.as_second())
}

/// The vendor of a package: its origin, else its maintainer without an address.
fn vendor_of(system: &System, id: &PackageId) -> Option<String> {
    let stanza = system
        .database
        .stanzas()
        .find(|s| s.get("Package") == Some(id.name.as_str()) && s.get("Architecture") == Some(id.arch.as_str()))?;
    let name = match stanza.get("Origin") {
        Some(origin) => origin,
        None => stanza.get("Maintainer")?.split('<').next()?,
    };
    let name: String = name.chars().filter(|c| !c.is_control()).take(80).collect();
    Some(name.trim().trim_matches('"').to_owned()).filter(|name| !name.is_empty())
}

fn told(card: &Card, from: CardOrigin) -> CardReport {
    let mut parts: Vec<PartReport> = Vec::new();
    for (class, what, pattern) in card.parts() {
        let same = |part: &&mut PartReport| part.class == class && part.what.as_deref() == what;
        match parts.iter_mut().find(same) {
            Some(part) => part.places.push(pattern.to_string()),
            None => parts.push(PartReport { class, what: what.map(str::to_owned), places: vec![pattern.to_string()] }),
        }
    }
    // User data first, then the parts that a reset concerns.
    parts.sort_by_key(|part| (part.class != Class::Own, part.class));
    CardReport { from, programs: card.programs.clone(), parts }
}
