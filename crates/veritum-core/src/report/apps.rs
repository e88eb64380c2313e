//! What is reported of applications.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::apps::Class;
use crate::model::{Finding, PackageId, SystemPath};

/// What `list apps` prints (`veritum.apps/1`).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct AppsReport {
    /// `veritum.apps/1`.
    pub format: String,
    /// When the whole machine was last checked, RFC 3339 in UTC; what is said of states is from then.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub checked: Option<String>,
    /// The applications, in the order of their names.
    pub apps: Vec<AppLine>,
}

impl AppsReport {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.apps/1";
}

/// One application.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct AppLine {
    /// Its name, as its desktop entry has it; its id where that cannot be read.
    pub name: String,
    /// What it is called by in `app:ID`: the name of its desktop entry.
    pub id: String,
    /// Its desktop entry.
    pub entry: SystemPath,
    /// The package that it belongs to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub package: Option<PackageId>,
    /// Who makes or .deb files it, by the package's own words.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub vendor: Option<String>,
    /// Whether menus show it.
    pub shown: bool,
    /// How it is.
    pub state: AppState,
    /// Problems of its package in the last check.
    pub problems: u64,
    /// Why its desktop entry cannot be used.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trouble: Option<String>,
    /// How much it takes, where that was asked.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sizes: Option<AppSizes>,
}

/// How much an application takes, bytes.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct AppSizes {
    /// Its package installed, as that says itself; without what it depends on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub installed: Option<u64>,
    /// What it makes again by itself, in all homes.
    pub cache: u64,
    /// Its settings and the like, in all homes.
    pub settings: u64,
    /// What is the users' own there, in all homes.
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
    /// What keeps the desktop from starting it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub finding: Option<Finding>,
    /// What it keeps in a home.
    pub card: CardReport,
    /// What it does keep in the homes of those who log in; only those where there is something.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub homes: Vec<HomeReport>,
}

impl AppReport {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.app/1";
}

/// What an application keeps in one home.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct HomeReport {
    /// The user.
    pub user: String,
    /// The parts, in the order of the classes.
    pub parts: Vec<HomePart>,
    /// What was left out, below the home, and why.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub left: Vec<HomeLeft>,
    /// Why it could not be looked into.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trouble: Option<String>,
}

/// Things of one class in a home.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct HomePart {
    /// What they are to the application.
    pub class: Class,
    /// What they are to the user.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub what: Option<String>,
    /// Files, links and other things that are no folders.
    pub files: u64,
    /// Their bytes, as their sizes say.
    pub bytes: u64,
}

/// Something that was left out.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct HomeLeft {
    /// Where, below the home; bytes that are not UTF-8 as `\xHH`, a backslash as `\\`.
    pub path: String,
    /// The reason.
    pub why: String,
}

/// What an application keeps in a home, and who says so.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct CardReport {
    /// Who says so.
    pub from: CardOrigin,
    /// Names of its processes.
    pub programs: Vec<String>,
    /// The parts, in the order of the classes.
    pub parts: Vec<PartReport>,
}

/// Who says what an application keeps.
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
    /// What they are to the application.
    pub class: Class,
    /// What they are to the user.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub what: Option<String>,
    /// The places, as a card writes them.
    pub places: Vec<String>,
}

/// How an application is, by the last check of the whole machine and by what is recorded of its package.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum AppState {
    /// Nothing wrong was found in its package.
    Ok,
    /// Something was.
    Damaged,
    /// Its package was installed or updated since.
    ChangedSince,
    /// Its installation was begun and not finished.
    Incomplete,
    /// It was not examined yet.
    Unchecked,
    /// It belongs to no package: nothing says what it should be.
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
