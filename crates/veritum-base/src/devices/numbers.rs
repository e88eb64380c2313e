//! Numbers in records on a disk. What is past the end of a record counts as 0: records are padded before they are read.

/// The 16-bit little-endian number at a position.
pub(super) fn le16(bytes: &[u8], at: usize) -> u16 {
    array(bytes, at).map_or(0, u16::from_le_bytes)
}

/// The 32-bit little-endian number at a position.
pub(super) fn le32(bytes: &[u8], at: usize) -> u32 {
    array(bytes, at).map_or(0, u32::from_le_bytes)
}

/// The 64-bit little-endian number at a position.
pub(super) fn le64(bytes: &[u8], at: usize) -> u64 {
    array(bytes, at).map_or(0, u64::from_le_bytes)
}

/// The 32-bit big-endian number at a position.
pub(super) fn be32(bytes: &[u8], at: usize) -> u32 {
    array(bytes, at).map_or(0, u32::from_be_bytes)
}

/// The 64-bit big-endian number at a position.
pub(super) fn be64(bytes: &[u8], at: usize) -> u64 {
    array(bytes, at).map_or(0, u64::from_be_bytes)
}

/// So many bytes at a position.
pub(super) fn array<const N: usize>(bytes: &[u8], at: usize) -> Option<[u8; N]> {
    bytes.get(at..at.checked_add(N)?)?.try_into().ok()
}

/// Text up to the first zero byte, without control characters.
pub(super) fn text(bytes: &[u8]) -> String {
    let end = bytes.iter().position(|b| *b == 0).unwrap_or(bytes.len());
    String::from_utf8_lossy(&bytes[..end]).chars().filter(|c| !c.is_control()).collect()
}

/// A UUID as text (RFC 9562).
pub(super) fn uuid(bytes: &[u8; 16]) -> String {
    let hex = hex::encode(bytes);
    [&hex[..8], &hex[8..12], &hex[12..16], &hex[16..20], &hex[20..]].join("-")
}
