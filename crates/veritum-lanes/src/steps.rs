//! The 64 steps of a block (RFC 1321, 3.4; FIPS 180-4, 6.2.2), for any kind of vector.

/// Expands to the steps of one block: `$word[i]` is the vector of the lanes' i-th words. The operations are functions on
/// vectors; `$splat` makes one of a constant, `$rotate::<N>` rotates each word left.
#[rustfmt::skip]
macro_rules! md5_steps {
    ($word:ident, ($a:ident, $b:ident, $c:ident, $d:ident),
     $f:ident, $g:ident, $h:ident, $i:ident, $add:ident, $splat:ident, $rotate:ident) => {{
        macro_rules! step {
            ($fun:ident, $w:ident, $x:ident, $y:ident, $z:ident, $k:expr, $s:literal, $t:literal) => {
                let sum = $add($add($w, $add($word[$k], $splat($t))), $fun($x, $y, $z));
                $w = $add($rotate::<$s>(sum), $x);
            };
        }
        macro_rules! four {
            ($fun:ident, [$k0:expr, $k1:expr, $k2:expr, $k3:expr], [$s0:literal, $s1:literal, $s2:literal, $s3:literal],
             [$t0:literal, $t1:literal, $t2:literal, $t3:literal]) => {
                step!($fun, $a, $b, $c, $d, $k0, $s0, $t0);
                step!($fun, $d, $a, $b, $c, $k1, $s1, $t1);
                step!($fun, $c, $d, $a, $b, $k2, $s2, $t2);
                step!($fun, $b, $c, $d, $a, $k3, $s3, $t3);
            };
        }
        four!($f, [0, 1, 2, 3], [7, 12, 17, 22], [0xd76aa478, 0xe8c7b756, 0x242070db, 0xc1bdceee]);
        four!($f, [4, 5, 6, 7], [7, 12, 17, 22], [0xf57c0faf, 0x4787c62a, 0xa8304613, 0xfd469501]);
        four!($f, [8, 9, 10, 11], [7, 12, 17, 22], [0x698098d8, 0x8b44f7af, 0xffff5bb1, 0x895cd7be]);
        four!($f, [12, 13, 14, 15], [7, 12, 17, 22], [0x6b901122, 0xfd987193, 0xa679438e, 0x49b40821]);
        four!($g, [1, 6, 11, 0], [5, 9, 14, 20], [0xf61e2562, 0xc040b340, 0x265e5a51, 0xe9b6c7aa]);
        four!($g, [5, 10, 15, 4], [5, 9, 14, 20], [0xd62f105d, 0x02441453, 0xd8a1e681, 0xe7d3fbc8]);
        four!($g, [9, 14, 3, 8], [5, 9, 14, 20], [0x21e1cde6, 0xc33707d6, 0xf4d50d87, 0x455a14ed]);
        four!($g, [13, 2, 7, 12], [5, 9, 14, 20], [0xa9e3e905, 0xfcefa3f8, 0x676f02d9, 0x8d2a4c8a]);
        four!($h, [5, 8, 11, 14], [4, 11, 16, 23], [0xfffa3942, 0x8771f681, 0x6d9d6122, 0xfde5380c]);
        four!($h, [1, 4, 7, 10], [4, 11, 16, 23], [0xa4beea44, 0x4bdecfa9, 0xf6bb4b60, 0xbebfbc70]);
        four!($h, [13, 0, 3, 6], [4, 11, 16, 23], [0x289b7ec6, 0xeaa127fa, 0xd4ef3085, 0x04881d05]);
        four!($h, [9, 12, 15, 2], [4, 11, 16, 23], [0xd9d4d039, 0xe6db99e5, 0x1fa27cf8, 0xc4ac5665]);
        four!($i, [0, 7, 14, 5], [6, 10, 15, 21], [0xf4292244, 0x432aff97, 0xab9423a7, 0xfc93a039]);
        four!($i, [12, 3, 10, 1], [6, 10, 15, 21], [0x655b59c3, 0x8f0ccc92, 0xffeff47d, 0x85845dd1]);
        four!($i, [8, 15, 6, 13], [6, 10, 15, 21], [0x6fa87e4f, 0xfe2ce6e0, 0xa3014314, 0x4e0811a1]);
        four!($i, [4, 11, 2, 9], [6, 10, 15, 21], [0xf7537e82, 0xbd3af235, 0x2ad7d2bb, 0xeb86d391]);
    }};
}

