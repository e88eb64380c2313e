//! Test helpers for every crate: a disk with faults, a comparison of trees that shares no code with the code under test,
//! and damaged samples.

mod device;
mod disk;
mod mutate;
mod tree;

pub use device::TestDevice;
pub use disk::{Accident, Lack, TestDisk};
pub use mutate::mutated;
pub use tree::{Thing, Tree};
