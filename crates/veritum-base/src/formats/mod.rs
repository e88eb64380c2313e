//! Readers of foreign formats: pure, every size bounded. Other modules read the files themselves.

pub mod deb;
pub mod deb822;
pub mod desktop_entry;
pub mod keyfile;
