//! Writing bytes of a disk: what is there is kept and the intent recorded before anything is written; what was written is read back.
//!
//! An interruption leaves sectors with their old or their new bytes. Recovery writes the new ones, which are kept until then; if a sector
//! has neither, something else wrote to the disk, and nothing more is.

use std::io;
use std::os::fd::AsFd as _;
use std::sync::Arc;

use super::ChangeError;
use super::context::ChangeContext;
use super::state::StateFolder;
use crate::devices::{ReadAt, WriteAt};
use crate::machine::{Dir, read_to_limit};
use crate::model::{Digest, error_words};
use crate::plan::{DiskIdentity, DiskRange, DiskWrite};
use crate::platform::efi_variables::FirmwareVariables;

/// What is compared at a time when it is not known how far writing came, in bytes.
const SECTOR: usize = 512;

/// The disks, and the firmware, that changes write to.
pub trait Disks: Send + Sync {
    /// Opens the disk that a change is about, wherever it is now, to write to it.
    ///
    /// # Errors
    /// Why it cannot be written, for people.
    fn open(&self, disk: &DiskIdentity, only_start: bool) -> Result<Arc<dyn WriteAt>, String>;

    /// The variables of the firmware that starts the machine.
    fn firmware(&self) -> FirmwareVariables;
}

/// The bytes of each range, in their order.
pub type RangeBytes = Vec<Vec<u8>>;

/// The name beside a file of what was there, of what is written.
fn new_name(kept: &str) -> String {
    format!("{kept}.new")
}

/// Puts bytes into a file of the state folder, durable.
fn put(state: &StateFolder, path: &str, bytes: &RangeBytes) -> io::Result<()> {
    let (folder, name) = path.rsplit_once('/').unwrap_or((".", path));
    let dir = state.make_sub(folder)?;
    let disk = dir.disk();
    if dir.look(name.as_bytes())?.is_some() {
        disk.unlink(dir.fd(), name.as_bytes())?;
    }
    let file = disk.create(dir.fd(), name.as_bytes())?;
    bytes.iter().try_for_each(|bytes| disk.write(file.as_fd(), bytes))?;
    disk.sync(file.as_fd())?;
    disk.sync(dir.fd())
}

/// The file with what was there before a change wrote, or will write; `None` if it is not as it was.
fn kept_bytes(
    state: &StateFolder,
    path: &str,
    ranges: &[DiskRange],
    digest: fn(&DiskRange) -> Digest,
) -> Option<RangeBytes> {
    let (folder, name) = path.rsplit_once('/')?;
    let dir: Dir = state.sub(folder).ok()?;
    let size: u64 = ranges.iter().map(|range| range.size).sum();
    let file = dir.disk().open_file(dir.fd(), name.as_bytes()).ok()?;
    let all = read_to_limit(dir.disk(), file.as_fd(), size.checked_add(1)?).ok()?;
    let (mut bytes, mut rest) = (Vec::new(), &all[..]);
    for range in ranges {
        let (own, others) = rest.split_at_checked(usize::try_from(range.size).ok()?)?;
        if Digest::hash(own) != digest(range) {
            return None;
        }
        bytes.push(own.to_vec());
        rest = others;
    }
    rest.is_empty().then_some(bytes)
}

/// What a change kept of what was there.
#[must_use]
pub fn old_bytes(state: &StateFolder, write: &DiskWrite) -> Option<RangeBytes> {
    kept_bytes(state, &write.kept, &write.ranges, |range| range.old)
}

/// The first of the ranges that does not have these bytes now, if one does not.
///
/// # Errors
/// When the disk cannot be read.
pub fn first_other(
    disk: &dyn ReadAt,
    ranges: &[DiskRange],
    digest: fn(&DiskRange) -> Digest,
) -> io::Result<Option<u64>> {
    for range in ranges {
        let count = usize::try_from(range.size).map_err(|_| io::ErrorKind::InvalidData)?;
        disk.forget(range.at, range.size);
        if Digest::hash(&disk.bytes_at(range.at, count)?) != digest(range) {
            return Ok(Some(range.at));
        }
    }
    Ok(None)
}

/// Keeps what is there and what is going to be written.
///
/// # Errors
/// When the state folder cannot be written.
pub(super) fn prepare(state: &StateFolder, write: &DiskWrite, old: &RangeBytes, new: &RangeBytes) -> io::Result<()> {
    put(state, &write.kept, old)?;
    put(state, &new_name(&write.kept), new)
}

