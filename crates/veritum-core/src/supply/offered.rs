//! The lists that the machine's repositories offer; requested once in a run.

use std::sync::{Arc, PoisonError};

use super::Supply;
use crate::event::Observer;
use crate::platform::debian::apt::AptConf;
use crate::repository::{Asked, Renewal, fetch_lists, renewals};
use crate::system::WorkError;

/// The repositories' answers in this run.
#[derive(Debug, Default)]
pub struct Offered {
    /// The answer of each repository.
    pub renewals: Vec<Renewal>,
    /// Whether the offered lists have been downloaded.
    pub fetched: bool,
}

impl Supply<'_> {
    /// Asks the machine's repositories, when the network may be used.
    ///
    /// # Errors
    /// If the run was stopped.
    pub fn renewals(&self, asked: Asked, observer: &dyn Observer) -> Result<Vec<Renewal>, WorkError> {
        if !self.system.settings.repositories.network {
            return Ok(Vec::new());
        }
        let old_is_fine = AptConf::read(&self.system.machine).is_off("Acquire::Check-Valid-Until");
        let asked = Asked { old_is_fine, ..asked };
        self.with_repositories(|repositories| renewals(repositories, &self.system.machine, asked, observer))
            .map_err(|_| WorkError::Stopped)
    }

    /// What the repositories offer: all lists, or those that differ. Asks them if their answer is not known yet.
    ///
    /// # Errors
    /// If the run was stopped.
    pub fn offered(&self, all_again: bool, observer: &dyn Observer) -> Result<Arc<Offered>, WorkError> {
        if let Some(known) = self.open.offered.lock().unwrap_or_else(PoisonError::into_inner).clone() {
            return Ok(known);
        }
        let renewals = self.renewals(Asked { all_again, ..Asked::default() }, observer)?;
        Ok(know_offered(self, Some(Offered { renewals, fetched: false })))
    }

    /// Downloads the offered lists; each answer then contains the lists, or the reason why there are none.
    ///
    /// # Errors
    /// If the run was stopped.
    pub fn fetch_offered(&self, all_again: bool, observer: &dyn Observer) -> Result<Arc<Offered>, WorkError> {
        let mut renewals = self.offered(all_again, observer)?.renewals.clone();
        self.with_repositories(|repositories| fetch_lists(repositories, &self.system.machine, &mut renewals, observer))
            .map_err(|_| WorkError::Stopped)?;
        Ok(know_offered(self, Some(Offered { renewals, fetched: true })))
    }

    /// Drops their answers, because the machine's lists may have changed.
    pub fn forget_offered(&self) {
        know_offered(self, None);
    }

    /// Drops what was read of the machine's lists, because they have changed.
    pub fn forget_lists(&self) {
        *self.open.repositories.write().unwrap_or_else(PoisonError::into_inner) = None;
    }
}

fn know_offered(supply: &Supply<'_>, offered: Option<Offered>) -> Arc<Offered> {
    let offered = offered.map(Arc::new);
    supply.open.offered.lock().unwrap_or_else(PoisonError::into_inner).clone_from(&offered);
    offered.unwrap_or_default()
}
