//! Kernels for x86-64: AVX-512 with all sixteen lanes in one register; AVX2 and SSE2 with pairs of registers of eight and
//! four lanes, whose steps alternate, so that one computes while the other waits.

use crate::Kernel;

/// The kernels that this processor supports, each with its name, fastest first.
pub(crate) fn kernels() -> Vec<(&'static str, Kernel)> {
    let mut all: Vec<(&'static str, Kernel)> = Vec::new();
    if is_x86_feature_detected!("avx512f") {
        // SAFETY: the processor has the instructions.
        all.push(("AVX-512", |states, blocks, count| unsafe { avx512::compress(states, blocks, count) }));
    }
    if is_x86_feature_detected!("avx2") {
        // SAFETY: the processor has the instructions.
        all.push(("AVX2", |states, blocks, count| unsafe { avx2::compress(states, blocks, count) }));
    }
    // SAFETY: every x86-64 processor has the instructions.
    all.push(("SSE2", |states, blocks, count| unsafe { sse2::compress(states, blocks, count) }));
    all
}

mod avx512 {
    use std::arch::x86_64::*;

    use crate::steps::md5_steps;
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

    #[target_feature(enable = "avx512f")]
    pub(super) fn compress(states: &mut States, blocks: &Blocks<'_>, count: usize) {
        let [mut a, mut b, mut c, mut d] = [load(&states[0]), load(&states[1]), load(&states[2]), load(&states[3])];
        for at in 0..count {
            let mut rows = [a; LANES];
            for (row, lane) in rows.iter_mut().zip(blocks) {
                *row = load_block(&lane[at]);
            }
            let word = transpose(rows);
            let before = [a, b, c, d];
            md5_steps!(word, (a, b, c, d), f, g, h, i, add, splat, rotate);
            [a, b, c, d] = [add(a, before[0]), add(b, before[1]), add(c, before[2]), add(d, before[3])];
        }
        for (words, vector) in states.iter_mut().zip([a, b, c, d]) {
            store(words, vector);
        }
    }
}

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

        #[target_feature(enable = $feature)]
        pub(super) fn compress(states: &mut States, blocks: &Blocks<'_>, count: usize) {
            for (number, blocks) in blocks.chunks_exact(2 * $lanes).enumerate() {
                let mut pairs = [splat(0); 4];
                for (pair, words) in pairs.iter_mut().zip(states.iter()) {
                    let groups = &words.as_chunks::<$lanes>().0[2 * number..];
                    *pair = [load(&groups[0]), load(&groups[1])];
                }
                let [mut a, mut b, mut c, mut d] = pairs;
                for at in 0..count {
                    let word = words(blocks, at);
                    let before = [a, b, c, d];
                    md5_steps!(word, (a, b, c, d), f, g, h, i, add, splat, rotate);
                    [a, b, c, d] = [add(a, before[0]), add(b, before[1]), add(c, before[2]), add(d, before[3])];
                }
                for (words, pair) in states.iter_mut().zip([a, b, c, d]) {
                    for (group, register) in words.as_chunks_mut().0[2 * number..].iter_mut().zip(pair) {
                        store(group, register);
                    }
                }
            }
        }
    };
}

mod avx2 {
    use std::arch::x86_64::*;

    use crate::steps::md5_steps;
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

mod sse2 {
    use std::arch::x86_64::*;

    use crate::steps::md5_steps;
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
