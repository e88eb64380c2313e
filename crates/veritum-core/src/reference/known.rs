//! [`KnownRecords`]: what was read of packages' records for a subset of paths. The first gathering shows which packages a
//! repository should verify, the second uses that; reading a thousand lists again would take most of its time.

use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, OnceLock};

use crate::platform::{RecordProblem, SelfRecord};

/// No more paths are kept: of larger subsets the lists are read again.
const MAX_KEPT: usize = 20_000;

/// Records that were read for one subset of paths, by the position of the installed package.
#[derive(Debug)]
pub struct KnownRecords {
    records: Vec<OnceLock<Arc<SelfRecord>>>,
    paths: AtomicUsize,
}

impl KnownRecords {
    /// For that many installed packages.
    #[must_use]
    pub fn of(packages: usize) -> Self {
        Self { records: (0..packages).map(|_| OnceLock::new()).collect(), paths: AtomicUsize::new(0) }
    }

    /// The record of the package at this position, read if it is not known. Problems are not kept.
    pub(super) fn get_or_read(
        &self,
        at: usize,
        read: impl FnOnce() -> Result<SelfRecord, RecordProblem>,
    ) -> Result<Arc<SelfRecord>, RecordProblem> {
        let place = self.records.get(at);
        if let Some(record) = place.and_then(OnceLock::get) {
            return Ok(Arc::clone(record));
        }
        let record = Arc::new(read()?);
        let before = self.paths.fetch_add(record.paths.len(), Ordering::Relaxed);
        if let Some(place) = place.filter(|_| before + record.paths.len() <= MAX_KEPT) {
            let _ = place.set(Arc::clone(&record));
        }
        Ok(record)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::SystemPath;

    fn record(paths: usize) -> Result<SelfRecord, RecordProblem> {
        Ok(SelfRecord { paths: vec![SystemPath::root(); paths], ..SelfRecord::default() })
    }

    fn unread() -> Result<SelfRecord, RecordProblem> {
        Err(RecordProblem { path: SystemPath::root(), what: "read again".into() })
    }

    #[test]
    fn small_records_are_read_once_and_problems_and_large_ones_again() {
        let known = KnownRecords::of(3);
        assert!(known.get_or_read(0, unread).is_err());
        assert_eq!(known.get_or_read(0, || record(5)).unwrap().paths.len(), 5);
        assert_eq!(known.get_or_read(0, unread).unwrap().paths.len(), 5);
        assert!(known.get_or_read(1, || record(MAX_KEPT)).is_ok() && known.get_or_read(1, unread).is_err());
        assert!(known.get_or_read(7, || record(1)).is_ok(), "a package that was not counted");
    }
}
