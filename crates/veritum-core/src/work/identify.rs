//! Identifies the packages that are really installed, where the package database does not record them, or its entry
//! contradicts all other records of the package.

use std::collections::HashSet;

use super::Engine;
use crate::areas::database::settings_text;
use crate::event::NoObserver;
use crate::machine::Machine;
use crate::model::{Digest, Entry, EntryKind, FileKind, PackageId, SystemPath, readable};
use crate::platform::Package;
use crate::platform::debian::database::{Key, Stanza, changelog_of};
use crate::platform::debian::{compare_versions, info_list, info_md5sums, info_stems};
use crate::reference::ManifestSource;
use crate::repository::is_in_cache;
use crate::store::{Manifest, Records, Store};

/// Larger records are refused, in bytes.
const MAX_RECORD: u64 = 64 << 20;
/// The number of files that are compared to find the version of a package of which only files are left.
const MAX_COMPARED: usize = 50;
/// The same, if several versions have most files in common.
const MAX_TELLING: usize = 10_000;
/// The number of unsatisfied dependencies that are searched for.
const MAX_MISSED: usize = 200;
/// The number of packages of stores, and of .deb files in the cache, that are searched for unrecorded packages.
const MAX_OFFERED: usize = 500;
const MAX_CACHED: usize = 60;

/// The evidence of one package.
struct Evidence<'a> {
    machine: &'a Machine,
    list: Option<HashSet<SystemPath>>,
    md5sums: Option<Vec<u8>>,
    /// Its last version in the package log.
    logged: Option<String>,
    /// The version at the beginning of its changelog.
    written: Option<String>,
}

/// A package, by a verified source.
struct Known {
    id: PackageId,
    manifest: Manifest,
    records: Records,
}

/// Adds packages that the database has lost, and corrects versions that contradict their records: a package checked against
/// the wrong version is effectively unchecked.
pub(super) fn identify(engine: &mut Engine) {
    let lost = engine.system.database.lost.clone();
    let found: Vec<_> = lost.iter().map(|stem| (stem, lost_entry(engine, stem))).collect();
    let contradicted: Vec<_> =
        (0..engine.system.installed.packages.len()).filter_map(|at| Some((at, actual_package(engine, at)?))).collect();
    for (at, right) in contradicted {
        engine.system.installed.packages[at].id = right;
    }
    adopt(engine, found);
}

/// Finds packages that the package database does not record: those whose files exist, and essential ones.
pub(super) fn find_forgotten(engine: &mut Engine) {
    find_by_files(engine);
    miss_essential(engine);
}

/// Finds packages whose files exist: unsatisfied dependencies, essential packages, and packages of stores or the package
/// cache.
fn find_by_files(engine: &mut Engine) {
    let mut missed = missed(engine);
    let left_behind = left_behind(engine);
    missed.extend(left_behind.into_iter().filter(|name| !missed.contains(name)).collect::<Vec<_>>());
    if missed.is_empty() {
        return;
    }
    let found: Vec<_> = missed.iter().map(|name| (name, lost_entry(engine, name))).collect();
    adopt(engine, found);
}

/// Counts unrecorded essential packages as lost: every system has them, even if no package is available to compare
/// with.
fn miss_essential(engine: &mut Engine) {
    let ids = engine.system.installed.packages.iter().map(|c| &c.id);
    let essential =
        engine.supply().open_repositories(|repositories| repositories.table().essential(ids)).unwrap_or_default();
    let known = engine.system.database.known_names();
    let adopted: HashSet<&str> = engine.system.installed.packages.iter().map(|c| c.id.name.as_str()).collect();
    let is_named = |name: &str| known.contains(name) || adopted.contains(name);
    let missing: Vec<String> = essential.into_iter().filter(|name| !is_named(name)).collect();
    engine.system.database.lost.extend(missing);
    engine.system.installed.lost.clone_from(&engine.system.database.lost);
}

