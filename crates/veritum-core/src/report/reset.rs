//! What is reported of an application's things that are set aside.

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
    /// What it is called by in `app:ID`.
    pub id: String,
    /// Who says what it keeps.
    pub card: CardOrigin,
    /// Whether it was only shown.
    pub plan_only: bool,
    /// The homes in which it keeps something, or that could not be looked into.
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
    /// Where it is; none when it could not be opened.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub home: Option<SystemPath>,
    /// The change's number; none when nothing was changed there.
    pub change: Option<u64>,
    /// Where things were set aside.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub set_aside_in: Option<SystemPath>,
    /// What it keeps there by part, and what becomes of each.
    pub parts: Vec<ResetPart>,
    /// What is moved, each with its result.
    pub actions: Vec<ActionReport>,
    /// What something is in the way of.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub blocked: Vec<RefusalReport>,
    /// What was left out, below the home, and why.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub left: Vec<HomeLeft>,
    /// The application's processes of that user: while there are any, nothing is changed.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub running: Vec<RunningApp>,
    /// The proof that nothing of the user's own was touched.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub own: Option<OwnReport>,
    /// Why nothing was done there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trouble: Option<String>,
}

/// Things of one class in a home, and what becomes of them.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ResetPart {
    /// What they are to the application.
    pub class: Class,
    /// What they are to the user.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub what: Option<String>,
    /// Files, links and other things that are no folders.
    pub files: u64,
    /// Their bytes, as their sizes say.
    pub bytes: u64,
    /// Whether they are set aside, or stay.
    pub fate: Fate,
}

/// What becomes of a part.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Fate {
    /// It is set aside.
    SetAside,
    /// It stays.
    Stays,
}

/// A process of the application.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct RunningApp {
    /// Its number.
    pub pid: u32,
    /// Its name.
    pub name: String,
    /// Since when it runs, RFC 3339 in UTC.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub since: Option<String>,
    /// The user's own files that it has open.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub open: Vec<String>,
}

/// All that is a user's own in a home, before and after: everything but what was set aside, and caches.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct OwnReport {
    /// Files, links and other things that are no folders.
    pub files: u64,
    /// Their bytes, as their sizes say.
    pub bytes: u64,
    /// BLAKE3 over paths, kinds, sizes, modes, owners and times, and over contents where they were read: before.
    pub before: String,
    /// The same after.
    pub after: String,
    /// Whether contents were read too.
    pub contents: bool,
    /// Whether both are the same.
    pub unchanged: bool,
    /// What others changed meanwhile; the first hundred.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub differences: Vec<Difference>,
    /// How much others changed meanwhile.
    pub different: u64,
    /// Folders that could not be looked into, or on which another file system is mounted.
    pub unseen: u64,
    /// Files whose content was to be read and could not, or is too large.
    pub unread: u64,
}

/// Something of the user's own that is not as it was before.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Difference {
    /// Where, below the home; bytes that are not UTF-8 as `\xHH`, a backslash as `\\`.
    pub path: String,
    /// `gone`, `new` or `changed`.
    pub what: String,
}
