//! The locks of package tools: held by a working program, held by a stuck one, or left behind.

use super::{ExaminedPart, at_path};
use crate::machine::{LockHolder, Worker};
use crate::model::{SystemPath, Verdict};

/// A lock file, its holder, and what that program did while it was watched.
#[derive(Debug, Clone)]
pub(crate) struct Watched {
    /// The file.
    pub(crate) path: SystemPath,
    /// Its holder, if any.
    pub(crate) holder: Option<LockHolder>,
    /// The holding program, if it is visible.
    pub(crate) worker: Option<Worker>,
    /// Whether it was working; `None` if that is not visible.
    pub(crate) moves: Option<bool>,
    /// The time that it was watched, in seconds.
    pub(crate) watched: u64,
}

/// Judges locks: slow is not stuck, and an unlocked file is harmless.
pub(crate) fn locks(all: &[Watched]) -> ExaminedPart {
    let mut part = ExaminedPart::default();
    for one in all {
        part.examined += 1;
        let Some(holder) = &one.holder else { continue };
        let who = match (&one.worker, holder) {
            (Some(w), _) => {
                let service = w.service.as_ref().map(|s| format!(" of the service {s}")).unwrap_or_default();
                format!("held by {} (process {}){service} since {}", w.name, w.pid, w.since)
            }
            (None, LockHolder::Process(pid)) => format!("held by process {pid}"),
            (None, LockHolder::Unknown) => "held by a running program".to_owned(),
        };
        let finding = match one.moves {
            Some(false) => {
                let cause = format!("{who}, idle for {} seconds", one.watched);
                let advice = "check that program: it may be waiting for an answer or for the network; stop it only if it stays idle";
                at_path(&one.path, Verdict::LockStuck, &cause, Some(advice.into()))
            }
            Some(true) => {
                at_path(&one.path, Verdict::Busy, &format!("{who}, working"), Some("wait until it is done".into()))
            }
            None => at_path(&one.path, Verdict::Busy, &who, Some("wait until it is done".into())),
        };
        part.add(finding);
    }
    part
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn slow_is_not_stuck_and_a_lock_that_nobody_holds_is_harmless() {
        let worker = Worker {
            pid: 41,
            name: "apt-get".into(),
            service: Some("apt-daily.service".into()),
            since: "2026-03-04T07:00:00Z".parse().unwrap(),
            work: 0,
        };
        let watched = |holder, worker, moves| Watched {
            path: SystemPath::literal("/var/lib/dpkg/lock"),
            holder,
            worker,
            moves,
            watched: 3,
        };
        let held = Some(LockHolder::Process(41));
        let told = |one: Watched| locks(&[one]).findings.pop().map(|f| (f.verdict, f.cause.unwrap()));
        assert_eq!(told(watched(None, None, None)), None);
        let (verdict, cause) = told(watched(held, Some(worker.clone()), Some(true))).unwrap();
        assert!(verdict == Verdict::Busy && cause.contains("apt-get (process 41) of the service apt-daily.service"));
        let (verdict, cause) = told(watched(held, Some(worker), Some(false))).unwrap();
        assert!(verdict == Verdict::LockStuck && cause.contains("idle for 3 seconds"));
        assert_eq!(told(watched(held, None, None)).unwrap().0, Verdict::Busy);
    }
}
