//! Asking the system's own tools to do something: a fixed path, plain language, no shell, no questions.

use std::ffi::{OsStr, OsString};
use std::io::{self, Read as _, Seek as _, SeekFrom};
use std::os::unix::process::CommandExt as _;
use std::process::{Command, Stdio};

/// Of what a tool says so much is kept, from the end.
const SAID: u64 = 16 << 10;

/// What became of a tool's run.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Ran {
    /// Its exit status; none when a signal ended it.
    pub status: Option<i32>,
    /// What it said, to either stream; the end of it.
    pub said: String,
}

impl Ran {
    /// Whether it said that it succeeded.
    #[must_use]
    pub fn is_fine(&self) -> bool {
        self.status == Some(0)
    }

    /// The last line that it said.
    #[must_use]
    pub fn last_line(&self) -> String {
        self.said.lines().map(str::trim).rfind(|line| !line.is_empty()).unwrap_or("it said nothing").to_owned()
    }
}

/// Runs one of the system's own tools, and waits for it. It is a group of its own: what interrupts us at the terminal does not
/// cut it short. What it says goes to a file, so that a program that it leaves running is not waited for.
///
/// # Errors
/// When it cannot be started.
pub fn run(program: &str, words: &[impl AsRef<OsStr>], further: &[(&str, OsString)]) -> io::Result<Ran> {
    let mut said = tempfile::tempfile()?;
    let status = Command::new(program)
        .args(words)
        .env_clear()
        .env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin")
        .env("LC_ALL", "C.UTF-8")
        .env("DEBIAN_FRONTEND", "noninteractive")
        .envs(further.iter().map(|(name, value)| (*name, value)))
        .stdin(Stdio::null())
        .stdout(said.try_clone()?)
        .stderr(said.try_clone()?)
        .process_group(0)
        .current_dir("/")
        .status()?;
    let mut end = Vec::new();
    let from = said.metadata()?.len().saturating_sub(SAID);
    said.seek(SeekFrom::Start(from))?;
    said.take(SAID).read_to_end(&mut end)?;
    let clean = |text: &str| text.chars().filter(|c| !c.is_control() || *c == '\n').collect::<String>();
    Ok(Ran { status: status.code(), said: clean(&String::from_utf8_lossy(&end)) })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_tool_runs_in_fixed_surroundings_and_its_words_are_kept() {
        let ran = run("/bin/sh", &["-c", "echo one; echo $HOME.$LC_ALL >&2; exit 3"], &[]).unwrap();
        assert_eq!((ran.status, ran.last_line().as_str()), (Some(3), ".C.UTF-8"));
        let long = run("/bin/sh", &["-c", "yes | head -c 100000"], &[]).unwrap();
        assert!(long.is_fine() && !long.said.is_empty() && long.said.len() as u64 <= SAID);
        let begun = std::time::Instant::now();
        assert!(run("/bin/sh", &["-c", "sleep 30 & echo left"], &[]).unwrap().is_fine());
        assert!(begun.elapsed().as_secs() < 20, "what it leaves running is not waited for");
        assert!(run("/no/such/tool", &["x"], &[]).is_err());
    }
}
