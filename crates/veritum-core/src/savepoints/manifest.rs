//! [`Entry`]: one place of a savepoint, and its form in a part of the manifest: a line of JSON.

use std::borrow::Cow;
use std::fmt::Write as _;

use serde::{Deserialize, Serialize};

use crate::model::{Digest, Instant, LinkTarget, SystemPath, byte_lines};

/// A part with more entries was not written by Veritum.
const MAX_ENTRIES: usize = 1 << 20;

/// One place of a savepoint.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// The path, without symlinks before its last name.
    pub path: SystemPath,
    /// The object there.
    pub what: What,
    /// Mode bits.
    pub mode: u32,
    /// User id.
    pub uid: u32,
    /// Group id.
    pub gid: u32,
    /// Modification time.
    pub mtime: Instant,
    /// Extended attributes, each with its value in hexadecimal, in the order of their names.
    pub attributes: Vec<(String, String)>,
    /// Whether it is immutable or append-only (chattr(1)): the inode flags for that.
    pub locked: u32,
}

/// The object at a place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum What {
    /// A file.
    File {
        /// Its size in bytes.
        size: u64,
        /// BLAKE3.
        digest: Digest,
        /// The first name, in the order of paths, of the file that this is a hard link to; `None` for that name itself.
        hard_link_of: Option<SystemPath>,
    },
    /// A folder.
    Folder,
    /// A symlink.
    Link(LinkTarget),
    /// A named pipe.
    Pipe,
}

impl Entry {
    /// The digest and size of a file's content.
    #[must_use]
    pub fn content(&self) -> Option<(Digest, u64)> {
        if let What::File { size, digest, .. } = self.what { Some((digest, size)) } else { None }
    }
}

/// A package that was installed.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct InstalledPackage {
    /// Its name.
    pub name: String,
    /// Its architecture.
    pub arch: String,
    /// Its version.
    pub version: String,
}

/// A line of a part.
#[derive(Serialize, Deserialize)]
struct Line<'a> {
    path: Cow<'a, SystemPath>,
    kind: &'a str,
    /// In octal digits.
    mode: &'a str,
    #[serde(default, skip_serializing_if = "is_zero")]
    uid: u32,
    #[serde(default, skip_serializing_if = "is_zero")]
    gid: u32,
    mtime: i64,
    #[serde(default, skip_serializing_if = "is_zero")]
    nanos: u32,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    size: Option<u64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    blake3: Option<Digest>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    hard_link_of: Option<Cow<'a, SystemPath>>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    target: Option<Cow<'a, LinkTarget>>,
    #[serde(default, skip_serializing_if = "<[_]>::is_empty")]
    attributes: Cow<'a, [(String, String)]>,
    #[serde(default, skip_serializing_if = "is_zero")]
    locked: u32,
}

#[allow(clippy::trivially_copy_pass_by_ref, reason = "the signature that serde calls")]
fn is_zero(number: &u32) -> bool {
    *number == 0
}

/// Entries as lines.
pub(super) fn to_lines(entries: &[Entry]) -> serde_json::Result<Vec<u8>> {
    let (mut bytes, mut mode) = (Vec::with_capacity(entries.len() * 256), String::new());
    for entry in entries {
        mode.clear();
        let _ = write!(mode, "{:04o}", entry.mode);
        let (size, blake3, hard_link_of) = match &entry.what {
            What::File { size, digest, hard_link_of } => (Some(*size), Some(*digest), hard_link_of.as_ref()),
            _ => (None, None, None),
        };
        let (kind, target) = match &entry.what {
            What::File { .. } => ("file", None),
            What::Folder => ("folder", None),
            What::Link(target) => ("link", Some(Cow::Borrowed(target))),
            What::Pipe => ("pipe", None),
        };
        let line = Line {
            path: Cow::Borrowed(&entry.path),
            kind,
            mode: &mode,
            uid: entry.uid,
            gid: entry.gid,
            mtime: entry.mtime.s,
            nanos: entry.mtime.n,
            size,
            blake3,
            hard_link_of: hard_link_of.map(Cow::Borrowed),
            target,
            attributes: Cow::Borrowed(&entry.attributes),
            locked: entry.locked,
        };
        serde_json::to_writer(&mut bytes, &line)?;
        bytes.push(b'\n');
    }
    Ok(bytes)
}

