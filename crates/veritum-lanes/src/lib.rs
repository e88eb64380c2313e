//! MD5 (RFC 1321) and SHA-256 (FIPS 180-4) of sixteen messages side by side, in the vector lanes of the processor.
//!
//! One such digest is a chain of dependent additions, which leaves most of a processor core idle. A vector register holds
//! the state of eight or sixteen of them, and each instruction advances all. [`Lanes`] holds sixteen states; the caller
//! pads each message ([`Lanes::padding`]), and adds blocks of all messages at once.
//!
//! The kernel is selected at run time: AVX-512, AVX2 or SSE2 on x86-64, else scalar code, one message after the other. The
//! `unsafe` code of this crate is in `x86.rs`: loads and stores of whole arrays, and the calls
//! of functions whose instructions the processor was found to have.

#![deny(unsafe_op_in_unsafe_fn)]

mod scalar;
mod steps;
#[cfg(target_arch = "x86_64")]
mod x86;

/// The number of messages that are digested side by side.
pub const LANES: usize = 16;

/// The size of a block in bytes, in both algorithms: messages are added in whole blocks.
pub const BLOCK: usize = 64;

/// At least as many bytes as [`Lanes::padding`] ever returns.
pub const MAX_PADDING: usize = 2 * BLOCK;

/// So few messages are digested one after the other.
const FEW: usize = 2;

/// The states of all lanes: the words of a state, each for every lane. MD5 has four words and leaves the others as they are.
type States = [[u32; LANES]; 8];

/// One block of every lane.
type Blocks<'a> = [&'a [[u8; BLOCK]]; LANES];

