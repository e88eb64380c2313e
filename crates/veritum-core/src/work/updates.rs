//! The area `updates`: what can keep updates from coming, and what waits.

use std::collections::HashSet;
use std::time::{Duration, Instant};

use super::{Engine, WorkError};
use crate::archive::{Archive, Asked, Renewal};
use crate::areas::updates::{
    Clock, Looked, Offers, VerifiedDownload, Watched, archives, binary_caches, downloaded, downloads, escaping_links,
    folders, in_words, installs, lists, locks, needed_room, restart_note, room, services, settings, sources,
};
use crate::areas::updates::{TERM, TERM_TAIL, begun_lists, history, last_success};
use crate::event::{Event, Flow, Observer, Phase};
use crate::machine::{LockHolder, lock_holder, worker};
use crate::model::{Area, Authority, ComponentId, Finding, Subject, SystemPath, Verdict};
use crate::platform::debian::Debian;
use crate::platform::debian::apt::{self, AptConf};
use crate::platform::debian::compare_versions;
use crate::platform::debian::database::Stanza;
use crate::platform::services::{Masking, UnitState};
use crate::platform::{InstallState, Platform as _};
use crate::report::{AreaReport, Outcome, UnexaminedReport};

/// A program that does nothing for so long counts as stuck.
const WATCHED: Duration = Duration::from_secs(10);
/// How often it is looked at meanwhile.
const GLANCE: Duration = Duration::from_millis(250);

/// Whether the archives are asked what they have.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum AskArchives {
    /// When the network may be used.
    IfAllowed,
    /// Not now.
    No,
}

/// What came of looking at updates.
#[derive(Debug)]
pub(super) struct UpdatesPart {
    pub(super) area: AreaReport,
    pub(super) findings: Vec<Finding>,
    pub(super) notes: Vec<Finding>,
    pub(super) unexamined: Vec<UnexaminedReport>,
    /// What waits, by the lists at hand.
    pub(super) waiting: Waiting,
    /// Lists at hand that are not what was signed, by source.
    pub(super) wrong_lists: Vec<(String, Vec<SystemPath>)>,
    /// Downloads that are right.
    pub(super) right: Vec<VerifiedDownload>,
    /// Those of them that can be fetched again, with what they hold, as far as room is needed.
    pub(super) to_free: Vec<VerifiedDownload>,
}

/// Updates that the lists at hand know of.
#[derive(Debug, Clone, Default)]
pub(super) struct Waiting {
    pub(super) updates: u64,
    pub(super) security: u64,
    pub(super) bytes: u64,
    /// Which.
    pub(super) ids: Vec<ComponentId>,
}

/// Whose the package tools' locks are while updates are looked at.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum LocksHeld {
    /// Nobody's, or another program's: that is looked at.
    ByOthers,
    /// Our own.
    ByUs,
}

