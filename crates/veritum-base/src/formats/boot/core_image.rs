//! The core image of GRUB 2 for BIOS machines: its first sector (`diskboot.img`) loads the rest, whose beginning
//! (`lzma_decompress.img`) unpacks the kernel and the modules behind it (include/grub/offsets.h and kernel.h in its source).

use liblzma::stream::{Action, Filters, LzmaOptions, Status, Stream};

use super::parity::parity_of;
use super::sector::SIZE as SECTOR;
use crate::formats::numbers::{le16, le32, le64};

/// A place in the first sector: the last of a list of parts, which grows towards the beginning.
const LIST: usize = 0x1f4;
const LIST_ENTRY: usize = 12;
/// The segment at which the first part is loaded.
const SEGMENT: u16 = 0x820;
/// Places in the decompressor's header.
const COMPRESSED: usize = 0x08;
const UNCOMPRESSED: usize = 0x0c;
const PARITY: usize = 0x10;
const UNPROTECTED: usize = 0x14;
/// Larger images do not fit in front of a first partition.
pub const MAX_IMAGE: usize = 4 << 20;
/// Larger images do not fit into the memory that a BIOS machine has then.
const MAX_UNPACKED: usize = 16 << 20;
/// The modules' mark.
const MODULES: &[u8] = b"mimg";
const DICTIONARY: u32 = 1 << 16;

/// A part of the list in the first sector.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ListPart {
    /// The first sector.
    pub start: u64,
    /// The number of sectors.
    pub sectors: u16,
    /// The segment at which it is loaded.
    pub segment: u16,
}

/// The list in the first sector; `None` if it does not end.
#[must_use]
pub fn parts(first: &[u8]) -> Option<Vec<ListPart>> {
    let mut parts = Vec::new();
    let mut at = LIST;
    loop {
        let part = ListPart { start: le64(first, at), sectors: le16(first, at + 8), segment: le16(first, at + 10) };
        if part.sectors == 0 {
            return Some(parts);
        }
        parts.push(part);
        at = at.checked_sub(LIST_ENTRY).filter(|at| *at > SECTOR / 2)?;
    }
}

/// Whether the first sector is the package's, but for the list.
#[must_use]
pub fn is_first_sector(first: &[u8], package: &[u8]) -> bool {
    first.len() >= SECTOR && package.len() >= SECTOR && first[..LIST] == package[..LIST]
}

/// Whether the list is that of an image which follows the first sector in one piece: its beginning.
#[must_use]
pub fn embedded_at(first: &[u8]) -> Option<u64> {
    match parts(first)?[..] {
        [ListPart { start, segment: SEGMENT, .. }] => Some(start),
        _ => None,
    }
}

/// The header of the decompressor.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Header {
    /// The size of what is compressed, in bytes.
    pub compressed: usize,
    /// Its size when unpacked.
    pub unpacked: usize,
    /// The size of the parity behind the image.
    pub parity: usize,
    /// The size of the part of the decompressor that no parity protects.
    pub unprotected: usize,
}

impl Header {
    /// Reads the header behind the first sector of an image.
    #[must_use]
    pub fn parse(image: &[u8]) -> Self {
        let number = |at: usize| usize::try_from(le32(image, SECTOR + at)).unwrap_or(usize::MAX);
        Self {
            compressed: number(COMPRESSED),
            unpacked: number(UNCOMPRESSED),
            parity: number(PARITY),
            unprotected: usize::from(le16(image, SECTOR + UNPROTECTED)),
        }
    }
}

/// What is wrong with an image.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ImageFault {
    /// A byte of the first sector, or of the decompressor, is not the package's: the first one.
    Code(usize),
    /// The header names sizes that are not possible.
    Header,
    /// It ends before what its header says.
    Short,
    /// What is compressed cannot be unpacked.
    Unpack,
    /// A byte of the kernel is not the package's: the first one.
    Kernel(usize),
    /// The modules cannot be read.
    Modules,
}

/// A part behind the kernel.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Part {
    /// A module, padded.
    Module(Vec<u8>),
    /// A configuration that is run before the menu.
    Configuration(String),
    /// Where the menu and the other modules are.
    Prefix(String),
    /// Something else, by its type and size.
    Other(u32, usize),
}

/// An image that was unpacked.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CoreImage {
    /// Its header.
    pub header: Header,
    /// Its size without parity.
    pub size: usize,
    /// The parts behind the kernel.
    pub parts: Vec<Part>,
}

/// The package's files that an image is compared with.
#[derive(Clone, Copy)]
pub struct PackageFiles<'a> {
    /// `diskboot.img`.
    pub first: &'a [u8],
    /// `lzma_decompress.img`.
    pub decompressor: &'a [u8],
    /// What `kernel.img` is in memory.
    pub kernel: &'a [u8],
}

