//! Reads the machine's files and digests them, in parallel: the state found, not the expected one.

mod contents;
#[cfg(test)]
mod example;
mod guard;
mod home;
mod inventory;
mod lanes;
mod observe;
mod profile;
mod question;
mod read_ahead;
mod readable;
mod remembered;
mod snapshot;
mod sums;

pub use contents::{FolderEntry, SMALL_FILE, SmallFile, entries, small_files};
pub use guard::HomeGuard;
pub use home::{AppData, AppDataItem, Choice, HomeCase, Tally, app_data};
pub use inventory::{InventoryAnswer, InventoryQuestion};
pub use observe::observe;
pub use profile::{Profile, ProfileFault, ProfileQuestion};
pub use question::{HomeAgent, HomeQuestion, HomeResponder, Question, WholeQuestion, ask};
pub use remembered::{ChangedTimes, KnownContent, Remembered, RememberedParts};
pub use snapshot::{Snapshot, SnapshotBuilder, Watch};
pub use sums::{Files, digest_files};

use std::collections::HashSet;

use crate::model::{Digest, Md5, Stat, SystemPath};

/// What to learn about a name.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Look {
    /// Its status; a symlink's target.
    Only,
    /// Also BLAKE3 of the content, if the size is this.
    Blake3 {
        /// A file of another size is not read: its content differs.
        size: u64,
    },
    /// Also MD5 of the content, if it is at most this large.
    Md5 {
        /// A larger file has another content: a sparse terabyte is not read for hours.
        most: u64,
    },
}

impl Look {
    /// The number of bytes to read, as far as known.
    #[must_use]
    pub fn bytes(&self) -> u64 {
        if let Self::Blake3 { size } = self { *size } else { 0 }
    }
}

/// A name to examine.
#[derive(Debug, Clone, Copy)]
pub struct Task<'a> {
    /// Its folder, a path without symlinks.
    pub folder: &'a SystemPath,
    /// The name.
    pub name: &'a [u8],
    /// What to learn.
    pub look: Look,
    /// Whether it is read from the medium rather than from the cache.
    pub fresh: bool,
}

/// What was found at a name.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Observation {
    /// It does not exist.
    Absent,
    /// It exists.
    There(Box<Found>),
    /// It cannot be examined or read with these rights.
    Forbidden,
    /// The run was interrupted before it was examined.
    NotReached,
    /// The medium reports errors. Boxed, as few files are unreadable, and a check holds a hundred thousand observations.
    Unreadable(Box<ReadFailure>),
}

/// A file that cannot be read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReadFailure {
    /// Its status, as far as it could be read.
    pub stat: Option<Stat>,
    /// The kernel's error.
    pub error: String,
}

/// An existing object.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Found {
    /// Its status.
    pub stat: Stat,
    /// A symlink's target.
    pub target: Option<Box<[u8]>>,
    /// The digest of its content, if requested; BLAKE3 only if the size matches.
    pub content: Option<ContentDigest>,
    /// Whether it carries file capabilities; only known for files that were opened.
    pub capabilities: bool,
    /// Whether another file system is mounted on this name.
    pub mounted_over: bool,
    /// Whether its content was not read because it is unchanged since the last full check.
    pub unread: bool,
}

impl Found {
    /// BLAKE3, if requested and the size matches.
    #[must_use]
    pub fn blake3(&self) -> Option<Digest> {
        if let Some(ContentDigest::Blake3(digest)) = self.content { Some(digest) } else { None }
    }

    /// MD5, if requested.
    #[must_use]
    pub fn md5(&self) -> Option<Md5> {
        if let Some(ContentDigest::Md5(md5)) = self.content { Some(md5) } else { None }
    }
}

/// The digest of a content, of the kind that was requested.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ContentDigest {
    /// BLAKE3.
    Blake3(Digest),
    /// MD5.
    Md5(Md5),
}

/// The observer stopped the run.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("stopped")]
pub struct Stopped;

/// How contents are read.
#[derive(Debug, Clone, Copy, Default)]
pub struct How<'a> {
    /// Places that were just written: what is at or below them is read from the medium rather than from the cache.
    pub written: Option<&'a HashSet<SystemPath>>,
    /// Earlier observations: unchanged files are not read.
    pub remembered: Option<&'a Remembered>,
    /// Whether the observations before a stop are returned; the others are [`Observation::NotReached`] then.
    pub partial: bool,
}

impl How<'_> {
    /// Whether a place is, or is below, one that was just written.
    #[must_use]
    pub fn was_written(&self, place: &SystemPath) -> bool {
        let Some(written) = self.written else { return false };
        std::iter::successors(Some(place.clone()), SystemPath::parent).any(|place| written.contains(&place))
    }
}

/// The number of bytes read.
#[must_use]
pub fn read_bytes(found: &Found) -> u64 {
    if !found.unread && found.content.is_some() { found.stat.size } else { 0 }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_written_is_read_from_the_medium_with_all_that_lies_below() {
        let written = [SystemPath::literal("/usr/share/quay")].into();
        let how = How { written: Some(&written), remembered: None, partial: false };
        assert!(how.was_written(&SystemPath::literal("/usr/share/quay/deep/one")));
        assert!(how.was_written(&SystemPath::literal("/usr/share/quay")));
        assert!(!how.was_written(&SystemPath::literal("/usr/share/quayside")));
        assert!(!How::default().was_written(&SystemPath::root()));
    }
}
