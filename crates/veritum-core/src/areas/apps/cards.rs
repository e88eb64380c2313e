//! Finds the card of each application.

use std::path::Path;

use super::App;
use crate::apps::{Card, Cards, cautious, cautious_sandboxed};
use crate::model::error_chain;
use crate::report::CardOrigin;
use crate::system::{System, WorkError};

/// Further cards in a folder are not read.
const MAX_CARDS: usize = 1000;
/// Larger files are not cards.
const MAX_BYTES: u64 = 48 << 10;

/// An application's card, and its origin.
///
/// # Errors
/// When a card of the administrator's cannot be used.
pub fn card_of(system: &System, app: &App) -> Result<(Card, CardOrigin), WorkError> {
    let id = app.entry.id.as_str();
    if let Some(folder) = &system.settings.cards
        && let Some(card) = in_folder(folder)?.get(id)
    {
        return Ok((card.clone(), CardOrigin::Administrator));
    }
    if let Some(card) = Cards::shipped().get(id) {
        return Ok((card.clone(), CardOrigin::BuiltIn));
    }
    if let Some(id) = app.sandbox() {
        return Ok((cautious_sandboxed(app.name(), id), CardOrigin::NoCard));
    }
    let package = app.package.as_ref().map(|id| id.name.as_str());
    Ok((cautious(app.name(), id, app.program(), package), CardOrigin::NoCard))
}

/// The cards of a folder, in the order of their file names: later ones take precedence.
fn in_folder(folder: &Path) -> Result<Cards, WorkError> {
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
