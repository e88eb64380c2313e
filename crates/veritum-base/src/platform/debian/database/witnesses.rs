//! Further evidence of a package: if its entry is lost, the package log, its documentation folder and the packages that
//! depend on it still name it.

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::io::Read;

use super::{Database, Stanza};
use crate::formats::deb::unpacked;
use crate::machine::Machine;
use crate::model::{FileKind, SystemPath};
use crate::platform::debian::info_list;

const DOCUMENTS: &str = "/usr/share/doc";
/// Only the beginning of a changelog is read; decompression is limited as well.
const MAX_HEAD: u64 = 4096;
const MAX_CHANGELOG: u64 = 16 << 20;
/// Further documentation folders are not examined.
const MAX_FOLDERS: usize = 200_000;
const MAX_LIST: u64 = 64 << 20;

/// The source package and version of the newest entry of a Debian changelog (deb-changelog(5)).
#[must_use]
fn changelog_head(text: &[u8]) -> Option<(String, String)> {
    let line = std::str::from_utf8(text.split(|b| *b == b'\n').find(|line| !line.trim_ascii().is_empty())?).ok()?;
    let (name, rest) = line.split_once(" (")?;
    let version = rest.split_once(')')?.0;
    let is_name = |b: u8| b.is_ascii_alphanumeric() || b"+-.".contains(&b);
    let is_version = |b: u8| b.is_ascii_alphanumeric() || b"+-.~:".contains(&b);
    let right = !name.is_empty() && name.bytes().all(is_name) && version.starts_with(|c: char| c.is_ascii_digit());
    (right && version.bytes().all(is_version)).then(|| (name.to_owned(), version.to_owned()))
}

/// The beginning of a package's changelog on this machine; `None` when there is none, or it cannot be read.
#[must_use]
pub fn changelog_of(machine: &Machine, deb: &str) -> Option<(String, String)> {
    ["changelog.Debian.gz", "changelog.gz", "changelog.Debian"].iter().find_map(|name| {
        let path = SystemPath::parse(format!("{DOCUMENTS}/{deb}/{name}").as_bytes()).ok()?;
        let bytes = machine.read_up_to(&path, MAX_CHANGELOG).ok()??;
        let mut head = Vec::new();
        match name.strip_suffix(".gz") {
            Some(_) => drop(unpacked(&bytes[..], ".gz").ok()?.take(MAX_HEAD).read_to_end(&mut head)),
            None => head.extend(bytes.into_iter().take(4096)),
        }
        changelog_head(&head)
    })
}

impl Database {
    /// Names of packages without an entry for which there is other evidence.
    pub(super) fn forgotten(&self, machine: &Machine) -> Vec<String> {
        let known = self.known_names();
        let unknown = |name: &str| !known.contains(name);
        // A package may have changed its architecture: the log then continues under another key.
        let mut all: BTreeSet<String> =
            self.logged.keys().map(|(name, _)| name).filter(|name| unknown(name)).cloned().collect();
        all.extend(self.documented(machine, &unknown));
        all.into_iter().collect()
    }

    /// Unknown names with a documentation folder that contains a Debian changelog and that no package lists.
    fn documented(&self, machine: &Machine, unknown: &dyn Fn(&str) -> bool) -> Vec<String> {
        let folder = SystemPath::literal(DOCUMENTS);
        let listed = machine.resolve(&folder).and_then(|real| machine.dir(&real));
        let names = listed.as_ref().ok().and_then(|dir| dir.disk().list(dir.fd()).ok()).unwrap_or_default();
        let mut found: BTreeMap<SystemPath, String> = BTreeMap::new();
        for (name, kind) in names.into_iter().take(MAX_FOLDERS) {
            let Ok(name) = String::from_utf8(name) else { continue };
            let is_folder = kind.is_none_or(|kind| kind == FileKind::Folder);
            if is_folder
                && super::is_stem(&name)
                && unknown(&name)
                && changelog_of(machine, &name).is_some()
                && let Ok(path) = folder.child(name.as_bytes())
            {
                found.insert(path, name);
            }
        }
        if !found.is_empty() {
            // Some packages have folders with other names; then a list names the folder.
            self.for_each_listed(machine, |path| drop(found.remove(&path)));
        }
        found.into_values().collect()
    }

    /// Reports every path in the packages' lists.
    pub fn for_each_listed(&self, machine: &Machine, mut each: impl FnMut(SystemPath)) {
        for (stem, _) in self.info.iter().filter(|(_, suffixes)| suffixes.contains("list")) {
            let list = super::in_database(&format!("info/{stem}.list"));
            let paths = machine.read_up_to(&list, MAX_LIST).ok().flatten().and_then(|bytes| info_list(&bytes).ok());
            paths.into_iter().flatten().for_each(&mut each);
        }
    }

