//! Initial file systems: parts in the format of cpio ("newc"), one after another, compressed or not (Documentation/driver-api/early-userspace
//! in the kernel's source). Microcode for the processor comes first, uncompressed.

use std::io::{self, BufRead, Read};

pub use super::packing::Packing;
use super::packing::{Pieces, pump, reader};

/// The size of a member's header in bytes.
const HEADER: usize = 110;
/// Longer names are not valid.
const MAX_NAME: usize = 4096;
/// The last member of a part.
const TRAILER: &[u8] = b"TRAILER!!!";
/// More parts in one file are not read.
const MAX_PARTS: usize = 64;
/// More members are not read.
const MAX_MEMBERS: u64 = 200_000;
/// More bytes of names are not read.
const MAX_NAMES: u64 = 32 << 20;
/// More bytes are not unpacked: no kernel has the memory for that.
const MAX_BYTES: u64 = 4 << 30;

/// A member of a part.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Member {
    /// Its path, without a leading slash.
    pub name: Vec<u8>,
    /// Type and permissions.
    pub mode: u32,
    /// The size of its content in bytes.
    pub size: u64,
    /// The number of its names: the content of all is with the last of them.
    pub names: u32,
    /// Its inode: all names of a file have the same.
    pub inode: u32,
    /// Whether its part is compressed, or comes after one that is: what comes before is for the processor.
    pub is_main: bool,
}

impl Member {
    /// Whether it is a regular file.
    #[must_use]
    pub fn is_file(&self) -> bool {
        self.mode & 0o170_000 == 0o100_000
    }

    /// Whether it is a symlink: its content is the target.
    #[must_use]
    pub fn is_link(&self) -> bool {
        self.mode & 0o170_000 == 0o120_000
    }
}

/// Why an initial file system cannot be read to its end.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Fault {
    /// The medium cannot be read.
    Unreadable,
    /// It begins with nothing that is known.
    Unknown,
    /// It is not valid, or is cut off.
    Damaged(&'static str),
    /// The receiver of its members stopped.
    Stopped,
}

/// What was read.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Summary {
    /// How its parts are compressed, in order.
    pub packings: Vec<Packing>,
    /// The number of members.
    pub members: u64,
    /// The size of all parts, uncompressed.
    pub bytes: u64,
    /// The size of the names of all members.
    pub names: u64,
}

/// Receives a member and its content; what it does not read is skipped. An error ends the reading.
pub type Receive<'a> = dyn FnMut(&Member, &mut dyn Read) -> io::Result<()> + 'a;

/// Reads an initial file system to its end.
///
/// # Errors
/// Why its end is not reached.
pub fn read(mut input: impl BufRead + Send, receive: &mut Receive<'_>) -> Result<Summary, Fault> {
    let mut summary = Summary::default();
    while skip_zeros(&mut input)? {
        if summary.packings.len() >= MAX_PARTS {
            return Err(Fault::Damaged("it has too many parts"));
        }
        let begin = peek(&mut input)?;
        let packing = match Packing::of(&begin) {
            Some(packing) => packing,
            None if summary.packings.is_empty() => return Err(Fault::Unknown),
            None => return Err(Fault::Damaged("it goes on with something else")),
        };
        summary.packings.push(packing);
        if packing == Packing::Plain {
            archive(&mut input, false, receive, &mut summary)?;
        } else {
            packed(&mut input, packing, receive, &mut summary)?;
        }
    }
    if summary.packings.is_empty() { Err(Fault::Damaged("it is empty")) } else { Ok(summary) }
}

