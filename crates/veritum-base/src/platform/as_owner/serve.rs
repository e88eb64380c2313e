//! The child's side: carries out requests until the parent has ended.

use std::ffi::OsStr;
use std::io;
use std::os::fd::{AsFd as _, BorrowedFd, OwnedFd};
use std::os::unix::ffi::OsStrExt as _;
use std::sync::Arc;

use super::wire::{Call, How, Reply, receive, send};
use crate::machine::{Dir, Disk, Exchange};

/// At most so much is read in one call, in bytes.
const MAX_READ: usize = 1 << 20;

/// Answers a question about an open folder.
pub type Answering<'a> = dyn FnMut(&Dir, &[u8]) -> io::Result<Vec<u8>> + 'a;

/// Carries out requests from a socket until the other side closes it; `answer` answers questions.
///
/// # Errors
/// When the socket fails.
pub fn serve(socket: BorrowedFd<'_>, disk: &Arc<dyn Disk>, answer: &mut Answering<'_>) -> io::Result<()> {
    while let Some((call, bytes, handles)) = receive::<Call>(socket, &mut || Ok(()))? {
        let (said, bytes, handle) = match done(disk, call, bytes, handles, answer) {
            Ok(done) => done,
            Err(e) => (Reply::Failed(e.raw_os_error(), e.to_string()), Vec::new(), None),
        };
        let handles: Vec<BorrowedFd<'_>> = handle.iter().map(|fd| fd.as_fd()).collect();
        send(socket, &said, &bytes, &handles, &mut || Ok(()))?;
    }
    Ok(())
}

type Done = (Reply, Vec<u8>, Option<OwnedFd>);

fn done(
    disk: &Arc<dyn Disk>,
    call: Call,
    bytes: Vec<u8>,
    handles: Vec<OwnedFd>,
    answer: &mut Answering<'_>,
) -> io::Result<Done> {
    let first = handles.first().ok_or(io::ErrorKind::InvalidInput)?;
    if let Call::Ask = call {
        let dir = Dir::handed_over(disk.clone(), first.as_fd().try_clone_to_owned()?);
        return Ok((Reply::Bytes, answer(&dir, &bytes)?, None));
    }
    let (fd, second) = (first.as_fd(), handles.last().map_or(first.as_fd(), |fd| fd.as_fd()));
    looked(disk.as_ref(), &call, fd).unwrap_or_else(|| changed(disk.as_ref(), call, &bytes, fd, second))
}

fn plain(said: Reply) -> io::Result<Done> {
    Ok((said, Vec::new(), None))
}

/// Requests that change nothing; `None` for the others.
fn looked(disk: &dyn Disk, call: &Call, fd: BorrowedFd<'_>) -> Option<io::Result<Done>> {
    let bytes = |bytes: io::Result<Vec<u8>>| -> io::Result<Done> { Ok((Reply::Bytes, bytes?, None)) };
    let look = || -> io::Result<Option<Done>> {
        Ok(Some(match call {
            Call::OpenDir(path) => (Reply::Nothing, Vec::new(), Some(disk.open_dir(fd, path)?)),
            Call::OpenSeen(name) => {
                let (file, stat) = disk.open_seen(fd, name)?;
                (Reply::Stat(stat), Vec::new(), Some(file))
            }
            Call::Look(name) => plain(Reply::Stat(disk.look(fd, name)?))?,
            Call::LookOpen => plain(Reply::Stat(disk.look_open(fd)?))?,
            Call::MountOf => plain(Reply::Number(disk.mount_of(fd)?))?,
            Call::MountOfName(name) => plain(Reply::Number(disk.mount_of_name(fd, name)?))?,
            Call::Read(most) => {
                let mut piece = vec![0; (*most).min(MAX_READ)];
                let n = disk.read(fd, &mut piece)?;
                piece.truncate(n);
                bytes(Ok(piece))?
            }
            Call::ReadLink(name) => bytes(disk.read_link(fd, name))?,
            Call::List => plain(Reply::Names(disk.list(fd)?))?,
            Call::Xattrs => {
                let all = disk.xattrs(fd)?.into_iter().map(|(name, value)| (name.as_bytes().to_vec(), value));
                plain(Reply::Xattrs(all.collect()))?
            }
            Call::HasCapabilities => plain(Reply::Yes(disk.has_capabilities(fd)?))?,
            Call::Flags => plain(Reply::Flags(disk.flags(fd)?))?,
            Call::FreeSpace => {
                let room = disk.room(fd)?;
                plain(Reply::FreeSpace {
                    bytes: room.bytes,
                    total: room.total,
                    inodes: room.inodes,
                    block: room.block,
                    read_only: room.read_only,
                })?
            }
            _ => return Ok(None),
        }))
    };
    look().transpose()
}

fn changed(disk: &dyn Disk, call: Call, bytes: &[u8], fd: BorrowedFd<'_>, second: BorrowedFd<'_>) -> io::Result<Done> {
    match call {
        Call::Create(name) => return Ok((Reply::Nothing, Vec::new(), Some(disk.create(fd, &name)?))),
        Call::OpenAppend(name) => return Ok((Reply::Nothing, Vec::new(), Some(disk.open_append(fd, &name)?))),
        Call::Forget => disk.forget(fd)?,
        Call::Write => disk.write(fd, bytes)?,
        Call::MakeDir(name) => disk.make_dir(fd, &name)?,
        Call::MakeLink(name, target) => disk.make_link(fd, &name, &target)?,
        Call::HardLink(old, new) => disk.hard_link(fd, &old, second, &new)?,
        Call::Rename(old, new, how) => {
            let how = match how {
                How::Swap => Exchange::Swap,
                How::IntoNothing => Exchange::IntoNothing,
                How::Replace => Exchange::Replace,
            };
            disk.rename(fd, &old, second, &new, how)?;
        }
        Call::Unlink(name) => disk.unlink(fd, &name)?,
        Call::RemoveDir(name) => disk.remove_dir(fd, &name)?,
        Call::SetOwner(name, uid, gid) => disk.set_owner(fd, &name, uid, gid)?,
        Call::SetMode(mode) => disk.set_mode(fd, mode)?,
        Call::SetMtime(name, mtime) => disk.set_mtime(fd, &name, mtime)?,
        Call::SetXattr(name) => disk.set_xattr(fd, OsStr::from_bytes(&name), bytes)?,
        Call::SetFlags(flags) => disk.set_flags(fd, flags)?,
        Call::Truncate(len) => disk.truncate(fd, len)?,
        Call::Sync => disk.sync(fd)?,
        Call::SyncAll => disk.sync_all(fd)?,
        _ => return Err(io::ErrorKind::Unsupported.into()),
    }
    plain(Reply::Nothing)
}