    /// Names that have an entry of any kind, or a record.
    #[must_use]
    pub fn known_names(&self) -> HashSet<&str> {
        let of_entries = self.stanzas().map(Stanza::name);
        of_entries
            .chain(self.info.keys().map(|stem| name_of(stem)))
            .chain(self.lost.iter().map(|s| name_of(s)))
            .collect()
    }

    /// Dependencies of other packages that no known package is or provides.
    #[must_use]
    pub fn unmet(&self) -> BTreeSet<String> {
        let installed = || self.stanzas().filter(|s| !matches!(s.state(), "config-files" | "not-installed"));
        let mut there: HashSet<&str> = installed().map(Stanza::name).collect();
        let relation = |text: &str| -> Option<String> {
            let name = text.trim().split(|c: char| c.is_whitespace() || "(:[<".contains(c)).next()?;
            (!name.is_empty()).then(|| name.to_owned())
        };
        let provided: Vec<String> = installed()
            .filter_map(|s| s.get("Provides"))
            .flat_map(|field| field.split(',').filter_map(relation).collect::<Vec<_>>())
            .collect();
        there.extend(provided.iter().map(String::as_str));
        there.extend(self.recovered.iter().map(|r| r.stanza.name()));
        let mut unmet = BTreeSet::new();
        for field in installed().flat_map(|s| [s.get("Depends"), s.get("Pre-Depends")]).flatten() {
            for group in field.split(',') {
                let names: Vec<String> = group.split('|').filter_map(relation).collect();
                if !names.iter().any(|name| there.contains(name.as_str())) {
                    unmet.extend(names);
                }
            }
        }
        unmet
    }

    /// Whether an entry that marks a package as removed is contradicted: dpkg keeps a list of configuration files and one
    /// script of a removed package, and the log records the removal.
    pub(super) fn is_still_there(&self, machine: &Machine, stanza: &Stanza, stems: &[String]) -> bool {
        let records = |stem: &String| self.info.get(stem).is_some_and(|all| all.has_more_than(&["list", "postrm"]));
        if stems.iter().any(records) {
            return true;
        }
        let settings: HashSet<SystemPath> = stanza.settings().into_iter().map(|s| s.path).collect();
        let lists_files = |stem: &String| {
            let list = super::in_database(&format!("info/{stem}.list"));
            let paths = machine.read_up_to(&list, MAX_LIST).ok().flatten().and_then(|bytes| info_list(&bytes).ok());
            let is_there = |path: &SystemPath| {
                let real = path.parent().and_then(|folder| machine.resolve(&folder).ok()?.child(path.name()).ok());
                let stat = real.and_then(|real| machine.look(&real).ok().flatten());
                stat.is_some_and(|stat| stat.kind == FileKind::File)
            };
            paths.into_iter().flatten().any(|path| !settings.contains(&path) && is_there(&path))
        };
        stems.iter().any(lists_files)
    }
}

fn name_of(stem: &str) -> &str {
    stem.split_once(':').map_or(stem, |(name, _)| name)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_changelog_tells_its_newest_version() {
        let head = |text: &str| changelog_head(text.as_bytes()).map(|(name, version)| format!("{name} {version}"));
        assert_eq!(
            head("quay (1:1.0-1+deb12u1) stable; urgency=low\n\n  * x\n").as_deref(),
            Some("quay 1:1.0-1+deb12u1")
        );
        assert_eq!(head("\nquay (2) unstable; urgency=low").as_deref(), Some("quay 2"));
        for none in ["", "Version 1.0 (2020)\n", "quay (one) x", "a b (1) x", "quay (1"] {
            assert_eq!(head(none), None, "{none}");
        }
    }

    proptest::proptest! {
        #[test]
        fn a_changelog_with_changed_bytes_tells_a_name_and_a_version_or_nothing(at in 0usize..40, byte: u8) {
            let mut text = b"quay (1.0-1) unstable; urgency=low\n  * x\n".to_vec();
            let at = at % text.len();
            text[at] = byte;
            if let Some((name, version)) = changelog_head(&text) {
                proptest::prop_assert!(super::super::is_stem(&name) && !version.is_empty());
                let head = format!("{name} ({version})");
                proptest::prop_assert!(text.windows(head.len()).any(|part| part == head.as_bytes()));
            }
        }
    }
}
