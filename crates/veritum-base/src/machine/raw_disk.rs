//! [`RawDisk`]: a system's file systems on disks that are not mounted, read by own code.
//!
//! A handle of a file on such a disk is an anonymous file of this process (memfd_create(2)) that contains the number of the file, behind
//! a secret; all other handles are those of the real disk, for folders of the administrator. Nothing on the raw disks is ever written.

use std::collections::HashMap;
use std::ffi::{OsStr, OsString};
use std::io;
use std::ops::Range;
use std::os::fd::{BorrowedFd, OwnedFd};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use rustix::fs::{MemfdFlags, SeekFrom};
use rustix::io::Errno;

use super::disk::{Disk, Exchange, FreeSpace, Name, Node, RawPlaces};
use super::live::LiveDisk;
use super::raw_systems::{boot_volume, mounts_of, small_file};
use crate::devices::DiskSet;
use crate::devices::ext4::{FileSystem, Inode, Type};
use crate::model::{FileKind, Identity, Instant, Stat};

/// ext4's root folder.
const ROOT: u32 = 2;
/// The device numbers of raw file systems begin here: the kernel gives none so high.
const DEVICES: u64 = 0xffff_0000_0000;
/// The size of the secret in a handle.
const SECRET: usize = 16;
/// So many folders are remembered.
const MAX_FOLDERS: usize = 20_000;

/// A file system of the system.
struct Mounted {
    /// The position of its volume.
    volume: usize,
    fs: FileSystem<'static>,
}

/// The names in a folder.
type Names = Arc<HashMap<Vec<u8>, u32>>;

/// A file on a raw disk: its file system, and its inode.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
struct At {
    fs: u32,
    inode: u32,
}

/// A system's file systems on disks that are not mounted.
pub struct RawDisk {
    path: PathBuf,
    systems: Vec<Mounted>,
    /// The root of a file system that is mounted on a folder of another one.
    mounted_on: HashMap<At, At>,
    secret: [u8; SECRET],
    folders: Mutex<HashMap<At, Names>>,
}

impl std::fmt::Debug for RawDisk {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_tuple("RawDisk").field(&self.path).finish()
    }
}

impl RawDisk {
    /// The system whose root is the volume at this position, with the file systems that its fstab(5) mounts below, as far as they are ext4
    /// and on these disks, and that for /boot. `path` is its root's path on the host, by which it is opened.
    ///
    /// # Errors
    /// When its root cannot be read, or this process can have no secret.
    pub fn open(set: &DiskSet, root: usize, path: &Path) -> io::Result<Self> {
        let mut secret = [0; SECRET];
        random_bytes(&mut secret)?;
        let path = path.canonicalize()?;
        let (systems, mounted_on, folders) = (Vec::new(), HashMap::new(), Mutex::default());
        let mut disk = Self { path, systems, mounted_on, secret, folders };
        disk.mount(set, root)?;
        let text = small_file(&disk.systems[0].fs, b"etc/fstab").unwrap_or_default();
        for (device, place) in mounts_of(&text) {
            let Some(volume) = set.named(&device).filter(|at| disk.systems.iter().all(|known| known.volume != *at))
            else {
                continue;
            };
            if let Some(folder) = disk.walk(disk.root(), &place)
                && let Ok(fs) = disk.mount(set, volume)
            {
                disk.mounted_on.insert(folder, At { fs, inode: ROOT });
            }
        }
        disk.mount_boot(set, root);
        Ok(disk)
    }

    /// Mounts the file system for /boot although fstab(5) does not name it, or names another: what starts the system is there all the same.
    fn mount_boot(&mut self, set: &DiskSet, root: usize) {
        let Some(folder) = self.walk(self.root(), b"/boot") else { return };
        let is_filled = folder.fs != self.root().fs || self.walk(self.root(), b"/boot/grub").is_some();
        let known: Vec<usize> = self.systems.iter().map(|mounted| mounted.volume).collect();
        let volume = boot_volume(set, set.volumes[root].disk).filter(|at| !is_filled && !known.contains(at));
        if let Some(fs) = volume.and_then(|at| self.mount(set, at).ok()) {
            self.mounted_on.insert(folder, At { fs, inode: ROOT });
        }
    }

    fn root(&self) -> At {
        At { fs: 0, inode: ROOT }
    }

    fn mount(&mut self, set: &DiskSet, volume: usize) -> io::Result<u32> {
        let invalid = |why: &'static str| io::Error::new(io::ErrorKind::InvalidData, why);
        let fs = FileSystem::open_owned(&set.volumes[volume].bytes).map_err(invalid)?;
        self.systems.push(Mounted { volume, fs });
        u32::try_from(self.systems.len() - 1).map_err(|_| invalid("too many file systems"))
    }

