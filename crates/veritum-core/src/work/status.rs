//! `status` and the lists.

use std::collections::{BTreeMap, HashMap};
use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt as _;

use super::{Engine, WorkError};
use crate::change::{BadLog, ChangeSummary, JournalError, Overview, Record, StateFolder};
use crate::history;
use crate::machine::{Computer, FreeSpace, MachineTimeZone, marked_errors};
use crate::model::{Authority, PackageId, SystemPath, error_chain};
use crate::plan::KeptFolder;
use crate::platform::debian::Debian;
use crate::platform::{InstallState, LogEntry, Platform as _};
use crate::report::{
    ChangesReport, ComputerReport, DamagedChange, KeptFile, PackageLine, PackagesReport, RecentReport, StatusReport,
    StoreLine,
};
use crate::savepoints::Savepoints;
use crate::store::{Store, StoreError};
use crate::system::System;

/// The number of recent log entries that are reported.
const MAX_RECENT: usize = 200;

impl Engine {
    /// The system, what verifies it, and what is pending.
    ///
    /// # Errors
    /// When the state folder cannot be read.
    pub fn status(&self, full_rights: bool) -> Result<StatusReport, WorkError> {
        let mut verified_by = BTreeMap::new();
        for authority in authorities(self).into_values() {
            *verified_by.entry(authority).or_default() += 1;
        }
        let (sources, brief) = (self.supply().source_reports(), self.brief_status(full_rights)?);
        Ok(StatusReport { verified_by, verified_at_last_check: false, sources, ..brief })
    }

    /// The same without reading package lists, which takes most of the time: which packages repositories can verify is as
    /// counted by the last check, and nothing before the first; repositories are not reported.
    ///
    /// # Errors
    /// When the state folder cannot be read.
    pub fn brief_status(&self, full_rights: bool) -> Result<StatusReport, WorkError> {
        let state = self.system.readable_state()?;
        let overview = match &state {
            Some(state) => state.overview().map_err(crate::change::ChangeError::from)?,
            None => Overview::default(),
        };
        let half = self.system.installed.packages.iter().filter(|c| c.install_state != InstallState::Installed);
        let mut not_here: Vec<String> = self
            .system
            .machine
            .extent()
            .unmounted()
            .iter()
            .map(|place| format!("{place} is part of this system and not mounted"))
            .collect();
        if !full_rights {
            not_here.push("files that only root can read".into());
        }
        not_here.extend(self.system.installed.problems.iter().map(|p| format!("{}: {}", p.path, p.what)));
        let (newer, damaged): (Vec<_>, Vec<_>) =
            overview.bad.iter().partition(|bad| matches!(bad.error, JournalError::Newer(_)));
        if state.is_none() && self.system.state().is_err() {
            not_here.push("changes: only root can read them".into());
        }
        not_here.extend(newer.iter().map(|bad| format!("change {}: {}", bad.change, error_chain(&bad.error))));
        let room = root_room(&self.system);
        let last_check = self.system.last_check();
        let in_stores = self.system.installed.packages.iter().filter(|c| self.open.stores.iter().any(|s| s.has(&c.id)));
        let (verified_by, verified_at_last_check) = match in_stores.count() {
            all if all > 0 && all == self.system.installed.packages.len() => {
                ([(Authority::Store, all as u64)].into(), false)
            }
            _ => (last_check.as_ref().map(|last| last.verified_by.clone()).unwrap_or_default(), last_check.is_some()),
        };
        let recent = Debian.recent(&self.system.machine, MAX_RECENT);
        let time_zone = MachineTimeZone::read(&self.system.machine);
        let savepoints = state.as_ref().map(savepoints).unwrap_or_default();
        Ok(StatusReport {
            format: StatusReport::FORMAT.into(),
            machine: self.system.machine_report(),
            full_rights,
            users: self
                .system
                .machine
                .users()
                .accounts()
                .iter()
                .filter(|a| a.is_login())
                .map(|a| a.name.clone())
                .collect(),
            verified_by,
            verified_at_last_check,
            store: self.open.stores.first().map(store_line),
            sources: Vec::new(),
            store_trouble: self.open.store_trouble.as_ref().map(|e| error_chain(e as &dyn std::error::Error)),
            store_untrusted: matches!(self.open.store_trouble, Some(StoreError::NotTrusted { .. })),
            computer: computer_report(Computer::this()),
            free_bytes: room.map(|r| r.bytes),
            read_only: room.is_some_and(|r| r.read_only),
            disk_errors: marked_errors(&self.system.machine),
            restart_due: self.system.restart_due(),
            recent: recent.into_iter().filter_map(|entry| recent_report(&time_zone, entry)).collect(),
            time_zone,
            half_installed: half.map(|c| c.id.name.clone()).collect(),
            unfinished_changes: overview.changes.iter().filter(|c| c.ended.is_none()).map(|c| c.change).collect(),
            damaged_changes: damaged.into_iter().map(|bad| damaged_change(&self.system, bad)).collect(),
            changes: (overview.changes.len() + overview.bad.len()) as u64,
            kept_bytes: overview.changes.iter().map(ChangeSummary::kept_bytes).sum(),
            savepoints: savepoints.0,
            last_savepoint: savepoints.1,
            automatic_savepoints: self.is_automatic(),
            changed_since_check: last_check.as_ref().is_some_and(|last| changed_since(&overview.changes, &last.at)),
            last_check,
            not_here,
        })
    }

