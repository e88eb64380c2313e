//! Work below a home with its owner's rights: done by a child process of Veritum's own program, never by root.
//!
//! The child receives a socket and nothing else; each call carries the open handles that it concerns. To its callers
//! it is a [`Disk`](crate::machine::Disk) like any other, so that homes are changed by the same code as everything else.

mod disk;
mod serve;
mod wire;

use std::ffi::OsString;
use std::io;
use std::os::fd::{AsFd as _, BorrowedFd, OwnedFd};
use std::os::unix::process::CommandExt as _;
use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use rustix::net::sockopt::{Timeout, set_socket_timeout};
use rustix::net::{AddressFamily, SocketFlags, SocketType, socketpair};
use rustix::process::{Pid, WaitId, WaitIdOptions, waitid};

use self::wire::{Call, Reply, receive, send};
use crate::machine::Dir;

pub use serve::{Answering, serve};

/// The interval at which a wait is checked.
const LOOK: Duration = Duration::from_millis(100);
/// A home may be on a slow disk or on a file system that never answers: the limit of one operation.
const PATIENCE: Duration = Duration::from_secs(60);
/// A question may concern every byte of a home: its time limit,
const LONG: Duration = Duration::from_secs(2 * 3600);
/// and the limit without any sign of work.
const IDLE: Duration = Duration::from_secs(60);
/// After a request to stop, an answer is still accepted for this long.
const LAST: Duration = Duration::from_millis(700);

/// A process with the rights of a home's owner.
#[derive(Debug)]
pub struct Owner {
    /// `None` once a call was cut off: the next answer could belong to it.
    socket: Mutex<Option<OwnedFd>>,
    child: Child,
    /// Whether the user at the terminal wants to stop.
    stop: Arc<AtomicBool>,
}

/// The wait for one answer: limited, and ended when the process was stopped by its owner, or the user wants to stop.
struct Wait<'a> {
    owner: &'a Owner,
    begun: Instant,
    most: Duration,
    /// The processor time that the process had used when it was last seen working, and when that was.
    worked: Option<(u64, Instant)>,
}

impl Wait<'_> {
    fn goes_on(&mut self) -> io::Result<()> {
        let waited = self.begun.elapsed();
        if self.owner.stop.load(Ordering::Relaxed) && waited > LAST {
            return Err(io::Error::new(
                io::ErrorKind::TimedOut,
                "stopped before the helper process of the home's owner answered",
            ));
        }
        if waited > self.most {
            return Err(silent());
        }
        if self.owner.is_stopped() {
            return Err(io::Error::new(io::ErrorKind::TimedOut, "the home's owner stopped the helper process"));
        }
        if self.most > PATIENCE
            && let Some(used) = self.owner.used_time()
        {
            match self.worked {
                Some((before, when)) if before == used && when.elapsed() > IDLE => return Err(silent()),
                Some((before, _)) if before == used => {}
                _ => self.worked = Some((used, Instant::now())),
            }
        }
        Ok(())
    }
}

fn silent() -> io::Error {
    io::Error::new(io::ErrorKind::TimedOut, "the helper process of the home's owner does not respond")
}

impl Owner {
    /// Starts `helper` (a program with its arguments) as user and group `ids`, with a socket as its standard input and nothing
    /// else.
    ///
    /// # Errors
    /// When it cannot be started.
    pub fn start(helper: &[OsString], ids: (u32, u32), stop: Arc<AtomicBool>) -> io::Result<Self> {
        let Some((program, words)) = helper.split_first() else { return Err(io::ErrorKind::Unsupported.into()) };
        let (ours, theirs) = socketpair(AddressFamily::UNIX, SocketType::SEQPACKET, SocketFlags::CLOEXEC, None)?;
        for way in [Timeout::Recv, Timeout::Send] {
            set_socket_timeout(&ours, way, Some(LOOK))?;
        }
        // Without supplementary groups: the standard library drops them with the user id when running as root. In a process group
        // of its own: an interrupt from the terminal must not end it in the middle of a change.
        let child = Command::new(program)
            .args(words)
            .env_clear()
            .current_dir("/")
            .stdin(Stdio::from(theirs))
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .process_group(0)
            .gid(ids.1)
            .uid(ids.0)
            .spawn()?;
        Ok(Self { socket: Mutex::new(Some(ours)), child, stop })
    }

    /// Asks a question about an open folder.
    ///
    /// # Errors
    /// When it has no answer, or has ended.
    pub fn ask(&self, folder: &Dir, question: &[u8]) -> io::Result<Vec<u8>> {
        match self.call(&Call::Ask, question, &[folder.fd()])? {
            (Reply::Bytes, bytes, _) => Ok(bytes),
            _ => Err(io::ErrorKind::InvalidData.into()),
        }
    }

