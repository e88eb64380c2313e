//! [`Scope`]: what was named to be looked at.

use super::{Area, SystemPath};

/// What the caller wants to be looked at.
#[derive(Debug, Clone, Default)]
pub struct Scope {
    /// The areas that were named; without any, all that are there, or, when paths or components are named, their files.
    pub areas: Vec<Area>,
    /// Only these paths and what lies below them; empty for all.
    pub paths: Vec<SystemPath>,
    /// Only these components; empty for all.
    pub components: Vec<String>,
    /// Only these applications, by their ids; empty for all.
    pub apps: Vec<String>,
}

impl Scope {
    /// Whether all files are looked at, when files are.
    #[must_use]
    pub fn is_all(&self) -> bool {
        self.paths.is_empty() && self.components.is_empty()
    }

    /// Whether nothing was named at all.
    #[must_use]
    pub fn is_whole(&self) -> bool {
        self.is_all() && self.areas.is_empty() && self.apps.is_empty()
    }

    /// Whether an area was named.
    #[must_use]
    pub fn names(&self, area: Area) -> bool {
        self.areas.contains(&area)
    }

    /// Whether an area is to be looked at.
    #[must_use]
    pub fn wants(&self, area: Area) -> bool {
        let named = match area {
            // Of a record nothing is known among the files.
            Area::Files => !self.components.is_empty() || self.paths.iter().any(|path| !is_record(path)),
            // A component is what its records say of it; and a record can be named by its path.
            Area::Records => self.areas.is_empty() && (!self.components.is_empty() || self.paths.iter().any(is_record)),
            Area::Apps => !self.apps.is_empty(),
            Area::Store | Area::Updates => false,
        };
        // Updates and applications are looked at when they are named.
        let by_itself = !matches!(area, Area::Updates | Area::Apps);
        self.is_whole() && by_itself || self.names(area) || named
    }
}

/// Whether a path lies in the package database.
fn is_record(path: &SystemPath) -> bool {
    path.is_within(&SystemPath::literal("/var/lib/dpkg"))
}
