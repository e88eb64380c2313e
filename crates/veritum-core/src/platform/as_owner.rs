//! Work below a home with the rights of its owner: by a child of our own program, never with root's.

use std::ffi::OsString;
use std::io::{self, Read as _};
use std::os::fd::OwnedFd;
use std::os::unix::process::CommandExt as _;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

/// A longer question cannot be handed over in one word (`MAX_ARG_STRLEN` of Linux, with room to spare).
const MAX_QUESTION: usize = 120 << 10;
/// A longer answer is none.
const MAX_ANSWER: u64 = 64 << 20;
/// A home may lie on a slow disk, or on a file system that never answers.
const PATIENCE: Duration = Duration::from_secs(180);

/// Starts `helper` (a program with its first words) with the question as its last word, as user and group `ids`, the open folder as
/// its standard input and nothing else of ours; its answer.
///
/// # Errors
/// When it cannot be started, ends with an error, says too much or does not end.
pub fn ask(helper: &[OsString], ids: (u32, u32), folder: OwnedFd, question: &str) -> io::Result<Vec<u8>> {
    let Some((program, words)) = helper.split_first() else { return Err(io::ErrorKind::Unsupported.into()) };
    if question.len() > MAX_QUESTION {
        return Err(io::Error::new(io::ErrorKind::InvalidInput, "the card is larger than can be handed over"));
    }
    // Without further groups: the standard library gives them up with the user when we are root.
    let mut child = Command::new(program)
        .args(words)
        .arg(question)
        .env_clear()
        .current_dir("/")
        .stdin(Stdio::from(folder))
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .gid(ids.1)
        .uid(ids.0)
        .spawn()?;
    let stdout = child.stdout.take();
    let reading = std::thread::spawn(move || {
        let mut bytes = Vec::new();
        stdout.map_or(Ok(0), |out| out.take(MAX_ANSWER + 1).read_to_end(&mut bytes)).map(|_| bytes)
    });
    let begun = Instant::now();
    let status = loop {
        if let Some(status) = child.try_wait()? {
            break status;
        }
        if begun.elapsed() > PATIENCE {
            child.kill()?;
            child.wait()?;
            return Err(io::Error::new(io::ErrorKind::TimedOut, "looking into it took too long"));
        }
        std::thread::sleep(Duration::from_millis(2));
    };
    let answer = reading.join().map_err(|_| io::Error::other("its answer could not be read"))??;
    if !status.success() || answer.len() as u64 > MAX_ANSWER {
        return Err(io::Error::other("it could not be looked into"));
    }
    Ok(answer)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn here() -> (OwnedFd, (u32, u32)) {
        let ids = (rustix::process::geteuid().as_raw(), rustix::process::getegid().as_raw());
        (std::fs::File::open("/").unwrap().into(), ids)
    }

    fn helper(script: &str) -> Vec<OsString> {
        ["/bin/sh", "-c", script].map(OsString::from).to_vec()
    }

    #[test]
    fn a_child_gets_the_folder_and_the_question_and_nothing_else() {
        let (folder, ids) = here();
        let said = ask(&helper("ls /proc/self/fd/0/ | grep -cx etc; echo $0 $HOME"), ids, folder, "what?").unwrap();
        assert_eq!(String::from_utf8(said).unwrap(), "1\nwhat?\n");
        for script in ["exit 3", "kill -9 $$"] {
            assert!(ask(&helper(script), ids, here().0, "x").is_err(), "{script}");
        }
        assert!(ask(&helper("true"), ids, here().0, &"x".repeat(200_000)).is_err());
        assert!(ask(&[], ids, here().0, "x").is_err());
    }

    #[test]
    fn root_gives_up_its_rights() {
        if !rustix::process::geteuid().is_root() {
            println!("SKIPPED: giving up root's rights needs root");
            return;
        }
        let said = ask(&helper("id -u; id -g; id -G"), (12_345, 12_346), here().0, "x").unwrap();
        assert_eq!(String::from_utf8(said).unwrap(), "12345\n12346\n12346\n");
    }
}