/// Adds the blocks at positions 0 to `count` of every lane to the states; every lane has at least so many.
type Kernel = fn(&mut States, &Blocks<'_>, usize);

/// A digest algorithm.
#[derive(Debug)]
struct Algorithm {
    /// The initial state (RFC 1321, 3.3; FIPS 180-4, 5.3.3).
    initial: [u32; 8],
    /// Whether words are written with the highest byte first.
    is_big_endian: bool,
    /// Adds blocks to one lane.
    compress: fn(&mut States, usize, &[[u8; BLOCK]]),
    /// The kernels that this processor supports, each with its name, fastest first.
    kernels: fn() -> Vec<(&'static str, Kernel)>,
}

static MD5: Algorithm = Algorithm {
    initial: [0x6745_2301, 0xefcd_ab89, 0x98ba_dcfe, 0x1032_5476, 0, 0, 0, 0],
    is_big_endian: false,
    compress: scalar::md5,
    kernels: || {
        #[allow(unused_mut, reason = "other processors have scalar code only")]
        let mut all: Vec<(&'static str, Kernel)> = vec![("scalar", scalar::md5_all)];
        #[cfg(target_arch = "x86_64")]
        all.splice(0..0, x86::md5_kernels());
        all
    },
};

static SHA256: Algorithm = Algorithm {
    initial: [0x6a09_e667, 0xbb67_ae85, 0x3c6e_f372, 0xa54f_f53a, 0x510e_527f, 0x9b05_688c, 0x1f83_d9ab, 0x5be0_cd19],
    is_big_endian: true,
    compress: scalar::sha256,
    kernels: || {
        #[allow(unused_mut, reason = "other processors have scalar code only")]
        let mut all: Vec<(&'static str, Kernel)> = vec![("scalar", scalar::sha256_all)];
        #[cfg(target_arch = "x86_64")]
        all.splice(0..0, x86::sha256_kernels());
        all
    },
};

/// Whether digesting messages side by side with SHA-256 is faster here than one after the other with a library that uses
/// the processor's instructions for SHA-256, where it has them.
#[must_use]
pub fn sha256_gains() -> bool {
    #[cfg(target_arch = "x86_64")]
    return is_x86_feature_detected!("avx2") && !is_x86_feature_detected!("sha");
    #[cfg(not(target_arch = "x86_64"))]
    false
}

/// The states of sixteen messages.
#[derive(Clone)]
pub struct Lanes {
    algorithm: &'static Algorithm,
    states: States,
    kernel: Kernel,
}

impl Lanes {
    /// Sixteen empty messages for MD5, with the fastest kernel that this processor supports.
    #[must_use]
    pub fn md5() -> Self {
        Self::new(&MD5)
    }

    /// Sixteen empty messages for SHA-256.
    #[must_use]
    pub fn sha256() -> Self {
        Self::new(&SHA256)
    }

    fn new(algorithm: &'static Algorithm) -> Self {
        let kernel = (algorithm.kernels)()[0].1;
        Self { algorithm, states: algorithm.initial.map(|word| [word; LANES]), kernel }
    }

    /// Starts a new message in a lane.
    ///
    /// # Panics
    /// When `lane` is not below [`LANES`].
    pub fn reset(&mut self, lane: usize) {
        for (words, initial) in self.states.iter_mut().zip(self.algorithm.initial) {
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
                blocks.iter().for_each(|blocks| (self.algorithm.compress)(&mut self.states, lane, blocks));
            }
            return;
        }
        (self.kernel)(&mut self.states, &blocks.map(|part| part.unwrap_or(any)), count);
    }

    /// Adds the whole blocks of `part` to one lane, faster than [`update`](Self::update) would for this lane alone.
    ///
    /// # Panics
    /// When `lane` is not below [`LANES`].
    pub fn update_one(&mut self, lane: usize, part: &[u8]) {
        (self.algorithm.compress)(&mut self.states, lane, part.as_chunks::<BLOCK>().0);
    }

    /// The digest of a lane's message; its padding must have been added. An MD5 digest has 16 bytes, one of SHA-256 has 32.
    ///
    /// # Panics
    /// When `lane` is not below [`LANES`].
    #[must_use]
    pub fn digest<const SIZE: usize>(&self, lane: usize) -> [u8; SIZE] {
        let mut digest = [0; SIZE];
        for (bytes, words) in digest.as_chunks_mut::<4>().0.iter_mut().zip(&self.states) {
            let word = words[lane];
            *bytes = if self.algorithm.is_big_endian { word.to_be_bytes() } else { word.to_le_bytes() };
        }
        digest
    }

    /// Writes the padding of a message of `length` bytes after its last bytes, of which `tail` are not a whole block
    /// (RFC 1321, 3.1 and 3.2; FIPS 180-4, 5.1.1); returns its size. The tail and the padding are whole blocks together.
    ///
    /// # Panics
    /// When `into` is shorter than the padding; [`MAX_PADDING`] bytes are enough.
    pub fn padding(&self, length: u64, tail: usize, into: &mut [u8]) -> usize {
        let whole = (tail + 1 + 8).next_multiple_of(BLOCK) - tail;
        let bits = length.wrapping_mul(8);
        into[..whole].fill(0);
        into[0] = 0x80;
        let bits = if self.algorithm.is_big_endian { bits.to_be_bytes() } else { bits.to_le_bytes() };
        into[whole - 8..whole].copy_from_slice(&bits);
        whole
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// The digests of any number of messages by one kernel, as hexadecimal digits: lanes are refilled as they fall free, and
    /// at most `most` blocks are added at a time.
    fn digests(algorithm: &'static Algorithm, kernel: Kernel, messages: &[Vec<u8>], most: usize) -> Vec<String> {
        let mut lanes = Lanes { kernel, ..Lanes::new(algorithm) };
        let messages: Vec<Vec<u8>> = messages.iter().map(|message| padded(&lanes, message)).collect();
        let mut all = vec![String::new(); messages.len()];
        let mut waiting = messages.iter().enumerate();
        let mut running: [Option<(usize, &[u8])>; LANES] = [None; LANES];
        loop {
            for (lane, place) in running.iter_mut().enumerate() {
                if let Some((at, [])) = place {
                    all[*at] = digest(&lanes, lane);
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

    /// A message with its padding.
    fn padded(lanes: &Lanes, message: &[u8]) -> Vec<u8> {
        let mut bytes = message.to_vec();
        bytes.resize(message.len() + MAX_PADDING, 0);
        let size = lanes.padding(message.len() as u64, message.len() % BLOCK, &mut bytes[message.len()..]);
        bytes.truncate(message.len() + size);
        bytes
    }

    fn digest(lanes: &Lanes, lane: usize) -> String {
        match lanes.algorithm.is_big_endian {
            true => hex::encode(lanes.digest::<32>(lane)),
            false => hex::encode(lanes.digest::<16>(lane)),
        }
    }

    /// The same by the library whose results count.
    fn right(algorithm: &Algorithm, message: &[u8]) -> String {
        match algorithm.is_big_endian {
            true => hex::encode(<sha2::Sha256 as sha2::Digest>::digest(message)),
            false => hex::encode(<md5::Md5 as md5::Digest>::digest(message)),
        }
    }

    fn in_every_kernel(test: impl Fn(&'static Algorithm, &str, Kernel)) {
        for algorithm in [&MD5, &SHA256] {
            for (name, kernel) in (algorithm.kernels)() {
                test(algorithm, name, kernel);
            }
        }
    }

    fn vectors_hold(algorithm: &'static Algorithm, vectors: &[(&str, &str)]) {
        for (name, kernel) in (algorithm.kernels)() {
            let messages: Vec<Vec<u8>> = vectors.iter().map(|(message, _)| message.as_bytes().to_vec()).collect();
            let right: Vec<&str> = vectors.iter().map(|(_, digest)| *digest).collect();
            assert_eq!(digests(algorithm, kernel, &messages, 1), right, "{name}");
        }
    }

    #[test]
    fn the_vectors_of_rfc_1321_hold_in_every_kernel() {
        vectors_hold(
            &MD5,
            &[
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
            ],
        );
    }

    #[test]
    fn the_published_vectors_of_sha_256_hold_in_every_kernel() {
        vectors_hold(
            &SHA256,
            &[
                ("", "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855"),
                ("abc", "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad"),
                (
                    "abcdbcdecdefdefgefghfghighijhijkijkljklmklmnlmnomnopnopq",
                    "248d6a61d20638b8e5c026930c3e6039a33ce45964ff2167f6ecedd419db06c1",
                ),
            ],
        );
    }

    #[test]
    fn padding_fills_whole_blocks_around_every_length() {
        for length in 0..3 * BLOCK {
            let bytes = padded(&Lanes::md5(), &vec![7; length]);
            assert!(
                bytes.len().is_multiple_of(BLOCK) && bytes.len() - length >= 9 && bytes.len() - length <= BLOCK + 8
            );
            assert_eq!((bytes[length], bytes[bytes.len() - 8]), (0x80, u8::try_from(length * 8 % 256).unwrap()));
        }
    }

    #[test]
    fn a_message_may_begin_alone() {
        for algorithm in [&MD5, &SHA256] {
            let mut lanes = Lanes::new(algorithm);
            let message = padded(&lanes, &[3; 1000]);
            lanes.update_one(2, &message[..5 * BLOCK]);
            let rest = &message[5 * BLOCK..];
            lanes.update(&[Some(rest); LANES], rest.len() / BLOCK);
            assert_eq!(digest(&lanes, 2), right(algorithm, &[3; 1000]));
        }
    }

    #[test]
    fn a_message_does_not_depend_on_what_other_lanes_do() {
        in_every_kernel(|algorithm, name, kernel| {
            let long: Vec<u8> = (0..10_000u32).map(|n| u8::try_from(n % 251).unwrap()).collect();
            let alone = digests(algorithm, kernel, std::slice::from_ref(&long), usize::MAX);
            let crowd: Vec<Vec<u8>> = (0..40).map(|n| vec![n; usize::from(n) * 97]).chain([long]).collect();
            assert_eq!(digests(algorithm, kernel, &crowd, 3)[40], alone[0], "{name}");
        });
    }

    proptest! {
        #[test]
        fn every_kernel_agrees_with_a_scalar_implementation(
            messages in prop::collection::vec(prop::collection::vec(any::<u8>(), 0..400), 0..50),
            most in 1usize..6,
        ) {
            for algorithm in [&MD5, &SHA256] {
                let right: Vec<String> = messages.iter().map(|message| right(algorithm, message)).collect();
                for (name, kernel) in (algorithm.kernels)() {
                    prop_assert_eq!(&digests(algorithm, kernel, &messages, most), &right, "{}", name);
                }
            }
        }
    }
}
