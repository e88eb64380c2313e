//! EFI programs, kernels, and the boot entries of firmware.
#![no_main]

use libfuzzer_sys::fuzz_target;
use veritum_core::formats::boot::{efi_program, firmware_entries, kernel_image};

fuzz_target!(|data: &[u8]| {
    let _ = (efi_program::self_proof(data), efi_program::is_efi_program(data));
    let _ = (efi_program::issuers(data), efi_program::content_checksum(data), kernel_image::kernel_version(data));
    let _ = (firmware_entries::entry(data), firmware_entries::order(data));
});
