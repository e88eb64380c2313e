//! What Veritum reads and verifies with: the machine's files, foreign formats, trust, stores and repositories.
//!
//! Like everything below the command line, it never prints, prompts or reads its environment. A module uses only the modules before
//! it in this order: [`model`], [`event`], [`formats`], [`devices`], [`machine`], [`apps`], [`platform`], [`trust`], [`store`], [`scan`],
//! [`repository`]. `veritum_core` exports them again.
#![cfg_attr(not(feature = "testkit"), forbid(unsafe_code))]
#![warn(clippy::unwrap_used)]

pub mod apps;
pub mod devices;
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
