//! The documents of `rescue`.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::model::SystemPath;

/// What a file in a home is to its user, in the order in which files are copied.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum DataKind {
    /// What a person wrote or collected: everything visible that is not one of the following, and documents anywhere else.
    Documents,
    /// Mail, addresses and calendars.
    Mail,
    /// Keys, certificates, passwords and wallets.
    Keys,
    /// Settings of applications, and what users keep in them: bookmarks, histories, templates.
    Profiles,
    /// Pictures, music and films.
    Media,
    /// What can usually be downloaded again: installers, images of disks, packed files.
    Other,
    /// What was deleted, and is still in a trash folder.
    Trash,
    /// What applications create again.
    Caches,
}

impl DataKind {
    /// All, in the order in which they are copied.
    pub const ALL: [Self; 8] =
        [Self::Documents, Self::Mail, Self::Keys, Self::Profiles, Self::Media, Self::Other, Self::Trash, Self::Caches];

    /// The word for people, on the command line and in JSON.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Documents => "documents",
            Self::Mail => "mail",
            Self::Keys => "keys",
            Self::Profiles => "profiles",
            Self::Media => "media",
            Self::Other => "other",
            Self::Trash => "trash",
            Self::Caches => "caches",
        }
    }
}

/// The number of files and their bytes.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Count {
    /// Files and symlinks.
    pub files: u64,
    /// The sizes of the files in bytes.
    pub bytes: u64,
}

/// What `rescue` copied (`veritum.rescue/1`).
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct RescueReport {
    /// `veritum.rescue/1`.
    pub format: String,
    /// The folder with the copies and their manifest.
    pub destination: String,
    /// Whether it was only shown.
    pub plan_only: bool,
    /// The homes.
    pub homes: Vec<RescuedHome>,
    /// What was to be copied, without what an earlier run has copied.
    pub wanted: Count,
    /// The bytes that are written for it.
    pub needed_bytes: u64,
    /// The free bytes at the destination, before.
    pub free_bytes: u64,
    /// What an earlier run has copied.
    pub known: Count,
    /// What was copied, read back from the medium and compared.
    pub copied: Count,
    /// Files of which parts cannot be read: copied with zeros there.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub incomplete: Vec<IncompleteFile>,
    /// What was not copied.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub missing: Vec<MissingFile>,
    /// Files that were changed while they were copied.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub changed_meanwhile: Vec<SystemPath>,
    /// Files that have another name at the destination; the manifest records both.
    pub renamed: u64,
    /// Symlinks that only the manifest records.
    pub only_recorded: u64,
    /// Pipes, sockets and devices: they have no content.
    pub special: u64,
    /// What the destination's file system cannot keep: the manifest records it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub not_kept: Vec<String>,
    /// Whether the destination is on the same file system as the homes.
    pub same_disk: bool,
    /// What to know of the source.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub limits: Vec<String>,
    /// Whether it was interrupted.
    pub stopped: bool,
    /// Why the destination accepted nothing more.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failed: Option<String>,
    /// The duration in seconds.
    pub seconds: f64,
}

impl RescueReport {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.rescue/1";

    /// Whether there is enough free space.
    #[must_use]
    pub fn fits(&self) -> bool {
        self.needed_bytes <= self.free_bytes
    }

    /// Whether all that was wanted is at the destination, or can be copied there.
    #[must_use]
    pub fn is_complete(&self) -> bool {
        let homes = self.homes.iter().all(|home| home.trouble.is_none());
        let fits = self.fits() || !self.plan_only;
        homes && fits && self.missing.is_empty() && self.incomplete.is_empty() && !self.stopped && self.failed.is_none()
    }
}

/// One home.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct RescuedHome {
    /// The user.
    pub user: String,
    /// Its path on the machine; `null` if it could not be opened.
    pub home: Option<SystemPath>,
    /// What is in it.
    pub kinds: Vec<KindCount>,
    /// Why nothing was copied.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trouble: Option<String>,
}

/// The files of one kind in a home.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct KindCount {
    /// The kind.
    pub kind: DataKind,
    /// Their number and sizes.
    #[serde(flatten)]
    pub count: Count,
    /// Whether they are copied.
    pub selected: bool,
}

/// A file of which parts cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct IncompleteFile {
    /// Its user.
    pub user: String,
    /// Its path on the machine.
    pub path: SystemPath,
    /// Its path below the destination.
    pub stored: Option<SystemPath>,
    /// Its size in bytes.
    pub size: u64,
    /// The parts that cannot be read, from and to in bytes.
    pub gaps: Vec<(u64, u64)>,
}

impl IncompleteFile {
    /// The bytes that cannot be read.
    #[must_use]
    pub fn unreadable(&self) -> u64 {
        self.gaps.iter().map(|(from, to)| to.saturating_sub(*from)).sum()
    }
}

/// A file that was not copied.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct MissingFile {
    /// Its user.
    pub user: String,
    /// Its path on the machine.
    pub path: SystemPath,
    /// The reason.
    pub why: String,
}

/// What `rescue --verify` found (`veritum.rescue-verify/1`).
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct RescueVerifyReport {
    /// `veritum.rescue-verify/1`.
    pub format: String,
    /// The folder with the copies and their manifest.
    pub destination: String,
    /// The name of the machine they come from.
    pub from: String,
    /// When the first of them were copied, RFC 3339 in UTC.
    pub since: String,
    /// What is as the manifest says.
    pub intact: Count,
    /// Files that were copied with gaps, and are as the manifest says.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub incomplete: Vec<IncompleteFile>,
    /// Symlinks that only the manifest records.
    pub only_recorded: u64,
    /// What is not as the manifest says, by its path at the destination.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub problems: Vec<MissingFile>,
    /// The number of damaged lines of the manifest.
    pub damaged_lines: u64,
    /// Whether it was interrupted.
    pub stopped: bool,
}

