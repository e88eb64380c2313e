//! Manifests: whatever is read must be restored the same when it is written and read again.
#![no_main]

use libfuzzer_sys::fuzz_target;
use veritum_core::store::Manifest;

fuzz_target!(|data: &[u8]| {
    if let Ok(manifest) = Manifest::decode(data) {
        let again = manifest.encode().unwrap();
        assert_eq!(Manifest::decode(&again).unwrap(), manifest);
    }
});