impl Engine {
    /// Looks at everything that updates rest on.
    pub(super) fn updates(
        &self,
        held: LocksHeld,
        ask: AskArchives,
        observer: &dyn Observer,
    ) -> Result<UpdatesPart, WorkError> {
        let begun = Instant::now();
        let (mut watched, mut looked) = match held {
            LocksHeld::ByOthers => self.lock_holders(),
            LocksHeld::ByUs => (Vec::new(), Looked::default()),
        };
        looked.add(installs(self.database.stanzas()));
        looked.add(sources(&apt::sources(&self.machine)));
        let mut units = self.units();
        let managed = !units.is_empty();
        // What is held for the time of a repair is as it was at its end.
        units.retain(|(_, state)| held == LocksHeld::ByOthers || state.masking != Masking::ThisRun);
        looked.add(settings(&self.machine, &AptConf::of(&self.machine), &apt::pins(&self.machine), managed));
        looked.add(services(&units));
        looked.findings.extend(self.restart_due().iter().map(|why| restart_note(why)));
        looked.add(binary_caches(&self.machine));
        let runs = Debian.runs(&self.machine);
        looked.add(history(&runs, &self.end_of(&SystemPath::literal(TERM), TERM_TAIL)));
        let (told, escaping_links) =
            escaping_links(&self.machine, &|real| self.protection.why(real).map(str::to_owned));
        looked.add(told);
        looked.add(folders(&self.machine));
        if !escaping_links.iter().any(|out| out.as_bytes().starts_with(apt::LISTS.as_bytes())) {
            looked.add(begun_lists(&self.machine));
        }
        let (waiting, wrong_lists) = self.with_archive(|archive| {
            let here = downloaded(&self.machine);
            archive.also_know(here.iter().map(|id| id.name.clone()));
            archive.listed(&self.machine, self.installed.components.iter().map(|c| &c.id).chain(&here));
            let archive: &Archive = archive;
            let clock = Clock { now: self.settings.now, own: self.machine.is_live() };
            let states = archive.lists_at_hand(&self.machine);
            looked.add(lists(archive.sources(), &states, clock));
            let names = archive.sources().iter().map(|s| s.source.words());
            let wrong: Vec<(String, Vec<SystemPath>)> =
                names.zip(archive.wrong_lists(&self.machine, &states)).collect();
            let offers = Offers {
                sums: &|id| archive.sums_of(id),
                listed: &|id| archive.newest(id).is_some(),
                escaping_links: &escaping_links,
            };
            looked.add(downloads(&self.machine, &offers, &self.pool, observer).map_err(|_| WorkError::Stopped)?);
            Ok::<_, WorkError>((self.waiting(archive), wrong))
        })?;
        let asked = self.asked_archives(ask, observer)?;
        looked.answered(archives(&asked));
        let place = SystemPath::literal(apt::CACHE);
        let free = self.machine.resolve(&place).and_then(|real| self.machine.dir(&real));
        let mut to_free = Vec::new();
        if let Ok(free) = free.and_then(|dir| dir.disk().room(dir.fd())) {
            to_free = self.downloads_to_free(&looked.right, needed_room(waiting.bytes).saturating_sub(free.bytes));
            let spare = to_free.iter().map(|one| one.bytes).sum();
            looked.add(room(&place, free, waiting.bytes, spare));
        }
        watch(&mut watched, begun, observer)?;
        looked.add(locks(&watched));
        Ok(UpdatesPart { to_free, ..part(looked, waiting, wrong_lists, (&asked, last_success(&runs)), begun) })
    }

    /// Who holds the package tools' locks.
    pub(super) fn lock_holders(&self) -> (Vec<Watched>, Looked) {
        let (mut watched, mut looked) = (Vec::new(), Looked::default());
        for path in Debian.update_locks() {
            let parent = path.parent().unwrap_or_else(SystemPath::root);
            let Ok(dir) = self.machine.resolve(&parent).and_then(|real| self.machine.dir(&real)) else { continue };
            match lock_holder(&dir, path.name()) {
                Ok(holder) => {
                    let worker = match holder {
                        Some(LockHolder::Process(pid)) => worker(pid).map(|mut worker| {
                            worker.service = worker.service.or_else(|| self.services.service_of(pid));
                            worker
                        }),
                        _ => None,
                    };
                    watched.push(Watched { path, holder, worker, moves: None, watched: 0 });
                }
                Err(e) if e.kind() == std::io::ErrorKind::PermissionDenied => {
                    looked.unexamined.push(("whether a lock is held: needs root".into(), 1, Some(path)));
                }
                Err(e) => looked.unexamined.push((crate::model::error_words(&e), 1, Some(path))),
            }
        }
        (watched, looked)
    }

    /// The end of a log, at most so many bytes; nothing where it may not be read.
    fn end_of(&self, path: &SystemPath, most: u64) -> Vec<u8> {
        self.machine.read_end(path, most).ok().flatten().unwrap_or_default()
    }

    /// What the machine's archives have, as far as they are asked.
    fn asked_archives(&self, ask: AskArchives, observer: &dyn Observer) -> Result<Vec<Renewal>, WorkError> {
        match ask {
            AskArchives::IfAllowed => self.renewals(Asked { only_releases: true, ..Asked::default() }, observer),
            AskArchives::No => Ok(Vec::new()),
        }
    }

    /// Asks the machine's archives, when the network may be used.
    pub(super) fn renewals(&self, asked: Asked, observer: &dyn Observer) -> Result<Vec<Renewal>, WorkError> {
        if !self.settings.archive.network {
            return Ok(Vec::new());
        }
        let old_is_fine = AptConf::of(&self.machine).is_off("Acquire::Check-Valid-Until");
        let asked = Asked { old_is_fine, ..asked };
        self.with_archive(|archive| archive.renewals(&self.machine, asked, observer)).map_err(|_| WorkError::Stopped)
    }

