//! [`HomesSeen`]: the homes of those who log in, opened once in a run, and what was seen in them.

use std::collections::HashMap;
use std::io;
use std::sync::{Mutex, OnceLock, PoisonError};

use super::OpenHome;
use crate::model::error_words;
use crate::report::RunningApp;
use crate::scan::Profile;
use crate::system::System;

/// What was seen of one application in one home: how what it keeps there is, and which of its processes run.
pub type Seen = (Profile, Vec<RunningApp>);

/// The homes of one run.
#[derive(Debug, Default)]
pub struct HomesSeen {
    opened: OnceLock<Vec<(String, Result<OpenHome, String>)>>,
    /// By user and application.
    seen: Mutex<HashMap<(String, String), Seen>>,
}

impl HomesSeen {
    /// The homes of those who log in, each with its user: open, or why it cannot be looked into.
    pub fn open(&self, system: &System) -> &[(String, Result<OpenHome, String>)] {
        self.opened.get_or_init(|| {
            let accounts = system.users_named(None).unwrap_or_default();
            let opened = system.open_homes(&accounts).into_iter();
            opened.map(|(user, home)| (user, home.map_err(|e| error_words(&e)))).collect()
        })
    }

    /// What was seen of an application in a home; `look` sees it when that was not done yet.
    ///
    /// # Errors
    /// When it cannot be looked into.
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

    /// Forgets what was seen, since it is to be looked at once more; the homes stay open.
    pub fn look_anew(&self) {
        self.seen.lock().unwrap_or_else(PoisonError::into_inner).clear();
    }
}
