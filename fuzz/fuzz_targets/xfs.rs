//! XFS: each input is the parts of a file system that say something (`fuzz/seeds/xfs` has those of a sound one).
#![no_main]

mod pieces;

use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| pieces::read(
    data,
    &[(0, 512), (78_643_200, 512), (157_286_400, 512), (235_929_600, 512)],
    300 << 20
));
