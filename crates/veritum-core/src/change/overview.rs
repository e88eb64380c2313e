//! A summary of all changes, without reading each log completely.
//!
//! A summary of each log is in one file, `changes.index`, with the status of the log's inode at that time. A log with another
//! status is read again; without the file all are. The file is rewritten whenever a change ends, and an outdated line only
//! proves that a change has ended: that cannot become untrue.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::io;
use std::os::fd::AsFd;

use serde::{Deserialize, Serialize};

use super::ChangeError;
use super::LoggedResult;
use super::journal::{self, ChangeLog, JournalError};
use super::record::{Record, Verb, keeps_of};
use super::standing::{Standings, effective};
use super::state::{StateError, StateFolder};
use crate::machine::Exchange;
use crate::model::{AreaName, Instant, Stat, SystemPath};
use crate::plan::{KeptFolder, ToolChange};

const FORMAT: &str = "veritum.changes-index/1";
const NAME: &[u8] = b"changes.index";
const NEW: &[u8] = b"changes.index.new";
/// Larger files are not read: a hundred thousand changes have a third of it.
const MAX_INDEX: u64 = 128 << 20;

/// The summary of a change.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ChangeSummary {
    /// The change's number.
    pub change: u64,
    /// Its purpose.
    pub verb: Verb,
    /// Its area.
    pub area: AreaName,
    /// The change that it undoes.
    pub of: Option<u64>,
    /// The savepoint that it returned to.
    #[serde(default)]
    pub savepoint: Option<u64>,
    /// The user whose home it concerns, and the application's id.
    pub home: Option<(String, String)>,
    /// When it began.
    pub started: jiff::Timestamp,
    /// The run that made it.
    pub run: String,
    /// When it ended; `None` while it is unfinished.
    pub ended: Option<jiff::Timestamp>,
    /// Whether its backups were deleted.
    pub released: bool,
    /// Whether it has actions other than on files.
    pub beside: bool,
    /// The number of places that it touched.
    pub places: u64,
    /// The number of actions that can be undone.
    pub revertible: u64,
    /// The folders of its backups, with their sizes; also after these were deleted.
    pub kept: Vec<(KeptFolder, u64)>,
    /// The packages that it touched.
    pub packages: Vec<String>,
}

impl ChangeSummary {
    /// The size of its backups on the machine; what is in a user's home belongs to that user.
    #[must_use]
    pub fn kept_bytes(&self) -> u64 {
        let ours = self.kept.iter().filter(|(folder, _)| !matches!(folder, KeptFolder::Aside(_)));
        if self.released { 0 } else { ours.map(|(_, bytes)| bytes).sum() }
    }
}

/// A log that cannot be read.
#[derive(Debug)]
pub struct BadLog {
    /// The change's number.
    pub change: u64,
    /// The error.
    pub error: JournalError,
    /// Whether that change is known to have ended: then only its own undo is impossible.
    pub ended: bool,
}

/// All changes.
#[derive(Debug, Default)]
pub struct Overview {
    /// The changes with readable logs, in order.
    pub changes: Vec<ChangeSummary>,
    /// The others, in order.
    pub bad: Vec<BadLog>,
}

/// A line of the file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
struct Line {
    size: u64,
    ino: u64,
    mtime: Instant,
    ctime: Instant,
    summary: ChangeSummary,
}

#[derive(Serialize, Deserialize)]
struct Head {
    format: String,
}

impl StateFolder {
    /// Summarises all changes.
    ///
    /// # Errors
    /// When the state folder cannot be read.
    pub fn overview(&self) -> Result<Overview, StateError> {
        let Gathered { lines, bad, .. } = gather(self)?;
        Ok(Overview { changes: lines.into_iter().map(|line| line.summary).collect(), bad })
    }
}

/// The summaries while they are collected.
#[derive(Default)]
struct Gathered {
    /// Of readable logs, in order.
    lines: Vec<Line>,
    bad: Vec<BadLog>,
    /// The file's earlier lines for unreadable logs.
    earlier: Vec<Line>,
    /// Whether the file is up to date.
    fresh: bool,
}

/// The changes in order, each with the status of its log.
type Logs = Vec<(u64, io::Result<Option<Stat>>)>;

fn look_at_logs(state: &StateFolder) -> Result<Logs, StateError> {
    let numbers = state.changes()?;
    if numbers.is_empty() {
        return Ok(Vec::new());
    }
    let folder = state.sub("changes").map_err(state.io())?;
    Ok(numbers.into_iter().map(|number| (number, folder.look(format!("{number}/journal").as_bytes()))).collect())
}

