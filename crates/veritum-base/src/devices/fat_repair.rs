//! The parts that a FAT file system has twice, each as it is to be written from the other. Pure: what is written is returned.

use super::table_writer::Placed;
use super::vfat::{Shape, shape, shape_of};
use super::{FatFiles, Patches, ReadAt, Section};
use crate::formats::numbers::{le16, le32};

/// Where the copy of the boot sector usually is, in sectors.
const COPY: u64 = 6;
const SECTOR: u64 = 512;
/// Larger tables are not written again.
const MAX_TABLE: u64 = 64 << 20;

/// The boot sector, from its copy; only FAT with 32 bits has one.
///
/// # Errors
/// Why it is not written.
pub fn boot_sector(bytes: &Section) -> Result<Placed, String> {
    let copy = bytes.bytes_at(COPY * SECTOR, 512).map_err(|_| "its copy cannot be read".to_owned())?;
    let is_own =
        shape_of(copy.clone()).is_some_and(|shape| shape.is_32 && shape.copy == COPY && shape.sector == SECTOR);
    let fits = u64::from(le16(&copy, 11)) * u64::from(le32(&copy, 32)) <= bytes.size();
    match is_own && fits {
        true => Ok((0, copy)),
        false => Err("there is no copy of its boot sector".to_owned()),
    }
}

/// The copy of the boot sector, from the boot sector.
///
/// # Errors
/// Why it is not written.
pub fn boot_copy(bytes: &Section) -> Result<Placed, String> {
    let shape = shape(bytes).filter(|shape| shape.is_32 && (1..shape.reserved).contains(&shape.copy));
    let shape = shape.ok_or("its boot sector names no copy")?;
    Ok((shape.copy * shape.sector, shape.boot))
}

/// One of the two allocation tables, from that with which all files can be read; the first one if that is so with both.
///
/// # Errors
/// Why it is not written.
pub fn allocation_table(bytes: &Section) -> Result<Placed, String> {
    let shape = shape(bytes).filter(|shape| shape.tables == 2).ok_or("it has no second table")?;
    let Shape { sector, reserved, table, .. } = shape;
    let (first, size) = (reserved * sector, table * sector);
    if size > MAX_TABLE {
        return Err("its tables are too large".to_owned());
    }
    let count = usize::try_from(size).map_err(|_| "its tables are too large".to_owned())?;
    let read = |at: u64| bytes.bytes_at(at, count).map_err(|_| "one of its tables cannot be read".to_owned());
    let (one, other) = (read(first)?, read(first + size)?);
    if is_readable(bytes) {
        return Ok((first + size, one));
    }
    let mut patches = Patches::default();
    patches.write(bytes, first, &other).map_err(|_| "its first table cannot be read".to_owned())?;
    match is_readable(&bytes.with_planned(&patches)) {
        true => Ok((first, other)),
        false => Err("with neither of its tables can all files be read".to_owned()),
    }
}

/// Whether all files can be read.
fn is_readable(bytes: &Section) -> bool {
    let read = || {
        let files = FatFiles::open(bytes).ok()?;
        let entries = files.list().ok()?;
        let mut all = entries.iter().filter(|entry| !entry.is_folder);
        all.all(|entry| files.read(&entry.path).is_ok()).then_some(())
    };
    read().is_some()
}

#[cfg(test)]
mod tests {
    use std::io::{self, Write as _};
    use std::sync::Arc;

    use super::*;

    fn sample() -> Vec<u8> {
        let mut image = io::Cursor::new(vec![0u8; 40 << 20]);
        let options = fatfs::FormatVolumeOptions::new().fat_type(fatfs::FatType::Fat32).bytes_per_cluster(512);
        fatfs::format_volume(&mut image, options).unwrap();
        {
            let system = fatfs::FileSystem::new(&mut image, fatfs::FsOptions::new()).unwrap();
            system.root_dir().create_file("quay").unwrap().write_all(&[b'q'; 5000]).unwrap();
        }
        image.into_inner()
    }

    fn section(image: &[u8]) -> Section {
        Section::new(Arc::new(image.to_vec()), 0, image.len() as u64)
    }

    fn written(image: &[u8], (at, bytes): Placed) -> Vec<u8> {
        let mut image = image.to_vec();
        image[at as usize..at as usize + bytes.len()].copy_from_slice(&bytes);
        image
    }

    #[test]
    fn each_part_is_written_from_its_twin() {
        let whole = sample();
        let mut lost = whole.clone();
        lost[..512].fill(0);
        assert!(written(&lost, boot_sector(&section(&lost)).unwrap()) == whole);
        lost[3072..3584].fill(0);
        assert!(boot_sector(&section(&lost)).is_err());
        let mut other = whole.clone();
        other[3072..3584].fill(0);
        assert!(written(&other, boot_copy(&section(&other)).unwrap()) == whole);
        let shape = shape(&whole).unwrap();
        let (first, size) = ((shape.reserved * 512) as usize, (shape.table * 512) as usize);
        // The first entry of a chain of clusters that goes on.
        let goes_on = |at: &usize| (3..0x0fff_0000).contains(&le32(&whole, *at));
        let entry = (first + 12..first + size).step_by(4).find(goes_on).unwrap() - first;
        for damaged in [first + size + entry, first + entry] {
            let mut other = whole.clone();
            other[damaged..damaged + 4].fill(0);
            assert!(written(&other, allocation_table(&section(&other)).unwrap()) == whole, "{damaged}");
        }
        let mut both = whole.clone();
        both[first + entry..first + entry + 4].fill(0);
        both[first + size + entry + 4..first + size + entry + 8].fill(0);
        assert!(allocation_table(&section(&both)).is_err());
    }
}
