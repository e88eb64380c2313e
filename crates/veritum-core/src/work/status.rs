//! `status` and the lists.

use super::{WorkError, Workshop};
use crate::change::unfinished;
use crate::history;
use crate::model::{Voucher, error_chain};
use crate::platform::Progress;
use crate::report::{ChangeLine, ChangesReport, ComponentLine, ComponentsReport, StatusReport, StoreLine};
use crate::store::Store;

impl Workshop {
    /// What machine this is, what vouches for it, what is pending.
    ///
    /// # Errors
    /// When the state folder cannot be read.
    pub fn status(&self, full_rights: bool) -> Result<StatusReport, WorkError> {
        let state = self.state()?;
        let lines = match &state {
            Some(state) => history::changes(&self.machine, state)?,
            None => Vec::new(),
        };
        let mut vouched = std::collections::BTreeMap::new();
        for component in &self.installed.components {
            *vouched.entry(self.voucher_of(&component.id)).or_default() += 1;
        }
        let half = self.installed.components.iter().filter(|c| c.progress != Progress::InPlace);
        let mut not_here: Vec<String> = self
            .machine
            .extent()
            .unmounted()
            .iter()
            .map(|place| format!("{place} is part of this system and is not mounted"))
            .collect();
        if !full_rights {
            not_here.push("files that only root may read".into());
        }
        not_here.extend(self.installed.problems.iter().map(|p| format!("{}: {}", p.path, p.what)));
        let last_check = state.as_ref().and_then(history::last_check);
        Ok(StatusReport {
            format: StatusReport::FORMAT.into(),
            machine: self.machine_report(),
            full_rights,
            users: self.machine.users().accounts().iter().filter(|a| a.is_login()).map(|a| a.name.clone()).collect(),
            vouched,
            store: self.store.as_ref().map(store_line),
            store_trouble: self.store_trouble.as_ref().map(|e| error_chain(e as &dyn std::error::Error)),
            half_installed: half.map(|c| c.id.name.clone()).collect(),
            unfinished_changes: match &state {
                Some(state) => unfinished(&self.machine, state).unwrap_or_default(),
                None => Vec::new(),
            },
            changes: lines.len() as u64,
            kept_bytes: lines.iter().map(|l| l.kept_bytes).sum(),
            changed_since_check: last_check.as_ref().is_some_and(|last| changed_since(&lines, &last.at)),
            last_check,
            not_here,
        })
    }

    fn voucher_of(&self, id: &crate::model::ComponentId) -> Voucher {
        if self.store.as_ref().is_some_and(|s| s.has(id)) { Voucher::Signed } else { Voucher::Itself }
    }

    /// All changes.
    ///
    /// # Errors
    /// When the state folder cannot be read.
    pub fn list_changes(&self) -> Result<ChangesReport, WorkError> {
        let changes = match self.state()? {
            Some(state) => history::changes(&self.machine, &state)?,
            None => Vec::new(),
        };
        Ok(ChangesReport { format: ChangesReport::FORMAT.into(), changes })
    }

    /// All components.
    #[must_use]
    pub fn list_components(&self) -> ComponentsReport {
        let line = |c: &crate::platform::Component| ComponentLine {
            component: c.id.clone(),
            vouched_by: self.voucher_of(&c.id),
            progress: match c.progress {
                Progress::InPlace => "in-place",
                Progress::Unconfigured => "unconfigured",
                Progress::HalfWay => "half-way",
            }
            .into(),
            summary: c.summary.clone(),
        };
        ComponentsReport {
            format: ComponentsReport::FORMAT.into(),
            components: self.installed.components.iter().map(line).collect(),
        }
    }
}

/// A store, in a line.
#[must_use]
pub(super) fn store_line(store: &Store) -> StoreLine {
    StoreLine {
        location: store.path().display().to_string(),
        components: store.components().count() as u64,
        keys: store.fingerprints(),
        expires: store.expires().to_string(),
        signing: store.versions().timestamp,
    }
}

/// Whether a change began after a moment; a repair's own last check has the repair's moment.
fn changed_since(changes: &[ChangeLine], moment: &str) -> bool {
    let time = |text: &str| text.parse::<jiff::Timestamp>().ok();
    changes.iter().any(|c| time(&c.started) > time(moment))
}
