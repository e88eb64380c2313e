//! Made-up EFI programs that prove themselves, and an EFI partition with them.

use std::collections::BTreeMap;
use std::io::{self, Cursor, Write as _};

use aws_lc_rs::digest::{Context, SHA256};

use crate::seed::Seed;

/// The beginning of a DigestInfo for SHA-256 (RFC 8017, 9.2).
const DIGEST_INFO: [u8; 19] =
    [0x30, 0x31, 0x30, 0x0d, 0x06, 0x09, 0x60, 0x86, 0x48, 0x01, 0x65, 0x03, 0x04, 0x02, 0x01, 0x05, 0x00, 0x04, 0x20];
const OPTIONAL: usize = 88;
const CERTIFICATES: usize = OPTIONAL + 112 + 32;

/// A program of about this size: PE32+ with one section, and the checksum of its content where a signature has it. No key signed it.
pub(super) fn program(seed: u64, name: &str, size: usize) -> Vec<u8> {
    let size = size.next_multiple_of(512);
    let mut bytes = vec![0; 1024];
    let mut put = |at: usize, with: &[u8]| bytes[at..at + with.len()].copy_from_slice(with);
    put(0, b"MZ");
    put(0x3c, &64u32.to_le_bytes());
    put(64, b"PE\0\0\x64\x86\x01\0");
    put(64 + 20, &240u16.to_le_bytes());
    put(OPTIONAL, &0x20bu16.to_le_bytes());
    put(OPTIONAL + 68, &10u16.to_le_bytes());
    put(OPTIONAL + 108, &16u32.to_le_bytes());
    put(OPTIONAL + 240, b".text");
    put(OPTIONAL + 240 + 16, &(size as u32).to_le_bytes());
    put(OPTIONAL + 240 + 20, &1024u32.to_le_bytes());
    bytes.extend(Seed::new(seed, name).bytes(size));
    let end = bytes.len();
    let table = (8 + DIGEST_INFO.len() + 32).next_multiple_of(8);
    bytes[CERTIFICATES..CERTIFICATES + 4].copy_from_slice(&(end as u32).to_le_bytes());
    bytes[CERTIFICATES + 4..CERTIFICATES + 8].copy_from_slice(&(table as u32).to_le_bytes());
    let mut context = Context::new(&SHA256);
    context.update(&bytes[..OPTIONAL + 64]);
    context.update(&bytes[OPTIONAL + 68..CERTIFICATES]);
    context.update(&bytes[CERTIFICATES + 8..]);
    bytes.extend((table as u32).to_le_bytes());
    bytes.extend([0, 2, 2, 0]);
    bytes.extend(DIGEST_INFO);
    bytes.extend(context.finish().as_ref());
    bytes.resize(end + table, 0);
    bytes
}

/// A FAT file system with these files.
///
/// # Errors
/// When there is too little room.
pub(super) fn file_system(files: &BTreeMap<String, Vec<u8>>, size: usize, id: u32) -> io::Result<Vec<u8>> {
    let mut image = Cursor::new(vec![0; size]);
    let options = fatfs::FormatVolumeOptions::new().volume_id(id).volume_label(*b"SALTMARSH  ");
    fatfs::format_volume(&mut image, options)?;
    {
        let system = fatfs::FileSystem::new(&mut image, fatfs::FsOptions::new())?;
        let root = system.root_dir();
        for (path, content) in files {
            let mut above = String::new();
            for folder in path.split('/').rev().skip(1).collect::<Vec<_>>().into_iter().rev() {
                above = if above.is_empty() { folder.to_owned() } else { format!("{above}/{folder}") };
                root.create_dir(&above)?;
            }
            root.create_file(path)?.write_all(content)?;
        }
    }
    Ok(image.into_inner())
}
