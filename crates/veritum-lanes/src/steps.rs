//! The 64 steps of a block (RFC 1321, 3.4), for any kind of vector.

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

pub(crate) use md5_steps;
