//! The smaller tables of the package database: diversions, overrides, triggers, architectures, marks.

use std::collections::{BTreeMap, BTreeSet};

use super::{RecordContent, RecordFault, RecordFix, Unknown, in_database, on, some_of};
use crate::machine::Machine;
use crate::model::{Finding, SystemPath, Verdict};
use crate::platform::Installed;
use crate::platform::debian::database::{Database, Earlier, Stanza, backups, earlier_copies};
use crate::platform::debian::{diversions, overrides};

/// Larger tables are refused, in bytes.
const MAX_TABLE: u64 = 64 << 20;
/// apt's record of packages that were installed only as dependencies (apt-mark(8)).
const MARKS: &str = "/var/lib/apt/extended_states";

/// Whether a place contains exactly the content of a listed path: place, path.
pub type Holds<'a> = dyn Fn(&SystemPath, &SystemPath) -> bool + 'a;

/// Judges the tables; `holds` decides whether a diverted file is where a diversion would have moved it. Conclusions from
/// the packages' records wait until those are correct: `known` are the findings on them.
#[must_use]
pub fn judge_tables(
    machine: &Machine,
    database: &Database,
    installed: &Installed,
    known: &[RecordFault],
    holds: &Holds<'_>,
) -> Vec<RecordFault> {
    let tables = Tables { machine, database, installed };
    let mut faults = Vec::new();
    faults.extend(tables.diversions(holds));
    faults.extend(tables.overrides());
    let of_triggers = |f: &RecordFault| f.finding.subject.as_path().is_some_and(|p| p.name().ends_with(b".triggers"));
    if !known.iter().any(of_triggers) {
        faults.extend(tables.triggers());
    }
    faults.extend(tables.architectures());
    faults.extend(tables.format());
    faults.extend(tables.marks());
    faults.extend(tables.available());
    faults
}

struct Tables<'a> {
    machine: &'a Machine,
    database: &'a Database,
    installed: &'a Installed,
}

/// A table as found.
enum Table {
    There(Vec<u8>),
    Missing,
    /// It cannot be read, or is not a file: verdict and cause.
    Unread(Verdict, Option<String>),
}

