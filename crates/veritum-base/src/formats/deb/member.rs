//! The members of a `.deb`: complete, decompressed (gz, xz, zst or plain), with a limit in bytes.

use std::cell::Cell;
use std::io::{self, Read};
use std::rc::Rc;

use super::error::{DebError, shape};

/// The memory limit of an xz stream: dpkg's own largest preset needs 65 MiB.
const XZ_MEMORY: u64 = 256 << 20;
/// Largest zstd window, as a power of two: 128 MiB, the format's recommended bound for decoders.
const ZSTD_WINDOW: u32 = 27;

/// A member that must be complete: `ar` ends a truncated member without an error.
pub(super) fn whole<R: Read>(member: R, size: u64) -> Whole<R> {
    Whole { from: member.take(size), left: size }
}

/// See [`whole`].
pub(super) struct Whole<R> {
    from: io::Take<R>,
    /// Bytes not read yet.
    pub(super) left: u64,
}

impl<R: Read> Read for Whole<R> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        let n = self.from.read(into)?;
        self.left -= n as u64;
        if n == 0 && self.left > 0 && !into.is_empty() {
            return Err(io::Error::new(io::ErrorKind::UnexpectedEof, "the .deb file is truncated"));
        }
        Ok(n)
    }
}

/// Whether decompressed data is compared with the checksums of the xz stream.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Sums {
    Compared,
    /// The compressed bytes were verified by a stronger digest.
    PassedOver,
}

pub(super) fn unpack<'a, R: Read + 'a>(member: R, suffix: &str, sums: Sums) -> Result<Box<dyn Read + 'a>, DebError> {
    let member = io::BufReader::with_capacity(64 * 1024, member);
    Ok(match suffix {
        "" => Box::new(member),
        ".gz" => Box::new(flate2::bufread::MultiGzDecoder::new(member)),
        ".xz" => {
            let flags = match sums {
                Sums::Compared => liblzma::stream::CONCATENATED,
                Sums::PassedOver => liblzma::stream::CONCATENATED | liblzma::stream::IGNORE_CHECK,
            };
            let stream = liblzma::stream::Stream::new_stream_decoder(XZ_MEMORY, flags);
            let stream = stream.map_err(|e| DebError::Shape(format!("xz: {e}")))?;
            Box::new(liblzma::bufread::XzDecoder::new_stream(member, stream))
        }
        ".zst" => {
            let mut decoder = zstd::Decoder::with_buffer(member)?;
            decoder.window_log_max(ZSTD_WINDOW)?;
            Box::new(decoder)
        }
        other => {
            return shape(format!("unsupported compression {:?}", crate::model::readable(other.as_bytes())));
        }
    })
}

/// Decompresses a file of apt or a repository by its extension (`.xz`, `.gz`, `.zst`, `.lz4`, none). The caller limits the
/// size of the result.
///
/// # Errors
/// When the extension is unknown, or the file's beginning is malformed.
pub fn unpacked<'a, R: Read + 'a>(packed: R, ending: &str) -> io::Result<Box<dyn Read + 'a>> {
    if ending == ".lz4" {
        return Ok(Box::new(lz4_flex::frame::FrameDecoder::new(packed)));
    }
    unpack(packed, ending, Sums::Compared).map_err(|e| match e {
        DebError::Read(e) => e,
        other => io::Error::new(io::ErrorKind::InvalidData, other.to_string()),
    })
}

/// A reader with a limit that is set again for each part, so that no header can request unlimited memory.
pub(super) struct Metered<R> {
    pub(super) from: R,
    pub(super) left: Rc<Cell<u64>>,
}

impl<R: Read> Read for Metered<R> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        let most = usize::try_from(self.left.get()).unwrap_or(usize::MAX).min(into.len());
        if most == 0 && !into.is_empty() {
            return Err(io::Error::new(io::ErrorKind::FileTooLarge, "a header exceeds the size limit"));
        }
        let n = self.from.read(&mut into[..most])?;
        self.left.set(self.left.get() - n as u64);
        Ok(n)
    }
}
