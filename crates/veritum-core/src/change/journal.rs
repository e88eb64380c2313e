//! The log of a change (`veritum.journal/1`): a format of our own, readable without Veritum.
//!
//! A record is a line: the length of its JSON in eight hexadecimal digits, the first eight bytes of the JSON's BLAKE3
//! digest in sixteen, the JSON. Records are only ever appended, each made durable before what it announces begins. A torn
//! last record counts as not written; anything wrong before the last is damage.

use std::io;
use std::os::fd::{AsFd, OwnedFd};

use serde::{Deserialize, Serialize};

use super::record::{Begin, ClearedFlags, ParentTime, Record};
use crate::machine::{Dir, read_to_limit};
use crate::model::{Digest, Identity};
use crate::plan::{ActionOutcome, PlannedAction};

/// The format's name; a change log with any other is refused before anything is written.
pub(super) const FORMAT: &str = "veritum.journal/1";
/// That of a record about the bytes of a disk, which older versions do not know.
pub(super) const DISK_FORMAT: &str = "veritum.journal/2";
const NAME: &[u8] = b"journal";
/// Larger change logs are refused: a change of 100,000 actions has a third of it.
const MAX_JOURNAL: u64 = 256 << 20;
/// Length, space, checksum, space.
const HEAD: usize = 8 + 1 + 16 + 1;

/// Why a change log cannot be used.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum JournalError {
    /// It cannot be read or written.
    #[error("cannot be read or written")]
    Io(#[from] io::Error),
    /// It is damaged before its last record.
    #[error("damaged: {0}")]
    Damaged(String),
    /// It has the format of a newer Veritum.
    #[error("written by a newer Veritum ({0})")]
    Newer(String),
}

/// An open change log to append to.
#[derive(Debug)]
pub(super) struct Journal {
    dir: Dir,
    file: OwnedFd,
    /// The size up to the end of the last complete record.
    good: u64,
    /// Whether a failed write could not be truncated: then nothing more is appended.
    broken: bool,
}

impl Journal {
    pub(super) fn create(dir: Dir) -> io::Result<Self> {
        drop(dir.disk().create(dir.fd(), NAME)?);
        // Opened for appending: after an incomplete record was truncated, the next one starts where it started.
        let file = dir.disk().open_append(dir.fd(), NAME)?;
        dir.disk().sync(dir.fd())?;
        Ok(Self { dir, file, good: 0, broken: false })
    }

    /// Opens a change log to continue it; an incomplete record at its end is truncated first.
    pub(super) fn reopen(dir: Dir, log: &ChangeLog) -> io::Result<Self> {
        let file = dir.disk().open_append(dir.fd(), NAME)?;
        if log.torn {
            dir.disk().truncate(file.as_fd(), log.good)?;
            dir.disk().sync(file.as_fd())?;
        }
        Ok(Self { dir, file, good: log.good, broken: false })
    }

    /// Appends a record and makes it durable.
    ///
    /// # Errors
    /// When it cannot be written, or an earlier failed write could not be truncated.
    pub(super) fn add(&mut self, record: &Record) -> io::Result<()> {
        if self.broken {
            return Err(io::Error::other("an earlier record could neither be written nor removed"));
        }
        let line = line(record)?;
        let disk = self.dir.disk();
        let written = disk.write(self.file.as_fd(), &line).and_then(|()| disk.sync(self.file.as_fd()));
        match written {
            Ok(()) => self.good += line.len() as u64,
            // An incomplete record must not precede a complete one.
            Err(_) => self.broken = disk.truncate(self.file.as_fd(), self.good).is_err(),
        }
        written
    }
}

/// The head of a record, before its JSON.
fn head_for(json: &[u8]) -> String {
    format!("{:08x} {} ", json.len(), &Digest::hash(json).to_hex()[..16])
}

/// Reads a change log completely.
pub(super) fn bytes_of(dir: &Dir) -> io::Result<Vec<u8>> {
    let file = dir.disk().open_file(dir.fd(), NAME)?;
    read_to_limit(dir.disk(), file.as_fd(), MAX_JOURNAL)
}

