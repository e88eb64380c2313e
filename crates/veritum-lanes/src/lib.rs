//! MD5 (RFC 1321) of sixteen messages side by side, in the vector lanes of the processor.
//!
//! One MD5 is a chain of dependent additions, which leaves most of a processor core idle. A vector register holds the
//! state of eight or sixteen of them, and each instruction advances all. [`Md5Lanes`] holds sixteen states; the caller
//! pads each message ([`padding`]), and adds blocks of all messages at once.
//!
//! The kernel is selected at run time: AVX-512, AVX2 or SSE2 on x86-64, else scalar code, one message after the other. All `unsafe` code of Veritum's own libraries is in `x86.rs` of this
//! crate: loads and stores of whole arrays, and the calls of functions whose instructions the processor was found to have.

#![deny(unsafe_op_in_unsafe_fn)]

mod scalar;
mod steps;
#[cfg(target_arch = "x86_64")]
mod x86;

/// The number of messages that are digested side by side.
pub const LANES: usize = 16;

/// The size of a block in bytes: messages are added in whole blocks.
pub const BLOCK: usize = 64;

/// At least as many bytes as [`padding`] ever returns.
pub const MAX_PADDING: usize = 2 * BLOCK;

/// So few messages are digested one after the other.
const FEW: usize = 2;

/// The initial state (RFC 1321, 3.3).
const INITIAL: [u32; 4] = [0x6745_2301, 0xefcd_ab89, 0x98ba_dcfe, 0x1032_5476];

/// The states of all lanes: the four words of a state, each for every lane.
type States = [[u32; LANES]; 4];

/// One block of every lane.
type Blocks<'a> = [&'a [[u8; BLOCK]]; LANES];

