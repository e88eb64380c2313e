//! [`DebError`]: why a package is refused.

use std::io;

use crate::model::PathError;

/// Why a package is refused.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum DebError {
    /// It cannot be read, or is truncated.
    #[error("the .deb file cannot be read")]
    Read(#[from] io::Error),
    /// It is malformed.
    #[error("not a valid .deb file: {0}")]
    Shape(String),
    /// It exceeds a limit.
    #[error("the .deb file exceeds a size limit: {0}")]
    TooLarge(&'static str),
    /// It contains a forbidden path.
    #[error("the .deb file contains an invalid path: {name}")]
    Name {
        /// The path as text.
        name: String,
        /// The reason.
        source: PathError,
    },
    /// The sink stopped reading.
    #[error("stopped")]
    Stopped,
}

pub(super) fn shape<T>(what: impl Into<String>) -> Result<T, DebError> {
    Err(DebError::Shape(what.into()))
}
