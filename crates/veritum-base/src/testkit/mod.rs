//! For tests of every crate: a disk that fails, stops, or loses what was not synced, a comparison of trees that
//! shares no code with what it judges, and samples with damage.

mod disk;
mod mutate;
mod tree;

pub use disk::{Accident, Lack, TestDisk};
pub use mutate::mutated;
pub use tree::{Thing, Tree};
