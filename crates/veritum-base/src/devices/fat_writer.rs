//! Files of a FAT file system replaced as a whole, on a copy of its sectors in memory. Nothing is written: what would be is returned.

use std::io::{self, Read, Seek, SeekFrom, Write};

use fatfs::{Date, DateTime, FileSystem, FsOptions, Time, TimeProvider};

use super::{FatFiles, Patched, Patches, ReadAt, Section};

/// So much is read or written for one change: a chain of clusters can lead in a circle.
const MAX_WORK: u64 = 1 << 30;

/// A file that is to have this content.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewFile {
    /// Its path, without a leading slash.
    pub path: String,
    /// Its content.
    pub content: Vec<u8>,
}

/// Why files cannot be replaced.
#[derive(Debug, thiserror::Error)]
pub enum FatWriteError {
    /// There is not enough free space.
    #[error("the EFI partition is full: {needed} KiB are needed, {free} KiB are free")]
    Full {
        /// What is needed in addition, in KiB.
        needed: u64,
        /// What is free, in KiB.
        free: u64,
    },
    /// Another file would change: two files share clusters.
    #[error("{0} would change, too: its file system is damaged")]
    Shared(String),
    /// It cannot be read or changed.
    #[error("its file system cannot be changed")]
    Io(#[from] io::Error),
}

/// A file system in memory: what is written is kept apart.
struct Memory<'a> {
    bytes: &'a Section,
    patches: Patches,
    at: u64,
    left: u64,
}

impl Memory<'_> {
    fn work(&mut self, count: usize) -> io::Result<()> {
        let left = self.left.checked_sub(count.max(1) as u64);
        self.left = left.ok_or_else(|| io::Error::new(io::ErrorKind::InvalidData, "it leads in a circle"))?;
        Ok(())
    }
}

impl Read for Memory<'_> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        let count = (into.len() as u64).min(self.bytes.size().saturating_sub(self.at));
        let into = &mut into[..usize::try_from(count).unwrap_or_default()];
        self.work(into.len())?;
        Patched::new(self.bytes, &self.patches).read_at(self.at, into)?;
        self.at += count;
        Ok(into.len())
    }
}

impl Write for Memory<'_> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.work(bytes.len())?;
        self.patches.write(self.bytes, self.at, bytes)?;
        self.at += bytes.len() as u64;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl Seek for Memory<'_> {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let at = match to {
            SeekFrom::Start(at) => Some(at),
            SeekFrom::End(by) => self.bytes.size().checked_add_signed(by),
            SeekFrom::Current(by) => self.at.checked_add_signed(by),
        };
        self.at = at.ok_or(io::ErrorKind::InvalidInput)?;
        Ok(self.at)
    }
}

/// The time that files get, in UTC.
#[derive(Debug, Clone, Copy)]
struct Clock(DateTime);

impl TimeProvider for Clock {
    fn get_current_date(&self) -> Date {
        self.0.date
    }

    fn get_current_date_time(&self) -> DateTime {
        self.0
    }
}

fn dos_time(now: jiff::Timestamp) -> DateTime {
    let now = now.to_zoned(jiff::tz::TimeZone::UTC);
    let part = |number: i8| u16::try_from(number).unwrap_or_default();
    let date =
        Date { year: now.year().clamp(1980, 2107).unsigned_abs(), month: part(now.month()), day: part(now.day()) };
    let time = Time { hour: part(now.hour()), min: part(now.minute()), sec: part(now.second()), millis: 0 };
    DateTime { date, time }
}

