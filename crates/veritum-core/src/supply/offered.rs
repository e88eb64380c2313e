//! What the machine's archives offer: asked once in a run, fetched once.

use std::sync::{Arc, PoisonError};

use super::Supply;
use crate::archive::{Asked, Renewal, fetch_lists, renewals};
use crate::event::Observer;
use crate::platform::debian::apt::AptConf;
use crate::system::WorkError;

/// What the archives answered in this run.
#[derive(Debug, Default)]
pub struct Offered {
    /// Each archive's answer.
    pub renewals: Vec<Renewal>,
    /// Whether what they offer was fetched, and is not to be fetched again.
    pub fetched: bool,
}

impl Supply<'_> {
    /// Asks the machine's archives, when the network may be used.
    ///
    /// # Errors
    /// When somebody said stop.
    pub fn renewals(&self, asked: Asked, observer: &dyn Observer) -> Result<Vec<Renewal>, WorkError> {
        if !self.system.settings.archive.network {
            return Ok(Vec::new());
        }
        let old_is_fine = AptConf::read(&self.system.machine).is_off("Acquire::Check-Valid-Until");
        let asked = Asked { old_is_fine, ..asked };
        self.with_archive(|archive| renewals(archive, &self.system.machine, asked, observer))
            .map_err(|_| WorkError::Stopped)
    }

    /// What the archives offer, all lists anew or those that differ: asked when it is not known yet.
    ///
    /// # Errors
    /// When somebody said stop.
    pub fn offered(&self, all_anew: bool, observer: &dyn Observer) -> Result<Arc<Offered>, WorkError> {
        if let Some(known) = self.open.offered.lock().unwrap_or_else(PoisonError::into_inner).clone() {
            return Ok(known);
        }
        let renewals = self.renewals(Asked { all_anew, ..Asked::default() }, observer)?;
        Ok(know_offered(self, Some(Offered { renewals, fetched: false })))
    }

    /// Fetches the lists that they offer; each answer then tells what came, or why it did not.
    ///
    /// # Errors
    /// When somebody said stop.
    pub fn fetch_offered(&self, all_anew: bool, observer: &dyn Observer) -> Result<Arc<Offered>, WorkError> {
        let mut renewals = self.offered(all_anew, observer)?.renewals.clone();
        self.with_archive(|archive| fetch_lists(archive, &self.system.machine, &mut renewals, observer))
            .map_err(|_| WorkError::Stopped)?;
        Ok(know_offered(self, Some(Offered { renewals, fetched: true })))
    }

    /// Forgets what they answered: the lists at hand may be others now.
    pub fn forget_offered(&self) {
        know_offered(self, None);
    }

    /// Forgets what was read of the lists at hand: they are others now.
    pub fn forget_lists(&self) {
        *self.open.archive.write().unwrap_or_else(PoisonError::into_inner) = None;
    }
}

fn know_offered(supply: &Supply<'_>, offered: Option<Offered>) -> Arc<Offered> {
    let offered = offered.map(Arc::new);
    supply.open.offered.lock().unwrap_or_else(PoisonError::into_inner).clone_from(&offered);
    offered.unwrap_or_default()
}
