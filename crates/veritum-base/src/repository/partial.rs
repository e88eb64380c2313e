//! [`Partial`]: a file that is being downloaded, next to its destination.
//!
//! An earlier run's part is continued by one process at a time, which locks it. Every other process that downloads the same
//! file writes one of its own.

use std::fs::{self, File, OpenOptions};
use std::io::{self, Write as _};
use std::os::unix::fs::{MetadataExt as _, OpenOptionsExt as _};
use std::path::{Path, PathBuf};

/// How often the shared part is opened again when another process finished or removed it in between.
const TRIES: u32 = 4;

/// A partial file that only this process writes.
#[derive(Debug)]
pub(super) struct Partial {
    file: File,
    path: PathBuf,
    /// Whether a later run may continue it.
    kept: bool,
}

impl Partial {
    /// Opens the partial file of the destination `to`: the shared one, or, if another process is writing that, one of its
    /// own.
    pub(super) fn open(to: &Path) -> io::Result<Self> {
        let shared = to.with_extension("part");
        for _ in 0..TRIES {
            let file = opened(&shared)?;
            match file.try_lock() {
                Ok(()) if is_at(&file, &shared) => {
                    remove_abandoned(&shared);
                    return Ok(Self { file, path: shared, kept: true });
                }
                // The process that had it has finished or removed it since it was opened: the name refers to another file now.
                Ok(()) => {}
                Err(_) => break,
            }
        }
        let path = to.with_extension(format!("part-{}", std::process::id()));
        let file = opened(&path)?;
        file.try_lock().map_err(io::Error::from)?;
        file.set_len(0)?;
        Ok(Self { file, path, kept: false })
    }

    /// Its size in bytes.
    pub(super) fn len(&self) -> io::Result<u64> {
        Ok(self.file.metadata()?.len())
    }

    /// Starts again from zero.
    pub(super) fn empty(&self) -> io::Result<()> {
        self.file.set_len(0)
    }

    /// Appends bytes.
    pub(super) fn append(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.file.write_all(bytes)
    }

    /// All of it for reading, after it is on the medium.
    pub(super) fn reread(&self) -> io::Result<File> {
        self.file.sync_all()?;
        File::open(&self.path)
    }

    /// Renames it to its destination.
    pub(super) fn finish(mut self, to: &Path) -> io::Result<()> {
        fs::rename(&self.path, to)?;
        // There is nothing left to remove under its name.
        self.kept = true;
        Ok(())
    }
}

impl Drop for Partial {
    fn drop(&mut self) {
        // A part that cannot be continued is removed while it is still locked.
        if !self.kept || self.len().is_ok_and(|len| len == 0) && is_at(&self.file, &self.path) {
            let _ = fs::remove_file(&self.path);
        }
    }
}

fn opened(path: &Path) -> io::Result<File> {
    // Opens it without following symlinks or waiting for a pipe.
    let flags = rustix::fs::OFlags::NOFOLLOW | rustix::fs::OFlags::NONBLOCK;
    OpenOptions::new().create(true).append(true).mode(0o600).custom_flags(flags.bits().cast_signed()).open(path)
}

/// Whether a name still refers to this file.
fn is_at(file: &File, path: &Path) -> bool {
    let same = |a: fs::Metadata, b: fs::Metadata| (a.dev(), a.ino()) == (b.dev(), b.ino());
    matches!((file.metadata(), fs::symlink_metadata(path)), (Ok(open), Ok(named)) if same(open.clone(), named.clone()))
}

/// Removes the own parts of processes that were killed: nothing will ever continue them.
fn remove_abandoned(shared: &Path) {
    let (Some(folder), Some(name)) = (shared.parent(), shared.file_name().and_then(|name| name.to_str())) else {
        return;
    };
    for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
        let own = entry.file_name().to_str().and_then(|n| n.strip_prefix(name)?.strip_prefix('-')).is_some();
        if own && entry.file_type().is_ok_and(|kind| kind.is_file()) {
            let unlocked = opened(&entry.path()).is_ok_and(|file| file.try_lock().is_ok());
            if unlocked {
                let _ = fs::remove_file(entry.path());
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn names(dir: &Path) -> Vec<String> {
        let mut names: Vec<String> =
            fs::read_dir(dir).unwrap().map(|e| e.unwrap().file_name().into_string().unwrap()).collect();
        names.sort();
        names
    }

    #[test]
    fn one_process_goes_on_with_the_earlier_part_and_others_leave_nothing_of_their_own() {
        let dir = tempfile::tempdir().unwrap();
        let to = dir.path().join("quay.deb");
        fs::write(dir.path().join("quay.part"), "begun").unwrap();
        let mut first = Partial::open(&to).unwrap();
        assert_eq!(first.len().unwrap(), 5);
        let mut second = Partial::open(&to).unwrap();
        assert_eq!(second.len().unwrap(), 0);
        second.append(b"all of it").unwrap();
        first.append(b", and more").unwrap();
        drop(second);
        assert_eq!(names(dir.path()), ["quay.part"]);
        drop(first);
        assert_eq!(fs::read(dir.path().join("quay.part")).unwrap(), b"begun, and more", "it is there for the next run");
        Partial::open(&to).unwrap().finish(&to).unwrap();
        assert_eq!(names(dir.path()), ["quay.deb"]);
    }

    #[test]
    fn a_lock_on_a_removed_part_does_not_count() {
        let dir = tempfile::tempdir().unwrap();
        let to = dir.path().join("quay.deb");
        let first = Partial::open(&to).unwrap();
        fs::remove_file(dir.path().join("quay.part")).unwrap();
        // The name means another file now: the one that opens it is alone with it, and the first does not remove it.
        let mut second = Partial::open(&to).unwrap();
        second.append(b"x").unwrap();
        drop(first);
        drop(second);
        assert_eq!(fs::read(dir.path().join("quay.part")).unwrap(), b"x");
        let emptied = Partial::open(&to).unwrap();
        emptied.empty().unwrap();
        drop(emptied);
        assert!(names(dir.path()).is_empty(), "an empty part is of no use to anybody");
    }

    #[test]
    fn what_a_killed_process_had_begun_for_itself_is_removed_and_nothing_else() {
        let dir = tempfile::tempdir().unwrap();
        let to = dir.path().join("quay.deb");
        for name in ["quay.part-1", "pier.part-1", "quay.part.txt"] {
            fs::write(dir.path().join(name), "begun").unwrap();
        }
        let busy = opened(&dir.path().join("quay.part-2")).unwrap();
        busy.try_lock().unwrap();
        drop(Partial::open(&to).unwrap());
        assert_eq!(names(dir.path()), ["pier.part-1", "quay.part-2", "quay.part.txt"]);
    }
}
