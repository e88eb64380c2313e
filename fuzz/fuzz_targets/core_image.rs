//! Core images and boot sectors of GRUB: the first half of each input is an image, the second the kernel of a package.
#![no_main]

use libfuzzer_sys::fuzz_target;
use veritum_core::formats::boot::core_image::{CoreImage, PackageFiles, flat, parts};
use veritum_core::formats::boot::sector;

fuzz_target!(|data: &[u8]| {
    let (image, kernel) = data.split_at(data.len() / 2);
    let first = image.get(..512).unwrap_or_default();
    let decompressor = image.get(512..600).unwrap_or_default();
    let _ = (parts(image), flat(kernel), sector::compare(image, kernel));
    let _ = CoreImage::parse(image, PackageFiles { first, decompressor, kernel: &[] });
});