/// A value as a line with its length and checksum.
pub(super) fn line<T: Serialize>(value: &T) -> io::Result<Vec<u8>> {
    let json = serde_json::to_vec(value)?;
    let mut line = head_for(&json).into_bytes();
    line.extend_from_slice(&json);
    line.push(b'\n');
    Ok(line)
}

/// A change, by its change log.
#[derive(Debug, Clone, PartialEq)]
pub struct ChangeLog {
    /// The first record.
    pub begin: Begin,
    /// The others.
    pub records: Vec<Record>,
    /// The size up to the end of the last complete record.
    good: u64,
    /// Whether an incomplete record follows.
    torn: bool,
}

/// One round, by a change log.
#[derive(Debug, Clone, Copy)]
pub struct RoundLog<'a> {
    /// Its number.
    pub round: u32,
    /// Its actions.
    pub actions: &'a [PlannedAction],
    /// The folders that contain their places.
    pub parents: &'a [ParentTime],
    /// Places whose locking attributes are cleared during the round.
    pub cleared: &'a [ClearedFlags],
    /// What was staged, once it is committed.
    pub staged: Option<&'a [(u32, Identity)]>,
    /// Actions that failed while staging.
    pub given_up: &'a [(u32, String)],
    /// Whether all of its actions take effect or none.
    pub whole: bool,
    /// Whether it was being undone.
    pub back: bool,
    /// The results, if it is done.
    pub outcomes: Option<&'a [ActionOutcome]>,
    /// Why it was undone, if it was.
    pub taken_back: Option<&'a str>,
    /// The actions of an undone round whose displaced object stays in the backups.
    pub kept: &'a [u32],
}

impl RoundLog<'_> {
    /// Whether it is neither done nor undone.
    #[must_use]
    pub fn is_open(&self) -> bool {
        self.outcomes.is_none() && self.taken_back.is_none()
    }
}

impl ChangeLog {
    pub(super) fn read(dir: &Dir) -> Result<Option<Self>, JournalError> {
        match bytes_of(dir) {
            Err(e) if e.kind() == io::ErrorKind::NotFound => Ok(None),
            other => Self::parse(&other?),
        }
    }

    /// Parses a change log; `None` when not even the first record is complete.
    ///
    /// # Errors
    /// When it is damaged before its last record, or has a newer format.
    pub fn parse(bytes: &[u8]) -> Result<Option<Self>, JournalError> {
        let mut records = Vec::new();
        let mut rest = bytes;
        let mut good = 0u64;
        while !rest.is_empty() {
            match next(rest)? {
                Some((record, length)) => {
                    records.push(record);
                    good += length as u64;
                    rest = &rest[length..];
                }
                None => break,
            }
        }
        let torn = !rest.is_empty();
        let mut records = records.into_iter();
        match records.next() {
            None => Ok(None),
            Some(Record::Begin(begin)) => Ok(Some(Self { begin, records: records.collect(), good, torn })),
            Some(_) => Err(JournalError::Damaged("the first record is missing".into())),
        }
    }

