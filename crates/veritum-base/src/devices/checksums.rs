//! The checksums of partition tables and file systems.

use crc::{Algorithm, CRC_16_MODBUS, CRC_32_ISCSI, CRC_32_ISO_HDLC, Crc, Table};

/// CRC-32C whose result goes into the next one unchanged, as file systems of the kernel use it.
const CASTAGNOLI: Algorithm<u32> = Algorithm { xorout: 0, ..CRC_32_ISCSI };

static CRC32C: Crc<u32, Table<16>> = Crc::<u32, Table<16>>::new(&CASTAGNOLI);
static CRC32: Crc<u32, Table<1>> = Crc::<u32, Table<1>>::new(&CRC_32_ISO_HDLC);
static CRC16: Crc<u16, Table<1>> = Crc::<u16, Table<1>>::new(&CRC_16_MODBUS);

/// Continues a CRC-32C over these bytes; begin with `u32::MAX`.
pub(super) fn crc32c(before: u32, bytes: &[u8]) -> u32 {
    let mut digest = CRC32C.digest_with_initial(before.reverse_bits());
    digest.update(bytes);
    digest.finalize()
}

/// The CRC-32 of GPT (UEFI 2.10, 5.3.2).
pub(super) fn crc32(bytes: &[u8]) -> u32 {
    CRC32.checksum(bytes)
}

/// Continues the CRC-16 of ext4's group descriptors; begin with `u16::MAX`.
pub(super) fn crc16(before: u16, bytes: &[u8]) -> u16 {
    let mut digest = CRC16.digest_with_initial(before.reverse_bits());
    digest.update(bytes);
    digest.finalize()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_checksums_are_those_of_their_standards() {
        assert_eq!(!crc32c(u32::MAX, b"123456789"), 0xE306_9283);
        assert_eq!(crc32c(crc32c(u32::MAX, b"1234"), b"56789"), crc32c(u32::MAX, b"123456789"));
        assert_eq!(crc32(b"123456789"), 0xCBF4_3926);
        assert_eq!(crc16(u16::MAX, b"123456789"), 0x4B37);
        assert_eq!(crc16(crc16(u16::MAX, b"1234"), b"56789"), 0x4B37);
    }
}
