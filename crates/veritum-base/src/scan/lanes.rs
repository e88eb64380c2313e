//! [`LaneReader`]: reads many files at once and digests them side by side.

use std::io;
use std::os::fd::{AsFd as _, OwnedFd};

use veritum_lanes::{BLOCK, LANES, Lanes, MAX_PADDING};

use super::read_ahead::ReadAhead;
use crate::machine::Disk;
use crate::model::{ContentHasher, Digest};

/// The bytes that are read at once for each file: all buffers of a thread fit into the processor's cache.
const BUFFER: usize = 32 * 1024;
/// A buffer with the padding after a message's last bytes.
const ROOM: usize = BUFFER + MAX_PADDING;

/// A file being read.
struct Lane<T> {
    job: T,
    file: OwnedFd,
    /// Its size when it was opened: a short read that reaches it is the last one.
    size: u64,
    /// The number of bytes read so far.
    length: u64,
    /// The part of the buffer that was not digested yet.
    from: usize,
    to: usize,
    /// Whether the padding is in the buffer.
    ended: bool,
    blake3: Option<ContentHasher>,
}

/// A file that was read: its job, with what was read.
pub(super) type Ended<T, const SIZE: usize> = (T, io::Result<Digested<SIZE>>);

/// What was read of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Digested<const SIZE: usize> {
    /// The number of bytes.
    pub(super) length: u64,
    /// The digest that the lanes computed.
    pub(super) digest: [u8; SIZE],
    pub(super) blake3: Option<Digest>,
}

/// Digests up to [`LANES`] files at once, with digests of `SIZE` bytes. Files of any size share the lanes: one that ends
/// makes room for the next.
pub(super) struct LaneReader<T, const SIZE: usize> {
    /// A lane's part of all bytes.
    share: u64,
    /// Whether BLAKE3 of the files is computed, too.
    with_blake3: bool,
    lanes: Lanes,
    buffers: Vec<u8>,
    running: [Option<Lane<T>>; LANES],
}

impl<T, const SIZE: usize> LaneReader<T, SIZE> {
    /// A reader whose lanes get about `share` bytes each, of all files together.
    pub(super) fn new(lanes: Lanes, share: u64, with_blake3: bool) -> Self {
        Self { share, with_blake3, lanes, buffers: Vec::new(), running: [const { None }; LANES] }
    }

    /// Whether no file is being read.
    pub(super) fn is_empty(&self) -> bool {
        self.running.iter().all(Option::is_none)
    }

    /// Starts to read a file of about `size` bytes; returns the job when all lanes are in use.
    pub(super) fn start(&mut self, job: T, file: OwnedFd, size: u64) -> Result<(), (T, OwnedFd)> {
        let Some(lane) = self.running.iter().position(Option::is_none) else { return Err((job, file)) };
        // Only threads that digest with MD5 need the buffers.
        self.buffers.resize(LANES * ROOM, 0);
        self.lanes.reset(lane);
        let blake3 = self.with_blake3.then(ContentHasher::blake3);
        self.running[lane] = Some(Lane { job, file, size, length: 0, from: 0, to: 0, ended: false, blake3 });
        Ok(())
    }

    /// Reads and digests until at least one file has ended; returns the ended ones. Nothing is returned without files.
    pub(super) fn advance(&mut self, disk: &dyn Disk, read_ahead: &mut ReadAhead) -> Vec<Ended<T, SIZE>> {
        let mut ended = Vec::new();
        while ended.is_empty() && !self.is_empty() {
            let buffers = self.buffers.chunks_exact_mut(ROOM);
            for (number, (place, buffer)) in self.running.iter_mut().zip(buffers).enumerate() {
                let Some(lane) = place else { continue };
                // A file longer than a lane's share would be alone at the end: what exceeds the share is digested at once.
                let mut read = lane.refill(disk, read_ahead, &self.lanes, buffer);
                while read.is_ok() && lane.length.saturating_add(self.share) < lane.size && !lane.ended {
                    let whole = lane.from..lane.to - (lane.to - lane.from) % BLOCK;
                    self.lanes.update_one(number, &buffer[whole.clone()]);
                    lane.from = whole.end;
                    read = lane.refill(disk, read_ahead, &self.lanes, buffer);
                }
                if let Err(error) = read
                    && let Some(lane) = place.take()
                {
                    ended.push((lane.job, Err(error)));
                }
            }
            self.digest();
            for (number, place) in self.running.iter_mut().enumerate() {
                if let Some(lane) = place.take_if(|lane| lane.ended && lane.from == lane.to) {
                    let blake3 = lane.blake3.and_then(|hasher| hasher.finish().0);
                    ended.push((
                        lane.job,
                        Ok(Digested { length: lane.length, digest: self.lanes.digest(number), blake3 }),
                    ));
                }
            }
        }
        ended
    }