/// Adds the blocks at positions 0 to `count` of every lane to the states; every lane has at least so many.
type Kernel = fn(&mut States, &Blocks<'_>, usize);

/// The MD5 states of sixteen messages.
#[derive(Clone)]
pub struct Md5Lanes {
    states: States,
    kernel: Kernel,
}

impl Default for Md5Lanes {
    fn default() -> Self {
        Self::new()
    }
}

impl Md5Lanes {
    /// Sixteen empty messages, with the fastest kernel that this processor supports.
    #[must_use]
    pub fn new() -> Self {
        let (_, kernel) = *kernels().first().unwrap_or(&("scalar", scalar::compress_all));
        Self { states: INITIAL.map(|word| [word; LANES]), kernel }
    }

    /// Starts a new message in a lane.
    ///
    /// # Panics
    /// When `lane` is not below [`LANES`].
    pub fn reset(&mut self, lane: usize) {
        for (words, initial) in self.states.iter_mut().zip(INITIAL) {
            words[lane] = initial;
        }
    }

    /// Adds `count` whole blocks to every lane that has a part; the states of the other lanes are lost.
    ///
    /// # Panics
    /// When one of the parts has fewer than `count` blocks.
    pub fn update(&mut self, parts: &[Option<&[u8]>; LANES], count: usize) {
        let blocks = parts.map(|part| part.map(|part| &part.as_chunks::<BLOCK>().0[..count]));
        let Some(any) = blocks.iter().flatten().next() else { return };
        // A message takes scalar code half as long as a vector takes for all lanes.
        if blocks.iter().flatten().count() <= FEW {
            for (lane, blocks) in blocks.iter().enumerate() {
                blocks.iter().for_each(|blocks| scalar::compress(&mut self.states, lane, blocks));
            }
            return;
        }
        (self.kernel)(&mut self.states, &blocks.map(|part| part.unwrap_or(any)), count);
    }

    /// Adds the whole blocks of `part` to one lane, twice as fast as [`update`](Self::update) would for this lane alone.
    ///
    /// # Panics
    /// When `lane` is not below [`LANES`].
    pub fn update_one(&mut self, lane: usize, part: &[u8]) {
        scalar::compress(&mut self.states, lane, part.as_chunks::<BLOCK>().0);
    }

    /// The digest of a lane's message; its padding must have been added.
    ///
    /// # Panics
    /// When `lane` is not below [`LANES`].
    #[must_use]
    pub fn digest(&self, lane: usize) -> [u8; 16] {
        let mut digest = [0; 16];
        for (bytes, words) in digest.as_chunks_mut::<4>().0.iter_mut().zip(&self.states) {
            *bytes = words[lane].to_le_bytes();
        }
        digest
    }
}

/// Writes the padding of a message of `length` bytes after its last bytes, of which `tail` are not a whole block
/// (RFC 1321, 3.1 and 3.2); returns its size. The tail and the padding are whole blocks together.
///
/// # Panics
/// When `into` is shorter than the padding; [`MAX_PADDING`] bytes are enough.
pub fn padding(length: u64, tail: usize, into: &mut [u8]) -> usize {
    let whole = (tail + 1 + 8).next_multiple_of(BLOCK) - tail;
    into[..whole].fill(0);
    into[0] = 0x80;
    into[whole - 8..whole].copy_from_slice(&(length.wrapping_mul(8)).to_le_bytes());
    whole
}

/// The kernels that this processor supports, each with its name, fastest first.
fn kernels() -> Vec<(&'static str, Kernel)> {
    let mut all: Vec<(&'static str, Kernel)> = Vec::new();
    #[cfg(target_arch = "x86_64")]
    all.extend(x86::kernels());
    all.push(("scalar", scalar::compress_all));
    all
}

#[cfg(test)]
mod tests {
    use md5::Digest as _;
    use proptest::prelude::*;

    use super::*;

    /// A message with its padding.
    fn padded(message: &[u8]) -> Vec<u8> {
        let mut bytes = message.to_vec();
        bytes.resize(message.len() + MAX_PADDING, 0);
        let size = padding(message.len() as u64, message.len() % BLOCK, &mut bytes[message.len()..]);
        bytes.truncate(message.len() + size);
        bytes
    }

    /// The digests of any number of messages by one kernel: lanes are refilled as they fall free, and at most `most` blocks
    /// are added at a time.
    fn digests(kernel: Kernel, messages: &[Vec<u8>], most: usize) -> Vec<[u8; 16]> {
        let mut lanes = Md5Lanes { kernel, ..Md5Lanes::new() };
        let messages: Vec<Vec<u8>> = messages.iter().map(|message| padded(message)).collect();
        let mut all = vec![[0; 16]; messages.len()];
        let mut waiting = messages.iter().enumerate();
        let mut running: [Option<(usize, &[u8])>; LANES] = [None; LANES];
        loop {
            for (lane, place) in running.iter_mut().enumerate() {
                if let Some((at, [])) = place {
                    all[*at] = lanes.digest(lane);
                    *place = None;
                }
                if place.is_none()
                    && let Some((at, message)) = waiting.next()
                {
                    *place = Some((at, message));
                    lanes.reset(lane);
                }
            }
            let Some(count) = running.iter().flatten().map(|(_, rest)| rest.len() / BLOCK).min() else { return all };
            let count = count.min(most);
            let parts = running.map(|place| place.map(|(_, rest)| rest));
            lanes.update(&parts, count);
            for (_, rest) in running.iter_mut().flatten() {
                *rest = &rest[count * BLOCK..];
            }
        }
    }

    #[test]
    fn the_vectors_of_rfc_1321_hold_in_every_kernel() {
        let vectors = [
            ("", "d41d8cd98f00b204e9800998ecf8427e"),
            ("a", "0cc175b9c0f1b6a831c399e269772661"),
            ("abc", "900150983cd24fb0d6963f7d28e17f72"),
            ("message digest", "f96b697d7cb7938d525a2f31aaf161d0"),
            ("abcdefghijklmnopqrstuvwxyz", "c3fcd3d76192e4007dfb496cca67e13b"),
            ("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789", "d174ab98d277d9f5a5611c2c9f419d9f"),
            (
                "12345678901234567890123456789012345678901234567890123456789012345678901234567890",
                "57edf4a22be3c955ac49da2e2107b67a",
            ),
        ];
        for (name, kernel) in kernels() {
            let messages: Vec<Vec<u8>> = vectors.iter().map(|(message, _)| message.as_bytes().to_vec()).collect();
            let digests: Vec<String> = digests(kernel, &messages, 1).iter().map(hex::encode).collect();
            assert_eq!(digests, vectors.map(|(_, digest)| digest), "{name}");
        }
    }

    #[test]
    fn padding_fills_whole_blocks_around_every_length() {
        for length in 0..3 * BLOCK {
            let bytes = padded(&vec![7; length]);
            assert!(
                bytes.len().is_multiple_of(BLOCK) && bytes.len() - length >= 9 && bytes.len() - length <= BLOCK + 8
            );
            assert_eq!((bytes[length], bytes[bytes.len() - 8]), (0x80, u8::try_from(length * 8 % 256).unwrap()));
        }
    }

    #[test]
    fn a_message_may_begin_alone() {
        let message = padded(&[3; 1000]);
        let mut lanes = Md5Lanes::new();
        lanes.update_one(2, &message[..5 * BLOCK]);
        let rest = &message[5 * BLOCK..];
        lanes.update(&[Some(rest); LANES], rest.len() / BLOCK);
        assert_eq!(lanes.digest(2), <[u8; 16]>::from(md5::Md5::digest([3; 1000])));
    }

    #[test]
    fn a_message_does_not_depend_on_what_other_lanes_do() {
        let (name, kernel) = kernels()[0];
        let long: Vec<u8> = (0..10_000u32).map(|n| u8::try_from(n % 251).unwrap()).collect();
        let alone = digests(kernel, std::slice::from_ref(&long), usize::MAX);
        let crowd: Vec<Vec<u8>> = (0..40).map(|n| vec![n; usize::from(n) * 97]).chain([long]).collect();
        assert_eq!(digests(kernel, &crowd, 3)[40], alone[0], "{name}");
    }

    proptest! {
        #[test]
        fn every_kernel_agrees_with_a_scalar_implementation(
            messages in prop::collection::vec(prop::collection::vec(any::<u8>(), 0..400), 0..50),
            most in 1usize..6,
        ) {
            let right: Vec<[u8; 16]> = messages.iter().map(|message| md5::Md5::digest(message).into()).collect();
            for (name, kernel) in kernels() {
                prop_assert_eq!(&digests(kernel, &messages, most), &right, "{}", name);
            }
        }
    }
}
