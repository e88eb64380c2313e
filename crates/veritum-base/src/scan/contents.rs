//! The entries of a folder and the contents of its small files, many in one answer: asking a process with the owner's rights for each would take longer
//! than reading it.

use std::fmt;
use std::io;

use serde::de::{self, Visitor};
use serde::{Deserialize, Deserializer, Serialize, Serializer};

use crate::machine::{Dir, read_to_limit};
use crate::model::{FileKind, Stat, error_words};

/// Larger files are not read this way, in bytes.
pub const SMALL_FILE: u64 = 64 << 10;

/// Why something cannot be read.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Refusal {
    number: Option<i32>,
    why: String,
}

impl Refusal {
    fn new(error: &io::Error) -> Self {
        Self { number: error.raw_os_error(), why: error_words(error) }
    }

    /// The error.
    #[must_use]
    pub fn into_error(self) -> io::Error {
        self.number.map_or_else(|| io::Error::other(self.why), io::Error::from_raw_os_error)
    }
}

/// An entry of a folder.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct FolderEntry {
    /// Its name.
    pub name: Vec<u8>,
    /// Its status, and the target of a symlink.
    pub seen: Result<(Stat, Option<Vec<u8>>), Refusal>,
}

/// The content of a small file.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct SmallFile {
    /// Its status when it was opened.
    pub stat: Stat,
    /// Its content.
    pub content: Bytes,
    /// Its extended attributes.
    pub attributes: Vec<(Vec<u8>, Vec<u8>)>,
}

/// Bytes that are sent as they are.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Bytes(pub Vec<u8>);

impl Serialize for Bytes {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        to.serialize_bytes(&self.0)
    }
}

impl<'de> Deserialize<'de> for Bytes {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        struct Read;
        impl Visitor<'_> for Read {
            type Value = Bytes;
            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("bytes")
            }
            fn visit_bytes<E: de::Error>(self, bytes: &[u8]) -> Result<Bytes, E> {
                Ok(Bytes(bytes.to_vec()))
            }
            fn visit_byte_buf<E: de::Error>(self, bytes: Vec<u8>) -> Result<Bytes, E> {
                Ok(Bytes(bytes))
            }
        }
        from.deserialize_byte_buf(Read)
    }
}

/// All entries of a folder, without those that are removed meanwhile.
///
/// # Errors
/// When it cannot be listed.
pub fn entries(folder: &Dir) -> io::Result<Vec<FolderEntry>> {
    let disk = folder.disk();
    let mut names = disk.list(folder.fd())?;
    names.sort_unstable_by(|a, b| a.0.cmp(&b.0));
    let seen = |name: &[u8]| -> io::Result<Option<(Stat, Option<Vec<u8>>)>> {
        let Some(stat) = folder.look(name)? else { return Ok(None) };
        let is_link = stat.kind == FileKind::Link;
        Ok(Some((stat, is_link.then(|| disk.read_link(folder.fd(), name)).transpose()?)))
    };
    let entry = |(name, _): (Vec<u8>, _)| {
        let seen = seen(&name).map_err(|e| Refusal::new(&e)).transpose()?;
        Some(FolderEntry { name, seen })
    };
    Ok(names.into_iter().filter_map(entry).collect())
}

/// The contents of these files of a folder; `None` for what cannot be read at once, is no regular file, or is larger.
#[must_use]
pub fn small_files(folder: &Dir, names: &[Vec<u8>]) -> Vec<Option<SmallFile>> {
    use std::os::fd::AsFd as _;
    use std::os::unix::ffi::OsStringExt as _;
    let disk = folder.disk();
    let read = |name: &Vec<u8>| -> io::Result<SmallFile> {
        let (file, stat) = disk.open_seen(folder.fd(), name)?;
        let content = Bytes(read_to_limit(disk, file.as_fd(), SMALL_FILE)?);
        let attributes = disk.xattrs(file.as_fd())?.into_iter().map(|(name, value)| (name.into_vec(), value)).collect();
        Ok(SmallFile { stat, content, attributes })
    };
    // A file that changed between the two has another size: it is read as a large one.
    let is_whole = |file: &SmallFile| file.content.0.len() as u64 == file.stat.size;
    names.iter().map(|name| read(name).ok().filter(is_whole)).collect()
}
