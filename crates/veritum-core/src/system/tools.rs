//! Runs the system's own tools: directly on the running system, or in namespaces inside a mounted one.

use std::ffi::OsString;
use std::io;
use std::path::Path;
use std::sync::atomic::AtomicBool;
use std::time::Duration;

use super::System;
use crate::model::quoted;
use crate::platform::delegate::{Limit, ToolOutput, run};

const UNSHARE: &str = "/usr/bin/unshare";

/// How a machine's own tools are run.
#[derive(Debug)]
pub enum ToolRunner {
    /// Directly, on the running system.
    Here,
    /// Inside a mounted system, separated from everything else that runs.
    Inside(Vec<OsString>),
}

/// The package tool may have many packages to configure.
const MOST: Duration = Duration::from_secs(3600);

impl ToolRunner {
    /// Runs a tool, by its path on the machine.
    ///
    /// # Errors
    /// When it cannot be started, or did not end in time.
    pub fn run(
        &self,
        program: &str,
        words: &[&str],
        further: &[(&str, OsString)],
        stop: &AtomicBool,
    ) -> io::Result<ToolOutput> {
        let limit = Limit { most: MOST, stop: Some(stop) };
        match self {
            Self::Here => run(program, words, further, limit),
            Self::Inside(before) => {
                let own = std::iter::once(OsString::from(program)).chain(words.iter().map(OsString::from));
                let all: Vec<OsString> = before.iter().cloned().chain(own).collect();
                run(UNSHARE, &all, further, limit)
            }
        }
    }
}

impl System {
    /// How this machine's own tools can be run.
    ///
    /// # Errors
    /// The reason why they cannot be run.
    pub fn tool_runner(&self) -> Result<ToolRunner, &'static str> {
        if !rustix::process::geteuid().is_root() {
            return Err("only root can run the system's tools");
        }
        if self.machine.is_live() {
            return Ok(ToolRunner::Here);
        }
        if !Path::new(UNSHARE).exists() {
            return Err("no tool available to run commands in that system in isolation");
        }
        let root = OsString::from(format!("--root={}", self.settings.root.display()));
        let fixed = ["--mount", "--pid", "--fork", "--kill-child", "--uts", "--ipc", "--net", "--mount-proc"];
        Ok(ToolRunner::Inside(fixed.map(OsString::from).into_iter().chain([root, "--".into()]).collect()))
    }

    /// The command to type, as root, for this machine.
    pub fn by_hand(&self, command: &str) -> String {
        match (self.machine.is_live(), &self.disks) {
            (true, _) => command.to_owned(),
            // It must be mounted first, in a folder that only the person knows.
            (false, Some(_)) => format!("chroot DIR {command}"),
            (false, None) => format!("chroot {} {command}", quoted(self.settings.root.as_os_str().as_encoded_bytes())),
        }
    }
}
