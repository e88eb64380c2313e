//! A large disk of which only some pieces are there: the input's bytes, in order; all else reads as zeros.

use veritum_core::devices::{ReadAt, identify};

pub struct Pieces<'a> {
    pub data: &'a [u8],
    /// Where each piece begins, and its size.
    pub places: &'a [(u64, usize)],
    pub size: u64,
}

impl ReadAt for Pieces<'_> {
    fn size(&self) -> u64 {
        self.size
    }

    fn read_at(&self, at: u64, buffer: &mut [u8]) -> std::io::Result<()> {
        if at.saturating_add(buffer.len() as u64) > self.size {
            return Err(std::io::ErrorKind::UnexpectedEof.into());
        }
        buffer.fill(0);
        let mut from = 0;
        for (place, size) in self.places {
            let piece = self.data.get(from..(from + size).min(self.data.len())).unwrap_or_default();
            from += size;
            let (start, end) = (at.max(*place), (at + buffer.len() as u64).min(place + piece.len() as u64));
            if start < end {
                let (to, of) = ((start - at) as usize, (start - place) as usize);
                let count = (end - start) as usize;
                buffer[to..to + count].copy_from_slice(&piece[of..of + count]);
            }
        }
        Ok(())
    }
}

/// Reads a disk of these pieces by whatever it says it is.
pub fn read(data: &[u8], places: &[(u64, usize)], size: u64) {
    let disk = Pieces { data, places, size };
    if let Some(volume) = identify(&disk) {
        assert!(volume.marks(&disk).len() < 1000);
    }
}
