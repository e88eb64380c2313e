//! Reading every block of a disk, or those in use, to learn which cannot be read.

use std::ops::Range;

use super::ReadAt;

/// So much is read at once, in bytes.
const PIECE: u64 = 1 << 20;
/// Places are narrowed down to so many bytes: the smallest unit that file systems and most disks use.
pub const GRAIN: u64 = 4096;
/// More unreadable ranges are counted and not kept.
const MAX_RANGES: usize = 100_000;

/// The result of reading a disk.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Surface {
    /// The number of bytes that were read.
    pub read: u64,
    /// The number of bytes that cannot be read.
    pub unreadable: u64,
    /// Where they are, in order; adjacent ones are one range.
    pub ranges: Vec<Range<u64>>,
    /// Where it was stopped.
    pub stopped_at: Option<u64>,
}

/// What is known so far, the place up to which everything was read, and the number of bytes since the last time: decides whether to
/// continue.
pub type GoOn<'a> = dyn FnMut(&Surface, u64, u64) -> bool + 'a;

/// Reads these ranges of a disk, which are in order, from where an earlier run was stopped. What cannot be read is read again in smaller
/// and smaller pieces.
#[must_use]
pub fn read_surface(disk: &dyn ReadAt, ranges: &[Range<u64>], earlier: Surface, go_on: &mut GoOn<'_>) -> Surface {
    let begin = earlier.stopped_at.unwrap_or_default();
    let mut surface = Surface { stopped_at: None, ..earlier };
    let mut buffer = vec![0; usize::try_from(PIECE).unwrap_or_default()];
    for range in ranges {
        let mut at = range.start.max(begin);
        let end = range.end.min(disk.size());
        while at < end {
            // Pieces begin at whole multiples: an unreadable place is narrowed down along the disk's own units.
            let next = ((at / PIECE + 1) * PIECE).min(end);
            surface.read_piece(disk, at..next, &mut buffer);
            if !go_on(&surface, next, next - at) {
                surface.stopped_at = Some(next);
                return surface;
            }
            at = next;
        }
    }
    surface
}

impl Surface {
    fn read_piece(&mut self, disk: &dyn ReadAt, piece: Range<u64>, buffer: &mut [u8]) {
        let size = piece.end - piece.start;
        let Some(part) = usize::try_from(size).ok().and_then(|size| buffer.get_mut(..size)) else { return };
        disk.forget(piece.start, size);
        let is_read = disk.read_at(piece.start, part).is_ok();
        // What was read here is not needed in memory.
        disk.forget(piece.start, size);
        if is_read {
            self.read += size;
        } else if piece.start / GRAIN == (piece.end - 1) / GRAIN {
            self.add(piece);
        } else {
            // Along the disk's own units, also where a range begins within one.
            let half = (piece.start + size / 2) / GRAIN * GRAIN;
            let middle = if half > piece.start { half } else { (piece.start / GRAIN + 1) * GRAIN };
            self.read_piece(disk, piece.start..middle, buffer);
            self.read_piece(disk, middle..piece.end, buffer);
        }
    }

    fn add(&mut self, range: Range<u64>) {
        self.unreadable += range.end - range.start;
        let has_room = self.ranges.len() < MAX_RANGES;
        match self.ranges.last_mut() {
            Some(last) if last.end == range.start => last.end = range.end,
            _ if has_room => self.ranges.push(range),
            _ => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use std::cell::RefCell;
    use std::io;

    use super::*;

    /// A disk with unreadable places; `reads` are the places and sizes that were asked for.
    struct Bad {
        size: u64,
        places: Vec<Range<u64>>,
    }

    impl ReadAt for Bad {
        fn size(&self) -> u64 {
            self.size
        }

        fn read_at(&self, at: u64, buffer: &mut [u8]) -> io::Result<()> {
            let end = at + buffer.len() as u64;
            match self.places.iter().any(|place| at < place.end && place.start < end) {
                true => Err(io::Error::from_raw_os_error(5)),
                false => Ok(()),
            }
        }
    }

    fn whole_of(size: u64) -> Vec<Range<u64>> {
        std::iter::once(0..size).collect()
    }

    #[test]
    fn unreadable_places_are_narrowed_down_and_all_else_is_read() {
        let size = 5 * PIECE + 3000;
        let places = vec![10_000..10_001, 2 * PIECE - 1..2 * PIECE + 5000, size - 10..size];
        let disk = Bad { size, places };
        let told = RefCell::new(0);
        let whole = read_surface(&disk, &whole_of(size), Surface::default(), &mut |_, _, bytes| {
            *told.borrow_mut() += bytes;
            true
        });
        let expected = [8192..12288, 2 * PIECE - GRAIN..2 * PIECE + 2 * GRAIN, 5 * PIECE..size];
        assert_eq!(whole.ranges, expected);
        assert_eq!((whole.read + whole.unreadable, *told.borrow()), (size, size));
        // A range that begins within a unit is narrowed down along the units, too.
        let inner = read_surface(&disk, &[0..512, 9216..40_000], Surface::default(), &mut |_, _, _| true);
        assert_eq!((inner.ranges.first(), inner.read), (Some(&(9216..12288)), 512 + 40_000 - 12288));
        // Only the ranges that are asked for.
        let part = read_surface(&disk, &[0..4096, 20_000..PIECE], Surface::default(), &mut |_, _, _| true);
        assert_eq!((part.ranges.len(), part.read), (0, 4096 + PIECE - 20_000));
        // Stopped after each piece, and continued.
        let mut so_far = Surface::default();
        for piece in 1.. {
            so_far = read_surface(&disk, &whole_of(size), so_far, &mut |_, _, _| false);
            if so_far.stopped_at == Some(size) {
                break;
            }
            assert_eq!(so_far.stopped_at, Some(piece * PIECE));
        }
        assert_eq!((so_far.ranges, so_far.read), (whole.ranges, whole.read));
    }
}
