//! Application cards: which data in a home is the application's, and which is the user's.
//!
//! A card lists an application's settings, caches, state, locks and add-ons, and the user data among them. Everything that
//! no card names is user data. Nothing here accesses a disk.

mod card;
#[cfg(test)]
pub(crate) mod example;
mod guard;
mod moved;
mod pattern;
mod shipped;

pub use card::{Card, CardError, Class, RawCard, UNSAVED_WORK};
pub use guard::looks_user_authored;
pub use pattern::{ASIDE, Base, Bases, Pattern, PatternError};
pub use shipped::{Cards, cautious, cautious_sandboxed};
