//! [`WorkError`]: why work cannot be done.

use std::path::PathBuf;

use crate::change::ChangeError;
use crate::devices::DeviceError;
use crate::machine::MachineError;
use crate::model::SystemPath;
use crate::savepoints::SavepointError;
use crate::store::StoreError;

/// Why the work cannot be done.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum WorkError {
    /// The machine cannot be used.
    #[error(transparent)]
    Target(#[from] MachineError),
    /// A disk or an image cannot be examined.
    #[error(transparent)]
    Disk(#[from] DeviceError),
    /// The store cannot be used.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The change cannot be made.
    #[error(transparent)]
    Change(#[from] ChangeError),
    /// A savepoint cannot be made or used.
    #[error(transparent)]
    Savepoint(#[from] SavepointError),
    /// A change is in progress, so results would be inconsistent.
    #[error("a change is in progress on this machine")]
    ChangeUnderWay,
    /// Part of the system is not mounted, so nothing may be written.
    #[error("{place} is part of this system and not mounted")]
    NotMounted {
        /// The part that is not mounted.
        place: SystemPath,
    },
    /// Another program holds a lock that is needed.
    #[error("{path} is locked: {who}")]
    LockHeld {
        /// The lock file.
        path: SystemPath,
        /// The holder, and what it is doing.
        who: String,
        /// Whether it appears to be stuck.
        stuck: bool,
    },
    /// There is no system on the partition that was named.
    #[error("no installed system can be read on partition {partition}{}", others(partitions))]
    NoSystem {
        /// The partition's number.
        partition: u32,
        /// The partitions with systems.
        partitions: Vec<u32>,
    },
    /// What a repair of disks writes over is kept nowhere yet.
    #[error("no folder is named for what is written over")]
    NoStateFolder,
    /// What a repair of a disk writes over would be kept on that disk.
    #[error("{} is on the disk that is repaired", folder.display())]
    StateOnDisk {
        /// The folder that was named.
        folder: PathBuf,
    },
    /// A process runs in it.
    #[error("a running process uses this system as its root")]
    InUse,
    /// The users' files that could suffer were not copied to where it was said.
    #[error("the users' files were not copied to {}", folder.display())]
    NotRescued {
        /// The folder that was named.
        folder: PathBuf,
        /// What is missing.
        why: String,
    },
    /// A store was to be examined, but none is used.
    #[error("no store is in use")]
    NoStore,
    /// Threads could not be started.
    #[error("cannot start threads")]
    Threads,
    /// There is nothing of that name.
    #[error("no such {what}: {name}")]
    Unknown {
        /// The kind of what was named.
        what: &'static str,
        /// The name as typed.
        name: String,
        /// The existing names, if they can be listed.
        known: Vec<String>,
        /// The command that lists them, without the program's name; `None` if `known` is shown instead.
        listed_by: Option<&'static str>,
    },
    /// A path was named that does not exist, and that no package ships.
    #[error("No such file: {path}")]
    NoSuchFile {
        /// The path as typed.
        path: SystemPath,
    },
    /// A typed finding id matches several.
    #[error("{name} matches more than one finding")]
    Ambiguous {
        /// The name as typed.
        name: String,
    },
    /// A card of the administrator's cannot be used.
    #[error("cannot use the application card {}", path.display())]
    Card {
        /// The card's file, by its path on the host.
        path: PathBuf,
        /// The reason.
        why: String,
    },
    /// A typed name matches several applications.
    #[error("{name} matches more than one application")]
    SeveralApps {
        /// The name as typed.
        name: String,
        /// Their ids.
        ids: Vec<String>,
    },
    /// A home cannot be used.
    #[error("cannot work in {user}'s home")]
    Home {
        /// The user.
        user: String,
        /// The cause.
        source: std::io::Error,
    },
    /// The application that a change concerns is running.
    #[error("{app} is running")]
    AppRuns {
        /// Its id.
        app: String,
        /// The owner of its processes.
        user: String,
        /// The process ids.
        pids: Vec<u32>,
    },
    /// There is nothing to undo.
    #[error("no changes to undo")]
    NothingToUndo,
    /// A question is needed and cannot be answered.
    #[error("cannot ask for confirmation")]
    CannotAsk,
    /// The observer stopped the run before anything took effect.
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

/// Where there are systems instead.
fn others(partitions: &[u32]) -> String {
    let listed = partitions.iter().map(u32::to_string).collect::<Vec<_>>().join(", ");
    if listed.is_empty() { String::new() } else { format!("; there is one on: {listed}") }
}
