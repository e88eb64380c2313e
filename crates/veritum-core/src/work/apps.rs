//! The applications: their desktop entries, the components behind them, and how they stood at the last check.

use std::collections::BTreeMap;
use std::time::Instant;

use rayon::prelude::*;

use super::{Engine, WorkError};
use crate::apps::Class;
use crate::areas::apps::{Icons, Integration};
use crate::model::{
    ActionKind, Area, ComponentId, ContentHasher, Finding, Remedy, Scope, Subject, SystemPath, Verdict,
};
use crate::platform::debian::{Debian, Needs, in_database, rests_on};
use crate::platform::freedesktop::{AppEntry, FOLDERS, Kind, applications};
use crate::platform::{InstallState, Platform as _};
use crate::report::{AppLine, AppSizes, AppState, AppsReport, AreaReport, LastCheck, Outcome, UnexaminedReport};

/// So many components that several applications rest on are told.
const MAX_SHARED: usize = 5;
/// So many applications are named of each.
const MAX_NAMED: usize = 5;

/// An application, and the component that it belongs to.
#[derive(Debug, Clone)]
pub(super) struct App {
    pub(super) entry: AppEntry,
    pub(super) component: Option<ComponentId>,
}

impl App {
    /// The program that it starts.
    pub(super) fn program(&self) -> Option<&str> {
        self.entry.entry.as_ref().ok()?.program()
    }

    /// Its id, when it runs in a sandbox and takes a folder of its own for a home.
    pub(super) fn sandbox(&self) -> Option<&str> {
        let exported = self.entry.path.is_within_place("/var/lib/flatpak") && self.entry.id.contains('.');
        exported.then_some(self.entry.id.as_str())
    }

    /// Its name; its id where the entry cannot be read.
    pub(super) fn name(&self) -> &str {
        self.entry.entry.as_ref().map_or(&self.entry.id, |entry| &entry.name)
    }
}

/// What came of a look at the applications.
pub(super) struct AppsPart {
    pub(super) area: AreaReport,
    pub(super) findings: Vec<Finding>,
    pub(super) notes: Vec<Finding>,
    pub(super) unexamined: Vec<UnexaminedReport>,
}

impl AppsPart {
    /// Where files of an application's component are put right, or of anything that a named one rests on, that is what was wrong
    /// with it: nothing else is to be done.
    fn comes_right(finding: &Finding, files: &[Finding], scope: &Scope) -> bool {
        let same = |file: &Finding| !scope.apps.is_empty() || file.component == finding.component;
        finding.component.is_some()
            && matches!(finding.subject, Subject::App { .. })
            && finding.verdict != Verdict::Unregistered
            && files.iter().any(|file| file.area == Area::Files && file.remedy.is_some() && same(file))
    }

    /// Takes into account what is going to be done about files.
    pub(super) fn mark_fixed_by_files(&mut self, files: &[Finding], scope: &Scope) {
        for finding in self.findings.iter_mut().filter(|finding| Self::comes_right(finding, files, scope)) {
            finding.remedy = Some(Remedy { action: ActionKind::WithComponent, from: None, download: None });
            finding.advice = None;
            self.area.repairable += 1;
        }
    }
}

impl Engine {
    /// The same, with applications by their ids, and with the components that they rest on.
    ///
    /// # Errors
    /// When nothing, or more than one thing, is called so.
    pub(super) fn with_apps(&self, scope: &Scope) -> Result<Scope, WorkError> {
        let mut scope = scope.clone();
        if scope.apps.is_empty() {
            return Ok(scope);
        }
        let apps = self.apps();
        let mut ids = Vec::new();
        for typed in &scope.apps {
            let app = called(&apps, typed)?;
            ids.push(app.entry.id.clone());
            if scope.names(Area::Files) {
                continue;
            }
            let own = app.component.iter().flat_map(|id| rests_on(&id.name, self.database.stanzas()));
            let installed = |name: &String| self.installed.components.iter().any(|c| c.id.name == *name);
            scope.components.extend(own.filter(installed));
        }
        scope.components.sort();
        scope.components.dedup();
        scope.apps = ids;
        Ok(scope)
    }

