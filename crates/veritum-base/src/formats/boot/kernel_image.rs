//! Kernels for x86 as boot loaders start them ("The Linux/x86 Boot Protocol", version 2.00 and later).

use crate::formats::numbers::le16;

const MAGIC: &[u8] = b"HdrS";
const MAGIC_AT: usize = 0x202;
/// Where it is told where the version is, counted from the second sector.
const VERSION_AT: usize = 0x20e;
const SECOND_SECTOR: usize = 0x200;
const MAX_VERSION: usize = 128;

/// The version of a kernel, as in `uname -r`; `None` for what is no such kernel.
#[must_use]
pub fn kernel_version(bytes: &[u8]) -> Option<String> {
    if bytes.get(MAGIC_AT..MAGIC_AT + MAGIC.len())? != MAGIC {
        return None;
    }
    let told = bytes.get(SECOND_SECTOR + usize::from(le16(bytes, VERSION_AT))..)?;
    let end = told.iter().take(MAX_VERSION).position(|byte| matches!(byte, b' ' | 0))?;
    let version = std::str::from_utf8(&told[..end]).ok()?;
    (!version.is_empty()).then(|| version.to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn kernel() -> Vec<u8> {
        let mut bytes = vec![0; 2048];
        bytes[MAGIC_AT..MAGIC_AT + 4].copy_from_slice(MAGIC);
        bytes[VERSION_AT..VERSION_AT + 2].copy_from_slice(&256u16.to_le_bytes());
        let version = b"6.9.4-harbour (mirela@saltmarsh) #1 SMP";
        bytes[768..768 + version.len()].copy_from_slice(version);
        bytes
    }

    #[test]
    fn a_kernel_tells_its_version() {
        assert_eq!(kernel_version(&kernel()).as_deref(), Some("6.9.4-harbour"));
        assert_eq!(kernel_version(&kernel()[..600]), None, "cut off before it");
        assert_eq!(kernel_version(b"MZ"), None);
        let mut endless = kernel();
        endless[768..].fill(b'6');
        assert_eq!(kernel_version(&endless), None);
    }

    proptest::proptest! {
        #[test]
        fn a_damaged_kernel_is_read_without_harm(seed: u64) {
            let _ = kernel_version(&crate::testkit::mutated(&kernel(), seed));
        }
    }
}
