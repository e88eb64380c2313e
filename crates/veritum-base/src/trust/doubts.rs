//! What keeps an administrator's memory of signed things from being kept: without it an older copy could be handed out
//! unnoticed, so it is reported.

use std::sync::{Mutex, PoisonError};

use super::pins::PinError;
use crate::model::error_chain;

/// Troubles with what is remembered, each reported once.
#[derive(Debug, Default)]
pub struct Doubts(Mutex<Vec<String>>);

impl Doubts {
    /// Notes what came of keeping something. On a medium that cannot be written nothing can be kept, and nothing is wrong:
    /// then the next run knows as much as this one.
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

    /// What was noted.
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