    /// The rounds, in order.
    ///
    /// # Errors
    /// When the records contradict each other.
    pub fn rounds(&self) -> Result<Vec<RoundLog<'_>>, JournalError> {
        let mut rounds: Vec<RoundLog<'_>> = Vec::new();
        for record in &self.records {
            let number = match record {
                Record::Begin(_) => return Err(JournalError::Damaged("the first record appears twice".into())),
                Record::Paused { .. }
                | Record::Resumed
                | Record::Delegated { .. }
                | Record::DelegatedDone { .. }
                | Record::Disk { .. }
                | Record::DiskDone { .. }
                | Record::End { .. }
                | Record::Released { .. } => continue,
                Record::Plan { round, actions, parents, cleared, whole, .. } => {
                    if *round as usize != rounds.len() + 1 || rounds.last().is_some_and(RoundLog::is_open) {
                        return Err(JournalError::Damaged(format!("round {round} is out of order")));
                    }
                    rounds.push(RoundLog {
                        round: *round,
                        actions,
                        parents,
                        cleared,
                        staged: None,
                        given_up: &[],
                        whole: *whole,
                        back: false,
                        outcomes: None,
                        taken_back: None,
                        kept: &[],
                    });
                    continue;
                }
                Record::Commit { round, .. }
                | Record::Back { round }
                | Record::Done { round, .. }
                | Record::TakenBack { round, .. } => *round,
            };
            let Some(last) = rounds.last_mut().filter(|r| r.round == number && r.is_open()) else {
                return Err(JournalError::Damaged(format!("a record of round {number} is out of order")));
            };
            match record {
                Record::Commit { staged, given_up, .. } => {
                    last.staged = Some(staged);
                    last.given_up = given_up;
                }
                Record::Back { .. } => last.back = true,
                Record::Done { outcomes, .. } => last.outcomes = Some(outcomes),
                Record::TakenBack { why, kept, .. } => {
                    last.taken_back = Some(why);
                    last.kept = kept;
                }
                _ => {}
            }
        }
        Ok(rounds)
    }

    /// When its backups were deleted to limit their space; `None` while they are kept.
    #[must_use]
    pub fn released(&self) -> Option<jiff::Timestamp> {
        self.records.iter().find_map(|r| if let Record::Released { at } = r { Some(*at) } else { None })
    }

    /// The end: the numbers of findings answered and remaining; `None` while it is unfinished.
    #[must_use]
    pub fn end(&self) -> Option<(jiff::Timestamp, u64, u64)> {
        self.records.iter().find_map(|r| {
            if let Record::End { ended, answered, remaining } = r {
                Some((*ended, *answered, *remaining))
            } else {
                None
            }
        })
    }
}

/// The next record and its size; `None` when it is incomplete.
///
/// A record is a line, and its JSON contains no line break: an interruption leaves a shorter text without one.
/// Everything else that does not verify was changed after it was written.
fn next(bytes: &[u8]) -> Result<Option<(Record, usize)>, JournalError> {
    let damaged = |what: &str| Err(JournalError::Damaged(what.to_owned()));
    let Some(end) = memchr::memchr(b'\n', bytes) else {
        return match announced(bytes) {
            Some(length) if bytes.len() > HEAD + length => damaged("the last record has no line end"),
            _ => Ok(None),
        };
    };
    let Some(json) = verified(&bytes[..end]) else { return damaged("a record's checksum does not match") };
    match serde_json::from_slice::<Record>(json) {
        Ok(Record::Begin(begin)) if begin.format != FORMAT => {
            Err(JournalError::Newer(begin.format.chars().take(60).collect()))
        }
        Ok(Record::Disk { format, .. }) if format != DISK_FORMAT => {
            Err(JournalError::Newer(format.chars().take(60).collect()))
        }
        Ok(record) => Ok(Some((record, end + 1))),
        Err(e) => {
            #[derive(Deserialize)]
            struct Head {
                format: String,
            }
            match serde_json::from_slice::<Head>(json) {
                Ok(head) if head.format != FORMAT => Err(JournalError::Newer(head.format.chars().take(60).collect())),
                _ => damaged(&format!("a record cannot be read ({e})")),
            }
        }
    }
}

/// The length of the JSON that a record's head announces, in bytes.
fn announced(record: &[u8]) -> Option<usize> {
    usize::from_str_radix(std::str::from_utf8(record.get(..8)?).ok()?, 16).ok()
}

/// The JSON of a line without its line break, if length and checksum match.
pub(super) fn verified(line: &[u8]) -> Option<&[u8]> {
    let (head, json) = line.split_at_checked(HEAD)?;
    (head == head_for(json).as_bytes()).then_some(json)
}

#[cfg(test)]
mod tests {
    use super::super::record::Verb;
    use super::*;
    use crate::model::AreaName;

    fn begin() -> Record {
        Record::Begin(Begin {
            format: FORMAT.into(),
            writer: "0.1.0".into(),
            change: 1,
            verb: Verb::Repair,
            area: AreaName::new("files"),
            of: None,
            savepoint: None,
            home: None,
            started: jiff::Timestamp::UNIX_EPOCH,
            run: "r".into(),
        })
    }