/// What is written so that these files have these contents, by places in the file system. Folders that do not exist are created. All other
/// files stay as they are; that is verified.
///
/// # Errors
/// Why it cannot be done.
pub fn replace_files(bytes: &Section, files: &[NewFile], now: jiff::Timestamp) -> Result<Patches, FatWriteError> {
    let mut memory = Memory { bytes, patches: Patches::default(), at: 0, left: MAX_WORK };
    // The crate keeps its clock for the whole run of the program; there are few repairs in one.
    let clock: &'static Clock = Box::leak(Box::new(Clock(dos_time(now))));
    let options = FsOptions::new().update_accessed_date(false).time_provider(clock);
    {
        let system = FileSystem::new(&mut memory, options)?;
        require_space(&system, files)?;
        for file in files {
            put(&system, file)?;
        }
        system.unmount()?;
    }
    let patches = memory.patches;
    require_others(bytes, &patches, files)?;
    Ok(patches)
}

/// Refuses what does not fit.
fn require_space(system: &FileSystem<&mut Memory<'_>>, files: &[NewFile]) -> Result<(), FatWriteError> {
    let stats = system.stats()?;
    let cluster = u64::from(stats.cluster_size());
    let root = system.root_dir();
    let (mut needed, mut freed) = (0, 0);
    for file in files {
        needed += (file.content.len() as u64).div_ceil(cluster);
        match root.open_file(&file.path) {
            Ok(mut open) => freed += open.seek(SeekFrom::End(0))?.div_ceil(cluster),
            // Its entry, and a folder for each part of its path, can take a cluster each.
            Err(_) => needed += file.path.split('/').count() as u64,
        }
    }
    let (more, free) = (needed.saturating_sub(freed), u64::from(stats.free_clusters()));
    if more > free {
        let kib = |clusters: u64| clusters * cluster / 1024;
        return Err(FatWriteError::Full { needed: kib(more), free: kib(free) });
    }
    Ok(())
}

fn put(system: &FileSystem<&mut Memory<'_>>, file: &NewFile) -> io::Result<()> {
    let mut folder = system.root_dir();
    let (above, name) = file.path.rsplit_once('/').unwrap_or(("", &file.path));
    for part in above.split('/').filter(|part| !part.is_empty()) {
        folder = folder.create_dir(part)?;
    }
    let mut open = folder.create_file(name)?;
    open.truncate()?;
    open.write_all(&file.content)?;
    open.flush()
}

