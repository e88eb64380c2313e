//! The subset of paths in or next to the scope: the rest of a large reference need not be gathered.

use std::collections::HashSet;

use super::sources::ManifestSource;
use crate::model::{Scope, SystemPath};
use crate::platform::{Installed, Package, Records};

/// The relevant paths for a check of a part of the machine.
pub(super) struct ReferenceSubset {
    /// Packages of which everything is relevant.
    whole: HashSet<String>,
    /// Everything in or below these is relevant.
    inside: Vec<SystemPath>,
    /// Folders on the way: they are relevant with their direct contents.
    folders: HashSet<Vec<u8>>,
    /// The length of the longest of them: nearly all of a hundred thousand paths are ruled out by it.
    longest: usize,
}

impl ReferenceSubset {
    /// The relevant paths for a scope; `None` when everything is.
    pub(super) fn for_scope(
        scope: &Scope,
        installed: &Installed,
        sources: &[&dyn ManifestSource],
        records: &dyn Records,
    ) -> Option<Self> {
        if scope.is_all() {
            return None;
        }
        let mut near = Self {
            whole: scope.packages.iter().cloned().collect(),
            inside: scope.paths.clone(),
            folders: HashSet::new(),
            longest: 0,
        };
        scope.paths.iter().for_each(|path| near.way_to(path));
        for package in
            installed.packages.iter().filter(|c| near.whole.contains(&c.id.name)).cloned().collect::<Vec<_>>()
        {
            near.ways_to(&package, sources, records);
        }
        // A diverted file is elsewhere than it is listed.
        for diversion in installed.diversions.values() {
            if near.has(diversion.to.as_bytes()) {
                near.way_to(&diversion.from);
            }
        }
        Some(near)
    }

    fn way_to(&mut self, path: &SystemPath) {
        let mut above = path.parent();
        while let Some(folder) = above {
            above = folder.parent();
            self.longest = self.longest.max(folder.as_bytes().len());
            // From a known folder on, all parents are known.
            if !self.folders.insert(folder.as_bytes().to_vec()) {
                return;
            }
        }
    }

    fn ways_to(&mut self, package: &Package, sources: &[&dyn ManifestSource], records: &dyn Records) {
        let manifest = sources.iter().find_map(|s| s.manifest(&package.id).ok().flatten());
        match (manifest, records.read_list(package, None)) {
            (Some(manifest), _) => manifest.get().entries.iter().for_each(|e| self.way_to(&e.path)),
            (None, Ok(record)) => record.paths.iter().for_each(|path| self.way_to(path)),
            (None, Err(_)) => {}
        }
    }

    /// Whether everything of a package is relevant.
    pub(super) fn is_whole(&self, package: &Package) -> bool {
        self.whole.contains(&package.id.name)
    }

    /// Whether a listed path is relevant.
    pub(super) fn has(&self, path: &[u8]) -> bool {
        let parent = match memchr::memrchr(b'/', path) {
            Some(0) | None => &b"/"[..],
            Some(at) => &path[..at],
        };
        let is_folder = |path: &[u8]| path.len() <= self.longest && self.folders.contains(path);
        if is_folder(parent) || is_folder(path) {
            return true;
        }
        self.inside.iter().any(|top| {
            let top = top.as_bytes();
            top == b"/" || path.strip_prefix(top).is_some_and(|rest| rest.is_empty() || rest.starts_with(b"/"))
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::platform::{RecordProblem, SelfRecord};

    /// Nothing is recorded of anything.
    struct NoRecords;

    impl Records for NoRecords {
        fn read_list(&self, _: &Package, _: Option<&crate::platform::Keep<'_>>) -> Result<SelfRecord, RecordProblem> {
            Err(RecordProblem { path: SystemPath::root(), what: "nothing".into() })
        }
    }

    fn near(paths: &[&'static str]) -> ReferenceSubset {
        let scope = Scope { paths: paths.iter().map(|p| SystemPath::literal(p)).collect(), ..Scope::default() };
        ReferenceSubset::for_scope(&scope, &Installed::default(), &[], &NoRecords).unwrap()
    }

    #[test]
    fn what_lies_in_the_part_on_the_way_to_it_and_beside_it_matters() {
        let near = near(&["/usr/share/quay"]);
        for path in ["/usr/share/quay", "/usr/share/quay/a/b", "/usr/share", "/usr", "/", "/usr/share/pier", "/etc"] {
            assert!(near.has(path.as_bytes()), "{path}");
        }
        for path in ["/usr/share/pier/planks", "/etc/quay", "/usr/share/quayside/x"] {
            assert!(!near.has(path.as_bytes()), "{path}");
        }
    }

    #[test]
    fn a_whole_machine_has_no_part_and_the_root_is_all_of_it() {
        assert!(ReferenceSubset::for_scope(&Scope::default(), &Installed::default(), &[], &NoRecords).is_none());
        assert!(near(&["/"]).has(b"/any/where/at/all"));
    }
}
