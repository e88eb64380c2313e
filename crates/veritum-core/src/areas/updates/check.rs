//! The check of the area `updates`: everything that updates depend on, and the available updates.

use std::collections::HashSet;
use std::time::Instant;

use super::holders::{lock_holders, watch};
use super::{
    Clock, ExaminedPart, Offers, TERM, TERM_TAIL, UPDATES, VerifiedDownload, begun_lists, binary_caches, downloaded,
    downloads, escaping_links, folders, history, in_words, installs, last_success, lists, locks, needed_room,
    repositories, restart_note, room, services, settings, sources,
};
use crate::areas::{Coverage, Cx, Examined};
use crate::model::{Authority, Finding, PackageId, Subject, SystemPath, Verdict};
use crate::platform::Platform as _;
use crate::platform::debian::Debian;
use crate::platform::debian::apt::{self, AptConf};
use crate::platform::services::{Masking, UnitState};
use crate::repository::{Asked, Renewal, Repositories, available_lists, wrong_lists};
use crate::supply::Waiting;
use crate::system::{System, WorkError};

/// The result of the check, with the input of a repair.
#[derive(Debug)]
pub(crate) struct UpdatesPart {
    /// The result.
    pub examined: Examined,
    /// Available lists that differ from the signed ones, by source.
    pub wrong_lists: Vec<(String, Vec<SystemPath>)>,
    /// Downloads that are what the repository signed.
    pub verified: Vec<VerifiedDownload>,
    /// Those of them that can be downloaded again, with their packages, as far as free space is needed.
    pub to_free: Vec<VerifiedDownload>,
}

/// Examines everything that updates depend on.
///
/// # Errors
/// If the run was stopped.
pub(crate) fn look(cx: &Cx<'_>) -> Result<UpdatesPart, WorkError> {
    let System { machine, database, installed, protection, settings: outside, .. } = cx.system;
    let observer = cx.observer;
    let begun = Instant::now();
    let (mut watched, mut part) = match cx.how.locked {
        false => lock_holders(cx, &[]),
        true => (Vec::new(), ExaminedPart::default()),
    };
    part.merge(installs(database.stanzas()));
    part.merge(sources(&apt::sources(machine)));
    let mut units = units(cx);
    let managed = !units.is_empty();
    // Services that are stopped during a repair are judged at its end.
    units.retain(|(_, state)| !cx.how.locked || state.masking != Masking::ThisRun);
    part.merge(settings(machine, &AptConf::read(machine), &apt::pins(machine), managed));
    part.merge(services(&units));
    part.findings.extend(cx.system.restart_due().iter().map(|why| restart_note(why)));
    part.merge(binary_caches(machine));
    let runs = Debian.runs(machine);
    part.merge(history(&runs, &cx.system.end_of(&SystemPath::literal(TERM), TERM_TAIL)));
    let (told, escaping) = escaping_links(machine, &|real| protection.why(real).map(str::to_owned));
    part.merge(told);
    part.merge(folders(machine));
    if !escaping.iter().any(|out| out.as_bytes().starts_with(apt::LISTS.as_bytes())) {
        part.merge(begun_lists(machine));
    }
    let (waiting, wrong_lists) = cx.supply.with_repositories(|repositories| {
        let here = downloaded(machine);
        repositories.also_know(here.iter().map(|id| id.name.clone()));
        repositories.listed(machine, installed.packages.iter().map(|c| &c.id).chain(&here));
        let repositories: &Repositories = repositories;
        let clock = Clock { now: outside.now, own: machine.is_live() };
        let states = available_lists(repositories, machine, &cx.system.pool);
        part.merge(lists(repositories.sources(), &states, clock));
        let names = repositories.sources().iter().map(|s| s.source.describe());
        let wrong: Vec<(String, Vec<SystemPath>)> = names.zip(wrong_lists(repositories, machine, &states)).collect();
        let offers = Offers {
            sums: &|id| repositories.table().sums_of(id),
            listed: &|id| repositories.table().newest(id).is_some(),
            escaping_links: &escaping,
        };
        part.merge(downloads(machine, &offers, &cx.system.pool, observer).map_err(|_| WorkError::Stopped)?);
        Ok::<_, WorkError>((cx.supply.waiting(repositories), wrong))
    })?;
    let asked = asked_repositories(cx)?;
    part.answered(repositories(&asked));
    let place = SystemPath::literal(apt::CACHE);
    let free = machine.resolve(&place).and_then(|real| machine.dir(&real));
    let mut to_free = Vec::new();
    if let Ok(free) = free.and_then(|dir| dir.disk().room(dir.fd())) {
        to_free = downloads_to_free(cx, &part.verified, needed_room(waiting.bytes).saturating_sub(free.bytes));
        let spare = to_free.iter().map(|one| one.bytes).sum();
        part.merge(room(&place, free, waiting.bytes, spare));
    }
    watch(&mut watched, begun, observer)?;
    part.merge(locks(&watched));
    let verified = std::mem::take(&mut part.verified);
    let mut examined = examined(part, &waiting, (&asked, last_success(&runs)));
    examined.took(begun);
    Ok(UpdatesPart { examined, wrong_lists, verified, to_free })
}

