//! Events that an observer receives; its answer decides whether the work continues.
//!
//! Events carry facts only, no text for people. After [`Flow::Stop`] the running loop ends at its next safe point and its
//! caller gets a "stopped" error; nothing is left half-done.

use crate::model::{Finding, SystemPath};

/// Whether the work continues.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Flow {
    /// Continue.
    Continue,
    /// Stop at the next safe point.
    Stop,
}

/// The part of the work that is running.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Phase {
    /// Reading the package database and the references.
    Reading,
    /// Asking repositories for their release files and indexes.
    Asking,
    /// Downloading the manifests of installed packages from a store on a web server; items are packages.
    Fetching,
    /// Downloading packages.
    Downloading,
    /// Unpacking packages, to learn which files belong where.
    Unpacking,
    /// Reading the metadata of a file system; items are its block groups.
    Metadata,
    /// Reading the blocks of a disk.
    Surface,
    /// Copying users' files to another disk; items are files.
    Rescuing,
    /// Comparing copied files with their manifest; items are files.
    ReadingBack,
    /// Listing the system's files for a savepoint.
    Walking,
    /// Reading the system's files for a savepoint.
    Recording,
    /// Comparing files with their reference.
    Comparing,
    /// Writing replacements next to their destinations.
    Staging,
    /// Exchanging replacements with what they replace.
    Exchanging,
    /// Moving replaced files to the backups.
    Keeping,
    /// Checking the changed files again.
    Confirming,
    /// Adding packages to a store.
    Filling,
    /// Verifying the contents of a store.
    Auditing,
    /// Repairing a store.
    Mending,
    /// Signing a store's metadata.
    Publishing,
    /// Reading downloaded packages; items are files.
    Downloads,
    /// Downloading package lists again; items are files.
    Lists,
    /// Searching users' homes; items are homes.
    Homes,
    /// Counting user data.
    Inventory,
    /// Observing whether programs that hold a lock are working.
    Watching,
}

/// An event.
#[derive(Debug, Clone, Copy)]
#[non_exhaustive]
pub enum Event<'a> {
    /// A part of the work begins.
    Begin {
        /// The part.
        phase: Phase,
        /// The number of items.
        items: u64,
        /// The number of bytes; 0 where it does not matter.
        bytes: u64,
    },
    /// Progress since the last such event.
    Advance {
        /// Items.
        items: u64,
        /// Bytes.
        bytes: u64,
    },
    /// The running part has ended.
    End,
    /// A finding.
    Found(&'a Finding),
    /// An action on a path took effect.
    Acted(&'a SystemPath),
    /// A change log record of that kind is durable.
    Recorded(&'a str),
}

/// Receives events, from several threads.
pub trait Observer: Sync {
    /// Receives one event and returns whether to continue.
    fn on_event(&self, event: Event<'_>) -> Flow;
}

/// Ignores every event and never stops the work.
#[derive(Debug, Clone, Copy, Default)]
pub struct NoObserver;

impl Observer for NoObserver {
    fn on_event(&self, _: Event<'_>) -> Flow {
        Flow::Continue
    }
}

/// Passes every event on and never stops the work: for work that can no longer be stopped.
#[derive(Clone, Copy)]
pub struct Uninterruptible<'a>(pub &'a dyn Observer);

impl Observer for Uninterruptible<'_> {
    fn on_event(&self, event: Event<'_>) -> Flow {
        let _ = self.0.on_event(event);
        Flow::Continue
    }
}
