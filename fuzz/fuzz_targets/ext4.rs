//! ext4: each input is a list of changes to a sound file system, or to one as a crash left it, and is also read as a disk by itself. A first
//! byte decides which, and whether checksums are believed to exist: without them every wrong number is followed.
#![no_main]

use std::collections::HashSet;
use std::sync::OnceLock;

use libfuzzer_sys::fuzz_target;
use veritum_core::devices::ext4::{FileSystem, Paths, Replayed, deleted_files, owners};
use veritum_core::devices::{PartitionTable, identify};

const SOUND: &[u8] = include_bytes!("../../crates/veritum-base/src/devices/ext4/data/small.img.zst");
const CRASHED: &[u8] = include_bytes!("../../crates/veritum-base/src/devices/ext4/data/crashed.img.zst");

/// A file system, and the places of its bytes that say something.
type Sample = (Vec<u8>, Vec<usize>);

fn samples() -> &'static [Sample; 2] {
    static IMAGES: OnceLock<[Sample; 2]> = OnceLock::new();
    IMAGES.get_or_init(|| {
        // 1 MiB is enough for all metadata of the first group; of the other one the journal is wanted as well.
        [(SOUND, 1400 * 1024), (CRASHED, usize::MAX)].map(|(packed, end)| {
            let image = zstd::decode_all(packed).expect("BUG: the sample is whole");
            let places = (1024..image.len().min(end)).filter(|at| image[*at] != 0).collect();
            (image, places)
        })
    })
}

fuzz_target!(|data: &[u8]| {
    let disk = data.to_vec();
    let _ = PartitionTable::read(&disk);
    if let Some(volume) = identify(&disk) {
        let _ = volume.marks(&disk);
    }
    let Some((first, changes)) = data.split_first() else { return };
    let (image, places) = &samples()[usize::from(first >> 1 & 1)];
    let mut image = image.clone();
    if first & 1 != 0 {
        image[1024 + 0x65] &= !4;
    }
    for change in changes.chunks_exact(4) {
        let at = usize::from(change[0]) << 16 | usize::from(change[1]) << 8 | usize::from(change[2]);
        image[places[at % places.len()]] = change[3];
    }
    let replayed = Replayed::new(&image).ok();
    let Ok(fs) = FileSystem::open_with(&image, replayed.as_ref()) else { return };
    let pool = rayon::ThreadPoolBuilder::new().num_threads(1).build().expect("BUG: one thread");
    let checked = fs.check(&pool, &|_| true);
    let inodes: HashSet<u32> = checked.problems.iter().filter_map(|problem| problem.inode).collect();
    let paths = Paths::find(&fs, &inodes);
    inodes.iter().for_each(|inode| drop(paths.of(*inode)));
    let _ = owners(&fs, &[0, 1, 82, 1333, 1350, 9000]);
    for file in deleted_files(&fs).unwrap_or_default().iter().take(10) {
        let _ = fs.content_of_deleted(file).read_at(0, &mut [0; 4096]);
    }
});