impl RescueVerifyReport {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.rescue-verify/1";
}

/// What `rescue --back` restored (`veritum.rescue-back/1`).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct RescueBackReport {
    /// `veritum.rescue-back/1`.
    pub format: String,
    /// The folder with the copies and their manifest.
    pub source: String,
    /// The name of the machine they come from.
    pub from: String,
    /// Whether it was only shown.
    pub plan_only: bool,
    /// The homes.
    pub homes: Vec<BackHome>,
    /// The number of damaged lines of the manifest: their files are not restored.
    pub damaged_lines: u64,
    /// Whether it was interrupted.
    pub stopped: bool,
}

impl RescueBackReport {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.rescue-back/1";

    /// Whether all that was wanted is in the homes, or can be restored there.
    #[must_use]
    pub fn is_complete(&self) -> bool {
        let whole = |home: &BackHome| home.trouble.is_none() && home.missing.is_empty() && home.incomplete.is_empty();
        !self.stopped && self.damaged_lines == 0 && self.homes.iter().all(whole)
    }
}

/// What was restored in one home.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct BackHome {
    /// The user.
    pub user: String,
    /// The home; `null` if it could not be opened.
    pub home: Option<SystemPath>,
    /// The numbers of the changes: `undo` takes them back.
    pub changes: Vec<u64>,
    /// What was to be restored.
    pub wanted: Count,
    /// Those of these that replace another version of the file, which is set aside.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub replaced: Vec<SystemPath>,
    /// The free bytes on the home's file system, before.
    pub free_bytes: u64,
    /// What was restored.
    pub restored: Count,
    /// What was there already.
    pub same: Count,
    /// What was left as it is, because it is newer than its copy.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub newer: Vec<SystemPath>,
    /// What was left as it is, because its copy is not complete.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub whole: Vec<SystemPath>,
    /// Files with gaps, by the names that they get.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub incomplete: Vec<SystemPath>,
    /// What cannot be restored.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub missing: Vec<MissingFile>,
    /// Why nothing, or nothing more, was restored.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trouble: Option<String>,
}

/// What `rescue --image` copied (`veritum.rescue-image/1`).
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct RescueImageReport {
    /// `veritum.rescue-image/1`.
    pub format: String,
    /// The disk.
    pub source: String,
    /// The image.
    pub image: String,
    /// The size of both in bytes.
    pub size: u64,
    /// The bytes that were read in this run.
    pub read_bytes: u64,
    /// Whether an earlier run had begun it.
    pub resumed: bool,
    /// The parts that cannot be read, from and to in bytes: zeros are in the image there.
    pub unreadable: Vec<(u64, u64)>,
    /// The parts that were not read yet, from and to in bytes.
    pub pending: Vec<(u64, u64)>,
    /// Whether it was interrupted.
    pub stopped: bool,
    /// Why the image cannot be written further.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failed: Option<String>,
    /// The duration in seconds.
    pub seconds: f64,
}

impl RescueImageReport {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.rescue-image/1";

    /// The bytes of parts.
    #[must_use]
    pub fn bytes_of(ranges: &[(u64, u64)]) -> u64 {
        ranges.iter().map(|(from, to)| to.saturating_sub(*from)).sum()
    }
}

/// What was deleted and is still there (`veritum.rescue-deleted/1`).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct RescueDeletedReport {
    /// `veritum.rescue-deleted/1`.
    pub format: String,
    /// What is still there, the latest first.
    pub deleted: Vec<DeletedItem>,
    /// Files that were deleted otherwise, and that ext4's journal still describes: the most valuable first, and of these the latest. Only of
    /// disks that are not mounted.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub lost: Vec<LostItem>,
    /// Whether that was looked for.
    pub journals_read: bool,
    /// Homes that could not be opened, and other limits.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub limits: Vec<String>,
}

impl RescueDeletedReport {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.rescue-deleted/1";
}

/// A file that was deleted, as the file system's journal still describes it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct LostItem {
    /// Its user.
    pub user: String,
    /// Its path in the home, as it is copied with `--to`.
    pub path: SystemPath,
    /// Where it was, from the root of its file system, if that is known.
    pub was: Option<SystemPath>,
    /// The number of its inode.
    pub inode: u32,
    /// What it was to its user.
    pub kind: DataKind,
    /// Its size in bytes.
    pub size: u64,
    /// When its content was changed, RFC 3339 in UTC.
    pub changed: String,
    /// When it was deleted, RFC 3339 in UTC, if that is known.
    pub at: Option<String>,
    /// What its content is, by its beginning: a media type (RFC 6838).
    pub content: Option<String>,
    /// Whether what was written at its beginning is nothing but zeros: the disk may have erased it.
    pub erased: bool,
    /// The bytes in blocks that something else uses now.
    pub lost_bytes: u64,
    /// Whether the places of all of its content are known, and nothing else is known to use them now. They can have been used meanwhile.
    pub whole: bool,
}

/// A file or folder that was deleted, or set aside by Veritum.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct DeletedItem {
    /// Its user.
    pub user: String,
    /// Where it is now.
    pub place: SystemPath,
    /// Where it was, if that is recorded.
    pub was: Option<SystemPath>,
    /// When it was deleted, in local time, if that is recorded.
    pub at: Option<String>,
    /// Whether Veritum set it aside.
    pub set_aside: bool,
    /// Its files.
    #[serde(flatten)]
    pub count: Count,
}