/// Verifies that the files have their contents, and all others are as before.
fn require_others(bytes: &Section, patches: &Patches, files: &[NewFile]) -> Result<(), FatWriteError> {
    let before = FatFiles::open(bytes)?;
    let after = FatFiles::open(&bytes.with_planned(patches))?;
    let is_new = |path: &str| files.iter().find(|file| file.path.eq_ignore_ascii_case(path));
    let listed = after.list()?;
    for entry in before.list()?.iter().filter(|entry| is_new(&entry.path).is_none()) {
        let is_there = listed.iter().any(|now| now == entry);
        // What could not be read before is not compared.
        let is_same = entry.is_folder
            || before.read(&entry.path).is_ok_and(|old| after.read(&entry.path).is_ok_and(|new| new == old));
        if !is_there || !is_same && before.read(&entry.path).is_ok() {
            return Err(FatWriteError::Shared(entry.path.clone()));
        }
    }
    for file in files {
        if after.read(&file.path)?.as_deref() != Some(&file.content[..]) {
            return Err(FatWriteError::Shared(file.path.clone()));
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use super::*;

    fn sample(kib: usize) -> Section {
        let mut image = io::Cursor::new(vec![0u8; kib << 10]);
        fatfs::format_volume(&mut image, fatfs::FormatVolumeOptions::new()).unwrap();
        {
            let system = FileSystem::new(&mut image, FsOptions::new()).unwrap();
            let root = system.root_dir();
            root.create_dir("EFI").unwrap();
            root.create_dir("EFI/ferry").unwrap();
            root.create_file("EFI/ferry/ferry.efi").unwrap().write_all(&[b'f'; 9000]).unwrap();
            root.create_file("EFI/ferry/list").unwrap().write_all(b"quay").unwrap();
        }
        let image = image.into_inner();
        let size = image.len() as u64;
        Section::new(Arc::new(image), 0, size)
    }

    fn file(path: &str, content: Vec<u8>) -> NewFile {
        NewFile { path: path.to_owned(), content }
    }

    #[test]
    fn files_are_replaced_and_created_and_the_others_stay() {
        for kib in [1440, 40 << 10] {
            let image = sample(kib);
            let new = [
                file("EFI/FERRY/ferry.efi", vec![b'n'; 20_000]),
                file("EFI/foreshore/a longer name.efi", vec![b'g'; 700]),
            ];
            let patches = replace_files(&image, &new, jiff::Timestamp::UNIX_EPOCH).unwrap();
            let after = FatFiles::open(&image.with_planned(&patches)).unwrap();
            assert_eq!(after.read("EFI/ferry/ferry.efi").unwrap(), Some(vec![b'n'; 20_000]));
            assert_eq!(after.read("EFI/foreshore/a longer name.efi").unwrap(), Some(vec![b'g'; 700]));
            assert_eq!(after.read("EFI/ferry/list").unwrap(), Some(b"quay".to_vec()));
            assert_eq!(FatFiles::open(&image).unwrap().read("EFI/ferry/ferry.efi").unwrap(), Some(vec![b'f'; 9000]));
            // Both allocation tables are the same, and nothing is marked.
            let patched = image.with_planned(&patches);
            let volume = crate::devices::identify(&patched).unwrap();
            assert_eq!(volume.marks(&patched), []);
        }
    }

    #[test]
    fn what_does_not_fit_is_refused_with_the_sizes() {
        let image = sample(1440);
        let large = [file("EFI/ferry/ferry.efi", vec![1; 1 << 20]), file("EFI/more", vec![2; 1 << 20])];
        let why = replace_files(&image, &large, jiff::Timestamp::UNIX_EPOCH).unwrap_err().to_string();
        assert!(why.starts_with("the EFI partition is full: 20") && why.contains("KiB are free"), "{why}");
        // Its own old content makes room for the new one.
        assert!(replace_files(&image, &large[..1], jiff::Timestamp::UNIX_EPOCH).is_ok());
    }

    #[test]
    fn a_file_that_shares_clusters_with_another_is_not_replaced() {
        let image = sample(1440);
        let mut bytes = vec![0; usize::try_from(image.size()).unwrap()];
        image.read_at(0, &mut bytes).unwrap();
        // The first cluster of the small file becomes that of the large one.
        let at = bytes.windows(11).position(|name| name == b"LIST       ").unwrap();
        let large = bytes.windows(11).position(|name| name == b"FERRY   EFI").unwrap();
        let cluster = bytes[large + 26..large + 28].to_vec();
        bytes[at + 26..at + 28].copy_from_slice(&cluster);
        let size = bytes.len() as u64;
        let image = Section::new(Arc::new(bytes), 0, size);
        let new = [file("EFI/ferry/ferry.efi", vec![b'n'; 9000])];
        let why = replace_files(&image, &new, jiff::Timestamp::UNIX_EPOCH).unwrap_err();
        assert!(matches!(&why, FatWriteError::Shared(path) if path == "EFI/ferry/list"), "{why}");
    }

    proptest::proptest! {
        #![proptest_config(proptest::test_runner::Config::with_cases(48))]
        #[test]
        fn a_damaged_file_system_is_changed_without_harm(seed: u64) {
            let image = sample(1440);
            let mut bytes = vec![0; 64 << 10];
            image.read_at(0, &mut bytes).unwrap();
            let mut damaged = crate::testkit::mutated(&bytes, seed);
            damaged.resize(1440 << 10, 0);
            let damaged = Section::new(Arc::new(damaged), 0, 1440 << 10);
            let _ = replace_files(&damaged, &[file("EFI/ferry/ferry.efi", vec![b'n'; 9000])], jiff::Timestamp::UNIX_EPOCH);
        }
    }
}