/// Adds the entries that were found.
fn adopt(engine: &mut Engine, found: Vec<(&String, Option<Stanza>)>) {
    let mut adopted = false;
    for (stem, stanza) in found {
        if let Some(stanza) = stanza {
            engine.system.database.adopt(stem, stanza);
            adopted = true;
        }
    }
    if adopted {
        let key = |c: &Package| (c.id.name.clone(), c.id.arch.clone());
        let known: HashSet<Key> = engine.system.installed.packages.iter().map(key).collect();
        let all = engine.system.database.packages().0;
        engine.system.installed.packages.extend(all.into_iter().filter(|c| !known.contains(&key(c))));
        engine.system.installed.packages.sort_by(|a, b| a.id.cmp(&b.id));
        engine.system.installed.lost.clone_from(&engine.system.database.lost);
    }
}

/// The real version of the package at this position, if all its records except its entry agree on it, and nothing
/// signed has the version of its entry.
fn actual_package(engine: &Engine, at: usize) -> Option<PackageId> {
    let package = &engine.system.installed.packages[at];
    let id = &package.id;
    if engine.open.stores.iter().any(|s| s.has(id)) {
        return None;
    }
    if engine.open.stores.is_empty() {
        return logged_otherwise(engine, package);
    }
    let is_installed = |other: &PackageId| {
        let mut all = engine.system.installed.packages.iter().map(|c| &c.id);
        all.any(|known| known.name == other.name && known.arch == other.arch && known != id)
    };
    let others: Vec<PackageId> = stored(engine, &id.name).into_iter().filter(|o| !is_installed(o)).collect();
    if others.is_empty()
        || engine
            .supply()
            .with_repositories(|repositories| repositories.named(&engine.system.machine, &id.name))
            .contains(id)
    {
        return None;
    }
    let stem = info_stems(package).into_iter().find(|s| engine.system.database.info.contains_key(s))?;
    let evidence = evidence(engine, &stem);
    let known = others.iter().filter_map(|other| described(engine, other));
    // Equal contents prove nothing: an update may change only the version number.
    only_one(known.filter(|known| evidence.identifies_version(known)), &evidence).map(|known| known.id)
}

/// The version of a package that both the package log and its changelog name, if its entry has another one and the available
/// lists of the repositories have that version.
fn logged_otherwise(engine: &Engine, package: &Package) -> Option<PackageId> {
    let id = &package.id;
    let logged = &engine.system.database.logged;
    let version = logged.get(&(id.name.clone(), id.arch.clone())).filter(|version| **version != id.version)?;
    let right = PackageId::new(&id.name, version, &id.arch).ok()?;
    let (_, written) = changelog_of(&engine.system.machine, &id.name)?;
    if written != *version {
        return None;
    }
    engine
        .supply()
        .with_repositories(|repositories| repositories.named(&engine.system.machine, &id.name))
        .contains(&right)
        .then_some(right)
}

/// Unsatisfied dependencies for which signed packages are available whose files exist nevertheless.
fn missed(engine: &Engine) -> Vec<String> {
    let lost: HashSet<&str> =
        engine.system.database.lost.iter().map(|stem| stem.split(':').next().unwrap_or(stem)).collect();
    let mut names = engine.system.database.unmet();
    let ids: Vec<&PackageId> = engine.system.installed.packages.iter().map(|c| &c.id).collect();
    // If stores verify everything, the repository is not asked.
    if ids.iter().any(|id| !engine.open.stores.iter().any(|s| s.has(id))) {
        names.extend(engine.supply().with_repositories(|repositories| repositories.basic(&engine.system.machine)));
    }
    let installed: HashSet<&str> = ids.iter().map(|id| id.name.as_str()).collect();
    let open = |name: &String| !lost.contains(name.as_str()) && !installed.contains(name.as_str());
    let open: Vec<String> = names.into_iter().filter(open).take(MAX_MISSED).collect();
    if !open.is_empty() {
        engine.supply().with_repositories(|repositories| repositories.also_know(open.iter().cloned()));
    }
    open
}

