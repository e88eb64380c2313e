//! The only module that writes to the machine: atomically, undoable, recoverable after an interruption at any point.
//!
//! ```text
//! STATE/                 var/lib/veritum of the machine, or a folder that the administrator names (0700)
//!   lock                 held while something is changed
//!   reserve              4 MiB, given up when the disk is full, so that a change can still be undone
//!   changes/N/journal    what change N is going to do, and did
//!   changes.index        all of them in short, so that not each is read whole; may be deleted
//!   kept/N/ROUND-INDEX   what change N displaced
//! HOME/.veritum-set-aside/TIME-N/PATH   what change N displaced in a user's home, under the paths that it had there
//! ```
//!
//! Order of one round: obstacles and free space → *plan record* → stage next to the destinations → sync → *commit record* →
//! exchange → sync → move what was displaced to the backups → sync → *done record*. Before the commit record an
//! interruption means "none of it", after it "all of it"; [`recover`](recover::recover) brings about the one or the other.

mod aside;
mod attributes;
mod beside;
mod committed;
mod context;
mod displaced;
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

pub use beside::{Beside, LoggedResult};
pub use context::{ChangeContext, Locks};
pub use displaced::displaced;
pub use journal::{ChangeLog, JournalError, RoundLog};
pub use merge::Refusal;
pub use obstacles::Blocked;
pub use overview::{BadLog, ChangeSummary, Overview, Salvaged, latest_run, standings, unfinished};
pub use record::{Begin, ClearedFlags, HomeOf, ParentTime, Record, Verb};
pub use recover::{Recovered, recover};
pub use round::{OpenChange, RoundReceipt};
pub use standing::{Standing, Standings};
pub use state::{StateError, StateFolder};
pub use undo::{UndoPlan, UndoRound, plan_undo};

use std::io;

use crate::model::SystemPath;
use crate::platform::services::ServiceError;
use crate::store::StoreError;

/// Why a change cannot be made, or not finished.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ChangeError {
    /// The state folder cannot be used.
    #[error("cannot use the state folder")]
    State(#[from] StateError),
    /// A change log cannot be read or written.
    #[error("cannot read the log of change {change}")]
    Journal {
        /// Which change.
        change: u64,
        /// The source.
        source: JournalError,
    },
    /// There is not enough free space.
    #[error("{place} needs {} KiB more free space", missing.div_ceil(1024))]
    NoRoom {
        /// A place on that disk.
        place: SystemPath,
        /// Bytes that are missing.
        missing: u64,
    },
    /// Nothing can be set aside in a home; nothing was changed.
    #[error("cannot move anything aside in {home}")]
    NotAside {
        /// The home.
        home: SystemPath,
        /// The source.
        source: io::Error,
    },
    /// The disk failed; nothing was changed.
    #[error("the disk failed at {place}; everything was rolled back")]
    TakenBack {
        /// The place.
        place: SystemPath,
        /// The source.
        source: io::Error,
    },
    /// The disk failed, and what was begun could neither be finished nor be undone now.
    #[error("cannot finish change {change}")]
    Unfinished {
        /// Which change.
        change: u64,
        /// The source.
        source: io::Error,
    },
    /// Another process changes the machine.
    #[error("another veritum is running on this machine")]
    Busy,
    /// Another change was made between the examine the changes and the lock.
    #[error("another change was made in the meantime; nothing was changed by this one")]
    Overtaken,
    /// A package tool works on the machine.
    #[error("a package manager is running on this machine ({path} is locked)")]
    PackageTool {
        /// Its lock.
        path: SystemPath,
    },
    /// A service that is in the way cannot be held; nothing was changed.
    #[error("cannot stop {unit} during change {change}; nothing was changed")]
    Service {
        /// Which change.
        change: u64,
        /// Which unit.
        unit: String,
        /// The source.
        source: ServiceError,
    },
    /// A service that was held cannot be put back.
    #[error("{unit} was stopped during change {change} and cannot be started again")]
    ServiceHeld {
        /// Which change.
        change: u64,
        /// Which unit.
        unit: String,
        /// The source.
        source: ServiceError,
    },
    /// The package tools cannot be held off without more rights.
    #[error("{path} cannot be locked without root permissions; nothing was changed")]
    NoRights {
        /// Their lock.
        path: SystemPath,
    },
    /// An earlier change was interrupted.
    #[error("change {0} was interrupted and is unfinished")]
    Earlier(u64),
    /// The source failed.
    #[error("the store cannot provide the contents")]
    Source(#[from] StoreError),
    /// The observer interrupted the run; nothing was changed.
    #[error("interrupted; everything was rolled back")]
    Stopped,
}
