//! What is an application's in a home, and what is the user's: application cards.
//!
//! A card says where an application keeps its settings, caches, state, locks and add-ons, and what of all that is the
//! user's own. Whatever no card names is the user's own. Pure: nothing here examines a disk.

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
