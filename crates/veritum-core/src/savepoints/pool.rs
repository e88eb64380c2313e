//! [`Pool`]: the contents of one file system, by digest.
//!
//! A content is one file, `ab/REST` by its BLAKE3 digest: a hard link, a clone or a copy; or `ab/REST.zst`, a compressed copy where that takes
//! fewer blocks. Whether a file still has its content is known by its status, as recorded when it was last verified. Nothing but its name is ever changed: a hard link's inode belongs to the running system.

use std::io;
use std::os::fd::{AsFd as _, BorrowedFd};
use std::sync::atomic::{AtomicBool, Ordering};

use rustix::io::Errno;

use super::index::{Form, Held, Index, name_of};
use super::read::SystemRead;
use crate::machine::{Dir, Exchange, FreeSpace, SparseWriter, read_to_limit};
use crate::model::{ContentHasher, Digest, FileKind, Stat};
use crate::plan::KeptFolder;

/// Larger copies are not compressed: they would have to be in memory.
const MAX_PACKED: u64 = 64 << 20;
/// The level of zstd for copies.
const LEVEL: i32 = 3;
/// The number of bytes read at once.
const PIECE: usize = 256 << 10;
/// The permissions of its folder.
const PRIVATE: u32 = 0o700;
/// The end of the name of a copy that is being written.
const NEW: &str = ".new";

/// How a content was added.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Added {
    /// By a hard link: the inode's status afterwards.
    Linked(Stat),
    /// By a clone or a copy.
    Copied,
}

/// The contents of one file system.
#[derive(Debug)]
pub(super) struct Pool {
    pub(super) folder: KeptFolder,
    dir: Dir,
    index: Index,
    /// Whether the file system is not known to be unable to clone files.
    clones: AtomicBool,
    links: bool,
}

impl Pool {
    /// Opens a pool's folder and examines its files; see [`Index::read`].
    pub(super) fn open(
        folder: KeptFolder,
        dir: Dir,
        system: Option<&SystemRead>,
        threads: &rayon::ThreadPool,
    ) -> io::Result<Self> {
        let links = !dir.disk().is_overlay(dir.fd())?;
        // An overlay's folders list other inodes than its files have.
        let index = Index::read(&dir, system.filter(|_| links), threads)?;
        Ok(Self { folder, dir, index, clones: AtomicBool::new(true), links })
    }

    /// The file of a content, as it was when the pool was opened or the content added.
    pub(super) fn held(&self, digest: &Digest) -> Option<Held> {
        self.index.get(digest)
    }

    /// Which contents it has.
    pub(super) fn index(&self) -> &Index {
        &self.index
    }

    fn fan(&self, digest: &Digest) -> io::Result<Dir> {
        let fan = &digest.to_hex()[..2];
        Ok(self.dir.beside(self.dir.disk().open_dir(self.dir.fd(), fan.as_bytes())?))
    }

    /// Creates the folder of a content; several threads may do so at once.
    fn make_fan(&self, digest: &Digest) -> io::Result<Dir> {
        match self.fan(digest) {
            Err(e) if e.kind() == io::ErrorKind::NotFound => {
                match self.dir.disk().make_dir(self.dir.fd(), &digest.to_hex().as_bytes()[..2]) {
                    Err(e) if e.kind() != io::ErrorKind::AlreadyExists => return Err(e),
                    _ => {}
                }
                self.fan(digest)
            }
            other => other,
        }
    }

    /// Adds the content of an open file. `linkable` has its folder and name if a hard link to it may be made; `stat` is its status
    /// when its digest was computed.
    ///
    /// # Errors
    /// When it cannot be written; `InvalidData` when the file is no longer as it was.
    pub(super) fn add(
        &self,
        digest: &Digest,
        file: BorrowedFd<'_>,
        stat: &Stat,
        linkable: Option<(&Dir, &[u8])>,
    ) -> io::Result<Added> {
        let (fan, hex) = (self.make_fan(digest)?, digest.to_hex());
        let name = &hex[2..];
        if self.clones.load(Ordering::Relaxed) {
            match self.clone_in(&fan, name, file, stat) {
                Ok(()) => return self.added(digest, &fan, Form::Plain).map(|_| Added::Copied),
                Err(e) if e.kind() == io::ErrorKind::InvalidData => return Err(e),
                Err(e) if cannot_clone(&e) => self.clones.store(false, Ordering::Relaxed),
                Err(e) => return Err(e),
            }
        }
        if let Some((dir, old)) = linkable.filter(|_| self.links)
            && link_in(dir, old, &fan, name, stat)?
        {
            return self.added(digest, &fan, Form::Plain).map(Added::Linked);
        }
        let form = self.copy_in(&fan, name, file, digest, stat.size)?;
        self.added(digest, &fan, form).map(|_| Added::Copied)
    }

