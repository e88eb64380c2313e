//! What Veritum reads and verifies with: the machine as files, foreign formats, trust, stores and repositories.
//!
//! Like all below the command line it never prints, never asks, and never reads its surroundings. A module uses only modules before
//! it, in this order: [`model`], [`event`], [`machine`], [`formats`], [`apps`], [`platform`], [`trust`], [`store`], [`scan`],
//! [`repository`]. The caller that uses `veritum_core` finds them there.
#![cfg_attr(not(feature = "testkit"), forbid(unsafe_code))]
#![warn(clippy::unwrap_used)]

pub mod apps;
pub mod event;
pub mod formats;
pub mod machine;
pub mod model;
pub mod platform;
pub mod repository;
pub mod scan;
pub mod store;
#[cfg(any(feature = "testkit", test))]
pub mod testkit;
pub mod trust;
