//! The program that holds a lock, and whether it is working (fcntl(2), proc(5)).

use std::collections::HashMap;
use std::fs;
use std::io;
use std::os::fd::AsFd;
use std::path::PathBuf;

use nix::fcntl::{FcntlArg, fcntl};
use nix::libc;

use super::Dir;

/// The holder of a lock.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LockHolder {
    /// A process, by its id.
    Process(u32),
    /// Unknown to the kernel: an open-file-description lock, or a process of another container.
    Unknown,
}

/// A running program.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Worker {
    /// Its process id.
    pub pid: u32,
    /// Its name (`comm`; where that is cut, from its command line), without control characters.
    pub name: String,
    /// The system service to which it belongs.
    pub service: Option<String>,
    /// When it started.
    pub since: jiff::Timestamp,
    /// The work of the program and its children so far: clock ticks of processor time, and bytes read and written.
    /// Only differences are meaningful.
    pub work: u64,
}

/// Finds the holder of a lock on a file of that folder without taking the lock; `None` when it is not held, or there is no such file.
///
/// # Errors
/// When the file cannot be opened, or the kernel reports an error.
pub fn lock_holder(dir: &Dir, name: &[u8]) -> io::Result<Option<LockHolder>> {
    let file = match dir.disk().open_file(dir.fd(), name) {
        Ok(file) => file,
        Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(None),
        Err(e) => return Err(e),
    };
    let mut asked = libc::flock {
        l_type: libc::F_WRLCK as libc::c_short,
        l_whence: libc::SEEK_SET as libc::c_short,
        l_start: 0,
        l_len: 0,
        l_pid: 0,
    };
    fcntl(file.as_fd(), FcntlArg::F_OFD_GETLK(&mut asked))?;
    if asked.l_type == libc::F_UNLCK as libc::c_short {
        return Ok(None);
    }
    Ok(Some(u32::try_from(asked.l_pid).ok().filter(|pid| *pid > 0).map_or(LockHolder::Unknown, LockHolder::Process)))
}

/// Describes a process and its work so far; `None` when it has ended.
#[must_use]
pub fn worker(pid: u32) -> Option<Worker> {
    let process = PathBuf::from(format!("/proc/{pid}"));
    let clean = |text: &str| text.chars().filter(|c| !c.is_control()).take(64).collect::<String>();
    let stat = Stat::for_pid(pid)?;
    let groups = fs::read_to_string(process.join("cgroup")).unwrap_or_default();
    Some(Worker {
        pid,
        name: clean(&full_name(&stat.name, &fs::read(process.join("cmdline")).unwrap_or_default())),
        service: service_of(&groups).map(|s| clean(&s)),
        since: started(stat.start)?,
        work: work_of(pid),
    })
}

/// The kernel cuts names after 15 bytes (proc(5)): the program or script in the command line that begins so, else the name itself.
fn full_name(name: &str, command: &[u8]) -> String {
    let words = command.split(|byte| *byte == 0).take(4).map(String::from_utf8_lossy);
    let mut names = words.map(|word| word.rsplit('/').next().unwrap_or_default().to_owned());
    let full = names.find(|full| full.starts_with(name)).filter(|_| name.len() == 15);
    full.unwrap_or_else(|| name.to_owned())
}

/// The system service of a control group (`0::/system.slice/NAME.service`); `None` for a user's process.
pub(super) fn service_of(groups: &str) -> Option<String> {
    groups.lines().find_map(|line| {
        let path = line.splitn(3, ':').nth(2)?;
        let below = path.strip_prefix("/system.slice/")?;
        below.split('/').rfind(|part| part.ends_with(".service")).map(ToOwned::to_owned)
    })
}

/// Fields of `/proc/PID/stat`.
struct Stat {
    name: String,
    parent: u32,
    ticks: u64,
    start: u64,
}

impl Stat {
    fn for_pid(pid: u32) -> Option<Self> {
        let text = fs::read(format!("/proc/{pid}/stat")).ok()?;
        Self::parse(&String::from_utf8_lossy(&text))
    }