    /// A change with a damaged log, with what can still be read of it; `None` for any other.
    ///
    /// # Errors
    /// When the state folder cannot be read.
    pub fn explain_damaged(&self, number: u64) -> Result<Option<DamagedChange>, WorkError> {
        let Some(state) = self.system.state()? else { return Ok(None) };
        let overview = state.overview().map_err(crate::change::ChangeError::from)?;
        let Some(bad) =
            overview.bad.iter().find(|bad| bad.change == number && !matches!(bad.error, JournalError::Newer(_)))
        else {
            return Ok(None);
        };
        let mut report = damaged_change(&self.system, bad);
        for record in state.salvage(number).unwrap_or_default().records {
            let Record::Plan { round, actions, parents, .. } = record else { continue };
            for action in actions.iter().filter(|action| action.before.is_some()) {
                let parent = action.place.parent().unwrap_or_else(SystemPath::root);
                let kept = match parents.iter().find(|p| p.place == parent).map(|p| &p.keeps) {
                    Some(KeptFolder::Top(top)) => {
                        let top = self.system.machine.path().join(OsStr::from_bytes(top.relative()));
                        top.join(format!(".veritum-kept/{number}/{round}-{}", action.index)).display().to_string()
                    }
                    Some(KeptFolder::Aside(_)) => continue,
                    _ => state_place(&self.system, &format!("kept/{number}/{round}-{}", action.index)),
                };
                report.kept.push(KeptFile { path: action.place.clone(), kept });
            }
        }
        Ok(Some(report))
    }

    /// All changes.
    ///
    /// # Errors
    /// When the state folder cannot be read.
    pub fn list_changes(&self) -> Result<ChangesReport, WorkError> {
        let changes = match self.system.state()? {
            Some(state) => history::changes(&state)?,
            None => Vec::new(),
        };
        Ok(ChangesReport { format: ChangesReport::FORMAT.into(), changes })
    }

    /// All packages.
    #[must_use]
    pub fn list_packages(&self) -> PackagesReport {
        let authorities = authorities(self);
        let line = |c: &crate::platform::Package| PackageLine {
            package: c.id.clone(),
            verified_by: authorities.get(&c.id).copied().unwrap_or(Authority::Local),
            progress: c.install_state,
            summary: c.summary.clone(),
        };
        PackagesReport {
            format: PackagesReport::FORMAT.into(),
            packages: self.system.installed.packages.iter().map(line).collect(),
        }
    }
}

/// A change with a damaged log, without its backups.
fn damaged_change(system: &System, bad: &BadLog) -> DamagedChange {
    DamagedChange {
        format: DamagedChange::FORMAT.into(),
        change: bad.change,
        why: error_chain(&bad.error),
        ended: bad.ended,
        folder: state_place(system, &format!("changes/{}", bad.change)),
        kept: Vec::new(),
    }
}

/// A path in the state folder, as this computer reaches it.
fn state_place(system: &System, below: &str) -> String {
    let inside = || system.machine.path().join("var/lib/veritum");
    system.settings.state_dir.clone().unwrap_or_else(inside).join(below).display().to_string()
}

fn root_room(system: &System) -> Option<FreeSpace> {
    let root = system.machine.dir(&SystemPath::root()).ok()?;
    root.disk().room(root.fd()).ok()
}

/// The authority that verifies each package, by what is available.
fn authorities(engine: &Engine) -> HashMap<&PackageId, Authority> {
    let ids = || engine.system.installed.packages.iter().map(|c| &c.id);
    let in_store = |id: &PackageId| engine.open.stores.iter().any(|s| s.has(id));
    let mut authorities: HashMap<&PackageId, Authority> = ids().map(|id| (id, Authority::Local)).collect();
    if ids().any(|id| !in_store(id)) {
        let listed =
            engine.supply().with_repositories(|repositories| repositories.listed(&engine.system.machine, ids()));
        authorities.extend(listed.into_iter().map(|id| (id, Authority::Repository)));
    }
    authorities.extend(ids().filter(|id| in_store(id)).map(|id| (id, Authority::Store)));
    authorities
}

fn computer_report(computer: Computer) -> ComputerReport {
    let Computer { model, processor, threads, memory } = computer;
    ComputerReport { model, processor, threads, memory_bytes: memory }
}

/// `None` for an entry whose time does not exist.
fn recent_report(zone: &MachineTimeZone, entry: LogEntry) -> Option<RecentReport> {
    let LogEntry { at, what, name, arch, from, to } = entry;
    Some(RecentReport { at: zone.timestamp(&at)?.to_string(), what, package: name, arch, from, to })
}

/// A store, in a line.
#[must_use]
pub(super) fn store_line(store: &Store) -> StoreLine {
    StoreLine {
        location: store.location().to_string(),
        packages: store.packages().count() as u64,
        keys: store.fingerprints(),
        expires: store.expires().to_string(),
        signing: store.versions().timestamp,
    }
}

/// Whether a change began after a time; a repair's own last check has the repair's time.
fn changed_since(changes: &[ChangeSummary], moment: &str) -> bool {
    let moment = moment.parse::<jiff::Timestamp>().ok();
    changes.iter().any(|c| Some(c.started) > moment)
}

/// The number of savepoints, and when the latest that can be read was made.
fn savepoints(state: &StateFolder) -> (u64, Option<String>) {
    let Ok(Some(all)) = Savepoints::find(state) else { return (0, None) };
    let numbers = all.numbers().unwrap_or_default();
    let last = numbers.iter().rev().find_map(|number| all.head(*number).ok());
    (numbers.len() as u64, last.map(|head| head.made.to_string()))
}
