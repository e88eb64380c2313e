//! AVX-512: all sixteen lanes in one register.

use std::arch::x86_64::*;

use crate::steps::{md5_steps, sha256_steps};
use crate::{BLOCK, Blocks, LANES, States};

#[inline]
#[target_feature(enable = "avx512f")]
fn load_block(bytes: &[u8; BLOCK]) -> __m512i {
    // SAFETY: the array has the 64 bytes that are loaded; they need no alignment.
    unsafe { _mm512_loadu_si512(bytes.as_ptr().cast()) }
}

#[inline]
#[target_feature(enable = "avx512f")]
fn load(words: &[u32; LANES]) -> __m512i {
    // SAFETY: the array has the 64 bytes that are loaded; they need no alignment.
    unsafe { _mm512_loadu_si512(words.as_ptr().cast()) }
}

#[inline]
#[target_feature(enable = "avx512f")]
fn store(words: &mut [u32; LANES], vector: __m512i) {
    // SAFETY: the array has the 64 bytes that are stored; they need no alignment.
    unsafe { _mm512_storeu_si512(words.as_mut_ptr().cast(), vector) }
}

#[inline]
#[target_feature(enable = "avx512f")]
fn add(x: __m512i, y: __m512i) -> __m512i {
    _mm512_add_epi32(x, y)
}

#[inline]
#[target_feature(enable = "avx512f")]
fn splat(word: u32) -> __m512i {
    _mm512_set1_epi32(word.cast_signed())
}

#[inline]
#[target_feature(enable = "avx512f")]
fn rotate<const BITS: i32>(x: __m512i) -> __m512i {
    _mm512_rol_epi32::<BITS>(x)
}

#[inline]
#[target_feature(enable = "avx512f")]
fn shift<const BITS: u32>(x: __m512i) -> __m512i {
    _mm512_srli_epi32::<BITS>(x)
}

// One instruction for any function of three bits: bit `4x + 2y + z` of the constant is the result.

#[inline]
#[target_feature(enable = "avx512f")]
fn f(x: __m512i, y: __m512i, z: __m512i) -> __m512i {
    _mm512_ternarylogic_epi32::<0b1100_1010>(x, y, z)
}

#[inline]
#[target_feature(enable = "avx512f")]
fn g(x: __m512i, y: __m512i, z: __m512i) -> __m512i {
    _mm512_ternarylogic_epi32::<0b1110_0100>(x, y, z)
}

#[inline]
#[target_feature(enable = "avx512f")]
fn h(x: __m512i, y: __m512i, z: __m512i) -> __m512i {
    _mm512_ternarylogic_epi32::<0b1001_0110>(x, y, z)
}

#[inline]
#[target_feature(enable = "avx512f")]
fn i(x: __m512i, y: __m512i, z: __m512i) -> __m512i {
    _mm512_ternarylogic_epi32::<0b0011_1001>(x, y, z)
}

#[inline]
#[target_feature(enable = "avx512f")]
fn majority(x: __m512i, y: __m512i, z: __m512i) -> __m512i {
    _mm512_ternarylogic_epi32::<0b1110_1000>(x, y, z)
}

/// Words with their bytes in the opposite order.
#[inline]
#[target_feature(enable = "avx512f")]
fn swap(x: __m512i) -> __m512i {
    f(splat(0x00ff_00ff), rotate::<8>(x), rotate::<24>(x))
}

/// Sixteen rows of sixteen words as columns: one vector for each word, with the word of every lane.
#[inline]
#[target_feature(enable = "avx512f")]
fn transpose(rows: [__m512i; 16]) -> [__m512i; 16] {
    let mut columns = rows;
    // By quarters of a register: pairs of rows, then groups of four.
    for pair in 0..8 {
        let (x, y) = (rows[2 * pair], rows[2 * pair + 1]);
        columns[2 * pair] = _mm512_unpacklo_epi32(x, y);
        columns[2 * pair + 1] = _mm512_unpackhi_epi32(x, y);
    }
    for four in [0, 4, 8, 12] {
        let [low, high, low2, high2] = [columns[four], columns[four + 1], columns[four + 2], columns[four + 3]];
        columns[four] = _mm512_unpacklo_epi64(low, low2);
        columns[four + 1] = _mm512_unpackhi_epi64(low, low2);
        columns[four + 2] = _mm512_unpacklo_epi64(high, high2);
        columns[four + 3] = _mm512_unpackhi_epi64(high, high2);
    }
    // Then whole quarters.
    let mut words = columns;
    for at in 0..4 {
        let even = _mm512_shuffle_i32x4::<0x88>(columns[at], columns[at + 4]);
        let odd = _mm512_shuffle_i32x4::<0xdd>(columns[at], columns[at + 4]);
        let even2 = _mm512_shuffle_i32x4::<0x88>(columns[at + 8], columns[at + 12]);
        let odd2 = _mm512_shuffle_i32x4::<0xdd>(columns[at + 8], columns[at + 12]);
        words[at] = _mm512_shuffle_i32x4::<0x88>(even, even2);
        words[at + 4] = _mm512_shuffle_i32x4::<0x88>(odd, odd2);
        words[at + 8] = _mm512_shuffle_i32x4::<0xdd>(even, even2);
        words[at + 12] = _mm512_shuffle_i32x4::<0xdd>(odd, odd2);
    }
    words
}

/// The words of one block of every lane.
#[inline]
#[target_feature(enable = "avx512f")]
fn words(blocks: &Blocks<'_>, at: usize) -> [__m512i; 16] {
    let mut rows = [splat(0); LANES];
    for (row, lane) in rows.iter_mut().zip(blocks) {
        *row = load_block(&lane[at]);
    }
    transpose(rows)
}

#[target_feature(enable = "avx512f")]
pub(super) fn md5(states: &mut States, blocks: &Blocks<'_>, count: usize) {
    let [mut a, mut b, mut c, mut d] = [load(&states[0]), load(&states[1]), load(&states[2]), load(&states[3])];
    for at in 0..count {
        let word = words(blocks, at);
        let before = [a, b, c, d];
        md5_steps!(word, (a, b, c, d), f, g, h, i, add, splat, rotate);
        [a, b, c, d] = [add(a, before[0]), add(b, before[1]), add(c, before[2]), add(d, before[3])];
    }
    for (words, vector) in states.iter_mut().zip([a, b, c, d]) {
        store(words, vector);
    }
}

#[target_feature(enable = "avx512f")]
pub(super) fn sha256(states: &mut States, blocks: &Blocks<'_>, count: usize) {
    let mut state = [splat(0); 8];
    for (vector, words) in state.iter_mut().zip(states.iter()) {
        *vector = load(words);
    }
    for at in 0..count {
        let mut word = words(blocks, at);
        for word in &mut word {
            *word = swap(*word);
        }
        sha256_steps!(word, state, f, majority, h, add, splat, rotate, shift);
    }
    for (words, vector) in states.iter_mut().zip(state) {
        store(words, vector);
    }
}