    /// Downloads that an archive on the network gives again, for so many bytes: of what is installed first, the largest first.
    fn downloads_to_free(&self, right: &[VerifiedDownload], missing: u64) -> Vec<VerifiedDownload> {
        if missing == 0 {
            return Vec::new();
        }
        let again = |one: &&VerifiedDownload| {
            self.open_archive(|archive| archive.on_network(&one.component).is_some()).unwrap_or(false)
        };
        let installed: HashSet<&ComponentId> = self.installed.components.iter().map(|c| &c.id).collect();
        let mut all: Vec<VerifiedDownload> = right.iter().filter(again).cloned().collect();
        all.sort_by_key(|one| (!installed.contains(&one.component), std::cmp::Reverse(one.bytes)));
        let mut have = 0;
        all.into_iter()
            .take_while(|one| {
                let enough = have >= missing;
                have += one.bytes;
                !enough
            })
            .collect()
    }

    /// The units that fetch and apply updates, as far as the service manager knows them.
    fn units(&self) -> Vec<(String, UnitState)> {
        let look = |name: &str| Some((name.to_owned(), self.services.look(name).ok().flatten()?));
        apt::UNITS.into_iter().filter_map(look).collect()
    }

    /// What the lists at hand offer beyond what is installed.
    pub(super) fn waiting(&self, archive: &Archive) -> Waiting {
        let mut waiting = Waiting::default();
        let is_held = |entry: &&Stanza| entry.get("Status").is_some_and(|s| s.starts_with("hold "));
        let held: HashSet<(String, String)> = self.database.stanzas().filter(is_held).map(Stanza::key).collect();
        for component in self.installed.components.iter().filter(|c| c.install_state == InstallState::Installed) {
            let id = &component.id;
            if held.contains(&(id.name.clone(), id.arch.clone())) {
                continue;
            }
            let newer = archive.offered(id).filter(|newest| compare_versions(newest, &id.version).is_gt());
            let Some(newer) = newer.and_then(|version| ComponentId::new(&id.name, version, &id.arch).ok()) else {
                continue;
            };
            // What lies in a folder that the operator named is no update that the machine would get.
            if archive.offered_by(&newer).all(|open| open.named) {
                continue;
            }
            waiting.updates += 1;
            waiting.bytes += archive.sums_of(&newer).first().map_or(0, |sum| sum.size);
            let security = archive.offered_by(&newer).any(|open| open.source.is_security());
            waiting.security += u64::from(security);
            waiting.ids.push(newer);
        }
        waiting
    }
}

/// Watches those that hold a lock until each was seen to do something, or for long enough.
///
/// # Errors
/// When the observer said stop.
pub(super) fn watch(watched: &mut [Watched], begun: Instant, observer: &dyn Observer) -> Result<(), WorkError> {
    let open = |watched: &[Watched]| watched.iter().any(|one| one.worker.is_some() && one.moves.is_none());
    if !open(watched) {
        return Ok(());
    }
    observer.on_event(Event::Begin { phase: Phase::Watching, items: 0, bytes: 0 });
    while open(watched) {
        let gone = begun.elapsed();
        for one in watched.iter_mut().filter(|one| one.moves.is_none()) {
            let Some(before) = &one.worker else { continue };
            one.watched = gone.as_secs();
            match worker(before.pid).filter(|now| now.since == before.since) {
                // It has ended, and its locks with it.
                None => (one.holder, one.worker) = (None, None),
                Some(now) if now.work != before.work => one.moves = Some(true),
                Some(_) if gone >= WATCHED => one.moves = Some(false),
                Some(_) => {}
            }
        }
        if open(watched) {
            std::thread::sleep(GLANCE);
        }
        if observer.on_event(Event::Advance { items: 0, bytes: 0 }) == Flow::Stop {
            return Err(WorkError::Stopped);
        }
    }
    observer.on_event(Event::End);
    Ok(())
}

