//! Installed updates by date, and those shortly before the trouble.

use jiff::civil::DateTime;

use super::Engine;
use crate::machine::MachineTimeZone;
use crate::model::PackageId;
use crate::platform::debian::{Debian, compare_versions};
use crate::platform::{LogEntry, LogKind, Platform as _, Run};
use crate::report::{UpdateKind, UpdateLine, UpdateRun, UpdatesReport};
use crate::repository::Repositories;

/// Runs within this time before the trouble are marked, in seconds.
const SHORTLY: i64 = 7 * 24 * 3600;

/// Which runs are wanted; times are local times of the machine.
#[derive(Debug, Clone, Default)]
pub struct UpdatesWanted {
    /// Only runs from then on.
    pub since: Option<DateTime>,
    /// Only runs with this package.
    pub package: Option<String>,
    /// When the trouble began: runs shortly before are marked.
    pub trouble: Option<DateTime>,
}

impl Engine {
    /// Installed, updated and removed packages, by the system's own logs.
    #[must_use]
    pub fn list_updates(&self, wanted: &UpdatesWanted) -> UpdatesReport {
        let all = Debian.runs(&self.system.machine);
        let zone = MachineTimeZone::read(&self.system.machine);
        let logged_since = all.last().and_then(|run| utc(&zone, &run.began));
        let began = |run: &Run| run.began.parse::<DateTime>().ok();
        let mut runs: Vec<Run> =
            all.into_iter().filter(|run| wanted.since.is_none() || began(run) >= wanted.since).collect();
        if let Some(name) = &wanted.package {
            runs.iter_mut().for_each(|run| run.entries.retain(|h| h.name == *name));
            runs.retain(|run| !run.entries.is_empty());
        }
        let moments: Vec<Option<DateTime>> = runs.iter().map(began).collect();
        let marked = wanted.trouble.map(|trouble| shortly_before(&moments, trouble)).unwrap_or_default();
        let lines = update_lines(self, &runs);
        let told = runs.into_iter().zip(lines).enumerate();
        UpdatesReport {
            format: UpdatesReport::FORMAT.into(),
            machine: self.system.machine_report(),
            since: wanted.since.and_then(|at| zone.timestamp_at(at)).map(|at| at.to_string()),
            package: wanted.package.clone(),
            trouble: wanted.trouble.and_then(|at| zone.timestamp_at(at)).map(|at| at.to_string()),
            logged_since,
            runs: told.filter_map(|(at, (run, lines))| update_run(&zone, run, lines, marked.contains(&at))).collect(),
            time_zone: zone,
        }
    }
}

/// Each run's packages, with the repositories that list their versions.
fn update_lines(engine: &Engine, runs: &[Run]) -> Vec<Vec<UpdateLine>> {
    let id = |h: &LogEntry| PackageId::new(&h.name, h.to.as_deref()?, &h.arch).ok();
    let ids: Vec<PackageId> = runs.iter().flat_map(|run| &run.entries).filter_map(id).collect();
    engine.supply().with_repositories(|repositories| {
        repositories.listed(&engine.system.machine, ids.iter());
        let line = |h: &LogEntry| update_line(h, id(h).map(|id| origins(repositories, &id)).unwrap_or_default());
        runs.iter().map(|run| run.entries.iter().map(line).collect()).collect()
    })
}

/// The repositories that list exactly this package: their names, and whether they provide security updates.
fn origins(repositories: &Repositories, id: &PackageId) -> Vec<(String, bool)> {
    repositories.offered_by(id).map(|open| (open.source.describe(), open.source.is_security())).collect()
}

fn update_line(entry: &LogEntry, origins: Vec<(String, bool)>) -> UpdateLine {
    let LogEntry { what, name, arch, from, to, .. } = entry.clone();
    let security = origins.iter().find(|(_, security)| *security);
    let kind = match (&from, &to) {
        (Some(from), Some(to)) if what == LogKind::Updated => match compare_versions(from, to).is_gt() {
            true => Some(UpdateKind::Back),
            false if security.is_some() => Some(UpdateKind::Security),
            false if first_number(from) != first_number(to) => Some(UpdateKind::Major),
            false => origins.first().map(|_| UpdateKind::Ordinary),
        },
        _ => None,
    };
    let origin = security.or(origins.first()).map(|(name, _)| name.clone());
    UpdateLine { package: name, arch, what, from, to, kind, origin }
}

