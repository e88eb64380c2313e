//! The only module that writes to the machine: atomically, undoable, recoverable after an interruption at any point.
//!
//! ```text
//! STATE/                 var/lib/veritum of the machine, or a folder that the administrator names (0700)
//!   lock                 held during a change
//!   reserve              4 MiB, released when the disk is full, so that a change can still be undone
//!   changes/N/journal    the log of change N: its plan and its results
//!   changes.index        a summary of all logs, so that not each is read completely; may be deleted
//!   kept/N/ROUND-INDEX   objects displaced by change N
//! HOME/.veritum-set-aside/TIME-N/PATH   objects displaced by change N in a user's home, under their original paths
//! ```
//!
//! The order within one round: obstacles and free space → *plan record* → stage next to the destinations → sync → *commit
//! record* → exchange → sync → move displaced objects to the backups → sync → *done record*. An interruption before the commit
//! record means "none of it", after it "all of it"; [`recover`](recover::recover) completes or undoes accordingly.

mod aside;
mod attributes;
mod backup;
mod beside;
mod committed;
mod context;
mod devices;
mod disk_round;
mod disk_write;
mod displaced;
mod firmware_write;
mod folders;
mod journal;
mod keep;
mod merge;
mod moves;
mod obstacles;
mod overview;
mod prune;
pub mod record;
mod recover;
mod round;
mod site;
mod slot;
mod stage;
mod standing;
mod state;
mod swap;
mod undo;

pub use beside::{Beside, LoggedResult, Task, ToolRecord};
pub use context::{ChangeContext, Locks};
pub use disk_write::{Disks, RangeBytes, first_other, old_bytes};
pub use displaced::displaced;
pub use firmware_write::write_firmware;
pub use journal::{ChangeLog, JournalError, RoundLog};
pub use keep::{folder_for, make_pool_dir, pool_dir};
pub use merge::Refusal;
pub use obstacles::{Blocked, require_possible};
pub use overview::{BadLog, ChangeSummary, Overview, Salvaged, latest_run, standings, unfinished};
pub use record::{Begin, ClearedFlags, HomeOf, ParentTime, Purpose, Record, Verb};
pub use recover::{Recovered, RecoveredChange, recover};
pub use round::{FolderTimes, OpenChange, RoundReceipt};
pub use standing::{Standing, Standings};
pub use state::{StateError, StateFolder};
pub use undo::{UndoPlan, UndoRound, plan_undo};

use std::io;

use crate::model::{Action, SystemPath};
use crate::platform::services::ServiceError;
use crate::store::StoreError;

/// Why a change cannot be made or completed.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ChangeError {
    /// The state folder cannot be used.
    #[error("cannot use the state folder")]
    State(#[from] StateError),
    /// A change log cannot be read or written.
    #[error("cannot read the log of change {change}")]
    Journal {
        /// The change's number.
        change: u64,
        /// The cause.
        source: JournalError,
    },
    /// There is not enough free space.
    #[error("{} KiB more free space is needed where {place} is", missing.div_ceil(1024))]
    NoRoom {
        /// A path on that file system.
        place: SystemPath,
        /// The number of missing bytes.
        missing: u64,
    },
    /// Nothing can be set aside in a home; nothing was changed.
    #[error("cannot move anything aside in {home}")]
    NotAside {
        /// The home.
        home: SystemPath,
        /// The cause.
        source: io::Error,
    },
    /// The disk failed; nothing was changed.
    #[error("the disk failed at {place}; everything was rolled back")]
    TakenBack {
        /// The path.
        place: SystemPath,
        /// The cause.
        source: io::Error,
    },
    /// One action is impossible, so nothing was changed: it was all or nothing.
    #[error("{place}: {why}; nothing was changed")]
    NotWhole {
        /// The path.
        place: SystemPath,
        /// The reason.
        why: String,
        /// What to do about it.
        next: Option<Action>,
    },
    /// The disk failed, and the change could neither be completed nor undone.
    #[error("cannot finish change {change}")]
    Unfinished {
        /// The change's number.
        change: u64,
        /// The cause.
        source: io::Error,
    },
    /// A disk whose writing was interrupted cannot be found, or was written since.
    #[error("change {change} was interrupted while it wrote to {disk}: {why}")]
    Disk {
        /// The change's number.
        change: u64,
        /// The disk's path then.
        disk: SystemPath,
        /// The reason.
        why: String,
    },
    /// Another process is changing the machine.
    #[error("another veritum is running on this machine")]
    Busy,
    /// Another change was made between examining the changes and locking.
    #[error("another change was made in the meantime; nothing was changed by this one")]
    Overtaken,
    /// A package tool is running.
    #[error("a package manager is running on this machine ({path} is locked)")]
    PackageTool {
        /// Its lock file.
        path: SystemPath,
    },
    /// A service cannot be stopped; nothing was changed.
    #[error("cannot stop {unit} during change {change}; nothing was changed")]
    Service {
        /// The change's number.
        change: u64,
        /// The unit.
        unit: String,
        /// The cause.
        source: ServiceError,
    },
    /// A stopped service cannot be restored.
    #[error("{unit} was stopped during change {change} and cannot be started again")]
    ServiceHeld {
        /// The change's number.
        change: u64,
        /// The unit.
        unit: String,
        /// The cause.
        source: ServiceError,
    },
    /// Locking out the package tools needs more rights.
    #[error("{path} cannot be locked without root permissions; nothing was changed")]
    NoRights {
        /// Their lock file.
        path: SystemPath,
    },
    /// An earlier change was interrupted.
    #[error("change {0} was interrupted and is unfinished")]
    Earlier(u64),
    /// The supply failed.
    #[error("the store cannot provide the contents")]
    Source(#[from] StoreError),
    /// The observer stopped the run; nothing was changed.
    #[error("interrupted; everything was rolled back")]
    Stopped,
}
