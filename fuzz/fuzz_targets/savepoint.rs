//! Parts of savepoints' manifests, and dpkg's triggers: raw bytes.
#![no_main]

use libfuzzer_sys::fuzz_target;
use veritum_core::platform::debian::{FileTriggers, own_triggers};
use veritum_core::savepoints::read_part;

fuzz_target!(|data: &[u8]| {
    let _ = read_part(data);
    let _ = FileTriggers::parse(data);
    let _ = own_triggers(data);
});
