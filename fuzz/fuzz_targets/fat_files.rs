//! The files of a FAT file system.
#![no_main]

use std::sync::Arc;

use libfuzzer_sys::fuzz_target;
use veritum_core::devices::{FatFiles, Section};

fuzz_target!(|data: &[u8]| {
    let mut image = data[..data.len().min(1 << 16)].to_vec();
    image.resize(1 << 18, 0);
    let size = image.len() as u64;
    if let Ok(files) = FatFiles::open(&Section::new(Arc::new(image), 0, size)) {
        for entry in files.list().unwrap_or_default().iter().take(4) {
            let _ = files.read(&entry.path);
        }
    }
});
