//! Swap space (include/linux/swap.h in the kernel's source).

use super::ReadAt;
use super::volume::{RawVolume, VolumeKind};
use crate::formats::numbers::{array, text, uuid};

/// The sizes of a memory page; the signature is at the end of the first.
const PAGES: [u64; 3] = [4096, 16384, 65536];

pub(super) fn identify(disk: &dyn ReadAt) -> Option<RawVolume> {
    let is_swap = |page: &u64| disk.bytes_at(page - 10, 10).is_ok_and(|bytes| bytes == b"SWAPSPACE2");
    PAGES.iter().find(|page| is_swap(page))?;
    let head = disk.bytes_at(1024, 44).ok()?;
    Some(RawVolume { kind: VolumeKind::Swap, label: text(&head[28..44]), uuid: uuid(&array(&head, 12)?) })
}