fn part(
    mut looked: Looked,
    waiting: Waiting,
    wrong_lists: Vec<(String, Vec<SystemPath>)>,
    (asked, last): (&[Renewal], Option<&str>),
    begun: Instant,
) -> UpdatesPart {
    let unexamined = std::mem::take(&mut looked.unexamined);
    let right = std::mem::take(&mut looked.right);
    let (examined, bytes, vouched) = (looked.examined, looked.bytes, std::mem::take(&mut looked.vouched));
    let (mut findings, mut notes): (Vec<Finding>, Vec<Finding>) =
        looked.into_findings().into_iter().partition(|finding| finding.verdict.is_problem());
    for all in [&mut findings, &mut notes] {
        all.sort_by(|a, b| (a.verdict, &a.subject).cmp(&(b.verdict, &b.subject)));
    }
    let problems = findings.len() as u64;
    let weak = vouched.contains_key(&Authority::SelfReported);
    // An archive that does not answer says nothing against the lists that are here.
    let silent = [Verdict::Unreachable, Verdict::Gone, Verdict::WentBack];
    let wrong_list = |f: &Finding| matches!(f.subject, Subject::Source { .. }) && !silent.contains(&f.verdict);
    let extent = match findings.iter().any(wrong_list) {
        true => format!("what waits cannot be told: lists are wrong or missing; {}", asked_words(asked)),
        false => format!("{}; {}{}", waiting_words(&waiting), asked_words(asked), last_words(last)),
    };
    let outcome = match (problems, examined) {
        (1.., _) => Outcome::Problems,
        (0, 0) => Outcome::Unexamined,
        _ if weak || !unexamined.is_empty() => Outcome::SoundAsKnown,
        _ => Outcome::Sound,
    };
    UpdatesPart {
        area: AreaReport {
            area: Area::Updates,
            outcome,
            examined,
            bytes,
            seconds: begun.elapsed().as_secs_f64(),
            problems,
            repairable: findings.iter().filter(|f| f.remedy.is_some()).count() as u64,
            vouched,
            presence_only: 0,
            extent: Some(extent),
        },
        findings,
        notes,
        unexamined: unexamined
            .into_iter()
            .map(|(reason, count, example)| UnexaminedReport { area: Area::Updates, reason, count, example })
            .collect(),
        waiting,
        wrong_lists,
        right,
        to_free: Vec::new(),
    }
}

/// When something was last installed.
fn last_words(last: Option<&str>) -> String {
    last.map(|at| format!("; last installed {}", at.get(..16).unwrap_or(at))).unwrap_or_default()
}

/// Whether the archives were asked, and have something newer.
fn asked_words(asked: &[Renewal]) -> String {
    let newer = asked.iter().filter(|renewal| renewal.brings_something()).count();
    match (asked.len(), newer) {
        (0, _) => "the network was not asked".into(),
        (_, 0) => "no archive has newer ones".into(),
        (all, newer) => format!("{newer} of {all} archives have newer ones"),
    }
}

fn waiting_words(waiting: &Waiting) -> String {
    match waiting.updates {
        0 => "by the lists that are here nothing waits".into(),
        n => {
            let s = if n == 1 { "update waits" } else { "updates wait" };
            let security =
                if waiting.security > 0 { format!(", {} for security", waiting.security) } else { String::new() };
            format!("by the lists that are here {n} {s}{security} ({})", in_words(waiting.bytes))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::event::NoObserver;

    #[test]
    fn what_waits_is_told_by_number_and_size() {
        let waiting = Waiting { updates: 12, security: 2, bytes: 34 << 20, ids: Vec::new() };
        assert!(
            waiting_words(&waiting).starts_with("by the lists that are here 12 updates wait, 2 for security (34 MiB)")
        );
        assert!(waiting_words(&Waiting::default()).contains("nothing waits"));
    }

    #[test]
    fn a_program_that_does_something_is_seen_at_once_and_one_that_ended_holds_nothing() {
        let mut child = std::process::Command::new("sh").args(["-c", "while :; do :; done"]).spawn().unwrap();
        let one = |pid: u32| Watched {
            path: SystemPath::literal("/var/lib/dpkg/lock"),
            holder: Some(LockHolder::Process(pid)),
            worker: worker(pid),
            moves: None,
            watched: 0,
        };
        let mut watched = [one(child.id())];
        watch(&mut watched, Instant::now(), &NoObserver).unwrap();
        assert_eq!(watched[0].moves, Some(true));
        watched[0].moves = None;
        child.kill().unwrap();
        child.wait().unwrap();
        watch(&mut watched, Instant::now(), &NoObserver).unwrap();
        assert_eq!(watched[0].holder, None);
    }
}
