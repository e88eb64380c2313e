//! Facts reported to an observer that the caller passes in; its answer says whether to go on.
//!
//! Events carry facts only, no words for people. After [`Flow::Stop`] the long loop that asked ends at its next
//! safe point and its caller gets a "stopped" error; nothing half-done stays behind.

use crate::model::{Finding, SystemPath};

/// Whether to go on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Flow {
    /// Go on.
    Continue,
    /// End at the next safe point.
    Stop,
}

/// Which part of the work is under way.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Phase {
    /// Reading the machine's records and the reference.
    Reading,
    /// Asking repositories for their release files and indexes.
    Asking,
    /// Fetching what a store on a web server says of what is installed; items are packages.
    Fetching,
    /// Downloading packages.
    Downloading,
    /// Unpacking packages, to see what belongs where.
    Unpacking,
    /// Comparing files with their reference.
    Comparing,
    /// Writing replacements next to their destinations.
    Staging,
    /// Exchanging them.
    Exchanging,
    /// Moving what was displaced to the backups.
    Keeping,
    /// Checking again what was changed.
    Confirming,
    /// Taking packages into a store.
    Filling,
    /// Reading what a store holds, to see whether it is intact.
    Auditing,
    /// Putting a store right.
    Mending,
    /// Signing a store's metadata.
    Publishing,
    /// Reading packages that were downloaded; items are files.
    Downloads,
    /// Fetching the lists of updates again; items are files.
    Lists,
    /// Looking into users' homes; items are homes.
    Homes,
    /// Counting what is a user's own.
    Inventory,
    /// Watching whether those that hold a lock do anything.
    Watching,
}

/// A fact.
#[derive(Debug, Clone, Copy)]
#[non_exhaustive]
pub enum Event<'a> {
    /// A part of the work begins: so many items and bytes lie ahead.
    Begin {
        /// Which part.
        phase: Phase,
        /// Items in all.
        items: u64,
        /// Bytes in all, 0 when they do not matter.
        bytes: u64,
    },
    /// That much more is done.
    Advance {
        /// Items.
        items: u64,
        /// Bytes.
        bytes: u64,
    },
    /// The part under way has ended.
    End,
    /// Something was found.
    Found(&'a Finding),
    /// An action on a path took effect.
    Acted(&'a SystemPath),
    /// A change log record of that kind is safely on disk.
    Recorded(&'a str),
}

/// Listens to facts. Called from several threads.
pub trait Observer: Sync {
    /// Hears one fact and says whether to go on.
    fn on_event(&self, event: Event<'_>) -> Flow;
}

/// Hears everything, says nothing, always goes on.
#[derive(Debug, Clone, Copy, Default)]
pub struct NoObserver;

impl Observer for NoObserver {
    fn on_event(&self, _: Event<'_>) -> Flow {
        Flow::Continue
    }
}

/// Passes everything on and always goes on: for work that is past the point at which it can be stopped.
#[derive(Clone, Copy)]
pub struct Uninterruptible<'a>(pub &'a dyn Observer);

impl Observer for Uninterruptible<'_> {
    fn on_event(&self, event: Event<'_>) -> Flow {
        let _ = self.0.on_event(event);
        Flow::Continue
    }
}
