//! A made-up machine in real formats: `.deb` files, a dpkg database, ELF programs, two users' homes.
//!
//! Everything is generated from a seed, with the same bytes each time. The company, the system, the programs and
//! the people do not exist. [`build`] makes all of it; [`FAULTS`] lists the kinds of damage.
#![warn(clippy::unwrap_used)]

pub mod boot_disk;
mod build;
mod elf;
mod faults;
mod homes;
mod machine;
pub mod mirror;
pub mod old_disk;
mod package;
pub mod repository;
mod seed;
pub mod signing;
mod small_disk;
mod sources;
mod spec;
pub mod test_home;
mod updates;
mod upgrade;
pub mod world;

pub use build::{BuildError, BuildOptions, Built, CARDS, build};
pub use faults::{FAULTS, Fault, apply, apply_to_store, by_name};
pub use package::{Content, Item, Package, write_deb};
pub use seed::Seed;
pub use updates::{apply_to_updates, services};

/// The time of the demo machine, in seconds since the epoch: 2026-03-04 07:30 UTC.
pub const NOW: i64 = 1_772_609_400;
/// When the store's signatures expire: 2126-01-01.
pub const EXPIRES: i64 = 4_922_899_200;
