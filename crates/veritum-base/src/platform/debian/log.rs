//! `/var/log/dpkg.log` and its rotated, compressed predecessors: recently installed, updated and removed packages.
//!
//! A line is `DATE TIME ACTION PACKAGE[:ARCH] OLD NEW` (dpkg(1), "--log"); only actions that change what is installed
//! are read. Times are local times without a zone.

use std::collections::HashMap;
use std::io::Read;

use crate::machine::Machine;
use crate::model::{SystemPath, byte_lines};
use crate::platform::{LogEntry, LogKind};

/// Larger logs are not read, in bytes before or after decompression.
const MAX_LOG: u64 = 8 << 20;
/// Older rotated logs are not read: a year of them.
pub(super) const MAX_ROTATED: u32 = 12;
/// Where the action begins in a line: after day and time.
const ACTION: usize = "2026-03-02 17:42:10 ".len();
/// The actions that change what is installed.
const ACTIONS: [&str; 5] = ["install ", "upgrade ", "remove ", "purge ", "disappear "];
/// At most this many entries are returned.
const MAX_HAPPENINGS: usize = 20_000;

/// The latest entries, newest first: at least `most`, and the rest of the last one's day.
pub(super) fn recent(machine: &Machine, most: usize) -> Vec<LogEntry> {
    let mut all: Vec<LogEntry> = Vec::new();
    let day = |entry: &LogEntry| entry.at.get(..10).map(ToOwned::to_owned);
    for number in 0..=MAX_ROTATED {
        let Some(text) = log(machine, number) else { continue };
        for entry in byte_lines(&text).rev().filter_map(line).map(LogEntry::from) {
            if all.len() >= most && (all.len() >= MAX_HAPPENINGS || all.last().and_then(day) != day(&entry)) {
                return all;
            }
            all.push(entry);
        }
    }
    all
}

/// Each package's last state of installation, with its version, by name and architecture, in the current log and the one
/// before it.
pub(super) fn states(machine: &Machine) -> HashMap<(String, String), (String, String)> {
    let mut all = HashMap::new();
    for text in [1, 0].into_iter().filter_map(|number| log(machine, number)) {
        for line in byte_lines(&text).filter_map(|l| std::str::from_utf8(l).ok()) {
            let fields: Vec<&str> = line.split_ascii_whitespace().collect();
            if let [_, _, "status", state, package, version] = fields[..]
                && let Some((name, arch)) = package.split_once(':')
                && all.len() < MAX_HAPPENINGS
            {
                all.insert((name.to_owned(), arch.to_owned()), (state.to_owned(), version.to_owned()));
            }
        }
    }
    all
}

/// Each package's last version in the current log and the one before it, by name and architecture. Lines before `since`, a local time such
/// as `2026-03-02 14:10:03`, do not count.
#[must_use]
pub(super) fn last_versions(machine: &Machine, since: Option<&str>) -> HashMap<(String, String), String> {
    let (day, time) = since.and_then(|since| since.split_once(' ')).unwrap_or_default();
    let texts: Vec<Vec<u8>> = [1, 0].into_iter().filter_map(|number| log(machine, number)).collect();
    let mut all: HashMap<(&str, &str), &str> = HashMap::new();
    let lines = texts.iter().flat_map(|text| byte_lines(text)).filter_map(line);
    for line in lines.filter(|line| (line.day, line.time) >= (day, time)) {
        let key = (line.name, line.arch);
        match line.to {
            Some(version) if all.len() < MAX_HAPPENINGS => drop(all.insert(key, version)),
            _ => drop(all.remove(&key)),
        }
    }
    all.into_iter().map(|((name, arch), version)| ((name.to_owned(), arch.to_owned()), version.to_owned())).collect()
}

fn log(machine: &Machine, number: u32) -> Option<Vec<u8>> {
    rotated(machine, "/var/log", "dpkg.log", number)
}

/// A log or one of its predecessors as text: 0 is the current one. `None` for a log that cannot be read or decompressed.
pub(super) fn rotated(machine: &Machine, folder: &'static str, log: &str, number: u32) -> Option<Vec<u8>> {
    let read = |name: &str| {
        let path = SystemPath::literal(folder).child(name.as_bytes()).ok()?;
        machine.read_up_to(&path, MAX_LOG).ok()?
    };
    if number == 0 {
        return read(log);
    }
    if let Some(plain) = read(&format!("{log}.{number}")) {
        return Some(plain);
    }
    let packed = read(&format!("{log}.{number}.gz"))?;
    let mut text = Vec::new();
    // A truncated or damaged log is used as far as it can be read.
    let _ = flate2::read::MultiGzDecoder::new(&packed[..]).take(MAX_LOG).read_to_end(&mut text);
    Some(text)
}

/// One line about a change of what is installed.
struct Line<'a> {
    day: &'a str,
    time: &'a str,
    what: LogKind,
    name: &'a str,
    arch: &'a str,
    from: Option<&'a str>,
    to: Option<&'a str>,
}

impl From<Line<'_>> for LogEntry {
    fn from(line: Line<'_>) -> Self {
        Self {
            at: [line.day, line.time].join(" "),
            what: line.what,
            name: line.name.to_owned(),
            arch: line.arch.to_owned(),
            from: line.from.map(ToOwned::to_owned),
            to: line.to.map(ToOwned::to_owned),
        }
    }
}

