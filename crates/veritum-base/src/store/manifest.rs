//! [`Manifest`]: what one package ships, as stored in a store (`veritum.manifest/1`).
//!
//! JSON with short keys and without defaults: a hundred thousand entries are read in some tens of milliseconds, and people can
//! still read it. Order and all values come from the package, so equal packages give equal bytes.

use std::borrow::Cow;
use std::collections::HashMap;

use serde::de::{Error as _, SeqAccess, Visitor};
use serde::{Deserialize, Deserializer, Serialize};

use super::records::RecordsRef;
use crate::model::{
    Digest, Entry, EntryKind, Owner, PackageId, PackageIdError, PathError, SystemPath, error_chain, readable,
};

/// What one package ships.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Manifest {
    /// The package.
    pub package: PackageId,
    /// The expected entries of the package database.
    pub records: Option<RecordsRef>,
    /// Its entries, in the package's order.
    pub entries: Vec<Entry>,
}

/// Why bytes are not a manifest.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ManifestError {
    /// They are not JSON of the expected structure.
    #[error("not a valid manifest")]
    Json(#[from] serde_json::Error),
    /// They are not UTF-8.
    #[error("not valid text")]
    Text(#[from] std::str::Utf8Error),
    /// It was written by a newer Veritum.
    #[error("unsupported format: {0}")]
    Newer(String),
    /// It contains an invalid path.
    #[error("contains an invalid path")]
    Path(#[from] PathError),
    /// Its package is invalid.
    #[error("invalid package")]
    Package(#[from] PackageIdError),
    /// An entry contradicts itself.
    #[error("the entry {0} is inconsistent")]
    Entry(String),
}

/// The manifest's JSON, for writing.
#[derive(Debug, Serialize, schemars::JsonSchema)]
pub struct RawManifest<'a> {
    /// `veritum.manifest/1`.
    format: &'a str,
    package: PackageId,
    #[serde(skip_serializing_if = "Option::is_none")]
    records: Option<RecordsRef>,
    entries: Vec<RawEntry<'a>>,
}

/// The manifest's JSON, for reading.
#[derive(Deserialize)]
struct Reading<'a> {
    #[serde(borrow)]
    format: Cow<'a, str>,
    package: PackageId,
    #[serde(default)]
    records: Option<RecordsRef>,
    entries: Entries,
}

/// Entries converted while they are read: keeping all of them raw first would cost as much again.
struct Entries(Vec<Entry>);

impl<'de> Deserialize<'de> for Entries {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Reads;
        impl<'de> Visitor<'de> for Reads {
            type Value = Entries;

            fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str("entries")
            }

            fn visit_seq<A: SeqAccess<'de>>(self, mut all: A) -> Result<Entries, A::Error> {
                let mut entries = Vec::new();
                while let Some(raw) = all.next_element::<RawEntry<'de>>()? {
                    entries.push(from_raw(&raw).map_err(|e| A::Error::custom(error_chain(&e)))?);
                }
                Ok(Entries(entries))
            }
        }
        deserializer.deserialize_seq(Reads)
    }
}

/// A JSON string borrowed if it has no escapes, also within an option (where serde's own borrowing does not work).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, schemars::JsonSchema)]
#[serde(transparent)]
struct Text<'a>(Cow<'a, str>);

impl std::ops::Deref for Text<'_> {
    type Target = str;

    fn deref(&self) -> &str {
        &self.0
    }
}

impl From<String> for Text<'_> {
    fn from(text: String) -> Self {
        Self(Cow::Owned(text))
    }
}

impl<'a> From<&'a str> for Text<'a> {
    fn from(text: &'a str) -> Self {
        Self(Cow::Borrowed(text))
    }
}

impl<'de: 'a, 'a> Deserialize<'de> for Text<'a> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Reads;
        impl<'de> Visitor<'de> for Reads {
            type Value = Text<'de>;

            fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str("a string")
            }

            fn visit_borrowed_str<E>(self, text: &'de str) -> Result<Text<'de>, E> {
                Ok(text.into())
            }

            fn visit_str<E>(self, text: &str) -> Result<Text<'de>, E> {
                Ok(text.to_owned().into())
            }
        }
        deserializer.deserialize_str(Reads)
    }
}

