//! `.deb` packages: the outer archive, and, behind a first byte, a bare data part in each compression.
#![no_main]

use std::io::Read;

use libfuzzer_sys::fuzz_target;
use veritum_core::formats::deb::read_deb;
use veritum_core::formats::deb::{Deb, DebError, DebSink, RawEntry};

struct Count(u64);

impl DebSink for Count {
    fn deb(&mut self, _: &Deb) -> Result<(), DebError> {
        Ok(())
    }
    fn entry(&mut self, _: RawEntry, content: &mut dyn Read) -> Result<(), DebError> {
        self.0 += std::io::copy(&mut content.take(1 << 20), &mut std::io::sink())?;
        Ok(())
    }
}

fn member(name: &str, content: &[u8]) -> Vec<u8> {
    let mut bytes = format!("{name:<16}{:<12}{:<6}{:<6}{:<8}{:<10}`\n", 0, 0, 0, "100644", content.len()).into_bytes();
    bytes.extend_from_slice(content);
    if content.len() % 2 == 1 {
        bytes.push(b'\n');
    }
    bytes
}

/// A tar header for one small file.
fn tar(name: &str, content: &[u8]) -> Vec<u8> {
    let mut header = [0u8; 512];
    header[..name.len()].copy_from_slice(name.as_bytes());
    header[100..107].copy_from_slice(b"0000644");
    header[108..115].copy_from_slice(b"0000000");
    header[116..123].copy_from_slice(b"0000000");
    header[124..135].copy_from_slice(format!("{:011o}", content.len()).as_bytes());
    header[136..147].copy_from_slice(b"00000000000");
    header[148..156].copy_from_slice(b"        ");
    header[156] = b'0';
    let sum: u32 = header.iter().map(|b| u32::from(*b)).sum();
    header[148..155].copy_from_slice(format!("{sum:06o}\0").as_bytes());
    let mut bytes = header.to_vec();
    bytes.extend_from_slice(content);
    bytes.resize(bytes.len().next_multiple_of(512) + 1024, 0);
    bytes
}

fuzz_target!(|data: &[u8]| {
    let _ = read_deb(data, &mut Count(0));
    let Some((first, rest)) = data.split_first() else { return };
    let suffix = ["", ".gz", ".xz", ".zst"][usize::from(*first) % 4];
    let control = tar("./control", b"Package: odd\nVersion: 1\nArchitecture: all\n");
    let mut deb = b"!<arch>\n".to_vec();
    deb.extend(member("debian-binary", b"2.0\n"));
    if *first & 4 == 0 {
        deb.extend(member("control.tar", &control));
        deb.extend(member(&format!("data.tar{suffix}"), rest));
    } else {
        deb.extend(member(&format!("control.tar{suffix}"), rest));
        deb.extend(member("data.tar", &[0; 1024]));
    }
    let _ = read_deb(deb.as_slice(), &mut Count(0));
});