/// The constants of SHA-256 (FIPS 180-4, 4.2.2).
#[rustfmt::skip]
pub(crate) const SHA256_CONSTANTS: [u32; 64] = [
    0x428a2f98, 0x71374491, 0xb5c0fbcf, 0xe9b5dba5, 0x3956c25b, 0x59f111f1, 0x923f82a4, 0xab1c5ed5,
    0xd807aa98, 0x12835b01, 0x243185be, 0x550c7dc3, 0x72be5d74, 0x80deb1fe, 0x9bdc06a7, 0xc19bf174,
    0xe49b69c1, 0xefbe4786, 0x0fc19dc6, 0x240ca1cc, 0x2de92c6f, 0x4a7484aa, 0x5cb0a9dc, 0x76f988da,
    0x983e5152, 0xa831c66d, 0xb00327c8, 0xbf597fc7, 0xc6e00bf3, 0xd5a79147, 0x06ca6351, 0x14292967,
    0x27b70a85, 0x2e1b2138, 0x4d2c6dfc, 0x53380d13, 0x650a7354, 0x766a0abb, 0x81c2c92e, 0x92722c85,
    0xa2bfe8a1, 0xa81a664b, 0xc24b8b70, 0xc76c51a3, 0xd192e819, 0xd6990624, 0xf40e3585, 0x106aa070,
    0x19a4c116, 0x1e376c08, 0x2748774c, 0x34b0bcb5, 0x391c0cb3, 0x4ed8aa4a, 0x5b9cca4f, 0x682e6ff3,
    0x748f82ee, 0x78a5636f, 0x84c87814, 0x8cc70208, 0x90befffa, 0xa4506ceb, 0xbef9a3f7, 0xc67178f2,
];

/// Adds one block to the array `$state`; the words, with the highest byte first, are used up. `$xor` is the exclusive or of
/// three vectors, `$rotate::<N>` rotates left, `$shift::<N>` shifts right.
#[rustfmt::skip]
macro_rules! sha256_steps {
    ($word:ident, $state:ident, $choose:ident, $majority:ident, $xor:ident, $add:ident, $splat:ident, $rotate:ident,
     $shift:ident) => {{
        let before = $state;
        let [mut a, mut b, mut c, mut d, mut e, mut f, mut g, mut h] = $state;
        macro_rules! step {
            ($a:ident, $b:ident, $c:ident, $d:ident, $e:ident, $f:ident, $g:ident, $last:ident, $k:expr, $t:literal) => {
                let constant = $add($word[$t], $splat(crate::steps::SHA256_CONSTANTS[$k + $t]));
                let high = $xor($rotate::<26>($e), $rotate::<21>($e), $rotate::<7>($e));
                let first = $add($add($add($last, constant), $choose($e, $f, $g)), high);
                let low = $xor($rotate::<30>($a), $rotate::<19>($a), $rotate::<10>($a));
                $d = $add($d, first);
                $last = $add(first, $add(low, $majority($a, $b, $c)));
            };
        }
        for k in [0, 16, 32, 48] {
            // The next sixteen words take the places of the last ones.
            for t in if k == 0 { 0..0 } else { 0..16 } {
                let (x, y) = ($word[(t + 1) % 16], $word[(t + 14) % 16]);
                let low = $xor($rotate::<25>(x), $rotate::<14>(x), $shift::<3>(x));
                let high = $xor($rotate::<15>(y), $rotate::<13>(y), $shift::<10>(y));
                $word[t] = $add($add($word[t], $word[(t + 9) % 16]), $add(low, high));
            }
            step!(a, b, c, d, e, f, g, h, k, 0);
            step!(h, a, b, c, d, e, f, g, k, 1);
            step!(g, h, a, b, c, d, e, f, k, 2);
            step!(f, g, h, a, b, c, d, e, k, 3);
            step!(e, f, g, h, a, b, c, d, k, 4);
            step!(d, e, f, g, h, a, b, c, k, 5);
            step!(c, d, e, f, g, h, a, b, k, 6);
            step!(b, c, d, e, f, g, h, a, k, 7);
            step!(a, b, c, d, e, f, g, h, k, 8);
            step!(h, a, b, c, d, e, f, g, k, 9);
            step!(g, h, a, b, c, d, e, f, k, 10);
            step!(f, g, h, a, b, c, d, e, k, 11);
            step!(e, f, g, h, a, b, c, d, k, 12);
            step!(d, e, f, g, h, a, b, c, k, 13);
            step!(c, d, e, f, g, h, a, b, k, 14);
            step!(b, c, d, e, f, g, h, a, k, 15);
        }
        for (word, (now, before)) in $state.iter_mut().zip([a, b, c, d, e, f, g, h].into_iter().zip(before)) {
            *word = $add(now, before);
        }
    }};
}

pub(crate) use {md5_steps, sha256_steps};