    fn added(&self, digest: &Digest, fan: &Dir, form: Form) -> io::Result<Stat> {
        let stat = fan.disk().look(fan.fd(), name_of(digest, form).as_bytes())?;
        self.index.insert(*digest, Held { form, stat });
        Ok(stat)
    }

    fn clone_in(&self, fan: &Dir, name: &str, file: BorrowedFd<'_>, stat: &Stat) -> io::Result<()> {
        let (new, disk) = (format!("{name}{NEW}"), fan.disk());
        let to = create(fan, &new)?;
        let done = disk.clone_file(file, to.as_fd()).and_then(|()| disk.look_open(file)).and_then(|now| {
            let same = (now.size, now.mtime, now.ctime) == (stat.size, stat.mtime, stat.ctime);
            if same { into_place(fan, &new, name) } else { Err(io::ErrorKind::InvalidData.into()) }
        });
        if done.is_err() {
            let _ = disk.unlink(fan.fd(), new.as_bytes());
        }
        done
    }

    fn copy_in(&self, fan: &Dir, name: &str, file: BorrowedFd<'_>, digest: &Digest, size: u64) -> io::Result<Form> {
        let block = self.dir.disk().room(self.dir.fd())?.block;
        let blocks = |bytes: u64| bytes.div_ceil(block);
        let packed = match size > block && size <= MAX_PACKED {
            true => {
                let bytes = read_all(fan, file, size)?;
                if Digest::hash(&bytes) != *digest {
                    return Err(io::ErrorKind::InvalidData.into());
                }
                Some(zstd::bulk::compress(&bytes, LEVEL)?).filter(|packed| blocks(packed.len() as u64) < blocks(size))
            }
            false => None,
        };
        let form = if packed.is_some() { Form::Packed } else { Form::Plain };
        let (new, name) = (format!("{name}{NEW}"), name_of(digest, form));
        let to = create(fan, &new)?;
        let written = match &packed {
            Some(packed) => fan.disk().write(to.as_fd(), packed),
            None => copy_all(fan, file, to.as_fd(), digest),
        };
        let done = written.and_then(|()| into_place(fan, &new, &name));
        if let Err(e) = done {
            let _ = fan.disk().unlink(fan.fd(), new.as_bytes());
            return Err(e);
        }
        Ok(form)
    }

    /// Passes on a content in pieces; the error at the end says that they were not the right ones.
    pub(super) fn copy(
        &self,
        digest: &Digest,
        size: u64,
        to: &mut dyn FnMut(&[u8]) -> io::Result<()>,
    ) -> io::Result<()> {
        let form = self.held(digest).ok_or(io::ErrorKind::NotFound)?.form;
        let (fan, name) = (self.fan(digest)?, name_of(digest, form));
        let (file, stat) = fan.disk().open_seen(fan.fd(), name.as_bytes())?;
        let bad = || io::Error::from(io::ErrorKind::InvalidData);
        let mut hasher = ContentHasher::blake3();
        match form {
            Form::Packed => {
                let packed = read_to_limit(fan.disk(), file.as_fd(), MAX_PACKED)?;
                let bytes = zstd::bulk::decompress(&packed, usize::try_from(size.min(MAX_PACKED)).unwrap_or(0));
                let bytes = bytes.map_err(|_| bad())?;
                hasher.update(&bytes);
                to(&bytes)?;
            }
            Form::Plain if stat.size != size => return Err(bad()),
            Form::Plain => {
                let mut left = size;
                let mut piece = vec![0; PIECE];
                while left > 0 {
                    let n = fan.disk().read(file.as_fd(), &mut piece)?;
                    left = left.checked_sub(n as u64).filter(|_| n > 0).ok_or_else(bad)?;
                    hasher.update(&piece[..n]);
                    to(&piece[..n])?;
                }
            }
        }
        if hasher.finish().0 == Some(*digest) { Ok(()) } else { Err(bad()) }
    }

    /// Whether a content is there and whole.
    pub(super) fn verify(&self, digest: &Digest, size: u64) -> bool {
        self.copy(digest, size, &mut |_| Ok(())).is_ok()
    }

    /// Removes a content. Returns its inode's status before and after if something else still has it.
    pub(super) fn remove(&self, digest: &Digest) -> io::Result<Option<(Stat, Stat)>> {
        let Some(form) = self.index.remove(digest) else { return Ok(None) };
        remove_name(&self.fan(digest)?, name_of(digest, form).as_bytes())
    }

    /// Removes what an interruption left.
    pub(super) fn remove_incomplete(&self) -> io::Result<()> {
        for (fan, kind) in self.dir.disk().list(self.dir.fd())? {
            if kind == Some(FileKind::File) {
                continue;
            }
            let inner = self.dir.beside(self.dir.disk().open_dir(self.dir.fd(), &fan)?);
            for (name, _) in inner.disk().list(inner.fd())? {
                if name.ends_with(NEW.as_bytes()) {
                    inner.disk().unlink(inner.fd(), &name)?;
                }
            }
        }
        Ok(())
    }

