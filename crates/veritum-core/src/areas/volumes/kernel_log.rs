//! What the kernel could not read since the system was started, by the files that are there. No counter of a file system knows that.

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

/// Reads the places of a volume again that the kernel could not read, and names what cannot be read still. The volume begins at
/// `offset` of the block device `node`, in bytes.
pub(super) fn examine(
    volume: &DiskVolume<'_>,
    node: &Path,
    offset: u64,
    errors: &BTreeSet<ReadError>,
    examined: &mut Examined,
) {
    let Some((disk, start)) = place_of(node) else { return };
    let (start, size) = (start.saturating_add(offset), volume.bytes.size());
    let own = errors.iter().filter(|error| error.disk == disk);
    let found = own.filter_map(|error| error.sector.saturating_mul(SECTOR).checked_sub(start));
    let mut found: Vec<u64> = found.filter(|at| *at < size).map(|at| at / GRAIN * GRAIN).collect();
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
    let now = again - unreadable.len();
    if now > 0 {
        let places = places(now);
        let words = format!("{places} of {name} could not be read by the kernel since the start, and can be read now");
        examined.note_extent(words);
    }
    if unreadable.is_empty() {
        return;
    }
    let places = places(unreadable.len());
    examined.note_extent(format!("{places} of {name} cannot be read, by the kernel's log and again now"));
    if let Ok(fs) = FileSystem::open(&volume.bytes) {
        of_files(volume, &fs, &unreadable, examined);
    }
}
