//! The document of a reset.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{ActionReport, CardOrigin, HomeLeft, RefusalReport};
use crate::apps::Class;
use crate::model::SystemPath;

/// What `reset` did (`veritum.reset/1`).
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct ResetReport {
    /// `veritum.reset/1`.
    pub format: String,
    /// The application's name.
    pub name: String,
    /// Its id, for `app:ID`.
    pub id: String,
    /// The origin of the description of its data.
    pub card: CardOrigin,
    /// Whether it was only shown.
    pub plan_only: bool,
    /// The homes that have its data, or that could not be examined.
    pub homes: Vec<HomeReset>,
}

impl ResetReport {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.reset/1";
}

/// One home.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct HomeReset {
    /// The user.
    pub user: String,
    /// Its path; `None` when it could not be opened.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub home: Option<SystemPath>,
    /// The change's number; none when nothing was changed there.
    pub change: Option<u64>,
    /// The folder of what was set aside.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub set_aside_in: Option<SystemPath>,
    /// Its data by part, and what happens to each.
    pub parts: Vec<ResetPart>,
    /// What is moved, each with its result.
    pub actions: Vec<ActionReport>,
    /// Obstacles.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub blocked: Vec<RefusalReport>,
    /// What was left out, relative to the home, and why.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub left: Vec<HomeLeft>,
    /// The user's processes of the application: while there are any, nothing is changed.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub running: Vec<RunningApp>,
    /// The comparison of the user data before and after.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub own: Option<OwnReport>,
    /// Why nothing was done there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trouble: Option<String>,
}

/// Data of one class in a home, and what happens to it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ResetPart {
    /// The class.
    pub class: Class,
    /// The user's name for it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub what: Option<String>,
    /// Files, symlinks and other objects that are not folders.
    pub files: u64,
    /// Their sizes in bytes.
    pub bytes: u64,
    /// Whether it is set aside or kept.
    pub fate: Fate,
}

/// What happens to a part.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Fate {
    /// It is set aside.
    SetAside,
    /// It is kept.
    Stays,
}

/// A process of the application.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct RunningApp {
    /// Its process id.
    pub pid: u32,
    /// Its name.
    pub name: String,
    /// When it started, RFC 3339 in UTC.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub since: Option<String>,
    /// The user's files that it has open.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub open: Vec<String>,
}

/// The user data in a home, before and after: everything except what was set aside, and caches.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct OwnReport {
    /// Files, symlinks and other objects that are not folders.
    pub files: u64,
    /// Their sizes in bytes.
    pub bytes: u64,
    /// BLAKE3 of paths, types, sizes, modes, owners and times, and of contents if they were read: before.
    pub before: String,
    /// The same after.
    pub after: String,
    /// Whether contents were read too.
    pub contents: bool,
    /// Whether both are the same.
    pub unchanged: bool,
    /// Changes by other programs in the meantime; the first hundred.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub differences: Vec<Difference>,
    /// The number of changes by other programs.
    pub different: u64,
    /// Folders that could not be examined, or on which another file system is mounted.
    pub unseen: u64,
    /// Files whose content was to be read and could not, or is too large.
    pub unread: u64,
}

/// User data that differs from before.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Difference {
    /// Its path relative to the home; bytes that are not UTF-8 as `\xHH`, a backslash as `\\`.
    pub path: String,
    /// `gone`, `new` or `changed`.
    pub what: String,
}