    fn inode(&self, at: At) -> io::Result<Inode> {
        let mounted = self.systems.get(at.fs as usize).ok_or_else(bad_handle)?;
        mounted.fs.inode(at.inode).map_err(|_| Errno::IO.into())
    }

    /// The names in a folder.
    fn names(&self, at: At) -> io::Result<Names> {
        let mut folders = self.folders.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(known) = folders.get(&at) {
            return Ok(known.clone());
        }
        let inode = self.inode(at)?;
        if inode.kind() != Type::Folder {
            return Err(Errno::NOTDIR.into());
        }
        let (names, bad) = self.systems[at.fs as usize].fs.entries_of(&inode);
        // What is missing from a folder of which a part cannot be read is not known to be missing.
        if bad > 0 {
            return Err(Errno::IO.into());
        }
        let names: Names = Arc::new(names.into_iter().map(|name| (name.name, name.inode)).collect());
        if folders.len() >= MAX_FOLDERS {
            folders.clear();
        }
        folders.insert(at, names.clone());
        Ok(names)
    }

    /// What has a name in a folder; the root of what is mounted there.
    fn child(&self, folder: At, name: &[u8]) -> io::Result<At> {
        if name == b"." {
            return Ok(folder);
        }
        let inode = *self.names(folder)?.get(name).ok_or(Errno::NOENT)?;
        let found = At { fs: folder.fs, inode };
        Ok(self.mounted_on.get(&found).copied().unwrap_or(found))
    }

    /// The folder at a path, without symlinks.
    fn walk(&self, from: At, path: &[u8]) -> Option<At> {
        self.folder(from, path).ok()
    }

    fn folder(&self, from: At, path: &[u8]) -> io::Result<At> {
        let mut at = from;
        for name in path.split(|byte| *byte == b'/').filter(|name| !name.is_empty()) {
            at = self.child(at, name)?;
            match self.inode(at)?.kind() {
                Type::Folder => {}
                Type::Link => return Err(Errno::LOOP.into()),
                _ => return Err(Errno::NOTDIR.into()),
            }
        }
        Ok(at)
    }

    /// A handle of a file.
    fn handle(&self, at: At) -> io::Result<OwnedFd> {
        let fd = rustix::fs::memfd_create("veritum", MemfdFlags::CLOEXEC)?;
        let content = [&self.secret[..], &at.fs.to_le_bytes(), &at.inode.to_le_bytes()].concat();
        rustix::io::pwrite(&fd, &content, 0)?;
        Ok(fd)
    }

    /// The file of a handle; `None` for those of the real disk.
    fn at(&self, fd: BorrowedFd<'_>) -> Option<At> {
        let mut content = [0; SECRET + 8];
        let read = rustix::io::pread(fd, &mut content, 0).ok()?;
        let (secret, numbers) = content.split_at(SECRET);
        let number = |at: usize| numbers.get(at..at + 4)?.try_into().ok().map(u32::from_le_bytes);
        (read == content.len() && secret == self.secret).then(|| Some(At { fs: number(0)?, inode: number(4)? }))?
    }

    fn stat(&self, at: At) -> io::Result<Stat> {
        let inode = self.inode(at)?;
        Ok(Stat {
            kind: kind_of(&inode)?,
            mode: u32::from(inode.mode) & 0o7777,
            uid: inode.uid,
            gid: inode.gid,
            size: inode.size,
            mtime: Instant { s: inode.mtime, n: inode.mtime_nanoseconds },
            ctime: Instant { s: inode.ctime, n: inode.ctime_nanoseconds },
            id: Identity { dev: DEVICES + u64::from(at.fs), ino: u64::from(at.inode) },
            names: u64::from(inode.names),
            rdev: 0,
        })
    }

    /// The real disk, for a handle of it.
    fn real(&self, fd: BorrowedFd<'_>) -> io::Result<LiveDisk> {
        if self.at(fd).is_some() { Err(Errno::ROFS.into()) } else { Ok(LiveDisk) }
    }
}

fn bad_handle() -> io::Error {
    Errno::BADF.into()
}

fn random_bytes(bytes: &mut [u8]) -> io::Result<()> {
    use std::io::Read as _;
    std::fs::File::open("/dev/urandom")?.read_exact(bytes)
}

fn kind_of(inode: &Inode) -> io::Result<FileKind> {
    Ok(match inode.mode & 0xf000 {
        0x1000 => FileKind::Pipe,
        0xc000 => FileKind::Socket,
        0x2000 | 0x6000 => FileKind::Device,
        _ => match inode.kind() {
            Type::File => FileKind::File,
            Type::Folder => FileKind::Folder,
            Type::Link => FileKind::Link,
            Type::Special | Type::Invalid => return Err(Errno::IO.into()),
        },
    })
}

