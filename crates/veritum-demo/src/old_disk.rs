//! The disk of an old computer, as an image that was made of it while it failed: ext4, one user, and two places that cannot be read, under a
//! program and under a letter. Made by `data/old-disk.sh`.

use std::fs;
use std::io;
use std::path::Path;

use veritum_core::devices::GapMap;

/// The name of the image in the demo's folder.
pub const NAME: &str = "old-disk.img";
const PACKED: &[u8] = include_bytes!("../data/old-disk.img.zst");
/// What cannot be read: blocks of `/home/mirela/Letters/harbour-office.txt` and of `/usr/bin/berthbook`.
const UNREADABLE: [(u64, u64); 2] = [(1_191_936, 1_196_032), (1_253_376, 1_257_472)];

/// Writes the image and the map of its gaps into a folder.
///
/// # Errors
/// When they cannot be written.
pub fn make(folder: &Path) -> io::Result<()> {
    let mut image = zstd::decode_all(PACKED)?;
    for (from, to) in UNREADABLE {
        let at = |place: u64| usize::try_from(place).unwrap_or_default();
        image[at(from)..at(to)].fill(0);
    }
    let path = folder.join(NAME);
    fs::write(&path, &image)?;
    let map = GapMap {
        format: GapMap::FORMAT.into(),
        source: "/dev/sdb".into(),
        size: image.len() as u64,
        pending: Vec::new(),
        unreadable: UNREADABLE.to_vec(),
    };
    fs::write(GapMap::path_for(&path), serde_json::to_vec(&map)?)
}
