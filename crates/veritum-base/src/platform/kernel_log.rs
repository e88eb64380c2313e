//! The read errors of disks in the kernel's log (Documentation/ABI/testing/dev-kmsg): a block that cannot be read leaves no other trace.

use std::collections::BTreeSet;
use std::ffi::OsString;
use std::io::{self, Read as _};
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::Path;

use rustix::fs::OFlags;

use super::delegate::{Limit, run};

const LOG: &str = "/dev/kmsg";
const JOURNALCTL: &str = "/usr/bin/journalctl";
/// Longer records do not exist, in bytes.
const RECORD: usize = 8192;
/// Further records are not read.
const MAX_RECORDS: usize = 1 << 20;
/// Further places are not kept.
const MAX_PLACES: usize = 10_000;
/// What precedes the name of the disk in such a message.
const MARKS: [&str; 2] = ["I/O error, dev ", "medium error, dev "];

/// A place that the kernel could not read.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct ReadError {
    /// The kernel's name of the disk.
    pub disk: String,
    /// The sector of 512 bytes.
    pub sector: u64,
}

impl ReadError {
    /// Reads a message; `None` if it is about something else.
    #[must_use]
    pub fn parse(message: &str) -> Option<Self> {
        let after = MARKS.iter().find_map(|mark| Some(message.split_once(mark)?.1))?;
        let (disk, rest) = after.split_once(", sector ")?;
        let digits = rest.find(|c: char| !c.is_ascii_digit()).map_or(rest, |end| &rest[..end]);
        let is_name =
            |name: &str| name.len() <= 64 && name.bytes().all(|b| b.is_ascii_alphanumeric() || b"-_!".contains(&b));
        let is_read = !rest.contains("(WRITE") && !rest.contains("(DISCARD") && !rest.contains("(FLUSH");
        (is_read && is_name(disk)).then_some(Self { disk: disk.to_owned(), sector: digits.parse().ok()? })
    }
}

/// The places that could not be read since the system was started, as far as the log reaches back; each once.
///
/// # Errors
/// When the log cannot be read: usually only root may.
pub fn read_errors() -> io::Result<BTreeSet<ReadError>> {
    let flags = OFlags::NONBLOCK.bits().cast_signed();
    let mut log = std::fs::OpenOptions::new().read(true).custom_flags(flags).open(LOG)?;
    let mut record = [0; RECORD];
    let mut found = BTreeSet::new();
    for _ in 0..MAX_RECORDS {
        match log.read(&mut record) {
            Ok(0) => break,
            Ok(size) => {
                let text = String::from_utf8_lossy(&record[..size]);
                let message = text.lines().next().and_then(|line| Some(line.split_once(';')?.1));
                found.extend(message.and_then(ReadError::parse));
            }
            Err(e) if e.kind() == io::ErrorKind::WouldBlock => break,
            // Older records were overwritten meanwhile.
            Err(e) if e.kind() == io::ErrorKind::BrokenPipe || e.kind() == io::ErrorKind::Interrupted => {}
            Err(e) => return Err(e),
        }
        if found.len() >= MAX_PLACES {
            break;
        }
    }
    Ok(found)
}

/// Places that could not be read at earlier starts, by systemd's journal of the last months: that of the running system, or of the folder
/// of another one. The end of it, if there are many.
#[must_use]
pub fn earlier_read_errors(folder: Option<&Path>) -> BTreeSet<ReadError> {
    let words =
        ["--no-pager", "--quiet", "--output=cat", "--priority=err", "--since=90 days ago", "--grep=error, dev "];
    let mut words: Vec<OsString> = words.into_iter().map(OsString::from).collect();
    if let Some(folder) = folder {
        let mut word = OsString::from("--directory=");
        word.push(folder);
        words.push(word);
    }
    words.push("_TRANSPORT=kernel".into());
    let ran = run(JOURNALCTL, &words, &[], Limit::SHORT);
    ran.map(|ran| ran.said.lines().filter_map(ReadError::parse).collect()).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    const LINES: [&str; 3] = [
        "I/O error, dev sda, sector 153192 op 0x0:(READ) flags 0x80700 phys_seg 1 prio class 2",
        "critical medium error, dev nvme0n1, sector 20000 op 0x0:(READ) flags 0x0 phys_seg 1 prio class 2",
        "print_req_error: I/O error, dev dm-0, sector 7",
    ];

    #[test]
    fn read_errors_are_taken_and_nothing_else() {
        let found: Vec<_> = LINES.iter().filter_map(|line| ReadError::parse(line)).collect();
        let told: Vec<_> = found.iter().map(|error| (error.disk.as_str(), error.sector)).collect();
        assert_eq!(told, [("sda", 153_192), ("nvme0n1", 20_000), ("dm-0", 7)]);
        for other in [
            "I/O error, dev sda, sector 5 op 0x1:(WRITE) flags 0x0",
            "I/O error, dev ../../x, sector 5 op 0x0:(READ)",
            "I/O error, dev sda, sector x",
            "Buffer I/O error on dev sda1, logical block 9, async page read",
            "",
        ] {
            assert_eq!(ReadError::parse(other), None, "{other}");
        }
    }

    proptest::proptest! {
        #[test]
        fn damaged_lines_are_read_without_panic(seed: u64, which in 0usize..3) {
            let line = crate::testkit::mutated(LINES[which].as_bytes(), seed);
            let _ = ReadError::parse(&String::from_utf8_lossy(&line));
        }
    }
}
