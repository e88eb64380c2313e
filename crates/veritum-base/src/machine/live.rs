//! [`LiveDisk`]: the real disk, through the kernel.

use std::ffi::{OsStr, OsString};
use std::io;
use std::ops::Range;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::Path;

use rustix::fs::{self, AtFlags, FileType, Mode, OFlags, RenameFlags, ResolveFlags};
use rustix::io::Errno;

use super::disk::{Disk, Exchange, FreeSpace, Name, Node};
use crate::model::{FileKind, Identity, Instant, Stat};

/// How often a path is tried again when another process renames part of it (one call in twenty, measured under load).
const TRIES: usize = 100;
/// The type of overlay file systems (statfs(2)).
const OVERLAY: u64 = 0x794c_7630;
/// Larger extended attributes are not copied, in bytes: no supported file system has them.
const MAX_XATTR: usize = 64 * 1024;

/// The real disk. Needs Linux 5.6 or newer (`openat2`).
#[derive(Debug, Clone, Copy, Default)]
pub struct LiveDisk;

fn kind_of(file_type: FileType) -> Option<FileKind> {
    Some(match file_type {
        FileType::RegularFile => FileKind::File,
        FileType::Directory => FileKind::Folder,
        FileType::Symlink => FileKind::Link,
        FileType::Fifo => FileKind::Pipe,
        FileType::Socket => FileKind::Socket,
        FileType::CharacterDevice | FileType::BlockDevice => FileKind::Device,
        _ => return None,
    })
}

// The widths of these fields differ between architectures; on this one some casts have no effect.
#[allow(clippy::unnecessary_cast, reason = "widths differ between architectures")]
fn stat_of(raw: &fs::Stat) -> Stat {
    Stat {
        kind: kind_of(FileType::from_raw_mode(raw.st_mode)).unwrap_or(FileKind::Device),
        mode: raw.st_mode & 0o7777,
        uid: raw.st_uid,
        gid: raw.st_gid,
        size: raw.st_size as u64,
        mtime: Instant { s: raw.st_mtime as i64, n: raw.st_mtime_nsec as u32 },
        ctime: Instant { s: raw.st_ctime as i64, n: raw.st_ctime_nsec as u32 },
        id: Identity { dev: raw.st_dev as u64, ino: raw.st_ino as u64 },
        names: raw.st_nlink as u64,
        rdev: raw.st_rdev as u64,
    }
}

fn open_by_walking(root: BorrowedFd<'_>, path: &Name) -> io::Result<OwnedFd> {
    let flags = OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC | OFlags::RDONLY;
    let mut at = fs::openat(root, ".", flags, Mode::empty())?;
    for name in path.split(|b| *b == b'/').filter(|n| !n.is_empty()) {
        at = fs::openat(&at, OsStr::from_bytes(name), flags, Mode::empty())?;
    }
    Ok(at)
}

impl Disk for LiveDisk {
    fn open_root(&self, path: &Path) -> io::Result<OwnedFd> {
        Ok(fs::open(path, OFlags::DIRECTORY | OFlags::CLOEXEC | OFlags::RDONLY, Mode::empty())?)
    }

    fn open_dir(&self, root: BorrowedFd<'_>, path: &Name) -> io::Result<OwnedFd> {
        let path = if path.is_empty() { b"." } else { path };
        let flags = OFlags::DIRECTORY | OFlags::CLOEXEC | OFlags::RDONLY;
        let resolve = ResolveFlags::IN_ROOT | ResolveFlags::NO_SYMLINKS | ResolveFlags::NO_MAGICLINKS;
        for _ in 0..TRIES {
            match fs::openat2(root, OsStr::from_bytes(path), flags, Mode::empty(), resolve) {
                Err(Errno::AGAIN) => {}
                // Opens a folder that may be traversed but not listed: enough to examine its names.
                Err(Errno::ACCESS) => {
                    let flags = OFlags::DIRECTORY | OFlags::CLOEXEC | OFlags::PATH;
                    return Ok(fs::openat2(root, OsStr::from_bytes(path), flags, Mode::empty(), resolve)?);
                }
                // Where the system call is filtered (containers), the path is opened name by name.
                Err(Errno::NOSYS | Errno::PERM) => return open_by_walking(root, path),
                other => return Ok(other?),
            }
        }
        open_by_walking(root, path)
    }

