//! The machine's state folder, and our notes on it: what the last check came to, and what it saw. Never on a machine that is
//! mounted from elsewhere: there they stay with the administrator, one folder for each machine.

use super::{System, WorkError};
use crate::change::{ChangeError, StateError, StateFolder};
use crate::history;
use crate::machine::{Held, LockError, lock_shared};
use crate::model::{Digest, SystemPath};
use crate::report::{CheckReport, LastCheck};

/// The name that a system gives itself once and for all (machine-id(5)).
const MACHINE_ID: &str = "/etc/machine-id";

impl System {
    /// The state folder, when it is there.
    pub fn state(&self) -> Result<Option<StateFolder>, WorkError> {
        let found = StateFolder::find(&self.machine, self.settings.state_dir.as_deref()).map_err(ChangeError::from)?;
        Ok(found.map(|state| state.knowing(&self.areas)))
    }

    /// The same for a command that only looks: one that may not be read counts as none.
    pub fn readable_state(&self) -> Result<Option<StateFolder>, WorkError> {
        match self.state() {
            Err(WorkError::Change(ChangeError::State(StateError::Io { source, .. })))
                if source.kind() == std::io::ErrorKind::PermissionDenied =>
            {
                Ok(None)
            }
            other => other,
        }
    }

    /// The state folder, made when it is not there.
    ///
    /// # Errors
    /// When it cannot be made, or is none of ours.
    pub fn make_state(&self) -> Result<StateFolder, WorkError> {
        let made = StateFolder::make(&self.machine, self.settings.state_dir.as_deref()).map_err(ChangeError::from)?;
        Ok(made.knowing(&self.areas))
    }

    /// Makes sure that no change is under way while facts are gathered.
    pub fn shared_lock(&self, state: Option<&StateFolder>) -> Result<Option<Held>, WorkError> {
        match state.map(|s| lock_shared(s.dir(), b"lock")) {
            Some(Err(LockError::Busy)) => Err(WorkError::ChangeUnderWay),
            Some(Ok(held)) => Ok(Some(held)),
            // No lock file, or one that may not be read: a read-only medium, or never changed.
            Some(Err(LockError::Io(_))) | None => Ok(None),
        }
    }

    /// The folder of notes, when it is there and can be read.
    pub fn notes(&self) -> Option<StateFolder> {
        if self.are_notes_with_state() {
            return self.state().ok().flatten();
        }
        StateFolder::find(&self.machine, Some(&self.notes_folder()?)).ok().flatten()
    }

    /// The folder of notes, made when it is not there; `None` where none can be written.
    pub fn make_notes(&self) -> Option<StateFolder> {
        if self.are_notes_with_state() {
            return self.make_state().ok();
        }
        StateFolder::make(&self.machine, Some(&self.notes_folder()?)).ok()
    }

    /// The last check of the whole machine: what was noted of it here, or what the machine noted itself, whichever is later.
    pub fn last_check(&self) -> Option<LastCheck> {
        let on_machine = self.state().ok().flatten();
        let both = [self.notes(), on_machine].into_iter().flatten().filter_map(|folder| history::last_check(&folder));
        both.max_by_key(|last| last.at.parse::<jiff::Timestamp>().ok())
    }

    /// Notes what a check of the whole machine came to. On a medium that cannot be written, or without the rights, nothing is
    /// noted: the answer is the same.
    pub fn note_last_check(&self, report: &CheckReport) {
        if let Some(notes) = self.make_notes() {
            let _ = history::keep_last_check(&notes, report);
        }
    }

    /// Whether the notes lie in the state folder: one that was named, or the running system's own.
    fn are_notes_with_state(&self) -> bool {
        self.settings.state_dir.is_some() || self.machine.is_live() && rustix::process::geteuid().is_root()
    }

    fn notes_folder(&self) -> Option<std::path::PathBuf> {
        Some(self.settings.notes.as_ref()?.join(self.machine_id()))
    }

    /// What the machine's notes are filed under: its own id, or where it is when it has none.
    fn machine_id(&self) -> String {
        let text = self.machine.read_config(&SystemPath::literal(MACHINE_ID)).ok().flatten().unwrap_or_default();
        let id = text.trim_ascii();
        if id.len() == 32 && id.iter().all(u8::is_ascii_hexdigit) {
            return String::from_utf8_lossy(id).to_lowercase();
        }
        let place = self.machine.path().canonicalize().unwrap_or_else(|_| self.machine.path().to_owned());
        format!("at-{}", &Digest::hash(place.as_os_str().as_encoded_bytes()).to_hex()[..32])
    }
}
