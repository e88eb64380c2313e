//! Change logs: raw bytes, and JSON lines that are given the right length and checksum.
#![no_main]

use libfuzzer_sys::fuzz_target;
use veritum_core::change::ChangeLog;
use veritum_core::model::Digest;

fn read(bytes: &[u8]) {
    if let Ok(Some(log)) = ChangeLog::parse(bytes) {
        let _ = log.rounds();
        let _ = log.end();
    }
}

fuzz_target!(|data: &[u8]| {
    read(data);
    let mut framed = Vec::new();
    for json in data.split(|b| *b == b'\n') {
        framed.extend(format!("{:08x} {} ", json.len(), &Digest::hash(json).to_hex()[..16]).bytes());
        framed.extend_from_slice(json);
        framed.push(b'\n');
    }
    read(&framed);
});
