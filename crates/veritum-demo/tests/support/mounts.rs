//! File systems of a test's own. As root only; else a line says so.
#![allow(dead_code, reason = "each test file uses a part of it")]

use std::os::fd::AsFd as _;
use std::path::{Path, PathBuf};
use std::process::Command;

pub(crate) fn run(program: &str, words: &[&str]) {
    let said = Command::new(program).args(words).output().unwrap();
    assert!(said.status.success(), "{program} {words:?}: {}", String::from_utf8_lossy(&said.stderr));
}

pub(crate) fn root_or_skip(what: &str) -> bool {
    if !super::support::is_root() {
        println!("SKIPPED: {what} needs root");
    }
    super::support::is_root()
}

/// A file system in a place of its own, let go at the end whatever happens.
pub(crate) struct Mounted(pub(crate) PathBuf);

impl Mounted {
    pub(crate) fn new(at: &Path, words: &[&str]) -> Self {
        std::fs::create_dir_all(at).unwrap();
        run("mount", &[words, &[at.to_str().unwrap()]].concat());
        Self(at.to_owned())
    }
}

impl Mounted {
    /// The same; `None` if this kernel cannot mount it.
    pub(crate) fn try_new(at: &Path, words: &[&str]) -> Option<Self> {
        std::fs::create_dir_all(at).unwrap();
        let said = Command::new("mount").args(words).arg(at).output().unwrap();
        said.status.success().then(|| Self(at.to_owned()))
    }
}

impl Drop for Mounted {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg("-lq").arg(&self.0).status();
    }
}

/// Cuts the power of an ext4 file system: nothing that is in memory is written any more.
pub(crate) fn cut_power(file: &std::fs::File) {
    const SHUTDOWN: rustix::ioctl::Opcode = rustix::ioctl::opcode::read::<u32>(b'X', 125);
    const WITHOUT_LOG: u32 = 2;
    // SAFETY: EXT4_IOC_SHUTDOWN reads one 32-bit number.
    unsafe {
        let call = rustix::ioctl::Setter::<SHUTDOWN, u32>::new(WITHOUT_LOG);
        rustix::ioctl::ioctl(file.as_fd(), call).unwrap();
    }
}

/// Takes a file system away; a child process that another test just started may hold it for a moment.
pub(crate) fn unmount(at: &Path) {
    for _ in 0..100 {
        if Command::new("umount").arg("-q").arg(at).status().is_ok_and(|s| s.success()) {
            return;
        }
        std::thread::sleep(std::time::Duration::from_millis(20));
    }
    panic!("{} stays busy", at.display());
}
