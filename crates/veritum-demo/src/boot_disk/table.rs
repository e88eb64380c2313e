//! A GUID partition table with its copy and its protective MBR (UEFI 2.10, 5.2 and 5.3).

const SECTOR: usize = 512;
const ENTRY: usize = 128;
const ENTRIES: usize = 128;

/// The type of a partition for boot code.
pub(super) const BOOT_CODE: [u8; 16] = *b"Hah!IdontNeedEFI";
/// The type of an EFI system partition.
pub(super) const EFI_SYSTEM: [u8; 16] =
    [0x28, 0x73, 0x2a, 0xc1, 0x1f, 0xf8, 0xd2, 0x11, 0xba, 0x4b, 0, 0xa0, 0xc9, 0x3e, 0xc9, 0x3b];
/// The type of a Linux file system.
pub(super) const LINUX: [u8; 16] =
    [0xaf, 0x3d, 0xc6, 0x0f, 0x83, 0x84, 0x72, 0x47, 0x8e, 0x79, 0x3d, 0x69, 0xd8, 0x47, 0x7d, 0xe4];

fn put(image: &mut [u8], at: usize, bytes: &[u8]) {
    image[at..at + bytes.len()].copy_from_slice(bytes);
}

/// The CRC-32 of GPT.
pub(super) fn crc32(bytes: &[u8]) -> u32 {
    crc::Crc::<u32>::new(&crc::CRC_32_ISO_HDLC).checksum(bytes)
}

/// Writes both copies and the protective MBR, for sectors of this size: partitions by type, beginning and end, in bytes.
pub(super) fn write(image: &mut [u8], sector: usize, partitions: &[([u8; 16], usize, usize)]) {
    let sectors = image.len() / sector;
    let length = (ENTRY * ENTRIES).div_ceil(sector);
    put(image, 446, &[0, 0, 2, 0, 0xee, 0xff, 0xff, 0xff, 1, 0, 0, 0]);
    put(image, 458, &(sectors as u32 - 1).to_le_bytes());
    put(image, 510, &[0x55, 0xaa]);
    let mut entries = vec![0; ENTRY * ENTRIES];
    for (at, (kind, begin, end)) in partitions.iter().enumerate() {
        put(&mut entries, at * ENTRY, kind);
        put(&mut entries, at * ENTRY + 16, &[at as u8 + 1; 16]);
        put(&mut entries, at * ENTRY + 32, &((begin / sector) as u64).to_le_bytes());
        put(&mut entries, at * ENTRY + 40, &((end / sector) as u64 - 1).to_le_bytes());
    }
    let copies = [(1, sectors - 1, 2), (sectors - 1, 1, sectors - 1 - length)];
    for (at, other, place) in copies {
        put(image, place * sector, &entries);
        let mut header = vec![0; SECTOR];
        put(&mut header, 0, b"EFI PART\0\0\x01\0");
        put(&mut header, 12, &92u32.to_le_bytes());
        for (field, value) in [(24, at), (32, other), (40, 2 + length), (48, sectors - 2 - length), (72, place)] {
            put(&mut header, field, &(value as u64).to_le_bytes());
        }
        put(&mut header, 56, &[0xc3; 16]);
        put(&mut header, 80, &(ENTRIES as u32).to_le_bytes());
        put(&mut header, 84, &(ENTRY as u32).to_le_bytes());
        put(image, at * sector, &header);
        sign_at(image, at, sector);
    }
}

/// Writes the checksums of a copy again.
pub(super) fn sign(image: &mut [u8], at: usize) {
    sign_at(image, at, SECTOR);
}

fn sign_at(image: &mut [u8], at: usize, sector: usize) {
    let header = at * sector;
    let place: [u8; 8] = image[header + 72..header + 80].try_into().unwrap_or_default();
    let place = usize::try_from(u64::from_le_bytes(place)).unwrap_or_default() * sector;
    let entries = crc32(&image[place..place + ENTRY * ENTRIES]);
    put(image, header + 88, &entries.to_le_bytes());
    put(image, header + 16, &[0; 4]);
    let own = crc32(&image[header..header + 92]);
    put(image, header + 16, &own.to_le_bytes());
}
