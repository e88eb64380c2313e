//! How initial file systems and modules are compressed, and reading them beside the work with what is in them.

use std::io::{self, BufRead, Read};

/// The memory that decompression may use.
const MAX_MEMORY: u64 = 128 << 20;

/// How a part is compressed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Packing {
    /// Not at all.
    Plain,
    /// gzip.
    Gzip,
    /// zstd.
    Zstd,
    /// xz.
    Xz,
    /// LZMA.
    Lzma,
    /// lz4.
    Lz4,
}

impl Packing {
    /// Its usual name.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Plain => "uncompressed",
            Self::Gzip => "gzip",
            Self::Zstd => "zstd",
            Self::Xz => "xz",
            Self::Lzma => "LZMA",
            Self::Lz4 => "lz4",
        }
    }

    /// The packing of what begins so.
    #[must_use]
    pub fn of(begin: &[u8]) -> Option<Self> {
        let known: [(&[u8], Self); 8] = [
            (b"070701", Self::Plain),
            (b"070702", Self::Plain),
            (&[0x1f, 0x8b], Self::Gzip),
            (&[0x28, 0xb5, 0x2f, 0xfd], Self::Zstd),
            (&[0xfd, b'7', b'z', b'X', b'Z', 0], Self::Xz),
            (&[0x5d, 0, 0], Self::Lzma),
            (&[0x02, 0x21, 0x4c, 0x18], Self::Lz4),
            (&[0x04, 0x22, 0x4d, 0x18], Self::Lz4),
        ];
        known.into_iter().find(|(mark, _)| begin.starts_with(mark)).map(|(_, packing)| packing)
    }
}

/// Reads what is compressed; `None` if its compression is not supported.
pub(in crate::formats) fn reader<'a>(
    input: impl BufRead + Send + 'a,
    packing: Packing,
) -> Option<Box<dyn Read + Send + 'a>> {
    Some(match packing {
        Packing::Gzip => Box::new(flate2::bufread::GzDecoder::new(input)),
        Packing::Zstd => {
            let mut decoder = zstd::stream::read::Decoder::with_buffer(input).ok()?.single_frame();
            decoder.window_log_max(27).ok()?;
            Box::new(decoder)
        }
        Packing::Xz | Packing::Lzma => {
            let stream = match packing {
                Packing::Xz => liblzma::stream::Stream::new_stream_decoder(MAX_MEMORY, 0),
                _ => liblzma::stream::Stream::new_lzma_decoder(MAX_MEMORY),
            };
            Box::new(liblzma::bufread::XzDecoder::new_stream(input, stream.ok()?))
        }
        Packing::Lz4 => Box::new(lz4_flex::frame::FrameDecoder::new(input)),
        Packing::Plain => Box::new(input),
    })
}

/// The size of the pieces in which decompressed data are passed on.
const PIECE: usize = 256 * 1024;

/// Decompresses beside the work with the result.
pub(super) fn pump(reader: &mut dyn Read, sender: &std::sync::mpsc::SyncSender<io::Result<Vec<u8>>>) {
    loop {
        let mut piece = vec![0; PIECE];
        let mut filled = 0;
        let read = loop {
            match reader.read(&mut piece[filled..]) {
                Ok(0) => break Ok(true),
                Ok(count) => filled += count,
                Err(e) if e.kind() == io::ErrorKind::Interrupted => {}
                Err(e) => break Err(e),
            }
            if filled == PIECE {
                break Ok(false);
            }
        };
        piece.truncate(filled);
        // The receiver has gone when it needs no more.
        let went = sender.send(Ok(piece)).is_ok();
        match read {
            Ok(false) if went => {}
            Ok(_) => return,
            Err(e) => {
                let _ = sender.send(Err(e));
                return;
            }
        }
    }
}

/// Data that come in pieces from another thread.
pub(super) struct Pieces {
    receiver: std::sync::mpsc::Receiver<io::Result<Vec<u8>>>,
    piece: Vec<u8>,
    at: usize,
}

impl Pieces {
    pub(super) fn new(receiver: std::sync::mpsc::Receiver<io::Result<Vec<u8>>>) -> Self {
        Self { receiver, piece: Vec::new(), at: 0 }
    }
}

impl Read for Pieces {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        let count = self.fill_buf()?.read(into)?;
        self.consume(count);
        Ok(count)
    }
}

impl BufRead for Pieces {
    fn fill_buf(&mut self) -> io::Result<&[u8]> {
        while self.at >= self.piece.len() {
            match self.receiver.recv() {
                Ok(piece) => (self.piece, self.at) = (piece?, 0),
                Err(_) => return Ok(&[]),
            }
        }
        Ok(&self.piece[self.at..])
    }

    fn consume(&mut self, count: usize) {
        self.at += count;
    }
}
