//! Made-up boot code in the shapes of the real one: a boot sector, a core image with kernel, modules and parity.

use veritum_core::formats::boot::parity::parity_of;

use crate::seed::Seed;

const SECTOR: usize = 512;
/// The size of the decompressor, and how much of it no parity protects.
const DECOMPRESSOR: usize = 1536;
const UNPROTECTED: usize = 1024;
/// The modules in the core image.
pub(super) const EMBEDDED: [&str; 4] = ["fshelp", "ext2", "part_gpt", "biosdisk"];
/// The modules of the package, with what each needs.
pub(super) const MODULES: [(&str, &str); 12] = [
    ("fshelp", ""),
    ("ext2", "fshelp"),
    ("part_gpt", ""),
    ("part_msdos", ""),
    ("biosdisk", ""),
    ("normal", "boot extcmd"),
    ("boot", ""),
    ("extcmd", ""),
    ("linux", "boot"),
    ("search", ""),
    ("gzio", ""),
    ("tetris", ""),
];

/// The files of the boot loader's package, by their names.
pub(super) fn package(seed: u64) -> Vec<(String, Vec<u8>)> {
    let random = |name: &str, size: usize| Seed::new(seed, name).bytes(size);
    let mut boot = random("boot.img", SECTOR);
    boot[0..3].copy_from_slice(&[0xeb, 0x63, 0x90]);
    boot[3..0x5a].fill(0);
    boot[0x5c..0x64].copy_from_slice(&1u64.to_le_bytes());
    boot[0x66..0x68].copy_from_slice(&[0xeb, 0x05]);
    boot[0x180..0x185].copy_from_slice(b"GRUB ");
    boot[510..].copy_from_slice(&[0x55, 0xaa]);
    let mut first = random("diskboot.img", SECTOR);
    first[0x1e0..0x1f4].fill(0);
    first[0x1f4..].copy_from_slice(&[2, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0x20, 8]);
    let mut decompressor = random("lzma_decompress.img", DECOMPRESSOR);
    decompressor[8..0x14].fill(0);
    decompressor[0x14..0x16].copy_from_slice(&(UNPROTECTED as u16).to_le_bytes());
    let mut files = vec![
        ("boot.img".to_owned(), boot),
        ("diskboot.img".to_owned(), first),
        ("lzma_decompress.img".to_owned(), decompressor),
        ("kernel.img".to_owned(), crate::elf::program("", &Seed::new(seed, "kernel.img").prose(9000))),
    ];
    for (name, _) in MODULES {
        let size = 700 + name.len() * 101;
        files.push((format!("{name}.mod"), [b"module ", name.as_bytes(), &random(name, size)].concat()));
    }
    let needs: String = MODULES.iter().map(|(name, needs)| format!("{name}: {needs}\n")).collect();
    files.push(("moddep.lst".to_owned(), needs.into_bytes()));
    files.push(("command.lst".to_owned(), b"linux: linux\nsearch: search\n".to_vec()));
    files
}

fn find<'a>(files: &'a [(String, Vec<u8>)], name: &str) -> &'a [u8] {
    files.iter().find(|(own, _)| own == name).map_or(&[], |(_, content)| content)
}

/// The core image for a partition, without parity.
pub(super) fn core_image(files: &[(String, Vec<u8>)], prefix: &str) -> Vec<u8> {
    let kernel = veritum_core::formats::boot::core_image::flat(find(files, "kernel.img")).unwrap_or_default();
    let mut modules = Vec::new();
    let mut part = |kind: u32, content: &[u8]| {
        let size = (8 + content.len()).next_multiple_of(4);
        modules.extend(kind.to_le_bytes());
        modules.extend((size as u32).to_le_bytes());
        modules.extend(content);
        modules.resize(modules.len() + size - 8 - content.len(), 0);
    };
    for name in EMBEDDED {
        part(0, find(files, &format!("{name}.mod")));
    }
    part(3, &[prefix.as_bytes(), b"\0"].concat());
    let mut unpacked = kernel;
    unpacked.resize(unpacked.len().next_multiple_of(4), 0);
    unpacked.extend(b"mimg");
    unpacked.extend(12u32.to_le_bytes());
    unpacked.extend((12 + modules.len() as u32).to_le_bytes());
    unpacked.extend(modules);
    let packed = pack(&unpacked);
    let mut image = [find(files, "diskboot.img"), find(files, "lzma_decompress.img"), &packed].concat();
    image[SECTOR + 8..SECTOR + 12].copy_from_slice(&(packed.len() as u32).to_le_bytes());
    image[SECTOR + 12..SECTOR + 16].copy_from_slice(&(unpacked.len() as u32).to_le_bytes());
    let sectors = image.len().div_ceil(SECTOR) - 1;
    image[0x1fc..0x1fe].copy_from_slice(&(sectors as u16).to_le_bytes());
    image
}

/// A core image as it is written to the disk: with its place, and with parity behind it.
pub(super) fn installed(image: &[u8], at: u64) -> Vec<u8> {
    let mut image = image.to_vec();
    let sectors = image.len().div_ceil(SECTOR) * 2;
    let parity = sectors * SECTOR - image.len();
    image[0x1f4..0x1fc].copy_from_slice(&(at + 1).to_le_bytes());
    image[0x1fc..0x1fe].copy_from_slice(&((sectors - 1) as u16).to_le_bytes());
    image[SECTOR + 16..SECTOR + 20].copy_from_slice(&(parity as u32).to_le_bytes());
    let behind = parity_of(&image[SECTOR + UNPROTECTED..], parity);
    [image, behind].concat()
}

/// The first sector of a disk, up to its table.
pub(super) fn boot_sector(files: &[(String, Vec<u8>)], core: u64) -> Vec<u8> {
    let mut sector = find(files, "boot.img").to_vec();
    sector[0x5c..0x64].copy_from_slice(&core.to_le_bytes());
    sector[0x66..0x68].fill(0x90);
    sector[0x1b8..0x1fe].fill(0);
    sector
}

fn pack(unpacked: &[u8]) -> Vec<u8> {
    use liblzma::stream::{Action, Filters, LzmaOptions, Status, Stream};
    let encode = || {
        let mut options = LzmaOptions::new_preset(6).ok()?;
        options.dict_size(1 << 16);
        let mut filters = Filters::new();
        filters.lzma1(&options);
        let mut stream = Stream::new_raw_encoder(&filters).ok()?;
        let mut packed = Vec::with_capacity(unpacked.len() + 1024);
        let status = stream.process_vec(unpacked, &mut packed, Action::Finish).ok()?;
        (status == Status::StreamEnd).then_some(packed)
    };
    encode().unwrap_or_default()
}
