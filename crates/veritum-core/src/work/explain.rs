//! `explain`: examines one path, finding or change again, and closely.

use super::examine::{check_all, check_area};
use super::names::require_there;
use super::{Engine, WorkError};
use crate::areas::files::unowned;
use crate::areas::{AREAS, About, BOOTCHAIN, Checked, Failed, How, VOLUMES, find};
use crate::change::{ChangeError, ChangeLog};
use crate::event::Observer;
use crate::history;
use crate::homes::HomesSeen;
use crate::model::{AreaName, Finding, Scope, Subject, SystemPath};
use crate::report::ExplainReport;

impl Engine {
    /// Explains a path: owner, expected and found state, differences, chain of trust.
    ///
    /// # Errors
    /// As [`Engine::check`].
    pub fn explain_path(&mut self, path: &SystemPath, observer: &dyn Observer) -> Result<ExplainReport, WorkError> {
        let scope = Scope { paths: vec![path.clone()], ..Scope::default() };
        self.require_store_sound(&scope)?;
        self.homes = HomesSeen::default();
        {
            let none = Failed::new();
            let cx = self.cx(&scope, How::plain(&none), observer);
            // A file of a package is explained as such first, whatever other areas know about the path.
            for area in AREAS.iter().rev() {
                if let Some(report) = area.explain_place(&cx, path)? {
                    return Ok(report);
                }
            }
        }
        require_there(self, &scope)?;
        let bare = ExplainReport::bare(Subject::path(path));
        Ok(ExplainReport { path: Some(path.clone()), remark: Some(unowned(path)), ..bare })
    }

    /// Explains a finding by its id or the beginning of it.
    ///
    /// # Errors
    /// When no finding, or more than one, matches.
    pub fn explain_finding(&mut self, typed: &str, observer: &dyn Observer) -> Result<ExplainReport, WorkError> {
        // Of a system that is not mounted, these areas are examined.
        let everything = match self.system.disks {
            Some(_) => Scope { areas: vec![BOOTCHAIN, VOLUMES], ..Scope::default() },
            None => Scope::default(),
        };
        self.require_store_sound(&everything)?;
        if let Some(report) = still_as_found(self, typed, observer) {
            return Ok(report);
        }
        let none = Failed::new();
        let cx = self.cx(&everything, How::plain(&none), observer);
        let mut checked = check_all(&cx)?;
        let fits = |f: &&Finding| f.id.as_str().starts_with(typed);
        // Areas that the default check leaves out, does not find here, or examines only partly.
        let known: Vec<AreaName> = checked.areas().map(|examined| examined.area.clone()).collect();
        let is_whole = |about: &About| about.by_default && about.is_of_machine && known.contains(&about.name);
        for area in AREAS.iter().filter(|area| !is_whole(area.about())) {
            if self.system.disks.is_some() || checked.findings().any(|f| fits(&f)) {
                break;
            }
            let scope = Scope::only(area.about().name.clone());
            let cx = cx.narrowed(&scope);
            if area.is_here(&cx) {
                checked.replace(check_area(&cx, *area, &Checked::default())?);
            }
        }
        let all: Vec<&Finding> = checked.findings().filter(fits).collect();
        match all.as_slice() {
            [] => Err(WorkError::Unknown {
                what: "finding",
                name: typed.to_owned(),
                known: Vec::new(),
                listed_by: Some("check"),
            }),
            [one] => match find(&one.area) {
                Some(area) => area.explain(&cx, one, &checked),
                None => Ok(ExplainReport::new(one, None)),
            },
            _ => Err(WorkError::Ambiguous { name: typed.to_owned() }),
        }
    }

    /// The change log of a change.
    ///
    /// # Errors
    /// When there is no such change, or its change log cannot be read.
    pub fn explain_change(&self, number: u64) -> Result<ChangeLog, WorkError> {
        let none = || WorkError::unknown_change(&number.to_string());
        let state = self.system.state()?.ok_or_else(none)?;
        let log = state.change(number).map_err(|source| ChangeError::Journal { change: number, source })?;
        log.ok_or_else(none)
    }
}

/// Explains a finding of the last check on a path, if an examination of that path alone gives the same result.
fn still_as_found(engine: &mut Engine, typed: &str, observer: &dyn Observer) -> Option<ExplainReport> {
    let last = engine.system.notes().as_ref().and_then(history::last_report)?;
    let all = last.findings.iter().chain(&last.notes);
    let mut fitting = all.filter(|f| f.id.as_str().starts_with(typed));
    let (finding, None) = (fitting.next()?, fitting.next()) else { return None };
    let report = engine.explain_path(finding.subject.as_path()?, observer).ok()?;
    report.finding.as_ref().is_some_and(|now| now.id == finding.id).then_some(report)
}