    /// Looks whether applications can be started from the desktop, and at what they keep in their users' homes.
    pub(super) fn apps_part(&self, scope: &Scope) -> AppsPart {
        let begun = Instant::now();
        let apps = self.apps();
        let wanted: Vec<&App> =
            apps.iter().filter(|app| scope.apps.is_empty() || scope.apps.contains(&app.entry.id)).collect();
        let integration = Integration::of(&self.machine);
        let mut findings: Vec<Finding> =
            integration.shared(&wanted.iter().map(|app| &app.entry).collect::<Vec<_>>()).into_iter().collect();
        for app in &wanted {
            findings.extend(self.finding_on(app, &integration));
        }
        let mut profiles = self.profiles(&wanted);
        findings.append(&mut profiles.findings);
        let mut notes = profiles.notes;
        notes.extend(self.newer(scope, &wanted));
        notes.extend(self.without_icon(&wanted));
        for finding in findings.iter_mut().filter(|finding| self.can_register(finding)) {
            finding.remedy = Some(Remedy { action: ActionKind::Register, from: None, download: None });
            finding.advice = None;
        }
        let problems = findings.len() as u64;
        let repairable = findings.iter().filter(|finding| finding.remedy.is_some()).count() as u64;
        let area = AreaReport {
            area: Area::Apps,
            outcome: if problems > 0 { Outcome::Problems } else { Outcome::Sound },
            examined: wanted.len() as u64,
            bytes: profiles.bytes,
            seconds: begun.elapsed().as_secs_f64(),
            problems,
            repairable,
            vouched: BTreeMap::new(),
            presence_only: 0,
            extent: Some(match wanted.is_empty() {
                true => "no application is offered here".into(),
                false => extent(profiles.looked),
            }),
        };
        AppsPart { area, findings, notes, unexamined: profiles.unexamined }
    }

    /// What several of these applications rest on and is damaged, by this run's look at files or by the last check: that comes
    /// first.
    pub(super) fn shared_causes(&self, scope: &Scope, files: &[Finding]) -> Vec<Finding> {
        let mut damaged: BTreeMap<String, u64> = BTreeMap::new();
        if scope.wants(Area::Files) {
            for id in files.iter().filter(|f| f.area == Area::Files).filter_map(|f| f.component.as_ref()) {
                *damaged.entry(id.name.clone()).or_default() += 1;
            }
        } else if let Some(last) = self.last_check() {
            damaged = last.components;
        }
        if damaged.is_empty() {
            return Vec::new();
        }
        let apps = self.apps();
        let wanted = apps.iter().filter(|app| scope.apps.is_empty() || scope.apps.contains(&app.entry.id));
        let needs = Needs::of(self.database.stanzas());
        let mut rest_on: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
        for app in wanted {
            let Some(id) = &app.component else { continue };
            for name in needs.rests_on(&id.name) {
                if let Some((name, _)) = damaged.get_key_value(&name) {
                    rest_on.entry(name).or_default().push(&app.entry.id);
                }
            }
        }
        rest_on.retain(|_, apps| apps.len() > 1);
        let mut shared: Vec<_> = rest_on.into_iter().collect();
        shared.sort_by_key(|(_, apps)| std::cmp::Reverse(apps.len()));
        shared.into_iter().take(MAX_SHARED).map(|(name, apps)| shared_cause(name, damaged[name], &apps)).collect()
    }

