//! Who holds a lock that a repair of updates needs: a service that fetches may be held, everybody else is waited for.

use std::time::Instant;

use super::updates::watch;
use super::{Engine, WorkError};
use crate::areas::updates::locks;
use crate::event::Observer;
use crate::model::{SystemPath, Verdict};
use crate::platform::debian::apt::{LOCKS, UNITS};
use crate::platform::services::PausedUnit;

impl Engine {
    /// The units that stand in the way of a repair because they hold a lock that it needs, with how they stand.
    ///
    /// # Errors
    /// When a program holds one that is no such service, or installs something: that is never stopped.
    pub(super) fn services_in_the_way(&self, observer: &dyn Observer) -> Result<Vec<PausedUnit>, WorkError> {
        let (mut watched, _) = self.lock_holders();
        watch(&mut watched, Instant::now(), observer)?;
        let mut units: Vec<PausedUnit> = Vec::new();
        for one in watched.iter().filter(|one| one.holder.is_some()) {
            let service = one.worker.as_ref().and_then(|worker| worker.service.clone());
            let service = service.filter(|name| UNITS.contains(&name.as_str()) && fetches_only(&one.path));
            let found = service.map(|name| self.with_what_starts_it(&name)).unwrap_or_default();
            if found.is_empty() {
                let held = locks(std::slice::from_ref(one)).into_findings().pop();
                return Err(WorkError::LockHeld {
                    path: one.path.clone(),
                    who: held.as_ref().and_then(|finding| finding.cause.clone()).unwrap_or_default(),
                    stuck: held.is_some_and(|finding| finding.verdict == Verdict::Stuck),
                });
            }
            // One service may hold more than one of the locks.
            units.extend(
                found.into_iter().filter(|new| !units.iter().any(|unit| unit.name == new.name)).collect::<Vec<_>>(),
            );
        }
        Ok(units)
    }

    /// A service with its timer and path, as far as the service manager knows them; what starts it first.
    fn with_what_starts_it(&self, service: &str) -> Vec<PausedUnit> {
        let stem = service.strip_suffix(".service").unwrap_or(service);
        let names = [format!("{stem}.timer"), format!("{stem}.path"), service.to_owned()];
        let look = |name: String| Some(PausedUnit { before: self.services.look(&name).ok().flatten()?, name });
        names.into_iter().filter_map(look).collect()
    }
}

/// Whether a lock is one of those under which nothing is installed, only fetched.
fn fetches_only(lock: &SystemPath) -> bool {
    LOCKS.contains(&lock.to_string().as_str())
}
