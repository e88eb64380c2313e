//! The manifest of rescued files (`veritum.rescue-manifest/1`): one JSON document a line, appended while files are copied.
//!
//! A line that a power cut tore is ignored: its file is copied again. Of several lines about a file the last one counts.

use std::collections::HashMap;
use std::io;
use std::os::fd::{AsFd as _, OwnedFd};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::machine::Dir;
use crate::model::{Digest, FileKind, Instant, LinkTarget, SystemPath};
use crate::report::DataKind;

/// The name of the file.
pub const NAME: &[u8] = b"veritum-rescue.jsonl";
/// Larger manifests are refused, in bytes: that of ten million files.
const MAX_BYTES: u64 = 8 << 30;
/// Longer lines are damaged.
const MAX_LINE: usize = 1 << 20;
/// At most so much is read at once, in bytes.
const PIECE: usize = 1 << 20;

/// A line of the manifest.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(tag = "line", rename_all = "kebab-case")]
pub enum Line {
    /// A run begins.
    Run(RunLine),
    /// A file, folder or symlink that was copied.
    Entry(EntryLine),
}

/// A run of `rescue`.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct RunLine {
    /// `veritum.rescue-manifest/1`.
    pub format: String,
    /// The version of Veritum.
    pub veritum: String,
    /// When it began, RFC 3339 in UTC.
    pub at: String,
    /// The name of the machine.
    pub host: String,
    /// What identifies the machine (machine-id(5)), or the file systems of a disk.
    pub machine: String,
    /// Its system.
    pub system: String,
}

/// A file, folder or symlink that was copied.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct EntryLine {
    /// Its user.
    pub user: String,
    /// Its path on the machine.
    pub path: SystemPath,
    /// Its path below the folder with the manifest; `null` for a symlink that the destination cannot hold.
    pub stored: Option<SystemPath>,
    /// Whether it is a file, a folder or a symlink.
    pub is: FileKind,
    /// What it is to its user.
    pub kind: DataKind,
    /// The size of its content in bytes.
    pub size: u64,
    /// BLAKE3 of the stored content.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(with = "Option<String>")]
    pub blake3: Option<Digest>,
    /// When its content was changed: seconds since 1970, and nanoseconds.
    #[schemars(with = "(i64, u32)")]
    #[serde(with = "time")]
    pub mtime: Instant,
    /// Its permissions, in octal.
    pub mode: String,
    /// Its owner's id.
    pub uid: u32,
    /// Its group's id.
    pub gid: u32,
    /// The target of a symlink.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(with = "Option<String>")]
    pub target: Option<LinkTarget>,
    /// Another path of the same file (a hard link).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub same_as: Option<SystemPath>,
    /// Attributes that users set, each with its value in hexadecimal.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub attributes: Vec<(String, String)>,
    /// The parts of its content that cannot be read, from and to in bytes: zeros are stored there.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub gaps: Vec<(u64, u64)>,
}

/// A time as a pair.
mod time {
    use serde::{Deserialize, Deserializer, Serialize as _, Serializer};

    use crate::model::Instant;

    pub(super) fn serialize<S: Serializer>(time: &Instant, to: S) -> Result<S::Ok, S::Error> {
        (time.s, time.n).serialize(to)
    }

    pub(super) fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<Instant, D::Error> {
        let (s, n) = Deserialize::deserialize(from)?;
        Ok(Instant { s, n })
    }
}

impl RunLine {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.rescue-manifest/1";
}

/// Why a manifest cannot be used.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ManifestError {
    /// It cannot be read.
    #[error("the manifest cannot be read")]
    Read(#[from] io::Error),
    /// It was written by a newer version.
    #[error("the manifest was written by a newer version of Veritum ({0})")]
    Newer(String),
    /// It does not begin as a manifest does.
    #[error("not a manifest of rescued files")]
    Foreign,
}

