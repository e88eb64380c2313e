//! The holders of locks that a repair of updates needs: services that download may be stopped; all others are waited for.

use std::time::{Duration, Instant};

use super::{ExaminedPart, Watched, locks};
use crate::areas::Cx;
use crate::event::{Event, Flow, Observer, Phase};
use crate::machine::{LockHolder, lock_holder, worker};
use crate::model::{SystemPath, Verdict};
use crate::platform::Platform as _;
use crate::platform::debian::Debian;
use crate::platform::debian::apt::{LOCKS, UNITS};
use crate::platform::services::PausedUnit;
use crate::system::WorkError;

/// A program that does nothing for so long counts as stuck, in seconds.
const WATCHED: Duration = Duration::from_secs(10);
/// The time between two looks.
const GLANCE: Duration = Duration::from_millis(250);

/// The units that hold a lock which a repair needs and this run does not have, with their
/// state.
///
/// # Errors
/// When another program holds one, or the service is installing something: that is never stopped.
pub(crate) fn services_in_the_way(cx: &Cx<'_>, ours: &[SystemPath]) -> Result<Vec<PausedUnit>, WorkError> {
    let (mut watched, _) = lock_holders(cx, ours);
    watch(&mut watched, Instant::now(), cx.observer)?;
    let mut units: Vec<PausedUnit> = Vec::new();
    for one in watched.iter().filter(|one| one.holder.is_some()) {
        let service = one.worker.as_ref().and_then(|worker| worker.service.clone());
        let service = service.filter(|name| UNITS.contains(&name.as_str()) && fetches_only(&one.path));
        let found = service.map(|name| with_what_starts_it(cx, &name)).unwrap_or_default();
        if found.is_empty() {
            let held = locks(std::slice::from_ref(one)).into_findings().pop();
            return Err(WorkError::LockHeld {
                path: one.path.clone(),
                who: held.as_ref().and_then(|finding| finding.cause.clone()).unwrap_or_default(),
                stuck: held.is_some_and(|finding| finding.verdict == Verdict::LockStuck),
            });
        }
        // One service may hold several locks.
        units.extend(
            found.into_iter().filter(|new| !units.iter().any(|unit| unit.name == new.name)).collect::<Vec<_>>(),
        );
    }
    Ok(units)
}

/// A service with its timer and path units, as far as the service manager knows them; the starting unit first.
fn with_what_starts_it(cx: &Cx<'_>, service: &str) -> Vec<PausedUnit> {
    let stem = service.strip_suffix(".service").unwrap_or(service);
    let names = [format!("{stem}.timer"), format!("{stem}.path"), service.to_owned()];
    let look = |name: String| Some(PausedUnit { before: cx.system.services.look(&name).ok().flatten()?, name });
    names.into_iter().filter_map(look).collect()
}

/// Whether a lock is held only while downloading, not while installing.
fn fetches_only(lock: &SystemPath) -> bool {
    LOCKS.contains(&lock.to_string().as_str())
}

/// The holders of the package tools' locks, except the locks of this run.
pub(super) fn lock_holders(cx: &Cx<'_>, ours: &[SystemPath]) -> (Vec<Watched>, ExaminedPart) {
    let (mut watched, mut part) = (Vec::new(), ExaminedPart::default());
    for path in Debian.update_locks().into_iter().filter(|path| !ours.contains(path)) {
        let parent = path.parent().unwrap_or_else(SystemPath::root);
        let Ok(dir) = cx.system.machine.resolve(&parent).and_then(|real| cx.system.machine.dir(&real)) else {
            continue;
        };
        match lock_holder(&dir, path.name()) {
            Ok(holder) => {
                let worker = match holder {
                    Some(LockHolder::Process(pid)) => worker(pid).map(|mut worker| {
                        worker.service = worker.service.or_else(|| cx.system.services.service_of(pid));
                        worker
                    }),
                    _ => None,
                };
                watched.push(Watched { path, holder, worker, moves: None, watched: 0 });
            }
            Err(e) if e.kind() == std::io::ErrorKind::PermissionDenied => {
                part.unexamined.push(("locks: only root can see them".into(), 1, Some(path)));
            }
            Err(e) => part.unexamined.push((crate::model::error_words(&e), 1, Some(path))),
        }
    }
    (watched, part)
}

/// Watches the holders of locks until each was seen working, or for long enough.
///
/// # Errors
/// When the observer stopped the run.
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
                // It has ended, and released its locks.
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::event::NoObserver;

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
