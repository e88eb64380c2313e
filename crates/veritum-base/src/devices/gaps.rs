//! [`GapMap`]: what an image of a disk lacks, because the disk could not be read there (`veritum.image-gaps/1`, JSON). It is a file beside
//! the image, with the image's name and `.gaps`.

use std::ffi::OsString;
use std::io::{self, Read as _};
use std::ops::Range;
use std::path::{Path, PathBuf};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Larger files are no such maps, in bytes.
const MAX_BYTES: u64 = 64 << 20;

/// What an image lacks.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct GapMap {
    /// `veritum.image-gaps/1`.
    pub format: String,
    /// The disk that was copied, as it was named.
    pub source: String,
    /// Its size in bytes, and that of the image.
    pub size: u64,
    /// The parts that were not read yet, from and to in bytes, in order.
    pub pending: Vec<(u64, u64)>,
    /// The parts that could not be read, from and to in bytes, in order.
    pub unreadable: Vec<(u64, u64)>,
}

impl GapMap {
    /// The format's name.
    pub const FORMAT: &'static str = "veritum.image-gaps/1";

    /// The place of an image's map.
    #[must_use]
    pub fn path_for(image: &Path) -> PathBuf {
        let mut name: OsString = image.as_os_str().to_owned();
        name.push(".gaps");
        name.into()
    }

    /// Reads the map of an image; `None` if there is none.
    ///
    /// # Errors
    /// When it cannot be read, or is not valid.
    pub fn read(image: &Path) -> io::Result<Option<Self>> {
        let file = match std::fs::File::open(Self::path_for(image)) {
            Ok(file) => file,
            Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(None),
            Err(e) => return Err(e),
        };
        let mut text = Vec::new();
        file.take(MAX_BYTES + 1).read_to_end(&mut text)?;
        let invalid = |why| io::Error::new(io::ErrorKind::InvalidData, why);
        if text.len() as u64 > MAX_BYTES {
            return Err(invalid("its map of gaps is too large"));
        }
        let map: Self = serde_json::from_slice(&text).map_err(|_| invalid("its map of gaps is not valid"))?;
        match (map.format == Self::FORMAT, map.is_in_order()) {
            (true, true) => Ok(Some(map)),
            (true, false) => Err(invalid("its map of gaps is not valid")),
            (false, _) => Err(invalid("its map of gaps was written by another version")),
        }
    }

    fn is_in_order(&self) -> bool {
        [&self.pending, &self.unreadable].into_iter().all(|ranges| {
            let mut last = 0;
            ranges.iter().all(|(from, to)| {
                let fits = *from >= last && from < to && *to <= self.size;
                last = *to;
                fits
            })
        })
    }

    /// All parts that the image lacks, in order.
    #[must_use]
    pub fn gaps(&self) -> Vec<Range<u64>> {
        let mut all: Vec<Range<u64>> =
            self.pending.iter().chain(&self.unreadable).map(|(from, to)| *from..*to).collect();
        all.sort_by_key(|gap| gap.start);
        all
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(text: &[u8]) -> io::Result<Option<GapMap>> {
        let dir = tempfile::tempdir().unwrap();
        std::fs::write(dir.path().join("disk.img.gaps"), text).unwrap();
        GapMap::read(&dir.path().join("disk.img"))
    }

    fn map() -> GapMap {
        let format = GapMap::FORMAT.into();
        let (pending, unreadable) = (vec![(8192, 12288)], vec![(512, 1024), (4096, 8192)]);
        GapMap { format, source: "/dev/sda".into(), size: 1 << 20, pending, unreadable }
    }

    #[test]
    fn a_map_is_read_and_one_that_is_not_valid_is_refused() {
        assert!(GapMap::read(Path::new("/nowhere/disk.img")).unwrap().is_none());
        let text = serde_json::to_vec(&map()).unwrap();
        assert_eq!(read(&text).unwrap().unwrap(), map());
        assert_eq!(map().gaps(), [512..1024, 4096..8192, 8192..12288]);
        for wrong in [
            GapMap { unreadable: vec![(4096, 8192), (512, 1024)], ..map() },
            GapMap { unreadable: vec![(8, 8)], ..map() },
            GapMap { pending: vec![(0, 2 << 20)], ..map() },
            GapMap { format: "veritum.image-gaps/2".into(), ..map() },
        ] {
            assert!(read(&serde_json::to_vec(&wrong).unwrap()).is_err(), "{wrong:?}");
        }
        assert!(read(b"{").is_err());
    }

    proptest::proptest! {
        #[test]
        fn whatever_is_read_is_in_order_and_within_the_disk(seed: u64) {
            let text = crate::testkit::mutated(&serde_json::to_vec(&map()).unwrap(), seed);
            if let Ok(Some(found)) = read(&text) {
                proptest::prop_assert!(found.gaps().iter().all(|gap| gap.start < gap.end && gap.end <= found.size));
            }
        }
    }
}
