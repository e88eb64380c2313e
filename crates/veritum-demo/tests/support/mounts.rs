//! File systems of a test's own. As root only; else a line says so.
#![allow(dead_code, reason = "each test file uses a part of it")]

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
