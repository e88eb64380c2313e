//! fstab and crypttab.
#![no_main]

use libfuzzer_sys::fuzz_target;
use veritum_core::formats::boot::mounts::{crypttab, fstab};

fuzz_target!(|data: &[u8]| {
    let _ = (fstab(data), crypttab(data));
});
