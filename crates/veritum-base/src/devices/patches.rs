//! [`Patches`]: what is going to be written to a disk, sector by sector, and the disk as it is afterwards.

use std::collections::BTreeMap;
use std::io;

use super::ReadAt;

/// What is written is whole sectors of this size, in bytes.
pub const SECTOR: usize = 512;
const SIZE: u64 = SECTOR as u64;

/// Adjacent sectors, with what they contain and what is going to be written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PatchedRange {
    /// Where they begin, in bytes.
    pub at: u64,
    /// What they contain.
    pub old: Vec<u8>,
    /// What is going to be written.
    pub new: Vec<u8>,
}

/// What is going to be written to a disk.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Patches(BTreeMap<u64, [u8; SECTOR]>);

impl Patches {
    /// Whether nothing is going to be written.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Adds bytes that are going to be written from `at` on; `disk` is the disk without these patches.
    ///
    /// # Errors
    /// When the sector at the beginning or the end cannot be read, or the disk ends before.
    pub fn write(&mut self, disk: &dyn ReadAt, at: u64, bytes: &[u8]) -> io::Result<()> {
        if at.checked_add(bytes.len() as u64).is_none_or(|end| end > disk.size()) {
            return Err(super::past_the_end());
        }
        let mut done = 0;
        while done < bytes.len() {
            let place = at + done as u64;
            let (sector, within) = (place / SIZE, usize::try_from(place % SIZE).unwrap_or_default());
            let count = (SECTOR - within).min(bytes.len() - done);
            let mut now = match self.0.get(&sector) {
                Some(known) => *known,
                None if count == SECTOR => [0; SECTOR],
                None => {
                    let mut now = [0; SECTOR];
                    disk.read_at(sector * SIZE, &mut now)?;
                    now
                }
            };
            now[within..within + count].copy_from_slice(&bytes[done..done + count]);
            self.0.insert(sector, now);
            done += count;
        }
        Ok(())
    }

    /// Adds what another one writes, over what this one does.
    pub fn extend(&mut self, other: &Self) {
        self.0.extend(other.0.iter().map(|(sector, bytes)| (*sector, *bytes)));
    }

    /// The same, so many sectors further: of a part of a disk, what is written to the disk.
    #[must_use]
    pub fn moved(&self, sectors: u64) -> Self {
        Self(self.0.iter().map(|(sector, bytes)| (sector + sectors, *bytes)).collect())
    }

    /// Replaces in a buffer, read from `at` on, what is going to be written there.
    pub fn apply(&self, at: u64, buffer: &mut [u8]) {
        let end = at.saturating_add(buffer.len() as u64);
        for (sector, bytes) in self.0.range(at / SIZE..end.div_ceil(SIZE)) {
            let start = sector * SIZE;
            let (from, until) = (start.max(at), (start + SIZE).min(end));
            if from < until {
                let place = |of: u64, begin: u64| usize::try_from(of - begin).unwrap_or_default();
                buffer[place(from, at)..place(until, at)]
                    .copy_from_slice(&bytes[place(from, start)..place(until, start)]);
            }
        }
    }

    /// The sectors that differ from what the disk contains, adjacent ones together.
    ///
    /// # Errors
    /// When one of them cannot be read: what it contains could not be kept.
    pub fn ranges(&self, disk: &dyn ReadAt) -> io::Result<Vec<PatchedRange>> {
        let mut ranges: Vec<PatchedRange> = Vec::new();
        for (sector, new) in &self.0 {
            let at = sector * SIZE;
            let old = disk.bytes_at(at, SECTOR)?;
            if old == new {
                continue;
            }
            match ranges.last_mut().filter(|last| last.at + last.new.len() as u64 == at) {
                Some(last) => {
                    last.old.extend(old);
                    last.new.extend(new);
                }
                None => ranges.push(PatchedRange { at, old, new: new.to_vec() }),
            }
        }
        Ok(ranges)
    }
}

/// A disk as it is after something was written to it.
pub struct Patched<'a> {
    disk: &'a dyn ReadAt,
    patches: &'a Patches,
}

impl<'a> Patched<'a> {
    /// The disk with these patches.
    #[must_use]
    pub fn new(disk: &'a dyn ReadAt, patches: &'a Patches) -> Self {
        Self { disk, patches }
    }
}

impl ReadAt for Patched<'_> {
    fn size(&self) -> u64 {
        self.disk.size()
    }

    fn read_at(&self, at: u64, buffer: &mut [u8]) -> io::Result<()> {
        self.disk.read_at(at, buffer)?;
        self.patches.apply(at, buffer);
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_sectors_that_differ_are_written_and_adjacent_ones_together() {
        let disk: Vec<u8> = (0..4096u32).map(|at| (at % 251) as u8).collect();
        let mut patches = Patches::default();
        patches.write(&disk, 510, &[1, 2, 3, 4]).unwrap();
        patches.write(&disk, 2048, &disk[2048..3000]).unwrap();
        let ranges = patches.ranges(&disk).unwrap();
        assert_eq!(ranges.iter().map(|r| (r.at, r.new.len())).collect::<Vec<_>>(), [(0, 1024)]);
        assert_eq!((&ranges[0].old[..], &ranges[0].new[510..514]), (&disk[..1024], &[1, 2, 3, 4][..]));
        assert!(patches.write(&disk, 4090, &[0; 7]).is_err() && patches.write(&disk, u64::MAX, &[0]).is_err());
        assert!(Patches::default().is_empty() && !patches.is_empty());
    }

    proptest::proptest! {
        #[test]
        fn a_patched_disk_reads_as_one_that_was_written(
            writes in proptest::collection::vec((0u64..3000, proptest::collection::vec(proptest::num::u8::ANY, 1..900)), 0..6),
            at in 0u64..3500, count in 0usize..580,
        ) {
            let disk: Vec<u8> = (0..4096u32).map(|at| (at % 251) as u8).collect();
            let (mut patches, mut written) = (Patches::default(), disk.clone());
            for (at, bytes) in &writes {
                patches.write(&disk, *at, bytes).unwrap();
                written[*at as usize..*at as usize + bytes.len()].copy_from_slice(bytes);
            }
            let patched = Patched::new(&disk, &patches);
            proptest::prop_assert_eq!(patched.bytes_at(at, count).unwrap(), written.bytes_at(at, count).unwrap());
            let mut made = disk.clone();
            for range in patches.ranges(&disk).unwrap() {
                made[range.at as usize..range.at as usize + range.new.len()].copy_from_slice(&range.new);
            }
            proptest::prop_assert_eq!(made, written);
        }
    }
}
