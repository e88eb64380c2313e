//! From a machine's sources to the packages in their indexes: only what is needed is read.

use std::collections::HashSet;
use std::path::Path;
use std::sync::Arc;

use super::list_source::ListSource;
use super::source::{self, Follow, OpenRelease, Wanted};
use super::table::Names;
use super::{Found, OpenSource, Repositories, Standing};
use crate::event::{Event, Flow, Observer, Phase};
use crate::machine::Machine;
use crate::model::{PackageId, SystemPath};
use crate::platform::debian::apt::{Release, Signers, Source, SourceKind, sources};
use crate::platform::debian::compare_versions;
use crate::scan::Stopped;
use crate::trust::SeenReleases;
use crate::trust::openpgp::Keyring;

impl Repositories {
    fn follow(&self) -> Follow<'_> {
        Follow { vendors: &self.vendors, facts: &self.facts, now: self.now }
    }

    pub(super) fn open_machine_sources(&mut self, machine: &Machine) {
        for source in sources(machine).all {
            let keyring = source::keyring_of(machine, &source.signers, &self.common, &self.vendors);
            let places = std::iter::once(Found::Lists).chain(source.folder().map(Found::OnMachine));
            let mut looked = Err(Standing::Absent("no release file on this system".into()));
            for place in places {
                let release = release(self, &place.list_source(machine, &source.uri), &source, &keyring);
                looked = release.map(|open| (open, place));
                // An existing but invalid release file is not ignored in favour of another copy.
                if !matches!(looked, Err(Standing::Absent(_))) {
                    break;
                }
            }
            if let Some(folder) = source.folder() {
                self.hand.add_repository(self.sources.len(), folder);
            }
            push_found(self, source, false, looked);
        }
    }

    /// Repositories in folders that the administrator named: all suites in their `dists/`.
    pub(super) fn open_named(&mut self, machine: &Machine) {
        if self.settings.folders.is_empty() {
            return;
        }
        let keyring = source::all_keys(machine, &self.common, &self.vendors);
        for folder in self.settings.folders.clone() {
            for suite in suites_in(&folder) {
                let mut source = named_source(format!("file:{}/", folder.display()), suite);
                let found = Found::OnHost(folder.clone());
                let looked = release(self, &found.list_source(machine, &source.uri), &source, &keyring);
                if let Ok(open) = &looked {
                    source.components = components_of(open.release.get());
                }
                if !matches!(looked, Err(Standing::Absent(_))) {
                    push_found(self, source, true, looked.map(|open| (open, found)));
                }
            }
        }
    }

    /// Reads the indexes that may list these packages, unless they were read already.
    pub(super) fn read_indexes<'i>(&mut self, machine: &Machine, ids: impl Iterator<Item = &'i PackageId>) {
        self.read_indexes_of(machine, &ids.map(|id| id.arch.as_str()).collect());
    }

    /// The names of the packages that are essential or required on a machine of this architecture.
    pub fn basic(&mut self, machine: &Machine) -> Vec<String> {
        let own = self.archs.first().cloned().unwrap_or_default();
        self.read_indexes_of(machine, &HashSet::from([own.as_str(), "all"]));
        self.table.basic().cloned().collect()
    }

    /// Reads the indexes for these architectures, unless they were read already.
    fn read_indexes_of(&mut self, machine: &Machine, asked: &HashSet<&str>) {
        let names = self.names.iter().map(String::as_str);
        let names = if self.names_added { Names::once(names) } else { Names::new(names) };
        let follow = Follow { vendors: &self.vendors, facts: &self.facts, now: self.now };
        for (at, open_source) in self.sources.iter_mut().enumerate() {
            let Some((open, found)) = &open_source.open else { continue };
            let source = &open_source.source;
            let folder = source.release_folder();
            let components = if source.is_flat() { &[][..] } else { &source.components };
            let archs = archs_of(source, &self.archs, asked);
            let wanted = Wanted { folder: &folder, components, archs: &archs };
            let list_source = found.list_source(machine, &source.uri);
            let texts =
                follow.indexes(&list_source, &wanted, &names, open, &mut open_source.read, &mut open_source.standing);
            for text in texts {
                self.table.add(at, open.release.get().on_demand, &text, &names);
            }
        }
    }

    /// Asks the network for release files and indexes, if they could list one of these packages.
    ///
    /// # Errors
    /// When the observer stopped the run.
    pub fn ask_network(
        &mut self,
        machine: &Machine,
        wanted: &[PackageId],
        observer: &dyn Observer,
    ) -> Result<(), Stopped> {
        self.read_indexes(machine, wanted.iter());
        if !self.settings.network || self.asked_network || !wanted.iter().any(|id| network_could_help(self, id)) {
            return Ok(());
        }
        self.asked_network = true;
        let machine_sources: Vec<Source> = self.sources.iter().filter(|s| !s.named).map(|s| s.source.clone()).collect();
        let over_network = machine_sources.iter().filter(|s| s.kind() == SourceKind::Network).cloned();
        let named = self.settings.urls.iter().flat_map(|url| at_url(url, &machine_sources));
        let all: Vec<(Source, bool)> = over_network.map(|s| (s, false)).chain(named.map(|s| (s, true))).collect();
        observer.on_event(Event::Begin { phase: Phase::Asking, items: all.len() as u64, bytes: 0 });
        let any_key = source::all_keys(machine, &self.common, &self.vendors);
        for (source, is_named) in all {
            let keyring = match is_named {
                true => any_key.clone(),
                false => source::keyring_of(machine, &source.signers, &self.common, &self.vendors),
            };
            ask_one(self, machine, source, is_named, &keyring);
            self.read_indexes(machine, wanted.iter());
            if observer.on_event(Event::Advance { items: 1, bytes: 0 }) == Flow::Stop {
                return Err(Stopped);
            }
        }
        observer.on_event(Event::End);
        Ok(())
    }

    /// The packages that an available, verified index lists.
    pub fn listed<'a>(
        &mut self,
        machine: &Machine,
        ids: impl Iterator<Item = &'a PackageId> + Clone,
    ) -> HashSet<&'a PackageId> {
        self.read_indexes(machine, ids.clone());
        ids.filter(|id| self.table.lists(id)).collect()
    }
}