impl Tables<'_> {
    fn read(&self, path: &SystemPath) -> Table {
        match self.machine.read_up_to(path, MAX_TABLE) {
            Ok(Some(bytes)) => Table::There(bytes),
            Ok(None) => Table::Missing,
            Err(_) if self.machine.is_no_file(path) => Table::Unread(Verdict::WrongType, None),
            Err(e) => Table::Unread(Verdict::Unreadable, Some(crate::model::error_chain(&e))),
        }
    }

    fn diversions(&self, holds: &Holds<'_>) -> Option<RecordFault> {
        let path = in_database("diversions");
        let copies = earlier_copies(self.machine, "diversions");
        let entries = |text: &[u8]| diversions(text, &path).0;
        let old = copies.first().map(|copy| entries(&copy.text)).unwrap_or_default();
        let table = self.read(&path);
        let current = match &table {
            Table::There(text) => entries(text),
            _ => Vec::new(),
        };
        let known: BTreeSet<&SystemPath> = current.iter().map(|d| &d.from).collect();
        let lost: Vec<_> = old.iter().filter(|d| !known.contains(&d.from)).collect();
        let (verdict, cause, back): (_, _, Vec<_>) = match table {
            Table::There(text) if diversions(&text, &path).1.is_empty() && is_whole(&text) => {
                // If it was removed deliberately, nothing is at the diverted place any more.
                let back: Vec<_> = lost.into_iter().filter(|d| holds(&d.to, &d.from)).collect();
                let first = back.first()?;
                let cause =
                    format!("the diversion of {} to {} is missing; the file is still there", first.from, first.to);
                (Verdict::Inconsistent, Some(cause), back)
            }
            Table::There(_) => (Verdict::Corrupt, Some("not three lines per diversion".into()), lost),
            Table::Missing if copies.is_empty() => return None,
            Table::Missing => (Verdict::Missing, None, lost),
            Table::Unread(verdict, cause) => (verdict, cause, lost),
        };
        let mut text = Vec::new();
        for diversion in current.iter().chain(back) {
            let by = diversion.by.as_deref().unwrap_or(":");
            for line in [diversion.from.as_bytes(), diversion.to.as_bytes(), by.as_bytes()] {
                text.extend_from_slice(line);
                text.push(b'\n');
            }
        }
        Some(rewritten(&path, verdict, cause, text, copies.first()))
    }

    fn overrides(&self) -> Option<RecordFault> {
        let path = in_database("statoverride");
        let copies = earlier_copies(self.machine, "statoverride");
        let (verdict, cause, text) = match self.read(&path) {
            Table::There(text) if overrides(&text, &path).1.is_empty() && is_whole(&text) => return None,
            Table::There(text) => (Verdict::Corrupt, Some("invalid line".to_owned()), text),
            Table::Missing if copies.is_empty() => return None,
            Table::Missing => (Verdict::Missing, None, Vec::new()),
            Table::Unread(verdict, cause) => (verdict, cause, Vec::new()),
        };
        let old = copies.first().map(|c| c.text.as_slice()).unwrap_or_default();
        let mut lines: Vec<&[u8]> = Vec::new();
        let mut known = BTreeSet::new();
        // A line that was truncated may still be valid.
        let current = text.split_inclusive(|b| *b == b'\n').filter(|l| l.ends_with(b"\n")).map(|l| &l[..l.len() - 1]);
        for line in current.chain(old.split(|b| *b == b'\n')) {
            if let [one] = overrides(line, &path).0.as_slice()
                && overrides(line, &path).1.is_empty()
                && known.insert(one.path.clone())
            {
                lines.push(line);
            }
        }
        let text = lines.into_iter().flat_map(|l| [l, b"\n"].concat()).collect();
        Some(rewritten(&path, verdict, cause, text, copies.first()))
    }

    /// The packages that wait for a trigger follow from the packages' own `triggers` members (deb-triggers(5)).
    fn triggers(&self) -> Vec<RecordFault> {
        let mut files: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
        let folder = in_database("info");
        let Ok(dir) = self.machine.resolve(&folder).and_then(|real| self.machine.dir(&real)) else { return Vec::new() };
        for (stem, _) in self.database.info.iter().filter(|(_, all)| all.contains("triggers")) {
            let Ok(text) = dir.read(format!("{stem}.triggers").as_bytes(), MAX_TABLE) else { return Vec::new() };
            for (name, waits) in interests(&String::from_utf8_lossy(&text)) {
                let suffix = if waits { "" } else { "/noawait" };
                match name.starts_with('/') {
                    true => files.entry("File".into()).or_default().insert(format!("{name} {stem}{suffix}")),
                    false => files.entry(name.to_owned()).or_default().insert(format!("{stem}{suffix}")),
                };
            }
        }
        files.iter().filter_map(|(name, wanted)| self.trigger(name, wanted)).collect()
    }

    fn trigger(&self, name: &str, wanted: &BTreeSet<String>) -> Option<RecordFault> {
        let path = in_database("triggers").child(name.as_bytes()).ok()?;
        let (verdict, text) = match self.read(&path) {
            Table::There(text) => (Verdict::Altered, String::from_utf8_lossy(&text).into_owned()),
            Table::Missing => (Verdict::Missing, String::new()),
            Table::Unread(verdict, cause) => {
                let finding = Finding { cause, ..on(&path, None, verdict) };
                return Some(RecordFault { finding, fix: write(lines(wanted)) });
            }
        };
        // dpkg writes the architecture or omits it.
        let bare = |line: &str| -> String {
            let (before, name) = line.rsplit_once(' ').map_or(("", line), |(b, n)| (b, n));
            let (name, flag) = name.split_once('/').map_or((name, ""), |(n, f)| (n, f));
            format!("{before} {} {flag}", name.split(':').next().unwrap_or_default())
        };
        let have: BTreeSet<String> = text.lines().map(bare).collect();
        let want: BTreeSet<String> = wanted.iter().map(|l| bare(l)).collect();
        let gone: Vec<String> = wanted.iter().filter(|l| !have.contains(&bare(l))).cloned().collect();
        let more: Vec<String> = text.lines().filter(|l| !want.contains(&bare(l))).map(ToOwned::to_owned).collect();
        if gone.is_empty() && more.is_empty() && is_whole(text.as_bytes()) {
            return None;
        }
        let cause = match (gone.as_slice(), more.as_slice()) {
            (gone @ [_, ..], _) => format!("the entry {} is missing", some_of(gone)),
            (_, more @ [_, ..]) => {
                let more: Vec<String> = more.iter().map(|l| crate::model::readable(l.as_bytes())).collect();
                format!("no package requests {}", some_of(&more))
            }
            _ => "last line is truncated".into(),
        };
        let cause = Some(cause).filter(|_| verdict != Verdict::Missing);
        let finding = Finding { cause, ..on(&path, None, verdict) };
        Some(RecordFault { finding, fix: write(lines(wanted)) })
    }

    /// The architectures that dpkg accepts: they must include those of all installed packages.
    fn architectures(&self) -> Option<RecordFault> {
        let path = in_database("arch");
        let mut count: BTreeMap<&str, usize> = BTreeMap::new();
        for package in self.installed.packages.iter().filter(|c| c.id.arch != "all") {
            *count.entry(&package.id.arch).or_default() += 1;
        }
        let text = match self.read(&path) {
            Table::There(text) => String::from_utf8_lossy(&text).into_owned(),
            // Without the table dpkg accepts only its own architecture.
            Table::Missing if count.len() < 2 => return None,
            Table::Missing => String::new(),
            Table::Unread(verdict, cause) => {
                let finding = Finding { cause, ..on(&path, None, verdict) };
                return Some(RecordFault { finding, fix: write(arch_lines("", &count)) });
            }
        };
        let word = |line: &str| !line.is_empty() && line.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-');
        let garbled = !is_whole(text.as_bytes()) || !text.lines().all(word) || text.is_empty();
        let lacking: Vec<String> =
            count.keys().filter(|a| !text.lines().any(|l| l == **a)).map(ToString::to_string).collect();
        if (count.len() < 2 || lacking.is_empty()) && (!garbled || text.is_empty()) {
            return None;
        }
        let verdict = match (text.is_empty(), garbled) {
            (true, _) => Verdict::Missing,
            (_, true) => Verdict::Corrupt,
            _ => Verdict::Inconsistent,
        };
        let cause = (!lacking.is_empty())
            .then(|| format!("packages of architecture {} are installed, but it is not listed", some_of(&lacking)));
        let finding = Finding { cause, ..on(&path, None, verdict) };
        Some(RecordFault { finding, fix: write(arch_lines(&text, &count)) })
    }

    /// The layout of the info folder: without it dpkg does not find packages of several architectures.
    fn format(&self) -> Option<RecordFault> {
        let path = in_database("info/format");
        let needed = self.database.info.keys().any(|stem| stem.contains(':'));
        let verdict = match self.read(&path) {
            Table::There(text) if text == b"1\n" => return None,
            Table::There(_) => Verdict::Corrupt,
            Table::Missing if !needed => return None,
            Table::Missing => Verdict::Missing,
            Table::Unread(verdict, _) => verdict,
        };
        Some(RecordFault { finding: on(&path, None, verdict), fix: write(b"1\n".to_vec()) })
    }

    /// Packages that were installed only as dependencies.
    fn marks(&self) -> Option<RecordFault> {
        let path = SystemPath::literal(MARKS);
        let copies = || backups(self.machine, "apt.extended_states");
        let (verdict, cause, text) = match self.read(&path) {
            Table::There(text) => {
                let (_, bad) = marks(&text);
                (Verdict::Corrupt, Some(bad?), text)
            }
            Table::Missing => (Verdict::Missing, None, Vec::new()),
            Table::Unread(verdict, cause) => (verdict, cause, Vec::new()),
        };
        let copies = copies();
        if verdict == Verdict::Missing && copies.is_empty() {
            return None;
        }
        let mut all: Vec<Stanza> = marks(&text).0;
        for stanza in copies.first().map(|c| marks(&c.text).0).unwrap_or_default() {
            let key = stanza.key();
            if !all.iter().any(|s| s.key() == key) {
                all.push(stanza);
            }
        }
        let text = all.iter().flat_map(|s| [s.raw(), b"\n"].concat()).collect();
        Some(rewritten(&path, verdict, cause, text, copies.first()))
    }

    /// dpkg's table of available packages: unused, but dpkg stops if it cannot be read.
    fn available(&self) -> Option<RecordFault> {
        let path = in_database("available");
        let bad = match self.read(&path) {
            Table::There(text) => first_bad(&text)?,
            Table::Missing => return None,
            Table::Unread(_, cause) => cause.unwrap_or_else(|| "not a regular file".into()),
        };
        let finding = Finding { cause: Some(bad), ..on(&path, None, Verdict::Corrupt) };
        Some(RecordFault { finding, fix: write(Vec::new()) })
    }
}