    /// Applications of which menus show no picture.
    fn without_icon(&self, wanted: &[&App]) -> Vec<Finding> {
        let icons = Icons::of(&self.machine);
        let note = |app: &&App| {
            let entry = app.entry.entry.as_ref().ok().filter(|entry| entry.shown)?;
            let icon = entry.icon.as_deref().filter(|icon| icons.lacks(&self.machine, icon))?;
            let finding = Finding::on(Area::Apps, Subject::App { name: app.entry.id.clone() }, Verdict::NoIcon);
            let cause = format!("nothing here shows its icon, {icon}");
            Some(Finding { component: app.component.clone(), cause: Some(cause), ..finding })
        };
        wanted.iter().filter_map(note).collect()
    }

    /// Newer versions that wait for the components of applications that were named, by the lists at hand.
    fn newer(&self, scope: &Scope, wanted: &[&App]) -> Vec<Finding> {
        if scope.apps.is_empty() {
            return Vec::new();
        }
        let waiting = self.with_archive(|archive| self.waiting(archive).ids);
        let note = |app: &&App| {
            let own = app.component.as_ref()?;
            let newer = waiting.iter().find(|id| id.name == own.name && id.arch == own.arch)?;
            let subject = Subject::App { name: app.entry.id.clone() };
            let finding = Finding::on(Area::Apps, subject, Verdict::NewerWaits);
            let cause = format!("version {} waits", newer.version);
            Some(Finding { component: app.component.clone(), cause: Some(cause), ..finding })
        };
        wanted.iter().filter_map(note).collect()
    }

    /// What keeps the desktop from starting an application.
    pub(super) fn finding_on(&self, app: &App, integration: &Integration<'_>) -> Option<Finding> {
        let finding = integration.judge(&app.entry)?;
        // What its vendor ships is not damaged, however odd it is.
        if finding.verdict == Verdict::Garbled && self.is_as_shipped(app) {
            return None;
        }
        // What belongs to a component comes right with it.
        let with_it = app.component.as_ref().filter(|_| finding.verdict != Verdict::Unregistered);
        let advice = with_it.map(|_| format!("veritum repair app:{}", app.entry.id));
        Some(Finding { component: app.component.clone(), advice: advice.or_else(|| finding.advice.clone()), ..finding })
    }

    /// Whether an application's entry is byte for byte what the machine's own records say its component ships.
    fn is_as_shipped(&self, app: &App) -> bool {
        let md5 = || {
            let id = app.component.as_ref()?;
            let component = self.installed.components.iter().find(|c| c.id == *id)?;
            let shipped = Debian.records(&self.machine).of(component, None).ok()?.md5s.get(&app.entry.path).copied()?;
            let bytes = self.machine.read_up_to(&app.entry.path, 1 << 20).ok()??;
            let mut hasher = ContentHasher::md5();
            hasher.update(&bytes);
            Some((shipped, hasher.finish().1?))
        };
        md5().is_some_and(|(shipped, found)| shipped == found)
    }

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

    /// The applications, with how they stood at the last check, and how much they take where that is asked.
    ///
    /// # Errors
    /// When the state folder cannot be read.
    pub fn list_apps(&self, sizes: bool) -> Result<AppsReport, WorkError> {
        let last = self.last_check();
        let integration = Integration::of(&self.machine);
        let line = |app: &App| self.app_line(app, last.as_ref(), &integration);
        let all = self.apps();
        let mut apps: Vec<AppLine> = all.iter().map(line).collect();
        if sizes {
            for (line, sizes) in apps.iter_mut().zip(self.sizes_of(&all)) {
                line.sizes = Some(sizes);
            }
        }
        apps.sort_by(|a, b| (a.name.to_lowercase(), &a.id).cmp(&(b.name.to_lowercase(), &b.id)));
        Ok(AppsReport { format: AppsReport::FORMAT.into(), checked: last.map(|last| last.at), apps })
    }

