//! Host paths, quoted for a shell.

use std::path::Path;

use veritum_core::model::quoted;
use veritum_core::store::Location;

/// A host path as a shell reads it.
pub(crate) fn shown(path: &Path) -> String {
    use std::os::unix::ffi::OsStrExt as _;
    quoted(path.as_os_str().as_bytes())
}

/// A store's location as a shell reads it.
pub(crate) fn place(location: &Location) -> String {
    match location {
        Location::Folder(folder) => shown(folder),
        Location::Url(url) => quoted(url.as_bytes()),
    }
}
