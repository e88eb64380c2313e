//! [`FatFiles`]: the files of a FAT file system, read without mounting it.

use std::cell::Cell;
use std::io::{self, Read, Seek, SeekFrom, Write};

use super::{ReadAt, Section};

/// More entries are not read: EFI partitions have few files, and damaged folders can lead in a circle.
const MAX_ENTRIES: usize = 20_000;
const MAX_DEPTH: usize = 16;
/// Larger files are not read, in bytes.
const MAX_FILE: u64 = 512 << 20;
/// So much is read for one question, beside the content: a chain of clusters can lead in a circle.
const MAX_READ: u64 = 64 << 20;

/// An entry of a folder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FatEntry {
    /// Its path, without a leading slash.
    pub path: String,
    /// Its size in bytes.
    pub size: u64,
    /// Whether it is a folder.
    pub is_folder: bool,
}

/// The files of a FAT file system.
pub struct FatFiles {
    bytes: Section,
}

/// Bytes for the crate that reads the format: nothing is written, and reading ends.
struct Bounded<'a> {
    bytes: &'a Section,
    at: u64,
    left: &'a Cell<u64>,
}

impl Read for Bounded<'_> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        let count = (into.len() as u64).min(self.bytes.size().saturating_sub(self.at));
        let left = self.left.get().checked_sub(count.max(1));
        self.left.set(left.ok_or_else(|| io::Error::new(io::ErrorKind::InvalidData, "it leads in a circle"))?);
        let into = &mut into[..usize::try_from(count).unwrap_or_default()];
        self.bytes.read_at(self.at, into)?;
        self.at += count;
        Ok(into.len())
    }
}