fn line(bytes: &[u8]) -> Option<Line<'_>> {
    // Four of five lines are about other actions: one look at the action rules them out.
    let action = bytes.get(ACTION..).filter(|rest| ACTIONS.iter().any(|action| rest.starts_with(action.as_bytes())));
    action?;
    let text = std::str::from_utf8(bytes).ok()?;
    let mut fields = text.split_ascii_whitespace();
    let [day, time, action, package, from, to] = std::array::from_fn(|_| fields.next().unwrap_or_default());
    let digits = |text: &str, shape: &str| {
        text.len() == shape.len()
            && text.bytes().zip(shape.bytes()).all(|(b, s)| if s == b'0' { b.is_ascii_digit() } else { b == s })
    };
    let is_whole = !to.is_empty() && fields.next().is_none();
    if !is_whole || !digits(day, "0000-00-00") || !digits(time, "00:00:00") || text.chars().any(char::is_control) {
        return None;
    }
    let (name, arch) = package.split_once(':').unwrap_or((package, ""));
    let version = |text: &'_ str| text != "<none>";
    let what = match action {
        "install" => LogKind::Installed,
        // The same version again: a reinstallation.
        "upgrade" if from == to => LogKind::Installed,
        "upgrade" => LogKind::Updated,
        "remove" | "purge" | "disappear" => LogKind::Removed,
        _ => return None,
    };
    // Purging a removed package deletes only its configuration; a removal has no new version.
    let from = Some(from).filter(|from| version(from));
    let to = Some(to).filter(|to| version(to) && what != LogKind::Removed);
    if what == LogKind::Removed && from.is_none() {
        return None;
    }
    Some(Line { day, time, what, name, arch, from, to })
}

#[cfg(test)]
mod tests {
    use std::io::Write as _;
    use std::sync::Arc;

    use proptest::prelude::*;

    use super::*;
    use crate::machine::LiveDisk;

    fn machine(logs: &[(&str, &[u8])]) -> (tempfile::TempDir, Machine) {
        let dir = tempfile::tempdir().unwrap();
        std::fs::create_dir_all(dir.path().join("var/log")).unwrap();
        std::fs::create_dir_all(dir.path().join("usr/lib")).unwrap();
        for (name, bytes) in logs {
            std::fs::write(dir.path().join("var/log").join(name), bytes).unwrap();
        }
        let machine = Machine::open(dir.path(), Arc::new(LiveDisk)).unwrap();
        (dir, machine)
    }

    fn packed(text: &[u8]) -> Vec<u8> {
        let mut encoder = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        encoder.write_all(text).unwrap();
        encoder.finish().unwrap()
    }

    fn told(all: &[LogEntry]) -> Vec<String> {
        all.iter().map(|h| format!("{} {:?} {} {:?} {:?}", h.at, h.what, h.name, h.from, h.to)).collect()
    }

    #[test]
    fn the_newest_come_first_through_rotated_and_packed_logs() {
        let (_keep, machine) = machine(&[
            (
                "dpkg.log",
                b"2026-03-02 10:00:00 startup archives unpack\n2026-03-02 10:00:01 upgrade quay:amd64 1.0 1.1\n\
                  2026-03-02 10:00:01 upgrade rig:amd64 3.0 3.0\n\
                  2026-03-02 10:00:02 status installed quay:amd64 1.1\n2026-03-02 10:00:03 remove pier:all 2.0 <none>\n",
            ),
            ("dpkg.log.1", b"2026-02-01 09:00:00 install rig:amd64 <none> 3.0\n"),
            ("dpkg.log.2.gz", &packed(b"2026-01-01 09:00:00 install quay:amd64 <none> 1.0\n")),
        ]);
        let all = recent(&machine, 10);
        assert_eq!(
            told(&all),
            [
                r#"2026-03-02 10:00:03 Removed pier Some("2.0") None"#,
                r#"2026-03-02 10:00:01 Installed rig Some("3.0") Some("3.0")"#,
                r#"2026-03-02 10:00:01 Updated quay Some("1.0") Some("1.1")"#,
                r#"2026-02-01 09:00:00 Installed rig None Some("3.0")"#,
                r#"2026-01-01 09:00:00 Installed quay None Some("1.0")"#,
            ]
        );
        assert_eq!((all[2].arch.as_str(), told(&recent(&machine, 2))), ("amd64", told(&all[..3])));
    }

    #[test]
    fn a_day_is_told_whole() {
        let line = |day: u32, at: u32| format!("2026-03-0{day} 10:00:{at:02} install rig{at} <none> 3.0\n");
        let text: String = (0..40).map(|at| line(1 + at / 20, at)).collect();
        let (_keep, machine) = machine(&[("dpkg.log", text.as_bytes())]);
        let counts: Vec<usize> = [1, 5, 20, 21, 60].iter().map(|most| recent(&machine, *most).len()).collect();
        assert_eq!(counts, [20, 20, 20, 40, 40]);
    }

    #[test]
    fn a_machine_without_logs_has_no_past() {
        let (_keep, machine) = machine(&[]);
        assert_eq!(recent(&machine, 10), []);
    }

    #[test]
    fn a_cut_log_gives_what_it_still_has_and_a_bomb_is_bounded() {
        let mut text = b"2026-01-01 09:00:00 install quay:amd64 <none> 1.0\n".to_vec();
        text.extend(std::iter::repeat_n(b'\n', 12 << 20));
        let bomb = packed(&text);
        let half = &bomb[..bomb.len() / 2];
        for bytes in [&bomb[..], half] {
            let (_keep, machine) = machine(&[("dpkg.log.1.gz", bytes)]);
            assert_eq!(recent(&machine, 10).len(), 1);
        }
    }

    proptest! {
        #[test]
        fn no_line_ends_the_program_or_brings_control_characters(bytes: Vec<u8>, tail in "[ -~\\x1b]{0,40}") {
            let _ = line(&bytes);
            if let Some(one) = line(format!("2026-01-01 09:00:00 install {tail}").as_bytes()) {
                prop_assert!(!one.name.chars().any(char::is_control));
            }
        }
    }
}
