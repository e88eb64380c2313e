//! What the kernel could not read since the system was started, and at earlier starts, by the files that are there. No counter of a file
//! system knows that.

use std::collections::BTreeSet;
use std::ops::Range;
use std::path::Path;

use super::disks::DiskVolume;
use super::surface::{of_files, places};
use crate::areas::Examined;
use crate::devices::ext4::FileSystem;
use crate::devices::{GRAIN, ReadAt as _};
use crate::platform::block_devices::place_of;
use crate::platform::kernel_log::ReadError;

/// Further places are not read again.
const MAX_PLACES: usize = 256;
const SECTOR: u64 = 512;

/// Read errors that are known from elsewhere than the volume itself.
#[derive(Debug, Default)]
pub(super) struct KnownErrors {
    /// Since the start, by the kernel's log.
    pub(super) now: BTreeSet<ReadError>,
    /// At earlier starts.
    pub(super) earlier: BTreeSet<ReadError>,
    /// Whether the earlier ones are another system's, which may have known the disk by another name.
    pub(super) of_another: bool,
}

impl KnownErrors {
    /// Whether there are any.
    pub(super) fn is_empty(&self) -> bool {
        self.now.is_empty() && self.earlier.is_empty()
    }
}

/// Reads the places of a volume again that could not be read, and names what cannot be read still. The volume begins at `offset` of the
/// block device `node`, in bytes.
pub(super) fn examine(volume: &DiskVolume<'_>, node: &Path, offset: u64, known: &KnownErrors, examined: &mut Examined) {
    let Some((disk, start)) = place_of(node) else { return };
    let start = start.saturating_add(offset);
    let of_disk = |error: &&ReadError| error.disk == disk;
    let (now, fine) = again(volume, start, known.now.iter().filter(of_disk), examined);
    let name = &volume.name;
    if fine > 0 {
        let places = places(fine);
        let words = format!("{places} of {name} could not be read by the kernel since the start, and can be read now");
        examined.note_extent(words);
    }
    let of_disk = |error: &&ReadError| known.of_another || error.disk == disk;
    let others = known.earlier.iter().filter(|error| !known.now.contains(error)).filter(of_disk);
    let (earlier, fine) = again(volume, start, others, examined);
    if fine > 0 {
        let places = places(fine);
        examined.note_extent(format!(
            "{places} that the kernel could not read at an earlier start, perhaps of another disk, can be read now on {name}"
        ));
    }
    let mut unreadable = [now, earlier].concat();
    unreadable.sort_unstable_by_key(|range| range.start);
    unreadable.dedup();
    if unreadable.is_empty() {
        return;
    }
    let places = places(unreadable.len());
    examined.note_extent(format!("{places} of {name} that the kernel could not read before cannot be read now"));
    if let Ok(fs) = FileSystem::open(&volume.bytes) {
        of_files(volume, &fs, &unreadable, examined);
    }
}

/// Those of some places that cannot be read now either, and the number of the others.
fn again<'e>(
    volume: &DiskVolume<'_>,
    start: u64,
    errors: impl Iterator<Item = &'e ReadError>,
    examined: &mut Examined,
) -> (Vec<Range<u64>>, usize) {
    let size = volume.bytes.size();
    let found = errors.filter_map(|error| error.sector.saturating_mul(SECTOR).checked_sub(start));
    let mut found: Vec<u64> = found.filter(|at| *at < size).map(|at| at / GRAIN * GRAIN).collect();
    found.sort_unstable();
    found.dedup();
    let (again, more) = (found.len().min(MAX_PLACES), found.len().saturating_sub(MAX_PLACES));
    let mut unreadable: Vec<Range<u64>> = Vec::new();
    for at in &found[..again] {
        let end = (at + GRAIN).min(size);
        volume.bytes.forget(*at, end - at);
        if volume.bytes.bytes_at(*at, usize::try_from(end - at).unwrap_or_default()).is_err() {
            unreadable.push(*at..end);
        }
    }
    let name = &volume.name;
    if more > 0 {
        examined.leave_out_many(format!("more places of {name} that the kernel could not read"), more as u64, None);
    }
    let fine = again - unreadable.len();
    (unreadable, fine)
}
