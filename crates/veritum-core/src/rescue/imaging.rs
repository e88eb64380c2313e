//! An image of a disk that may be failing: everything that can be read at once first, then what lies around the places that cannot, in
//! smaller and smaller steps. What is missing is in a [map](GapMap) beside the image, by which it is resumed.

use std::collections::VecDeque;
use std::fs::{File, OpenOptions};
use std::io::{self, Write as _};
use std::os::unix::fs::{FileExt as _, OpenOptionsExt as _};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use super::{DestinationError, RescueError};
use crate::devices::{GapMap, ReadAt};
use crate::event::{Event, Flow, Observer, Phase};

/// So much is read at once, in the order in which what is left is read again, in bytes.
const STEPS: [u64; 3] = [1 << 20, 64 << 10, 4 << 10];
/// After an unreadable place, so much is passed over at first, and more after each further one, in bytes.
const PASS_OVER: u64 = 1 << 20;
/// At most so much is passed over, in bytes.
const MAX_PASS_OVER: u64 = 256 << 20;
/// What contains only zeros is not written, in bytes.
const BLOCK: usize = 4096;
/// The map is written this often.
const SAVED_EVERY: Duration = Duration::from_secs(5);

/// What became of an image.
#[derive(Debug, Clone, Default)]
pub struct Imaged {
    /// Its map.
    pub map: GapMap,
    /// The bytes that were read in this run.
    pub read: u64,
    /// Whether an earlier run had begun it.
    pub resumed: bool,
    /// Whether it was interrupted.
    pub stopped: bool,
    /// Why it cannot be written further.
    pub failed: Option<String>,
}

/// Ranges of bytes, in order.
type Ranges = Vec<(u64, u64)>;

struct Imaging<'a> {
    disk: &'a dyn ReadAt,
    image: File,
    map_path: PathBuf,
    map: GapMap,
    observer: &'a dyn Observer,
    saved: Instant,
    read: u64,
    buffer: Vec<u8>,
}

enum End {
    Stopped,
    Failed(io::Error),
}

/// Copies a disk into an image, or goes on with one.
///
/// # Errors
/// When the image cannot be created, or is that of something else.
pub fn image_disk(
    disk: &dyn ReadAt,
    source: &str,
    image: &Path,
    observer: &dyn Observer,
) -> Result<Imaged, RescueError> {
    let fail = |source: io::Error| RescueError::Destination(DestinationError { place: image.to_owned(), source });
    let (file, map, resumed) = open(disk, source, image).map_err(fail)?;
    let left: u64 = map.pending.iter().chain(&map.unreadable).map(|(from, to)| to - from).sum();
    observer.on_event(Event::Begin { phase: Phase::Surface, items: 0, bytes: left.max(1) });
    let mut imaging = Imaging {
        disk,
        image: file,
        map_path: GapMap::path_for(image),
        map,
        observer,
        saved: Instant::now(),
        read: 0,
        buffer: Vec::new(),
    };
    imaging.save().map_err(fail)?;
    let end = imaging.run();
    observer.on_event(Event::End);
    let saved = imaging.save();
    let failed = match (&end, saved) {
        (Err(End::Failed(e)), _) => Some(crate::model::error_words(e)),
        (_, Err(e)) => Some(crate::model::error_words(&e)),
        _ => None,
    };
    let stopped = matches!(end, Err(End::Stopped));
    Ok(Imaged { map: imaging.map, read: imaging.read, resumed, stopped, failed })
}

/// Opens the image with its map: a new one, or that of an earlier run.
fn open(disk: &dyn ReadAt, source: &str, image: &Path) -> io::Result<(File, GapMap, bool)> {
    let size = disk.size();
    let how = || {
        let mut how = OpenOptions::new();
        how.read(true).write(true).mode(0o600).custom_flags(rustix::fs::OFlags::NOFOLLOW.bits().cast_signed());
        how
    };
    match how().create_new(true).open(image) {
        Ok(file) => {
            file.set_len(size)?;
            let map = GapMap {
                format: GapMap::FORMAT.into(),
                source: source.to_owned(),
                size,
                pending: vec![(0, size)],
                unreadable: Vec::new(),
            };
            Ok((file, map, false))
        }
        Err(e) if e.kind() == io::ErrorKind::AlreadyExists => {
            let other = |why: &str| io::Error::new(io::ErrorKind::AlreadyExists, why.to_owned());
            let map =
                GapMap::read(image)?.ok_or_else(|| other("a file of that name exists, and has no map of gaps"))?;
            let file = how().open(image)?;
            if map.size != size || file.metadata()?.len() != size || !file.metadata()?.is_file() {
                return Err(other("it is the image of a disk of another size"));
            }
            Ok((file, map, true))
        }
        Err(e) => Err(e),
    }
}