/// Reads the lines of a part.
///
/// # Errors
/// When one is invalid: its number.
pub fn read_part(bytes: &[u8]) -> Result<Vec<Entry>, String> {
    let lines = byte_lines(bytes).filter(|line| !line.is_empty()).take(MAX_ENTRIES + 1).enumerate();
    let entries: Vec<Entry> = lines
        .map(|(at, line)| from_line(line).ok_or_else(|| format!("line {} of a part is invalid", at + 1)))
        .collect::<Result<_, _>>()?;
    if entries.len() > MAX_ENTRIES { Err("a part is too large".into()) } else { Ok(entries) }
}

fn from_line(line: &[u8]) -> Option<Entry> {
    let line: Line<'_> = serde_json::from_slice(line).ok()?;
    let what = match line.kind {
        "file" => {
            let hard_link_of = line.hard_link_of.map(Cow::into_owned);
            What::File { size: line.size?, digest: line.blake3?, hard_link_of }
        }
        "folder" => What::Folder,
        "link" => What::Link(line.target?.into_owned()),
        "pipe" => What::Pipe,
        _ => return None,
    };
    let mode = u32::from_str_radix(line.mode, 8).ok().filter(|mode| *mode <= 0o7777)?;
    let mtime = Instant { s: line.mtime, n: line.nanos };
    let Line { path, uid, gid, attributes, locked, .. } = line;
    let (path, attributes) = (path.into_owned(), attributes.into_owned());
    Some(Entry { path, what, mode, uid, gid, mtime, attributes, locked })
}

#[cfg(test)]
pub(super) mod tests {
    use super::*;

    /// One entry of each kind.
    pub(in super::super) fn samples() -> Vec<Entry> {
        let entry = |path: &str, what| Entry {
            path: SystemPath::parse(path.as_bytes()).unwrap(),
            what,
            mode: 0o4755,
            uid: 7,
            gid: 0,
            mtime: Instant { s: -3, n: 999 },
            attributes: vec![("user.origin".into(), "00ff".into())],
            locked: 16,
        };
        let file = |first: Option<&'static str>| What::File {
            size: 3,
            digest: Digest::hash(b"abc"),
            hard_link_of: first.map(SystemPath::literal),
        };
        vec![
            entry("/usr/bin/a", file(None)),
            entry("/usr/bin/a\nb", file(Some("/usr/bin/a"))),
            entry("/usr/lib", What::Folder),
            entry("/usr/lib/\u{fc}", What::Link(LinkTarget(b"\xff/..".to_vec()))),
            entry("/usr/pipe", What::Pipe),
        ]
    }

    #[test]
    fn every_kind_of_entry_is_read_as_it_was_written() {
        assert_eq!(read_part(&to_lines(&samples()).unwrap()).unwrap(), samples());
    }

    #[test]
    fn a_line_that_lacks_something_is_invalid() {
        let lines = to_lines(&samples()).unwrap();
        let text = String::from_utf8(lines).unwrap();
        for (from, to) in
            [("\"size\":3,", ""), ("\"kind\":\"file\"", "\"kind\":\"door\""), ("4755", "47x5"), ("/usr/", "usr/")]
        {
            assert!(read_part(text.replacen(from, to, 1).as_bytes()).is_err(), "{from}");
        }
    }

    proptest::proptest! {
        #[test]
        fn of_damaged_lines_no_more_entries_are_read_than_there_are_lines(seed: u64) {
            let bytes = crate::testkit::mutated(&to_lines(&samples()).unwrap(), seed);
            if let Ok(entries) = read_part(&bytes) {
                proptest::prop_assert!(entries.len() <= byte_lines(&bytes).count());
            }
        }
    }
}