    /// Digests as many blocks of all files as each of them has.
    fn digest(&mut self) {
        let blocks = self.running.iter().flatten().map(|lane| (lane.to - lane.from) / BLOCK).min();
        let Some(count) = blocks.filter(|count| *count > 0) else { return };
        let mut buffers = self.buffers.chunks_exact(ROOM);
        let parts = self.running.each_ref().map(|place| {
            let buffer = buffers.next().unwrap_or_default();
            place.as_ref().map(|lane| &buffer[lane.from..lane.to])
        });
        self.lanes.update(&parts, count);
        for lane in self.running.iter_mut().flatten() {
            lane.from += count * BLOCK;
        }
    }
}

impl<T> Lane<T> {
    /// Reads on if less than a block is left; after the end of the file the padding follows.
    fn refill(
        &mut self,
        disk: &dyn Disk,
        read_ahead: &mut ReadAhead,
        lanes: &Lanes,
        buffer: &mut [u8],
    ) -> io::Result<()> {
        while !self.ended && self.to - self.from < BLOCK {
            buffer.copy_within(self.from..self.to, 0);
            (self.from, self.to) = (0, self.to - self.from);
            let read = read_ahead.read(disk, self.file.as_fd(), &mut buffer[self.to..BUFFER])?;
            let is_short = read < BUFFER - self.to;
            if let Some(hasher) = &mut self.blake3 {
                hasher.update(&buffer[self.to..self.to + read]);
            }
            self.to += read;
            self.length += read as u64;
            if read == 0 || (is_short && self.length == self.size) {
                self.to += lanes.padding(self.length, self.to % BLOCK, &mut buffer[self.to..]);
                self.ended = true;
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use std::fs::File;

    use super::*;
    use crate::machine::LiveDisk;
    use crate::model::Md5;

    /// Reads files through all lanes; returns what came of each.
    fn read_all(files: Vec<(File, u64)>) -> Vec<Result<(u64, Md5), io::ErrorKind>> {
        // A small share: large files begin alone.
        let mut reader = LaneReader::new(Lanes::md5(), 100_000, false);
        let mut all: Vec<Option<Result<(u64, Md5), io::ErrorKind>>> = vec![None; files.len()];
        let mut keep = |ended: Vec<Ended<usize, 16>>| {
            for (at, result) in ended {
                all[at] = Some(result.map(|read| (read.length, Md5::from_bytes(read.digest))).map_err(|e| e.kind()));
            }
        };
        for (at, (file, size)) in files.into_iter().enumerate() {
            let mut next = (at, OwnedFd::from(file));
            while let Err(refused) = reader.start(next.0, next.1, size) {
                next = refused;
                keep(reader.advance(&LiveDisk, &mut ReadAhead::default()));
            }
        }
        while !reader.is_empty() {
            keep(reader.advance(&LiveDisk, &mut ReadAhead::default()));
        }
        all.into_iter().map(Option::unwrap).collect()
    }

    #[test]
    fn files_of_every_size_share_the_lanes() {
        let dir = tempfile::tempdir().unwrap();
        let sizes = [0, 1, 55, 56, 63, 64, 65, BUFFER - 1, BUFFER, BUFFER + 1, 3 * BUFFER + 17, 1_000_003];
        let contents: Vec<Vec<u8>> = (0u8..60)
            .map(|n| (0..sizes[usize::from(n) % sizes.len()]).map(|at| (at % 251) as u8 ^ n).collect())
            .collect();
        let file = |(at, content): (usize, &Vec<u8>)| {
            let path = dir.path().join(at.to_string());
            std::fs::write(&path, content).unwrap();
            // What was seen before is only a hint: a file may grow or shrink meanwhile.
            let size = content.len() as u64 + [0, 0, 3, 1_000_000][at % 4];
            (File::open(path).unwrap(), size)
        };
        let files: Vec<(File, u64)> = contents.iter().enumerate().map(file).collect();
        let right: Vec<_> = contents.iter().map(|content| Ok((content.len() as u64, Md5::hash(content)))).collect();
        assert_eq!(read_all(files), right);
    }

    #[test]
    fn a_file_that_cannot_be_read_does_not_disturb_the_others() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("file");
        std::fs::write(&path, vec![7; 200_000]).unwrap();
        let right = Ok((200_000, Md5::hash(&[7; 200_000])));
        let files = (0..40).map(|at| {
            let path = if at % 3 == 0 { dir.path() } else { path.as_path() };
            (File::open(path).unwrap(), 200_000)
        });
        for (at, result) in read_all(files.collect()).into_iter().enumerate() {
            assert_eq!(result, if at % 3 == 0 { Err(io::ErrorKind::IsADirectory) } else { right });
        }
    }
}
