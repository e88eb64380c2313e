//! Installed, updated and removed packages, run by run: from apt's history, and for what was done without apt from dpkg's log.

use std::collections::HashMap;

use jiff::civil::DateTime;

use super::apt::history_runs;
use super::log::{MAX_ROTATED, recent, rotated};
use crate::machine::Machine;
use crate::platform::{LogEntry, Run};

/// The number of entries of dpkg's log that are read.
const MAX_HAPPENINGS: usize = 20_000;
/// Entries of dpkg without apt belong to one run if no more time is between them, in seconds.
const PAUSE: i64 = 300;
/// A run without a recorded end is over after this time, in seconds.
const LONGEST: i64 = 4 * 3600;

/// All runs, newest first.
pub(super) fn runs(machine: &Machine) -> Vec<Run> {
    let logs = (0..=MAX_ROTATED).rev().filter_map(|number| rotated(machine, "/var/log/apt", "history.log", number));
    let mut all: Vec<Run> = logs.flat_map(|text| history_runs(&text)).collect();
    let alone = without_apt(&all, recent(machine, MAX_HAPPENINGS));
    all.extend(grouped(alone));
    all.retain(|run| !run.entries.is_empty() || run.failed.is_some());
    // Times have one format, so they sort as text.
    all.sort_by(|a, b| b.began.cmp(&a.began));
    all
}

/// The entries that no run of apt accounts for, oldest first.
fn without_apt(runs: &[Run], newest_first: Vec<LogEntry>) -> Vec<LogEntry> {
    // By package: the times at which apt worked on it.
    let mut spans: HashMap<&str, Vec<(DateTime, DateTime)>> = HashMap::new();
    for run in runs {
        let Some(began) = time(&run.began) else { continue };
        let ended = run.ended.as_deref().and_then(time).unwrap_or_else(|| after(began, LONGEST));
        for entry in &run.entries {
            spans.entry(&entry.name).or_default().push((began, ended));
        }
    }
    let told = |entry: &LogEntry| {
        let (Some(at), Some(spans)) = (time(&entry.at), spans.get(entry.name.as_str())) else { return false };
        spans.iter().any(|(began, ended)| (*began..=*ended).contains(&at))
    };
    newest_first.into_iter().rev().filter(|entry| !told(entry)).collect()
}

/// Groups entries that are close together into runs.
fn grouped(oldest_first: Vec<LogEntry>) -> Vec<Run> {
    let mut runs: Vec<Run> = Vec::new();
    for entry in oldest_first {
        let at = time(&entry.at);
        match runs.last_mut() {
            Some(run) if at.is_some() && at <= run.ended.as_deref().and_then(time).map(|end| after(end, PAUSE)) => {
                run.ended = Some(entry.at.clone());
                run.entries.push(entry);
            }
            _ => runs.push(Run {
                began: entry.at.clone(),
                ended: Some(entry.at.clone()),
                entries: vec![entry],
                ..Run::default()
            }),
        }
    }
    runs
}

fn time(text: &str) -> Option<DateTime> {
    text.parse().ok()
}

fn after(at: DateTime, seconds: i64) -> DateTime {
    at.saturating_add(jiff::SignedDuration::from_secs(seconds))
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use super::*;
    use crate::machine::LiveDisk;

    #[test]
    fn what_apt_did_is_told_once_and_what_was_done_without_it_beside_that() {
        let dir = tempfile::tempdir().unwrap();
        std::fs::create_dir_all(dir.path().join("var/log/apt")).unwrap();
        std::fs::create_dir_all(dir.path().join("usr/lib")).unwrap();
        let write = |name: &str, text: &str| std::fs::write(dir.path().join("var/log").join(name), text).unwrap();
        write(
            "apt/history.log",
            "Start-Date: 2026-03-02  14:10:00\nCommandline: apt-get upgrade\nUpgrade: quay:amd64 (1.0, 1.1)\n\
             End-Date: 2026-03-02  14:10:20\n\nStart-Date: 2026-03-05  08:00:00\nEnd-Date: 2026-03-05  08:00:01\n",
        );
        write("apt/history.log.1", "Start-Date: 2026-02-01  10:00:00\nInstall: quay:amd64 (1.0)\nError: it failed\n");
        write(
            "dpkg.log",
            "2026-03-02 14:10:05 upgrade quay:amd64 1.0 1.1\n2026-03-02 14:10:06 install rig:amd64 <none> 3\n\
             2026-03-02 14:12:00 install hook:amd64 <none> 1\n2026-03-02 15:00:00 remove hook:amd64 1 <none>\n",
        );
        let machine = Machine::open(dir.path(), Arc::new(LiveDisk)).unwrap();
        let told: Vec<String> = runs(&machine)
            .iter()
            .map(|r| {
                format!(
                    "{} {} {:?}",
                    r.began,
                    r.entries.iter().map(|h| h.name.as_str()).collect::<Vec<_>>().join(" "),
                    r.command
                )
            })
            .collect();
        assert_eq!(
            told,
            [
                "2026-03-02 15:00:00 hook None",
                "2026-03-02 14:10:06 rig hook None",
                r#"2026-03-02 14:10:00 quay Some("apt-get upgrade")"#,
                "2026-02-01 10:00:00 quay None",
            ]
        );
    }
}
