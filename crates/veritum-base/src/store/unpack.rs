//! Decompresses objects of a store: limited by the signed size, and verified.

use std::cell::RefCell;
use std::io::{self, Read};

use crate::model::{ContentHasher, Digest};

/// zstd windows of our own compressor stay far below this power of two.
const MAX_WINDOW: u32 = 27;

/// Decompresses exactly `size` bytes.
pub(super) fn unpack_all(packed: impl Read, size: u64) -> io::Result<Vec<u8>> {
    thread_local! {
        // A decoder for each of two thousand small files would cost as much as decompressing them.
        static UNPACKER: RefCell<Option<zstd::bulk::Decompressor<'static>>> = const { RefCell::new(None) };
    }
    let other = |why| io::Error::new(io::ErrorKind::InvalidData, why);
    let most = packed_at_most(size);
    let room = usize::try_from(size).map_err(|_| other("exceeds the size limit"))?;
    let mut bytes = Vec::new();
    packed.take(most + 1).read_to_end(&mut bytes)?;
    if bytes.len() as u64 > most {
        return Err(other("longer than the signed length"));
    }
    let unpacked = UNPACKER.with_borrow_mut(|unpacker| {
        let unpacker = match unpacker.take() {
            Some(ready) => unpacker.insert(ready),
            None => unpacker.insert(zstd::bulk::Decompressor::new()?),
        };
        // Space for one more byte reveals data that is too long.
        unpacker.decompress(&bytes, room + 1)
    });
    let unpacked = unpacked.map_err(|_| other("cannot be decompressed"))?;
    if unpacked.len() != room {
        return Err(other("length differs from the signed one"));
    }
    Ok(unpacked)
}

/// Decompressed bytes, if they have the expected digest.
pub(super) fn right(unpacked: io::Result<Vec<u8>>, digest: &Digest) -> io::Result<Vec<u8>> {
    unpacked.ok().filter(|bytes| Digest::hash(bytes) == *digest).ok_or_else(other_content)
}

pub(super) fn other_content() -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, "checksum differs from the signed one")
}

/// The maximum size of a compressed file: compression hardly enlarges a content.
pub(super) fn packed_at_most(size: u64) -> u64 {
    size.saturating_add(size / 64 + 4096)
}

pub(super) fn unpack_in_pieces(
    packed: impl Read,
    digest: &Digest,
    size: u64,
    to: &mut dyn FnMut(&[u8]) -> io::Result<()>,
) -> io::Result<()> {
    let mut decoder = zstd::Decoder::new(packed)?;
    decoder.window_log_max(MAX_WINDOW)?;
    let mut hasher = ContentHasher::blake3();
    let mut piece = vec![0; 1 << 20];
    let mut left = size;
    loop {
        let n = decoder.read(&mut piece)?;
        if n == 0 {
            break;
        }
        left = left.checked_sub(n as u64).ok_or_else(|| io::Error::new(io::ErrorKind::InvalidData, "too long"))?;
        hasher.update(&piece[..n]);
        to(&piece[..n])?;
    }
    if left == 0 && hasher.finish().0 == Some(*digest) { Ok(()) } else { Err(other_content()) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn exactly_what_was_signed_is_unpacked_and_not_one_byte_more() {
        let text = b"timetable of the ferries".repeat(40);
        let size = text.len() as u64;
        let packed = zstd::bulk::compress(&text, 1).unwrap();
        assert_eq!(unpack_all(&packed[..], size).unwrap(), text);
        for other in [size - 1, size + 1, 0] {
            assert!(unpack_all(&packed[..], other).is_err(), "{other}");
        }
        assert!(unpack_all(&packed[..packed.len() / 2], size).is_err());
        assert_eq!(unpack_all(&packed[..], size).unwrap(), text, "what went before does not matter");
        let swollen = [packed, vec![0; 9000]].concat();
        assert!(unpack_all(&swollen[..], size).is_err(), "more is packed than can be");
    }

    proptest::proptest! {
        #[test]
        fn of_damaged_bytes_nothing_but_what_was_signed_is_handed_on(seed: u64) {
            let text = b"timetable of the ferries".repeat(40);
            let size = text.len() as u64;
            let packed = crate::testkit::mutated(&zstd::bulk::compress(&text, 1).unwrap(), seed);
            if let Ok(unpacked) = unpack_all(&packed[..], size) {
                proptest::prop_assert_eq!(unpacked.len() as u64, size);
            }
            let mut got = Vec::new();
            let done = unpack_in_pieces(&packed[..], &Digest::hash(&text), size, &mut |piece| {
                got.extend_from_slice(piece);
                Ok(())
            });
            proptest::prop_assert!(done.is_err() || got == text);
        }
    }
}
