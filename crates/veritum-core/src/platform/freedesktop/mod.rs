//! What desktops of every maker share: the standards of freedesktop.org.
//!
//! Desktop Entry Specification 1.5, Desktop Menu Specification 1.1 (names of entries in subfolders), Base Directory
//! Specification 0.8.

mod apps;
mod entry;
mod keyfile;

pub use apps::{AppEntry, FOLDERS, applications};
pub use entry::{DesktopEntry, EntryError, Kind};
pub use keyfile::{KeyFile, KeyFileError};