/// The answers of the machine's repositories; before a repair they are asked for their lists instead.
fn asked_repositories(cx: &Cx<'_>) -> Result<Vec<Renewal>, WorkError> {
    match cx.how.plans || !cx.scope.is_deep(&UPDATES) {
        false => cx.supply.renewals(Asked { only_releases: true, ..Asked::default() }, cx.observer),
        true => Ok(Vec::new()),
    }
}

/// Downloads that a network repository offers again, up to a number of bytes: of installed packages first, the largest first.
fn downloads_to_free(cx: &Cx<'_>, right: &[VerifiedDownload], missing: u64) -> Vec<VerifiedDownload> {
    if missing == 0 {
        return Vec::new();
    }
    let again = |one: &&VerifiedDownload| {
        cx.supply.open_repositories(|repositories| repositories.on_network(&one.package).is_some()).unwrap_or(false)
    };
    let installed: HashSet<&PackageId> = cx.system.installed.packages.iter().map(|c| &c.id).collect();
    let mut all: Vec<VerifiedDownload> = right.iter().filter(again).cloned().collect();
    all.sort_by_key(|one| (!installed.contains(&one.package), std::cmp::Reverse(one.bytes)));
    let mut have = 0;
    all.into_iter()
        .take_while(|one| {
            let enough = have >= missing;
            have += one.bytes;
            !enough
        })
        .collect()
}

/// The units that download and install updates, as the service manager reports them.
fn units(cx: &Cx<'_>) -> Vec<(String, UnitState)> {
    let look = |name: &str| Some((name.to_owned(), cx.system.services.look(name).ok().flatten()?));
    apt::UNITS.into_iter().filter_map(look).collect()
}

fn examined(mut part: ExaminedPart, waiting: &Waiting, (asked, last): (&[Renewal], Option<&str>)) -> Examined {
    let mut examined = Examined {
        coverage: Coverage {
            examined: part.examined,
            bytes: part.bytes,
            incomplete: part.examined == 0,
            weak: part.verified_by.contains_key(&Authority::Local) || !part.unexamined.is_empty(),
            verified_by: std::mem::take(&mut part.verified_by),
            ..Coverage::default()
        },
        ..Examined::new(UPDATES)
    };
    for (reason, count, example) in std::mem::take(&mut part.unexamined) {
        examined.leave_out_many(reason, count, example);
    }
    examined.findings = part.into_findings();
    examined.findings.sort_by(|a, b| (a.verdict, &a.subject).cmp(&(b.verdict, &b.subject)));
    // A repository that does not answer does not invalidate the existing lists.
    let silent = [Verdict::Unreachable, Verdict::NoSuchRelease, Verdict::RolledBack];
    let wrong_list = |f: &Finding| matches!(f.subject, Subject::Source { .. }) && !silent.contains(&f.verdict);
    let is_wrong = examined.problems().any(wrong_list);
    examined.coverage.extent = Some(match is_wrong {
        true => format!("available updates unknown (package lists are damaged or missing); {}", asked_words(asked)),
        false => format!("{}; {}{}", waiting_words(waiting), asked_words(asked), last_words(last)),
    });
    examined
}

/// The time of the last installation.
fn last_words(last: Option<&str>) -> String {
    last.map(|at| format!("; last installed {}", at.get(..16).unwrap_or(at))).unwrap_or_default()
}

/// Whether the repositories were asked, and have newer lists.
fn asked_words(asked: &[Renewal]) -> String {
    let newer = asked.iter().filter(|renewal| renewal.brings_something()).count();
    match (asked.len(), newer) {
        (0, _) => "the network was not used".into(),
        (_, 0) => "all repositories have the same package lists".into(),
        (all, newer) => format!("{newer} of {all} repositories have newer package lists"),
    }
}

fn waiting_words(waiting: &Waiting) -> String {
    match waiting.updates {
        0 => "no updates are waiting, according to the cached package lists".into(),
        n => {
            let s = if n == 1 { "update is waiting" } else { "updates are waiting" };
            let security = match waiting.security {
                0 => String::new(),
                1 if n == 1 => ", a security update".into(),
                security => format!(", {security} of them security"),
            };
            format!("{n} {s}{security} ({}), according to the cached package lists", in_words(waiting.bytes))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_waits_is_told_by_number_and_size() {
        let waiting = Waiting { updates: 12, security: 2, bytes: 34 << 20, ids: Vec::new() };
        assert!(waiting_words(&waiting).starts_with("12 updates are waiting, 2 of them security (34 MiB)"));
        assert!(waiting_words(&Waiting::default()).contains("no updates are waiting"));
    }
}