/// Reads what is compressed: to the end of the compressed data, whose checksum comes last.
fn packed(
    input: &mut (impl BufRead + Send),
    packing: Packing,
    receive: &mut Receive<'_>,
    summary: &mut Summary,
) -> Result<(), Fault> {
    let mut reader = match packing {
        Packing::Plain => return archive(input, true, receive, summary),
        packing => reader(input, packing).ok_or(Fault::Damaged("its compression is not supported"))?,
    };
    std::thread::scope(|threads| {
        let (sender, receiver) = std::sync::mpsc::sync_channel(4);
        threads.spawn(move || pump(&mut *reader, &sender));
        let mut pieces = io::BufReader::with_capacity(1, Pieces::new(receiver));
        archive(pieces.get_mut(), true, receive, summary)?;
        let rest = pieces.get_mut();
        // What follows the last member are zeros, up to a whole block.
        loop {
            match rest.fill_buf().map_err(|e| fault(&e))? {
                [] => return Ok(()),
                bytes if bytes.iter().all(|byte| *byte == 0) => {}
                _ => return Err(Fault::Damaged("something follows its last member")),
            }
            let count = rest.fill_buf().map_or(0, <[u8]>::len);
            rest.consume(count);
        }
    })
}

/// A member's content, with the reason if it cannot be read.
struct Content<'a, R> {
    input: io::Take<&'a mut R>,
    failed: Option<Fault>,
}

impl<R: Read> Read for Content<'_, R> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        let read = self.input.read(into);
        match &read {
            Err(e) if e.kind() != io::ErrorKind::Interrupted => self.failed = Some(fault(e)),
            Ok(0) if !into.is_empty() && self.input.limit() > 0 => self.failed = Some(Fault::Damaged("it is cut off")),
            _ => {}
        }
        read
    }
}

/// Reads one part, to its trailer.
fn archive(
    input: &mut impl BufRead,
    is_main: bool,
    receive: &mut Receive<'_>,
    summary: &mut Summary,
) -> Result<(), Fault> {
    loop {
        let mut header = [0; HEADER];
        exactly(input, &mut header)?;
        let is_header = header.starts_with(b"070701") || header.starts_with(b"070702");
        let number = |at: usize| hex(&header[6 + 8 * at..14 + 8 * at]);
        let fields = (number(0), number(1), number(4), number(6), number(11));
        let (true, (Some(inode), Some(mode), Some(names), Some(size), Some(name))) = (is_header, fields) else {
            return Err(Fault::Damaged("a member's header is not valid"));
        };
        let length = usize::try_from(name).ok().filter(|length| (1..=MAX_NAME).contains(length));
        let mut name = vec![0; length.ok_or(Fault::Damaged("a member's name is too long"))?];
        exactly(input, &mut name)?;
        skip(input, padding(HEADER + name.len()))?;
        if name.pop() != Some(0) {
            return Err(Fault::Damaged("a member's name does not end"));
        }
        summary.bytes += (HEADER + name.len()) as u64 + u64::from(size);
        if name == TRAILER {
            return Ok(());
        }
        while name.starts_with(b"./") || name.starts_with(b"/") {
            name.drain(..if name[0] == b'/' { 1 } else { 2 });
        }
        summary.members += 1;
        summary.names += name.len() as u64;
        if summary.members > MAX_MEMBERS || summary.names > MAX_NAMES || summary.bytes > MAX_BYTES {
            return Err(Fault::Damaged("it is larger than initial file systems are"));
        }
        let member = Member { name, mode, size: u64::from(size), names, inode, is_main };
        let mut content = Content { input: Read::take(&mut *input, member.size), failed: None };
        if receive(&member, &mut content).is_err() {
            // An error of its own ends the reading; what it was given is at fault only where that could not be read.
            return Err(content.failed.unwrap_or(Fault::Stopped));
        }
        let left = content.input.limit();
        skip(input, left)?;
        skip(input, padding(usize::try_from(size).unwrap_or_default()))?;
    }
}

fn padding(size: usize) -> u64 {
    (size.next_multiple_of(4) - size) as u64
}

fn hex(digits: &[u8]) -> Option<u32> {
    let text = std::str::from_utf8(digits).ok().filter(|text| text.bytes().all(|byte| byte.is_ascii_hexdigit()))?;
    u32::from_str_radix(text, 16).ok()
}

fn fault(error: &io::Error) -> Fault {
    match error.kind() {
        io::ErrorKind::UnexpectedEof => Fault::Damaged("it is cut off"),
        // The kernel's own errors have numbers; those of decompression have none.
        _ if error.raw_os_error().is_some() => Fault::Unreadable,
        _ => Fault::Damaged("its compressed data are damaged"),
    }
}

