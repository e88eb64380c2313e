//! Runs the system's own tools: with a fixed PATH, the C locale, no shell and no questions.

use std::ffi::{OsStr, OsString};
use std::io::{self, Read as _, Seek as _, SeekFrom};
use std::os::unix::process::CommandExt as _;
use std::process::{Child, Command, ExitStatus, Stdio};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use rustix::process::{Pid, Signal, kill_process_group};

/// At most so much of a tool's output is kept, from its end, in bytes.
const SAID: u64 = 16 << 10;

/// The result of a tool's run.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ToolOutput {
    /// Its exit status; `None` when a signal ended it.
    pub status: Option<i32>,
    /// The end of its output, from both streams.
    pub said: String,
}

impl ToolOutput {
    /// Whether it succeeded.
    #[must_use]
    pub fn is_fine(&self) -> bool {
        self.status == Some(0)
    }

    /// Why it failed: the last line of its output that contains an error, and is no heading; else the last one. A usage, or a list, can
    /// follow the error.
    #[must_use]
    pub fn why(&self) -> String {
        let is_error = |line: &&str| line.to_lowercase().contains("error") && !line.ends_with(':');
        let found = self.said.lines().map(str::trim).rfind(is_error);
        found.map_or_else(|| self.last_line(), str::to_owned)
    }

    /// The last line of its output.
    #[must_use]
    pub fn last_line(&self) -> String {
        self.said.lines().map(str::trim).rfind(|line| !line.is_empty()).unwrap_or("no output").to_owned()
    }
}

/// The time limit of a tool.
#[derive(Debug, Clone, Copy)]
pub struct Limit<'a> {
    /// The maximum.
    pub most: Duration,
    /// Set when the work is to stop; `None` for work that must be completed.
    pub stop: Option<&'a AtomicBool>,
}

impl Limit<'_> {
    /// For tools that answer at once or not at all, and must complete.
    pub const SHORT: Self = Self { most: Duration::from_secs(180), stop: None };
}

/// The interval at which a tool is checked.
const LOOK: Duration = Duration::from_millis(20);
/// The time that a tool has to end after it was asked to.
const GRACE: Duration = Duration::from_secs(10);

/// Waits for a tool's end; a tool that exceeds its time limit, or must stop, is terminated, then killed.
fn waited(child: &mut Child, program: &str, limit: Limit<'_>) -> io::Result<ExitStatus> {
    let begun = Instant::now();
    let mut asked: Option<(Instant, &str)> = None;
    loop {
        if let Some(status) = child.try_wait()? {
            return match asked {
                None => Ok(status),
                Some((_, why)) => Err(io::Error::new(io::ErrorKind::TimedOut, format!("{program} was stopped: {why}"))),
            };
        }
        let group = Pid::from_child(child);
        match asked {
            Some((when, _)) if when.elapsed() > GRACE => drop(kill_process_group(group, Signal::KILL)),
            Some(_) => {}
            None => {
                let stopped = limit.stop.is_some_and(|stop| stop.load(Ordering::Relaxed));
                let why = if stopped { "interrupted" } else { "timed out" };
                if stopped || begun.elapsed() > limit.most {
                    let _ = kill_process_group(group, Signal::TERM);
                    asked = Some((Instant::now(), why));
                }
            }
        }
        std::thread::sleep(LOOK);
    }
}

/// Runs one of the system's own tools and waits for it. It has a process group of its own: an interrupt from the terminal
/// does not end it. Its output goes to a file, so that a program that it leaves running is not waited for.
///
/// # Errors
/// When it cannot be started.
pub fn run(
    program: &str,
    words: &[impl AsRef<OsStr>],
    further: &[(&str, OsString)],
    limit: Limit<'_>,
) -> io::Result<ToolOutput> {
    run_keeping(program, words, further, limit, SAID)
}

/// The same, with so much of the output's end, in bytes.
///
/// # Errors
/// When it cannot be started.
pub fn run_keeping(
    program: &str,
    words: &[impl AsRef<OsStr>],
    further: &[(&str, OsString)],
    limit: Limit<'_>,
    kept: u64,
) -> io::Result<ToolOutput> {
    let mut said = tempfile::tempfile()?;
    let mut child = Command::new(program)
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
        .spawn()?;
    let status = waited(&mut child, program, limit)?;
    let mut end = Vec::new();
    let from = said.metadata()?.len().saturating_sub(kept);
    said.seek(SeekFrom::Start(from))?;
    said.take(kept).read_to_end(&mut end)?;
    let clean = |text: &str| text.chars().filter(|c| !c.is_control() || *c == '\n').collect::<String>();
    Ok(ToolOutput { status: status.code(), said: clean(&String::from_utf8_lossy(&end)) })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_tool_runs_in_fixed_surroundings_and_its_words_are_kept() {
        let ran = run("/bin/sh", &["-c", "echo one; echo $HOME.$LC_ALL >&2; exit 3"], &[], Limit::SHORT).unwrap();
        assert_eq!((ran.status, ran.last_line().as_str()), (Some(3), ".C.UTF-8"));
        let failed = ToolOutput { status: Some(1), said: "quay\nprobe: error: no pier\nTry --help\n".into() };
        assert_eq!((failed.why(), ran.why()), ("probe: error: no pier".to_owned(), ".C.UTF-8".to_owned()));
        let said =
            "quay: error processing pier (--configure):\n script returned error exit status 1\nErrors in:\n pier\n";
        let listed = ToolOutput { status: Some(1), said: said.into() };
        assert_eq!(listed.why(), "script returned error exit status 1");
        let long = run("/bin/sh", &["-c", "yes | head -c 100000"], &[], Limit::SHORT).unwrap();
        assert!(long.is_fine() && !long.said.is_empty() && long.said.len() as u64 <= SAID);
        let begun = std::time::Instant::now();
        assert!(run("/bin/sh", &["-c", "sleep 30 & echo left"], &[], Limit::SHORT).unwrap().is_fine());
        assert!(begun.elapsed().as_secs() < 20, "what it leaves running is not waited for");
        assert!(run("/no/such/tool", &["x"], &[], Limit::SHORT).is_err());
    }

    #[test]
    fn a_tool_that_does_not_end_is_ended_with_all_that_it_started() {
        let stop = AtomicBool::new(false);
        let begun = Instant::now();
        let short = Limit { most: Duration::from_millis(200), stop: Some(&stop) };
        let error = run("/bin/sh", &["-c", "sleep 600; echo never"], &[], short).unwrap_err();
        assert!(error.to_string().contains("timed out"), "{error}");
        stop.store(true, Ordering::Relaxed);
        let long = Limit { most: Duration::from_secs(600), stop: Some(&stop) };
        let error = run("/bin/sh", &["-c", "sleep 600"], &[], long).unwrap_err();
        assert!(error.to_string().contains("interrupted"), "{error}");
        assert!(begun.elapsed() < Duration::from_secs(60));
    }
}
