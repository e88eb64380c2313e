//! [`Disk`] by another process: every operation is done with that process's rights.

use std::ffi::{OsStr, OsString};
use std::io;
use std::ops::Range;
use std::os::fd::{BorrowedFd, OwnedFd};
use std::os::unix::ffi::{OsStrExt as _, OsStringExt as _};
use std::path::Path;

use super::Owner;
use super::wire::{Call, How, Reply};
use crate::machine::{Disk, Exchange, FreeSpace, LiveDisk, Name, Node};
use crate::model::{FileKind, Instant, Stat};

/// At most so much of a file is read in one call, in bytes.
const PIECE: usize = 256 << 10;

fn other_answer<T>() -> io::Result<T> {
    Err(io::Error::new(io::ErrorKind::InvalidData, "unexpected answer from the helper process of the home's owner"))
}

impl Owner {
    fn done(&self, call: &Call, bytes: &[u8], handles: &[BorrowedFd<'_>]) -> io::Result<()> {
        match self.call(call, bytes, handles)? {
            (Reply::Nothing, ..) => Ok(()),
            _ => other_answer(),
        }
    }

    fn opened(&self, call: &Call, dir: BorrowedFd<'_>) -> io::Result<OwnedFd> {
        match self.call(call, &[], &[dir])? {
            (Reply::Nothing, _, Some(fd)) => Ok(fd),
            _ => other_answer(),
        }
    }

    fn stat(&self, call: &Call, of: BorrowedFd<'_>) -> io::Result<Stat> {
        match self.call(call, &[], &[of])? {
            (Reply::Stat(stat), ..) => Ok(stat),
            _ => other_answer(),
        }
    }

    fn number(&self, call: &Call, of: BorrowedFd<'_>) -> io::Result<u64> {
        match self.call(call, &[], &[of])? {
            (Reply::Number(number), ..) => Ok(number),
            _ => other_answer(),
        }
    }

    fn bytes(&self, call: &Call, of: BorrowedFd<'_>) -> io::Result<Vec<u8>> {
        match self.call(call, &[], &[of])? {
            (Reply::Bytes, bytes, _) => Ok(bytes),
            _ => other_answer(),
        }
    }
}

impl Disk for Owner {
    /// Refused: handles are passed to the child.
    fn open_root(&self, _: &Path) -> io::Result<OwnedFd> {
        Err(io::ErrorKind::Unsupported.into())
    }

    fn open_dir(&self, root: BorrowedFd<'_>, path: &Name) -> io::Result<OwnedFd> {
        self.opened(&Call::OpenDir(path.to_vec()), root)
    }