impl Imaging<'_> {
    fn run(&mut self) -> Result<(), End> {
        // What is passed over is read before any unreadable place is tried again.
        self.pass(STEPS[0], true)?;
        self.pass(STEPS[0], false)?;
        for step in &STEPS[1..] {
            let again = std::mem::take(&mut self.map.unreadable);
            self.map.pending = again;
            self.pass(*step, false)?;
        }
        Ok(())
    }

    /// Reads all that was not tried yet in steps of this size.
    fn pass(&mut self, step: u64, passes_over: bool) -> Result<(), End> {
        let mut left = VecDeque::from(std::mem::take(&mut self.map.pending));
        let mut passed_over: Ranges = Vec::new();
        let mut jump = PASS_OVER;
        let mut ended = Ok(());
        while ended.is_ok() {
            let Some((at, to)) = left.pop_front() else { break };
            // Steps begin at multiples of their size: what is unreadable is narrowed down to whole blocks.
            let end = (at / step * step + step).min(to);
            let next = match self.step(at, end) {
                Ok(true) => {
                    jump = PASS_OVER;
                    end
                }
                Ok(false) if passes_over && end < to => {
                    let next = end.saturating_add(jump).min(to);
                    passed_over.push((end, next));
                    jump = (jump * 2).min(MAX_PASS_OVER);
                    next
                }
                Ok(false) => end,
                Err(e) => {
                    ended = Err(e);
                    at
                }
            };
            if next < to {
                left.push_front((next, to));
            }
            if self.saved.elapsed() > SAVED_EVERY {
                self.map.pending = joined(passed_over.iter().chain(&left).copied().collect());
                ended = ended.and(self.save().map_err(End::Failed));
            }
        }
        self.map.pending = joined(passed_over.into_iter().chain(left).collect());
        ended
    }

    /// Copies one piece; `false` if it cannot be read.
    fn step(&mut self, from: u64, to: u64) -> Result<bool, End> {
        if self.observer.on_event(Event::Advance { items: 0, bytes: to - from }) == Flow::Stop {
            return Err(End::Stopped);
        }
        self.buffer.resize(usize::try_from(to - from).unwrap_or_default(), 0);
        if self.disk.read_at(from, &mut self.buffer).is_err() {
            self.map.unreadable = joined(self.map.unreadable.iter().copied().chain([(from, to)]).collect());
            return Ok(false);
        }
        self.disk.forget(from, to - from);
        self.read += to - from;
        for (index, block) in self.buffer.chunks(BLOCK).enumerate() {
            if block.iter().any(|byte| *byte != 0) {
                self.image.write_all_at(block, from + (index * BLOCK) as u64).map_err(End::Failed)?;
            }
        }
        Ok(true)
    }

    /// Writes the image and then its map to the medium: the map never promises what is not there.
    fn save(&mut self) -> io::Result<()> {
        self.image.sync_data()?;
        let mut temporary = self.map_path.clone().into_os_string();
        temporary.push(".new");
        let mut file = File::create(&temporary)?;
        file.write_all(&serde_json::to_vec(&self.map)?)?;
        file.sync_all()?;
        std::fs::rename(&temporary, &self.map_path)?;
        self.saved = Instant::now();
        Ok(())
    }
}

/// Ranges in order, adjacent ones as one.
fn joined(mut ranges: Ranges) -> Ranges {
    ranges.sort_unstable();
    ranges.dedup_by(|next, last| {
        let adjoins = next.0 <= last.1;
        if adjoins {
            last.1 = last.1.max(next.1);
        }
        adjoins
    });
    ranges
}

#[cfg(test)]
mod tests {
    use std::sync::Mutex;

    use super::*;
    use crate::event::NoObserver;

    const SIZE: usize = 5 << 20;

