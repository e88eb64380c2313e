//! FAT: the boot sector and its copy, both tables, and the marks of a file system that was not unmounted (ECMA-107; for 32 bits the
//! specification of 2000).

use super::ReadAt;
use super::volume::{Mark, RawVolume, VolumeKind};
use crate::formats::numbers::{le16, le32, text};

/// Larger tables are not compared.
const MAX_TABLE: u64 = 1 << 30;
const PIECE: usize = 1 << 20;

/// The shape of a file system.
pub(super) struct Shape {
    pub(super) sector: u64,
    pub(super) reserved: u64,
    pub(super) tables: u8,
    pub(super) table: u64,
    /// Whether it has 32 bits.
    pub(super) is_32: bool,
    /// Whether it has 12 bits, where no marks are kept.
    is_12: bool,
    /// The sector of the copy of the boot sector; 0 for none.
    pub(super) copy: u64,
    pub(super) boot: Vec<u8>,
}

pub(super) fn shape(disk: &dyn ReadAt) -> Option<Shape> {
    shape_of(disk.bytes_at(0, 512).ok()?)
}

/// The shape that a boot sector of 512 bytes describes.
pub(super) fn shape_of(boot: Vec<u8>) -> Option<Shape> {
    let (sector, per_cluster) = (u64::from(le16(&boot, 11)), u64::from(boot[13]));
    let (reserved, tables) = (u64::from(le16(&boot, 14)), boot[16]);
    let is_valid = le16(&boot, 510) == 0xaa55
        && [512, 1024, 2048, 4096].contains(&sector)
        && per_cluster.is_power_of_two()
        && reserved > 0
        && (1..=2).contains(&tables)
        && (boot[21] == 0xf0 || boot[21] >= 0xf8);
    if !is_valid {
        return None;
    }
    let is_32 = le16(&boot, 22) == 0;
    let table = u64::from(if is_32 { le32(&boot, 36) } else { u32::from(le16(&boot, 22)) });
    let all = u64::from(if le16(&boot, 19) == 0 { le32(&boot, 32) } else { u32::from(le16(&boot, 19)) });
    let root = (u64::from(le16(&boot, 17)) * 32).div_ceil(sector);
    let data = all.checked_sub(reserved + u64::from(tables) * table + root)?;
    let is_12 = !is_32 && data / per_cluster < 4085;
    let copy = if is_32 { u64::from(le16(&boot, 50)) } else { 0 };
    (table > 0).then_some(Shape { sector, reserved, tables, table, is_32, is_12, copy, boot })
}

pub(super) fn identify(disk: &dyn ReadAt) -> Option<RawVolume> {
    let shape = shape(disk)?;
    let (number, label) = if shape.is_32 { (67, 71) } else { (39, 43) };
    let id = le32(&shape.boot, number);
    let label = text(&shape.boot[label..label + 11]).trim_end().to_owned();
    let label = if label == "NO NAME" { String::new() } else { label };
    Some(RawVolume { kind: VolumeKind::Vfat, label, uuid: format!("{:04X}-{:04X}", id >> 16, id & 0xffff) })
}

pub(super) fn marks(disk: &dyn ReadAt) -> Vec<Mark> {
    let Some(shape) = shape(disk) else { return vec![Mark::Damaged("the boot sector".into())] };
    let mut marks = Vec::new();
    if shape.is_32 && (1..shape.reserved).contains(&shape.copy) {
        match disk.bytes_at(shape.copy * shape.sector, 512) {
            // The mark of a mounted file system is in the first alone.
            Ok(copy) if (0..512).all(|at| at == 0x41 || copy[at] == shape.boot[at]) => {}
            Ok(_) => marks.push(Mark::Differs("the boot sector and its copy".into())),
            Err(_) => marks.push(Mark::Damaged("the copy of the boot sector".into())),
        }
    }
    let (first, size) = (shape.reserved * shape.sector, shape.table * shape.sector);
    match disk.bytes_at(first, 8) {
        Err(_) => marks.push(Mark::Damaged("the file allocation table".into())),
        Ok(_) if shape.is_12 => {}
        Ok(head) => {
            let (clean, sound) = match shape.is_32 {
                true => (le32(&head, 4) >> 27 & 1, le32(&head, 4) >> 26 & 1),
                false => (u32::from(le16(&head, 2)) >> 15 & 1, u32::from(le16(&head, 2)) >> 14 & 1),
            };
            let mounted = shape.boot[if shape.is_32 { 0x41 } else { 0x25 }] & 1 != 0;
            if clean == 0 || mounted {
                marks.push(Mark::NotClean);
            }
            if sound == 0 {
                marks.push(Mark::Errors);
            }
        }
    }
    if shape.tables == 2 && size <= MAX_TABLE {
        match same(disk, first, first + size, size) {
            Some(true) => {}
            Some(false) => marks.push(Mark::Differs("the two file allocation tables".into())),
            None => marks.push(Mark::Damaged("a file allocation table".into())),
        }
    }
    marks
}

/// Whether two regions are the same; `None` if one cannot be read.
fn same(disk: &dyn ReadAt, one: u64, other: u64, size: u64) -> Option<bool> {
    let mut at = 0;
    while at < size {
        let piece = usize::try_from((size - at).min(PIECE as u64)).ok()?;
        if disk.bytes_at(one + at, piece).ok()? != disk.bytes_at(other + at, piece).ok()? {
            return Some(false);
        }
        at += piece as u64;
    }
    Some(true)
}
