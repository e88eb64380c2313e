//! Past checks and changes, from the changes' own folders and the record of the last check; observations of the last full
//! check and of savepoints.

mod seen;

pub use seen::{
    CleanCheck, SeenFiles, ToRemember, change_times, keep_contents, keep_seen, known_contents, seen, settled,
};

use std::collections::BTreeMap;
use std::io;
use std::os::fd::AsFd;

use crate::change::{ChangeError, ChangeSummary, Standings, StateFolder, standings};
use crate::machine::Exchange;
use crate::report::{ChangeLine, ChangeState, CheckReport, HomeLine, LastCheck};

const LAST: &[u8] = b"last-check.json";
const NEW: &[u8] = b"last-check.new";
const MAX_LAST: u64 = 1 << 20;
const REPORT: &[u8] = b"last-report.json";
const MAX_REPORT: u64 = 256 << 20;

/// All changes, oldest first. A change with an unreadable log is listed with the error.
///
/// # Errors
/// When the state folder cannot be read.
pub fn changes(state: &StateFolder) -> Result<Vec<ChangeLine>, ChangeError> {
    let overview = state.overview()?;
    let standings = standings(state, &overview.changes)?;
    let mut lines: Vec<ChangeLine> = overview.changes.iter().map(|c| line(c, &standings)).collect();
    lines.extend(overview.bad.iter().map(|bad| unreadable(bad.change, crate::model::error_chain(&bad.error))));
    lines.sort_by_key(|l| l.change);
    Ok(lines)
}

fn unreadable(change: u64, trouble: String) -> ChangeLine {
    ChangeLine {
        change,
        verb: None,
        of: None,
        savepoint: None,
        area: None,
        home: None,
        started: String::new(),
        state: ChangeState::Unreadable,
        places: 0,
        kept_bytes: 0,
        packages: Vec::new(),
        trouble: Some(trouble),
    }
}

fn line(summary: &ChangeSummary, standings: &Standings) -> ChangeLine {
    let state = match summary.ended {
        None => ChangeState::Unfinished,
        Some(_) if standings.is_reverted(summary.change) => ChangeState::Undone,
        Some(_) if standings.is_touched(summary.change) => ChangeState::PartlyUndone,
        Some(_) if summary.places == 0 && !summary.beside => ChangeState::NothingDone,
        Some(_) => ChangeState::Done,
    };
    ChangeLine {
        change: summary.change,
        verb: Some(summary.verb),
        of: summary.of,
        savepoint: summary.savepoint,
        area: Some(summary.area.clone()),
        home: summary.home.clone().map(|(user, app)| HomeLine { user, app }),
        started: summary.started.to_string(),
        state,
        places: summary.places,
        kept_bytes: summary.kept_bytes(),
        packages: summary.packages.clone(),
        trouble: None,
    }
}

/// Saves the result of a check of the whole machine.
///
/// # Errors
/// When the state folder cannot be written; the check is valid nevertheless.
pub fn keep_last_check(state: &StateFolder, report: &CheckReport) -> io::Result<()> {
    let mut packages: BTreeMap<String, u64> = BTreeMap::new();
    for package in report.findings.iter().filter_map(|finding| finding.package.as_ref()) {
        *packages.entry(package.name.clone()).or_default() += 1;
    }
    let repairable = report.areas.iter().map(|area| area.repairable).sum();
    let last = LastCheck {
        at: report.at.clone(),
        outcome: report.outcome,
        problems: report.problems(),
        repairable,
        everything: report.everything,
        verified_by: report.packages.clone(),
        packages,
    };
    replace(state, REPORT, &serde_json::to_vec(report)?)?;
    replace(state, LAST, &serde_json::to_vec(&last)?)
}

/// Replaces an older record of ours.
fn replace(state: &StateFolder, name: &[u8], bytes: &[u8]) -> io::Result<()> {
    let (dir, disk) = (state.dir(), state.dir().disk());
    if dir.look(NEW)?.is_some() {
        disk.unlink(dir.fd(), NEW)?;
    }
    let file = disk.create(dir.fd(), NEW)?;
    disk.write(file.as_fd(), bytes)?;
    disk.sync(file.as_fd())?;
    disk.rename(dir.fd(), NEW, dir.fd(), name, Exchange::Replace)
}

/// The findings of the last check of the whole machine; `None` when there was none, or its record cannot be read. They
/// describe that time: callers examine the present state.
#[must_use]
pub fn last_report(state: &StateFolder) -> Option<CheckReport> {
    serde_json::from_slice(&state.dir().read(REPORT, MAX_REPORT).ok()?).ok()
}

/// The summary of the last check of the whole machine; `None` when there was none, or its record cannot be read.
#[must_use]
pub fn last_check(state: &StateFolder) -> Option<LastCheck> {
    serde_json::from_slice(&state.dir().read(LAST, MAX_LAST).ok()?).ok()
}
