//! For tests of every crate: a disk that fails, stops, or loses what was not synced, and a comparison of trees that
//! shares no code with what it judges.

mod disk;
mod tree;

pub use disk::{Accident, Lack, TestDisk};
pub use tree::{Thing, Tree};
