//! [`HomesSeen`]: the homes of login users, opened once in a run, and the results of examining them.

use std::collections::HashMap;
use std::io;
use std::sync::{Mutex, OnceLock, PoisonError};

use super::OpenHome;
use crate::model::error_words;
use crate::report::RunningApp;
use crate::scan::Profile;
use crate::system::System;

/// The state of one application in one home: its files and its running processes.
pub type Seen = (Profile, Vec<RunningApp>);

/// The homes that a run has opened.
#[derive(Debug, Default)]
pub struct HomesSeen {
    opened: OnceLock<Vec<(String, Result<OpenHome, String>)>>,
    /// The results, by user and application.
    seen: Mutex<HashMap<(String, String), Seen>>,
}

impl HomesSeen {
    /// The homes of login users, each with its user: open, or the reason why it cannot be.
    pub fn open(&self, system: &System) -> &[(String, Result<OpenHome, String>)] {
        self.opened.get_or_init(|| {
            let accounts = system.users_named(None).unwrap_or_default();
            let opened = system.open_homes(&accounts).into_iter();
            opened.map(|(user, home)| (user, home.map_err(|e| error_words(&e)))).collect()
        })
    }

    /// The state of an application in a home; `look` examines it if that has not been done yet.
    ///
    /// # Errors
    /// If the home cannot be examined.
    pub fn seen(&self, home: &OpenHome, app: &str, look: impl FnOnce() -> io::Result<Seen>) -> io::Result<Seen> {
        let key = (home.user.clone(), app.to_owned());
        let mut seen = self.seen.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(known) = seen.get(&key) {
            return Ok(known.clone());
        }
        let new = look()?;
        seen.insert(key, new.clone());
        Ok(new)
    }

    /// Drops the results, so that the homes are examined again; they stay open.
    pub fn look_again(&self) {
        self.seen.lock().unwrap_or_else(PoisonError::into_inner).clear();
    }
}