    /// The name is in parentheses and may itself contain parentheses and spaces.
    fn parse(text: &str) -> Option<Self> {
        let (before, after) = text.rsplit_once(')')?;
        let name = before.split_once('(')?.1.to_owned();
        let fields: Vec<&str> = after.split_ascii_whitespace().collect();
        let number = |at: usize| fields.get(at)?.parse::<u64>().ok();
        // Counted from the state, the first field after the name: parent 1, times 11 to 14, start time 19.
        let ticks = (11..15).filter_map(number).fold(0u64, u64::saturating_add);
        Some(Self { name, parent: u32::try_from(number(1)?).ok()?, ticks, start: number(19)? })
    }
}

/// The start of a process, from clock ticks since the boot.
fn started(ticks: u64) -> Option<jiff::Timestamp> {
    let stat = fs::read_to_string("/proc/stat").ok()?;
    let boot: i64 = stat.lines().find_map(|line| line.strip_prefix("btime "))?.trim().parse().ok()?;
    // Linux reports times to programs in hundredths of a second on every architecture (proc(5), USER_HZ).
    jiff::Timestamp::from_second(boot.saturating_add(i64::try_from(ticks / 100).ok()?)).ok()
}

/// The work of a process and all its descendants.
fn work_of(pid: u32) -> u64 {
    let mut children: HashMap<u32, Vec<u32>> = HashMap::new();
    for entry in fs::read_dir("/proc").into_iter().flatten().flatten() {
        if let Some(pid) = entry.file_name().to_str().and_then(|n| n.parse::<u32>().ok())
            && let Some(stat) = Stat::for_pid(pid)
        {
            children.entry(stat.parent).or_default().push(pid);
        }
    }
    let (mut todo, mut work) = (vec![pid], 0u64);
    while let Some(pid) = todo.pop() {
        work = work.saturating_add(Stat::for_pid(pid).map_or(0, |stat| stat.ticks));
        let io = fs::read_to_string(format!("/proc/{pid}/io")).unwrap_or_default();
        let bytes = io.lines().filter_map(|l| l.strip_prefix("rchar: ").or_else(|| l.strip_prefix("wchar: ")));
        work = bytes.filter_map(|n| n.parse::<u64>().ok()).fold(work, u64::saturating_add);
        todo.extend(children.remove(&pid).unwrap_or_default());
    }
    work
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use super::*;
    use crate::machine::{LiveDisk, Machine, lock_exclusive};
    use crate::model::SystemPath;

    #[test]
    fn a_name_that_the_kernel_cut_is_completed_from_the_command_line() {
        let command = b"/usr/bin/python3\0/usr/bin/unattended-upgrade\0-v\0";
        assert_eq!(full_name("unattended-upgr", command), "unattended-upgrade");
        assert_eq!(full_name("unattended-upgr", b"/usr/bin/python3\0"), "unattended-upgr");
        assert_eq!(full_name("apt", b"/usr/bin/apt-get\0"), "apt", "not cut");
    }

    #[test]
    fn a_held_lock_is_told_without_taking_it() {
        let place = tempfile::tempdir().unwrap();
        let machine = Machine::open(place.path(), Arc::new(LiveDisk)).unwrap();
        let dir = machine.dir(&SystemPath::root()).unwrap();
        assert_eq!(lock_holder(&dir, b"lock").unwrap(), None, "no file");
        let held = lock_exclusive(&dir, b"lock").unwrap();
        assert_eq!(lock_holder(&dir, b"lock").unwrap(), Some(LockHolder::Unknown), "our own kind has no process");
        drop(held);
        assert_eq!(lock_holder(&dir, b"lock").unwrap(), None, "the file alone is harmless");
    }

    #[test]
    fn what_a_program_does_shows_as_a_difference() {
        let own = std::process::id();
        let before = worker(own).unwrap();
        assert!(before.pid == own && !before.name.is_empty());
        let age = jiff::Timestamp::now().as_second() - before.since.as_second();
        assert!((-2..7200).contains(&age), "{age}");
        std::fs::read("/proc/self/maps").unwrap();
        assert!(worker(own).unwrap().work > before.work);
    }

    #[test]
    fn a_name_may_hold_brackets() {
        let text = "7 (a) b (c)) S 3 7 7 0 -1 4 1 0 0 0 5 6 7 8 20 0 1 0 900 1 1";
        let stat = Stat::parse(text).unwrap();
        assert_eq!((stat.name.as_str(), stat.parent, stat.ticks, stat.start), ("a) b (c)", 3, 26, 900));
        assert!(Stat::parse("7 (a").is_none() && Stat::parse("").is_none());
    }
}
