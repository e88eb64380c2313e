//! btrfs: the superblock and its copies (fs/btrfs/accessors.h in the kernel's source; the on-disk format is documented there).

use aws_lc_rs::digest::{SHA256, digest};

use super::checksums::crc32c;
use super::volume::{Mark, RawVolume, VolumeKind};
use super::{ReadAt, past_the_end};
use crate::formats::numbers::{array, le16, le32, le64, text, uuid};

const SIZE: usize = 4096;
/// The places of the superblock and its copies.
const PLACES: [u64; 3] = [64 << 10, 64 << 20, 256 << 30];
const MAGIC: &[u8; 8] = b"_BHRfS_M";
/// The flag of a file system on which the kernel found an error.
const HAS_ERROR: u64 = 1 << 2;

fn superblock(disk: &dyn ReadAt, at: u64) -> std::io::Result<Option<Vec<u8>>> {
    if at.saturating_add(SIZE as u64) > disk.size() {
        return Err(past_the_end());
    }
    let bytes = disk.bytes_at(at, SIZE)?;
    Ok((&bytes[0x40..0x48] == MAGIC && le64(&bytes, 0x30) == at).then_some(bytes))
}

/// Whether the checksum is right; `None` for a kind that is not computed here.
fn sum_is_right(bytes: &[u8]) -> Option<bool> {
    match le16(bytes, 0xc4) {
        0 => Some(!crc32c(u32::MAX, &bytes[0x20..]) == le32(bytes, 0)),
        2 => Some(digest(&SHA256, &bytes[0x20..]).as_ref() == &bytes[..0x20]),
        _ => None,
    }
}

pub(super) fn identify(disk: &dyn ReadAt) -> Option<RawVolume> {
    let found = PLACES.iter().find_map(|at| superblock(disk, *at).ok().flatten())?;
    let label = text(&found[0x12b..0x22b]);
    Some(RawVolume { kind: VolumeKind::Btrfs, label, uuid: uuid(&array(&found, 0x20)?) })
}

pub(super) fn marks(disk: &dyn ReadAt) -> Vec<Mark> {
    let mut marks = Vec::new();
    for (number, at) in PLACES.into_iter().enumerate() {
        let name = if number == 0 { "the superblock".to_owned() } else { format!("copy {number} of the superblock") };
        match superblock(disk, at) {
            Err(e) if e.kind() == std::io::ErrorKind::UnexpectedEof => {}
            Ok(Some(bytes)) if sum_is_right(&bytes) != Some(false) => {
                if le64(&bytes, 0x38) & HAS_ERROR != 0 && !marks.contains(&Mark::Errors) {
                    marks.push(Mark::Errors);
                }
            }
            _ => marks.push(Mark::Damaged(name)),
        }
    }
    marks
}