/// Packages of stores and .deb files of the cache that the database does not record, and most of whose files exist
/// without an owner.
fn left_behind(engine: &Engine) -> Vec<String> {
    let named = engine.system.database.known_names();
    let near = engine.open.stores.iter().filter(|store| !store.is_remote());
    let stored = near.flat_map(Store::packages).map(|entry| entry.package.clone());
    let mut ids: Vec<PackageId> = stored.filter(|id| !named.contains(id.name.as_str())).take(MAX_OFFERED).collect();
    let unnamed = |name: &str| !named.contains(name);
    // If stores verify everything, the repository is not opened for that.
    if is_in_cache(&engine.system.machine, &unnamed) {
        ids.extend(engine.supply().with_repositories(|repositories| {
            let cached = repositories.cached(&engine.system.machine, &unnamed);
            let cached: Vec<PackageId> = cached.into_iter().take(MAX_CACHED).collect();
            // An interruption here also stops the next step.
            let _ = repositories.prepare(&engine.system.machine, &cached, &engine.system.pool, &NoObserver);
            cached
        }));
    }
    let none = Evidence::none(&engine.system.machine);
    let there: Vec<Known> =
        ids.iter().filter_map(|id| described(engine, id)).filter(|known| none.are_files_of(known)).collect();
    if there.is_empty() {
        return Vec::new();
    }
    let files = |known: &Known| -> Vec<SystemPath> {
        let files = known.manifest.entries.iter().filter(|e| matches!(e.kind, EntryKind::File { .. }));
        files.map(|e| e.path.clone()).collect()
    };
    let all: Vec<Vec<SystemPath>> = there.iter().map(files).collect();
    let mut unowned: HashSet<&SystemPath> = all.iter().flatten().collect();
    engine.system.database.for_each_listed(&engine.system.machine, |path| {
        unowned.remove(&path);
    });
    let is_left = |of: &Vec<SystemPath>| of.iter().filter(|path| unowned.contains(path)).count() * 2 > of.len();
    let left = there.iter().zip(&all).filter(|(_, of)| is_left(of)).map(|(known, _)| known.id.name.clone());
    left.collect()
}

/// The entry of a package of which only the records are left, if they match exactly one known package.
fn lost_entry(engine: &Engine, stem: &str) -> Option<Stanza> {
    let (name, arch) = stem.split_once(':').map_or((stem, None), |(name, arch)| (name, Some(arch)));
    let evidence = evidence(engine, stem);
    let fits = |id: &PackageId| arch.is_none_or(|arch| id.arch == arch);
    let stored = stored(engine, name).into_iter().filter(fits);
    let stored: Vec<Known> = stored.filter_map(|id| described(engine, &id)).collect();
    let found = only_one(stored.into_iter(), &evidence).or_else(|| {
        let listed = engine.supply().with_repositories(|repositories| {
            repositories.also_know(std::iter::once(name.to_owned()));
            let wanted = repositories.named(&engine.system.machine, name);
            // An interruption here also stops the next step.
            let _ = repositories.prepare(&engine.system.machine, &wanted, &engine.system.pool, &NoObserver);
            wanted
        });
        only_one(listed.into_iter().filter(fits).filter_map(|id| described(engine, &id)), &evidence)
    })?;
    let control = Stanza::parse(format!("{}\n", found.records.control.trim_end()).as_bytes()).ok()?;
    Some(Stanza::composed(&control, &[], &settings_of(engine, &found)))
}

/// The packages of a name in the stores.
fn stored(engine: &Engine, name: &str) -> Vec<PackageId> {
    let all = engine.open.stores.iter().flat_map(crate::store::Store::packages).map(|e| &e.package);
    let mut all: Vec<PackageId> = all.filter(|id| id.name == name).cloned().collect();
    all.sort();
    all.dedup();
    all
}

