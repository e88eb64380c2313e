//! Savepoints: recorded states of the system, without users' data, that it can be returned to.
//!
//! ```text
//! STATE/savepoints/N        the head of savepoint N: when, why, and of which parts it consists (`veritum.savepoint/1`)
//! STATE/savepoints/parts/   the parts, named by their BLAKE3 digests: entries as JSON lines, compressed, shared by all savepoints
//! STATE/kept/pool/          contents by BLAKE3 digest, of the state folder's own file system
//! MOUNT/.veritum-kept/pool/ the same for each other file system
//! ```
//!
//! A content costs nothing as long as the system has it, too: it is a clone where the file system shares blocks, otherwise a hard
//! link to a package's file. dpkg replaces files by rename, so the inode with the earlier content stays. Files that are changed
//! in place are copied. A name in the pool is only ever created, read and removed: owner, mode, times and attributes are those of the
//! manifest, since any change of the inode would change the running system.

mod between;
mod index;
mod keep;
mod large;
mod linkable;
mod list;
mod make;
mod manifest;
mod merged;
mod parts;
mod places;
mod pool;
mod pools;
mod prune;
mod read;
mod renew;
mod returning;
mod walk;

pub use between::{config_changes, config_changes_until_now, package_changes};
pub use list::{SavepointSummary, summaries};
pub use make::{Made, Making, Reason, make, make_room};
pub use manifest::{Entry, InstalledPackage, What, read_part};
pub use parts::{Head, Savepoints};
pub use places::{Coverage, HOOK, excluded, excluded_places};
pub use pools::Pools;
pub use read::{SystemRead, read_system};
pub use renew::{WrittenFile, renew};
pub use returning::{LostContent, ReturnCase, ReturnPlan, ReturnWanted, plan_return};

use std::io;

use crate::change::ChangeError;
use crate::model::SystemPath;

/// Why a savepoint cannot be made or used.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum SavepointError {
    /// Locks, the state folder or free space.
    #[error(transparent)]
    Change(#[from] ChangeError),
    /// The disk failed; no savepoint was made.
    #[error("{place} cannot be used")]
    Io {
        /// The path on the machine, or in the state folder.
        place: String,
        /// The cause.
        source: io::Error,
    },
    /// A savepoint cannot be read.
    #[error("savepoint {number} is damaged: {what}")]
    Damaged {
        /// Its number.
        number: u64,
        /// What is wrong.
        what: String,
    },
    /// A savepoint has the format of a newer version.
    #[error("savepoint {number} was made by a newer Veritum ({format})")]
    Newer {
        /// Its number.
        number: u64,
        /// Its format.
        format: String,
    },
    /// A package cannot return alone.
    #[error(
        "{by} diverts {place}, and that file changed since: return the whole system, or also the package of the file if it is another version"
    )]
    Diverted {
        /// The package with the diversion.
        by: String,
        /// The diverted path.
        place: SystemPath,
    },
    /// A part of the system cannot return.
    #[error("the file system of {0} is not mounted, so its files cannot return")]
    NotMounted(SystemPath),
    /// The observer stopped the run; no savepoint was made.
    #[error("interrupted; no savepoint was made")]
    Stopped,
}

impl SavepointError {
    fn at(place: &SystemPath) -> impl Fn(io::Error) -> Self + '_ {
        |source| Self::Io { place: place.to_string(), source }
    }
}
