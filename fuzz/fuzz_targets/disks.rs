//! Disks: each input is a list of changes to a sound ext4 file system, and is also read as a disk by itself. A first byte decides whether
//! checksums are believed to exist: without them every wrong number is followed.
#![no_main]

use std::collections::HashSet;
use std::sync::OnceLock;

use libfuzzer_sys::fuzz_target;
use veritum_core::devices::ext4::{FileSystem, Paths, owners};
use veritum_core::devices::{PartitionTable, identify};

const SOUND: &[u8] = include_bytes!("../../crates/veritum-base/src/devices/ext4/data/small.img.zst");

/// The file system, and the places of its bytes that say something.
fn sound() -> &'static (Vec<u8>, Vec<usize>) {
    static IMAGE: OnceLock<(Vec<u8>, Vec<usize>)> = OnceLock::new();
    IMAGE.get_or_init(|| {
        let image = zstd::decode_all(SOUND).expect("BUG: the sample is whole");
        // 1 MiB is enough for all metadata of the first group.
        let places = (1024..1400 * 1024).filter(|at| image[*at] != 0).collect();
        (image, places)
    })
}

fuzz_target!(|data: &[u8]| {
    let disk = data.to_vec();
    let _ = PartitionTable::read(&disk);
    if let Some(volume) = identify(&disk) {
        let _ = volume.marks(&disk);
    }
    let Some((first, changes)) = data.split_first() else { return };
    let (image, places) = sound();
    let mut image = image.clone();
    if first & 1 != 0 {
        image[1024 + 0x65] &= !4;
    }
    for change in changes.chunks_exact(4) {
        let at = usize::from(change[0]) << 16 | usize::from(change[1]) << 8 | usize::from(change[2]);
        image[places[at % places.len()]] = change[3];
    }
    let Ok(fs) = FileSystem::open(&image) else { return };
    let pool = rayon::ThreadPoolBuilder::new().num_threads(1).build().expect("BUG: one thread");
    let checked = fs.check(&pool, &|_| true);
    let inodes: HashSet<u32> = checked.problems.iter().filter_map(|problem| problem.inode).collect();
    let paths = Paths::find(&fs, &inodes);
    inodes.iter().for_each(|inode| drop(paths.of(*inode)));
    let _ = owners(&fs, &[0, 1, 82, 1333, 1350, 9000]);
});