/// Why a table of entries cannot be read; `None` when it can.
fn first_bad(text: &[u8]) -> Option<String> {
    crate::platform::debian::database::pieces(text).into_iter().find_map(|raw| Stanza::parse(raw).err())
}

/// The readable marks, and the errors in the others.
fn marks(text: &[u8]) -> (Vec<Stanza>, Option<String>) {
    let (mut all, mut bad) = (Vec::new(), None);
    for raw in crate::platform::debian::database::pieces(text) {
        match Stanza::parse(raw) {
            Ok(stanza) if !stanza.name().is_empty() => all.push(stanza),
            Ok(_) => bad = bad.or(Some("an entry without a name".into())),
            Err(why) => bad = bad.or(Some(why)),
        }
    }
    (all, bad)
}

/// The triggers of a package, and whether other packages wait for them.
fn interests(text: &str) -> Vec<(&str, bool)> {
    // Such a name becomes a file name: a name with a slash is invalid.
    let plain = |name: &&str| name.starts_with('/') || !name.contains('/') && *name != ".." && *name != ".";
    text.lines().filter_map(interest).filter(|(name, _)| plain(name)).collect()
}

fn interest(line: &str) -> Option<(&str, bool)> {
    let (word, name) = line.split('#').next()?.trim().split_once(char::is_whitespace)?;
    match word {
        "interest" | "interest-await" => Some((name.trim(), true)),
        "interest-noawait" => Some((name.trim(), false)),
        _ => None,
    }
}

