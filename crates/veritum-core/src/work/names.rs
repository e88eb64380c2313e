//! Names on the command line: whether a package or file exists, and under which spellings it is known.

use super::{Engine, WorkError};
use crate::areas::{Failed, How};
use crate::event::NoObserver;
use crate::history;
use crate::model::{Scope, SystemPath};
use crate::reference::Reference;
use crate::system::System;

impl Engine {
    /// The ids of the findings of the last check of the whole machine.
    #[must_use]
    pub fn last_findings(&self) -> Vec<String> {
        let last = self.system.notes().as_ref().and_then(history::last_report);
        let findings = last.into_iter().flat_map(|report| report.findings);
        findings.map(|finding| finding.id.as_str().to_owned()).collect()
    }
}

/// Refuses names of packages that are not installed.
pub(super) fn require_named(system: &System, scope: &Scope) -> Result<(), WorkError> {
    let installed = |name: &String| system.installed.packages.iter().any(|c| c.id.name == *name);
    match scope.packages.iter().find(|name| !installed(name)) {
        Some(name) => {
            let known = system.installed.packages.iter().map(|c| c.id.name.clone()).collect();
            Err(WorkError::Unknown {
                what: "installed package",
                name: name.clone(),
                known,
                listed_by: Some("list packages"),
            })
        }
        None => Ok(()),
    }
}

/// The expected entries, by what is available.
pub(super) fn reference(engine: &Engine, scope: &Scope) -> Reference {
    let none = Failed::new();
    engine.cx(scope, How::plain(&none), &NoObserver).gathered_for(scope, false).reference
}

/// Refuses a named path that does not exist and that no package ships.
pub(super) fn require_there(engine: &Engine, scope: &Scope) -> Result<(), WorkError> {
    for path in &scope.paths {
        let spelled = Scope { paths: engine.system.spellings(path), ..Scope::default() };
        let there = || {
            let folder = engine.system.machine.resolve(&path.parent().unwrap_or_else(SystemPath::root)).ok()?;
            if path.is_root() {
                return Some(());
            }
            engine.system.machine.look(&folder.child(path.name()).ok()?).ok()?.map(|_| ())
        };
        let owned = |reference: &Reference| {
            reference.expected.iter().any(|e| spelled.paths.iter().any(|path| e.listed.is_within(path)))
        };
        let part_is_missing = engine.system.machine.extent().unmounted_above(path).is_some();
        if there().is_none() && !part_is_missing && !owned(&reference(engine, &spelled)) {
            return Err(WorkError::NoSuchFile { path: path.clone() });
        }
    }
    Ok(())
}
