//! The area `files`: every owned file, link and folder against its reference.
//!
//! `look` compares and observes, [`Parents`] judges the folders on the way before anything below them is believed, `judge`
//! judges one thing at a time, `plan` says what a repair would do.

mod causes;
mod folders;
mod judge;
mod locations;
mod look;
mod meta;
mod plan;
mod states;
mod stray;

pub use folders::{Block, Move, Parents, Placement};
pub use look::{Case, Fault, FilesCheck, Seen, Unexamined, check_files};
pub use plan::{Availability, FileRules, needed_components, plan_files};
pub use states::expected_state;