/// Opens a suite's release file in a source of lists.
fn release(
    repositories: &Repositories,
    list_source: &ListSource<'_>,
    source: &Source,
    keyring: &Keyring,
) -> Result<OpenRelease, Standing> {
    let open = repositories.follow().release(list_source, &source.release_folder(), keyring)?;
    if let Some(why) = of_another_suite(source, open.release.get()) {
        return Err(Standing::Unusable(why));
    }
    if let Some(why) = of_another_origin(repositories, source, open.release.get()) {
        return Err(Standing::Unusable(why));
    }
    match went_back(repositories, list_source, source, open.release.get()) {
        Some(why) => Err(Standing::Unusable(why)),
        None => Ok(open),
    }
}

/// Adds a source whose release file was searched for locally.
fn push_found(
    repositories: &mut Repositories,
    source: Source,
    named: bool,
    looked: Result<(OpenRelease, Found), Standing>,
) {
    let (standing, open) = match looked {
        Ok((open, found)) => (open.standing(), Some((open, found))),
        Err(standing) => (standing, None),
    };
    repositories.sources.push(OpenSource { source, named, standing, open, read: HashSet::new() });
}

/// Why a release file is not from the origin that its suite had before, over the network: one key may sign for several.
pub(super) fn of_another_origin(repositories: &Repositories, source: &Source, release: &Release) -> Option<String> {
    let seen = SeenReleases::in_folder(&repositories.settings.trust);
    // An unreadable record is reported where the newest release is looked up.
    let before = seen.other_origin(&source.describe(), &release.origin).ok()??;
    Some(format!("the origin in its release file changed from {before} to {}", release.origin))
}

/// Whether the network offers an older release than one seen before. Lists on a machine may be as old as the machine.
fn went_back(
    repositories: &Repositories,
    list_source: &ListSource<'_>,
    source: &Source,
    release: &Release,
) -> Option<String> {
    let ListSource::Network { .. } = list_source else { return None };
    let seen = SeenReleases::in_folder(&repositories.settings.trust);
    let (date, origin) = (release.date?, release.origin.as_str());
    match seen.newest(&source.describe()) {
        Ok(Some(newest)) if newest > date => {
            Some(format!("older than a release file seen before (dated {date}, seen {newest})"))
        }
        Ok(_) => {
            repositories.doubts.note(seen.keep(&source.describe(), date));
            repositories.doubts.note(seen.keep_origin(&source.describe(), origin));
            None
        }
        // That is not the repository's fault; it is reported separately.
        Err(e) => {
            repositories.doubts.note(Err(e));
            None
        }
    }
}

fn ask_one(repositories: &mut Repositories, machine: &Machine, source: Source, is_named: bool, keyring: &Keyring) {
    let found = Found::Network(Arc::clone(&repositories.fetcher));
    let asked = release(repositories, &found.list_source(machine, &source.uri), &source, keyring);
    let known = repositories.sources.iter().position(|s| !s.named && !is_named && s.source == source);
    match (known, asked) {
        (None, asked) => push_found(repositories, source, is_named, asked.map(|open| (open, found))),
        (Some(at), Ok(open)) => {
            let place = &mut repositories.sources[at];
            (place.standing, place.open) = (open.standing(), Some((open, found)));
            place.read.clear();
        }
        // What the machine's own lists verify is valid, whatever the network offers.
        (Some(at), Err(_)) if repositories.sources[at].standing.is_verified() => {}
        (Some(at), Err(standing)) => repositories.sources[at].standing = standing,
    }
}

/// Whether a repository could list a package that the available lists do not.
fn network_could_help(repositories: &Repositories, id: &PackageId) -> bool {
    if repositories.table.lists(id) {
        return false;
    }
    let whole = |s: &OpenSource| matches!(s.standing, Standing::Verified { missing_indexes: 0, .. });
    let unknown = repositories.sources.iter().any(|s| s.source.kind() == SourceKind::Network && !whole(s));
    let older = repositories.table.newest(id).is_some_and(|listed| compare_versions(listed, &id.version).is_lt());
    unknown || older || !repositories.settings.urls.is_empty()
}

