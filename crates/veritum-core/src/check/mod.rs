//! Comparing what is there with what should be. One file per area; pure where it can be.
//!
//! ```text
//! reference × observation -> findings
//! ```
//!
//! [`reference`](Reference) says what should be at each place and who answers for it; [`Parents`] judges the folders
//! on the way before anything below them is believed; `judge` judges one thing at a time.

mod apps;
mod causes;
mod expected;
mod files;
mod folders;
mod judge;
mod locations;
mod merge;
mod meta;
mod parts;
mod records;
mod reference;
mod states;
mod store;
mod stray;
mod subset;
mod updates;

pub(crate) use apps::{Icons, Integration, REGISTRY};
pub use expected::{Expected, ExpectedKind, Group, Meta, Owned, Policy, Scope};
pub use files::{Case, Fault, FilesCheck, Seen, Unexamined, check_files};
pub use folders::{Block, Move, Parents, Placement};
pub use records::{
    Holds, RecordContent, RecordFault, RecordFix, Unknown, judge_alternatives, judge_status, judge_tables,
    settings_text,
};
pub use reference::{ManifestSource, Origin, Reference};
pub use states::expected_state;
pub use store::{judge_store, superfluous_notes};
pub(crate) use updates::{
    Clock, Looked, Offers, TERM, TERM_TAIL, VerifiedDownload, Watched, advice, archives, begun_lists, binary_caches,
    downloaded, downloads, escaping_links, fetch_advice, folders, history, in_words, installs, last_success, lists,
    locks, needed_room, restart_note, room, services, settings, sources,
};
