//! SHA-256 of many files.

use std::cmp::Reverse;
use std::io;
use std::os::fd::{AsFd as _, OwnedFd};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};

use aws_lc_rs::digest::{Context, SHA256};
use veritum_lanes::{LANES, Lanes, sha256_gains};

use super::Stopped;
use super::lanes::LaneReader;
use super::read_ahead::ReadAhead;
use crate::event::{Event, Flow, Observer};
use crate::machine::Disk;
use crate::model::ContentHasher;
use crate::trust::FileSums;

/// The size of a read.
const PIECE: usize = 128 * 1024;

/// At most so many files for each thread are digested one after the other: too few lanes would be in use.
const FEW: usize = 4;

/// Files to digest.
pub struct Files<'a> {
    /// What reads them.
    pub disk: &'a dyn Disk,
    /// The size of each file, as it was seen; only a hint.
    pub sizes: &'a [u64],
    /// Opens the file at a position.
    pub open: &'a (dyn Fn(usize) -> io::Result<OwnedFd> + Sync),
    /// Whether BLAKE3 is computed, too: for files that are read again.
    pub with_blake3: bool,
}

/// Digests files, side by side where the processor has no instructions for SHA-256. Results are in the order of the files;
/// every file is reported to the observer.
///
/// # Errors
/// When the observer stopped the run.
pub fn digest_files(
    files: &Files<'_>,
    pool: &rayon::ThreadPool,
    observer: &dyn Observer,
) -> Result<Vec<io::Result<FileSums>>, Stopped> {
    let Files { sizes, with_blake3, .. } = *files;
    // The largest first: at the end no thread waits for another.
    let mut order: Vec<usize> = (0..sizes.len()).collect();
    order.sort_by_key(|at| Reverse(sizes[*at]));
    let share = sizes.iter().sum::<u64>() / (pool.current_num_threads() * LANES) as u64;
    let in_lanes = sha256_gains() && sizes.len() > FEW * pool.current_num_threads();
    let (stop, next) = (AtomicBool::new(false), AtomicUsize::new(0));
    let seen: Vec<Vec<(usize, io::Result<FileSums>)>> = pool.broadcast(|_| {
        let reader = LaneReader::new(Lanes::sha256(), share, with_blake3);
        let mut worker = Worker {
            files,
            in_lanes,
            observer,
            stop: &stop,
            reader,
            read_ahead: ReadAhead::default(),
            sums: Vec::new(),
        };
        while let Some(at) = order.get(next.fetch_add(1, Ordering::Relaxed))
            && !stop.load(Ordering::Relaxed)
        {
            worker.read(*at);
        }
        worker.finish()
    });
    if stop.load(Ordering::Relaxed) {
        return Err(Stopped);
    }
    let mut all: Vec<(usize, io::Result<FileSums>)> = seen.into_iter().flatten().collect();
    all.sort_by_key(|(at, _)| *at);
    Ok(all.into_iter().map(|(_, sums)| sums).collect())
}

/// One thread's part of the work.
struct Worker<'a> {
    files: &'a Files<'a>,
    in_lanes: bool,
    observer: &'a dyn Observer,
    stop: &'a AtomicBool,
    reader: LaneReader<usize, 32>,
    read_ahead: ReadAhead,
    sums: Vec<(usize, io::Result<FileSums>)>,
}

impl Worker<'_> {
    fn read(&mut self, at: usize) {
        let mut file = match (self.files.open)(at) {
            Ok(file) if self.in_lanes => file,
            opened => return self.push(at, opened.and_then(|file| alone(self.files, &file))),
        };
        self.read_ahead.request(self.files.disk, file.as_fd());
        while let Err((_, refused)) = self.reader.start(at, file, self.files.sizes[at]) {
            file = refused;
            self.advance();
        }
    }

    fn advance(&mut self) {
        for (at, result) in self.reader.advance(self.files.disk, &mut self.read_ahead) {
            let sums = result.map(|r| FileSums { bytes: r.length, sha256: r.digest, blake3: r.blake3 });
            self.push(at, sums);
        }
    }

    fn push(&mut self, at: usize, sums: io::Result<FileSums>) {
        let bytes = sums.as_ref().map_or(0, |sums| sums.bytes);
        if self.observer.on_event(Event::Advance { items: 1, bytes }) == Flow::Stop {
            self.stop.store(true, Ordering::Relaxed);
        }
        self.sums.push((at, sums));
    }

    /// Ends the reading of files, and returns the results by file.
    fn finish(mut self) -> Vec<(usize, io::Result<FileSums>)> {
        while !self.reader.is_empty() && !self.stop.load(Ordering::Relaxed) {
            self.advance();
        }
        self.sums
    }
}

/// Digests one file by itself.
fn alone(files: &Files<'_>, file: &OwnedFd) -> io::Result<FileSums> {
    let mut hasher = Context::new(&SHA256);
    let mut blake3 = files.with_blake3.then(ContentHasher::blake3);
    let (mut piece, mut bytes) = (vec![0; PIECE], 0);
    loop {
        let n = files.disk.read(file.as_fd(), &mut piece)?;
        if n == 0 {
            break;
        }
        hasher.update(&piece[..n]);
        if let Some(blake3) = &mut blake3 {
            blake3.update(&piece[..n]);
        }
        bytes += n as u64;
    }
    let mut sha256 = [0; 32];
    sha256.copy_from_slice(hasher.finish().as_ref());
    Ok(FileSums { bytes, sha256, blake3: blake3.and_then(|hasher| hasher.finish().0) })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::event::NoObserver;
    use crate::machine::LiveDisk;
    use crate::model::Digest;
    use crate::trust::sha256;

    #[test]
    fn sums_are_in_the_order_of_the_files_and_a_missing_file_is_an_error() {
        let folder = tempfile::tempdir().unwrap();
        let contents: Vec<Vec<u8>> = (0..50u8).map(|n| vec![n; usize::from(n) * 5000]).collect();
        for (n, content) in contents.iter().enumerate() {
            std::fs::write(folder.path().join(n.to_string()), content).unwrap();
        }
        let open = |at: usize| std::fs::File::open(folder.path().join(at.to_string())).map(OwnedFd::from);
        let pool = rayon::ThreadPoolBuilder::new().num_threads(2).build().unwrap();
        for (count, with_blake3) in [(51, true), (51, false), (3, true)] {
            // A size that was seen before is only a hint.
            let files = Files { disk: &LiveDisk, sizes: &vec![100_000; count], open: &open, with_blake3 };
            let sums = digest_files(&files, &pool, &NoObserver).unwrap();
            assert_eq!(sums.len(), count);
            for (sums, content) in sums.iter().zip(&contents) {
                let blake3 = with_blake3.then(|| Digest::hash(content));
                let right = FileSums { bytes: content.len() as u64, sha256: sha256(content), blake3 };
                assert_eq!(*sums.as_ref().unwrap(), right);
            }
            if count > 50 {
                assert_eq!(sums[50].as_ref().unwrap_err().kind(), io::ErrorKind::NotFound);
            }
        }
    }
}
