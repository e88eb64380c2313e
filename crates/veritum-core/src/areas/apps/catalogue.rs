//! The applications that a machine offers, and the package of each.

use std::collections::BTreeMap;

use rayon::prelude::*;

use crate::formats::desktop_entry::Kind;
use crate::model::{PackageId, SystemPath};
use crate::platform::debian::Debian;
use crate::platform::freedesktop::{AppEntry, FOLDERS, applications};
use crate::platform::{Package, Platform as _};
use crate::system::{System, WorkError};

/// An application and its package.
#[derive(Debug, Clone)]
pub struct App {
    /// Its desktop entry.
    pub entry: AppEntry,
    /// The package.
    pub package: Option<PackageId>,
}

impl App {
    /// The program that it starts.
    #[must_use]
    pub fn program(&self) -> Option<&str> {
        self.entry.entry.as_ref().ok()?.program()
    }

    /// Its id, if it is sandboxed and uses a folder of its own as its home.
    #[must_use]
    pub fn sandbox(&self) -> Option<&str> {
        let exported = self.entry.path.is_within_place("/var/lib/flatpak") && self.entry.id.contains('.');
        exported.then_some(self.entry.id.as_str())
    }

    /// Its name; its id where the entry cannot be read.
    #[must_use]
    pub fn name(&self) -> &str {
        self.entry.entry.as_ref().map_or(&self.entry.id, |entry| &entry.name)
    }
}

/// The applications that the machine offers to all its users, without deleted entries and entries that are not programs.
#[must_use]
pub fn apps(system: &System) -> Vec<App> {
    let mut entries = applications(&system.machine);
    entries.retain(|app| app.entry.as_ref().map_or(true, |entry| entry.kind == Kind::Application && !entry.hidden));
    let owners = owners_of_entries(system);
    let app = |entry: AppEntry| App { package: owners.get(&entry.path).cloned(), entry };
    entries.into_iter().map(app).collect()
}

/// The package of each desktop entry, by the local package database.
fn owners_of_entries(system: &System) -> BTreeMap<SystemPath, PackageId> {
    let records = Debian.records(&system.machine);
    let below = |path: &[u8]| FOLDERS.iter().any(|folder| path.starts_with(folder.as_bytes()));
    let of = |package: &Package| {
        let record = records.read_list(package, Some(&below)).ok()?;
        let entries = record.paths.into_iter().filter(|path| path.as_bytes().ends_with(b".desktop"));
        Some(entries.map(|path| (path, package.id.clone())).collect::<Vec<_>>())
    };
    let all: Vec<Vec<(SystemPath, PackageId)>> =
        system.pool.install(|| system.installed.packages.par_iter().filter_map(of).collect());
    all.into_iter().flatten().collect()
}

/// Finds an application by its id, its name in any language, the last part of its id, or its package.
/// Case does not matter.
///
/// # Errors
/// When no application, or more than one, matches.
pub fn called<'a>(apps: &'a [App], typed: &str) -> Result<&'a App, WorkError> {
    let wanted = typed.to_lowercase();
    let is = |text: &str| text.to_lowercase() == wanted;
    let names = |app: &App| {
        let entry = app.entry.entry.as_ref().ok();
        is(app.name()) || entry.is_some_and(|entry| entry.names.iter().any(|name| is(name)))
    };
    let by_id = |app: &App| is(&app.entry.id);
    let by_last_part = |app: &App| app.entry.id.rsplit('.').next().is_some_and(is);
    let by_package = |app: &App| app.package.as_ref().is_some_and(|id| is(&id.name));
    let ways: [&dyn Fn(&App) -> bool; 4] = [&by_id, &names, &by_last_part, &by_package];
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
    Err(WorkError::Unknown { what: "application", name: typed.to_owned(), known, listed_by: Some("list apps") })
}
