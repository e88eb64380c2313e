//! The areas of examination, a module each.

pub mod apps;
pub mod files;
pub mod records;
pub mod store;
pub mod updates;
