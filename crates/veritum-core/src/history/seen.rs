//! Observations of the last full check and of savepoints, so that only what changed since is read (SQLite, `seen.db` in the state
//! folder). It can be rebuilt: if anything is wrong with it, everything is read again.
//!
//! Adding and removing a hard link alters an inode's change time: whatever part of Veritum does that records it here
//! ([`change_times`]), so that the file still counts as unchanged.

use std::os::fd::AsRawFd as _;

use rusqlite::{Connection, OpenFlags};

use crate::change::StateFolder;
use crate::model::{ContentHasher, Digest, FileKind, Stat};
use crate::scan::{ChangedTimes, Remembered, RememberedParts, Snapshot};

const NAME: &str = "seen.db";
/// The file of a transaction of SQLite: a leftover one must not be applied to a new database.
const JOURNAL: &str = "seen.db-journal";
const FORMAT: &str = "veritum.seen/3";
/// A larger record was not written by a check: a million files have a third of it.
const MAX_BYTES: usize = 256 << 20;

/// What a full check remembers.
#[derive(Debug, Default)]
pub struct ToRemember {
    /// When it began, RFC 3339 in UTC.
    pub at: String,
    /// The observations of files.
    pub files: RememberedParts,
    /// The check itself, if everything was intact and clear.
    pub settled: Option<CleanCheck>,
}

/// The files that a full check remembered.
#[derive(Debug, Clone, Default)]
pub struct SeenFiles {
    /// When it began, RFC 3339 in UTC.
    pub at: String,
    /// The observations of files.
    pub files: Remembered,
}

/// A check without problems, and the state of every place.
#[derive(Debug, Clone)]
pub struct CleanCheck {
    /// Identifies the references: with others the result is not valid.
    pub key: String,
    /// The result as JSON.
    pub report: String,
    /// The state of every place.
    pub places: Snapshot,
}

/// Opens the database through the state folder's own handle: no symlink can redirect it.
fn open(state: &StateFolder, flags: OpenFlags) -> rusqlite::Result<Connection> {
    let path = format!("/proc/self/fd/{}/{NAME}", state.dir().fd().as_raw_fd());
    let database = Connection::open_with_flags(path, flags | OpenFlags::SQLITE_OPEN_NO_MUTEX)?;
    database.busy_timeout(std::time::Duration::from_millis(500))?;
    Ok(database)
}

/// Saves the observations of a full check, replacing earlier ones; the contents that savepoints recorded stay.
///
/// # Errors
/// When the state folder cannot be written; the check is valid nevertheless.
pub fn keep_seen(state: &StateFolder, seen: &ToRemember) -> rusqlite::Result<()> {
    let contents = contents_parts(state).unwrap_or_default();
    write(state, Some(seen), &contents)
}

/// Saves the contents of files that a savepoint recorded, replacing earlier ones, and the change times that it altered, also in
/// the observations of the last full check.
///
/// # Errors
/// When the state folder cannot be written: then everything is read again.
pub fn keep_contents(state: &StateFolder, contents: &RememberedParts, times: &ChangedTimes) -> rusqlite::Result<()> {
    let checked = observations(state).map(|mut checked| {
        if !times.is_empty() {
            checked.files = checked.files.with_times(times);
            checked.settled = checked.settled.and_then(|settled| {
                let places = settled.places.with_times(times)?;
                Some(CleanCheck { places, ..settled })
            });
        }
        checked
    });
    write(state, checked.as_ref(), contents)
}

/// Records the change times that Veritum altered by adding or removing hard links.
///
/// # Errors
/// When the state folder cannot be written: then these files are read again.
pub fn change_times(state: &StateFolder, times: &ChangedTimes) -> rusqlite::Result<()> {
    if times.is_empty() {
        return Ok(());
    }
    keep_contents(state, &contents_parts(state).unwrap_or_default().with_times(times), times)
}

/// Everything that the last full check remembered.
fn observations(state: &StateFolder) -> Option<ToRemember> {
    let (at, parts) = file_parts(state, "files")?;
    (!at.is_empty()).then(|| ToRemember { at, files: parts, settled: settled(state) })
}

fn contents_parts(state: &StateFolder) -> Option<RememberedParts> {
    Some(file_parts(state, "contents")?.1)
}

/// The contents of files that savepoints recorded, and those of the last full check: unchanged files need not be read.
#[must_use]
pub fn known_contents(state: &StateFolder) -> [Remembered; 2] {
    ["contents", "files"].map(|table| {
        let parts = file_parts(state, table).map(|(_, parts)| parts).unwrap_or_default();
        Remembered::of_parts(parts.parts().iter().map(Vec::as_slice))
    })
}

