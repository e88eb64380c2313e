//! [`DebError`]: why a package is rejected.

use std::io;

use crate::model::PathError;

/// Why a package cannot be taken.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum DebError {
    /// It cannot be read, or ends too early.
    #[error("the .deb file cannot be read")]
    Read(#[from] io::Error),
    /// It is not shaped as a package.
    #[error("not a valid .deb file: {0}")]
    Shape(String),
    /// It is larger than is sensible.
    #[error("the .deb file exceeds a size limit: {0}")]
    TooLarge(&'static str),
    /// A name in it is not one that may be taken.
    #[error("the .deb file contains an invalid path: {name}")]
    Name {
        /// The name as text.
        name: String,
        /// Why not.
        source: PathError,
    },
    /// The sink stopped it.
    #[error("stopped")]
    Stopped,
}

pub(super) fn shape<T>(what: impl Into<String>) -> Result<T, DebError> {
    Err(DebError::Shape(what.into()))
}
