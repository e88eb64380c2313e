//! The applications: their desktop entries, the components behind them, and how they stood at the last check.

use std::collections::BTreeMap;

use rayon::prelude::*;

use super::{WorkError, Workshop};
use crate::history;
use crate::model::{ComponentId, SystemPath};
use crate::platform::debian::{Debian, in_database};
use crate::platform::freedesktop::{AppEntry, FOLDERS, Kind, applications};
use crate::platform::{Platform as _, Progress};
use crate::report::{AppLine, AppState, AppsReport, LastCheck};

/// An application, and the component that it belongs to.
#[derive(Debug, Clone)]
pub(super) struct App {
    pub(super) entry: AppEntry,
    pub(super) component: Option<ComponentId>,
}

impl App {
    /// Its name; its id where the entry cannot be read.
    pub(super) fn name(&self) -> &str {
        self.entry.entry.as_ref().map_or(&self.entry.id, |entry| &entry.name)
    }
}

impl Workshop {
    /// The applications that the machine offers to all its users; none of what counts as deleted, or is no program.
    pub(super) fn apps(&self) -> Vec<App> {
        let mut entries = applications(&self.machine);
        entries.retain(|app| app.entry.as_ref().map_or(true, |entry| entry.kind == Kind::Application && !entry.hidden));
        let owners = self.owners_of_entries();
        let app = |entry: AppEntry| App { component: owners.get(&entry.path).cloned(), entry };
        entries.into_iter().map(app).collect()
    }

    /// Which component owns each desktop entry, by the machine's own records.
    fn owners_of_entries(&self) -> BTreeMap<SystemPath, ComponentId> {
        let records = Debian.records(&self.machine);
        let below = |path: &[u8]| FOLDERS.iter().any(|folder| path.starts_with(folder.as_bytes()));
        let of = |component: &crate::platform::Component| {
            let record = records.of(component, Some(&below)).ok()?;
            let entries = record.paths.into_iter().filter(|path| path.as_bytes().ends_with(b".desktop"));
            Some(entries.map(|path| (path, component.id.clone())).collect::<Vec<_>>())
        };
        let all: Vec<Vec<(SystemPath, ComponentId)>> =
            self.pool.install(|| self.installed.components.par_iter().filter_map(of).collect());
        all.into_iter().flatten().collect()
    }

    /// The applications, with how they stood at the last check.
    ///
    /// # Errors
    /// When the state folder cannot be read.
    pub fn list_apps(&self) -> Result<AppsReport, WorkError> {
        let last = self.state()?.as_ref().and_then(history::last_check);
        let mut apps: Vec<AppLine> = self.apps().iter().map(|app| self.app_line(app, last.as_ref())).collect();
        apps.sort_by(|a, b| (a.name.to_lowercase(), &a.id).cmp(&(b.name.to_lowercase(), &b.id)));
        Ok(AppsReport { format: AppsReport::FORMAT.into(), checked: last.map(|last| last.at), apps })
    }

    fn app_line(&self, app: &App, last: Option<&LastCheck>) -> AppLine {
        let problems = match (&app.component, last) {
            (Some(id), Some(last)) => last.components.get(&id.name).copied().unwrap_or(0),
            _ => 0,
        };
        AppLine {
            name: app.name().to_owned(),
            id: app.entry.id.clone(),
            entry: app.entry.path.clone(),
            component: app.component.clone(),
            vendor: app.component.as_ref().and_then(|id| self.vendor_of(id)),
            shown: app.entry.entry.as_ref().is_ok_and(|entry| entry.shown),
            state: self.state_of(app, last, problems),
            problems,
            trouble: app.entry.entry.as_ref().err().map(ToString::to_string),
        }
    }

    fn state_of(&self, app: &App, last: Option<&LastCheck>, problems: u64) -> AppState {
        let Some(id) = &app.component else { return AppState::Unowned };
        let component = self.installed.components.iter().find(|c| c.id == *id);
        match (component.map(|c| c.progress), last) {
            (Some(progress), _) if progress != Progress::InPlace => AppState::Incomplete,
            (_, None) => AppState::Unchecked,
            (_, Some(last)) if self.was_installed_after(id, &last.at) => AppState::ChangedSince,
            _ if problems > 0 => AppState::Problems,
            _ => AppState::Sound,
        }
    }

    /// Whether a component's list of files was written after a moment: dpkg writes it anew with each installation.
    fn was_installed_after(&self, id: &ComponentId, moment: &str) -> bool {
        let Ok(moment) = moment.parse::<jiff::Timestamp>() else { return false };
        let names = [format!("info/{}:{}.list", id.name, id.arch), format!("info/{}.list", id.name)];
        let stat = |name: &String| self.machine.look(&in_database(name)).ok().flatten();
        names.iter().find_map(stat).is_some_and(|stat| stat.ctime.s > moment.as_second())
    }

    /// Who makes or packages a component: its origin, else its maintainer without an address.
    fn vendor_of(&self, id: &ComponentId) -> Option<String> {
        let stanza = self
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
}