/// The architectures whose indexes of a source are needed.
pub(super) fn archs_of(source: &Source, own: &[String], asked: &HashSet<&str>) -> Vec<String> {
    chosen(if source.archs.is_empty() { own } else { &source.archs }, own, asked)
}

/// Of the architectures that a source offers, those that must be read for the wanted ones.
/// Packages for all architectures are in every index, so the machine's own index is enough.
fn chosen(offered: &[String], own: &[String], asked: &HashSet<&str>) -> Vec<String> {
    let for_all = offered.iter().find(|arch| own.first() == Some(arch));
    match for_all {
        None if asked.contains("all") => offered.to_vec(),
        _ => {
            let needed =
                |arch: &&String| asked.contains(arch.as_str()) || asked.contains("all") && for_all == Some(arch);
            offered.iter().filter(needed).cloned().collect()
        }
    }
}

/// The suites of a repository in a folder of the host.
fn suites_in(folder: &Path) -> Vec<String> {
    let entries = std::fs::read_dir(folder.join("dists")).into_iter().flatten().flatten();
    let mut names: Vec<String> =
        entries.filter(|e| e.path().is_dir()).filter_map(|e| e.file_name().into_string().ok()).take(100).collect();
    names.sort();
    let flat = folder.join("InRelease").is_file() || folder.join("Release").is_file();
    if flat {
        names.push("./".into());
    }
    names
}

/// The components (`main`, …) of a named repository: those with indexes in its release file.
fn components_of(release: &Release) -> Vec<String> {
    let index = |file: &str| file.strip_suffix("/Packages").and_then(|f| Some(f.split_once("/binary-")?.0.to_owned()));
    let mut components: Vec<String> = release.files.keys().filter_map(|f| index(f)).collect();
    components.sort();
    components.dedup();
    components
}

/// Why a release file is not that of the source's suite: another file, signed by the same key, may have been put in its
/// place. A repository named as a folder has no suite: its content is what was named.
pub(super) fn of_another_suite(source: &Source, release: &Release) -> Option<String> {
    let meant = source.is_flat() || source.file.is_root() && source.kind() == SourceKind::Folder;
    if meant { None } else { release.is_of_another_suite(&source.suite) }
}

fn named_source(uri: String, suite: String) -> Source {
    Source {
        uri,
        suite,
        components: Vec::new(),
        archs: Vec::new(),
        signers: Signers::default(),
        file: SystemPath::root(),
    }
}

/// A named repository has the suites and components of the machine's own sources.
fn at_url(url: &str, machine: &[Source]) -> Vec<Source> {
    let uri = format!("{}/", url.trim_end_matches('/'));
    let mut all: Vec<Source> = Vec::new();
    for own in machine {
        if all.iter().all(|s| s.suite != own.suite) {
            all.push(Source { components: own.components.clone(), ..named_source(uri.clone(), own.suite.clone()) });
        }
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::platform::debian::apt::FileSum;

    fn words(names: &[&str]) -> Vec<String> {
        names.iter().map(|n| (*n).to_owned()).collect()
    }

    #[test]
    fn only_the_indexes_of_the_architectures_that_are_asked_for_are_read() {
        let own = words(&["amd64", "i386"]);
        let of = |offered: &[&str], asked: &[&str]| chosen(&words(offered), &own, &asked.iter().copied().collect());
        assert_eq!(of(&["amd64", "i386"], &["amd64"]), ["amd64"]);
        assert_eq!(of(&["amd64", "i386"], &["all"]), ["amd64"], "the machine's own lists what fits all");
        assert_eq!(of(&["i386"], &["all"]), ["i386"], "a source without the machine's own");
        assert_eq!(of(&["amd64", "i386"], &["all", "i386"]), ["amd64", "i386"]);
        assert!(of(&["amd64"], &["i386"]).is_empty());
    }

    #[test]
    fn a_repositorys_components_are_those_with_indexes() {
        let mut release = Release::default();
        for file in
            ["main/binary-amd64/Packages", "main/binary-i386/Packages", "extra/x/binary-amd64/Packages", "main/i18n/x"]
        {
            release.files.insert(file.into(), FileSum { size: 1, sha256: [0; 32] });
        }
        assert_eq!(components_of(&release), ["extra/x", "main"]);
    }

    #[test]
    fn a_named_url_has_the_suites_of_the_machine_once() {
        let own: Vec<Source> = ["stable", "updates", "stable"]
            .map(|suite| Source {
                components: words(&["main"]),
                ..named_source("http://a.example/".into(), suite.into())
            })
            .into();
        let all = at_url("http://other.example/deb//", &own);
        assert_eq!(
            all.iter().map(|s| (s.uri.as_str(), s.suite.as_str())).collect::<Vec<_>>(),
            [("http://other.example/deb/", "stable"), ("http://other.example/deb/", "updates")]
        );
        assert_eq!(all[0].components, ["main"]);
    }
}