    fn open_seen(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<(OwnedFd, Stat)> {
        let name = OsStr::from_bytes(name);
        let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::NOCTTY | OFlags::CLOEXEC;
        let file = match fs::openat(dir, name, flags | OFlags::NOATIME, Mode::empty()) {
            Err(Errno::PERM) => fs::openat(dir, name, flags, Mode::empty())?,
            other => other?,
        };
        let stat = stat_of(&fs::fstat(&file)?);
        if stat.kind != FileKind::File {
            return Err(io::Error::new(io::ErrorKind::InvalidInput, "not a regular file"));
        }
        Ok((file, stat))
    }

    fn look(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<Stat> {
        Ok(stat_of(&fs::statat(dir, OsStr::from_bytes(name), AtFlags::SYMLINK_NOFOLLOW)?))
    }

    fn look_open(&self, file: BorrowedFd<'_>) -> io::Result<Stat> {
        Ok(stat_of(&fs::fstat(file)?))
    }

    fn mount_of(&self, file: BorrowedFd<'_>) -> io::Result<u64> {
        Ok(fs::statx(file, "", AtFlags::EMPTY_PATH, fs::StatxFlags::MNT_ID)?.stx_mnt_id)
    }

    fn mount_of_name(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<u64> {
        let flags = AtFlags::SYMLINK_NOFOLLOW | AtFlags::NO_AUTOMOUNT;
        Ok(fs::statx(dir, OsStr::from_bytes(name), flags, fs::StatxFlags::MNT_ID)?.stx_mnt_id)
    }

    fn read(&self, file: BorrowedFd<'_>, into: &mut [u8]) -> io::Result<usize> {
        loop {
            match rustix::io::read(file, &mut *into) {
                Err(Errno::INTR) => {}
                other => return Ok(other?),
            }
        }
    }

    fn read_at(&self, file: BorrowedFd<'_>, at: u64, into: &mut [u8]) -> io::Result<usize> {
        let mut done = 0;
        while done < into.len() {
            match rustix::io::pread(file, &mut into[done..], at + done as u64) {
                Err(Errno::INTR) => {}
                Ok(0) => break,
                Ok(n) => done += n,
                Err(other) => return Err(other.into()),
            }
        }
        Ok(done)
    }

    fn written_after(&self, file: BorrowedFd<'_>, at: u64) -> io::Result<Option<Range<u64>>> {
        match fs::seek(file, fs::SeekFrom::Data(at)) {
            Ok(begin) => Ok(Some(begin..fs::seek(file, fs::SeekFrom::Hole(begin))?)),
            Err(Errno::NXIO) => Ok(None),
            Err(other) => Err(other.into()),
        }
    }

    fn read_link(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<Vec<u8>> {
        Ok(fs::readlinkat(dir, OsStr::from_bytes(name), Vec::new())?.into_bytes())
    }

    fn list(&self, dir: BorrowedFd<'_>) -> io::Result<Vec<(Vec<u8>, Option<FileKind>)>> {
        let mut names = Vec::new();
        for entry in fs::Dir::read_from(dir)? {
            let entry = entry?;
            let name = entry.file_name().to_bytes();
            if name != b"." && name != b".." {
                names.push((name.to_vec(), kind_of(entry.file_type())));
            }
        }
        Ok(names)
    }

    fn list_inodes(&self, dir: BorrowedFd<'_>) -> io::Result<Vec<(Vec<u8>, u64)>> {
        let mut names = Vec::new();
        for entry in fs::Dir::read_from(dir)? {
            let entry = entry?;
            let name = entry.file_name().to_bytes();
            if name != b"." && name != b".." {
                names.push((name.to_vec(), entry.ino()));
            }
        }
        Ok(names)
    }

    fn xattrs(&self, file: BorrowedFd<'_>) -> io::Result<Vec<(OsString, Vec<u8>)>> {
        // Most files have none, and one large buffer for each file costs more than asking.
        match fs::flistxattr_query(file) {
            Ok(0) | Err(Errno::NOTSUP | Errno::NOSYS) => return Ok(Vec::new()),
            Ok(_) => {}
            Err(e) => return Err(e.into()),
        }
        let mut list = vec![0; MAX_XATTR];
        let length = fs::flistxattr(file, &mut list[..])?;
        let mut all = Vec::new();
        for name in list[..length].split(|b| *b == 0).filter(|n| !n.is_empty()) {
            let name = OsString::from_vec(name.to_vec());
            let mut value = vec![0; MAX_XATTR];
            let length = fs::fgetxattr(file, &name, &mut value[..])?;
            value.truncate(length);
            all.push((name, value));
        }
        Ok(all)
    }

    fn has_capabilities(&self, file: BorrowedFd<'_>) -> io::Result<bool> {
        match fs::fgetxattr(file, "security.capability", &mut [0u8; 64][..]) {
            Ok(_) | Err(Errno::RANGE) => Ok(true),
            Err(Errno::NODATA | Errno::NOTSUP | Errno::NOSYS) => Ok(false),
            Err(other) => Err(other.into()),
        }
    }

    fn flags(&self, file: BorrowedFd<'_>) -> io::Result<Option<u32>> {
        match fs::ioctl_getflags(file) {
            Ok(flags) => Ok(Some(flags.bits())),
            Err(Errno::NOTTY | Errno::NOTSUP | Errno::NOSYS | Errno::INVAL | Errno::PERM) => Ok(None),
            Err(other) => Err(other.into()),
        }
    }

    fn room(&self, dir: BorrowedFd<'_>) -> io::Result<FreeSpace> {
        let vfs = fs::fstatvfs(dir)?;
        Ok(FreeSpace {
            bytes: vfs.f_bavail.saturating_mul(vfs.f_frsize),
            total: vfs.f_blocks.saturating_mul(vfs.f_frsize),
            inodes: if vfs.f_files == 0 { u64::MAX } else { vfs.f_favail },
            block: vfs.f_frsize.max(512),
            read_only: vfs.f_flag.contains(fs::StatVfsMountFlags::RDONLY),
        })
    }

    #[allow(clippy::unnecessary_cast, reason = "widths differ between architectures")]
    fn is_overlay(&self, dir: BorrowedFd<'_>) -> io::Result<bool> {
        Ok(fs::fstatfs(dir)?.f_type as u64 == OVERLAY)
    }

    fn forget(&self, file: BorrowedFd<'_>) -> io::Result<()> {
        Ok(fs::fadvise(file, 0, None, fs::Advice::DontNeed)?)
    }

    fn read_ahead(&self, file: BorrowedFd<'_>, bytes: u64) {
        let _ = fs::fadvise(file, 0, std::num::NonZeroU64::new(bytes), fs::Advice::WillNeed);
    }

    fn create(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<OwnedFd> {
        let flags = OFlags::CREATE | OFlags::EXCL | OFlags::RDWR | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        Ok(fs::openat(dir, OsStr::from_bytes(name), flags, Mode::from_raw_mode(0o600))?)
    }

    fn open_append(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<OwnedFd> {
        let flags = OFlags::APPEND | OFlags::RDWR | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
        Ok(fs::openat(dir, OsStr::from_bytes(name), flags, Mode::empty())?)
    }

    fn write(&self, file: BorrowedFd<'_>, mut bytes: &[u8]) -> io::Result<()> {
        while !bytes.is_empty() {
            match rustix::io::write(file, bytes) {
                Err(Errno::INTR) => {}
                Ok(0) => return Err(io::ErrorKind::WriteZero.into()),
                // A limit on file sizes (setrlimit(2)) prevents writing as a full disk does.
                Err(Errno::FBIG) => return Err(io::ErrorKind::StorageFull.into()),
                Ok(n) => bytes = &bytes[n..],
                Err(other) => return Err(other.into()),
            }
        }
        Ok(())
    }

    fn write_at(&self, file: BorrowedFd<'_>, mut at: u64, mut bytes: &[u8]) -> io::Result<()> {
        while !bytes.is_empty() {
            match rustix::io::pwrite(file, bytes, at) {
                Err(Errno::INTR) => {}
                Ok(0) => return Err(io::ErrorKind::WriteZero.into()),
                Ok(n) => {
                    bytes = &bytes[n..];
                    at += n as u64;
                }
                Err(other) => return Err(other.into()),
            }
        }
        Ok(())
    }

    fn make_dir(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<()> {
        Ok(fs::mkdirat(dir, OsStr::from_bytes(name), Mode::from_raw_mode(0o700))?)
    }

    fn make_link(&self, dir: BorrowedFd<'_>, name: &Name, target: &[u8]) -> io::Result<()> {
        Ok(fs::symlinkat(OsStr::from_bytes(target), dir, OsStr::from_bytes(name))?)
    }

    fn make_node(&self, dir: BorrowedFd<'_>, name: &Name, node: Node, mode: u32) -> io::Result<()> {
        let (file_type, number) = match node {
            Node::Pipe => (FileType::Fifo, 0),
            Node::Block(major, minor) => (FileType::BlockDevice, fs::makedev(major, minor)),
            Node::Character(major, minor) => (FileType::CharacterDevice, fs::makedev(major, minor)),
        };
        let name = OsStr::from_bytes(name);
        fs::mknodat(dir, name, file_type, Mode::from_raw_mode(0o600), number)?;
        // Opening it would wait, or act on a device: its mode is set through a handle that only names it.
        let handle = fs::openat(dir, name, OFlags::PATH | OFlags::NOFOLLOW | OFlags::CLOEXEC, Mode::empty())?;
        let same = format!("/proc/self/fd/{}", std::os::fd::AsRawFd::as_raw_fd(&handle));
        Ok(fs::chmod(same, Mode::from_raw_mode(mode))?)
    }

    fn hard_link(&self, from: BorrowedFd<'_>, old: &Name, to: BorrowedFd<'_>, new: &Name) -> io::Result<()> {
        Ok(fs::linkat(from, OsStr::from_bytes(old), to, OsStr::from_bytes(new), AtFlags::empty())?)
    }

    fn clone_file(&self, from: BorrowedFd<'_>, to: BorrowedFd<'_>) -> io::Result<()> {
        Ok(fs::ioctl_ficlone(to, from)?)
    }

    fn rename(
        &self,
        from: BorrowedFd<'_>,
        old: &Name,
        to: BorrowedFd<'_>,
        new: &Name,
        how: Exchange,
    ) -> io::Result<()> {
        let flags = match how {
            Exchange::Swap => RenameFlags::EXCHANGE,
            Exchange::IntoNothing => RenameFlags::NOREPLACE,
            Exchange::Replace => RenameFlags::empty(),
        };
        Ok(fs::renameat_with(from, OsStr::from_bytes(old), to, OsStr::from_bytes(new), flags)?)
    }

    fn unlink(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<()> {
        Ok(fs::unlinkat(dir, OsStr::from_bytes(name), AtFlags::empty())?)
    }

    fn remove_dir(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<()> {
        Ok(fs::unlinkat(dir, OsStr::from_bytes(name), AtFlags::REMOVEDIR)?)
    }

    fn set_owner(&self, dir: BorrowedFd<'_>, name: &Name, uid: u32, gid: u32) -> io::Result<()> {
        let (uid, gid) = (fs::Uid::from_raw(uid), fs::Gid::from_raw(gid));
        Ok(fs::chownat(dir, OsStr::from_bytes(name), Some(uid), Some(gid), AtFlags::SYMLINK_NOFOLLOW)?)
    }

    fn set_mode(&self, file: BorrowedFd<'_>, mode: u32) -> io::Result<()> {
        Ok(fs::fchmod(file, Mode::from_raw_mode(mode))?)
    }

    fn set_mtime(&self, dir: BorrowedFd<'_>, name: &Name, mtime: Instant) -> io::Result<()> {
        let times = fs::Timestamps {
            last_access: fs::Timespec { tv_sec: 0, tv_nsec: fs::UTIME_OMIT },
            last_modification: fs::Timespec { tv_sec: mtime.s, tv_nsec: i64::from(mtime.n) },
        };
        let name = if name.is_empty() { b"." } else { name };
        Ok(fs::utimensat(dir, OsStr::from_bytes(name), &times, AtFlags::SYMLINK_NOFOLLOW)?)
    }

    fn set_xattr(&self, file: BorrowedFd<'_>, name: &OsStr, value: &[u8]) -> io::Result<()> {
        Ok(fs::fsetxattr(file, name, value, fs::XattrFlags::empty())?)
    }

    fn set_flags(&self, file: BorrowedFd<'_>, flags: u32) -> io::Result<()> {
        Ok(fs::ioctl_setflags(file, fs::IFlags::from_bits_retain(flags))?)
    }

    fn truncate(&self, file: BorrowedFd<'_>, len: u64) -> io::Result<()> {
        Ok(fs::ftruncate(file, len)?)
    }

    fn sync(&self, file: BorrowedFd<'_>) -> io::Result<()> {
        Ok(fs::fsync(file.as_fd())?)
    }

    fn sync_all(&self, dir: BorrowedFd<'_>) -> io::Result<()> {
        Ok(fs::syncfs(dir)?)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_attributes_of_a_file_are_read_with_their_values() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("letter");
        std::fs::write(&path, "text").unwrap();
        let file = std::fs::File::open(&path).unwrap();
        assert_eq!(LiveDisk.xattrs(file.as_fd()).unwrap(), []);
        for (name, value) in [("user.origin", &b"quay"[..]), ("user.empty", b"")] {
            if fs::fsetxattr(&file, name, value, fs::XattrFlags::empty()).is_err() {
                eprintln!("SKIPPED: the temporary folder's file system has no attributes");
                return;
            }
        }
        let mut all = LiveDisk.xattrs(file.as_fd()).unwrap();
        all.sort();
        assert_eq!(all, [("user.empty".into(), Vec::new()), ("user.origin".into(), b"quay".to_vec())]);
    }
}
