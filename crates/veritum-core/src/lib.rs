//! The core of Veritum.
#![cfg_attr(not(feature = "testkit"), forbid(unsafe_code))]

pub mod change;
pub mod check;
pub mod event;
pub mod history;
pub mod model;
pub mod plan;
pub mod platform;
pub mod report;
pub mod scan;
pub mod store;
pub mod target;
#[cfg(feature = "testkit")]
pub mod testkit;
pub mod trust;
pub mod work;