fn gather(state: &StateFolder) -> Result<Gathered, StateError> {
    // Both take time if there are thousands.
    let (mut known, logs) = std::thread::scope(|threads| {
        let reading = threads.spawn(|| read(state));
        let logs = look_at_logs(state);
        (reading.join().unwrap_or_default(), logs)
    });
    let mut found = Gathered { fresh: !known.is_empty(), ..Gathered::default() };
    let mut failed = Vec::new();
    for (number, log) in logs? {
        let now = match log {
            Ok(Some(stat)) => stat,
            Ok(None) => continue,
            Err(e) => {
                failed.push((number, JournalError::Io(e), known.remove(&number)));
                continue;
            }
        };
        let same = |l: &Line| (l.size, l.ino, l.mtime, l.ctime) == (now.size, now.id.ino, now.mtime, now.ctime);
        let line = match known.remove(&number) {
            Some(line) if same(&line) && state.knows(&line.summary.area) => {
                found.lines.push(line);
                continue;
            }
            other => other,
        };
        found.fresh = false;
        match state.change(number) {
            Ok(Some(log)) if log.end().is_none() && line.as_ref().is_some_and(|l| l.summary.ended.is_some()) => {
                failed.push((number, JournalError::Damaged("the end is missing".into()), line));
            }
            Ok(Some(log)) => {
                let summary = summary(&log);
                found.lines.push(Line { size: now.size, ino: now.id.ino, mtime: now.mtime, ctime: now.ctime, summary });
            }
            // Interrupted before its first record: nothing was announced, so nothing was done.
            Ok(None) => {}
            Err(e) => failed.push((number, e, line)),
        }
    }
    found.fresh &= known.is_empty();
    let last = found.lines.last().map_or(0, |line| line.summary.change);
    for (change, error, line) in failed {
        // No change begins while an earlier one is unfinished.
        let ended = last > change
            || line.as_ref().is_some_and(|line| line.summary.ended.is_some())
            || state.salvage(change).is_some_and(|rest| rest.ended);
        found.bad.push(BadLog { change, error, ended });
        found.earlier.extend(line);
    }
    Ok(found)
}

fn summary(log: &ChangeLog) -> ChangeSummary {
    let (mut packages, mut places) = (BTreeSet::new(), 0);
    let mut kept: BTreeMap<KeptFolder, u64> = BTreeMap::new();
    for round in log.rounds().unwrap_or_default() {
        let actions: HashMap<u32, _> = round.actions.iter().map(|a| (a.index, a)).collect();
        for outcome in round.outcomes.unwrap_or_default().iter().filter(|o| o.failed.is_none()) {
            places += 1;
            let Some(action) = actions.get(&outcome.index) else { continue };
            packages.extend(action.package.as_ref().map(|c| c.name.clone()));
            if let Some(old) = &outcome.kept {
                let parent = action.place.parent().unwrap_or_else(SystemPath::root);
                *kept.entry(keeps_of(round.parents, &parent)).or_default() += old.stat.size;
            }
        }
    }
    for tool in log.tools() {
        if let (ToolChange::Disk(write), true) = (&tool.changes, tool.done != Some(false)) {
            *kept.entry(KeptFolder::State).or_default() += write.size();
        }
    }
    ChangeSummary {
        change: log.begin.change,
        verb: log.begin.verb,
        area: log.begin.area.clone(),
        of: log.begin.of,
        savepoint: log.begin.savepoint,
        home: log.begin.home.as_ref().map(|home| (home.user.clone(), home.app.clone())),
        started: log.begin.started,
        run: log.begin.run.clone(),
        ended: log.end().map(|(ended, ..)| ended),
        released: log.released().is_some(),
        // Of a tool whose result is not known it is not said that it did nothing.
        beside: log
            .beside()
            .iter()
            .any(|one| one.result == LoggedResult::Done || one.undoable && one.result == LoggedResult::Unfinished),
        places,
        revertible: effective(log).len() as u64,
        kept: kept.into_iter().collect(),
        packages: packages.into_iter().collect(),
    }
}

fn read(state: &StateFolder) -> HashMap<u64, Line> {
    let Ok(bytes) = state.dir().read(NAME, MAX_INDEX) else { return HashMap::new() };
    let mut lines = bytes.split(|b| *b == b'\n').map_while(journal::verified);
    let head = lines.next().and_then(|json| serde_json::from_slice::<Head>(json).ok());
    if head.is_none_or(|head| head.format != FORMAT) {
        return HashMap::new();
    }
    let lines = lines.filter_map(|json| serde_json::from_slice::<Line>(json).ok());
    lines.map(|line| (line.summary.change, line)).collect()
}