    fn sample() -> Vec<Vec<u8>> {
        let plan =
            Record::Plan { round: 1, actions: vec![], parents: vec![], cleared: vec![], settles: vec![], whole: false };
        let commit = Record::Commit { round: 1, staged: vec![], given_up: vec![] };
        let done = Record::Done { round: 1, outcomes: vec![] };
        [begin(), plan, commit, done].iter().map(|r| line(r).unwrap()).collect()
    }

    #[test]
    fn a_change_log_cut_anywhere_tells_of_its_whole_records() {
        let lines = sample();
        let bytes = lines.concat();
        for cut in 0..=bytes.len() {
            let whole = lines
                .iter()
                .scan(0, |sum, l| {
                    *sum += l.len();
                    Some(*sum)
                })
                .filter(|end| *end <= cut)
                .count();
            let log = ChangeLog::parse(&bytes[..cut]).unwrap_or_else(|e| panic!("cut at {cut}: {e}"));
            assert_eq!(log.as_ref().map_or(0, |l| l.records.len() + 1), whole, "cut at {cut}");
            if let Some(log) = log {
                log.rounds().unwrap();
            }
        }
    }

    #[test]
    fn any_single_byte_that_changes_in_a_whole_log_is_damage() {
        let whole = sample().concat();
        for at in 0..whole.len() {
            for change in [0x01, 0x02, 0x20, 0x80, whole[at], whole[at] ^ b'\n', whole[at] ^ b'+'] {
                let mut bytes = whole.clone();
                bytes[at] ^= change;
                if bytes[at] != whole[at] {
                    let read = ChangeLog::parse(&bytes);
                    assert!(matches!(read, Err(JournalError::Damaged(_))), "byte {at} ^ {change:02x}: {read:?}");
                }
            }
        }
    }

    #[test]
    fn zeros_that_a_cut_left_at_the_end_are_torn() {
        for zeros in [1, 40, 4096] {
            let bytes = [sample().concat(), vec![0; zeros]].concat();
            let log = ChangeLog::parse(&bytes).unwrap().unwrap();
            assert_eq!((log.torn, log.records.len()), (true, 3));
        }
    }

    #[test]
    fn damage_before_the_last_record_is_told_and_not_guessed_over() {
        let mut bytes = sample().concat();
        let middle = sample()[0].len() + 40;
        bytes[middle] ^= 1;
        assert!(matches!(ChangeLog::parse(&bytes), Err(JournalError::Damaged(_))));
    }

    #[test]
    fn a_newer_change_log_is_called_newer() {
        let json = br#"{"record":"start","format":"veritum.journal/2"}"#;
        let mut line = head_for(json).into_bytes();
        line.extend_from_slice(json);
        line.push(b'\n');
        assert!(matches!(ChangeLog::parse(&line), Err(JournalError::Newer(f)) if f == "veritum.journal/2"));
    }

    #[test]
    fn records_out_of_order_are_damage() {
        let lines = [begin(), Record::Done { round: 1, outcomes: vec![] }].map(|r| line(&r).unwrap()).concat();
        assert!(ChangeLog::parse(&lines).unwrap().unwrap().rounds().is_err());
    }

    proptest::proptest! {
        #[test]
        fn a_log_with_a_changed_byte_that_is_cut_somewhere_tells_nothing_but_what_was_written(
            at in 0usize..2000, byte: u8, cut in 0usize..2000,
        ) {
            let whole = sample().concat();
            let mut bytes = whole.clone();
            let at = at % bytes.len();
            bytes[at] = byte;
            bytes.truncate(cut.max(1));
            if let Ok(Some(log)) = ChangeLog::parse(&bytes) {
                let good = usize::try_from(log.good).unwrap();
                proptest::prop_assert_eq!(&bytes[..good], &whole[..good]);
                proptest::prop_assert!(log.rounds().is_ok());
            }
        }
    }
}
