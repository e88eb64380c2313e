//! [`BackupSlot`]: the name of a backup, and moving objects there.

use std::io;
use std::os::fd::AsFd;

use super::moves::{Caution, move_to_free};
use super::state::make_folder;
use crate::machine::Dir;
use crate::model::{Digest, FileKind, LinkTarget, Stat};
use crate::plan::Placed;

/// Larger displaced files are recorded without their contents: a sparse terabyte must not be read for hours.
const MAX_DIGESTED: u64 = 4 << 30;

/// A name in an open folder, and the temporary name for a copy of it.
pub(super) struct BackupSlot {
    pub(super) dir: Dir,
    pub(super) name: Vec<u8>,
    part: Vec<u8>,
}

impl BackupSlot {
    /// A name made by Veritum.
    pub(super) fn ours(dir: &Dir, name: &[u8]) -> Self {
        Self { dir: dir.clone(), name: name.to_vec(), part: [name, b".part"].concat() }
    }

    /// A user's file name, which may have the maximum length.
    pub(super) fn of_a_user(dir: Dir, name: &[u8]) -> Self {
        Self { dir, name: name.to_vec(), part: b".veritum-part".to_vec() }
    }

    pub(super) fn look(&self) -> io::Result<Option<Stat>> {
        self.dir.look(&self.name)
    }

    pub(super) fn placed(&self) -> io::Result<Option<Placed>> {
        placed(&self.dir, &self.name)
    }

    /// Opens the folder that is kept there.
    pub(super) fn inner(&self) -> io::Result<Dir> {
        Ok(self.dir.beside(self.dir.disk().open_dir(self.dir.fd(), &self.name)?))
    }

    pub(super) fn sync(&self) -> io::Result<()> {
        self.dir.disk().sync(self.dir.fd())
    }

    pub(super) fn unlink(&self) -> io::Result<()> {
        self.dir.disk().unlink(self.dir.fd(), &self.name)
    }

    /// Removes an incomplete copy that an interruption left; the original is still in its place then.
    pub(super) fn discard_part(&self) -> io::Result<()> {
        if self.dir.look(&self.part)?.is_some() { self.dir.disk().unlink(self.dir.fd(), &self.part) } else { Ok(()) }
    }
}

pub(super) fn private(top: &Dir, name: &[u8]) -> io::Result<Dir> {
    let dir = top.beside(top.disk().open_dir(top.fd(), name)?);
    let (ours, above) = (dir.look_self()?, top.look_self()?);
    if ours.uid != above.uid || ours.mode & 0o077 != 0 {
        let why = format!("{} is not a private folder", crate::model::readable(name));
        return Err(io::Error::new(io::ErrorKind::PermissionDenied, why));
    }
    Ok(dir)
}

/// Gives a folder made by us to its owner, where we work with other rights than that owner's.
pub(super) fn give(above: &Dir, name: &[u8], (uid, gid): (u32, u32)) -> io::Result<()> {
    let made = above.disk().look(above.fd(), name)?;
    if made.uid == uid { Ok(()) } else { above.disk().set_owner(above.fd(), name, uid, gid) }
}

/// Creates a private folder if there is none; its parent's times are restored.
pub(super) fn make_private(top: &Dir, name: &[u8]) -> io::Result<Dir> {
    let before = top.look_self()?;
    if top.look(name)?.is_none() {
        make_folder(top, name)?;
        let _ = top.disk().set_mtime(top.fd(), b"", before.mtime);
    }
    // Also after an interruption between the two.
    if top.look(name)?.is_some_and(|stat| stat.kind == FileKind::Folder && stat.uid == 0) {
        give(top, name, (before.uid, before.gid))?;
    }
    private(top, name)
}

/// Moves an object to the backups, or back.
pub(super) fn keep(from: &Dir, name: &[u8], to: &BackupSlot) -> io::Result<()> {
    match move_to_free(from, name, &to.dir, &to.name, Caution::Looked) {
        Err(e) if e.raw_os_error() == Some(rustix::io::Errno::XDEV.raw_os_error()) => copy_out(from, name, to),
        other => other,
    }
}

/// Where a rename is not possible (layers of an overlay): a complete, durable copy first, then the name is removed.
fn copy_out(from: &Dir, name: &[u8], slot: &BackupSlot) -> io::Result<()> {
    let disk = from.disk();
    let stat = disk.look(from.fd(), name)?;
    slot.discard_part()?;
    let BackupSlot { dir: to, name: kept, part } = slot;
    match stat.kind {
        FileKind::Link => {
            disk.make_link(to.fd(), part, &disk.read_link(from.fd(), name)?)?;
            disk.set_owner(to.fd(), part, stat.uid, stat.gid)?;
            disk.set_mtime(to.fd(), part, stat.mtime)?;
        }
        FileKind::File => {
            let (old, new) = (disk.open_file(from.fd(), name)?, disk.create(to.fd(), part)?);
            let mut piece = vec![0; 256 * 1024];
            loop {
                let n = disk.read(old.as_fd(), &mut piece)?;
                if n == 0 {
                    break;
                }
                disk.write(new.as_fd(), &piece[..n])?;
            }
            disk.set_owner(to.fd(), part, stat.uid, stat.gid)?;
            disk.set_mode(new.as_fd(), stat.mode)?;
            for (attribute, value) in disk.xattrs(old.as_fd())? {
                disk.set_xattr(new.as_fd(), &attribute, &value)?;
            }
            disk.set_mtime(to.fd(), part, stat.mtime)?;
            disk.sync(new.as_fd())?;
        }
        _ => {
            return Err(io::Error::new(
                io::ErrorKind::CrossesDevices,
                "this file system cannot move it to the backups",
            ));
        }
    }
    move_to_free(to, part, to, kept, Caution::Looked)?;
    disk.sync(to.fd())?;
    disk.unlink(from.fd(), name)
}

/// The digest of a regular file's content; `None` for anything else.
pub(super) fn digest_of(dir: &Dir, name: &[u8]) -> io::Result<Option<Digest>> {
    if dir.disk().look(dir.fd(), name)?.kind != FileKind::File {
        return Ok(None);
    }
    dir.digest(name)
}

/// The object at a name, as recorded in the change log. Content that cannot be read has no digest.
pub(super) fn placed(dir: &Dir, name: &[u8]) -> io::Result<Option<Placed>> {
    let Some(stat) = dir.look(name)? else { return Ok(None) };
    let digest = if stat.size <= MAX_DIGESTED { digest_of(dir, name).unwrap_or(None) } else { None };
    let link = stat.kind == FileKind::Link;
    let target = link.then(|| dir.disk().read_link(dir.fd(), name)).transpose()?.map(LinkTarget);
    Ok(Some(Placed { stat, digest, target }))
}
