//! [`PackageId`]: a package's name, version and architecture.

use std::fmt;

use serde::{Deserialize, Serialize};

/// One version of a package: the unit that the system installs and updates.
///
/// Names follow Debian Policy 5.6.1 (package), 5.6.12 (version) and 5.6.8 (architecture).
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, schemars::JsonSchema)]
pub struct PackageId {
    /// The package name.
    pub name: String,
    /// The full version: epoch, upstream version and revision.
    pub version: String,
    /// The architecture; `all` for any.
    pub arch: String,
}

/// Why three words are not a package.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("'{word}' is not a valid {part} of a package")]
pub struct PackageIdError {
    part: &'static str,
    word: String,
}

impl PackageId {
    /// Validates the three words by the rules of Debian Policy.
    ///
    /// # Errors
    /// Names the invalid part. Valid words cannot escape a folder or forge a line.
    pub fn new(name: &str, version: &str, arch: &str) -> Result<Self, PackageIdError> {
        let check = |part, word: &str, allowed: fn(char) -> bool| {
            let shaped = !word.is_empty()
                && word.len() <= 200
                && word.starts_with(|c: char| c.is_ascii_alphanumeric())
                && word.chars().all(|c| c.is_ascii_alphanumeric() || allowed(c));
            if shaped {
                Ok(word.to_owned())
            } else {
                Err(PackageIdError { part, word: word.chars().take(80).collect() })
            }
        };
        Ok(Self {
            name: check("name", name, |c| "+-.".contains(c))?,
            version: check("version", version, |c| "+-.~:".contains(c))?,
            arch: check("architecture", arch, |c| c == '-')?,
        })
    }
}

impl fmt::Display for PackageId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {} ({})", self.name, self.version, self.arch)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_that_could_leave_a_folder_are_refused() {
        assert!(PackageId::new("libc6", "2.36-9+deb12u10", "amd64").is_ok());
        assert!(PackageId::new("perl", "5:1.0~rc1", "all").is_ok());
        for name in ["../x", "", "a/b", "a b", "-x", "a\nb"] {
            assert!(PackageId::new(name, "1", "all").is_err(), "{name:?}");
        }
        assert!(PackageId::new("a", "1/2", "all").is_err());
    }
}
