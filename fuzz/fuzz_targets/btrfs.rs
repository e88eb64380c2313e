//! btrfs: each input is the parts of a file system that say something (`fuzz/seeds/btrfs` has those of a sound one).
#![no_main]

mod pieces;

use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| pieces::read(data, &[(64 << 10, 4096), (64 << 20, 4096)], 80 << 20));
