//! The messages between a process and its child: requests with open handles, and their answers.
//!
//! A message is a MessagePack header and raw bytes, sent as packets of a `SOCK_SEQPACKET` pair (unix(7)); handles travel with
//! the first packet. The child has the user's rights and is under that user's control: its answers are foreign bytes, and
//! a handle that it sends is only ever passed back to it.

use std::io::{self, IoSlice, IoSliceMut};
use std::mem::MaybeUninit;
use std::os::fd::{BorrowedFd, OwnedFd};

use rustix::net::{
    RecvAncillaryBuffer, RecvAncillaryMessage, RecvFlags, SendAncillaryBuffer, SendAncillaryMessage, SendFlags,
    recvmsg, sendmsg,
};
use serde::{Deserialize, Serialize, de::DeserializeOwned};

use crate::model::{FileKind, Instant, Stat, packed, unpacked};

/// The bytes that one packet carries after its first byte.
const PIECE: usize = 48 << 10;
/// Longer messages are refused.
const MAX_MESSAGE: usize = 64 << 20;
/// A request takes two handles at most.
const HANDLES: usize = 2;

/// One operation of a disk, or a question; the handles that it concerns travel with it.
#[derive(Debug, Serialize, Deserialize)]
pub(super) enum Call {
    OpenDir(Vec<u8>),
    OpenSeen(Vec<u8>),
    Look(Vec<u8>),
    LookOpen,
    MountOf,
    MountOfName(Vec<u8>),
    Read(usize),
    ReadLink(Vec<u8>),
    List,
    Xattrs,
    HasCapabilities,
    Flags,
    FreeSpace,
    Forget,
    Create(Vec<u8>),
    OpenAppend(Vec<u8>),
    Write,
    MakeDir(Vec<u8>),
    MakeLink(Vec<u8>, Vec<u8>),
    HardLink(Vec<u8>, Vec<u8>),
    Rename(Vec<u8>, Vec<u8>, How),
    Unlink(Vec<u8>),
    RemoveDir(Vec<u8>),
    SetOwner(Vec<u8>, u32, u32),
    SetMode(u32),
    SetMtime(Vec<u8>, Instant),
    SetXattr(Vec<u8>),
    SetFlags(u32),
    Truncate(u64),
    Sync,
    SyncAll,
    /// A question about an open folder.
    Ask,
}

/// How a rename treats its destination.
#[derive(Debug, Clone, Copy, Serialize, Deserialize)]
pub(super) enum How {
    Swap,
    IntoNothing,
    Replace,
}

/// The answer to a request; bytes that belong to it follow the header.
#[derive(Debug, Serialize, Deserialize)]
pub(super) enum Reply {
    Nothing,
    Bytes,
    Stat(Stat),
    Number(u64),
    Yes(bool),
    Flags(Option<u32>),
    Names(Vec<(Vec<u8>, Option<FileKind>)>),
    Xattrs(Vec<(Vec<u8>, Vec<u8>)>),
    FreeSpace {
        bytes: u64,
        total: u64,
        inodes: u64,
        block: u64,
        read_only: bool,
    },
    /// It failed: the kernel's error number, and a text where there is none.
    Failed(Option<i32>, String),
}

