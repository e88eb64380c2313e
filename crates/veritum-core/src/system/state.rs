//! The machine's state folder, and Veritum's notes on it: the result and observations of the last check. Never on a machine
//! that is mounted elsewhere: there they stay with the administrator, one folder for each machine.

use std::collections::BTreeSet;
use std::os::unix::fs::MetadataExt as _;

use super::{Settings, System, WorkError};
use crate::change::{ChangeError, StateError, StateFolder};
use crate::devices::Device;
use crate::history;
use crate::machine::{Held, LockError, Machine, MachineTimeZone, lock_shared};
use crate::model::{Digest, SystemPath};
use crate::report::{CheckReport, LastCheck};

/// A system's permanent id (machine-id(5)).
const MACHINE_ID: &str = "/etc/machine-id";

/// When the system was last returned to a savepoint, or that was undone, in the machine's local time (`2026-03-02 14:10:03`). The
/// package log does not have it: its earlier lines are no evidence of what is installed.
pub fn last_return(machine: &Machine, settings: &Settings) -> Option<String> {
    let state = StateFolder::find(machine, settings.state_dir.as_deref()).ok().flatten()?;
    state.sub("savepoints").ok()?;
    let mut returns: BTreeSet<u64> = BTreeSet::new();
    let mut last = None;
    for change in state.overview().ok()?.changes {
        if change.savepoint.is_some() || change.of.is_some_and(|of| returns.contains(&of)) {
            returns.insert(change.change);
            last = last.max(Some(change.ended.unwrap_or(change.started)));
        }
    }
    let local = MachineTimeZone::read(machine).local(&last?.to_string())?;
    Some(local.strftime("%Y-%m-%d %H:%M:%S").to_string())
}

/// Refuses a repair of disks without a state folder, or with one on these disks.
///
/// # Errors
/// Which of these it is.
pub fn require_elsewhere(settings: &Settings) -> Result<(), WorkError> {
    let Some(folder) = &settings.state_dir else { return Err(WorkError::NoStateFolder) };
    let folder = std::path::absolute(folder).unwrap_or_else(|_| folder.clone());
    let number = folder.ancestors().find_map(|place| std::fs::metadata(place).ok()).map(|stat| stat.dev());
    for path in &settings.disks {
        let device = Device::open(path)?;
        if number.is_some_and(|number| device.holds(number)) {
            return Err(WorkError::StateOnDisk { folder });
        }
    }
    Ok(())
}

impl System {
    /// The state folder, if it exists.
    pub fn state(&self) -> Result<Option<StateFolder>, WorkError> {
        let found = StateFolder::find(&self.machine, self.settings.state_dir.as_deref()).map_err(ChangeError::from)?;
        Ok(found.map(|state| state.knowing(&self.areas)))
    }

    /// The same for a command that only reads: a folder that cannot be read counts as missing.
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

    /// The state folder, created if it does not exist.
    ///
    /// # Errors
    /// When it cannot be created, or is not ours.
    pub fn make_state(&self) -> Result<StateFolder, WorkError> {
        let made = StateFolder::make(&self.machine, self.settings.state_dir.as_deref()).map_err(ChangeError::from)?;
        Ok(made.knowing(&self.areas))
    }

    /// Makes sure that no change is in progress while the machine is examined.
    pub fn shared_lock(&self, state: Option<&StateFolder>) -> Result<Option<Held>, WorkError> {
        match state.map(|s| lock_shared(s.dir(), b"lock")) {
            Some(Err(LockError::Busy)) => Err(WorkError::ChangeUnderWay),
            Some(Ok(held)) => Ok(Some(held)),
            // No lock file, or an unreadable one: a read-only medium, or a machine that was never changed.
            Some(Err(LockError::Io(_))) | None => Ok(None),
        }
    }

    /// The folder of notes, if it exists and can be read.
    pub fn notes(&self) -> Option<StateFolder> {
        if self.are_notes_with_state() {
            return self.state().ok().flatten();
        }
        StateFolder::find(&self.machine, Some(&self.notes_folder()?)).ok().flatten()
    }

    /// The folder of notes, created if it does not exist; `None` where none can be written.
    pub fn make_notes(&self) -> Option<StateFolder> {
        if self.are_notes_with_state() {
            return self.make_state().ok();
        }
        StateFolder::make(&self.machine, Some(&self.notes_folder()?)).ok()
    }

    /// The last check of the whole machine: as recorded here or on the machine itself, whichever is later.
    pub fn last_check(&self) -> Option<LastCheck> {
        let on_machine = self.state().ok().flatten();
        let both = [self.notes(), on_machine].into_iter().flatten().filter_map(|folder| history::last_check(&folder));
        both.max_by_key(|last| last.at.parse::<jiff::Timestamp>().ok())
    }

    /// Records the result of a check of the whole machine. On a read-only medium, or without the rights, nothing is
    /// recorded: the answer is the same.
    pub fn note_last_check(&self, report: &CheckReport) {
        if let Some(notes) = self.make_notes() {
            let _ = history::keep_last_check(&notes, report);
        }
    }

    /// Whether the notes are in the state folder: a named one, or the running system's own.
    fn are_notes_with_state(&self) -> bool {
        self.settings.state_dir.is_some() || self.machine.is_live() && rustix::process::geteuid().is_root()
    }

    fn notes_folder(&self) -> Option<std::path::PathBuf> {
        Some(self.settings.notes.as_ref()?.join(self.machine_id()))
    }

    /// The key of the machine's notes: its own id, or its path if it has none.
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