/// The descriptions of a package by all sources.
fn described(engine: &Engine, id: &PackageId) -> Option<Known> {
    let from = |source: &dyn ManifestSource| {
        let manifest = source.manifest(id).ok().flatten()?;
        let records = source.records(&manifest).ok().flatten()?;
        let (manifest, records) = (manifest.get().as_ref().clone(), records.get().as_ref().clone());
        Some(Known { id: id.clone(), manifest, records })
    };
    let stores = engine.open.stores.iter().find_map(|store| from(store));
    stores.or_else(|| engine.supply().open_repositories(|repositories| from(repositories)).flatten())
}

/// The configuration files of a package, as in its entry.
fn settings_of(engine: &Engine, known: &Known) -> String {
    let md5 = |digest: &Digest, size: u64| engine.open.stores.iter().find_map(|s| ManifestSource::md5(s, digest, size));
    settings_text("", &HashSet::new(), &known.manifest, &known.records, &md5)
}

fn evidence<'a>(engine: &'a Engine, stem: &str) -> Evidence<'a> {
    let versions = &engine.system.database.logged;
    let read = |suffix: &str| {
        let path = SystemPath::parse(format!("/var/lib/dpkg/info/{stem}.{suffix}").as_bytes()).ok()?;
        engine.system.machine.read_up_to(&path, MAX_RECORD).ok().flatten()
    };
    let list = read("list").and_then(|bytes| info_list(&bytes).ok());
    let (name, arch) = stem.split_once(':').map_or((stem, None), |(name, arch)| (name, Some(arch)));
    let of = |key: &(String, String)| key.0 == name && arch.is_none_or(|arch| key.1 == arch);
    let mut logged = versions.iter().filter(|(key, _)| of(key)).map(|(_, version)| version.clone());
    Evidence {
        machine: &engine.system.machine,
        list: list.map(|l| l.into_iter().filter(|p| !p.is_root()).collect()),
        md5sums: read("md5sums"),
        written: changelog_of(&engine.system.machine, name).map(|(_, version)| version),
        logged: logged.next(),
    }
}

/// The package whose records these are; `None` if several match. Where only files are left, and available versions
/// have most of them in common, it is the one with the most matches, and of several the newest.
fn only_one(known: impl Iterator<Item = Known>, evidence: &Evidence<'_>) -> Option<Known> {
    let mut fitting: Vec<Known> = known.filter(|known| evidence.are_of(known)).collect();
    if fitting.len() > 1 && evidence.are_none() {
        let same: Vec<usize> = fitting.iter().map(|known| evidence.same_files(known, MAX_TELLING).0).collect();
        let most = same.iter().max().copied();
        let mut same = same.into_iter();
        fitting.retain(|_| same.next() == most);
        fitting.sort_by(|a, b| compare_versions(&a.id.version, &b.id.version));
        return fitting.pop();
    }
    if fitting.len() > 1 { None } else { fitting.pop() }
}

impl<'a> Evidence<'a> {
    /// The candidates for a package of which only files are left.
    fn none(machine: &'a Machine) -> Self {
        Self { machine, list: None, md5sums: None, logged: None, written: None }
    }

    /// Whether the evidence can only come from that package: identical digests; or the same paths and the same changelog,
    /// which every new version continues, or the same version in the package log.
    fn are_of(&self, known: &Known) -> bool {
        let right = known.records.md5sums_bytes().filter(|bytes| !bytes.is_empty());
        if right.is_some() && self.md5sums == right {
            return true;
        }
        let entries = known.manifest.entries.iter().map(|e| &e.path);
        let shipped: HashSet<&SystemPath> = entries.filter(|p| !p.is_root()).collect();
        let same_paths =
            |list: &HashSet<SystemPath>| list.len() == shipped.len() && list.iter().all(|p| shipped.contains(p));
        match &self.list {
            Some(list) => same_paths(list) && self.identifies_version(known),
            // None of its records is left: its files exist, and something names the version.
            None if self.md5sums.is_none() => self.are_files_of(known) && self.name_the_version_of(known),
            None => false,
        }
    }

