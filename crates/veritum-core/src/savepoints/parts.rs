//! [`Savepoints`]: the heads of all savepoints, and the parts of their manifests.
//!
//! Entries are cut into parts where the digest of a path says so: a change in one place alters one part, and all savepoints
//! share the others. Each file is written under another name, made durable, and renamed; the head comes last.

use std::io;
use std::os::fd::AsFd as _;

use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use super::SavepointError;
use super::manifest::{Entry, InstalledPackage, read_part, to_lines};
use crate::change::StateFolder;
use crate::machine::{Dir, Exchange};
use crate::model::Digest;
use crate::plan::KeptFolder;

/// The format's name.
pub(super) const FORMAT: &str = "veritum.savepoint/1";
/// A part begins with an entry whose path's digest ends in so many zero bits: about 256 entries make a part.
const CUT: u8 = 0xff;
/// A part with more entries is cut anyway.
const MAX_PART: usize = 8192;
/// Larger parts are refused, in bytes: entries of the longest paths have half of it.
const MAX_BYTES: u64 = 128 << 20;
/// Larger heads are refused, in bytes.
const MAX_HEAD: u64 = 64 << 20;
/// The level of zstd.
const LEVEL: i32 = 3;
/// The file that is there while a savepoint is made or removed: an interrupted run leaves contents that none needs.
const UNDER_WAY: &[u8] = b"under-way";
/// The beginning of a head's last line, before the digest of all others.
const SEAL: &str = "blake3 ";

/// The head of a savepoint.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Head {
    /// `veritum.savepoint/1`.
    pub format: String,
    /// The version of Veritum that made it.
    pub veritum: String,
    /// Its number, from 1.
    pub savepoint: u64,
    /// When it was made.
    pub made: jiff::Timestamp,
    /// Why it was made.
    pub reason: String,
    /// Whether it was made without being asked for.
    #[serde(default)]
    pub automatic: bool,
    /// The package tool's process before whose changes it was made, with its start time: one savepoint for all its runs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub before: Option<String>,
    /// The system's name and version.
    pub system: String,
    /// The number of entries.
    pub entries: u64,
    /// The parts with the entries, in the order of their paths.
    pub parts: Vec<Part>,
    /// The part with the installed packages.
    pub packages: Part,
    /// The folders with its contents.
    pub pools: Vec<KeptFolder>,
    /// Files that could not be read or kept, with the reason: a return leaves them as they are.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub missing: Vec<(crate::model::SystemPath, String)>,
}

/// A part of a manifest.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Part {
    /// BLAKE3 of its lines; its file has this name.
    pub blake3: Digest,
    /// Their size in bytes.
    pub bytes: u64,
}

/// The savepoints of a machine.
#[derive(Debug, Clone)]
pub struct Savepoints {
    heads: Dir,
    parts: Dir,
}

impl Savepoints {
    /// Opens the savepoints, if there are any.
    ///
    /// # Errors
    /// When the folder cannot be opened.
    pub fn find(state: &StateFolder) -> Result<Option<Self>, SavepointError> {
        let open = || -> io::Result<Self> {
            Ok(Self { heads: state.sub("savepoints")?, parts: state.sub("savepoints/parts")? })
        };
        match open() {
            Err(e) if e.kind() == io::ErrorKind::NotFound => Ok(None),
            other => other.map(Some).map_err(failed),
        }
    }

    pub(super) fn make(state: &StateFolder) -> Result<Self, SavepointError> {
        let make = || -> io::Result<Self> {
            Ok(Self { heads: state.make_sub("savepoints")?, parts: state.make_sub("savepoints/parts")? })
        };
        make().map_err(failed)
    }

    /// Marks that a savepoint is being made or removed; returns whether an earlier run was interrupted.
    pub(super) fn begin(&self) -> Result<bool, SavepointError> {
        match self.heads.disk().create(self.heads.fd(), UNDER_WAY) {
            Err(e) if e.kind() == io::ErrorKind::AlreadyExists => Ok(true),
            other => other.map(|_| false).map_err(failed),
        }
    }

