//! The only module that writes to the machine: atomically, undoable, recoverable after an interruption at any point.
//!
//! ```text
//! STATE/                 var/lib/veritum of the machine, or a folder that the operator names (0700)
//!   lock                 held while something is changed
//!   reserve              4 MiB, given up when the disk is full, so that a change can still be taken back
//!   changes/N/journal    what change N is going to do, and did
//!   changes.index        all of them in short, so that not each is read whole; may be deleted
//!   kept/N/ROUND-INDEX   what change N displaced
//! HOME/.veritum-set-aside/TIME-N/PATH   what change N displaced in a user's home, under the paths that it had there
//! ```
//!
//! Order of one round: obstacles and room → *plan record* → stage beside the destinations → sync → *commit record* →
//! exchange → sync → move what was displaced to the kept contents → sync → *done record*. Before the commit record an
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
    #[error("the state folder cannot be used")]
    State(#[from] StateError),
    /// A journal cannot be read or written.
    #[error("the journal of change {change} cannot be used")]
    Journal {
        /// Which change.
        change: u64,
        /// Why.
        source: JournalError,
    },
    /// There is not enough room.
    #[error("the disk of {place} lacks {} KiB", missing.div_ceil(1024))]
    NoRoom {
        /// A place on that disk.
        place: SystemPath,
        /// Bytes that are missing.
        missing: u64,
    },
    /// Nothing can be set aside in a home; nothing was changed.
    #[error("nothing can be set aside in {home}")]
    NotAside {
        /// Which.
        home: SystemPath,
        /// Why.
        source: io::Error,
    },
    /// The disk failed; nothing was changed.
    #[error("the disk failed at {place}; everything was taken back")]
    TakenBack {
        /// Where.
        place: SystemPath,
        /// Why.
        source: io::Error,
    },
    /// The disk failed, and what was begun could neither be finished nor be taken back now.
    #[error("change {change} could not be finished")]
    Unfinished {
        /// Which change.
        change: u64,
        /// Why.
        source: io::Error,
    },
    /// Another process changes the machine.
    #[error("another Veritum works on this machine")]
    Busy,
    /// Another change was made between the look at the changes and the lock.
    #[error("another change was made in the meantime; nothing was changed by this one")]
    Overtaken,
    /// A package tool works on the machine.
    #[error("a package tool works on this machine ({path} is locked)")]
    PackageTool {
        /// Its lock.
        path: SystemPath,
    },
    /// A service that is in the way cannot be held; nothing was changed.
    #[error("{unit} cannot be held for the time of change {change}; everything is as it was")]
    Service {
        /// Which change.
        change: u64,
        /// Which unit.
        unit: String,
        /// Why.
        source: ServiceError,
    },
    /// A service that was held cannot be put back.
    #[error("{unit} was held for the time of change {change} and cannot be put back")]
    ServiceHeld {
        /// Which change.
        change: u64,
        /// Which unit.
        unit: String,
        /// Why.
        source: ServiceError,
    },
    /// The package tools cannot be held off without more rights.
    #[error("{path} cannot be locked without more rights; nothing was changed")]
    NoRights {
        /// Their lock.
        path: SystemPath,
    },
    /// An earlier change was interrupted.
    #[error("change {0} was interrupted and is unfinished")]
    Earlier(u64),
    /// The source failed.
    #[error("the store cannot give what is needed")]
    Source(#[from] StoreError),
    /// The observer said stop; nothing was changed.
    #[error("stopped; everything was taken back")]
    Stopped,
}