/// The first number of a version's upstream part (deb-version(7)).
fn first_number(version: &str) -> &str {
    let upstream = version.split_once(':').map_or(version, |(_, rest)| rest);
    upstream.split(|c: char| !c.is_ascii_digit()).next().unwrap_or_default()
}

/// The positions of runs, newest first, shortly before the trouble; if there are none, of the last one before it.
fn shortly_before(moments: &[Option<DateTime>], trouble: DateTime) -> Vec<usize> {
    let begin = trouble.saturating_sub(jiff::SignedDuration::from_secs(SHORTLY));
    let before: Vec<(usize, DateTime)> =
        moments.iter().enumerate().filter_map(|(at, m)| Some((at, (*m)?))).filter(|(_, m)| *m <= trouble).collect();
    let near: Vec<usize> = before.iter().filter(|(_, m)| *m >= begin).map(|(at, _)| *at).collect();
    if near.is_empty() { before.first().map(|(at, _)| *at).into_iter().collect() } else { near }
}

/// `None` for a run whose time does not exist.
fn update_run(zone: &MachineTimeZone, run: Run, mut lines: Vec<UpdateLine>, before_trouble: bool) -> Option<UpdateRun> {
    lines.sort_by(|a, b| (rank(a), &a.package, &a.arch).cmp(&(rank(b), &b.package, &b.arch)));
    let Run { began, ended, command, by, failed, .. } = run;
    let (began, ended) = (utc(zone, &began)?, ended.and_then(|at| utc(zone, &at)));
    Some(UpdateRun { began, ended, command, by, failed, before_trouble, lines })
}

/// A log's local time as RFC 3339 in UTC.
fn utc(zone: &MachineTimeZone, local: &str) -> Option<String> {
    Some(zone.timestamp(local)?.to_string())
}

/// What a technician examines first.
fn rank(line: &UpdateLine) -> u8 {
    match (line.what, line.kind) {
        (_, Some(UpdateKind::Back)) => 0,
        (_, Some(UpdateKind::Security)) => 1,
        (_, Some(UpdateKind::Major)) => 2,
        (LogKind::Updated, _) => 3,
        (LogKind::Installed, _) => 4,
        (LogKind::Removed, _) => 5,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn entry(from: &str, to: &str) -> LogEntry {
        let version = |text: &str| (!text.is_empty()).then(|| text.to_owned());
        let what = if from.is_empty() { LogKind::Installed } else { LogKind::Updated };
        let (at, name, arch) = ("2026-03-02 14:10:00".into(), "quay".into(), "amd64".into());
        LogEntry { at, what, name, arch, from: version(from), to: version(to) }
    }

    #[test]
    fn a_kind_is_told_only_where_it_is_known() {
        let kind = |from, to, origins: &[(&str, bool)]| {
            let origins = origins.iter().map(|(name, security)| ((*name).to_owned(), *security)).collect();
            let line = update_line(&entry(from, to), origins);
            (line.kind, line.origin)
        };
        let (main, security) = (("main", false), ("safety", true));
        assert_eq!(kind("1.0", "1.1", &[main, security]), (Some(UpdateKind::Security), Some("safety".into())));
        assert_eq!(kind("1.0", "1.1", &[main]), (Some(UpdateKind::Ordinary), Some("main".into())));
        assert_eq!(kind("1.0", "1.1", &[]), (None, None));
        assert_eq!(kind("1:9.2-3", "1:10.0-1", &[]).0, Some(UpdateKind::Major));
        assert_eq!(kind("2:1.0", "1.1", &[security]).0, Some(UpdateKind::Back));
        assert_eq!(kind("", "1.1", &[main]).0, None);
    }

    #[test]
    fn what_came_in_the_week_before_the_trouble_is_marked_or_else_the_last_before_it() {
        let at = |text: &str| text.parse::<DateTime>().ok();
        let moments =
            [at("2026-03-03T10:00"), at("2026-03-02T14:10"), None, at("2026-02-25T09:00"), at("2026-01-01T00:00")];
        let marked = |trouble: &str| shortly_before(&moments, trouble.parse().unwrap());
        assert_eq!(marked("2026-03-02T23:59:59"), [1, 3]);
        assert_eq!(marked("2026-02-20T00:00"), [4]);
        assert!(marked("2025-12-31T00:00").is_empty());
    }
}
