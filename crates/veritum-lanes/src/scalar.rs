//! One message after the other, without vectors.

use crate::steps::{md5_steps, sha256_steps};
use crate::{BLOCK, Blocks, States};

fn add(x: u32, y: u32) -> u32 {
    x.wrapping_add(y)
}

fn splat(word: u32) -> u32 {
    word
}

fn rotate<const BITS: i32>(x: u32) -> u32 {
    x.rotate_left(BITS.unsigned_abs())
}

/// Bits of `y` where `x` has ones, else of `z`.
fn f(x: u32, y: u32, z: u32) -> u32 {
    z ^ (x & (y ^ z))
}

/// As `f(z, x, y)`, in a form whose first half does not wait for `x`.
fn g(x: u32, y: u32, z: u32) -> u32 {
    (!z & y).wrapping_add(z & x)
}

fn h(x: u32, y: u32, z: u32) -> u32 {
    x ^ (y ^ z)
}

fn i(x: u32, y: u32, z: u32) -> u32 {
    y ^ (x | !z)
}

fn shift<const BITS: u32>(x: u32) -> u32 {
    x >> BITS
}

/// The bits that at least two of them have.
fn majority(x: u32, y: u32, z: u32) -> u32 {
    f(x ^ y, z, y)
}

/// Adds blocks to one lane, for MD5.
pub(crate) fn md5(states: &mut States, lane: usize, blocks: &[[u8; BLOCK]]) {
    let [mut a, mut b, mut c, mut d, ..] = states.map(|words| words[lane]);
    for block in blocks {
        let word = words(block, u32::from_le_bytes);
        let before = [a, b, c, d];
        md5_steps!(word, (a, b, c, d), f, g, h, i, add, splat, rotate);
        [a, b, c, d] = [add(a, before[0]), add(b, before[1]), add(c, before[2]), add(d, before[3])];
    }
    for (words, word) in states.iter_mut().zip([a, b, c, d]) {
        words[lane] = word;
    }
}

/// Adds blocks to one lane, for SHA-256.
pub(crate) fn sha256(states: &mut States, lane: usize, blocks: &[[u8; BLOCK]]) {
    let mut state = states.map(|words| words[lane]);
    for block in blocks {
        let mut word = words(block, u32::from_be_bytes);
        sha256_steps!(word, state, f, majority, h, add, splat, rotate, shift);
    }
    for (words, word) in states.iter_mut().zip(state) {
        words[lane] = word;
    }
}

/// The words of a block.
fn words(block: &[u8; BLOCK], word_of: fn([u8; 4]) -> u32) -> [u32; 16] {
    let mut words = [0; 16];
    for (word, bytes) in words.iter_mut().zip(block.as_chunks::<4>().0) {
        *word = word_of(*bytes);
    }
    words
}

/// Adds blocks to all lanes, for MD5.
pub(crate) fn md5_all(states: &mut States, blocks: &Blocks<'_>, count: usize) {
    for (lane, blocks) in blocks.iter().enumerate() {
        md5(states, lane, &blocks[..count]);
    }
}

/// Adds blocks to all lanes, for SHA-256.
pub(crate) fn sha256_all(states: &mut States, blocks: &Blocks<'_>, count: usize) {
    for (lane, blocks) in blocks.iter().enumerate() {
        sha256(states, lane, &blocks[..count]);
    }
}