/// Deletes what is needed to finish only.
pub(super) fn discard_new(state: &StateFolder, write: &DiskWrite) {
    if let Some((folder, name)) = new_name(&write.kept).rsplit_once('/')
        && let Ok(dir) = state.sub(folder)
    {
        let _ = dir.disk().unlink(dir.fd(), name.as_bytes());
    }
}

/// Writes bytes, and reads them back from the medium.
fn write_all(disk: &dyn WriteAt, ranges: &[DiskRange], bytes: &RangeBytes) -> io::Result<()> {
    for (range, bytes) in ranges.iter().zip(bytes) {
        disk.write_at(range.at, bytes)?;
    }
    disk.sync()?;
    for (range, bytes) in ranges.iter().zip(bytes) {
        disk.forget(range.at, range.size);
        if disk.bytes_at(range.at, bytes.len())? != *bytes {
            let what = format!("what was written at byte {} was read back differently", range.at);
            return Err(io::Error::new(io::ErrorKind::InvalidData, what));
        }
    }
    Ok(())
}

/// Writes old bytes where they are not there: a sector that cannot be written still has them.
fn write_back(disk: &dyn WriteAt, ranges: &[DiskRange], old: &RangeBytes) -> io::Result<()> {
    for (range, old) in ranges.iter().zip(old) {
        for (index, sector) in old.chunks(SECTOR).enumerate() {
            let at = range.at + (index * SECTOR) as u64;
            if disk.bytes_at(at, sector.len()).ok().as_deref() != Some(sector) {
                disk.write_at(at, sector)?;
            }
        }
    }
    disk.sync()?;
    match first_other(disk, ranges, |range| range.old)? {
        None => Ok(()),
        Some(at) => Err(io::Error::new(io::ErrorKind::InvalidData, format!("byte {at} was not written back"))),
    }
}

/// Writes the new bytes, after the intent was recorded. If that fails, the old ones are written back: the error says that.
///
/// # Errors
/// The outer one if neither was possible; the inner one says why the old bytes are there.
pub(super) fn carry_out(
    disk: &dyn WriteAt,
    write: &DiskWrite,
    old: &RangeBytes,
    new: &RangeBytes,
) -> Result<Result<(), String>, io::Error> {
    let Err(e) = write_all(disk, &write.ranges, new) else { return Ok(Ok(())) };
    match write_back(disk, &write.ranges, old) {
        Ok(()) => Ok(Err(format!("it could not be written ({}); all of it is as it was", error_words(&e)))),
        Err(_) => Err(e),
    }
}

/// Finishes what was interrupted, or restores what was there.
///
/// # Errors
/// When the disk cannot be found or written, or something else wrote to it.
pub(super) fn recover(
    context: &ChangeContext<'_>,
    change: u64,
    write: &DiskWrite,
) -> Result<Result<(), String>, ChangeError> {
    let failed = |why: String| ChangeError::Disk { change, disk: write.disk.path.clone(), why };
    let disk = context.disks.open(&write.disk, write.only_start).map_err(failed)?;
    let old = old_bytes(context.state, write);
    let new = kept_bytes(context.state, &new_name(&write.kept), &write.ranges, |range| range.new);
    let (Some(old), new) = (old, new) else {
        // Nothing was written before both were kept.
        let is_old = first_other(&*disk, &write.ranges, |range| range.old).is_ok_and(|other| other.is_none());
        return match is_old {
            true => Ok(Err("interrupted before anything was written".to_owned())),
            false => Err(failed("what was there before is not kept any more, or damaged".to_owned())),
        };
    };
    for (index, range) in write.ranges.iter().enumerate() {
        let now = disk.bytes_at(range.at, old[index].len()).map_err(|e| failed(error_words(&e)))?;
        let is_one = |at: usize, bytes: &[u8]| {
            let of = |side: &[u8]| side.get(at..(at + SECTOR).min(side.len())) == Some(bytes);
            of(&old[index]) || new.as_ref().is_some_and(|new| of(&new[index]))
        };
        let other = now.chunks(SECTOR).enumerate().find(|(at, bytes)| !is_one(at * SECTOR, bytes));
        if let Some((at, _)) = other {
            let place = range.at + (at * SECTOR) as u64;
            return Err(failed(format!("something else wrote to it at byte {place} since; nothing was changed")));
        }
    }
    let done = match &new {
        Some(new) => carry_out(&*disk, write, &old, new),
        None => write_back(&*disk, &write.ranges, &old).map(|()| Err("interrupted".to_owned())),
    };
    done.map_err(|source| ChangeError::Unfinished { change, source })
}