fn exactly(input: &mut impl Read, into: &mut [u8]) -> Result<(), Fault> {
    input.read_exact(into).map_err(|e| fault(&e))
}

fn skip(input: &mut impl Read, count: u64) -> Result<(), Fault> {
    let skipped = io::copy(&mut Read::take(input, count), &mut io::sink()).map_err(|e| fault(&e))?;
    if skipped == count { Ok(()) } else { Err(Fault::Damaged("it is cut off")) }
}

/// Skips zeros between parts; `false` at the end.
fn skip_zeros(input: &mut impl BufRead) -> Result<bool, Fault> {
    loop {
        let bytes = input.fill_buf().map_err(|e| fault(&e))?;
        if bytes.is_empty() {
            return Ok(false);
        }
        let zeros = bytes.iter().take_while(|byte| **byte == 0).count();
        let ends = zeros == bytes.len();
        input.consume(zeros);
        if !ends {
            return Ok(true);
        }
    }
}

/// The next bytes, without reading them.
fn peek(input: &mut impl BufRead) -> Result<Vec<u8>, Fault> {
    let bytes = input.fill_buf().map_err(|e| fault(&e))?;
    Ok(bytes[..bytes.len().min(8)].to_vec())
}

#[cfg(test)]
mod tests {
    use std::io::Write as _;

    use super::*;

    fn member(archive: &mut Vec<u8>, name: &str, mode: u32, content: &[u8]) {
        let fields = [1, mode, 0, 0, 1, 0, content.len() as u32, 0, 0, 0, 0, name.len() as u32 + 1, 0]
            .map(|n| format!("{n:08x}"));
        archive.extend(format!("070701{}{name}\0", fields.concat()).bytes());
        archive.resize(archive.len().next_multiple_of(4), 0);
        archive.extend(content);
        archive.resize(archive.len().next_multiple_of(4), 0);
    }

    fn sample() -> Vec<u8> {
        let mut archive = Vec::new();
        member(&mut archive, "usr", 0o40755, b"");
        member(&mut archive, "./usr/oar", 0o100755, &[7; 3000]);
        member(&mut archive, "bin", 0o120777, b"usr/bin");
        member(&mut archive, "TRAILER!!!", 0, b"");
        archive.resize(archive.len().next_multiple_of(512), 0);
        archive
    }

    fn told(bytes: &[u8]) -> Result<(Vec<String>, Summary), Fault> {
        let mut names = Vec::new();
        let summary = read(bytes, &mut |member, content| {
            let mut all = Vec::new();
            content.read_to_end(&mut all)?;
            names.push(format!("{} {} {}", String::from_utf8_lossy(&member.name), all.len(), member.is_main));
            Ok(())
        })?;
        Ok((names, summary))
    }

    fn gzip(bytes: &[u8]) -> Vec<u8> {
        let mut encoder = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        encoder.write_all(bytes).unwrap();
        encoder.finish().unwrap()
    }

    #[test]
    fn microcode_first_then_a_compressed_archive_of_every_kind() {
        let mut early = Vec::new();
        member(&mut early, "kernel/x86/microcode/x.bin", 0o100644, b"code");
        member(&mut early, "TRAILER!!!", 0, b"");
        early.resize(early.len().next_multiple_of(512), 0);
        let mut lz4 = lz4_flex::frame::FrameEncoder::new(Vec::new());
        lz4.write_all(&sample()).unwrap();
        let mut xz = liblzma::write::XzEncoder::new(Vec::new(), 1);
        xz.write_all(&sample()).unwrap();
        let all = [
            (Packing::Gzip, gzip(&sample())),
            (Packing::Zstd, zstd::encode_all(&sample()[..], 1).unwrap()),
            (Packing::Lz4, lz4.finish().unwrap()),
            (Packing::Xz, xz.finish().unwrap()),
            (Packing::Plain, sample()),
        ];
        for (packing, packed) in all {
            let (names, summary) = told(&[&early[..], &packed].concat()).unwrap();
            let main = packing != Packing::Plain;
            let expected = ["usr 0", "usr/oar 3000", "bin 7"].map(|name| format!("{name} {main}"));
            assert_eq!(names[1..], expected, "{packing:?}");
            assert_eq!(names[0], "kernel/x86/microcode/x.bin 4 false");
            assert_eq!((summary.packings, summary.members), (vec![Packing::Plain, packing], 4));
            let cut = told(&packed[..packed.len() / 2]);
            assert!(matches!(cut, Err(Fault::Damaged(_))), "{packing:?}: {cut:?}");
        }
    }