/// Sends a message.
pub(super) fn send<H: Serialize>(
    socket: BorrowedFd<'_>,
    header: &H,
    bytes: &[u8],
    handles: &[BorrowedFd<'_>],
    patience: &mut Patience<'_>,
) -> io::Result<()> {
    let header = packed(header)?;
    let mut message = Vec::with_capacity(4 + header.len() + bytes.len());
    message.extend(u32::try_from(header.len()).map_err(|_| too_long())?.to_le_bytes());
    message.extend(header);
    message.extend(bytes);
    let pieces = message.chunks(PIECE);
    let last = pieces.len() - 1;
    for (at, piece) in pieces.enumerate() {
        let mut space = [MaybeUninit::uninit(); rustix::cmsg_space!(ScmRights(HANDLES))];
        let mut beside = SendAncillaryBuffer::new(&mut space);
        if at == 0 && !handles.is_empty() && !beside.push(SendAncillaryMessage::ScmRights(handles)) {
            return Err(too_long());
        }
        let more = [u8::from(at != last)];
        let parts = [IoSlice::new(&more), IoSlice::new(piece)];
        loop {
            match retried(|| sendmsg(socket, &parts, &mut beside, SendFlags::NOSIGNAL)) {
                Err(e) if e.kind() == io::ErrorKind::TimedOut => patience()?,
                Err(e) => return Err(e),
                Ok(_) => break,
            }
        }
    }
    Ok(())
}

/// A message: its header, its bytes, its handles.
pub(super) type Message<H> = (H, Vec<u8>, Vec<OwnedFd>);

/// Called whenever the socket's own short timeout ends; an error ends the wait.
pub(super) type Patience<'a> = dyn FnMut() -> io::Result<()> + 'a;

/// Receives a message; `None` when the other side has ended. The whole message is waited for as long as `patience` allows.
pub(super) fn receive<H: DeserializeOwned>(
    socket: BorrowedFd<'_>,
    patience: &mut Patience<'_>,
) -> io::Result<Option<Message<H>>> {
    let mut message = Vec::new();
    let mut handles = Vec::new();
    let mut packet = vec![0; PIECE + 1];
    loop {
        let mut space = [MaybeUninit::uninit(); rustix::cmsg_space!(ScmRights(HANDLES))];
        let mut beside = RecvAncillaryBuffer::new(&mut space);
        let got = match retried(|| {
            recvmsg(socket, &mut [IoSliceMut::new(&mut packet)], &mut beside, RecvFlags::CMSG_CLOEXEC).map(|m| m.bytes)
        }) {
            Err(e) if e.kind() == io::ErrorKind::TimedOut => {
                patience()?;
                continue;
            }
            other => other?,
        };
        // Also from a sender that never stops sending.
        patience()?;
        for one in beside.drain() {
            if let RecvAncillaryMessage::ScmRights(fds) = one {
                handles.extend(fds);
            }
        }
        let Some((more, piece)) = packet[..got].split_first() else { return Ok(None) };
        message.extend_from_slice(piece);
        // An empty packet that is not the last would make a message endless.
        let endless = *more != 0 && piece.is_empty();
        if endless || message.len() > MAX_MESSAGE || handles.len() > HANDLES {
            return Err(too_long());
        }
        if *more == 0 {
            break;
        }
    }
    let bad = || io::Error::new(io::ErrorKind::InvalidData, "invalid message");
    let (length, rest) = message.split_first_chunk::<4>().ok_or_else(bad)?;
    let (header, bytes) = rest.split_at_checked(u32::from_le_bytes(*length) as usize).ok_or_else(bad)?;
    Ok(Some((unpacked(header)?, bytes.to_vec(), handles)))
}

fn retried<T>(mut call: impl FnMut() -> rustix::io::Result<T>) -> io::Result<T> {
    loop {
        match call() {
            Err(rustix::io::Errno::INTR) => {}
            Err(rustix::io::Errno::AGAIN) => {
                return Err(io::Error::new(
                    io::ErrorKind::TimedOut,
                    "the helper process of the home's owner does not respond",
                ));
            }
            other => return Ok(other?),
        }
    }
}

fn too_long() -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, "message too long")
}

#[cfg(test)]
mod tests {
    use std::os::fd::AsFd as _;

    use rustix::net::{AddressFamily, SocketFlags, SocketType, socketpair};

    use super::*;

    fn pair() -> (OwnedFd, OwnedFd) {
        socketpair(AddressFamily::UNIX, SocketType::SEQPACKET, SocketFlags::CLOEXEC, None).unwrap()
    }

    #[test]
    fn a_long_message_with_handles_arrives_whole_and_an_end_is_told() {
        let (here, there) = pair();
        let long: Vec<u8> = (0..300_000u32).map(|n| n as u8).collect();
        let folder = std::fs::File::open("/").unwrap();
        let sent = long.clone();
        let sending =
            std::thread::spawn(move || send(here.as_fd(), &Call::Write, &sent, &[folder.as_fd()], &mut || Ok(())));
        let (call, bytes, handles) = receive::<Call>(there.as_fd(), &mut || Ok(())).unwrap().unwrap();
        sending.join().unwrap().unwrap();
        assert!(matches!(call, Call::Write) && bytes == long && handles.len() == 1);
        assert!(receive::<Call>(there.as_fd(), &mut || Ok(())).unwrap().is_none());
    }

    #[test]
    fn a_message_that_never_ends_is_none_and_all_of_it_together_is_waited_for() {
        let (here, there) = pair();
        for _ in 0..3 {
            rustix::io::write(&here, &[1]).unwrap();
        }
        assert!(receive::<Reply>(there.as_fd(), &mut || Ok(())).is_err());
        let (here, there) = pair();
        for _ in 0..50 {
            rustix::io::write(&here, &[1, b'x']).unwrap();
        }
        let mut left = 10;
        let mut patience = || {
            left -= 1;
            if left > 0 { Ok(()) } else { Err(io::ErrorKind::TimedOut.into()) }
        };
        assert_eq!(receive::<Reply>(there.as_fd(), &mut patience).unwrap_err().kind(), io::ErrorKind::TimedOut);
    }

    proptest::proptest! {
        #[test]
        fn a_damaged_message_is_refused_or_brings_no_more_than_was_sent(seed: u64) {
            let header = packed(&Reply::Names(vec![(b"quay".to_vec(), Some(FileKind::File)), (b"pier".to_vec(), None)])).unwrap();
            let mut message = u32::try_from(header.len()).unwrap().to_le_bytes().to_vec();
            message.extend(header);
            message.extend(b"bytes that belong to it");
            let message = crate::testkit::mutated(&message, seed);
            let (here, there) = pair();
            rustix::io::write(&here, &[&[0], &message[..]].concat()).unwrap();
            drop(here);
            if let Ok(Some((said, bytes, handles))) = receive::<Reply>(there.as_fd(), &mut || Ok(())) {
                let names = if let Reply::Names(names) = said { names.iter().map(|(name, _)| name.len()).sum() } else { 0 };
                proptest::prop_assert!(names + bytes.len() <= message.len() && handles.is_empty());
            }
        }
    }
}
