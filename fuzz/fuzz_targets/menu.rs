//! Boot menus, and their environment block.
#![no_main]

use libfuzzer_sys::fuzz_target;
use veritum_core::formats::boot::{environment, menu::Menu};

fuzz_target!(|data: &[u8]| {
    let menu = Menu::parse(data);
    for at in 0..menu.entries.len() {
        let _ = menu.commands_of(at).count();
    }
    let _ = environment::parse(data);
});