    #[test]
    fn what_has_no_end_is_not_read_to_it() {
        let mut many = Vec::new();
        for number in 0..=MAX_MEMBERS {
            member(&mut many, &format!("usr/{number}"), 0o100644, b"");
        }
        let larger = Fault::Damaged("it is larger than initial file systems are");
        assert_eq!(told(&zstd::encode_all(&many[..], 1).unwrap()).err(), Some(larger.clone()));
        // A member that says that it has four GiB, behind another one.
        let mut large = Vec::new();
        member(&mut large, "usr/oar", 0o100644, b"oar");
        let at = large.len();
        member(&mut large, "usr/fog", 0o100644, b"");
        large[at + 54..at + 62].copy_from_slice(b"ffffffff");
        assert_eq!(read(&large[..], &mut |_, _| Ok(())).err(), Some(larger));
    }

    /// The older format of lz4, in which kernels expect it: blocks with their sizes, and no end.
    #[test]
    fn lz4_in_its_older_format() {
        let block = lz4_flex::block::compress(&sample());
        let packed = [&[0x02, 0x21, 0x4c, 0x18][..], &(block.len() as u32).to_le_bytes(), &block].concat();
        let (names, summary) = told(&packed).unwrap();
        assert_eq!((names.len(), summary.packings), (3, vec![Packing::Lz4]));
    }

    /// Noise does not become smaller: damage to it shows only in the content of a member.
    #[test]
    fn damage_that_the_receiver_meets_is_damage_and_its_own_error_ends_the_reading() {
        let mut archive = Vec::new();
        let noise: Vec<u8> = (0..600_000u64).map(|n| (n.wrapping_mul(0x9e37_79b9_7f4a_7c15) >> 40) as u8).collect();
        member(&mut archive, "usr/oar", 0o100755, &noise);
        member(&mut archive, "TRAILER!!!", 0, b"");
        let mut packed = zstd::encode_all(&archive[..], 1).unwrap();
        let half = packed.len() / 2;
        packed[half..half + 4096].fill(0);
        packed.truncate(packed.len() - 100);
        assert!(matches!(told(&packed), Err(Fault::Damaged(_))), "{:?}", told(&packed).err());
        let stopped = read(&archive[..], &mut |_, _| Err(io::Error::other("enough")));
        assert_eq!(stopped.err(), Some(Fault::Stopped));
    }

    #[test]
    fn a_flipped_bit_shows_and_what_is_no_archive_is_unknown() {
        let mut packed = zstd::encode_all(&sample()[..], 1).unwrap();
        packed = {
            let mut encoder = zstd::stream::write::Encoder::new(Vec::new(), 1).unwrap();
            encoder.include_checksum(true).unwrap();
            encoder.write_all(&sample()).unwrap();
            let _ = packed;
            encoder.finish().unwrap()
        };
        let at = packed.len() - 2;
        packed[at] ^= 4;
        assert!(matches!(told(&packed), Err(Fault::Damaged(_))));
        assert_eq!(told(b"boat and bridge"), Err(Fault::Unknown));
        assert!(matches!(told(&[0; 512]), Err(Fault::Damaged(_))) && matches!(told(b""), Err(Fault::Damaged(_))));
        let stopped = read(&sample()[..], &mut |_, _| Err(io::Error::other("enough")));
        assert_eq!(stopped, Err(Fault::Stopped));
    }

    proptest::proptest! {
        #[test]
        fn a_damaged_archive_is_read_without_harm(seed: u64, packed: bool) {
            let bytes = if packed { gzip(&sample()) } else { sample() };
            let _ = told(&crate::testkit::mutated(&bytes, seed));
        }
    }
}
