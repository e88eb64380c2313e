//! OpenPGP: keyrings, texts with a signature around them, signatures next to a text.
#![no_main]

use libfuzzer_sys::fuzz_target;
use veritum_core::trust::openpgp::{Keyring, open_clear, open_detached};

fuzz_target!(|data: &[u8]| {
    let Some((first, rest)) = data.split_first() else { return };
    let now = jiff::Timestamp::from_second(1_772_609_400).unwrap();
    let cut = rest.windows(4).position(|w| w == b"\0cut").unwrap_or(rest.len());
    let (ring, signed) = (&rest[..cut], rest.get(cut + 4..).unwrap_or_default());
    let keyring = Keyring::read(ring).unwrap_or_default();
    for certificate in keyring.certificates() {
        let _ = (certificate.user(), certificate.armoured());
    }
    match first % 2 {
        0 => drop(open_clear(signed, &keyring, &|_| true, now)),
        _ => drop(open_detached(b"a text".to_vec(), signed, &keyring, &|_| true, now)),
    }
});