    /// Removes the mark: nothing unneeded is left. If that fails, the next run looks for leftovers in vain.
    pub(super) fn end(&self) {
        let _ = self.heads.disk().unlink(self.heads.fd(), UNDER_WAY);
    }

    /// The numbers of all savepoints, in order.
    ///
    /// # Errors
    /// When the folder cannot be read.
    pub fn numbers(&self) -> Result<Vec<u64>, SavepointError> {
        let names = self.heads.disk().list(self.heads.fd()).map_err(failed)?;
        let number = |name: &[u8]| std::str::from_utf8(name).ok()?.parse::<u32>().ok().filter(|n| *n > 0);
        let mut numbers: Vec<u64> = names.iter().filter_map(|(name, _)| number(name)).map(u64::from).collect();
        numbers.sort_unstable();
        numbers.dedup();
        Ok(numbers)
    }

    /// The head of a savepoint.
    ///
    /// # Errors
    /// When it cannot be read, is damaged, or has a newer format.
    pub fn head(&self, number: u64) -> Result<Head, SavepointError> {
        let damaged = |what: &str| SavepointError::Damaged { number, what: what.to_owned() };
        let bytes = self.heads.read(number.to_string().as_bytes(), MAX_HEAD);
        let bytes = bytes.map_err(|source| SavepointError::Io { place: format!("savepoint {number}"), source })?;
        let json = unsealed(&bytes).ok_or_else(|| damaged("its head was altered or is incomplete"))?;
        #[derive(Deserialize)]
        struct Format {
            format: String,
        }
        let format = serde_json::from_slice::<Format>(json).map_err(|_| damaged("its head is not valid"))?.format;
        if format != FORMAT {
            return Err(SavepointError::Newer { number, format: format.chars().take(60).collect() });
        }
        let head: Head = serde_json::from_slice(json).map_err(|_| damaged("its head is not valid"))?;
        if head.savepoint == number { Ok(head) } else { Err(damaged("its head is that of another one")) }
    }

    /// All entries of a savepoint, in the order of their paths.
    ///
    /// # Errors
    /// When a part is missing or damaged.
    pub fn entries(&self, head: &Head, pool: &rayon::ThreadPool) -> Result<Vec<Entry>, SavepointError> {
        let damaged = |what: String| SavepointError::Damaged { number: head.savepoint, what };
        let read = |part: &Part| read_part(&self.read(part)?);
        let parts: Result<Vec<Vec<Entry>>, String> = pool.install(|| head.parts.par_iter().map(read).collect());
        let entries = parts.map_err(damaged)?.concat();
        match entries.is_sorted_by(|a, b| a.path < b.path) {
            true => Ok(entries),
            false => Err(damaged("its entries are out of order".into())),
        }
    }

    /// The entries of one part.
    pub(super) fn part(&self, part: &Part) -> Result<Vec<Entry>, String> {
        read_part(&self.read(part)?)
    }

    /// The packages that were installed.
    ///
    /// # Errors
    /// When that part is missing or damaged.
    pub fn packages(&self, head: &Head) -> Result<Vec<InstalledPackage>, SavepointError> {
        let damaged = |what: String| SavepointError::Damaged { number: head.savepoint, what };
        let lines = self.read(&head.packages).map_err(damaged)?;
        let lines = lines.split(|byte| *byte == b'\n').filter(|line| !line.is_empty());
        let packages: serde_json::Result<Vec<InstalledPackage>> = lines.map(serde_json::from_slice).collect();
        packages.map_err(|_| damaged("its list of packages is not valid".into()))
    }

    fn read(&self, part: &Part) -> Result<Vec<u8>, String> {
        if part.bytes > MAX_BYTES {
            return Err("a part of its manifest is too large".into());
        }
        let packed = self.parts.read(part_name(&part.blake3).as_bytes(), MAX_BYTES);
        let packed = packed.map_err(|_| "a part of its manifest is missing or cannot be read")?;
        let bytes = zstd::bulk::decompress(&packed, usize::try_from(part.bytes).unwrap_or(0));
        let bytes = bytes.ok().filter(|bytes| Digest::hash(bytes) == part.blake3);
        bytes.ok_or_else(|| "a part of its manifest is damaged".into())
    }

