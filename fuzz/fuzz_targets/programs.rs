//! What programs and kernel modules say of themselves, and the lists by which modules are found.
#![no_main]

use libfuzzer_sys::fuzz_target;
use veritum_core::formats::kernel_module::module_info;
use veritum_core::formats::module_index::{aliases, dependencies, trie};
use veritum_core::formats::program::program_needs;

fuzz_target!(|data: &[u8]| {
    let _ = (program_needs(data), module_info(data));
    let _ = (trie(data), aliases(data), dependencies(data));
});
