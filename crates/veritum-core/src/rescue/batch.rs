//! [`Batch`]: files that are copied to parts together, and then written to the medium and read back from it together.

use std::io;
use std::sync::atomic::{AtomicBool, Ordering};

use rayon::prelude::*;

use super::copy::{Copied, Copying, NotDone};
use super::destination::DestinationError;
use super::selection::Job;
use super::source::Item;
use crate::model::{SystemPath, error_words};

/// A batch ends with this many bytes: what is lost by a cut is copied again.
const BATCH_BYTES: u64 = 128 << 20;
/// A batch ends with this many files.
const BATCH_FILES: usize = 1000;
/// So many files are opened together.
const TOGETHER: usize = 16;

/// Files that are copied together.
pub(super) struct Batch<'j> {
    /// Files whose content is copied.
    pub(super) files: Vec<&'j Job>,
    /// What became of each of them.
    pub(super) done: Vec<Result<Copied, NotDone>>,
    /// Symlinks and other names of files.
    pub(super) others: Vec<&'j Job>,
    /// Whether what cannot be read is left out now.
    pub(super) last: bool,
}

impl Copying<'_> {
    /// Copies files to parts, by all threads of the pool in which it is called.
    pub(super) fn copy_batch<'j>(&self, files: Vec<&'j Job>, others: Vec<&'j Job>, last: bool) -> Batch<'j> {
        let is_over = AtomicBool::new(false);
        let copy = |jobs: &[&Job]| -> Vec<Result<Copied, NotDone>> {
            if is_over.load(Ordering::Relaxed) {
                return jobs.iter().map(|_| Err(NotDone::Stopped)).collect();
            }
            let items: Vec<&Item> = jobs.iter().map(|job| &job.item).collect();
            let done = self.copy_all(&items, last);
            let ends = |done: &Result<Copied, NotDone>| matches!(done, Err(NotDone::Destination(_) | NotDone::Stopped));
            is_over.fetch_or(done.iter().any(ends), Ordering::Relaxed);
            done
        };
        let done = files.par_chunks(TOGETHER).flat_map_iter(copy).collect();
        Batch { files, done, others, last }
    }

    /// Waits until the parts are on the medium, and compares what is read from there with what was written; what differs is copied once
    /// more.
    pub(super) fn secure(&self, batch: &mut Batch<'_>) -> Result<(), DestinationError> {
        if batch.files.is_empty() {
            return Ok(());
        }
        self.destination.sync()?;
        let each = batch.done.par_iter().enumerate();
        let wrong: Vec<(usize, String)> =
            each.filter_map(|(at, done)| Some((at, self.read_back(done.as_ref().ok()?).err()?))).collect();
        for (at, why) in wrong {
            let again = self.copy_all(&[&batch.files[at].item], batch.last).pop().unwrap_or(Err(NotDone::Stopped));
            let checked = self.destination.sync().map_err(|e| error_words(&e.source));
            let checked = checked.and_then(|()| again.as_ref().map_or(Ok(()), |copied| self.read_back(copied)));
            batch.done[at] = again;
            if checked.is_err() {
                let source = io::Error::other(format!("{why}: the destination is failing"));
                return Err(self.destination.failed(&SystemPath::root(), source));
            }
        }
        Ok(())
    }
}

/// The number of files in the next batch.
pub(super) fn batch_size(jobs: &[Job]) -> usize {
    let mut bytes = 0u64;
    let fits = |job: &&Job| {
        let fits = bytes == 0 || bytes.saturating_add(job.item.size) <= BATCH_BYTES;
        bytes = bytes.saturating_add(job.item.size);
        fits
    };
    // Other names of a file need its first one to be stored.
    let is_first = jobs.first().is_some_and(|job| job.same_as.is_none());
    let alike = |job: &&Job| job.same_as.is_none() == is_first;
    jobs.iter().take(BATCH_FILES).take_while(alike).take_while(fits).count().max(1)
}
