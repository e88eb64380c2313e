//! [`mutated`]: valid samples with a few changed bytes, as a failing disk or an attacker would change them.

/// A sample with one to three changes: a byte altered, a range deleted, repeated or overwritten by another, the end cut off,
/// or bytes inserted. The same seed gives the same changes.
#[must_use]
pub fn mutated(sample: &[u8], seed: u64) -> Vec<u8> {
    let mut state = seed;
    let mut next = |bound: usize| {
        // Steele, Lea and Flood, "Fast splittable pseudorandom number generators", 2014.
        state = state.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut mixed = (state ^ (state >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        usize::try_from((mixed ^ (mixed >> 31)) % (bound.max(1) as u64)).unwrap_or_default()
    };
    let mut bytes = sample.to_vec();
    for _ in 0..=next(3) {
        let at = next(bytes.len() + 1);
        let end = (at + next(20)).min(bytes.len());
        match next(6) {
            0 if at < bytes.len() => bytes[at] = next(256) as u8,
            1 => drop(bytes.drain(at..end)),
            2 => bytes.splice(at..at, bytes[at..end].to_vec()).for_each(drop),
            3 => {
                let from = next(bytes.len() + 1);
                let piece = bytes[from..(from + end - at).min(bytes.len())].to_vec();
                bytes.splice(at..end, piece).for_each(drop);
            }
            4 => bytes.truncate(at),
            _ => bytes
                .splice(at..at, [b"\n", &b"\0"[..], b"..", b"/", b"\xff", b" ", b":"][next(7)].to_vec())
                .for_each(drop),
        }
    }
    bytes
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn most_samples_are_changed_and_each_seed_gives_the_same_again() {
        let sample = b"Package: quay\nVersion: 1\n";
        let all: std::collections::HashSet<Vec<u8>> = (0..1000).map(|seed| mutated(sample, seed)).collect();
        assert!(all.len() > 600 && mutated(sample, 7) == mutated(sample, 7), "{}", all.len());
        assert!((0..1000).all(|seed| mutated(b"", seed).len() < 10));
    }
}
