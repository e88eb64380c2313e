//! An initial file system: some files of the root, and a generated one, as cpio ("newc") in zstd.

use std::collections::BTreeMap;
use std::io::Write as _;

use super::modules::{INITIAL, INSTALLED};
use super::{KERNEL, Node};

fn member(out: &mut Vec<u8>, name: &str, mode: u32, content: &[u8]) {
    let name_size = name.len() as u32 + 1;
    let fields = [1, mode, 0, 0, 1, crate::NOW as u32, content.len() as u32, 0, 0, 0, 0, name_size, 0];
    out.extend(b"070701");
    out.extend(fields.map(|field| format!("{field:08x}")).concat().bytes());
    out.extend(name.bytes());
    out.push(0);
    out.resize(out.len().next_multiple_of(4), 0);
    out.extend(content);
    out.resize(out.len().next_multiple_of(4), 0);
}

/// Made-up microcode, which comes before an initial file system.
pub(super) fn microcode() -> Vec<u8> {
    let mut out = Vec::new();
    member(&mut out, "kernel/x86/microcode/Gangway.bin", 0o100_644, &[0x5a; 2000]);
    member(&mut out, "TRAILER!!!", 0, b"");
    out.resize(out.len().next_multiple_of(512), 0);
    out
}

/// The initial file system for these files of the root.
pub(super) fn pack(root: &BTreeMap<String, Node>) -> Vec<u8> {
    let out = unpacked(root);
    let compress = || {
        let mut encoder = zstd::stream::write::Encoder::new(Vec::new(), 3)?;
        encoder.include_checksum(true)?;
        encoder.write_all(&out)?;
        encoder.finish()
    };
    compress().unwrap_or_default()
}

/// The same, not compressed.
pub(super) fn unpacked(root: &BTreeMap<String, Node>) -> Vec<u8> {
    let mut out = Vec::new();
    member(&mut out, "usr", 0o40_755, b"");
    let is_in = |path: &str| {
        ["usr/bin/", "usr/sbin/", "usr/lib64/"].iter().any(|folder| path.starts_with(folder))
            || INSTALLED[..INITIAL].iter().any(|(own, ..)| path.ends_with(&format!("/{own}.ko")))
    };
    for (path, node) in root.iter().filter(|(path, _)| is_in(path)) {
        if let Node::File { content, mode } = node {
            member(&mut out, path, 0o100_000 | mode, content);
        }
    }
    for name in ["init", "scripts/functions", "scripts/local"] {
        if let Some(Node::File { content, mode }) = root.get(&format!("usr/share/initramfs-tools/{name}")) {
            member(&mut out, name, 0o100_000 | mode, content);
        }
    }
    for (name, list) in super::modules::lists(&INSTALLED[..INITIAL]) {
        member(&mut out, &format!("usr/lib/modules/{KERNEL}/{name}"), 0o100_644, &list);
    }
    member(&mut out, "conf/arch.conf", 0o100_644, b"DPKG_ARCH=amd64\n");
    member(&mut out, "bin", 0o120_777, b"usr/bin");
    member(&mut out, "TRAILER!!!", 0, b"");
    out.resize(out.len().next_multiple_of(512), 0);
    out
}