    /// Whether most of the files that the package ships exist.
    fn are_files_of(&self, known: &Known) -> bool {
        let files = known.manifest.entries.iter().filter(|e| matches!(e.kind, EntryKind::File { .. }));
        let is_there = |path: &SystemPath| {
            let real = path.parent().and_then(|folder| self.machine.resolve(&folder).ok()?.child(path.name()).ok());
            real.and_then(|real| self.machine.look(&real).ok().flatten()).is_some_and(|s| s.kind == FileKind::File)
        };
        let (mut there, mut all) = (0, 0);
        for file in files {
            all += 1;
            there += usize::from(is_there(&file.path));
        }
        all > 0 && there * 2 > all
    }

    /// Whether the log or the changelog names its version, or, without either, most of its files are those of
    /// this version.
    fn name_the_version_of(&self, known: &Known) -> bool {
        let version = &known.id.version;
        if self.logged.is_some() || self.written.is_some() {
            return self.logged.as_ref() == Some(version) || self.written.as_ref() == Some(version);
        }
        let (same, all) = self.same_files(known, MAX_COMPARED);
        all > 0 && same * 2 > all
    }

    /// Of the first files that the package ships: how many exist unchanged, and how many were compared.
    fn same_files(&self, known: &Known, most: usize) -> (usize, usize) {
        let files = known.manifest.entries.iter().filter_map(|e| match &e.kind {
            EntryKind::File { digest, size, .. } if *size > 0 => Some((&e.path, digest, *size)),
            _ => None,
        });
        let (mut same, mut all) = (0, 0);
        for (path, digest, size) in files.take(most) {
            all += 1;
            let bytes = self.machine.read_up_to(path, size.min(MAX_RECORD)).ok().flatten();
            same += usize::from(bytes.is_some_and(|bytes| Digest::hash(&bytes) == *digest));
        }
        (same, all)
    }

    /// Whether only the files themselves are left.
    fn are_none(&self) -> bool {
        self.list.is_none() && self.md5sums.is_none() && self.logged.is_none() && self.written.is_none()
    }

    /// Whether the log or the changelog names exactly this version.
    fn identifies_version(&self, known: &Known) -> bool {
        self.logged.as_ref() == Some(&known.id.version) || self.has_history_of(known)
    }

    /// Whether its changelogs are that package's: by their content, or by its digests.
    fn has_history_of(&self, known: &Known) -> bool {
        let history = format!("/usr/share/doc/{}/changelog", known.id.name);
        let is_history = |path: &SystemPath| readable(path.as_bytes()).starts_with(&history);
        let stands = |entry: &Entry| match &entry.kind {
            EntryKind::File { digest, size, .. } => {
                let bytes = self.machine.read_up_to(&entry.path, (*size).min(MAX_RECORD)).ok().flatten();
                bytes.is_some_and(|bytes| Digest::hash(&bytes) == *digest)
            }
            _ => true,
        };
        let mut lying = known.manifest.entries.iter().filter(|e| is_history(&e.path)).peekable();
        if lying.peek().is_none() {
            return false;
        }
        let read = |bytes: &[u8]| info_md5sums(bytes).ok();
        let right = known.records.md5sums_bytes();
        let said = match (self.md5sums.as_deref().and_then(read), right.as_deref().and_then(read)) {
            (Some(found), Some(right)) => {
                let mut histories = right.iter().filter(|(path, _)| is_history(path)).peekable();
                histories.peek().is_some() && histories.all(|(path, md5)| found.get(path) == Some(md5))
            }
            _ => false,
        };
        said || lying.all(stands)
    }
}
