//! Copying one file: from its source to a part in the destination, digested on the way, and read back.

use std::io;
use std::ops::Range;
use std::os::fd::AsFd as _;
use std::sync::atomic::{AtomicU64, Ordering};

use super::destination::{Destination, DestinationError, PART_FOLDERS, Part, StoredStatus};
use super::source::{Content, Item, Source};
use crate::model::{ContentHasher, Digest, Instant, SystemPath, error_words};

/// So much is read at once, in bytes.
const PIECE: usize = 512 << 10;
/// Zeros, for what was never written.
static ZEROS: [u8; 64 << 10] = [0; 64 << 10];
/// No file system here has larger files, in bytes.
const MAX_SIZE: u64 = 16 << 40;
/// FAT has no files of this size.
const LARGE: u64 = 4 << 30;
/// Smaller files are not asked for what was never written.
const SMALL: u64 = 64 << 10;

/// A file that was copied to a part.
#[derive(Debug)]
pub(super) struct Copied {
    /// The part.
    pub(super) part: Part,
    /// The size of its content in bytes.
    pub(super) size: u64,
    /// The digest of its content.
    pub(super) digest: Digest,
    /// When the content was changed, as of the beginning of copying: if it was changed since, the next run copies it again.
    pub(super) mtime: Instant,
    /// Whether it was changed while it was copied.
    pub(super) changed_meanwhile: bool,
    /// Attributes that users set.
    pub(super) attributes: Vec<(Vec<u8>, Vec<u8>)>,
    /// The parts that cannot be read.
    pub(super) gaps: Vec<Range<u64>>,
}

/// Why a file was not copied.
#[derive(Debug)]
pub(super) enum NotDone {
    /// The source cannot be read: the rest of it may be.
    Source(io::Error),
    /// The destination cannot hold this file.
    Unfit(String),
    /// The destination fails.
    Destination(DestinationError),
    /// The person at the terminal wants to stop.
    Stopped,
}

/// What copying needs.
pub(super) struct Copying<'a> {
    pub(super) source: &'a dyn Source,
    pub(super) destination: &'a Destination,
    /// Called with the bytes read; `false` to stop.
    pub(super) go_on: &'a (dyn Fn(u64) -> bool + Sync),
    /// The number of parts so far.
    pub(super) parts: AtomicU64,
}

