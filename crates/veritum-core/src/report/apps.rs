//! The documents about applications.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::RunningApp;
use crate::apps::Class;
use crate::model::{Finding, PackageId, SystemPath};

/// What `list apps` prints (`veritum.apps/1`).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct AppsReport {
    /// `veritum.apps/1`.
    pub format: String,
    /// The time of the last check of the whole machine, RFC 3339 in UTC; states are as of that time.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub checked: Option<String>,
    /// The applications, sorted by name.
    pub apps: Vec<AppLine>,
}

impl AppsReport {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.apps/1";
}

/// One application.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct AppLine {
    /// Its name in its desktop entry; its id where that cannot be read.
    pub name: String,
    /// Its id, for `app:ID`: the name of its desktop entry.
    pub id: String,
    /// Its desktop entry.
    pub entry: SystemPath,
    /// Its package.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub package: Option<PackageId>,
    /// Its vendor, by the package's own fields.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub vendor: Option<String>,
    /// Whether menus show it.
    pub shown: bool,
    /// Its state.
    pub state: AppState,
    /// Problems of its package at the last check.
    pub problems: u64,
    /// Why its desktop entry cannot be used.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trouble: Option<String>,
    /// Its disk usage, if requested.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sizes: Option<AppSizes>,
}

/// The disk usage of an application, in bytes.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct AppSizes {
    /// Its package, as declared; without its dependencies.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub installed: Option<u64>,
    /// Data that it creates again, in all homes.
    pub cache: u64,
    /// Its settings and state, in all homes.
    pub settings: u64,
    /// User data, in all homes.
    pub own: u64,
}

/// What `explain app:NAME` prints (`veritum.app/1`).
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct AppReport {
    /// `veritum.app/1`.
    pub format: String,
    /// The application.
    pub app: AppLine,
    /// The program that it starts.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub program: Option<String>,
    /// Packages that it depends on, its own among them.
    pub rests_on: Vec<String>,
    /// What prevents the desktop from starting it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub finding: Option<Finding>,
    /// Its data in a home, by its card.
    pub card: CardReport,
    /// Its data found in the homes of login users; only homes with data.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub homes: Vec<HomeReport>,
}

impl AppReport {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.app/1";
}

/// An application's data in one home.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct HomeReport {
    /// The user.
    pub user: String,
    /// The parts, in the order of their classes.
    pub parts: Vec<HomePart>,
    /// Files with work that was not saved yet, relative to the home, as `path` in `left`; not more than a hundred.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub unsaved: Vec<String>,
    /// Its processes that run for this user, with the user's files that they have open.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub running: Vec<RunningApp>,
    /// What was left out, relative to the home, and why.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub left: Vec<HomeLeft>,
    /// Why the home could not be examined.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trouble: Option<String>,
}

/// Data of one class in a home.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct HomePart {
    /// Its class.
    pub class: Class,
    /// The user's name for it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub what: Option<String>,
    /// Files, symlinks and other objects that are not folders.
    pub files: u64,
    /// Their sizes in bytes.
    pub bytes: u64,
}

/// Something that was left out.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct HomeLeft {
    /// Its path relative to the home; bytes that are not UTF-8 as `\xHH`, a backslash as `\\`.
    pub path: String,
    /// The reason.
    pub why: String,
}

/// An application's data in a home, and the origin of the description.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct CardReport {
    /// The origin.
    pub from: CardOrigin,
    /// Names of its processes.
    pub programs: Vec<String>,
    /// The parts, in the order of their classes.
    pub parts: Vec<PartReport>,
}

/// The origin of a description.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum CardOrigin {
    /// A built-in card.
    BuiltIn,
    /// A card of the administrator's.
    Administrator,
    /// No card: the base directories; unknown files count as user data.
    NoCard,
}

/// Places of one class.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct PartReport {
    /// The class.
    pub class: Class,
    /// The user's name for it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub what: Option<String>,
    /// The places, as a card names them.
    pub places: Vec<String>,
}

/// The state of an application, by the last check of the whole machine and by the package database.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum AppState {
    /// No problem was found in its package.
    Ok,
    /// A problem was found in its package.
    Damaged,
    /// Its package was installed or updated since the check.
    ChangedSince,
    /// Its installation is unfinished.
    Incomplete,
    /// It was not checked yet.
    Unchecked,
    /// It belongs to no package: there is no reference.
    Unowned,
}

impl AppState {
    /// The word for people.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Ok => "ok",
            Self::Damaged => "damaged",
            Self::ChangedSince => "changed since",
            Self::Incomplete => "incomplete",
            Self::Unchecked => "not checked",
            Self::Unowned => "not owned by a package",
        }
    }
}
