//! Finds the card of each application.

use super::App;
use crate::apps::{Card, Cards, cautious, cautious_sandboxed};
use crate::homes::cards_in;
use crate::report::CardOrigin;
use crate::system::{System, WorkError};

/// An application's card, and its origin.
///
/// # Errors
/// When a card of the administrator's cannot be used.
pub fn card_of(system: &System, app: &App) -> Result<(Card, CardOrigin), WorkError> {
    let id = app.entry.id.as_str();
    if let Some(folder) = &system.settings.cards
        && let Some(card) = cards_in(folder)?.get(id)
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
