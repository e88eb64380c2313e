//! The administrator's application cards.

use std::path::Path;

use crate::apps::Cards;
use crate::model::error_chain;
use crate::system::WorkError;

/// Further cards in a folder are not read.
const MAX_CARDS: usize = 1000;
/// Larger files are not cards.
const MAX_BYTES: u64 = 48 << 10;

/// The cards of a folder, in the order of their file names: later ones take precedence.
///
/// # Errors
/// When one of them cannot be used.
pub fn cards_in(folder: &Path) -> Result<Cards, WorkError> {
    let fault = |path: &Path, why: String| WorkError::Card { path: path.to_owned(), why };
    let mut cards = Cards::default();
    let listed = std::fs::read_dir(folder).map_err(|e| fault(folder, e.to_string()))?;
    let mut paths: Vec<_> = listed.flatten().map(|entry| entry.path()).collect();
    paths.retain(|path| path.extension().is_some_and(|end| end == "toml"));
    paths.sort();
    for path in paths.into_iter().take(MAX_CARDS) {
        let meta = std::fs::metadata(&path).map_err(|e| fault(&path, e.to_string()))?;
        if !meta.is_file() || meta.len() > MAX_BYTES {
            return Err(fault(&path, "not a regular file, or too large".into()));
        }
        let text = std::fs::read_to_string(&path).map_err(|e| fault(&path, e.to_string()))?;
        cards.add(&text).map_err(|e| fault(&path, error_chain(&e)))?;
    }
    Ok(cards)
}
