//! A full disk: the demo machine moved to a small file system that a user has filled.

use std::fs;
use std::io::{self, Write as _};
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _};
use std::path::Path;
use std::process::Command;

use rustix::mount::{MountFlags, mount};

use crate::machine::{set_mtime, set_owner};

/// A user's large file, which no repair deletes.
const FILLER: &str = "home/mirela/Videos/harbour-day.mkv";
/// The free space that is left, in bytes.
const FREE: u64 = 160 << 10;
/// The size of the disk beyond the machine's files, in bytes: filled by the user's file.
const SPARE: u64 = 8 << 20;

/// Moves the machine to a file system in memory that is full except for some kilobytes. It stays mounted on the machine's
/// folder until it is unmounted (`umount`), and is lost then.
///
/// # Errors
/// When it cannot be mounted (only root can) or the machine cannot be copied.
pub(crate) fn confine(folder: &Path) -> io::Result<()> {
    let (root, whole) = (folder.join("machine"), folder.join("machine-on-a-large-disk"));
    let size = taken(&root)? + SPARE;
    fs::rename(&root, &whole)?;
    fs::create_dir(&root)?;
    let options = std::ffi::CString::new(format!("size={size},mode=755"))?;
    if let Err(e) = mount("tmpfs", &root, "tmpfs", MountFlags::NOSUID | MountFlags::NODEV, options.as_c_str()) {
        fs::remove_dir(&root)?;
        fs::rename(&whole, &root)?;
        return Err(e.into());
    }
    let copied = Command::new("cp").arg("-a").arg(whole.join(".")).arg(&root).status()?;
    if !copied.success() {
        return Err(io::Error::other("the machine cannot be copied to a small disk"));
    }
    fs::remove_dir_all(&whole)?;
    fill(&root)
}

/// The size of the machine's files and symlinks in whole pages; a file system in memory does not count folders.
fn taken(folder: &Path) -> io::Result<u64> {
    const PAGE: u64 = 4096;
    let mut bytes = 0;
    for entry in fs::read_dir(folder)? {
        let entry = entry?;
        let meta = fs::symlink_metadata(entry.path())?;
        bytes += if meta.is_dir() { taken(&entry.path())? } else { meta.len().next_multiple_of(PAGE) };
    }
    Ok(bytes)
}

fn fill(root: &Path) -> io::Result<()> {
    let path = root.join(FILLER);
    let above = path.parent().unwrap_or(root);
    let owner = fs::symlink_metadata(above.parent().unwrap_or(root))?;
    fs::create_dir_all(above)?;
    let room = rustix::fs::statvfs(root)?;
    let bytes = (room.f_bavail * room.f_frsize).saturating_sub(FREE);
    let mut file = fs::File::create(&path)?;
    let piece = [0x2e; 64 << 10];
    let mut left = usize::try_from(bytes).unwrap_or(0);
    while left > 0 {
        let n = left.min(piece.len());
        file.write_all(&piece[..n])?;
        left -= n;
    }
    file.set_permissions(fs::Permissions::from_mode(0o644))?;
    for place in [above, &path] {
        set_owner(place, owner.uid(), owner.gid())?;
        set_mtime(place, crate::NOW - 600, 0)?;
    }
    Ok(())
}
