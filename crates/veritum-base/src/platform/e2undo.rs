//! The file of what a correction overwrote (e2undo(8), format `E2UNDO02` of e2fsprogs): only which blocks it is about, to find out
//! whether they were changed since.

use std::io;

use crate::devices::ReadAt;
use crate::model::Digest;

const MAGIC: &[u8; 8] = b"E2UNDO02";
/// The mark of a block of keys.
const KEYS: u32 = 0xcade_cade;
/// The size of what precedes the keys in such a block, and of a key, in bytes.
const KEY: usize = 16;
/// More keys are not read: a correction of so many blocks is a restored backup.
const MAX_KEYS: u64 = 1 << 24;
const MAX_BLOCK: u32 = 1 << 20;
/// At most so much of a disk is read at once, in bytes.
const PIECE: u64 = 1 << 20;

/// The parts of a file system that were overwritten: where each begins, and its size, in bytes.
///
/// # Errors
/// When it cannot be read, or is something else.
pub fn overwritten(file: &dyn ReadAt) -> io::Result<Vec<(u64, u64)>> {
    let head = file.bytes_at(0, 512)?;
    let long = |at: usize| u64::from_le_bytes(head[at..at + 8].try_into().unwrap_or_default());
    let short = |at: usize| u32::from_le_bytes(head[at..at + 4].try_into().unwrap_or_default());
    let (count, first, block, unit) = (long(8), long(24), short(32), short(36));
    let is_size = |size: u32| (512..=MAX_BLOCK).contains(&size) && size.is_power_of_two();
    if head[..8] != *MAGIC || count > MAX_KEYS || !is_size(block) || !is_size(unit) {
        return Err(invalid());
    }
    let (block, unit) = (u64::from(block), u64::from(unit));
    let mut parts = Vec::new();
    let mut at = first.checked_mul(block).ok_or_else(invalid)?;
    while (parts.len() as u64) < count {
        let keys = file.bytes_at(at, usize::try_from(block).map_err(|_| invalid())?)?;
        if keys[..4] != KEYS.to_le_bytes() {
            return Err(invalid());
        }
        let mut data = 0u64;
        for key in
            keys[KEY..].as_chunks::<KEY>().0.iter().take(usize::try_from(count).unwrap_or(usize::MAX) - parts.len())
        {
            let place = u64::from_le_bytes(key[..8].try_into().unwrap_or_default());
            let size = u64::from(u32::from_le_bytes(key[12..].try_into().unwrap_or_default()));
            parts.push((place.checked_mul(unit).ok_or_else(invalid)?, size));
            data += size.div_ceil(block);
        }
        at = data.checked_add(1).and_then(|blocks| at.checked_add(blocks.checked_mul(block)?)).ok_or_else(invalid)?;
    }
    Ok(parts)
}

fn invalid() -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, "not a valid file of overwritten blocks")
}

/// The digest of these parts of a disk as they are now; what is past its end is left out.
///
/// # Errors
/// When they cannot be read.
pub fn digest_of(disk: &dyn ReadAt, parts: &[(u64, u64)]) -> io::Result<Digest> {
    let mut hasher = blake3::Hasher::new();
    for (start, size) in parts {
        let end = start.saturating_add(*size).min(disk.size());
        let mut at = *start;
        while at < end {
            let count = (end - at).min(PIECE);
            hasher.update(&disk.bytes_at(at, usize::try_from(count).unwrap_or_default())?);
            at += count;
        }
    }
    Ok(Digest::from_bytes(*hasher.finalize().as_bytes()))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A file with these keys, in blocks of 512 bytes; the kept blocks themselves are zeros.
    fn sample(keys: &[(u64, u32)]) -> Vec<u8> {
        let mut bytes = vec![0; 1024];
        bytes[..8].copy_from_slice(MAGIC);
        bytes[8..16].copy_from_slice(&(keys.len() as u64).to_le_bytes());
        bytes[24..32].copy_from_slice(&2u64.to_le_bytes());
        bytes[32..36].copy_from_slice(&512u32.to_le_bytes());
        bytes[36..40].copy_from_slice(&1024u32.to_le_bytes());
        for some in keys.chunks(31) {
            let mut block = KEYS.to_le_bytes().to_vec();
            block.resize(KEY, 0);
            for (place, size) in some {
                block.extend(place.to_le_bytes());
                block.extend(7u32.to_le_bytes());
                block.extend(size.to_le_bytes());
            }
            block.resize(512, 0);
            let data: usize = some.iter().map(|(_, size)| (*size as usize).next_multiple_of(512)).sum();
            bytes.extend(block);
            bytes.resize(bytes.len() + data, 0);
        }
        bytes
    }

    #[test]
    fn the_places_of_all_blocks_are_read_and_a_change_in_one_is_seen() {
        let keys: Vec<(u64, u32)> = (0..40).map(|n| (n * 2, 1024)).collect();
        let parts = overwritten(&sample(&keys)).unwrap();
        assert_eq!((parts.len(), parts[39]), (40, (78 * 1024, 1024)));
        let mut disk = vec![0u8; 80 << 10];
        let before = digest_of(&disk, &parts).unwrap();
        disk[1024] = 1;
        assert_eq!(digest_of(&disk, &parts).unwrap(), before, "that block was not overwritten");
        disk[2048] = 1;
        assert_ne!(digest_of(&disk, &parts).unwrap(), before);
        assert!(overwritten(&vec![0u8; 4096]).is_err() && overwritten(&Vec::new()).is_err());
    }

    proptest::proptest! {
        #[test]
        fn damaged_files_are_read_without_panic(seed: u64) {
            let bytes = crate::testkit::mutated(&sample(&[(0, 512), (9, 4096)]), seed);
            if let Ok(parts) = overwritten(&bytes) {
                proptest::prop_assert!(parts.len() <= bytes.len());
                let _ = digest_of(&bytes, &parts);
            }
        }
    }
}
