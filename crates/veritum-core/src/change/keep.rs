//! Kept contents: what a change displaced, moved aside on the same file system.

use std::io;
use std::os::fd::AsFd;

use super::round::Desk;
use super::spot::{Care, move_to_free};
use super::state::make_folder;
use crate::model::{ContentHasher, Digest, FileKind, LinkTarget, SystemPath};
use crate::plan::{KeptFolder, Placed};
use crate::target::{Dir, Machine};

/// Displaced files over this size are told by their numbers alone: a terabyte hole must not be read for hours.
const MAX_DIGESTED: u64 = 4 << 30;

/// The name of what an action displaced.
pub(super) fn kept_name(round: u32, index: u32) -> Vec<u8> {
    format!("{round}-{index}").into_bytes()
}

/// Within what a rename moves things: one mount, and on it one device (a btrfs subvolume is its own).
fn within(dir: &Dir) -> io::Result<(u64, u64)> {
    Ok((dir.disk().mount_of(dir.fd())?, dir.look_self()?.id.dev))
}

/// In which kept folder what is displaced in a folder goes: one from which moving is one rename.
pub(super) fn folder_for(desk: &Desk<'_>, parent: &SystemPath) -> io::Result<KeptFolder> {
    let here = within(&desk.machine.dir(parent)?)?;
    if within(desk.state.dir())? == here {
        return Ok(KeptFolder::State);
    }
    let mut top = parent.clone();
    while let Some(above) = top.parent() {
        if within(&desk.machine.dir(&above)?)? != here {
            break;
        }
        top = above;
    }
    Ok(KeptFolder::Top(top))
}

/// Opens the kept folder of a change.
pub(super) fn kept_dir(desk: &Desk<'_>, folder: &KeptFolder, change: u64) -> io::Result<Dir> {
    match folder {
        KeptFolder::State => desk.state.sub(desk.machine, &format!("kept/{change}")),
        KeptFolder::Top(top) => {
            let top = private(desk.machine, &desk.machine.dir(top)?)?;
            Ok(desk.machine.wrap(top.disk().open_dir(top.fd(), change.to_string().as_bytes())?))
        }
    }
}

fn private(machine: &Machine, top: &Dir) -> io::Result<Dir> {
    let dir = machine.wrap(top.disk().open_dir(top.fd(), b".veritum-kept")?);
    let (ours, above) = (dir.look_self()?, top.look_self()?);
    if ours.uid != above.uid || ours.mode & 0o077 != 0 {
        return Err(io::Error::new(io::ErrorKind::PermissionDenied, ".veritum-kept is not a private folder"));
    }
    Ok(dir)
}

/// Opens the kept folder of a change, and makes it when it is not there.
pub(super) fn make_kept_dir(desk: &Desk<'_>, folder: &KeptFolder, change: u64) -> io::Result<Dir> {
    match folder {
        KeptFolder::State => desk.state.make_sub(desk.machine, &format!("kept/{change}")),
        KeptFolder::Top(top) => {
            let top = desk.machine.dir(top)?;
            let before = top.look_self()?.mtime;
            if top.look(b".veritum-kept")?.is_none() {
                make_folder(desk.machine, &top, b".veritum-kept")?;
                let _ = top.disk().set_mtime(top.fd(), b"", before);
            }
            make_folder(desk.machine, &private(desk.machine, &top)?, change.to_string().as_bytes())
        }
    }
}

/// Moves a displaced thing to the kept contents.
pub(super) fn keep(from: &Dir, name: &[u8], to: &Dir, kept: &[u8]) -> io::Result<()> {
    match move_to_free(from, name, to, kept, Care::Looked) {
        Err(e) if e.raw_os_error() == Some(rustix::io::Errno::XDEV.raw_os_error()) => copy_out(from, name, to, kept),
        other => other,
    }
}

fn part_name(name: &[u8]) -> Vec<u8> {
    [name, b".part"].concat()
}

/// Takes away the beginning of a copy that a cut left; what it is a copy of has not left its place then.
pub(super) fn discard_part(to: &Dir, name: &[u8]) -> io::Result<()> {
    let part = part_name(name);
    if to.look(&part)?.is_some() { to.disk().unlink(to.fd(), &part) } else { Ok(()) }
}

/// Where a rename is not to be had (layers of an overlay): a whole, durable copy first, then the name goes.
fn copy_out(from: &Dir, name: &[u8], to: &Dir, kept: &[u8]) -> io::Result<()> {
    let disk = from.disk();
    let stat = disk.look(from.fd(), name)?;
    let part = part_name(kept);
    discard_part(to, kept)?;
    match stat.kind {
        FileKind::Link => {
            disk.make_link(to.fd(), &part, &disk.read_link(from.fd(), name)?)?;
            disk.set_owner(to.fd(), &part, stat.uid, stat.gid)?;
            disk.set_mtime(to.fd(), &part, stat.mtime)?;
        }
        FileKind::File => {
            let (old, new) = (disk.open_file(from.fd(), name)?, disk.create(to.fd(), &part)?);
            let mut piece = vec![0; 256 * 1024];
            loop {
                let n = disk.read(old.as_fd(), &mut piece)?;
                if n == 0 {
                    break;
                }
                disk.write(new.as_fd(), &piece[..n])?;
            }
            disk.set_owner(to.fd(), &part, stat.uid, stat.gid)?;
            disk.set_mode(new.as_fd(), stat.mode)?;
            for (attribute, value) in disk.xattrs(old.as_fd())? {
                disk.set_xattr(new.as_fd(), &attribute, &value)?;
            }
            disk.set_mtime(to.fd(), &part, stat.mtime)?;
            disk.sync(new.as_fd())?;
        }
        _ => {
            return Err(io::Error::new(
                io::ErrorKind::CrossesDevices,
                "this file system cannot move it to the kept contents",
            ));
        }
    }
    move_to_free(to, &part, to, kept, Care::Looked)?;
    disk.sync(to.fd())?;
    disk.unlink(from.fd(), name)
}

/// The digest of a regular file's content; none for anything else.
pub(super) fn digest_of(dir: &Dir, name: &[u8]) -> io::Result<Option<Digest>> {
    if dir.disk().look(dir.fd(), name)?.kind != FileKind::File {
        return Ok(None);
    }
    let file = dir.disk().open_file(dir.fd(), name)?;
    let mut hasher = ContentHasher::blake3();
    let mut piece = vec![0; 128 * 1024];
    loop {
        let n = dir.disk().read(file.as_fd(), &mut piece)?;
        if n == 0 {
            return Ok(hasher.finish().0);
        }
        hasher.update(&piece[..n]);
    }
}

/// What stands at a name, as it is written into the journal. Content that cannot be read has no digest.
pub(super) fn placed(dir: &Dir, name: &[u8]) -> io::Result<Option<Placed>> {
    let Some(stat) = dir.look(name)? else { return Ok(None) };
    let digest = if stat.size <= MAX_DIGESTED { digest_of(dir, name).unwrap_or(None) } else { None };
    let link = stat.kind == FileKind::Link;
    let target = link.then(|| dir.disk().read_link(dir.fd(), name)).transpose()?.map(LinkTarget);
    Ok(Some(Placed { stat, digest, target }))
}