    fn pid(&self) -> Pid {
        // It is not reaped before this is dropped, so the process id is its own.
        Pid::from_child(&self.child)
    }

    /// Whether it was stopped by a signal: its owner may do that at any time.
    fn is_stopped(&self) -> bool {
        let how = WaitIdOptions::STOPPED | WaitIdOptions::NOHANG | WaitIdOptions::NOWAIT;
        matches!(waitid(WaitId::Pid(self.pid()), how), Ok(Some(_)))
    }

    /// The processor time that it has used, in clock ticks (proc_pid_stat(5)).
    fn used_time(&self) -> Option<u64> {
        let stat = std::fs::read_to_string(format!("/proc/{}/stat", self.child.id())).ok()?;
        let mut fields = stat.rsplit_once(')')?.1.split_ascii_whitespace().skip(11);
        Some(fields.next()?.parse::<u64>().ok()? + fields.next()?.parse::<u64>().ok()?)
    }

    fn call(
        &self,
        call: &Call,
        bytes: &[u8],
        handles: &[BorrowedFd<'_>],
    ) -> io::Result<(Reply, Vec<u8>, Option<OwnedFd>)> {
        let gone = || io::Error::new(io::ErrorKind::BrokenPipe, "the helper process of the home's owner has ended");
        let mut socket = self.socket.lock().unwrap_or_else(PoisonError::into_inner);
        let open = socket.as_ref().ok_or_else(gone)?;
        let most = if matches!(call, Call::Ask) { LONG } else { PATIENCE };
        let mut wait = Wait { owner: self, begun: Instant::now(), most, worked: None };
        let answer = send(open.as_fd(), call, bytes, handles, &mut || wait.goes_on())
            .and_then(|()| receive::<Reply>(open.as_fd(), &mut || wait.goes_on()))
            .and_then(|answer| answer.ok_or_else(gone));
        let (said, bytes, mut handles) = match answer {
            Ok(answer) => answer,
            Err(e) => {
                *socket = None;
                // Its unfinished work must not run beside what follows.
                let _ = rustix::process::kill_process(self.pid(), rustix::process::Signal::KILL);
                return Err(e);
            }
        };
        match said {
            Reply::Failed(Some(number), _) => Err(io::Error::from_raw_os_error(number)),
            Reply::Failed(None, why) => Err(io::Error::other(why)),
            said => Ok((said, bytes, handles.pop())),
        }
    }
}

impl Drop for Owner {
    /// It ends when its socket closes; a process that does not is no longer under our control.
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::machine::{Disk, Exchange, LiveDisk, Machine};
    use crate::model::{Instant as Moment, SystemPath};

    fn ids() -> (u32, u32) {
        (rustix::process::geteuid().as_raw(), rustix::process::getegid().as_raw())
    }

    /// The child's side on a thread of ours: what it says goes over the wire all the same.
    fn owner() -> Arc<Owner> {
        let (ours, theirs) =
            socketpair(AddressFamily::UNIX, SocketType::SEQPACKET, SocketFlags::CLOEXEC, None).unwrap();
        std::thread::spawn(move || {
            let disk: Arc<dyn Disk> = Arc::new(LiveDisk);
            let mut answer = |dir: &Dir, question: &[u8]| match question {
                b"how many?" => Ok(dir.disk().list(dir.fd()).unwrap().len().to_string().into_bytes()),
                other => Err(io::Error::other(format!("{} is no question", String::from_utf8_lossy(other)))),
            };
            serve(theirs.as_fd(), &disk, &mut answer)
        });
        Arc::new(Owner {
            socket: Mutex::new(Some(ours)),
            child: Command::new("true").spawn().unwrap(),
            stop: Arc::default(),
        })
    }

