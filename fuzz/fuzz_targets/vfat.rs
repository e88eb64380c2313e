//! FAT: each input is the parts of a file system that say something (`fuzz/seeds/vfat` has those of a sound one).
#![no_main]

mod pieces;

use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| pieces::read(data, &[(0, 16384)], 40 << 20));
