//! AVX2 and SSE2: pairs of registers of eight and four lanes, whose steps alternate, so that one computes while the other
//! waits.

/// Defines the operations on pairs of registers, and the kernel made of them: `$lanes` lanes in each register.
macro_rules! pair_kernel {
    ($feature:literal, $register:ident, $lanes:literal, $load:ident, $store:ident, $add:ident, $splat:ident, $sll:ident,
     $srl:ident, $and:ident, $or:ident, $xor:ident) => {
        /// The registers of two neighbouring groups of lanes.
        type Pair = [$register; 2];

        #[inline]
        #[target_feature(enable = $feature)]
        fn load(words: &[u32; $lanes]) -> $register {
            // SAFETY: the array has the bytes that are loaded; they need no alignment.
            unsafe { $load(words.as_ptr().cast()) }
        }

        #[inline]
        #[target_feature(enable = $feature)]
        fn load_bytes(bytes: &[u8; 4 * $lanes]) -> $register {
            // SAFETY: the array has the bytes that are loaded; they need no alignment.
            unsafe { $load(bytes.as_ptr().cast()) }
        }

        #[inline]
        #[target_feature(enable = $feature)]
        fn store(words: &mut [u32; $lanes], register: $register) {
            // SAFETY: the array has the bytes that are stored; they need no alignment.
            unsafe { $store(words.as_mut_ptr().cast(), register) }
        }

        #[inline]
        #[target_feature(enable = $feature)]
        fn add(x: Pair, y: Pair) -> Pair {
            [$add(x[0], y[0]), $add(x[1], y[1])]
        }

        #[inline]
        #[target_feature(enable = $feature)]
        fn splat(word: u32) -> Pair {
            [$splat(word.cast_signed()); 2]
        }

        #[inline]
        #[target_feature(enable = $feature)]
        fn rotate<const BITS: i32>(x: Pair) -> Pair {
            let (left, right) = (_mm_cvtsi32_si128(BITS), _mm_cvtsi32_si128(32 - BITS));
            [$or($sll(x[0], left), $srl(x[0], right)), $or($sll(x[1], left), $srl(x[1], right))]
        }

        /// Bits of `y` where `x` has ones, else of `z`.
        #[inline]
        #[target_feature(enable = $feature)]
        fn f(x: Pair, y: Pair, z: Pair) -> Pair {
            [$xor(z[0], $and(x[0], $xor(y[0], z[0]))), $xor(z[1], $and(x[1], $xor(y[1], z[1])))]
        }

        #[inline]
        #[target_feature(enable = $feature)]
        fn g(x: Pair, y: Pair, z: Pair) -> Pair {
            f(z, x, y)
        }

        #[inline]
        #[target_feature(enable = $feature)]
        fn h(x: Pair, y: Pair, z: Pair) -> Pair {
            [$xor($xor(y[0], z[0]), x[0]), $xor($xor(y[1], z[1]), x[1])]
        }

        #[inline]
        #[target_feature(enable = $feature)]
        fn i(x: Pair, y: Pair, z: Pair) -> Pair {
            let ones = $splat(-1);
            [$xor(y[0], $or(x[0], $xor(z[0], ones))), $xor(y[1], $or(x[1], $xor(z[1], ones)))]
        }

        /// Shifts right.
        #[inline]
        #[target_feature(enable = $feature)]
        fn shift<const BITS: u32>(x: Pair) -> Pair {
            let right = _mm_cvtsi32_si128(BITS.cast_signed());
            [$srl(x[0], right), $srl(x[1], right)]
        }

        /// The bits that at least two of them have.
        #[inline]
        #[target_feature(enable = $feature)]
        fn majority(x: Pair, y: Pair, z: Pair) -> Pair {
            f([$xor(x[0], y[0]), $xor(x[1], y[1])], z, y)
        }

        /// Words with their bytes in the opposite order.
        #[inline]
        #[target_feature(enable = $feature)]
        fn swap(x: Pair) -> Pair {
            f(splat(0x00ff_00ff), rotate::<8>(x), rotate::<24>(x))
        }

        /// The words of one block of every lane of a pair.
        #[inline]
        #[target_feature(enable = $feature)]
        fn words(blocks: &[&[[u8; BLOCK]]], at: usize) -> [Pair; 16] {
            let mut words = [splat(0); 16];
            for (group, lanes) in blocks.chunks_exact($lanes).enumerate() {
                for (part, columns) in words.chunks_exact_mut($lanes).enumerate() {
                    let mut rows = [$splat(0); $lanes];
                    for (row, lane) in rows.iter_mut().zip(lanes) {
                        *row = load_bytes(&lane[at].as_chunks().0[part]);
                    }
                    for (word, column) in columns.iter_mut().zip(transpose(rows)) {
                        word[group] = column;
                    }
                }
            }
            words
        }

        /// The states of two neighbouring groups of lanes.
        #[inline]
        #[target_feature(enable = $feature)]
        fn load_pairs<const WORDS: usize>(states: &States, number: usize) -> [Pair; WORDS] {
            let mut pairs = [splat(0); WORDS];
            for (pair, words) in pairs.iter_mut().zip(states) {
                let groups = &words.as_chunks::<$lanes>().0[2 * number..];
                *pair = [load(&groups[0]), load(&groups[1])];
            }
            pairs
        }

        #[inline]
        #[target_feature(enable = $feature)]
        fn store_pairs<const WORDS: usize>(states: &mut States, number: usize, pairs: [Pair; WORDS]) {
            for (words, pair) in states.iter_mut().zip(pairs) {
                for (group, register) in words.as_chunks_mut().0[2 * number..].iter_mut().zip(pair) {
                    store(group, register);
                }
            }
        }

        #[target_feature(enable = $feature)]
        pub(crate) fn md5(states: &mut States, blocks: &Blocks<'_>, count: usize) {
            for (number, blocks) in blocks.chunks_exact(2 * $lanes).enumerate() {
                let [mut a, mut b, mut c, mut d] = load_pairs::<4>(states, number);
                for at in 0..count {
                    let word = words(blocks, at);
                    let before = [a, b, c, d];
                    md5_steps!(word, (a, b, c, d), f, g, h, i, add, splat, rotate);
                    [a, b, c, d] = [add(a, before[0]), add(b, before[1]), add(c, before[2]), add(d, before[3])];
                }
                store_pairs(states, number, [a, b, c, d]);
            }
        }

        #[target_feature(enable = $feature)]
        pub(crate) fn sha256(states: &mut States, blocks: &Blocks<'_>, count: usize) {
            for (number, blocks) in blocks.chunks_exact(2 * $lanes).enumerate() {
                let mut state = load_pairs::<8>(states, number);
                for at in 0..count {
                    let mut word = words(blocks, at);
                    for word in &mut word {
                        *word = swap(*word);
                    }
                    sha256_steps!(word, state, f, majority, h, add, splat, rotate, shift);
                }
                store_pairs(states, number, state);
            }
        }
    };
}

