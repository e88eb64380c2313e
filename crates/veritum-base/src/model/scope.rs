//! [`Scope`]: what was named to be looked at.

use super::{AreaName, SystemPath};

/// What the caller wants to be looked at.
#[derive(Debug, Clone, Default)]
pub struct Scope {
    /// The areas that were named; without any, all that are there, or, when paths or components are named, their files.
    pub areas: Vec<AreaName>,
    /// Only these paths and what lies below them; empty for all.
    pub paths: Vec<SystemPath>,
    /// Only these components; empty for all.
    pub components: Vec<String>,
    /// What was named by the selector of an area, with that area: only these of it.
    pub selected: Vec<(AreaName, String)>,
    /// Whether a repair replaces all cached files, not only the damaged ones.
    pub everything: bool,
}

impl Scope {
    /// A whole area.
    #[must_use]
    pub fn only(area: AreaName) -> Self {
        Self { areas: vec![area], ..Self::default() }
    }

    /// Whether all files are looked at, when files are.
    #[must_use]
    pub fn is_all(&self) -> bool {
        self.paths.is_empty() && self.components.is_empty()
    }

    /// Whether nothing was named at all.
    #[must_use]
    pub fn is_whole(&self) -> bool {
        self.is_all() && self.areas.is_empty() && self.selected.is_empty()
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
