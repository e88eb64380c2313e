//! XFS: the superblock and its copies, one in each allocation group (XFS Algorithms & Data Structures, "Superblocks").

use super::ReadAt;
use super::checksums::crc32c;
use super::volume::{Mark, RawVolume, VolumeKind};
use crate::formats::numbers::{array, be32, be64, le32, text, uuid};

const MAGIC: u32 = u32::from_be_bytes(*b"XFSB");
const MAX_SECTOR: usize = 32 << 10;
/// The place of the checksum, which version 5 has.
const SUM: usize = 0xe0;
/// The feature of a file system that must be repaired before it can be mounted.
const NEEDS_REPAIR: u32 = 1 << 4;
/// No group is smaller, in bytes (`XFS_AG_MIN_BYTES`): a damaged number would lead to the same places again and again.
const MIN_GROUP: u64 = 16 << 20;
/// After so many damaged copies no others are looked for.
const MAX_MARKS: usize = 100;
/// More groups are not examined.
const MAX_GROUPS: u32 = 100_000;

fn superblock(disk: &dyn ReadAt, at: u64) -> Option<Vec<u8>> {
    let head = disk.bytes_at(at, 512).ok().filter(|bytes| be32(bytes, 0) == MAGIC)?;
    let sector = usize::from(u16::from_be_bytes(array(&head, 102)?));
    let valid = (512..=MAX_SECTOR).contains(&sector) && sector.is_power_of_two();
    if valid { disk.bytes_at(at, sector).ok() } else { None }
}

fn has_sum(bytes: &[u8]) -> bool {
    array(bytes, 100).is_some_and(|version| u16::from_be_bytes(version) & 0xf == 5)
}

fn sum_is_right(bytes: &[u8]) -> bool {
    let sum = crc32c(crc32c(crc32c(u32::MAX, &bytes[..SUM]), &[0; 4]), &bytes[SUM + 4..]);
    !has_sum(bytes) || !sum == le32(bytes, SUM)
}

pub(super) fn identify(disk: &dyn ReadAt) -> Option<RawVolume> {
    let found = superblock(disk, 0)?;
    Some(RawVolume { kind: VolumeKind::Xfs, label: text(&found[108..120]), uuid: uuid(&array(&found, 32)?) })
}

pub(super) fn marks(disk: &dyn ReadAt) -> Vec<Mark> {
    let Some(first) = superblock(disk, 0) else { return vec![Mark::Damaged("the superblock".into())] };
    let mut marks = Vec::new();
    if !sum_is_right(&first) {
        marks.push(Mark::Damaged("the superblock".into()));
    }
    if has_sum(&first) && be32(&first, 216) & NEEDS_REPAIR != 0 {
        marks.push(Mark::NeedsRepair);
    }
    let (block, in_group, groups) = (u64::from(be32(&first, 4)), u64::from(be32(&first, 84)), be32(&first, 88));
    let Some(group_size) = in_group.checked_mul(block).filter(|size| *size >= MIN_GROUP) else {
        if marks.is_empty() {
            marks.push(Mark::Damaged("the superblock".into()));
        }
        return marks;
    };
    let size = |bytes: &[u8]| (be32(bytes, 4), be64(bytes, 8), array::<16>(bytes, 32));
    for group in 1..groups.min(MAX_GROUPS) {
        let Some(at) = group_size.checked_mul(u64::from(group)) else { break };
        if at >= disk.size() || marks.len() >= MAX_MARKS {
            break;
        }
        // Copies are marked as being made, although they are sound; what does not change must be the same.
        let is_sound = superblock(disk, at).is_some_and(|copy| sum_is_right(&copy) && size(&copy) == size(&first));
        if !is_sound {
            marks.push(Mark::Damaged(format!("the copy of the superblock in group {group}")));
        }
    }
    marks
}
