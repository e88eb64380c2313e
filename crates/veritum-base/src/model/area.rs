//! [`AreaName`]: a field of examination, by its name.

use std::borrow::Cow;

use serde::{Deserialize, Serialize};

/// The name of an area: its word on the command line, in JSON and in logs.
///
/// A string, so that what a newer version wrote can be read: the areas that are known here are in
/// `AREAS` of the core.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Default, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(transparent)]
pub struct AreaName(Cow<'static, str>);

impl AreaName {
    /// A name that is known when this is built.
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