/// One entry's JSON.
#[derive(Debug, Default, Serialize, Deserialize, schemars::JsonSchema)]
struct RawEntry<'a> {
    /// Path: bytes that are not UTF-8 as `\xHH`, a backslash doubled.
    #[serde(borrow)]
    p: Cow<'a, str>,
    /// Kind: `f` file, `d` folder, `l` link, `p` pipe, `c` character device, `b` block device.
    #[serde(borrow)]
    t: Cow<'a, str>,
    /// Mode in octal; the default is 644 for files, 755 for folders, 777 for links.
    #[serde(borrow, default, skip_serializing_if = "Option::is_none")]
    m: Option<Text<'a>>,
    /// User as name and id; the default is root, 0.
    #[serde(borrow, default, skip_serializing_if = "Option::is_none")]
    u: Option<(Text<'a>, u32)>,
    /// Group as name and id; the default is root, 0.
    #[serde(borrow, default, skip_serializing_if = "Option::is_none")]
    g: Option<(Text<'a>, u32)>,
    /// Modification time, seconds since the epoch.
    w: i64,
    /// Size of a file in bytes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    s: Option<u64>,
    /// BLAKE3 of a file's content.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    h: Option<Digest>,
    /// The first name of a hard-link group.
    #[serde(borrow, default, skip_serializing_if = "Option::is_none")]
    same: Option<Text<'a>>,
    /// A symlink's target, or a device's `major:minor`.
    #[serde(borrow, default, skip_serializing_if = "Option::is_none")]
    to: Option<Text<'a>>,
    /// 1 for a configuration file.
    #[serde(default, skip_serializing_if = "is_zero")]
    cf: u8,
    /// 1 when the package's own scripts set owner, mode or capabilities.
    #[serde(default, skip_serializing_if = "is_zero")]
    cs: u8,
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde passes a reference")]
fn is_zero(n: &u8) -> bool {
    *n == 0
}

fn default_mode(kind: &str) -> u32 {
    match kind {
        "d" => 0o755,
        "l" => 0o777,
        _ => 0o644,
    }
}

impl Manifest {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.manifest/1";

    /// The manifest's bytes.
    ///
    /// # Errors
    /// When it cannot be encoded as JSON.
    pub fn encode(&self) -> Result<Vec<u8>, ManifestError> {
        let raw = RawManifest {
            format: Self::FORMAT,
            package: self.package.clone(),
            records: self.records.clone(),
            entries: self.entries.iter().map(to_raw).collect(),
        };
        Ok(serde_json::to_vec(&raw)?)
    }

    /// Parses a manifest.
    ///
    /// # Errors
    /// When it has a newer format, or contains anything invalid.
    pub fn decode(bytes: &[u8]) -> Result<Self, ManifestError> {
        #[derive(Deserialize)]
        struct Head<'a> {
            #[serde(borrow)]
            format: Cow<'a, str>,
        }
        // Checked once as a whole: a reader of bytes would check every string for UTF-8.
        let text = std::str::from_utf8(bytes)?;
        let raw: Reading<'_> = match serde_json::from_str(text) {
            Ok(raw) => raw,
            // A newer format may have any structure: report that it is newer rather than that it is damaged.
            Err(e) => match serde_json::from_str::<Head<'_>>(text) {
                Ok(head) if head.format != Self::FORMAT => {
                    return Err(ManifestError::Newer(head.format.chars().take(60).collect()));
                }
                _ => return Err(e.into()),
            },
        };
        if raw.format != Self::FORMAT {
            return Err(ManifestError::Newer(raw.format.chars().take(60).collect()));
        }
        let id = PackageId::new(&raw.package.name, &raw.package.version, &raw.package.arch)?;
        Ok(Self { package: id, records: raw.records, entries: raw.entries.0 })
    }

    /// The first entry of every hard-link group, with the positions of the others.
    #[must_use]
    pub fn hard_link_groups(&self) -> HashMap<&SystemPath, Vec<usize>> {
        let mut groups: HashMap<&SystemPath, Vec<usize>> = HashMap::new();
        for (at, entry) in self.entries.iter().enumerate() {
            if let EntryKind::File { same_as: Some(first), .. } = &entry.kind {
                groups.entry(first).or_default().push(at);
            }
        }
        groups
    }
}

fn owner_to_raw(owner: &Owner) -> Option<(Text<'_>, u32)> {
    (*owner != Owner::root()).then_some(((&*owner.name).into(), owner.id))
}

fn to_raw(entry: &Entry) -> RawEntry<'_> {
    let mut raw = RawEntry {
        p: readable(entry.path.as_bytes()).into(),
        u: owner_to_raw(&entry.user),
        g: owner_to_raw(&entry.group),
        w: entry.mtime,
        cf: entry.settings.into(),
        cs: u8::from(entry.configured) | u8::from(entry.capable) << 1,
        ..RawEntry::default()
    };
    match &entry.kind {
        EntryKind::File { size, digest, same_as } => {
            raw.t = "f".into();
            raw.s = Some(*size);
            raw.h = Some(*digest);
            raw.same = same_as.as_ref().map(|p| readable(p.as_bytes()).into());
        }
        EntryKind::Folder => raw.t = "d".into(),
        EntryKind::Link { target } => {
            raw.t = "l".into();
            raw.to = Some(readable(target).into());
        }
        EntryKind::Fifo => raw.t = "p".into(),
        EntryKind::Device { block, major, minor } => {
            raw.t = if *block { "b" } else { "c" }.into();
            raw.to = Some(format!("{major}:{minor}").into());
        }
    }
    if entry.mode != default_mode(&raw.t) {
        raw.m = Some(format!("{:o}", entry.mode).into());
    }
    raw
}