    /// Writes the parts that do not exist yet. Not durable until their file system is synced.
    pub(super) fn add_entries(&self, entries: &[Entry], pool: &rayon::ThreadPool) -> Result<Vec<Part>, SavepointError> {
        let cuts = pool.install(|| cut(entries));
        let add = |range: &std::ops::Range<usize>| self.add(&to_lines(&entries[range.clone()])?);
        let parts: io::Result<Vec<Part>> = pool.install(|| cuts.par_iter().map(add).collect());
        parts.map_err(failed)
    }

    pub(super) fn add_packages(&self, packages: &[InstalledPackage]) -> Result<Part, SavepointError> {
        let mut lines = Vec::new();
        for package in packages {
            serde_json::to_writer(&mut lines, package).map_err(|e| failed(e.into()))?;
            lines.push(b'\n');
        }
        self.add(&lines).map_err(failed)
    }

    fn add(&self, lines: &[u8]) -> io::Result<Part> {
        let part = Part { blake3: Digest::hash(lines), bytes: lines.len() as u64 };
        let name = part_name(&part.blake3);
        // An earlier one may have been torn by a power cut: then it is written again.
        if self.parts.look(name.as_bytes())?.is_none() || self.read(&part).is_err() {
            self.put(&self.parts, name.as_bytes(), &zstd::bulk::compress(lines, LEVEL)?, false)?;
        }
        Ok(part)
    }

    /// Writes the head: from then on the savepoint exists. Everything else is durable already.
    pub(super) fn add_head(&self, head: &Head) -> Result<(), SavepointError> {
        let write = || -> io::Result<()> {
            let json = serde_json::to_vec_pretty(head)?;
            self.put(&self.heads, head.savepoint.to_string().as_bytes(), &sealed(json), true)?;
            self.heads.disk().sync(self.heads.fd())
        };
        write().map_err(failed)
    }

    fn put(&self, dir: &Dir, name: &[u8], bytes: &[u8], durable: bool) -> io::Result<()> {
        let (disk, new) = (dir.disk(), [name, b".new"].concat());
        if dir.look(&new)?.is_some() {
            disk.unlink(dir.fd(), &new)?;
        }
        let file = disk.create(dir.fd(), &new)?;
        disk.write(file.as_fd(), bytes)?;
        if durable {
            disk.sync(file.as_fd())?;
        }
        disk.rename(dir.fd(), &new, dir.fd(), name, Exchange::Replace)
    }

    /// Makes all parts durable.
    pub(super) fn sync(&self) -> Result<(), SavepointError> {
        self.parts.disk().sync_all(self.parts.fd()).map_err(failed)
    }

    /// Removes a savepoint's head; its contents and parts are no longer needed by it then.
    pub(super) fn remove_head(&self, number: u64) -> Result<(), SavepointError> {
        let remove = || -> io::Result<()> {
            self.heads.disk().unlink(self.heads.fd(), number.to_string().as_bytes())?;
            self.heads.disk().sync(self.heads.fd())
        };
        remove().map_err(failed)
    }

    /// Removes parts that no savepoint needs, and what an interruption left.
    pub(super) fn remove_other_parts(&self, needed: &std::collections::HashSet<Digest>) -> Result<(), SavepointError> {
        let remove = || -> io::Result<()> {
            for (name, _) in self.parts.disk().list(self.parts.fd())? {
                let known =
                    std::str::from_utf8(&name).ok().and_then(|name| Digest::from_hex(name.strip_suffix(".zst")?).ok());
                if known.is_none_or(|digest| !needed.contains(&digest)) {
                    self.parts.disk().unlink(self.parts.fd(), &name)?;
                }
            }
            Ok(())
        };
        remove().map_err(failed)
    }

    /// The size of all parts' files in bytes.
    pub(super) fn parts_size(&self) -> u64 {
        let names = self.parts.disk().list(self.parts.fd()).unwrap_or_default();
        names.iter().filter_map(|(name, _)| self.parts.look(name).ok().flatten()).map(|stat| stat.size).sum()
    }