    pub(super) fn app_line(&self, app: &App, last: Option<&LastCheck>, integration: &Integration<'_>) -> AppLine {
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
            shown: app.entry.entry.as_ref().is_ok_and(|entry| integration.shows(entry)),
            state: self.state_of(app, last, problems),
            problems,
            trouble: app.entry.entry.as_ref().err().map(ToString::to_string),
            sizes: None,
        }
    }

    /// How much each of these takes, in all homes of those who log in.
    fn sizes_of(&self, apps: &[App]) -> Vec<AppSizes> {
        let installed = |app: &App| {
            let id = app.component.as_ref()?;
            self.installed.components.iter().find(|c| c.id == *id)?.installed_bytes
        };
        let mut all: Vec<AppSizes> =
            apps.iter().map(|app| AppSizes { installed: installed(app), ..AppSizes::default() }).collect();
        let accounts = self.users_named(None).unwrap_or_default();
        let cards: Vec<_> = apps.iter().map(|app| self.card_of(app).ok()).collect();
        for (_, open_home) in self.open_homes(&accounts) {
            let Ok(home) = open_home else { continue };
            for ((app, card), sizes) in apps.iter().zip(&cards).zip(&mut all) {
                let found = card
                    .as_ref()
                    .and_then(|(card, _)| home.app_data(card, app.sandbox(), &crate::scan::Choice::default()).ok());
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

    fn state_of(&self, app: &App, last: Option<&LastCheck>, problems: u64) -> AppState {
        let Some(id) = &app.component else { return AppState::Unowned };
        let component = self.installed.components.iter().find(|c| c.id == *id);
        match (component.map(|c| c.install_state), last) {
            (Some(progress), _) if progress != InstallState::Installed => AppState::Incomplete,
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

fn shared_cause(name: &str, problems: u64, apps: &[&str]) -> Finding {
    let mut named = apps.iter().take(MAX_NAMED).copied().collect::<Vec<_>>().join(", ");
    if apps.len() > MAX_NAMED {
        named.push_str(&format!(" and {} more", apps.len() - MAX_NAMED));
    }
    let finding = Finding::on(Area::Apps, Subject::Component { name: name.to_owned() }, Verdict::SharedCause);
    let s = if problems == 1 { "problem" } else { "problems" };
    let cause = format!("{} applications rest on it ({named}), and it has {problems} {s}", apps.len());
    Finding { cause: Some(cause), advice: Some(format!("veritum repair component:{name}")), ..finding }
}

/// What was looked at.
fn extent(kept: u64) -> String {
    let homes = match kept {
        0 => "; nothing of them lies in users' homes".to_owned(),
        1 => "; 1 thing in users' homes".to_owned(),
        n => format!("; {n} things in users' homes"),
    };
    format!(
        "entries, programs, icons, kinds of files and services of the message bus{homes}; their files are in the area files"
    )
}

/// The application that is called so: by its id, its name in any language, the last part of its id, or its component.
/// Capitals do not matter.
pub(super) fn called<'a>(apps: &'a [App], typed: &str) -> Result<&'a App, WorkError> {
    let wanted = typed.to_lowercase();
    let is = |text: &str| text.to_lowercase() == wanted;
    let names = |app: &App| {
        let entry = app.entry.entry.as_ref().ok();
        is(app.name()) || entry.is_some_and(|entry| entry.names.iter().any(|name| is(name)))
    };
    let by_id = |app: &App| is(&app.entry.id);
    let by_last_part = |app: &App| app.entry.id.rsplit('.').next().is_some_and(is);
    let by_component = |app: &App| app.component.as_ref().is_some_and(|id| is(&id.name));
    let ways: [&dyn Fn(&App) -> bool; 4] = [&by_id, &names, &by_last_part, &by_component];
    for way in ways {
        let fits: Vec<&App> = apps.iter().filter(|app| way(app)).collect();
        match fits[..] {
            [] => {}
            [one] => return Ok(one),
            _ => {
                let ids = fits.iter().map(|app| app.entry.id.clone()).collect();
                return Err(WorkError::SeveralApps { name: typed.to_owned(), ids });
            }
        }
    }
    let known = apps.iter().flat_map(|app| [app.entry.id.clone(), app.name().to_owned()]).collect();
    Err(WorkError::Unknown { what: "application", name: typed.to_owned(), known })
}