/// What a manifest records.
#[derive(Debug, Default)]
pub struct Manifest {
    /// The first run.
    pub first: Option<RunLine>,
    /// The number of runs.
    pub runs: u64,
    /// The last line about each file, by its path on the machine.
    pub entries: HashMap<SystemPath, EntryLine>,
    /// The number of lines that are damaged.
    pub damaged: u64,
    /// Whether the last line is torn.
    pub torn: bool,
}

impl Manifest {
    /// Reads the manifest of a folder; an empty one if there is none.
    ///
    /// # Errors
    /// When it cannot be read, or is something else.
    pub fn read(folder: &Dir) -> Result<Self, ManifestError> {
        let file = match folder.disk().open_file(folder.fd(), NAME) {
            Ok(file) => file,
            Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(Self::default()),
            Err(e) => return Err(e.into()),
        };
        let mut found = Self::default();
        let (mut at, mut rest) = (0, Vec::new());
        let mut piece = vec![0; PIECE];
        loop {
            let read = folder.disk().read_at(file.as_fd(), at, &mut piece)?;
            at += read as u64;
            if at > MAX_BYTES {
                return Err(io::Error::from(io::ErrorKind::FileTooLarge).into());
            }
            rest.extend_from_slice(&piece[..read]);
            let end = rest.iter().rposition(|byte| *byte == b'\n').map_or(0, |at| at + 1);
            for line in rest[..end].split(|byte| *byte == b'\n').filter(|line| !line.is_empty()) {
                found.add(line)?;
            }
            rest.drain(..end);
            if read == 0 {
                break;
            }
            if rest.len() > MAX_LINE {
                rest.clear();
                found.damaged += 1;
            }
        }
        found.torn = !rest.is_empty();
        // The first line may have been torn before another run began a line of its own.
        match found.first {
            None if found.damaged > 0 => Err(ManifestError::Foreign),
            _ => Ok(found),
        }
    }

    fn add(&mut self, line: &[u8]) -> Result<(), ManifestError> {
        match serde_json::from_slice(line) {
            Ok(Line::Run(run)) if run.format == RunLine::FORMAT => {
                self.runs += 1;
                self.first.get_or_insert(run);
            }
            Ok(Line::Run(run)) if run.format.starts_with("veritum.rescue-manifest/") => {
                return Err(ManifestError::Newer(run.format.chars().take(60).collect()));
            }
            Ok(Line::Entry(entry)) if self.first.is_some() => {
                self.entries.insert(entry.path.clone(), entry);
            }
            _ => self.damaged += 1,
        }
        Ok(())
    }
}

/// Appends lines to a manifest.
#[derive(Debug)]
pub struct ManifestWriter {
    folder: Dir,
    file: OwnedFd,
}

