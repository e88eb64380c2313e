//! [`Scope`]: what to examine.

use std::path::PathBuf;

use super::{AreaName, FindingId, SystemPath};

/// What a scope covers that names nothing.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, PartialOrd, Ord)]
pub enum Reach {
    /// The areas that are compared with installed packages, and the areas on which those depend.
    #[default]
    Packages,
    /// Every area, without the network and users' homes.
    Local,
    /// Every area, with the network and users' homes, in full depth.
    Everything,
}

/// How much of the surface is read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SurfaceExtent {
    /// Every block that the file system uses.
    Used,
    /// Every block.
    All,
}

/// What the caller wants to be examined.
#[derive(Debug, Clone, Default)]
pub struct Scope {
    /// The areas that were named. If none was: all areas, or, if paths or packages were named, `files`.
    pub areas: Vec<AreaName>,
    /// Only these paths and everything below them; empty for all.
    pub paths: Vec<SystemPath>,
    /// Only these packages; empty for all.
    pub packages: Vec<String>,
    /// What was named by an area's selector, with that area: only these parts of it.
    pub selected: Vec<(AreaName, String)>,
    /// What it covers if it names nothing.
    pub reach: Reach,
    /// Whether a repair replaces all cached files, not only the damaged ones.
    pub everything: bool,
    /// Whether a repair has file systems checked at the next start although nothing was found.
    pub checks_at_start: bool,
    /// Whether a repair writes a partition table that is only proposed, by the file systems that were found.
    pub writes_table: bool,
    /// Problems that a repair does not answer, because what it would write did not prove.
    pub not_answered: Vec<FindingId>,
    /// How much of the surface of mounted file systems is read.
    pub surface: Option<SurfaceExtent>,
    /// The folder that users' files were copied to, if a repair needs that.
    pub rescued: Option<PathBuf>,
}

impl Scope {
    /// A whole area.
    #[must_use]
    pub fn only(area: AreaName) -> Self {
        Self { areas: vec![area], ..Self::default() }
    }

    /// Whether all files are examined, if files are.
    #[must_use]
    pub fn is_all(&self) -> bool {
        self.paths.is_empty() && self.packages.is_empty()
    }

    /// Whether nothing was named at all.
    #[must_use]
    pub fn is_whole(&self) -> bool {
        self.is_all() && self.areas.is_empty() && self.selected.is_empty()
    }

    /// Whether an area is examined in full depth: it or a part of it was named, or everything is included.
    #[must_use]
    pub fn is_deep(&self, area: &AreaName) -> bool {
        self.reach == Reach::Everything || self.names(area) || self.selected(area).next().is_some()
    }

    /// Whether an area was named.
    #[must_use]
    pub fn names(&self, area: &AreaName) -> bool {
        self.areas.contains(area)
    }

    /// The parts of an area that were named by its selector, such as `app:NAME`.
    pub fn selected<'a>(&'a self, area: &AreaName) -> impl Iterator<Item = &'a str> + use<'a> {
        let area = area.clone();
        self.selected.iter().filter(move |(of, _)| *of == area).map(|(_, name)| name.as_str())
    }
}