    /// Makes its folder private again where someone opened it to others: the permissions of the files in it do not matter then.
    pub(super) fn make_private(&self) -> io::Result<()> {
        match self.dir.look_self()?.mode & 0o7777 {
            PRIVATE => Ok(()),
            _ => self.dir.disk().set_mode(self.dir.fd(), PRIVATE),
        }
    }

    /// Its file system's free space.
    pub(super) fn room(&self) -> io::Result<FreeSpace> {
        self.dir.disk().room(self.dir.fd())
    }

    /// Whether hard links are made there rather than copies.
    pub(super) fn is_linking(&self) -> bool {
        self.links
    }

    /// Makes everything durable.
    pub(super) fn sync(&self) -> io::Result<()> {
        self.dir.disk().sync_all(self.dir.fd())
    }
}

/// Removes a name in the pool; see [`Pool::remove`].
fn remove_name(fan: &Dir, name: &[u8]) -> io::Result<Option<(Stat, Stat)>> {
    let disk = fan.disk();
    // Held open, so that the change time after it can be read; not everything there can be opened.
    let held = disk.open_seen(fan.fd(), name).ok();
    match disk.unlink(fan.fd(), name) {
        Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(None),
        other => other?,
    }
    let Some((file, before)) = held else { return Ok(None) };
    let after = disk.look_open(file.as_fd())?;
    Ok((after.names > 0).then_some((before, after)))
}

/// Creates a private file, in place of what an interruption left.
fn create(fan: &Dir, name: &str) -> io::Result<std::os::fd::OwnedFd> {
    match fan.disk().create(fan.fd(), name.as_bytes()) {
        Err(e) if e.kind() == io::ErrorKind::AlreadyExists => {
            fan.disk().unlink(fan.fd(), name.as_bytes())?;
            fan.disk().create(fan.fd(), name.as_bytes())
        }
        other => other,
    }
}

fn into_place(fan: &Dir, new: &str, name: &str) -> io::Result<()> {
    fan.disk().rename(fan.fd(), new.as_bytes(), fan.fd(), name.as_bytes(), Exchange::Replace)
}

/// Makes a hard link; returns `false` where that is not possible.
fn link_in(dir: &Dir, old: &[u8], fan: &Dir, name: &str, stat: &Stat) -> io::Result<bool> {
    let disk = fan.disk();
    match disk.hard_link(dir.fd(), old, fan.fd(), name.as_bytes()) {
        Err(e) if e.kind() == io::ErrorKind::AlreadyExists => {
            remove_name(fan, name.as_bytes())?;
            disk.hard_link(dir.fd(), old, fan.fd(), name.as_bytes())?;
        }
        Err(e) if cannot_link(&e) => return Ok(false),
        other => other?,
    }
    let now = disk.look(fan.fd(), name.as_bytes())?;
    if (now.id, now.size, now.mtime) != (stat.id, stat.size, stat.mtime) {
        disk.unlink(fan.fd(), name.as_bytes())?;
        return Err(io::ErrorKind::InvalidData.into());
    }
    Ok(true)
}

fn is_any(error: &io::Error, kinds: &[Errno]) -> bool {
    kinds.iter().any(|kind| error.raw_os_error() == Some(kind.raw_os_error()))
}

/// Whether an error means that files cannot be cloned there: not supported, across file systems, or not these two.
fn cannot_clone(error: &io::Error) -> bool {
    is_any(error, &[Errno::NOTSUP, Errno::NOTTY, Errno::XDEV, Errno::INVAL, Errno::NOSYS, Errno::PERM])
}

/// Whether an error means that no hard link to this file can be made there.
fn cannot_link(error: &io::Error) -> bool {
    is_any(error, &[Errno::NOTSUP, Errno::XDEV, Errno::MLINK, Errno::PERM, Errno::NOSYS])
}

fn read_all(dir: &Dir, file: BorrowedFd<'_>, size: u64) -> io::Result<Vec<u8>> {
    let mut bytes = vec![0; usize::try_from(size).map_err(|_| io::ErrorKind::FileTooLarge)?];
    let n = dir.disk().read_at(file, 0, &mut bytes)?;
    bytes.truncate(n);
    Ok(bytes)
}

fn copy_all(dir: &Dir, from: BorrowedFd<'_>, to: BorrowedFd<'_>, digest: &Digest) -> io::Result<()> {
    let (disk, mut hasher, mut piece, mut at) = (dir.disk(), ContentHasher::blake3(), vec![0; PIECE], 0);
    let mut sparse = SparseWriter::new(disk, to);
    loop {
        let n = disk.read_at(from, at, &mut piece)?;
        if n == 0 {
            break;
        }
        at += n as u64;
        hasher.update(&piece[..n]);
        sparse.add(&piece[..n])?;
    }
    sparse.finish()?;
    if hasher.finish().0 == Some(*digest) { Ok(()) } else { Err(io::ErrorKind::InvalidData.into()) }
}