/// Writes the database.
fn write(state: &StateFolder, seen: Option<&ToRemember>, contents: &RememberedParts) -> rusqlite::Result<()> {
    // SQLite follows symlinks; a file that is not ours stays unchanged.
    if !matches!(state.dir().look(NAME.as_bytes()), Ok(None | Some(Stat { kind: FileKind::File, names: 1, .. }))) {
        return Err(rusqlite::Error::InvalidPath(NAME.into()));
    }
    // Created again: a damaged file cannot be written to.
    for name in [NAME, JOURNAL] {
        let _ = state.dir().disk().unlink(state.dir().fd(), name.as_bytes());
    }
    let mut database = open(state, OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_CREATE)?;
    // Every part has its own digest, and what a power cut tears is ignored: waiting for the disk
    // would not make it safer.
    database.pragma_update(None, "journal_mode", "MEMORY")?;
    database.pragma_update(None, "synchronous", "OFF")?;
    let change = database.transaction()?;
    change.execute_batch(
        "CREATE TABLE head (format TEXT NOT NULL, at TEXT NOT NULL);
         CREATE TABLE files (part INTEGER PRIMARY KEY, blake3 TEXT NOT NULL, records BLOB NOT NULL);
         CREATE TABLE contents (part INTEGER PRIMARY KEY, blake3 TEXT NOT NULL, records BLOB NOT NULL);
         CREATE TABLE settled (key TEXT NOT NULL, report TEXT NOT NULL, blake3 TEXT NOT NULL);
         CREATE TABLE places (part INTEGER PRIMARY KEY, packed BLOB NOT NULL);",
    )?;
    change.execute("INSERT INTO head VALUES (?1, ?2)", (FORMAT, seen.map_or("", |seen| &seen.at)))?;
    {
        let none = RememberedParts::default();
        for (table, parts) in [("files", seen.map_or(&none, |seen| &seen.files)), ("contents", contents)] {
            let mut insert = change.prepare(&format!("INSERT INTO {table} (blake3, records) VALUES (?1, ?2)"))?;
            for part in parts.parts() {
                insert.execute((Digest::hash(part).to_hex(), part))?;
            }
        }
        if let Some(CleanCheck { key, report, places }) = seen.and_then(|seen| seen.settled.as_ref()) {
            let sum = sum_of(key, report, places.parts());
            change.execute("INSERT INTO settled VALUES (?1, ?2, ?3)", (key, report, sum))?;
            let mut insert = change.prepare("INSERT INTO places (packed) VALUES (?1)")?;
            for part in places.parts() {
                insert.execute([part])?;
            }
        }
    }
    change.commit()
}

/// The digest of a clean check's record.
fn sum_of(key: &str, report: &str, parts: &[Vec<u8>]) -> String {
    let mut hasher = ContentHasher::blake3();
    for piece in [key.as_bytes(), report.as_bytes()].into_iter().chain(parts.iter().map(Vec::as_slice)) {
        hasher.update(&(piece.len() as u64).to_le_bytes());
        hasher.update(piece);
    }
    hasher.finish().0.map(|digest| digest.to_hex()).unwrap_or_default()
}

/// The last full check, if it found everything intact; `None` when its record is damaged or has another format.
#[must_use]
pub fn settled(state: &StateFolder) -> Option<CleanCheck> {
    state.dir().look(NAME.as_bytes()).ok()?.filter(|s| s.kind == FileKind::File)?;
    let database = open(state, OpenFlags::SQLITE_OPEN_READ_ONLY).ok()?;
    let format: String = database.query_row("SELECT format FROM head", (), |row| row.get(0)).ok()?;
    let (key, report, sum): (String, String, String) = database
        .query_row("SELECT key, report, blake3 FROM settled", (), |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)))
        .ok()
        .filter(|_| format == FORMAT)?;
    let mut rows = database.prepare("SELECT packed FROM places ORDER BY part").ok()?;
    let rows = rows.query_map((), |row| row.get::<_, Vec<u8>>(0)).ok()?;
    let mut parts = Vec::new();
    let mut bytes = 0;
    for row in rows {
        let part = row.ok()?;
        bytes += part.len();
        if bytes > MAX_BYTES {
            return None;
        }
        parts.push(part);
    }
    (sum_of(&key, &report, &parts) == sum).then(|| CleanCheck { key, report, places: Snapshot::of_parts(parts) })
}

/// The observations of the last full check; `None` when there are none, or the record is damaged or has another format.
#[must_use]
pub fn seen(state: &StateFolder) -> Option<SeenFiles> {
    let (at, parts) = file_parts(state, "files")?;
    let files = Remembered::of_parts(parts.parts().iter().map(Vec::as_slice));
    (!at.is_empty()).then_some(SeenFiles { at, files })
}

/// The records of files in a table, and when the last full check began.
fn file_parts(state: &StateFolder, table: &str) -> Option<(String, RememberedParts)> {
    // Nothing is created, and only a regular file is opened.
    state.dir().look(NAME.as_bytes()).ok()?.filter(|s| s.kind == FileKind::File)?;
    let database = open(state, OpenFlags::SQLITE_OPEN_READ_ONLY).ok()?;
    let (format, at): (String, String) =
        database.query_row("SELECT format, at FROM head", (), |row| Ok((row.get(0)?, row.get(1)?))).ok()?;
    let mut parts = database.prepare(&format!("SELECT blake3, records FROM {table} ORDER BY part")).ok()?;
    let mut rows = parts.query(()).ok().filter(|_| format == FORMAT)?;
    let (mut kept, mut bytes) = (Vec::new(), 0);
    while let Some(row) = rows.next().ok()? {
        let (sum, records): (String, Vec<u8>) = (row.get(0).ok()?, row.get(1).ok()?);
        bytes += records.len();
        if bytes > MAX_BYTES || Digest::hash(&records).to_hex() != sum {
            return None;
        }
        kept.push(records);
    }
    Some((at, RememberedParts::from_parts(kept)))
}
