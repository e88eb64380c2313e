//! [`SystemPath`]: an absolute path on the machine, as the machine itself knows it.

use std::collections::{HashMap, HashSet};
use std::fmt;
use std::sync::Arc;

use serde::{Deserialize, Deserializer, Serialize, Serializer};

use super::text::{from_readable, readable_or_same};

/// The longest path accepted from foreign bytes, as Linux's `PATH_MAX`.
const MAX_BYTES: usize = 4096;
/// Nearly all paths are shorter than this.
const SHORT: usize = 256;
/// The longest name, as Linux's `NAME_MAX`.
const MAX_NAME: usize = 255;

/// An absolute path on the machine: unchanged bytes, no `.`, no `..`, no empty names, no NUL.
///
/// It does not tell whether a folder in it is a symlink: the modules that open it decide that. Clones share their bytes: a
/// check of a whole system holds each of a hundred thousand paths in several lists.
#[derive(Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct SystemPath(Arc<[u8]>);

/// A map by path. Its hash is fast, with a seed of its own in each process: a check of a whole system looks
/// up a hundred thousand paths several times.
pub type PathMap<T> = HashMap<SystemPath, T, foldhash::fast::RandomState>;

/// A set of paths, with the hash of [`PathMap`].
pub type PathSet = HashSet<SystemPath, foldhash::fast::RandomState>;

/// Why some bytes are not a [`SystemPath`].
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum PathError {
    /// It does not begin with `/`.
    #[error("the path does not begin with '/'")]
    Relative,
    /// It contains `..`.
    #[error("the path contains '..'")]
    Climbs,
    /// It contains a NUL byte.
    #[error("the path contains a NUL byte")]
    Nul,
    /// The path or one of its names is longer than Linux allows.
    #[error("the path is longer than the system allows")]
    TooLong,
    /// Its text form contains an invalid escape.
    #[error("the path contains an invalid escape sequence")]
    Escape,
}

impl SystemPath {
    /// The machine's root folder.
    #[must_use]
    pub fn root() -> Self {
        Self(Arc::from(&b"/"[..]))
    }

    /// Parses an absolute path; repeated and trailing slashes and `.` are removed.
    ///
    /// # Errors
    /// When it is relative, contains `..`, is too long or contains a NUL.
    pub fn parse(bytes: &[u8]) -> Result<Self, PathError> {
        match bytes.strip_prefix(b"/") {
            Some(rest) => Self::below_root(rest),
            None => Err(PathError::Relative),
        }
    }

    /// Parses a name as packages write it: `./usr/bin/x`, `usr/bin/x` or `/usr/bin/x`.
    ///
    /// # Errors
    /// As [`SystemPath::parse`].
    pub fn below_root(bytes: &[u8]) -> Result<Self, PathError> {
        if bytes.len() > MAX_BYTES {
            return Err(PathError::TooLong);
        }
        // Nearly all names need no changes: one pass over the bytes, one allocation.
        if is_plain(bytes) {
            return Ok(Self(joined(b"/", bytes)));
        }
        let mut path = Vec::with_capacity(bytes.len() + 1);
        for name in bytes.split(|b| *b == b'/') {
            match name {
                b"" | b"." => continue,
                b".." => return Err(PathError::Climbs),
                _ if name.contains(&0) => return Err(PathError::Nul),
                _ if name.len() > MAX_NAME => return Err(PathError::TooLong),
                _ => {
                    path.push(b'/');
                    path.extend_from_slice(name);
                }
            }
        }
        if path.is_empty() {
            path.push(b'/');
        }
        Ok(Self(path.into()))
    }

    /// A path that is a constant in the source code.
    ///
    /// # Panics
    /// When the literal is not an absolute path: a programming error.
    #[must_use]
    pub fn literal(text: &'static str) -> Self {
        Self::parse(text.as_bytes()).expect("BUG: a literal path must be absolute")
    }

    /// The bytes, beginning with `/`.
    #[must_use]
    pub fn as_bytes(&self) -> &[u8] {
        &self.0
    }

    /// The bytes after the first `/`: the path relative to the root's handle. Empty for the root.
    #[must_use]
    pub fn relative(&self) -> &[u8] {
        &self.0[1..]
    }

    /// Whether this is the root folder.
    #[must_use]
    pub fn is_root(&self) -> bool {
        self.0.len() == 1
    }

