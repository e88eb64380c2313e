//! The spellings of a path.

use super::System;
use crate::model::{Scope, SystemPath};
use crate::platform::debian::{ALIASES, explained_links};

impl System {
    /// The spellings under which packages may list a path: as named, resolved, and on a merged
    /// system through the top-level symlinks (`/usr/bin/x` is listed as `/bin/x`).
    pub fn spellings(&self, path: &SystemPath) -> Vec<SystemPath> {
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
        // The named one stays the first.
        all.sort_by_key(|p| p != path);
        all
    }

    /// The scope with its paths in every spelling.
    #[must_use]
    pub fn in_every_spelling(&self, scope: &Scope) -> Scope {
        let paths = scope.paths.iter().flat_map(|p| self.spellings(p)).collect();
        Scope { paths, ..scope.clone() }
    }
}
