//! What was named on the command line: whether there is such a component or file, and under which spellings it is known.

use super::{Engine, WorkError};
use crate::model::{Scope, SystemPath};
use crate::platform::debian::{ALIASES, explained_links};
use crate::reference::Reference;

impl Engine {
    /// Refuses names of components that are not installed.
    pub(super) fn require_named(&self, scope: &Scope) -> Result<(), WorkError> {
        let installed = |name: &String| self.installed.components.iter().any(|c| c.id.name == *name);
        match scope.components.iter().find(|name| !installed(name)) {
            Some(name) => {
                let known = self.installed.components.iter().map(|c| c.id.name.clone()).collect();
                Err(WorkError::Unknown { what: "installed component", name: name.clone(), known })
            }
            None => Ok(()),
        }
    }

    /// The spellings under which components may list a path: as it was named, where it really is, and on a merged
    /// system through the top-level links (`/usr/bin/x` is listed as `/bin/x`).
    pub(super) fn spellings(&self, path: &SystemPath) -> Vec<SystemPath> {
        let mut all = vec![path.clone()];
        let real = path.parent().and_then(|p| self.machine.resolve(&p).ok());
        all.extend(real.and_then(|p| p.child(path.name()).ok()));
        let root = self.machine.dir(&SystemPath::root()).ok();
        for alias in ALIASES {
            let (top, below) = (format!("/{alias}"), format!("/usr/{alias}"));
            let target = root.as_ref().and_then(|r| r.disk().read_link(r.fd(), alias.as_bytes()).ok());
            let Ok(below) = SystemPath::parse(below.as_bytes()) else { continue };
            if !target.is_some_and(|t| explained_links(top.as_bytes(), &t)) {
                continue;
            }
            for at in 0..all.len() {
                if let Some(rest) = all[at].below(&below) {
                    all.extend(SystemPath::parse(&[top.as_bytes(), b"/", rest].concat()).ok());
                }
            }
        }
        all.sort();
        all.dedup();
        // The one that was named stays the first.
        all.sort_by_key(|p| p != path);
        all
    }

    /// Refuses a path that was named where there is nothing, and no component has anything.
    pub(super) fn require_there(&self, scope: &Scope) -> Result<(), WorkError> {
        for path in &scope.paths {
            let spelled = Scope { paths: self.spellings(path), ..Scope::default() };
            let there = || {
                let folder = self.machine.resolve(&path.parent().unwrap_or_else(SystemPath::root)).ok()?;
                if path.is_root() {
                    return Some(());
                }
                self.machine.look(&folder.child(path.name()).ok()?).ok()?.map(|_| ())
            };
            let owned = |reference: &Reference| {
                reference.expected.iter().any(|e| spelled.paths.iter().any(|path| e.listed.is_within(path)))
            };
            let part_is_missing = self.machine.extent().unmounted_above(path).is_some();
            if there().is_none() && !part_is_missing && !owned(&self.gathered(&spelled, false).reference) {
                return Err(WorkError::NoSuchFile { path: path.clone() });
            }
        }
        Ok(())
    }

    pub(super) fn in_every_spelling(&self, scope: &Scope) -> Scope {
        let paths = scope.paths.iter().flat_map(|p| self.spellings(p)).collect();
        Scope { paths, ..scope.clone() }
    }
}
