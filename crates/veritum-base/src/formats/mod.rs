//! Readers of foreign formats: pure, every size bounded. What a machine has of them is read elsewhere.

pub mod deb;
pub mod deb822;
pub mod desktop_entry;
pub mod keyfile;