    /// The size of a part's file in bytes.
    pub(super) fn part_size(&self, part: &Part) -> u64 {
        self.parts.look(part_name(&part.blake3).as_bytes()).ok().flatten().map_or(0, |stat| stat.size)
    }
}

fn failed(source: io::Error) -> SavepointError {
    SavepointError::Io { place: "the folder of savepoints".into(), source }
}

fn part_name(digest: &Digest) -> String {
    format!("{}.zst", digest.to_hex())
}

/// Where entries are cut into parts.
fn cut(entries: &[Entry]) -> Vec<std::ops::Range<usize>> {
    let ends = |entry: &Entry| Digest::hash(entry.path.as_bytes()).as_bytes()[31] & CUT == 0;
    let ends: Vec<bool> = entries.par_iter().with_min_len(1024).map(ends).collect();
    let (mut ranges, mut begin) = (Vec::new(), 0);
    for (at, ends) in ends.into_iter().enumerate() {
        if at > begin && (ends || at - begin >= MAX_PART) {
            ranges.push(begin..at);
            begin = at;
        }
    }
    if begin < entries.len() {
        ranges.push(begin..entries.len());
    }
    ranges
}

fn sealed(json: Vec<u8>) -> Vec<u8> {
    let digest = Digest::hash(&json).to_hex();
    [json, format!("\n{SEAL}{digest}\n").into_bytes()].concat()
}

/// The JSON of a head, if the digest in its last line is right.
fn unsealed(bytes: &[u8]) -> Option<&[u8]> {
    let rest = bytes.strip_suffix(b"\n")?;
    let (json, seal) = rest.split_at(memchr::memrchr(b'\n', rest)?);
    let digest = std::str::from_utf8(&seal[1..]).ok()?.strip_prefix(SEAL)?;
    (Digest::hash(json).to_hex() == digest).then_some(json)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::{Instant, SystemPath};
    use crate::savepoints::What;

    fn folders(count: usize) -> Vec<Entry> {
        let entry = |n: usize| Entry {
            path: SystemPath::parse(format!("/usr/{n:05}").as_bytes()).unwrap(),
            what: What::Folder,
            mode: 0o755,
            uid: 0,
            gid: 0,
            mtime: Instant { s: 0, n: 0 },
            attributes: Vec::new(),
            locked: 0,
        };
        (0..count).map(entry).collect()
    }

    #[test]
    fn a_change_in_one_place_alters_one_part() {
        let before = folders(10_000);
        let parts = |entries: &[Entry]| -> Vec<Digest> {
            cut(entries).into_iter().map(|range| Digest::hash(&to_lines(&entries[range]).unwrap())).collect()
        };
        let mut after = before.clone();
        after[5000].mode = 0o700;
        after.insert(7000, Entry { path: SystemPath::literal("/usr/06999-new"), ..after[0].clone() });
        let (before, after) = (parts(&before), parts(&after));
        let new = after.iter().filter(|part| !before.contains(part)).count();
        assert!((20..80).contains(&before.len()) && new <= 3, "{} parts, {new} of them new", before.len());
    }

    #[test]
    fn parts_hold_all_entries_and_a_very_even_list_is_cut_too() {
        let entries = folders(3000);
        let ranges = cut(&entries);
        assert_eq!(ranges.iter().map(ExactSizeIterator::len).sum::<usize>(), 3000);
        assert!(ranges.windows(2).all(|pair| pair[0].end == pair[1].start) && cut(&[]).is_empty());
    }

    #[test]
    fn any_byte_of_a_head_that_changes_is_noticed() {
        let whole = sealed(b"{\n \"a\": 1\n}".to_vec());
        assert_eq!(unsealed(&whole), Some(&b"{\n \"a\": 1\n}"[..]));
        for at in 0..whole.len() {
            let mut bytes = whole.clone();
            bytes[at] ^= 1;
            assert_eq!(unsealed(&bytes), None, "byte {at}");
            assert_eq!(unsealed(&whole[..at]), None, "cut at {at}");
        }
    }
}
