//! Past checks and changes, read from the changes' own folders and the file of the last check; what the last full check
//! saw.

mod seen;

pub use seen::{SeenFiles, SettledCheck, keep_seen, seen, settled};

use std::collections::BTreeMap;
use std::io;
use std::os::fd::AsFd;

use crate::change::{ChangeError, ChangeLog, StateFolder, undone_changes};
use crate::model::Area;
use crate::report::{ChangeLine, CheckReport, HomeLine, LastCheck};
use crate::target::Exchange;

const LAST: &[u8] = b"last-check.json";
const NEW: &[u8] = b"last-check.new";
const MAX_LAST: u64 = 1 << 20;

/// All changes, oldest first. One whose journal cannot be read is listed with its trouble.
///
/// # Errors
/// When the state folder cannot be read.
pub fn changes(state: &StateFolder) -> Result<Vec<ChangeLine>, ChangeError> {
    let mut logs: Vec<ChangeLog> = Vec::new();
    let mut lines = Vec::new();
    for number in state.changes()? {
        match state.change(number) {
            Ok(Some(log)) => logs.push(log),
            Ok(None) => {}
            Err(e) => lines.push(unreadable(number, crate::model::error_chain(&e))),
        }
    }
    let undone = undone_changes(&logs);
    lines.extend(logs.iter().map(|log| line(log, undone.contains(&log.begin.change))));
    lines.sort_by_key(|l| l.change);
    Ok(lines)
}

fn unreadable(change: u64, trouble: String) -> ChangeLine {
    ChangeLine {
        change,
        verb: crate::change::Verb::Repair,
        of: None,
        area: Area::Files,
        home: None,
        started: String::new(),
        state: "unreadable".into(),
        places: 0,
        kept_bytes: 0,
        components: Vec::new(),
        trouble: Some(trouble),
    }
}

fn line(log: &ChangeLog, undone: bool) -> ChangeLine {
    let rounds = log.rounds().unwrap_or_default();
    let mut components: Vec<String> = Vec::new();
    let (mut places, mut kept_bytes) = (0, 0);
    for round in &rounds {
        for outcome in round.outcomes.unwrap_or_default().iter().filter(|o| o.failed.is_none()) {
            places += 1;
            kept_bytes += outcome.kept.as_ref().map_or(0, |k| k.stat.size);
            let action = round.actions.iter().find(|a| a.index == outcome.index);
            components.extend(action.and_then(|a| a.component.as_ref()).map(|c| c.name.clone()));
        }
    }
    components.sort();
    components.dedup();
    let state = match (log.end().is_some(), places, undone) {
        (false, _, _) => "unfinished",
        (true, _, true) => "undone",
        (true, 0, _) if !log.beside().iter().any(|one| one.result == "done") => "nothing done",
        (true, _, false) => "done",
    };
    ChangeLine {
        change: log.begin.change,
        verb: log.begin.verb,
        of: log.begin.of,
        area: log.begin.area,
        home: log.begin.home.as_ref().map(|home| HomeLine { user: home.user.clone(), app: home.app.clone() }),
        started: log.begin.started.to_string(),
        state: state.into(),
        places,
        kept_bytes,
        components,
        trouble: None,
    }
}

/// Keeps what a check of the whole machine came to.
///
/// # Errors
/// When the state folder cannot be written; a check is none the worse for it.
pub fn keep_last_check(state: &StateFolder, report: &CheckReport) -> io::Result<()> {
    let mut components: BTreeMap<String, u64> = BTreeMap::new();
    for component in report.findings.iter().filter_map(|finding| finding.component.as_ref()) {
        *components.entry(component.name.clone()).or_default() += 1;
    }
    let last = LastCheck { at: report.at.clone(), outcome: report.outcome, problems: report.problems(), components };
    let dir = state.dir();
    let disk = dir.disk();
    if dir.look(NEW)?.is_some() {
        disk.unlink(dir.fd(), NEW)?;
    }
    let file = disk.create(dir.fd(), NEW)?;
    disk.write(file.as_fd(), &serde_json::to_vec(&last)?)?;
    disk.sync(file.as_fd())?;
    // Over a record of our own: the older one has served.
    disk.rename(dir.fd(), NEW, dir.fd(), LAST, Exchange::Replace)
}

/// The last check of the whole machine; none when there was none, or its record cannot be read.
#[must_use]
pub fn last_check(state: &StateFolder) -> Option<LastCheck> {
    serde_json::from_slice(&state.dir().read(LAST, MAX_LAST).ok()?).ok()
}
