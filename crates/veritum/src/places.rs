//! Paths of the host, quoted for a shell.

use std::path::Path;

use veritum_core::model::quoted;
use veritum_core::store::Location;

/// A path of the host as a shell reads it back.
pub(crate) fn shown(path: &Path) -> String {
    use std::os::unix::ffi::OsStrExt as _;
    quoted(path.as_os_str().as_bytes())
}

/// Where a store is, as a shell reads it back.
pub(crate) fn place(location: &Location) -> String {
    match location {
        Location::Folder(folder) => shown(folder),
        Location::Url(url) => quoted(url.as_bytes()),
    }
}