impl Copying<'_> {
    /// Copies files to parts. `with_gaps` goes on past what cannot be read, with zeros in its place.
    pub(super) fn copy_all(&self, items: &[&Item], with_gaps: bool) -> Vec<Result<Copied, NotDone>> {
        let opened = self.source.open_all(items);
        items.iter().zip(opened).map(|(item, content)| self.copy(content, item, with_gaps)).collect()
    }

    fn copy(
        &self,
        content: io::Result<Box<dyn Content + '_>>,
        item: &Item,
        with_gaps: bool,
    ) -> Result<Copied, NotDone> {
        if !(self.go_on)(0) {
            return Err(NotDone::Stopped);
        }
        let content = content.map_err(NotDone::Source)?;
        let name = self.parts.fetch_add(1, Ordering::Relaxed).to_string().into_bytes();
        let part = Part { folder: rayon::current_thread_index().unwrap_or_default() % PART_FOLDERS, name };
        let done = self.fill(&*content, &part, item, with_gaps);
        if done.is_err() {
            self.destination.discard_part(&part);
        }
        done
    }

    fn failed(&self, source: io::Error) -> NotDone {
        use rustix::io::Errno;
        match Errno::from_io_error(&source) {
            Some(Errno::FBIG) => NotDone::Unfit("the destination's file system has no files of that size".into()),
            _ => NotDone::Destination(self.destination.failed(&SystemPath::root(), source)),
        }
    }

    fn fill(&self, content: &dyn Content, part: &Part, item: &Item, with_gaps: bool) -> Result<Copied, NotDone> {
        let (size, before) = content.status().map_err(NotDone::Source)?;
        if size > MAX_SIZE {
            return Err(NotDone::Source(io::Error::new(io::ErrorKind::InvalidData, "its size is not valid")));
        }
        let parts = self.destination.parts(part.folder);
        let disk = parts.disk();
        let file = disk.create(parts.fd(), &part.name).map_err(|e| self.failed(e))?;
        if size >= LARGE {
            disk.truncate(file.as_fd(), size).map_err(|e| self.failed(e))?;
        }
        let mut hasher = ContentHasher::blake3();
        let mut gaps: Vec<Range<u64>> = Vec::new();
        let (mut at, mut written) = (0, 0);
        let mut buffer = vec![0; PIECE.min(usize::try_from(size).unwrap_or(PIECE)).max(1)];
        while at < size {
            let next = if size < SMALL { Some(0..size) } else { content.written_after(at).map_err(NotDone::Source)? };
            let Range { start, end } = next.map_or(size..size, |next| next.start.clamp(at, size)..next.end.min(size));
            self.digest_zeros(&mut hasher, start - at)?;
            at = start;
            while at < end {
                let count = usize::try_from((end - at).min(buffer.len() as u64)).unwrap_or(buffer.len());
                let piece = &mut buffer[..count];
                let read = match content.read_at(at, piece) {
                    Ok(read) => read,
                    Err(e) if !with_gaps => return Err(NotDone::Source(e)),
                    Err(_) => read_around(content, at, piece, &mut gaps),
                };
                if read == 0 {
                    break;
                }
                if !(self.go_on)(read as u64) {
                    return Err(NotDone::Stopped);
                }
                hasher.update(&piece[..read]);
                disk.write_at(file.as_fd(), at, &piece[..read]).map_err(|e| self.failed(e))?;
                at += read as u64;
                written = at;
            }
            // It became shorter meanwhile.
            if at < end {
                break;
            }
        }
        if written < at {
            disk.truncate(file.as_fd(), at).map_err(|e| self.failed(e))?;
        }
        let (size_after, mtime) = content.status().unwrap_or((at, before));
        let (digest, _) = hasher.finish();
        let digest = digest.ok_or(NotDone::Stopped)?;
        let attributes = content.attributes().unwrap_or_default();
        if self.destination.can.attributes {
            for (name, value) in &attributes {
                use std::os::unix::ffi::OsStrExt as _;
                let _ = disk.set_xattr(file.as_fd(), std::ffi::OsStr::from_bytes(name), value);
            }
        }
        let status = StoredStatus { uid: item.uid, gid: item.gid, mode: Some(item.mode), mtime: before };
        self.destination.set_status(parts, &part.name, Some(file.as_fd()), &status);
        let changed_meanwhile = (size_after, mtime) != (at, before);
        Ok(Copied { part: part.clone(), size: at, digest, mtime: before, changed_meanwhile, attributes, gaps })
    }

    fn digest_zeros(&self, hasher: &mut ContentHasher, mut count: u64) -> Result<(), NotDone> {
        while count > 0 {
            let step = usize::try_from(count.min(ZEROS.len() as u64)).unwrap_or(ZEROS.len());
            hasher.update(&ZEROS[..step]);
            if !(self.go_on)(0) {
                return Err(NotDone::Stopped);
            }
            count -= step as u64;
        }
        Ok(())
    }

    /// Reads a part from the medium, and compares it with what was written. `Err` says what is wrong.
    pub(super) fn read_back(&self, copied: &Copied) -> Result<(), String> {
        let parts = self.destination.parts(copied.part.folder);
        let disk = parts.disk();
        let read = || -> io::Result<Option<Digest>> {
            let file = disk.open_file(parts.fd(), &copied.part.name)?;
            // What the medium does not have cannot be read from it.
            disk.forget(file.as_fd())?;
            let found = digest_of(copied.size, &|at, into| disk.read_at(file.as_fd(), at, into))?;
            // Nor is it needed in memory any more; of small files it is little.
            if copied.size >= SMALL {
                disk.forget(file.as_fd())?;
            }
            Ok(found)
        };
        match read() {
            Ok(Some(found)) if found == copied.digest => Ok(()),
            Ok(_) => Err("what was read back differs from what was written".into()),
            Err(e) => Err(format!("what was written cannot be read back: {}", error_words(&e))),
        }
    }
}

/// The digest of a whole file of about this size.
pub(super) fn digest_of(
    size: u64,
    read_at: &dyn Fn(u64, &mut [u8]) -> io::Result<usize>,
) -> io::Result<Option<Digest>> {
    let mut hasher = ContentHasher::blake3();
    let mut buffer = vec![0; PIECE.min(usize::try_from(size).unwrap_or(PIECE)) + 1];
    let mut at = 0;
    loop {
        let read = read_at(at, &mut buffer)?;
        if read == 0 {
            return Ok(hasher.finish().0);
        }
        hasher.update(&buffer[..read]);
        at += read as u64;
    }
}

/// Reads a piece in which something cannot be read, in small steps, with zeros for what cannot; returns the bytes filled in.
fn read_around(content: &dyn Content, at: u64, piece: &mut [u8], gaps: &mut Vec<Range<u64>>) -> usize {
    let (grain, mut done) = (content.grain().max(512), 0);
    while done < piece.len() {
        let place = at + done as u64;
        let step = usize::try_from(grain - place % grain).unwrap_or(1).min(piece.len() - done);
        let part = &mut piece[done..done + step];
        match content.read_at(place, part) {
            Ok(0) => return done,
            Ok(read) => done += read,
            Err(_) => {
                part.fill(0);
                let end = place + step as u64;
                match gaps.last_mut().filter(|last| last.end == place) {
                    Some(last) => last.end = end,
                    None => gaps.push(place..end),
                }
                done += step;
            }
        }
    }
    done
}
