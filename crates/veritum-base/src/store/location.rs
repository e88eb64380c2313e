//! [`Location`]: the location of a store.

use std::ffi::OsStr;
use std::fmt;
use std::path::{Path, PathBuf};

/// The location of a store: a folder, or a web server that serves its files.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Location {
    /// A folder of the host.
    Folder(PathBuf),
    /// `http:` or `https:`, without a trailing slash.
    Url(String),
}

impl Location {
    /// Parses a URL or a folder; a relative path is relative to `base`.
    #[must_use]
    pub fn parse(text: &OsStr, from: &Path) -> Self {
        let url = text.to_str().filter(|t| t.starts_with("http://") || t.starts_with("https://"));
        match url {
            Some(url) => Self::Url(url.trim_end_matches('/').to_owned()),
            None => Self::Folder(from.join(text)),
        }
    }

    /// The folder, if it is one.
    #[must_use]
    pub fn folder(&self) -> Option<&Path> {
        match self {
            Self::Folder(folder) => Some(folder),
            Self::Url(_) => None,
        }
    }
}

impl From<PathBuf> for Location {
    fn from(folder: PathBuf) -> Self {
        Self::Folder(folder)
    }
}

impl fmt::Display for Location {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Folder(folder) => folder.display().fmt(f),
            Self::Url(url) => f.write_str(url),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_url_is_told_from_a_folder_and_a_relative_folder_is_meant_from_somewhere() {
        let of = |text: &str| Location::parse(OsStr::new(text), Path::new("/stick"));
        assert_eq!(of("https://store.example/desk/"), Location::Url("https://store.example/desk".into()));
        assert_eq!(of("store").folder(), Some(Path::new("/stick/store")));
        assert_eq!(of("/else/where").to_string(), "/else/where");
        assert_eq!(of("httpd").folder(), Some(Path::new("/stick/httpd")));
    }
}
