//! Initial file systems: cpio, plain or compressed.
#![no_main]

use libfuzzer_sys::fuzz_target;
use veritum_core::formats::boot::initramfs;

fuzz_target!(|data: &[u8]| {
    let mut bytes = 0;
    let _ = initramfs::read(data, &mut |_, content| {
        bytes += std::io::copy(content, &mut std::io::sink())?;
        // What is compressed can be very large.
        if bytes > 16 << 20 { Err(std::io::Error::other("enough")) } else { Ok(()) }
    });
});