fn bytes_of(text: &str) -> Result<Vec<u8>, PathError> {
    if text.contains('\\') {
        crate::model::from_readable(text).ok_or(PathError::Escape)
    } else {
        Ok(text.as_bytes().to_vec())
    }
}

fn path_of(text: &str) -> Result<SystemPath, PathError> {
    if text.contains('\\') { SystemPath::parse(&bytes_of(text)?) } else { SystemPath::parse(text.as_bytes()) }
}

fn from_raw(raw: &RawEntry<'_>) -> Result<Entry, ManifestError> {
    let wrong = || ManifestError::Entry(raw.p.chars().take(200).collect());
    let kind = match (&*raw.t, raw.s, raw.h, &raw.to) {
        ("f", Some(size), Some(digest), None) => {
            EntryKind::File { size, digest, same_as: raw.same.as_deref().map(path_of).transpose()? }
        }
        ("d", None, None, None) => EntryKind::Folder,
        ("l", None, None, Some(target)) if !target.is_empty() => EntryKind::Link { target: bytes_of(target)? },
        ("p", None, None, None) => EntryKind::Fifo,
        ("b" | "c", None, None, Some(numbers)) => {
            let (major, minor) = numbers.split_once(':').ok_or_else(wrong)?;
            let number = |n: &str| n.parse().map_err(|_| wrong());
            EntryKind::Device { block: raw.t == "b", major: number(major)?, minor: number(minor)? }
        }
        _ => return Err(wrong()),
    };
    let mode = match &raw.m {
        Some(octal) => u32::from_str_radix(octal, 8).ok().filter(|m| *m <= 0o7777).ok_or_else(wrong)?,
        None => default_mode(&raw.t),
    };
    let owner = |owner: &Option<(Text<'_>, u32)>| {
        owner.as_ref().map_or_else(Owner::root, |(name, id)| Owner { name: name.to_string().into(), id: *id })
    };
    Ok(Entry {
        path: path_of(&raw.p)?,
        kind,
        mode,
        user: owner(&raw.u),
        group: owner(&raw.g),
        mtime: raw.w,
        settings: raw.cf != 0,
        configured: raw.cs & 1 != 0,
        capable: raw.cs & 2 != 0,
    })
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn entry(path: &[u8], kind: EntryKind, mode: u32) -> Entry {
        Entry {
            path: SystemPath::parse(path).unwrap(),
            kind,
            mode,
            user: Owner::root(),
            group: Owner { name: "adm".into(), id: 4 },
            mtime: 1_772_409_600,
            settings: false,
            configured: true,
            capable: true,
        }
    }

    fn sample() -> Manifest {
        let file = |same_as| EntryKind::File { size: 3, digest: Digest::hash(b"abc"), same_as };
        Manifest {
            package: PackageId::new("berthbook", "4.2-1", "amd64").unwrap(),
            records: Some(RecordsRef { blake3: Digest::hash(b"r"), size: 1 }),
            entries: vec![
                entry(b"/usr", EntryKind::Folder, 0o755),
                entry(b"/usr/a\xff\\b", file(None), 0o4755),
                entry(b"/usr/b", file(Some(SystemPath::parse(b"/usr/a\xff\\b").unwrap())), 0o644),
                entry(b"/usr/l", EntryKind::Link { target: b"../\xfe".to_vec() }, 0o777),
                entry(b"/usr/p", EntryKind::Fifo, 0o600),
                entry(b"/usr/c", EntryKind::Device { block: false, major: 1, minor: 3 }, 0o666),
            ],
        }
    }

    #[test]
    fn a_manifest_is_restored_as_it_was() {
        let manifest = sample();
        assert_eq!(Manifest::decode(&manifest.encode().unwrap()).unwrap(), manifest);
    }

    #[test]
    fn a_newer_format_is_called_newer_whatever_its_shape() {
        let error = Manifest::decode(br#"{"format":"veritum.manifest/2","things":[]}"#).unwrap_err();
        assert!(matches!(error, ManifestError::Newer(f) if f == "veritum.manifest/2"));
    }

    #[test]
    fn an_entry_that_contradicts_itself_is_refused() {
        for bad in
            [r#""t":"f""#, r#""t":"l""#, r#""t":"z""#, r#""t":"d","s":1"#, r#""t":"c","to":"x""#, r#""t":"d","m":"99""#]
        {
            let text = format!(
                r#"{{"format":"veritum.manifest/1","component":{{"name":"a","version":"1","arch":"all"}},"entries":[{{"p":"/a","w":0,{bad}}}]}}"#
            );
            assert!(Manifest::decode(text.as_bytes()).is_err(), "{bad}");
        }
    }

    proptest! {
        #[test]
        fn a_damaged_manifest_never_ends_the_program(at in 0usize..2000, byte: u8) {
            let mut bytes = sample().encode().unwrap();
            let at = at % bytes.len();
            bytes[at] = byte;
            if let Ok(manifest) = Manifest::decode(&bytes) {
                prop_assert!(manifest.entries.len() <= 6);
            }
        }
    }
}
