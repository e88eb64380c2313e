//! [`WorkError`]: why work cannot be done.

use std::path::PathBuf;

use crate::change::ChangeError;
use crate::machine::MachineError;
use crate::model::SystemPath;
use crate::store::StoreError;

/// Why the work cannot be done.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum WorkError {
    /// The machine cannot be worked on.
    #[error(transparent)]
    Target(#[from] MachineError),
    /// The store cannot be used.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The change cannot be made.
    #[error(transparent)]
    Change(#[from] ChangeError),
    /// A change is under way, so what is seen would be half of it.
    #[error("a change is in progress on this machine")]
    ChangeUnderWay,
    /// Part of the system is not mounted, so nothing may be written.
    #[error("{place} is part of this system and not mounted")]
    NotMounted {
        /// Which part.
        place: SystemPath,
    },
    /// A program holds a lock that is needed.
    #[error("{path} is locked: {who}")]
    LockHeld {
        /// The lock.
        path: SystemPath,
        /// Who holds it, and what it does.
        who: String,
        /// Whether it was seen to do nothing.
        stuck: bool,
    },
    /// A person runs in it.
    #[error("a running process uses this system as its root")]
    InUse,
    /// A store was to be examined, and none is used.
    #[error("no store is in use")]
    NoStore,
    /// No threads could be started.
    #[error("cannot start threads")]
    Threads,
    /// Nothing of that name is known.
    #[error("no such {what}: {name}")]
    Unknown {
        /// What kind of thing.
        what: &'static str,
        /// The name as typed.
        name: String,
        /// The names there are, where they can be listed.
        known: Vec<String>,
        /// The command that lists them, without the program's name; `None` if `known` is shown instead.
        listed_by: Option<&'static str>,
    },
    /// There is nothing at a path that was named, and no package has anything there.
    #[error("No such file: {path}")]
    NoSuchFile {
        /// The path as it was named.
        path: SystemPath,
    },
    /// A typed finding fits several.
    #[error("{name} matches more than one finding")]
    Ambiguous {
        /// The name as typed.
        name: String,
    },
    /// A card of the administrator's cannot be used.
    #[error("cannot use the application card {}", path.display())]
    Card {
        /// The card's file, as the host names it.
        path: PathBuf,
        /// The reason.
        why: String,
    },
    /// A typed name fits several applications.
    #[error("{name} matches more than one application")]
    SeveralApps {
        /// The name as typed.
        name: String,
        /// Their ids.
        ids: Vec<String>,
    },
    /// A home cannot be worked on.
    #[error("cannot work in {user}'s home")]
    Home {
        /// The user.
        user: String,
        /// The source.
        source: std::io::Error,
    },
    /// The application that a change is about runs.
    #[error("{app} is running")]
    AppRuns {
        /// Its id.
        app: String,
        /// Whose processes.
        user: String,
        /// Their numbers.
        pids: Vec<u32>,
    },
    /// There is nothing to be undone.
    #[error("no changes to undo")]
    NothingToUndo,
    /// A question would have to be asked, and no one can answer.
    #[error("cannot ask for confirmation")]
    CannotAsk,
    /// The observer interrupted the run before anything took effect.
    #[error("stopped")]
    Stopped,
}

impl WorkError {
    /// The error that a change does not exist.
    #[must_use]
    pub fn unknown_change(name: &str) -> Self {
        Self::Unknown { what: "change", name: name.to_owned(), known: Vec::new(), listed_by: Some("list changes") }
    }
}