    /// The names in order; none for the root.
    pub fn names(&self) -> impl DoubleEndedIterator<Item = &[u8]> {
        self.relative().split(|b| *b == b'/').filter(|n| !n.is_empty())
    }

    /// The last name; empty for the root.
    #[must_use]
    pub fn name(&self) -> &[u8] {
        memchr::memrchr(b'/', &self.0).map_or(&[], |cut| &self.0[cut + 1..])
    }

    /// The name by which its parent folder knows it; `.` for the root.
    #[must_use]
    pub fn entry(&self) -> &[u8] {
        if self.is_root() { b"." } else { self.name() }
    }

    /// The bytes up to and including the last `/`: the same for all names of one folder.
    #[must_use]
    pub fn folder_bytes(&self) -> &[u8] {
        &self.0[..self.0.len() - self.name().len()]
    }

    /// The parent folder; `None` for the root.
    #[must_use]
    pub fn parent(&self) -> Option<Self> {
        if self.is_root() {
            return None;
        }
        let cut = memchr::memrchr(b'/', &self.0).unwrap_or(0);
        Some(if cut == 0 { Self::root() } else { Self(Arc::from(&self.0[..cut])) })
    }

    /// The child of this folder with that name.
    ///
    /// # Errors
    /// When `name` is not a single name, or the result is too long.
    pub fn child(&self, name: &[u8]) -> Result<Self, PathError> {
        match name {
            b"" | b"." => return Err(PathError::Relative),
            b".." => return Err(PathError::Climbs),
            _ if name.contains(&b'/') => return Err(PathError::Relative),
            _ if name.contains(&0) => return Err(PathError::Nul),
            _ if name.len() > MAX_NAME || self.0.len() + name.len() > MAX_BYTES => return Err(PathError::TooLong),
            _ => {}
        }
        let above = if self.is_root() { &[] } else { &*self.0 };
        let mut short = [0; SHORT];
        match short.get_mut(..above.len() + 1) {
            Some(start) => {
                start[..above.len()].copy_from_slice(above);
                start[above.len()] = b'/';
                Ok(Self(joined(start, name)))
            }
            None => Ok(Self([above, b"/", name].concat().into())),
        }
    }

    /// The path `rest` relative to this folder.
    ///
    /// # Errors
    /// When `rest` contains `..`, or the result is too long.
    pub fn join(&self, rest: &[u8]) -> Result<Self, PathError> {
        let mut whole = self.relative().to_vec();
        whole.push(b'/');
        whole.extend_from_slice(rest);
        Self::below_root(&whole)
    }

    /// Whether it is `folder` or below it.
    #[must_use]
    pub fn is_within(&self, folder: &SystemPath) -> bool {
        folder.is_root() || self.below(folder).is_some()
    }

    /// As [`is_within`](Self::is_within), for a constant absolute path other than the root.
    #[must_use]
    pub fn is_within_place(&self, place: &str) -> bool {
        self.0.strip_prefix(place.as_bytes()).is_some_and(|rest| rest.is_empty() || rest[0] == b'/')
    }

    /// Whether a path is a direct child of this folder.
    #[must_use]
    pub fn is_parent_of(&self, path: &SystemPath) -> bool {
        path.below(self).is_some_and(|name| !name.is_empty() && !name.contains(&b'/'))
    }

    /// The path relative to `folder`, without a leading slash; empty when it is `folder` itself.
    #[must_use]
    pub fn below(&self, folder: &SystemPath) -> Option<&[u8]> {
        if folder.is_root() {
            return Some(self.relative());
        }
        let rest = self.0.strip_prefix(&*folder.0)?;
        if rest.is_empty() { Some(rest) } else { rest.strip_prefix(b"/") }
    }
}

/// Joins two parts in one allocation: on the stack first, where they fit.
fn joined(start: &[u8], end: &[u8]) -> Arc<[u8]> {
    let mut short = [0; SHORT];
    match short.get_mut(..start.len() + end.len()) {
        Some(whole) => {
            whole[..start.len()].copy_from_slice(start);
            whole[start.len()..].copy_from_slice(end);
            Arc::from(&*whole)
        }
        None => [start, end].concat().into(),
    }
}