impl ManifestWriter {
    /// Opens the manifest of a folder, or creates it. `after_torn` begins a new line after one that is torn.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn open(folder: &Dir, after_torn: bool) -> io::Result<Self> {
        let disk = folder.disk();
        let file = match disk.open_append(folder.fd(), NAME) {
            Err(e) if e.kind() == io::ErrorKind::NotFound => {
                drop(disk.create(folder.fd(), NAME)?);
                disk.open_append(folder.fd(), NAME)?
            }
            opened => opened?,
        };
        if after_torn {
            disk.write(file.as_fd(), b"\n")?;
        }
        Ok(Self { folder: folder.clone(), file })
    }

    /// Appends lines, and waits until they are on the medium.
    ///
    /// # Errors
    /// When they cannot be written.
    pub fn append(&self, lines: &[Line]) -> io::Result<()> {
        if lines.is_empty() {
            return Ok(());
        }
        let mut text = Vec::new();
        for line in lines {
            serde_json::to_writer(&mut text, line)?;
            text.push(b'\n');
        }
        let disk = self.folder.disk();
        disk.write(self.file.as_fd(), &text)?;
        disk.sync(self.file.as_fd())
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use super::*;
    use crate::machine::{LiveDisk, Machine};
    use crate::testkit::mutated;

    fn run() -> RunLine {
        let text = |text: &str| text.to_owned();
        RunLine {
            format: text(RunLine::FORMAT),
            veritum: text("1"),
            at: text("2026-03-02T17:42:10Z"),
            host: text("counter-03"),
            machine: text("m"),
            system: text("Foreshore"),
        }
    }

    fn entry(path: &str) -> EntryLine {
        EntryLine {
            user: "mirela".into(),
            path: SystemPath::parse(path.as_bytes()).unwrap(),
            stored: Some(SystemPath::literal("/mirela/letter")),
            is: FileKind::File,
            kind: DataKind::Documents,
            size: 3,
            blake3: Some(Digest::hash(b"abc")),
            mtime: Instant { s: 1, n: 2 },
            mode: "0640".into(),
            uid: 1000,
            gid: 1000,
            target: None,
            same_as: None,
            attributes: Vec::new(),
            gaps: vec![(0, 2)],
        }
    }

    fn folder() -> (tempfile::TempDir, Dir) {
        let folder = tempfile::tempdir().unwrap();
        let machine = Machine::open(folder.path(), Arc::new(LiveDisk)).unwrap();
        let dir = machine.dir(&SystemPath::root()).unwrap();
        (folder, dir)
    }

    #[test]
    fn what_was_appended_is_read_and_a_torn_line_is_ignored() {
        let (place, dir) = folder();
        assert!(Manifest::read(&dir).unwrap().first.is_none());
        let writer = ManifestWriter::open(&dir, false).unwrap();
        let older = EntryLine { size: 1, ..entry("/home/mirela/a") };
        let lines = [Line::Run(run()), Line::Entry(older), Line::Entry(entry("/home/mirela/a"))];
        writer.append(&lines).unwrap();
        let found = Manifest::read(&dir).unwrap();
        assert_eq!((found.runs, found.damaged, found.torn, found.entries.len()), (1, 0, false, 1));
        assert_eq!(found.entries[&SystemPath::literal("/home/mirela/a")], entry("/home/mirela/a"));
        let file = place.path().join("veritum-rescue.jsonl");
        let whole = std::fs::read(&file).unwrap();
        for cut in 0..whole.len() {
            std::fs::write(&file, &whole[..cut]).unwrap();
            let cut_off = Manifest::read(&dir).unwrap();
            assert_eq!(cut_off.damaged, 0, "{cut}");
            let writer = ManifestWriter::open(&dir, cut_off.torn).unwrap();
            writer.append(&[Line::Run(run()), Line::Entry(entry("/home/mirela/b"))]).unwrap();
            let again = Manifest::read(&dir).unwrap();
            assert!(again.entries.contains_key(&SystemPath::literal("/home/mirela/b")), "{cut}");
        }
        std::fs::write(&file, b"something else\n").unwrap();
        assert!(matches!(Manifest::read(&dir), Err(ManifestError::Foreign)));
        let newer = RunLine { format: "veritum.rescue-manifest/2".into(), ..run() };
        std::fs::write(&file, serde_json::to_string(&Line::Run(newer)).unwrap() + "\n").unwrap();
        assert!(matches!(Manifest::read(&dir), Err(ManifestError::Newer(_))));
    }

    proptest::proptest! {
        #[test]
        fn a_damaged_manifest_names_no_place_outside_its_folder(seed: u64) {
            let (place, dir) = folder();
            let lines = [Line::Run(run()), Line::Entry(entry("/home/mirela/a")), Line::Entry(entry("/home/mirela/b"))];
            ManifestWriter::open(&dir, false).unwrap().append(&lines).unwrap();
            let file = place.path().join("veritum-rescue.jsonl");
            std::fs::write(&file, mutated(&std::fs::read(&file).unwrap(), seed)).unwrap();
            if let Ok(found) = Manifest::read(&dir) {
                for entry in found.entries.values() {
                    let stored = entry.stored.clone().unwrap_or_else(SystemPath::root);
                    proptest::prop_assert!(stored.names().all(|name| name != b".."));
                }
            }
        }
    }
}