impl Disk for RawDisk {
    fn open_root(&self, path: &Path) -> io::Result<OwnedFd> {
        if path == self.path { self.handle(self.root()) } else { LiveDisk.open_root(path) }
    }

    fn open_dir(&self, root: BorrowedFd<'_>, path: &Name) -> io::Result<OwnedFd> {
        match self.at(root) {
            Some(at) => self.handle(self.folder(at, path)?),
            None => LiveDisk.open_dir(root, path),
        }
    }

    fn open_seen(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<(OwnedFd, Stat)> {
        let Some(at) = self.at(dir) else { return LiveDisk.open_seen(dir, name) };
        let found = self.child(at, name)?;
        let stat = self.stat(found)?;
        if stat.kind != FileKind::File {
            return Err(io::Error::new(io::ErrorKind::InvalidInput, "not a regular file"));
        }
        Ok((self.handle(found)?, stat))
    }

    fn look(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<Stat> {
        match self.at(dir) {
            Some(at) => self.stat(self.child(at, name)?),
            None => LiveDisk.look(dir, name),
        }
    }

    fn look_open(&self, file: BorrowedFd<'_>) -> io::Result<Stat> {
        match self.at(file) {
            Some(at) => self.stat(at),
            None => LiveDisk.look_open(file),
        }
    }

    fn mount_of(&self, file: BorrowedFd<'_>) -> io::Result<u64> {
        match self.at(file) {
            Some(at) => Ok(DEVICES + u64::from(at.fs)),
            None => LiveDisk.mount_of(file),
        }
    }

    fn raw_volume(&self, mount: u64) -> Option<usize> {
        let at = usize::try_from(mount.checked_sub(DEVICES)?).ok()?;
        Some(self.systems.get(at)?.volume)
    }

    fn raw_places(&self, file: BorrowedFd<'_>) -> Result<RawPlaces, &'static str> {
        let at = self.at(file).ok_or("it is on no raw disk")?;
        let mounted = self.systems.get(at.fs as usize).ok_or("its handle is not valid")?;
        if mounted.fs.superblock.needs_recovery() {
            return Err("its file system was not unmounted: the kernel will replay ext4's journal first");
        }
        if mounted.fs.first_is.is_some() || !mounted.fs.mount_faults().is_empty() {
            return Err("its file system is damaged");
        }
        let inode = self.inode(at).map_err(|_| "its inode cannot be read")?;
        if inode.is_encrypted() || inode.kind() != Type::File {
            return Err("it is encrypted, or no file");
        }
        let places = mounted.fs.content(&inode).places();
        Ok((mounted.volume, places.ok_or("part of it has no place of its own on the disk")?))
    }

    fn mount_of_name(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<u64> {
        match self.at(dir) {
            Some(at) => Ok(DEVICES + u64::from(self.child(at, name)?.fs)),
            None => LiveDisk.mount_of_name(dir, name),
        }
    }

    fn read(&self, file: BorrowedFd<'_>, into: &mut [u8]) -> io::Result<usize> {
        if self.at(file).is_none() {
            return LiveDisk.read(file, into);
        }
        let place = rustix::fs::tell(file)?;
        let read = self.read_at(file, place, into)?;
        rustix::fs::seek(file, SeekFrom::Start(place + read as u64))?;
        Ok(read)
    }

    fn read_at(&self, file: BorrowedFd<'_>, at: u64, into: &mut [u8]) -> io::Result<usize> {
        let Some(found) = self.at(file) else { return LiveDisk.read_at(file, at, into) };
        let inode = self.inode(found)?;
        if inode.is_encrypted() {
            return Err(Errno::NOKEY.into());
        }
        self.systems[found.fs as usize].fs.content(&inode).read_at(at, into)
    }

    fn written_after(&self, file: BorrowedFd<'_>, at: u64) -> io::Result<Option<Range<u64>>> {
        let Some(found) = self.at(file) else { return LiveDisk.written_after(file, at) };
        let inode = self.inode(found)?;
        Ok(self.systems[found.fs as usize].fs.content(&inode).written_after(at))
    }

    fn read_link(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<Vec<u8>> {
        let Some(at) = self.at(dir) else { return LiveDisk.read_link(dir, name) };
        let found = self.child(at, name)?;
        let inode = self.inode(found)?;
        match inode.kind() {
            Type::Link => self.systems[found.fs as usize].fs.target(&inode),
            _ => Err(Errno::INVAL.into()),
        }
    }

    fn list(&self, dir: BorrowedFd<'_>) -> io::Result<Vec<(Vec<u8>, Option<FileKind>)>> {
        let Some(at) = self.at(dir) else { return LiveDisk.list(dir) };
        Ok(self.names(at)?.keys().map(|name| (name.clone(), None)).collect())
    }

    fn xattrs(&self, file: BorrowedFd<'_>) -> io::Result<Vec<(OsString, Vec<u8>)>> {
        if self.at(file).is_some() { Err(Errno::NOTSUP.into()) } else { LiveDisk.xattrs(file) }
    }

    fn has_capabilities(&self, file: BorrowedFd<'_>) -> io::Result<bool> {
        if self.at(file).is_some() { Err(Errno::NOTSUP.into()) } else { LiveDisk.has_capabilities(file) }
    }

    fn flags(&self, file: BorrowedFd<'_>) -> io::Result<Option<u32>> {
        if self.at(file).is_some() { Ok(None) } else { LiveDisk.flags(file) }
    }

    fn room(&self, dir: BorrowedFd<'_>) -> io::Result<FreeSpace> {
        let Some(at) = self.at(dir) else { return LiveDisk.room(dir) };
        let fs = &self.systems.get(at.fs as usize).ok_or_else(bad_handle)?.fs;
        Ok(FreeSpace { bytes: 0, total: fs.size(), inodes: 0, block: fs.superblock.block_size, read_only: true })
    }

    fn forget(&self, file: BorrowedFd<'_>) -> io::Result<()> {
        if self.at(file).is_some() { Ok(()) } else { LiveDisk.forget(file) }
    }

    fn create(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<OwnedFd> {
        self.real(dir)?.create(dir, name)
    }

    fn open_append(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<OwnedFd> {
        self.real(dir)?.open_append(dir, name)
    }

    fn write(&self, file: BorrowedFd<'_>, bytes: &[u8]) -> io::Result<()> {
        self.real(file)?.write(file, bytes)
    }

    fn write_at(&self, file: BorrowedFd<'_>, at: u64, bytes: &[u8]) -> io::Result<()> {
        self.real(file)?.write_at(file, at, bytes)
    }

    fn make_dir(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<()> {
        self.real(dir)?.make_dir(dir, name)
    }

    fn make_link(&self, dir: BorrowedFd<'_>, name: &Name, target: &[u8]) -> io::Result<()> {
        self.real(dir)?.make_link(dir, name, target)
    }

    fn make_node(&self, dir: BorrowedFd<'_>, name: &Name, node: Node, mode: u32) -> io::Result<()> {
        self.real(dir)?.make_node(dir, name, node, mode)
    }

    fn hard_link(&self, from: BorrowedFd<'_>, old: &Name, to: BorrowedFd<'_>, new: &Name) -> io::Result<()> {
        self.real(to)?;
        self.real(from)?.hard_link(from, old, to, new)
    }

    fn rename(
        &self,
        from: BorrowedFd<'_>,
        old: &Name,
        to: BorrowedFd<'_>,
        new: &Name,
        how: Exchange,
    ) -> io::Result<()> {
        self.real(to)?;
        self.real(from)?.rename(from, old, to, new, how)
    }

    fn unlink(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<()> {
        self.real(dir)?.unlink(dir, name)
    }

    fn remove_dir(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<()> {
        self.real(dir)?.remove_dir(dir, name)
    }

    fn set_owner(&self, dir: BorrowedFd<'_>, name: &Name, uid: u32, gid: u32) -> io::Result<()> {
        self.real(dir)?.set_owner(dir, name, uid, gid)
    }

    fn set_mode(&self, file: BorrowedFd<'_>, mode: u32) -> io::Result<()> {
        self.real(file)?.set_mode(file, mode)
    }

    fn set_mtime(&self, dir: BorrowedFd<'_>, name: &Name, mtime: Instant) -> io::Result<()> {
        self.real(dir)?.set_mtime(dir, name, mtime)
    }

    fn set_xattr(&self, file: BorrowedFd<'_>, name: &OsStr, value: &[u8]) -> io::Result<()> {
        self.real(file)?.set_xattr(file, name, value)
    }

    fn set_flags(&self, file: BorrowedFd<'_>, flags: u32) -> io::Result<()> {
        self.real(file)?.set_flags(file, flags)
    }

    fn truncate(&self, file: BorrowedFd<'_>, len: u64) -> io::Result<()> {
        self.real(file)?.truncate(file, len)
    }

    fn sync(&self, file: BorrowedFd<'_>) -> io::Result<()> {
        self.real(file)?.sync(file)
    }

    fn sync_all(&self, dir: BorrowedFd<'_>) -> io::Result<()> {
        self.real(dir)?.sync_all(dir)
    }
}