impl CoreImage {
    /// Compares an image with the package's files, and unpacks it.
    ///
    /// # Errors
    /// The first fault.
    pub fn parse(image: &[u8], package: PackageFiles<'_>) -> Result<Self, ImageFault> {
        let code = package.decompressor.len();
        if image.len() < SECTOR + code {
            return Err(ImageFault::Short);
        }
        if let Some(at) = (0..LIST).find(|at| image.get(*at) != package.first.get(*at)) {
            return Err(ImageFault::Code(at));
        }
        let header = Header::parse(image);
        let is_header = |at: usize| (COMPRESSED..UNPROTECTED).contains(&at);
        let own = &image[SECTOR..SECTOR + code];
        if let Some(at) = (0..code).find(|at| own[*at] != package.decompressor[*at] && !is_header(*at)) {
            return Err(ImageFault::Code(SECTOR + at));
        }
        if header.compressed > MAX_IMAGE || header.unpacked > MAX_UNPACKED || header.parity > MAX_IMAGE {
            return Err(ImageFault::Header);
        }
        let size = SECTOR + code + header.compressed;
        let packed = image.get(SECTOR + code..size).ok_or(ImageFault::Short)?;
        let unpacked = unpack(packed, header.unpacked).ok_or(ImageFault::Unpack)?;
        let kernel = package.kernel.len();
        if let Some(at) = (0..kernel).find(|at| unpacked.get(*at) != package.kernel.get(*at)) {
            return Err(ImageFault::Kernel(at));
        }
        let parts = modules(&unpacked[kernel..]).ok_or(ImageFault::Modules)?;
        Ok(Self { header, size, parts })
    }

    /// Where the menu and the other modules are.
    #[must_use]
    pub fn prefix(&self) -> Option<&str> {
        self.parts.iter().find_map(|part| if let Part::Prefix(prefix) = part { Some(&**prefix) } else { None })
    }

    /// What is run before the menu.
    #[must_use]
    pub fn configuration(&self) -> Option<&str> {
        self.parts.iter().find_map(|part| if let Part::Configuration(text) = part { Some(&**text) } else { None })
    }
}

/// What parity protects of an image: from the end of the unprotected code on.
#[must_use]
pub fn protected(header: &Header, size: usize) -> Option<std::ops::Range<usize>> {
    let from = SECTOR + header.unprotected;
    (from < size).then_some(from..size)
}

/// An image as it is written to a disk: from this sector on, with parity behind it as far as there is room, in sectors. `None` if it does
/// not fit.
#[must_use]
pub fn installed(image: &[u8], at: u64, room: u64) -> Option<Vec<u8>> {
    let sectors = image.len().div_ceil(SECTOR);
    let all = (sectors * 2).min(usize::try_from(room).unwrap_or(usize::MAX));
    let mut image = image.get(..).filter(|image| image.len() > 2 * SECTOR && sectors <= all)?.to_vec();
    let parity = all * SECTOR - image.len();
    image[LIST..LIST + 8].copy_from_slice(&(at + 1).to_le_bytes());
    image[LIST + 8..LIST + 10].copy_from_slice(&u16::try_from(all - 1).ok()?.to_le_bytes());
    image[LIST + 10..LIST + 12].copy_from_slice(&SEGMENT.to_le_bytes());
    image[SECTOR + PARITY..SECTOR + PARITY + 4].copy_from_slice(&u32::try_from(parity).ok()?.to_le_bytes());
    let range = protected(&Header::parse(&image), image.len())?;
    let behind = parity_of(&image[range], parity);
    Some([image, behind].concat())
}

/// An image without place and parity, as a machine keeps a copy of it.
#[must_use]
pub fn as_copied(image: &[u8]) -> Option<Vec<u8>> {
    /// Where the part behind the first sector is on a disk with an MBR.
    const BEHIND_MBR: u64 = 2;
    let sectors = u16::try_from(image.len().div_ceil(SECTOR).checked_sub(1)?).ok()?;
    let mut image = image.to_vec();
    image.get_mut(LIST..LIST + 8)?.copy_from_slice(&BEHIND_MBR.to_le_bytes());
    image.get_mut(LIST + 8..LIST + 10)?.copy_from_slice(&sectors.to_le_bytes());
    image.get_mut(SECTOR + PARITY..SECTOR + PARITY + 4)?.fill(0);
    Some(image)
}

