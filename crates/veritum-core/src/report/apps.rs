//! What is told of applications.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::model::{ComponentId, SystemPath};

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
    /// The component that it belongs to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub component: Option<ComponentId>,
    /// Who makes or packages it, by the component's own words.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub vendor: Option<String>,
    /// Whether menus show it.
    pub shown: bool,
    /// How it stands.
    pub state: AppState,
    /// Problems of its component in the last check.
    pub problems: u64,
    /// Why its desktop entry cannot be used.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trouble: Option<String>,
}

/// How an application stands, by the last check of the whole machine and by what is recorded of its component.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum AppState {
    /// Nothing wrong was found in its component.
    Sound,
    /// Something was.
    Problems,
    /// Its component was installed or updated since.
    ChangedSince,
    /// Its installation was begun and not finished.
    Incomplete,
    /// It was not looked at yet.
    Unchecked,
    /// It belongs to no component: nothing tells what it should be.
    Unowned,
}

impl AppState {
    /// The word for people.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Sound => "sound",
            Self::Problems => "problems",
            Self::ChangedSince => "changed since",
            Self::Incomplete => "incomplete",
            Self::Unchecked => "not checked",
            Self::Unowned => "of no component",
        }
    }
}