fn is_whole(text: &[u8]) -> bool {
    text.is_empty() || text.ends_with(b"\n")
}

fn lines(wanted: &BTreeSet<String>) -> Vec<u8> {
    wanted.iter().flat_map(|l| format!("{l}\n").into_bytes()).collect()
}

/// The architectures, the machine's own first: dpkg takes the first as its own.
fn arch_lines(text: &str, count: &BTreeMap<&str, usize>) -> Vec<u8> {
    let mut all: Vec<&str> = Vec::new();
    let native = count.iter().max_by_key(|(_, n)| **n).map(|(arch, _)| *arch);
    let known =
        text.lines().filter(|l| count.contains_key(l) || l.len() > 2 && l.bytes().all(|b| b.is_ascii_alphanumeric()));
    for arch in native.into_iter().chain(known).chain(count.keys().copied()) {
        if !all.contains(&arch) {
            all.push(arch);
        }
    }
    all.iter().flat_map(|a| format!("{a}\n").into_bytes()).collect()
}

fn write(text: Vec<u8>) -> Result<RecordFix, Unknown> {
    Ok(RecordFix::Write { content: RecordContent::Bytes(text), mode: 0o644 })
}

/// A table that is rebuilt from its readable entries and its newest earlier copy.
fn rewritten(
    path: &SystemPath,
    verdict: Verdict,
    cause: Option<String>,
    text: Vec<u8>,
    copy: Option<&Earlier>,
) -> RecordFault {
    let mut finding = Finding { cause, ..on(path, None, verdict) };
    match copy {
        Some(copy) => finding.action = Some(format!("unreadable entries are restored from {}", copy.path).into()),
        None => finding.action = Some("no older copy is available: unreadable entries are lost".into()),
    }
    RecordFault { finding, fix: write(text) }
}