/// Whether bytes are valid names separated by single slashes.
fn is_plain(bytes: &[u8]) -> bool {
    let plain = |name: &[u8]| !name.is_empty() && name[0] != b'.' && name.len() <= MAX_NAME;
    !bytes.contains(&0) && bytes.split(|b| *b == b'/').all(plain)
}

impl fmt::Display for SystemPath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&readable_or_same(&self.0))
    }
}

impl fmt::Debug for SystemPath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{self}")
    }
}

impl Serialize for SystemPath {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        to.serialize_str(&readable_or_same(&self.0))
    }
}

impl<'de> Deserialize<'de> for SystemPath {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let text = std::borrow::Cow::<'de, str>::deserialize(from)?;
        let bytes = from_readable(&text).ok_or(PathError::Escape).map_err(serde::de::Error::custom)?;
        SystemPath::parse(&bytes).map_err(serde::de::Error::custom)
    }
}

impl schemars::JsonSchema for SystemPath {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "SystemPath".into()
    }
    fn json_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
        schemars::json_schema!({
            "type": "string", "pattern": "^/",
            "description": "An absolute path on the machine; bytes that are not UTF-8 as \\xHH, a backslash as \\\\."
        })
    }
}

/// A symlink's target: unchanged bytes, in JSON a lossless text.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LinkTarget(pub Vec<u8>);

impl Serialize for LinkTarget {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        to.serialize_str(&readable_or_same(&self.0))
    }
}

impl<'de> Deserialize<'de> for LinkTarget {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let text = std::borrow::Cow::<'de, str>::deserialize(from)?;
        let bytes = from_readable(&text).ok_or(PathError::Escape).map_err(serde::de::Error::custom)?;
        let fine = !bytes.is_empty() && bytes.len() <= MAX_BYTES && !bytes.contains(&0);
        if fine { Ok(Self(bytes)) } else { Err(serde::de::Error::custom(PathError::TooLong)) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_from_packages_are_folded_to_one_spelling() {
        for spelling in ["./usr/bin/x", "usr/bin/x", "/usr/bin/x", "/usr//bin/./x/"] {
            assert_eq!(SystemPath::below_root(spelling.as_bytes()).unwrap().as_bytes(), b"/usr/bin/x");
        }
        assert!(SystemPath::below_root(b"./").unwrap().is_root());
    }

    #[test]
    fn a_climbing_or_overlong_name_is_refused() {
        assert_eq!(SystemPath::parse(b"/usr/../etc"), Err(PathError::Climbs));
        assert_eq!(SystemPath::parse(b"usr"), Err(PathError::Relative));
        assert_eq!(SystemPath::parse(&[b"/", &[b'a'; 256][..]].concat()), Err(PathError::TooLong));
        assert_eq!(SystemPath::parse(b"/a\0b"), Err(PathError::Nul));
    }

    #[test]
    fn a_child_is_one_name() {
        let usr = SystemPath::literal("/usr");
        assert_eq!(usr.child(b"bin").unwrap().as_bytes(), b"/usr/bin");
        assert_eq!(SystemPath::root().child(b".x").unwrap().as_bytes(), b"/.x");
        for name in [&b""[..], b".", b"..", b"a/b", b"a\0", &[b'a'; 256]] {
            assert!(usr.child(name).is_err(), "{name:?}");
        }
    }

    #[test]
    fn below_compares_whole_names() {
        let usr = SystemPath::literal("/usr");
        assert!(!SystemPath::literal("/usrlocal").is_within(&usr));
        assert_eq!(SystemPath::literal("/usr/bin").below(&usr), Some(&b"bin"[..]));
        assert!(usr.is_parent_of(&SystemPath::literal("/usr/bin")) && SystemPath::root().is_parent_of(&usr));
        assert!(!usr.is_parent_of(&SystemPath::literal("/usr/bin/x")) && !usr.is_parent_of(&usr));
        assert_eq!(SystemPath::literal("/").parent(), None);
        assert_eq!(SystemPath::literal("/usr").parent(), Some(SystemPath::root()));
    }

    proptest::proptest! {
        #[test]
        fn any_path_survives_its_text_form(bytes in proptest::collection::vec(1u8..=255, 0..60)) {
            if let Ok(path) = SystemPath::below_root(&bytes) {
                let text = serde_json::to_string(&path).unwrap();
                proptest::prop_assert_eq!(serde_json::from_str::<SystemPath>(&text).unwrap(), path);
            }
        }
    }
}