    /// A disk with unreadable places, which counts what is read of it.
    struct Failing {
        content: Vec<u8>,
        bad: Vec<(u64, u64)>,
        tries: Mutex<Vec<(u64, u64)>>,
    }

    impl ReadAt for Failing {
        fn size(&self) -> u64 {
            self.content.len() as u64
        }

        fn read_at(&self, at: u64, buffer: &mut [u8]) -> io::Result<()> {
            let end = at + buffer.len() as u64;
            self.tries.lock().unwrap().push((at, end));
            if self.bad.iter().any(|(from, to)| *from < end && at < *to) {
                return Err(io::Error::from_raw_os_error(5));
            }
            self.content.read_at(at, buffer)
        }
    }

    fn disk(bad: &[(u64, u64)]) -> Failing {
        // A third of it is zeros.
        let content = (0..SIZE).map(|at| if at / 10_000 % 3 == 0 { 0 } else { (at * 7 % 251) as u8 }).collect();
        Failing { content, bad: bad.to_vec(), tries: Mutex::default() }
    }

    /// Stops after so many events.
    struct StopAfter(Mutex<usize>);

    impl Observer for StopAfter {
        fn on_event(&self, _: Event<'_>) -> Flow {
            let mut left = self.0.lock().unwrap();
            *left = left.saturating_sub(1);
            if *left == 0 { Flow::Stop } else { Flow::Continue }
        }
    }

    #[test]
    fn everything_readable_is_copied_and_gaps_are_narrowed_to_blocks() {
        let dir = tempfile::tempdir().unwrap();
        let image = dir.path().join("disk.img");
        let bad = [(1_100_000, 1_100_001), (3 << 20, (3 << 20) + 9000), (SIZE as u64 - 100, SIZE as u64)];
        let failing = disk(&bad);
        let done = image_disk(&failing, "/dev/sda", &image, &NoObserver).unwrap();
        let gaps = [(1_097_728, 1_101_824), (3 << 20, (3 << 20) + 12288), (SIZE as u64 - 4096, SIZE as u64)];
        assert_eq!((done.map.unreadable.as_slice(), done.map.pending.len()), (&gaps[..], 0));
        let copy = std::fs::read(&image).unwrap();
        let mut expected = failing.content.clone();
        for (from, to) in gaps {
            expected[from as usize..to as usize].fill(0);
        }
        assert!(copy == expected);
        let tries = failing.tries.into_inner().unwrap();
        let first_again = tries.iter().position(|(from, to)| to - from < STEPS[0]).unwrap();
        let whole: u64 = tries[..first_again].iter().map(|(from, to)| to - from).sum();
        assert!(whole >= SIZE as u64, "sound parts come first: {whole}");
        assert!(image_disk(&disk(&[]), "/dev/sda", &image, &NoObserver).unwrap().map.unreadable.is_empty());
        assert_eq!(std::fs::read(&image).unwrap(), failing.content, "what could be read later is filled in");
    }

    #[test]
    fn an_interrupted_image_is_resumed_and_one_of_something_else_refused() {
        let bad = [(2_000_000, 2_000_001)];
        for events in 1..16 {
            let dir = tempfile::tempdir().unwrap();
            let image = dir.path().join("disk.img");
            let stopped = image_disk(&disk(&bad), "d", &image, &StopAfter(Mutex::new(events))).unwrap();
            let promised = GapMap::read(&image).unwrap().unwrap();
            assert_eq!(promised, stopped.map, "{events}");
            let so_far = std::fs::read(&image).unwrap();
            let content = disk(&[]).content;
            let is_gap = |at: usize| promised.gaps().iter().any(|gap| gap.contains(&(at as u64)));
            assert!((0..SIZE).step_by(4096).all(|at| is_gap(at) || so_far[at] == content[at]), "{events}");
            let done = image_disk(&disk(&bad), "d", &image, &NoObserver).unwrap();
            assert_eq!(done.map.unreadable, [(1_998_848, 2_002_944)], "{events}");
            assert!(done.resumed && done.map.pending.is_empty());
        }
        let dir = tempfile::tempdir().unwrap();
        let image = dir.path().join("disk.img");
        std::fs::write(&image, "a letter").unwrap();
        assert!(image_disk(&disk(&[]), "d", &image, &NoObserver).is_err());
        assert_eq!(std::fs::read(&image).unwrap(), b"a letter");
    }
}
