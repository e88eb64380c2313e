//! A program that is for a service at work: it holds locks as package tools do, and reads a little now and then. It is this
//! test program itself, started once more for one test that does nothing else.
#![allow(dead_code, reason = "each test file uses a part of it")]

use std::io::{BufRead as _, BufReader, Read as _};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::Duration;

const HELD: &str = "VERITUM_TEST_HOLD";

/// It goes with the test.
pub(crate) struct Worker(pub(crate) Child);

impl Drop for Worker {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

impl Worker {
    /// Starts one that holds these locks; `test` names the test that calls [`hold`].
    pub(crate) fn start(test: &str, locks: &[PathBuf]) -> Self {
        let names = std::env::join_paths(locks).unwrap();
        let mut command = Command::new(std::env::current_exe().unwrap());
        command.args([test, "--exact", "--ignored", "--nocapture"]).env(HELD, names);
        let mut child = command.stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
        let lines = BufReader::new(child.stdout.take().unwrap()).lines();
        assert!(lines.map_while(Result::ok).any(|line| line.ends_with("held")), "it holds nothing");
        Self(child)
    }

    /// Whether it ends by itself, within some seconds.
    pub(crate) fn ends(&mut self) -> bool {
        (0..500).any(|_| {
            std::thread::sleep(Duration::from_millis(10));
            self.0.try_wait().unwrap().is_some()
        })
    }
}

/// Holds what the caller names until it is ended; nothing when it was not started for that.
pub(crate) fn hold() {
    let Some(names) = std::env::var_os(HELD) else { return };
    let lock = |path: PathBuf| {
        let file = std::fs::OpenOptions::new().read(true).write(true).open(path).unwrap();
        // A POSIX lock (fcntl(2), F_SETLK): such as package tools take, and of which the kernel says whose it is.
        rustix::fs::fcntl_lock(&file, rustix::fs::FlockOperation::NonBlockingLockExclusive).unwrap();
        file
    };
    let _held: Vec<std::fs::File> = std::env::split_paths(&names).map(lock).collect();
    println!("held");
    let mut zero = std::fs::File::open(Path::new("/dev/zero")).unwrap();
    loop {
        zero.read_exact(&mut [0; 9]).unwrap();
        std::thread::sleep(Duration::from_millis(10));
    }
}
