//! [`AreaName`]: the name of a field of examination.

use std::borrow::Cow;

use serde::{Deserialize, Serialize};

/// The name of an area: its word on the command line, in JSON and in logs.
///
/// A string, so that results of newer versions can be read: the areas known to this version are in
/// `AREAS` of the core.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Default, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(transparent)]
pub struct AreaName(Cow<'static, str>);

impl AreaName {
    /// A name known at compile time.
    #[must_use]
    pub const fn new(name: &'static str) -> Self {
        Self(Cow::Borrowed(name))
    }

    /// The word.
    #[must_use]
    pub fn word(&self) -> &str {
        &self.0
    }
}
