//! How far the surface of a volume was read, so that an interrupted run is continued (`veritum.surface/1`). With the administrator's
//! notes, never on the disk that is read.

use std::fs;
use std::io::{self, Write as _};
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use crate::devices::Surface;
use crate::model::Digest;

const FORMAT: &str = "veritum.surface/1";
/// Larger notes are not read, in bytes.
const MAX: u64 = 16 << 20;
/// Older ones are not continued: what was read then says little about today, in seconds.
const MAX_AGE: i64 = 7 * 24 * 3600;

#[derive(Serialize, Deserialize)]
struct Note {
    format: String,
    /// When it was written, in seconds since 1970.
    at: i64,
    /// The place up to which the volume was read, in bytes.
    read_to: u64,
    /// The number of bytes that were read, and that cannot be read.
    read: u64,
    unreadable: u64,
    /// The unreadable places, from and to.
    ranges: Vec<(u64, u64)>,
}

/// The notes on one volume.
#[derive(Debug)]
pub(super) struct SurfaceNotes {
    file: PathBuf,
}

impl SurfaceNotes {
    /// The notes on a volume in a folder; what identifies the volume is its UUID, its size, and how much of it is read.
    pub(super) fn of(folder: &Path, uuid: &str, size: u64, used: bool) -> Self {
        let key = Digest::hash(format!("{uuid} {size} {used}").as_bytes()).to_hex();
        Self { file: folder.join(format!("surface-{}.json", &key[..32])) }
    }

    /// What an interrupted run read; `None` if there is none that can be continued at this time.
    pub(super) fn load(&self, now: i64) -> Option<Surface> {
        let is_small = fs::metadata(&self.file).is_ok_and(|file| file.is_file() && file.len() <= MAX);
        let note: Note = serde_json::from_slice(&fs::read(&self.file).ok().filter(|_| is_small)?).ok()?;
        let is_fresh = (0..=MAX_AGE).contains(&now.saturating_sub(note.at));
        let is_valid = note.ranges.is_sorted() && note.ranges.iter().all(|(from, to)| from < to && *to <= note.read_to);
        (note.format == FORMAT && is_fresh && is_valid).then(|| Surface {
            read: note.read,
            unreadable: note.unreadable,
            ranges: note.ranges.iter().map(|(from, to)| *from..*to).collect(),
            stopped_at: Some(note.read_to),
        })
    }

    /// Records how far a run came.
    ///
    /// # Errors
    /// When it cannot be written; the run goes on without.
    pub(super) fn save(&self, surface: &Surface, read_to: u64, now: i64) -> io::Result<()> {
        let note = Note {
            format: FORMAT.to_owned(),
            at: now,
            read_to,
            read: surface.read,
            unreadable: surface.unreadable,
            ranges: surface.ranges.iter().map(|range| (range.start, range.end)).collect(),
        };
        let folder = self.file.parent().ok_or(io::ErrorKind::NotFound)?;
        fs::create_dir_all(folder)?;
        let mut new = tempfile::NamedTempFile::new_in(folder)?;
        new.write_all(&serde_json::to_vec(&note)?)?;
        new.as_file().sync_all()?;
        new.persist(&self.file).map(drop).map_err(|e| e.error)
    }

    /// Forgets an earlier run.
    pub(super) fn forget(&self) {
        let _ = fs::remove_file(&self.file);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_run_is_continued_within_a_week_and_only_for_the_same_volume() {
        let folder = tempfile::tempdir().unwrap();
        let notes = SurfaceNotes::of(folder.path(), "u", 100, false);
        assert!(notes.load(50).is_none());
        let surface = Surface { read: 60, unreadable: 4, ranges: std::iter::once(8..12).collect(), stopped_at: None };
        notes.save(&surface, 64, 50).unwrap();
        let found = notes.load(60).unwrap();
        assert_eq!((found.read, found.ranges.clone(), found.stopped_at), (60, surface.ranges, Some(64)));
        assert!(notes.load(50 + MAX_AGE + 1).is_none() && notes.load(40).is_none());
        for other in [("v", 100, false), ("u", 101, false), ("u", 100, true)] {
            assert!(SurfaceNotes::of(folder.path(), other.0, other.1, other.2).load(60).is_none());
        }
        fs::write(
            &notes.file,
            r#"{"format":"veritum.surface/1","at":50,"read_to":9,"read":1,"unreadable":0,"ranges":[[8,12]]}"#,
        )
        .unwrap();
        assert!(notes.load(60).is_none(), "it contradicts itself");
        notes.forget();
        assert!(notes.load(60).is_none());
    }
}