/// An image made from a package's files, as its own tools would make it: the kernel, these modules, and where the menu is. What is compressed
/// differs from theirs, and unpacks to the same. Without place and parity, which [`installed`] adds.
#[must_use]
pub fn build(package: PackageFiles<'_>, modules: &[Vec<u8>], prefix: &str) -> Option<Vec<u8>> {
    let mut parts = Vec::new();
    let mut part = |kind: u32, content: &[u8]| {
        let size = (8 + content.len()).next_multiple_of(4);
        parts.extend(kind.to_le_bytes());
        parts.extend(u32::try_from(size).unwrap_or_default().to_le_bytes());
        parts.extend(content);
        parts.resize(parts.len() + size - 8 - content.len(), 0);
    };
    modules.iter().for_each(|module| part(0, module));
    part(3, &[prefix.as_bytes(), b"\0"].concat());
    let mut unpacked = package.kernel.to_vec();
    unpacked.resize(unpacked.len().next_multiple_of(4), 0);
    unpacked.extend(MODULES);
    unpacked.extend(12u32.to_le_bytes());
    unpacked.extend(u32::try_from(12 + parts.len()).ok()?.to_le_bytes());
    unpacked.extend(parts);
    let packed = pack(&unpacked)?;
    let mut image = [package.first.get(..SECTOR)?, package.decompressor, &packed].concat();
    let numbers = [(COMPRESSED, packed.len()), (UNCOMPRESSED, unpacked.len()), (PARITY, 0)];
    for (place, number) in numbers {
        let number = u32::try_from(number).ok()?.to_le_bytes();
        image.get_mut(SECTOR + place..SECTOR + place + 4)?.copy_from_slice(&number);
    }
    let sectors = u16::try_from(image.len().div_ceil(SECTOR) - 1).ok()?;
    image[LIST + 8..LIST + 10].copy_from_slice(&sectors.to_le_bytes());
    (image.len() <= MAX_IMAGE).then_some(image)
}

/// The filter of the raw LZMA stream in an image (lc 3, lp 0, pb 2).
fn filters() -> Option<Filters> {
    let mut options = LzmaOptions::new_preset(6).ok()?;
    options.dict_size(DICTIONARY).literal_context_bits(3).literal_position_bits(0).position_bits(2);
    let mut filters = Filters::new();
    filters.lzma1(&options);
    Some(filters)
}

fn pack(unpacked: &[u8]) -> Option<Vec<u8>> {
    let mut stream = Stream::new_raw_encoder(&filters()?).ok()?;
    let mut packed = Vec::with_capacity(unpacked.len() + 4096);
    let status = stream.process_vec(unpacked, &mut packed, Action::Finish).ok()?;
    (status == Status::StreamEnd).then_some(packed)
}

/// Unpacks a raw LZMA stream of a known size.
fn unpack(packed: &[u8], size: usize) -> Option<Vec<u8>> {
    let filters = filters()?;
    let mut stream = Stream::new_raw_decoder(&filters).ok()?;
    let mut unpacked = Vec::with_capacity(size);
    loop {
        let (before, read) = (unpacked.len(), stream.total_in());
        let left = packed.get(usize::try_from(read).ok()?..)?;
        match stream.process_vec(left, &mut unpacked, Action::Run).ok()? {
            Status::StreamEnd => break,
            _ if unpacked.len() == size => break,
            _ if unpacked.len() == before && stream.total_in() == read => return None,
            _ => {}
        }
    }
    (unpacked.len() == size).then_some(unpacked)
}

/// The parts behind the kernel: a mark, an offset and a size, then each with its type and size.
fn modules(bytes: &[u8]) -> Option<Vec<Part>> {
    // The kernel ends at a multiple of 4 bytes.
    let start = bytes.windows(4).take(64).position(|mark| mark == MODULES)?;
    let bytes = &bytes[start..];
    let (mut at, end) = (le32(bytes, 4) as usize, le32(bytes, 8) as usize);
    if at < 12 || end > bytes.len() {
        return None;
    }
    let mut parts = Vec::new();
    while at + 8 <= end {
        let (kind, size) = (le32(bytes, at), le32(bytes, at + 4) as usize);
        let content = bytes.get(at + 8..at.checked_add(size)?).filter(|_| size >= 8)?;
        let text = || String::from_utf8_lossy(content).trim_end_matches('\0').to_owned();
        parts.push(match kind {
            0 => Part::Module(content.to_vec()),
            2 => Part::Configuration(text()),
            3 => Part::Prefix(text()),
            _ => Part::Other(kind, content.len()),
        });
        at += size;
    }
    (at == end).then_some(parts)
}

/// What a kernel image is in memory: the bytes of its loaded segments, from the lowest address on.
#[must_use]
pub fn flat(elf: &[u8]) -> Option<Vec<u8>> {
    use object::{Object as _, ObjectSegment as _};
    let file = object::File::parse(elf).ok()?;
    let segments: Vec<(u64, &[u8])> =
        file.segments().map(|segment| Some((segment.address(), segment.data().ok()?))).collect::<Option<_>>()?;
    let base = segments.iter().filter(|(_, data)| !data.is_empty()).map(|(address, _)| *address).min()?;
    let mut flat = Vec::new();
    for (address, data) in segments.iter().filter(|(_, data)| !data.is_empty()) {
        let at = usize::try_from(address.checked_sub(base)?).ok().filter(|at| *at <= MAX_UNPACKED)?;
        let end = at.checked_add(data.len()).filter(|end| *end <= MAX_UNPACKED)?;
        if flat.len() < end {
            flat.resize(end, 0);
        }
        flat[at..end].copy_from_slice(data);
    }
    Some(flat)
}
