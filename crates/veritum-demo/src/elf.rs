//! Tiny but real ELF files (System V ABI, x86-64 supplement): programs that run, libraries that the loader accepts.

const BASE: u64 = 0x40_0000;
const EHDR: u64 = 64;
const PHDR: u64 = 56;

fn header(kind: u16, entry: u64, segments: u16) -> Vec<u8> {
    let mut h = vec![0x7f, b'E', b'L', b'F', 2, 1, 1, 0, 0, 0, 0, 0, 0, 0, 0, 0];
    h.extend(kind.to_le_bytes());
    h.extend(62u16.to_le_bytes());
    h.extend(1u32.to_le_bytes());
    h.extend(entry.to_le_bytes());
    h.extend(EHDR.to_le_bytes());
    h.extend(0u64.to_le_bytes());
    h.extend(0u32.to_le_bytes());
    for half in [64u16, 56, segments, 64, 0, 0] {
        h.extend(half.to_le_bytes());
    }
    h
}

fn segment(kind: u32, flags: u32, offset: u64, address: u64, size: u64, align: u64) -> Vec<u8> {
    let mut p = Vec::new();
    p.extend(kind.to_le_bytes());
    p.extend(flags.to_le_bytes());
    for word in [offset, address, address, size, size, align] {
        p.extend(word.to_le_bytes());
    }
    p
}

/// A program that prints a line and succeeds. `ballast` gives it a realistic size.
#[must_use]
pub(crate) fn program(line: &str, ballast: &[u8]) -> Vec<u8> {
    program_with_status(line, 0, ballast)
}

/// A program that prints a line and ends with that exit status.
#[must_use]
pub(crate) fn program_with_status(line: &str, status: u8, ballast: &[u8]) -> Vec<u8> {
    let message = format!("{line}\n");
    let code_at = EHDR + PHDR;
    // write(1, message, length); exit(status)
    let mut code = vec![0xb8, 1, 0, 0, 0, 0xbf, 1, 0, 0, 0, 0x48, 0x8d, 0x35];
    let after_lea = code.len() + 4;
    let rest: Vec<u8> = [
        &[0xba][..],
        &u32::try_from(message.len()).unwrap_or(0).to_le_bytes(),
        &[0x0f, 0x05, 0xb8, 60, 0, 0, 0, 0xbf, status, 0, 0, 0, 0x0f, 0x05],
    ]
    .concat();
    code.extend(u32::try_from(rest.len()).unwrap_or(0).to_le_bytes());
    debug_assert_eq!(code.len(), after_lea);
    code.extend(rest);
    let size = code_at + code.len() as u64 + message.len() as u64 + ballast.len() as u64;
    let mut file = header(2, BASE + code_at, 1);
    file.extend(segment(1, 5, 0, BASE, size, 0x1000));
    file.extend(code);
    file.extend(message.as_bytes());
    file.extend(ballast);
    file
}

/// A shared library with that SONAME and one exported function.
#[must_use]
pub(crate) fn library(soname: &str, function: &str, ballast: &[u8]) -> Vec<u8> {
    let strings = [b"\0", function.as_bytes(), b"\0", soname.as_bytes(), b"\0"].concat();
    let (function_name, soname_at) = (1u64, function.len() as u64 + 2);
    let code = [0xb8u8, 42, 0, 0, 0, 0xc3];
    let code_at = EHDR + 2 * PHDR;
    let strings_at = code_at + 8;
    let symbols_at = (strings_at + strings.len() as u64).next_multiple_of(8);
    let hash_at = symbols_at + 48;
    let dynamic_at = (hash_at + 24).next_multiple_of(8);
    let dynamic: [(u64, u64); 7] =
        [(14, soname_at), (4, hash_at), (5, strings_at), (6, symbols_at), (10, strings.len() as u64), (11, 24), (0, 0)];
    let dynamic_size = dynamic.len() as u64 * 16;
    let size = dynamic_at + dynamic_size + ballast.len() as u64;
    let mut file = header(3, 0, 2);
    file.extend(segment(1, 7, 0, 0, size, 0x1000));
    file.extend(segment(2, 6, dynamic_at, dynamic_at, dynamic_size, 8));
    file.extend(code);
    file.resize(strings_at as usize, 0);
    file.extend(strings);
    file.resize(symbols_at as usize + 24, 0);
    file.extend(u32::try_from(function_name).unwrap_or(0).to_le_bytes());
    file.extend([0x12, 0]);
    file.extend(1u16.to_le_bytes());
    file.extend(code_at.to_le_bytes());
    file.extend((code.len() as u64).to_le_bytes());
    for word in [1u32, 2, 1, 0, 0] {
        file.extend(word.to_le_bytes());
    }
    file.resize(dynamic_at as usize, 0);
    for (tag, value) in dynamic {
        file.extend(tag.to_le_bytes());
        file.extend(value.to_le_bytes());
    }
    file.extend(ballast);
    file
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    #[cfg(all(target_arch = "x86_64", target_os = "linux"))]
    fn a_made_up_program_really_runs() {
        use std::os::unix::fs::PermissionsExt as _;
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("berthbook");
        for status in [0, 1] {
            std::fs::write(&path, program_with_status("Berthbook 4.2", status, b"ballast")).unwrap();
            std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o755)).unwrap();
            let out = std::process::Command::new(&path).output().unwrap();
            assert_eq!((out.status.code(), out.stdout.as_slice()), (Some(status.into()), &b"Berthbook 4.2\n"[..]));
        }
    }

    #[test]
    fn a_library_names_itself_in_its_dynamic_section() {
        let file = library("libbrine.so.1", "brine_version", &[]);
        assert_eq!(&file[..4], b"\x7fELF");
        assert!(file.windows(13).any(|w| w == b"libbrine.so.1"));
    }
}
