//! Runs the system's own tools: directly on the running system, or in namespaces inside a mounted one.

use std::ffi::OsString;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::atomic::AtomicBool;
use std::time::Duration;

use super::System;
use crate::model::{error_words, quoted};
use crate::platform::delegate::{Limit, ToolOutput, run};
use crate::platform::inside::TEMPORARY;

const UNSHARE: &str = "/usr/bin/unshare";

/// How a machine's own tools are run.
#[derive(Debug)]
pub enum ToolRunner {
    /// Directly, on the running system.
    Here,
    /// Inside a mounted system, separated from everything else that runs.
    Inside(Vec<OsString>),
}

/// What generators need for temporary files, in bytes: an initial file system and all that goes into it.
const ROOM: u64 = 512 << 20;
/// Larger files are not taken from a generator, in bytes.
const MAX_MADE: u64 = 512 << 20;
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

    /// Has one of the machine's own programs make a file, in a folder for temporary files that is deleted again; `words` are its arguments
    /// for the path of that file.
    ///
    /// # Errors
    /// Why it was not made.
    pub fn generate(&self, program: &str, words: &dyn Fn(&str) -> Vec<String>) -> Result<Vec<u8>, String> {
        const MADE: &str = "made";
        let io = |e: io::Error| error_words(&e);
        let roomy =
            |folder: &&PathBuf| rustix::fs::statvfs(*folder).is_ok_and(|now| now.f_bavail * now.f_frsize >= ROOM);
        let folder = self.settings.scratch.iter().find(roomy).ok_or("no folder has enough room for temporary files")?;
        let temporary = tempfile::Builder::new().prefix("veritum-").tempdir_in(folder).map_err(io)?;
        let inside = match self.tool_runner()? {
            ToolRunner::Here => temporary.path().to_owned(),
            ToolRunner::Inside(_) => PathBuf::from(TEMPORARY),
        };
        let made = inside.join(MADE).display().to_string();
        let further = [("TMPDIR", inside.into_os_string())];
        let own = words(&made);
        let limit = Limit { most: MOST, stop: Some(&self.settings.stop) };
        let ran = match self.machine.is_live() {
            true => run(program, &own, &further, limit),
            false => {
                let [own_program, word] = &self.settings.inside[..] else {
                    return Err("this program cannot enter the mounted system".to_owned());
                };
                let fixed = [
                    "--mount",
                    "--propagation=private",
                    "--pid",
                    "--fork",
                    "--kill-child",
                    "--uts",
                    "--ipc",
                    "--net",
                    "--",
                ];
                let root = self.settings.root.canonicalize().map_err(io)?;
                let enter = [own_program.clone(), word.clone(), root.into(), temporary.path().into(), program.into()];
                let all = fixed.map(OsString::from).into_iter().chain(enter).chain(own.iter().map(OsString::from));
                run(UNSHARE, &all.collect::<Vec<_>>(), &further, limit)
            }
        };
        let ran = ran.map_err(io)?;
        if !ran.is_fine() {
            return Err(format!("{program} failed: {}", ran.why()));
        }
        let file = std::fs::File::open(temporary.path().join(MADE)).map_err(io)?;
        let mut bytes = Vec::new();
        io::Read::read_to_end(&mut io::Read::take(file, MAX_MADE + 1), &mut bytes).map_err(io)?;
        match bytes.len() as u64 {
            0 => Err(format!("{program} made nothing")),
            size if size > MAX_MADE => Err(format!("{program} made more than is expected")),
            _ => Ok(bytes),
        }
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