    #[test]
    fn a_folder_is_worked_on_through_the_wire_as_through_the_kernel() {
        let folder = tempfile::tempdir().unwrap();
        let live: Arc<dyn Disk> = Arc::new(LiveDisk);
        let top = Dir::handed_over(live.clone(), live.open_root(folder.path()).unwrap());
        let owner = owner();
        assert_eq!(owner.ask(&top, b"how many?").unwrap(), b"0");
        assert!(owner.ask(&top, b"why?").unwrap_err().to_string().contains("why? is no question"));
        let dir = Dir::handed_over(owner.clone(), top.handle().unwrap());
        let disk = dir.disk();
        let content: Vec<u8> = (0..700_000u32).map(|n| (n / 7) as u8).collect();
        let file = disk.create(dir.fd(), b"one\n\xff").unwrap();
        disk.write(file.as_fd(), &content).unwrap();
        disk.set_mode(file.as_fd(), 0o640).unwrap();
        disk.sync(file.as_fd()).unwrap();
        disk.make_dir(dir.fd(), b"below").unwrap();
        disk.make_link(dir.fd(), b"link", b"/etc").unwrap();
        let below = dir.beside(disk.open_dir(dir.fd(), b"below").unwrap());
        disk.rename(dir.fd(), b"one\n\xff", below.fd(), b"two", Exchange::IntoNothing).unwrap();
        disk.set_mtime(below.fd(), b"two", Moment { s: 7, n: 9 }).unwrap();
        assert_eq!(below.read(b"two", 1 << 20).unwrap(), content);
        assert_eq!(below.look(b"two").unwrap(), LiveDisk.look(below.fd(), b"two").ok());
        assert_eq!(disk.read_link(dir.fd(), b"link").unwrap(), b"/etc");
        assert_eq!(disk.mount_of(dir.fd()).unwrap(), LiveDisk.mount_of(dir.fd()).unwrap());
        assert_eq!(disk.room(dir.fd()).unwrap().block, LiveDisk.room(dir.fd()).unwrap().block);
        assert!(dir.look(b"nothing").unwrap().is_none(), "an error's number comes through");
        assert!(disk.open_dir(dir.fd(), b"link").is_err() && disk.open_root(folder.path()).is_err());
        let mut names = disk.list(dir.fd()).unwrap();
        names.sort_by(|a, b| a.0.cmp(&b.0));
        assert_eq!(names.iter().map(|(name, _)| name.as_slice()).collect::<Vec<_>>(), [&b"below"[..], b"link"]);
    }

    #[test]
    fn after_a_call_that_went_wrong_no_later_answer_is_taken_for_another() {
        let (ours, theirs) =
            socketpair(AddressFamily::UNIX, SocketType::SEQPACKET, SocketFlags::CLOEXEC, None).unwrap();
        set_socket_timeout(&ours, Timeout::Recv, Some(Duration::from_millis(20))).unwrap();
        // A person wishes to stop: then a second is enough.
        let owner = Owner {
            socket: Mutex::new(Some(ours)),
            child: Command::new("true").spawn().unwrap(),
            stop: Arc::new(true.into()),
        };
        let root = std::fs::File::open("/").unwrap();
        let begun = Instant::now();
        assert_eq!(owner.sync(root.as_fd()).unwrap_err().kind(), io::ErrorKind::TimedOut);
        assert!(begun.elapsed() < Duration::from_secs(5));
        // The answer comes late: by then no one listens.
        let _ = send(theirs.as_fd(), &Reply::Nothing, &[], &[], &mut || Ok(()));
        assert_eq!(owner.unlink(root.as_fd(), b"x").unwrap_err().kind(), io::ErrorKind::BrokenPipe);
    }

    #[test]
    fn a_helper_that_is_none_is_an_error_and_no_waiting() {
        let machine = Machine::open(std::path::Path::new("/"), Arc::new(LiveDisk)).unwrap();
        let dir = machine.dir(&SystemPath::root()).unwrap();
        for script in ["exit 3", "kill -9 $$", "exec 0<&-; sleep 9"] {
            let helper = ["/bin/sh", "-c", script].map(OsString::from);
            let said = Owner::start(&helper, ids(), Arc::default()).unwrap().ask(&dir, b"how many?");
            assert!(said.is_err(), "{script}");
        }
        assert!(Owner::start(&[], ids(), Arc::default()).is_err());
    }

    #[test]
    fn a_process_that_its_owner_stops_is_given_up_at_once_and_by_its_reason() {
        let machine = Machine::open(std::path::Path::new("/"), Arc::new(LiveDisk)).unwrap();
        let dir = machine.dir(&SystemPath::root()).unwrap();
        let helper = ["/bin/sh", "-c", "kill -STOP $$"].map(OsString::from);
        let begun = Instant::now();
        let said = Owner::start(&helper, ids(), Arc::default()).unwrap().ask(&dir, b"how many?").unwrap_err();
        assert!(said.to_string().contains("the home's owner stopped the helper process"), "{said}");
        assert!(begun.elapsed() < Duration::from_secs(20));
    }

    #[test]
    fn root_gives_up_its_rights() {
        if !rustix::process::geteuid().is_root() {
            println!("SKIPPED: giving up root's rights needs root");
            return;
        }
        let folder = tempfile::tempdir().unwrap();
        std::os::unix::fs::chown(folder.path(), Some(12_345), Some(12_346)).unwrap();
        let said = folder.path().join("said");
        let script = format!("(id -u; id -g; id -G) > {}", said.display());
        let mut owner =
            Owner::start(&["/bin/sh", "-c", &script].map(OsString::from), (12_345, 12_346), Arc::default()).unwrap();
        owner.child.wait().unwrap();
        assert_eq!(std::fs::read_to_string(said).unwrap(), "12345\n12346\n12346\n");
    }
}
