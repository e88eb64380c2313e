//! Parsers of foreign formats: pure, with limits for every size. Other modules read the files.

pub mod boot;
pub mod deb;
pub mod deb822;
pub mod desktop_entry;
pub mod kernel_module;
pub mod keyfile;
pub mod module_index;
pub(crate) mod numbers;
pub mod program;