/// Rewrites the file if it is outdated. The caller holds the lock; failing is not an error, since logs are read where the
/// file has no line.
pub(super) fn refresh(state: &StateFolder) {
    let Ok(Gathered { mut lines, earlier, fresh: false, .. }) = gather(state) else { return };
    lines.extend(earlier);
    lines.sort_by_key(|line| line.summary.change);
    let written = || -> io::Result<()> {
        let mut bytes = journal::line(&Head { format: FORMAT.into() })?;
        for line in &lines {
            bytes.extend(journal::line(line)?);
        }
        let (dir, disk) = (state.dir(), state.dir().disk());
        if dir.look(NEW)?.is_some() {
            disk.unlink(dir.fd(), NEW)?;
        }
        let file = disk.create(dir.fd(), NEW)?;
        disk.write(file.as_fd(), &bytes)?;
        disk.sync(file.as_fd())?;
        disk.rename(dir.fd(), NEW, dir.fd(), NAME, Exchange::Replace)
    };
    let _ = written();
}

/// The changes that were interrupted, in order.
///
/// # Errors
/// When a log cannot be read and its change may be unfinished: then nothing may be written.
pub fn unfinished(state: &StateFolder) -> Result<Vec<u64>, ChangeError> {
    let overview = state.overview()?;
    if let Some(bad) = overview.bad.into_iter().find(|bad| !bad.ended) {
        return Err(ChangeError::Journal { change: bad.change, source: bad.error });
    }
    Ok(overview.changes.iter().filter(|c| c.ended.is_none()).map(|c| c.change).collect())
}

/// The state of all actions of changes that were undone, completely or in part, and of the undos.
///
/// # Errors
/// When a log cannot be read any more.
pub fn standings(state: &StateFolder, changes: &[ChangeSummary]) -> Result<Standings, ChangeError> {
    let related: BTreeSet<u64> = changes.iter().filter_map(|c| Some([c.change, c.of?])).flatten().collect();
    let mut logs = Vec::new();
    for change in related {
        match state.change(change) {
            Ok(log) => logs.extend(log),
            Err(JournalError::Damaged(_)) => {}
            Err(source) => return Err(ChangeError::Journal { change, source }),
        }
    }
    Ok(Standings::new(&logs))
}

/// The changes that `undo` without a number undoes: those of the latest run with actions in effect, newest first.
/// An undo is not among them, but one that redoes a change is.
///
/// # Errors
/// When a log cannot be read that may belong to the latest run.
pub fn latest_run(state: &StateFolder) -> Result<Vec<u64>, ChangeError> {
    let overview = state.overview()?;
    let standings = standings(state, &overview.changes)?;
    let mut in_effect: HashSet<u64> = standings.in_effect();
    let untouched = overview.changes.iter().filter(|c| standings.actions(c.change).next().is_none());
    in_effect.extend(untouched.filter(|c| c.of.is_none() && c.revertible > 0).map(|c| c.change));
    let runs: BTreeMap<u64, &str> =
        overview.changes.iter().filter(|c| in_effect.contains(&c.change)).map(|c| (c.change, c.run.as_str())).collect();
    let last = runs.last_key_value().map(|(change, run)| (*change, *run));
    if let Some(bad) = overview.bad.into_iter().find(|bad| last.is_none_or(|(change, _)| bad.change > change)) {
        return Err(ChangeError::Journal { change: bad.change, source: bad.error });
    }
    let Some((_, last)) = last else { return Ok(Vec::new()) };
    // What the same run deleted to free space cannot be restored, and that is reported.
    let only_deleted = |c: &&ChangeSummary| c.revertible == 0 && c.places > 0 && c.of.is_none();
    let rest = overview.changes.iter().filter(only_deleted).map(|c| (c.change, c.run.as_str()));
    let mut changes: Vec<u64> =
        runs.clone().into_iter().chain(rest).filter(|(_, run)| *run == last).map(|(change, _)| change).collect();
    changes.sort_unstable_by(|a, b| b.cmp(a));
    Ok(changes)
}

/// The readable part of a damaged log.
#[derive(Debug, Default)]
pub struct Salvaged {
    /// The records with valid checksums, in order.
    pub records: Vec<Record>,
    /// Whether its last line is the record of the change's end.
    pub ended: bool,
}

impl StateFolder {
    /// Reads the valid records of a damaged log; `None` when it cannot be read at all.
    #[must_use]
    pub fn salvage(&self, number: u64) -> Option<Salvaged> {
        let dir = self.sub(&format!("changes/{number}")).ok()?;
        let bytes = journal::bytes_of(&dir).ok()?;
        let lines = bytes.split_inclusive(|b| *b == b'\n');
        let parsed: Vec<Option<Record>> =
            lines.map(|line| serde_json::from_slice(journal::verified(line.strip_suffix(b"\n")?)?).ok()).collect();
        let ended = matches!(parsed.last(), Some(Some(Record::End { .. } | Record::Released { .. })));
        Some(Salvaged { records: parsed.into_iter().flatten().collect(), ended })
    }
}