impl Write for Bounded<'_> {
    fn write(&mut self, _: &[u8]) -> io::Result<usize> {
        Err(io::ErrorKind::ReadOnlyFilesystem.into())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl Seek for Bounded<'_> {
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

type Folder<'a, 'b> = fatfs::Dir<'a, Bounded<'b>>;

impl FatFiles {
    /// The files of a partition.
    ///
    /// # Errors
    /// When it cannot be read, or is no FAT file system.
    pub fn open(bytes: &Section) -> io::Result<Self> {
        let files = Self { bytes: bytes.clone() };
        files.with(|_| Ok(()))?;
        Ok(files)
    }

    fn with<T>(&self, work: impl FnOnce(&Folder<'_, '_>) -> io::Result<T>) -> io::Result<T> {
        let left = Cell::new(MAX_READ);
        self.with_budget(&left, work)
    }

    fn with_budget<T>(&self, left: &Cell<u64>, work: impl FnOnce(&Folder<'_, '_>) -> io::Result<T>) -> io::Result<T> {
        let options = fatfs::FsOptions::new().update_accessed_date(false);
        let system = fatfs::FileSystem::new(Bounded { bytes: &self.bytes, at: 0, left }, options)?;
        let root = system.root_dir();
        work(&root)
    }

    /// All folders and files.
    ///
    /// # Errors
    /// When a folder cannot be read, or leads in a circle.
    pub fn list(&self) -> io::Result<Vec<FatEntry>> {
        self.with(|root| {
            let mut found = Vec::new();
            list_into(root, "", 0, &mut found)?;
            Ok(found)
        })
    }

    /// The content of a file; the case of letters in its path does not matter. `None` if there is none.
    ///
    /// # Errors
    /// When it cannot be read, or is larger than such files are.
    pub fn read(&self, path: &str) -> io::Result<Option<Vec<u8>>> {
        let left = Cell::new(MAX_READ);
        self.with_budget(&left, |root| {
            let mut file = match root.open_file(path.trim_matches('/')) {
                Ok(file) => file,
                Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(None),
                // A folder of that name.
                Err(e) => return Err(e),
            };
            // Seeking to its end stops where its chain of clusters does.
            let size = recorded_size(root, path)?;
            if size > MAX_FILE {
                return Err(io::ErrorKind::FileTooLarge.into());
            }
            left.set(size.saturating_mul(2).saturating_add(MAX_READ));
            let mut content = Vec::new();
            file.read_to_end(&mut content)?;
            // A chain of clusters that is shorter than the file.
            if content.len() as u64 != size {
                return Err(io::Error::new(io::ErrorKind::InvalidData, "it is shorter than its folder says"));
            }
            Ok(Some(content))
        })
    }
}

/// The size of a file, as its folder says.
fn recorded_size(root: &Folder<'_, '_>, path: &str) -> io::Result<u64> {
    let path = path.trim_matches('/');
    let (above, name) = path.rsplit_once('/').unwrap_or(("", path));
    let folder = if above.is_empty() { root.clone() } else { root.open_dir(above)? };
    for entry in folder.iter() {
        let entry = entry?;
        let is_it = entry.file_name().eq_ignore_ascii_case(name) || entry.short_file_name().eq_ignore_ascii_case(name);
        if is_it && entry.is_file() {
            return Ok(entry.len());
        }
    }
    Err(io::ErrorKind::NotFound.into())
}

fn list_into(folder: &Folder<'_, '_>, above: &str, depth: usize, found: &mut Vec<FatEntry>) -> io::Result<()> {
    let circle = || io::Error::new(io::ErrorKind::InvalidData, "its folders lead in a circle");
    for entry in folder.iter() {
        let entry = entry?;
        let name = entry.file_name();
        if name == "." || name == ".." {
            continue;
        }
        if found.len() >= MAX_ENTRIES || depth >= MAX_DEPTH {
            return Err(circle());
        }
        let path = if above.is_empty() { name } else { format!("{above}/{name}") };
        let is_folder = entry.is_dir();
        found.push(FatEntry { path: path.clone(), size: entry.len(), is_folder });
        if is_folder {
            list_into(&entry.to_dir(), &path, depth + 1, found)?;
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use super::*;

    /// A file system with two files.
    fn sample() -> Vec<u8> {
        let mut image = io::Cursor::new(vec![0u8; 2 << 20]);
        fatfs::format_volume(&mut image, fatfs::FormatVolumeOptions::new()).unwrap();
        {
            let system = fatfs::FileSystem::new(&mut image, fatfs::FsOptions::new()).unwrap();
            let root = system.root_dir();
            root.create_dir("EFI").unwrap();
            root.create_dir("EFI/boat").unwrap();
            root.create_file("EFI/boat/grub.cfg").unwrap().write_all(&[b'x'; 5000]).unwrap();
            root.create_file("EFI/a long name.efi").unwrap().write_all(b"MZ").unwrap();
        }
        image.into_inner()
    }

    fn open(image: Vec<u8>) -> io::Result<FatFiles> {
        let size = image.len() as u64;
        FatFiles::open(&Section::new(Arc::new(image), 0, size))
    }

    #[test]
    fn files_are_listed_and_read_whatever_the_case_of_their_names() {
        let files = open(sample()).unwrap();
        let listed: Vec<String> = files.list().unwrap().into_iter().map(|entry| entry.path).collect();
        assert_eq!(listed, ["EFI", "EFI/boat", "EFI/boat/grub.cfg", "EFI/a long name.efi"]);
        assert_eq!(files.read("/efi/BOAT/Grub.cfg").unwrap(), Some(vec![b'x'; 5000]));
        assert_eq!(files.read("EFI/none.efi").unwrap(), None);
        assert!(files.read("EFI").is_err(), "a folder has no content");
        assert!(open(vec![0; 4096]).is_err());
    }

    #[test]
    fn a_circle_of_clusters_ends() {
        let mut image = sample();
        // No folder ends: what follows its entries are deleted ones.
        let first = 8 << 10;
        for entry in image[first..].chunks_exact_mut(32).filter(|entry| entry.iter().all(|byte| *byte == 0)) {
            entry[0] = 0xe5;
        }
        // Every cluster is followed by itself: in 12 bits, two entries in three bytes.
        let fat = usize::from(u16::from_le_bytes([image[14], image[15]])) * 512;
        for cluster in 2u16..300 {
            let at = fat + usize::from(cluster) * 3 / 2;
            match cluster % 2 {
                0 => (image[at], image[at + 1]) = (cluster as u8, image[at + 1] & 0xf0 | (cluster >> 8) as u8),
                _ => (image[at], image[at + 1]) = (image[at] & 0x0f | (cluster << 4) as u8, (cluster >> 4) as u8),
            }
        }
        let files = open(image).unwrap();
        assert!(files.list().is_err());
        let read = files.read("EFI/boat/grub.cfg");
        assert!(read.is_ok_and(|content| content.is_none_or(|content| content.len() == 5000)));
    }

    proptest::proptest! {
        #![proptest_config(proptest::test_runner::Config::with_cases(64))]
        #[test]
        fn a_damaged_file_system_is_read_without_harm(seed: u64) {
            let sample = sample();
            let mut image = crate::testkit::mutated(&sample[..64 << 10], seed);
            image.resize(64 << 10, 0);
            image.extend(&sample[64 << 10..]);
            if let Ok(files) = open(image) {
                let _ = (files.list(), files.read("EFI/boat/grub.cfg"));
            }
        }
    }
}
