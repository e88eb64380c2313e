//! Reports what could not be saved about signed data: without it an older copy could be served unnoticed.

use std::sync::{Mutex, PoisonError};

use super::pins::PinError;
use crate::model::error_chain;

/// Problems with saved data, each reported once.
#[derive(Debug, Default)]
pub struct Doubts(Mutex<Vec<String>>);

impl Doubts {
    /// Records the result of saving. On a read-only medium nothing can be saved, which is not a problem: the next run has
    /// the same information.
    pub fn note(&self, kept: Result<(), PinError>) {
        let Err(error) = kept else { return };
        if matches!(&error, PinError::File { source, .. } if source.kind() == std::io::ErrorKind::ReadOnlyFilesystem) {
            return;
        }
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let why = error_chain(&error);
        if !all.contains(&why) {
            all.push(why);
        }
    }

    /// The recorded problems.
    #[must_use]
    pub fn all(&self) -> Vec<String> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_a_medium_that_cannot_be_written_is_no_doubt() {
        let doubts = Doubts::default();
        let failed =
            |kind: std::io::ErrorKind| Err(PinError::File { path: "/t/repositories.json".into(), source: kind.into() });
        doubts.note(Ok(()));
        doubts.note(failed(std::io::ErrorKind::ReadOnlyFilesystem));
        assert!(doubts.all().is_empty());
        for _ in 0..2 {
            doubts.note(failed(std::io::ErrorKind::StorageFull));
        }
        assert_eq!(doubts.all().len(), 1, "{:?}", doubts.all());
    }
}
