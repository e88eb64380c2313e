//! The ext4 file system's own tools (tune2fs(8)), run with fixed arguments, and what its check prints (e2fsck(8)).

use std::path::{Path, PathBuf};

use super::delegate::{Limit, ToolOutput, run};
use crate::devices::ext4::MountCounts;
use crate::model::error_words;

/// Where the system's own tools are.
const FOLDERS: [&str; 2] = ["/usr/sbin", "/sbin"];
/// Further lines of a log are not read.
const MAX_LINES: usize = 20_000;
/// Longer lines are cut, in characters.
const MAX_LINE: usize = 300;

/// A tool of this system by its name; `None` if it is not installed.
#[must_use]
pub fn tool(name: &str) -> Option<PathBuf> {
    FOLDERS.iter().map(|folder| Path::new(folder).join(name)).find(|path| path.exists())
}

/// Sets how often a file system counts as mounted, and how often it may be until it is checked. Works while it is mounted.
///
/// # Errors
/// Why the tool could not be run, or what it said.
pub fn set_mount_counts(device: &Path, counts: MountCounts) -> Result<(), String> {
    let program = tool("tune2fs").ok_or("tune2fs (package e2fsprogs) is not installed")?;
    let (mounts, maximum) = (counts.mounts.to_string(), counts.maximum.to_string());
    let words = ["-C", &mounts, "-c", &maximum].map(std::ffi::OsStr::new);
    let words = [&words[..], &[device.as_os_str()]].concat();
    let ran = run(&program.to_string_lossy(), &words, &[], Limit::SHORT).map_err(|e| error_words(&e))?;
    if ran.is_fine() { Ok(()) } else { Err(format!("tune2fs failed: {}", ran.why())) }
}

/// What a check of a file system at the start of the machine printed about it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct StartCheck {
    /// What it corrected, or could not: its own words, one line each.
    pub messages: Vec<String>,
    /// Whether it ended because a person has to decide.
    pub gave_up: bool,
    /// Whether it came to its end.
    pub is_complete: bool,
}

impl StartCheck {
    /// Takes what is about one file system out of a log, by the names that the check calls it: its device, or its label. `None` if
    /// there is nothing about it, or only that it was not due.
    #[must_use]
    pub fn parse(log: &str, names: &[&str]) -> Option<Self> {
        let mut found = Self::default();
        let mut ran = false;
        for line in log.lines().take(MAX_LINES) {
            let about = |name: &&str| line.trim().strip_prefix(*name);
            if names.iter().filter_map(about).any(|said| said.starts_with(' ') && said.ends_with(", check forced.")) {
                // A later run counts.
                (found, ran) = (Self::default(), true);
                continue;
            }
            let Some(said) = names.iter().find_map(|name| about(name)?.strip_prefix(": ")) else { continue };
            if said.contains("UNEXPECTED INCONSISTENCY") {
                (found.gave_up, ran) = (true, true);
            } else if is_summary(said) {
                found.is_complete = ran;
            } else if !said.starts_with("clean, ") && !said.starts_with("***** ") && !said.starts_with("recovering ") {
                found.messages.push(said.chars().take(MAX_LINE).filter(|c| !c.is_control()).collect());
                ran = true;
            }
        }
        (ran && (found.is_complete || found.gave_up || !found.messages.is_empty())).then_some(found)
    }
}

/// The last line of a complete check: `16616/98304 files (0.1% non-contiguous), 280000/393216 blocks`.
fn is_summary(line: &str) -> bool {
    line.contains(" files (") && line.contains(" non-contiguous), ") && line.ends_with(" blocks")
}

/// What the service manager's check printed since the last start (systemd-fsck@.service(8)).
///
/// # Errors
/// When the log cannot be read.
pub fn journal_of_checks() -> std::io::Result<ToolOutput> {
    let words = ["--boot", "--identifier=systemd-fsck", "--output=cat", "--no-pager", "--lines=2000"];
    run("/usr/bin/journalctl", &words, &[], Limit::SHORT)
}

#[cfg(test)]
mod tests {
    use super::*;

    const LOG: &str = "Log of fsck -C -f -y -V -t ext4 /dev/vda2\nMon Nov 30 04:00:00 2026\n\nfsck from util-linux 2.38.1\n\
        vtmroot has been mounted 100 times without being checked, check forced.\n\
        vtmroot: Inode 417, i_blocks is 16, should be 8.  FIXED.\n\
        vtmroot: 16616/98304 files (0.1% non-contiguous), 280000/393216 blocks\n/dev/vda3: clean, 11/64 files, 5/256 blocks\n";

    #[test]
    fn of_a_log_only_what_is_about_the_file_system_counts() {
        let found = StartCheck::parse(LOG, &["/dev/vda2", "vtmroot"]).unwrap();
        assert_eq!(found.messages, ["Inode 417, i_blocks is 16, should be 8.  FIXED."]);
        assert!(found.is_complete && !found.gave_up);
        assert_eq!(StartCheck::parse(LOG, &["/dev/vda3"]), None, "it was not due");
        assert_eq!(StartCheck::parse(LOG, &["/dev/sda1"]), None);
        let stopped = "home: Inode 12 is bad.\nhome: UNEXPECTED INCONSISTENCY; RUN fsck MANUALLY.\n";
        let found = StartCheck::parse(stopped, &["home"]).unwrap();
        assert!(found.gave_up && !found.is_complete && found.messages.len() == 1);
    }

    #[test]
    fn a_check_is_due_on_battery_too_when_the_count_is_twice_the_maximum() {
        let due = |mounts, maximum| MountCounts { mounts, maximum }.is_due();
        assert!(due(100, 50) && due(65534, 32767));
        assert!(!due(99, 50) && !due(7, -1) && !due(0, 0) && !due(u16::MAX, -1));
    }

    proptest::proptest! {
        #[test]
        fn a_damaged_log_yields_short_lines_only(seed: u64) {
            let log = crate::testkit::mutated(LOG.as_bytes(), seed);
            if let Some(found) = StartCheck::parse(&String::from_utf8_lossy(&log), &["vtmroot"]) {
                proptest::prop_assert!(found.messages.iter().all(|line| line.chars().count() <= MAX_LINE));
            }
        }
    }
}
