//! Numbers in records on a disk. What is past the end of a record counts as 0: records are padded before they are read.

/// The 16-bit little-endian number at a position.
pub(crate) fn le16(bytes: &[u8], at: usize) -> u16 {
    array(bytes, at).map_or(0, u16::from_le_bytes)
}

/// The 32-bit little-endian number at a position.
pub(crate) fn le32(bytes: &[u8], at: usize) -> u32 {
    array(bytes, at).map_or(0, u32::from_le_bytes)
}

/// The 64-bit little-endian number at a position.
pub(crate) fn le64(bytes: &[u8], at: usize) -> u64 {
    array(bytes, at).map_or(0, u64::from_le_bytes)
}

/// The 32-bit big-endian number at a position.
pub(crate) fn be32(bytes: &[u8], at: usize) -> u32 {
    array(bytes, at).map_or(0, u32::from_be_bytes)
}

/// The 64-bit big-endian number at a position.
pub(crate) fn be64(bytes: &[u8], at: usize) -> u64 {
    array(bytes, at).map_or(0, u64::from_be_bytes)
}

/// So many bytes at a position.
pub(crate) fn array<const N: usize>(bytes: &[u8], at: usize) -> Option<[u8; N]> {
    bytes.get(at..at.checked_add(N)?)?.try_into().ok()
}

/// Text up to the first zero byte, without control characters.
pub(crate) fn text(bytes: &[u8]) -> String {
    let end = bytes.iter().position(|b| *b == 0).unwrap_or(bytes.len());
    String::from_utf8_lossy(&bytes[..end]).chars().filter(|c| !c.is_control()).collect()
}

/// A UUID as text (RFC 9562).
pub(crate) fn uuid(bytes: &[u8; 16]) -> String {
    let hex = hex::encode(bytes);
    [&hex[..8], &hex[8..12], &hex[12..16], &hex[16..20], &hex[20..]].join("-")
}

/// A GUID as text: its first three parts are little-endian (UEFI 2.10, appendix A).
pub(crate) fn guid(bytes: &[u8]) -> String {
    let mut ordered: [u8; 16] = array(bytes, 0).unwrap_or_default();
    ordered[..4].reverse();
    ordered[4..6].reverse();
    ordered[6..8].reverse();
    uuid(&ordered)
}

/// The bytes of a GUID in text.
pub(crate) fn guid_bytes(text: &str) -> Option<[u8; 16]> {
    let digits: String = text.split('-').collect();
    if text.len() != 36 || digits.len() != 32 {
        return None;
    }
    let mut bytes = u128::from_str_radix(&digits, 16).ok()?.to_be_bytes();
    bytes[..4].reverse();
    bytes[4..6].reverse();
    bytes[6..8].reverse();
    Some(bytes)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_past_the_end_counts_as_zero_and_a_guid_has_mixed_parts() {
        assert_eq!((le16(&[1], 0), le32(&[1, 0, 0, 0], 0), le64(&[], 9), be32(&[0, 0, 1, 0], 0)), (0, 1, 0, 256));
        assert_eq!(text(b"boat\0x"), "boat");
        let efi = [0x28, 0x73, 0x2a, 0xc1, 0x1f, 0xf8, 0xd2, 0x11, 0xba, 0x4b, 0x00, 0xa0, 0xc9, 0x3e, 0xc9, 0x3b];
        assert_eq!(guid(&efi), "c12a7328-f81f-11d2-ba4b-00a0c93ec93b");
    }
}
