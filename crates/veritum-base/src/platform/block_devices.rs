//! The kernel's nodes for file systems on disks and images (sysfs(5), losetup(8)).

use std::ffi::OsString;
use std::fs;
use std::os::unix::fs::{FileTypeExt as _, MetadataExt as _};
use std::path::{Path, PathBuf};

use rustix::fs::{Mode, OFlags};
use rustix::io::Errno;

use super::delegate::{Limit, run};
use super::e2fsprogs::tool;
use crate::model::error_words;

/// sysfs counts in sectors of so many bytes.
const SECTOR: u64 = 512;

/// A node that is just one file system: the disk or image itself, the kernel's node of its partition, or a loop device, which is
/// detached when this is dropped.
#[derive(Debug)]
pub struct Node {
    /// Its path.
    pub path: PathBuf,
    is_loop: bool,
}

impl Node {
    /// The node of the file system that begins at `offset` of a disk or an image and has `size` bytes.
    ///
    /// # Errors
    /// Why there is none.
    pub fn of(disk: &Path, offset: u64, size: u64) -> Result<Self, String> {
        if offset == 0 {
            return Ok(Self { path: disk.to_owned(), is_loop: false });
        }
        if let Some(path) = partition(disk, offset) {
            return Ok(Self { path, is_loop: false });
        }
        let program = tool("losetup").ok_or("losetup (package mount) is not installed")?;
        let (offset, size) = (offset.to_string(), size.to_string());
        let words = ["--find", "--show", "--offset", &offset, "--sizelimit", &size].map(OsString::from);
        let words = [&words[..], &[disk.into()]].concat();
        let ran = run(&program.to_string_lossy(), &words, &[], Limit::SHORT).map_err(|e| error_words(&e))?;
        let path = PathBuf::from(ran.last_line());
        match ran.is_fine() && path.starts_with("/dev") {
            true => Ok(Self { path, is_loop: true }),
            false => Err(format!("losetup failed: {}", ran.last_line())),
        }
    }
}

impl Drop for Node {
    fn drop(&mut self) {
        if let (true, Some(program)) = (self.is_loop, tool("losetup")) {
            let words = [OsString::from("--detach"), self.path.clone().into()];
            let _ = run(&program.to_string_lossy(), &words, &[], Limit::SHORT);
        }
    }
}

/// The folder of a block device in sysfs.
fn folder(disk: &Path) -> Option<PathBuf> {
    let stat = fs::metadata(disk).ok()?;
    let number = stat.rdev();
    let name = format!("/sys/dev/block/{}:{}", rustix::fs::major(number), rustix::fs::minor(number));
    stat.file_type().is_block_device().then(|| PathBuf::from(name))
}

/// The node of the partition of a disk that begins at a place, if the kernel has read its table.
fn partition(disk: &Path, offset: u64) -> Option<PathBuf> {
    for entry in fs::read_dir(folder(disk)?).ok()?.flatten() {
        let start = fs::read_to_string(entry.path().join("start")).ok();
        let start: Option<u64> = start.and_then(|text| text.trim().parse().ok());
        if entry.path().join("partition").exists() && start == Some(offset / SECTOR) {
            return Some(Path::new("/dev").join(entry.file_name()));
        }
    }
    None
}

/// The kernel's name of the disk that a block device is, or is a partition of, and where it begins there, in bytes.
#[must_use]
pub fn place_of(node: &Path) -> Option<(String, u64)> {
    let own = fs::canonicalize(folder(node)?).ok()?;
    let name = |folder: &Path| Some(folder.file_name()?.to_str()?.to_owned());
    if !own.join("partition").exists() {
        return Some((name(&own)?, 0));
    }
    let start: u64 = fs::read_to_string(own.join("start")).ok()?.trim().parse().ok()?;
    Some((name(own.parent()?)?, start.saturating_mul(SECTOR)))
}

/// The disks of this computer, without memory that is used as one, optical drives, and empty drives.
#[must_use]
pub fn disks() -> Vec<PathBuf> {
    const IN_MEMORY: [&str; 2] = ["ram", "zram"];
    /// The type of an optical drive (SCSI Primary Commands, peripheral device type): it can take minutes to say that it is empty.
    const OPTICAL: &str = "5";
    let all = fs::read_dir("/sys/block").into_iter().flatten().flatten();
    let is_disk = |entry: &fs::DirEntry| {
        let name = entry.file_name().to_string_lossy().into_owned();
        let size = fs::read_to_string(entry.path().join("size")).unwrap_or_default();
        let kind = fs::read_to_string(entry.path().join("device/type")).unwrap_or_default();
        let is_empty = size.trim() == "0" || size.is_empty();
        !is_empty && kind.trim() != OPTICAL && !IN_MEMORY.iter().any(|start| name.starts_with(start))
    };
    let mut found: Vec<PathBuf> = all.filter(is_disk).map(|entry| Path::new("/dev").join(entry.file_name())).collect();
    found.sort();
    found
}

/// Where the kernel has mounted the volume that begins at `offset` of a disk.
#[must_use]
pub fn mounted_at(disk: &Path, offset: u64) -> Vec<String> {
    let node = if offset == 0 { Some(disk.to_owned()) } else { partition(disk, offset) };
    let Some(number) = node.and_then(|node| fs::metadata(node).ok()).filter(|stat| stat.file_type().is_block_device())
    else {
        return Vec::new();
    };
    let number = format!("{}:{}", rustix::fs::major(number.rdev()), rustix::fs::minor(number.rdev()));
    let mounts = fs::read_to_string("/proc/self/mountinfo").unwrap_or_default();
    let is_it = |line: &&str| line.split(' ').nth(2) == Some(&number);
    mounts.lines().filter(is_it).filter_map(|line| line.split(' ').nth(4)).map(str::to_owned).collect()
}

/// Whether the kernel uses the file system that begins at `offset` of a disk or an image: it is mounted, or part of something.
#[must_use]
pub fn in_use(disk: &Path, offset: u64) -> bool {
    if folder(disk).is_some() {
        let node = if offset == 0 { None } else { partition(disk, offset) };
        let flags = OFlags::RDONLY | OFlags::EXCL | OFlags::CLOEXEC | OFlags::NONBLOCK;
        let opened = rustix::fs::open(node.as_deref().unwrap_or(disk), flags, Mode::empty());
        return matches!(opened, Err(Errno::BUSY));
    }
    let Ok(image) = disk.canonicalize() else { return false };
    let attached = |entry: fs::DirEntry| {
        let file = fs::read_to_string(entry.path().join("loop/backing_file")).unwrap_or_default();
        Path::new(file.trim_end_matches('\n')) == image
    };
    fs::read_dir("/sys/block").is_ok_and(|all| all.flatten().any(attached))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_image_that_nobody_attached_is_its_own_node() {
        let image = tempfile::NamedTempFile::new().unwrap();
        assert!(!in_use(image.path(), 0));
        assert_eq!(Node::of(image.path(), 0, 1 << 20).unwrap().path, image.path());
        assert!(folder(image.path()).is_none() && partition(image.path(), 1 << 20).is_none());
    }
}