pub(super) mod avx2 {
    use std::arch::x86_64::*;

    use crate::steps::{md5_steps, sha256_steps};
    use crate::{BLOCK, Blocks, States};

    pair_kernel!(
        "avx2",
        __m256i,
        8,
        _mm256_loadu_si256,
        _mm256_storeu_si256,
        _mm256_add_epi32,
        _mm256_set1_epi32,
        _mm256_sll_epi32,
        _mm256_srl_epi32,
        _mm256_and_si256,
        _mm256_or_si256,
        _mm256_xor_si256
    );

    /// Eight rows of eight words as columns.
    #[inline]
    #[target_feature(enable = "avx2")]
    fn transpose(rows: [__m256i; 8]) -> [__m256i; 8] {
        let mut columns = rows;
        // By halves of a register: pairs of rows, then groups of four.
        for pair in 0..4 {
            let (x, y) = (rows[2 * pair], rows[2 * pair + 1]);
            columns[2 * pair] = _mm256_unpacklo_epi32(x, y);
            columns[2 * pair + 1] = _mm256_unpackhi_epi32(x, y);
        }
        for four in [0, 4] {
            let [low, high, low2, high2] = [columns[four], columns[four + 1], columns[four + 2], columns[four + 3]];
            columns[four] = _mm256_unpacklo_epi64(low, low2);
            columns[four + 1] = _mm256_unpackhi_epi64(low, low2);
            columns[four + 2] = _mm256_unpacklo_epi64(high, high2);
            columns[four + 3] = _mm256_unpackhi_epi64(high, high2);
        }
        // Then whole halves.
        let mut words = columns;
        for at in 0..4 {
            words[at] = _mm256_permute2x128_si256::<0x20>(columns[at], columns[at + 4]);
            words[at + 4] = _mm256_permute2x128_si256::<0x31>(columns[at], columns[at + 4]);
        }
        words
    }
}

pub(super) mod sse2 {
    use std::arch::x86_64::*;

    use crate::steps::{md5_steps, sha256_steps};
    use crate::{BLOCK, Blocks, States};

    pair_kernel!(
        "sse2",
        __m128i,
        4,
        _mm_loadu_si128,
        _mm_storeu_si128,
        _mm_add_epi32,
        _mm_set1_epi32,
        _mm_sll_epi32,
        _mm_srl_epi32,
        _mm_and_si128,
        _mm_or_si128,
        _mm_xor_si128
    );

    /// Four rows of four words as columns.
    #[inline]
    #[target_feature(enable = "sse2")]
    fn transpose(rows: [__m128i; 4]) -> [__m128i; 4] {
        let (low, high) = (_mm_unpacklo_epi32(rows[0], rows[1]), _mm_unpackhi_epi32(rows[0], rows[1]));
        let (low2, high2) = (_mm_unpacklo_epi32(rows[2], rows[3]), _mm_unpackhi_epi32(rows[2], rows[3]));
        [
            _mm_unpacklo_epi64(low, low2),
            _mm_unpackhi_epi64(low, low2),
            _mm_unpacklo_epi64(high, high2),
            _mm_unpackhi_epi64(high, high2),
        ]
    }
}