    fn open_seen(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<(OwnedFd, Stat)> {
        match self.call(&Call::OpenSeen(name.to_vec()), &[], &[dir])? {
            (Reply::Stat(stat), _, Some(fd)) => Ok((fd, stat)),
            _ => other_answer(),
        }
    }

    fn look(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<Stat> {
        self.stat(&Call::Look(name.to_vec()), dir)
    }

    fn look_open(&self, file: BorrowedFd<'_>) -> io::Result<Stat> {
        self.stat(&Call::LookOpen, file)
    }

    fn mount_of(&self, file: BorrowedFd<'_>) -> io::Result<u64> {
        self.number(&Call::MountOf, file)
    }

    fn mount_of_name(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<u64> {
        self.number(&Call::MountOfName(name.to_vec()), dir)
    }

    fn read(&self, file: BorrowedFd<'_>, into: &mut [u8]) -> io::Result<usize> {
        let most = into.len().min(PIECE);
        let bytes = self.bytes(&Call::Read(most), file)?;
        match into.get_mut(..bytes.len()) {
            Some(place) => place.copy_from_slice(&bytes),
            None => return other_answer(),
        }
        Ok(bytes.len())
    }

    /// By this process: what may be done with a handle was decided when the owner opened it.
    fn read_at(&self, file: BorrowedFd<'_>, at: u64, into: &mut [u8]) -> io::Result<usize> {
        LiveDisk.read_at(file, at, into)
    }

    fn written_after(&self, file: BorrowedFd<'_>, at: u64) -> io::Result<Option<Range<u64>>> {
        LiveDisk.written_after(file, at)
    }

    fn read_link(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<Vec<u8>> {
        self.bytes(&Call::ReadLink(name.to_vec()), dir)
    }

    fn list(&self, dir: BorrowedFd<'_>) -> io::Result<Vec<(Vec<u8>, Option<FileKind>)>> {
        let names = match self.call(&Call::List, &[], &[dir])? {
            (Reply::Names(names), ..) => names,
            _ => return other_answer(),
        };
        // A name that contains a slash would leave the folder.
        let plain = |name: &[u8]| !name.is_empty() && name != b"." && name != b".." && !name.contains(&b'/');
        if names.iter().all(|(name, _)| plain(name)) { Ok(names) } else { other_answer() }
    }

    fn xattrs(&self, file: BorrowedFd<'_>) -> io::Result<Vec<(OsString, Vec<u8>)>> {
        match self.call(&Call::Xattrs, &[], &[file])? {
            (Reply::Xattrs(all), ..) => {
                Ok(all.into_iter().map(|(name, value)| (OsString::from_vec(name), value)).collect())
            }
            _ => other_answer(),
        }
    }

    fn has_capabilities(&self, file: BorrowedFd<'_>) -> io::Result<bool> {
        match self.call(&Call::HasCapabilities, &[], &[file])? {
            (Reply::Yes(yes), ..) => Ok(yes),
            _ => other_answer(),
        }
    }

    fn flags(&self, file: BorrowedFd<'_>) -> io::Result<Option<u32>> {
        match self.call(&Call::Flags, &[], &[file])? {
            (Reply::Flags(flags), ..) => Ok(flags),
            _ => other_answer(),
        }
    }

    fn room(&self, dir: BorrowedFd<'_>) -> io::Result<FreeSpace> {
        match self.call(&Call::FreeSpace, &[], &[dir])? {
            (Reply::FreeSpace { bytes, total, inodes, block, read_only }, ..) => {
                Ok(FreeSpace { bytes, total, inodes, block, read_only })
            }
            _ => other_answer(),
        }
    }

    fn forget(&self, file: BorrowedFd<'_>) -> io::Result<()> {
        self.done(&Call::Forget, &[], &[file])
    }

    fn create(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<OwnedFd> {
        self.opened(&Call::Create(name.to_vec()), dir)
    }

    fn open_append(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<OwnedFd> {
        self.opened(&Call::OpenAppend(name.to_vec()), dir)
    }

    fn write(&self, file: BorrowedFd<'_>, bytes: &[u8]) -> io::Result<()> {
        bytes.chunks(PIECE).try_for_each(|piece| self.done(&Call::Write, piece, &[file]))
    }

    fn write_at(&self, file: BorrowedFd<'_>, at: u64, bytes: &[u8]) -> io::Result<()> {
        LiveDisk.write_at(file, at, bytes)
    }

    fn make_dir(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<()> {
        self.done(&Call::MakeDir(name.to_vec()), &[], &[dir])
    }

    fn make_link(&self, dir: BorrowedFd<'_>, name: &Name, target: &[u8]) -> io::Result<()> {
        self.done(&Call::MakeLink(name.to_vec(), target.to_vec()), &[], &[dir])
    }

    /// Refused: Veritum creates no pipes or devices in a home.
    fn make_node(&self, _: BorrowedFd<'_>, _: &Name, _: Node, _: u32) -> io::Result<()> {
        Err(io::ErrorKind::Unsupported.into())
    }

    fn hard_link(&self, from: BorrowedFd<'_>, old: &Name, to: BorrowedFd<'_>, new: &Name) -> io::Result<()> {
        self.done(&Call::HardLink(old.to_vec(), new.to_vec()), &[], &[from, to])
    }

    fn rename(
        &self,
        from: BorrowedFd<'_>,
        old: &Name,
        to: BorrowedFd<'_>,
        new: &Name,
        how: Exchange,
    ) -> io::Result<()> {
        let how = match how {
            Exchange::Swap => How::Swap,
            Exchange::IntoNothing => How::IntoNothing,
            Exchange::Replace => How::Replace,
        };
        self.done(&Call::Rename(old.to_vec(), new.to_vec(), how), &[], &[from, to])
    }

    fn unlink(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<()> {
        self.done(&Call::Unlink(name.to_vec()), &[], &[dir])
    }

    fn remove_dir(&self, dir: BorrowedFd<'_>, name: &Name) -> io::Result<()> {
        self.done(&Call::RemoveDir(name.to_vec()), &[], &[dir])
    }

    fn set_owner(&self, dir: BorrowedFd<'_>, name: &Name, uid: u32, gid: u32) -> io::Result<()> {
        self.done(&Call::SetOwner(name.to_vec(), uid, gid), &[], &[dir])
    }

    fn set_mode(&self, file: BorrowedFd<'_>, mode: u32) -> io::Result<()> {
        self.done(&Call::SetMode(mode), &[], &[file])
    }

    fn set_mtime(&self, dir: BorrowedFd<'_>, name: &Name, mtime: Instant) -> io::Result<()> {
        self.done(&Call::SetMtime(name.to_vec(), mtime), &[], &[dir])
    }

    fn set_xattr(&self, file: BorrowedFd<'_>, name: &OsStr, value: &[u8]) -> io::Result<()> {
        self.done(&Call::SetXattr(name.as_bytes().to_vec()), value, &[file])
    }

    fn set_flags(&self, file: BorrowedFd<'_>, flags: u32) -> io::Result<()> {
        self.done(&Call::SetFlags(flags), &[], &[file])
    }

    fn truncate(&self, file: BorrowedFd<'_>, len: u64) -> io::Result<()> {
        self.done(&Call::Truncate(len), &[], &[file])
    }

    fn sync(&self, file: BorrowedFd<'_>) -> io::Result<()> {
        self.done(&Call::Sync, &[], &[file])
    }

    fn sync_all(&self, dir: BorrowedFd<'_>) -> io::Result<()> {
        self.done(&Call::SyncAll, &[], &[dir])
    }
}
