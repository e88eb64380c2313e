//! [`Scope`]: what was named to be examined.

use super::{AreaName, SystemPath};

/// How far a scope reaches that names nothing.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, PartialOrd, Ord)]
pub enum Reach {
    /// The areas that are compared with installed packages, and what these depend on.
    #[default]
    Packages,
    /// Every area, without the network and users' homes.
    Local,
    /// Every area, with the network and users' homes, to its full depth.
    Everything,
}

/// What the caller wants to be examined.
#[derive(Debug, Clone, Default)]
pub struct Scope {
    /// The areas that were named; without any, all that are there, or, when paths or packages are named, their files.
    pub areas: Vec<AreaName>,
    /// Only these paths and what is below them; empty for all.
    pub paths: Vec<SystemPath>,
    /// Only these packages; empty for all.
    pub packages: Vec<String>,
    /// What was named by the selector of an area, with that area: only these of it.
    pub selected: Vec<(AreaName, String)>,
    /// How far a scope reaches that names nothing.
    pub reach: Reach,
    /// Whether a repair replaces all cached files, not only the damaged ones.
    pub everything: bool,
}

impl Scope {
    /// A whole area.
    #[must_use]
    pub fn only(area: AreaName) -> Self {
        Self { areas: vec![area], ..Self::default() }
    }

    /// Whether all files are examined, when files are.
    #[must_use]
    pub fn is_all(&self) -> bool {
        self.paths.is_empty() && self.packages.is_empty()
    }

    /// Whether nothing was named at all.
    #[must_use]
    pub fn is_whole(&self) -> bool {
        self.is_all() && self.areas.is_empty() && self.selected.is_empty()
    }

    /// Whether an area is to be examined to its full depth: it was named, something of it was, or everything is included.
    #[must_use]
    pub fn is_deep(&self, area: &AreaName) -> bool {
        self.reach == Reach::Everything || self.names(area) || self.selected(area).next().is_some()
    }

    /// Whether an area was named.
    #[must_use]
    pub fn names(&self, area: &AreaName) -> bool {
        self.areas.contains(area)
    }

    /// What of an area was named by its selector, as `app:NAME` is.
    pub fn selected<'a>(&'a self, area: &AreaName) -> impl Iterator<Item = &'a str> + use<'a> {
        let area = area.clone();
        self.selected.iter().filter(move |(of, _)| *of == area).map(|(_, name)| name.as_str())
    }
}
