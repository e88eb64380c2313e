//! Digests of files at the last full check, or when a savepoint was made: files unchanged since then are not read again.

use std::collections::HashMap;

use super::{ContentDigest, Look, Observation};
use crate::model::{Digest, Identity, Instant, Md5, Stat};

/// The size of one file's record in bytes.
const RECORD: usize = 8 * 3 + 12 * 2 + 2 + 32;
/// The number of records in one part.
const IN_PART: usize = 4096;
/// The largest size of a part in bytes before compression.
const PART: usize = IN_PART * RECORD;
/// Files that changed so shortly before a check are read again, in seconds: another change might not alter the time.
pub(super) const STEP: i64 = 2;

/// Where a record's change time is.
const CTIME: std::ops::Range<usize> = 36..48;
/// The bits of a record's flags: it carries file capabilities; it has neither extended attributes nor locking inode flags.
const CAPABILITIES: u8 = 1;
const PLAIN: u8 = 2;

/// Change times that Veritum's own hard links altered: by inode, before and after.
pub type ChangedTimes = HashMap<Identity, (Instant, Instant)>;

/// The recorded content of an unchanged file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct KnownContent {
    /// BLAKE3.
    pub digest: Digest,
    /// Whether it is known to have neither extended attributes nor locking inode flags.
    pub plain: bool,
}

/// The record of one file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Memory {
    size: u64,
    mtime: Instant,
    ctime: Instant,
    digest: ContentDigest,
    capabilities: bool,
    plain: bool,
}

/// Records of files as they are saved: encoded part by part, since a system has a hundred thousand of them.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct RememberedParts(Vec<Vec<u8>>);

impl RememberedParts {
    /// The records of observations made since `began`.
    #[must_use]
    pub fn new<'a>(observations: impl Iterator<Item = &'a Observation>, began: jiff::Timestamp) -> Self {
        let one = |observation: &Observation| {
            let Observation::There(found) = observation else { return None };
            let digest = found.content?;
            let Stat { size, mtime, ctime, id, .. } = found.stat;
            let settled = ctime.s < began.as_second().saturating_sub(STEP);
            let memory = Memory { size, mtime, ctime, digest, capabilities: found.capabilities, plain: false };
            settled.then(|| record(&id, &memory))
        };
        Self::pack(observations.filter_map(one))
    }

    /// The records of files with known contents.
    #[must_use]
    pub fn of_contents<'a>(files: impl Iterator<Item = (&'a Stat, KnownContent)>) -> Self {
        Self::pack(files.map(|(stat, known)| {
            let Stat { size, mtime, ctime, id, .. } = *stat;
            let digest = ContentDigest::Blake3(known.digest);
            record(&id, &Memory { size, mtime, ctime, digest, capabilities: false, plain: known.plain })
        }))
    }

    /// Encoded parts, as they were saved.
    #[must_use]
    pub fn from_parts(parts: Vec<Vec<u8>>) -> Self {
        Self(parts)
    }

    /// The same with other change times of some files.
    #[must_use]
    pub fn with_times(&self, times: &ChangedTimes) -> Self {
        let part = |part: &Vec<u8>| {
            let Ok(mut bytes) = zstd::bulk::decompress(part, PART) else { return part.clone() };
            bytes.chunks_exact_mut(RECORD).for_each(|record| change_time(record, times));
            zstd::bulk::compress(&bytes, 1).unwrap_or_else(|_| part.clone())
        };
        Self(self.0.iter().map(part).collect())
    }

    fn pack(records: impl Iterator<Item = [u8; RECORD]>) -> Self {
        let mut records = records.peekable();
        let mut parts = Vec::new();
        let mut part = Vec::with_capacity(PART);
        while records.peek().is_some() {
            part.clear();
            records.by_ref().take(IN_PART).for_each(|record| part.extend_from_slice(&record));
            // What cannot be packed is read again by the next check.
            parts.extend(zstd::bulk::compress(&part, 1));
        }
        Self(parts)
    }

    /// The parts: up to 4096 records of fixed size with little-endian numbers, compressed.
    #[must_use]
    pub fn parts(&self) -> &[Vec<u8>] {
        &self.0
    }
}

/// Records of files, ordered by device and inode.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Remembered(Vec<(Identity, Memory)>);

/// Replaces the change time in a record that begins with device, inode, size, modification time and change time.
pub(super) fn change_time(record: &mut [u8], times: &ChangedTimes) {
    let number = |at: usize| record[at..at + 8].try_into().map(u64::from_le_bytes).unwrap_or_default();
    let id = Identity { dev: number(0), ino: number(8) };
    let bytes = |time: &Instant| {
        let mut bytes = [0; 12];
        bytes[..8].copy_from_slice(&time.s.to_le_bytes());
        bytes[8..].copy_from_slice(&time.n.to_le_bytes());
        bytes
    };
    if let Some((before, after)) = times.get(&id)
        && record[CTIME] == bytes(before)
    {
        record[CTIME].copy_from_slice(&bytes(after));
    }
}

impl Remembered {
    /// The content of an unchanged file, if its BLAKE3 digest is recorded.
    #[must_use]
    pub fn content(&self, stat: &Stat) -> Option<KnownContent> {
        let memory = self.unchanged(stat)?;
        let ContentDigest::Blake3(digest) = memory.digest else { return None };
        Some(KnownContent { digest, plain: memory.plain })
    }

    fn unchanged(&self, stat: &Stat) -> Option<&Memory> {
        let at = self.0.binary_search_by_key(&stat.id, |(id, _)| *id).ok()?;
        let (_, memory) = &self.0[at];
        let same = (memory.size, memory.mtime, memory.ctime) == (stat.size, stat.mtime, stat.ctime);
        same.then_some(memory)
    }

    /// The digest of an unchanged file, if one of that kind is recorded, and whether it has capabilities.
    pub(super) fn still(&self, stat: &Stat, look: Look) -> Option<(ContentDigest, bool)> {
        let memory = self.unchanged(stat)?;
        match (look, memory.digest) {
            (Look::Blake3 { .. }, ContentDigest::Blake3(_)) | (Look::Md5 { .. }, ContentDigest::Md5(_)) => {
                Some((memory.digest, memory.capabilities))
            }
            _ => None,
        }
    }

    /// The number of files.
    #[must_use]
    pub fn len(&self) -> usize {
        self.0.len()
    }

    /// Whether it is empty.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Decodes parts in any order; an incomplete record at the end of one, and a part that cannot be decompressed, are ignored.
    pub fn of_parts<'a>(parts: impl Iterator<Item = &'a [u8]>) -> Self {
        let mut all = Vec::new();
        let Ok(mut unpacker) = zstd::bulk::Decompressor::new() else { return Self(all) };
        let mut records = Vec::with_capacity(PART);
        for part in parts {
            if unpacker.decompress_to_buffer(part, &mut records).is_ok() {
                all.reserve(records.len() / RECORD);
                all.extend(records.chunks_exact(RECORD).filter_map(read_record));
            }
        }
        // Hard links share one record.
        all.sort_unstable_by_key(|(id, _)| *id);
        all.dedup_by_key(|(id, _)| *id);
        Self(all)
    }
}

fn record(id: &Identity, memory: &Memory) -> [u8; RECORD] {
    let mut bytes = [0; RECORD];
    let mut at = 0;
    let mut put = |piece: &[u8]| {
        bytes[at..at + piece.len()].copy_from_slice(piece);
        at += piece.len();
    };
    put(&id.dev.to_le_bytes());
    put(&id.ino.to_le_bytes());
    put(&memory.size.to_le_bytes());
    for time in [memory.mtime, memory.ctime] {
        put(&time.s.to_le_bytes());
        put(&time.n.to_le_bytes());
    }
    let flags = [(memory.capabilities, CAPABILITIES), (memory.plain, PLAIN)];
    put(&[flags.iter().filter(|(is, _)| *is).fold(0, |all, (_, flag)| all | flag)]);
    match memory.digest {
        ContentDigest::Blake3(digest) => {
            put(&[0]);
            put(digest.as_bytes());
        }
        ContentDigest::Md5(md5) => {
            put(&[1]);
            put(md5.as_bytes());
        }
    }
    bytes
}

fn read_record(bytes: &[u8]) -> Option<(Identity, Memory)> {
    let mut rest = bytes;
    let mut take = |n: usize| {
        let (head, tail) = rest.split_at_checked(n)?;
        rest = tail;
        Some(head)
    };
    let mut number = || Some(u64::from_le_bytes(take(8)?.try_into().ok()?));
    let (dev, ino, size) = (number()?, number()?, number()?);
    let mut time = || {
        let s = i64::from_le_bytes(take(8)?.try_into().ok()?);
        Some(Instant { s, n: u32::from_le_bytes(take(4)?.try_into().ok()?) })
    };
    let (mtime, ctime) = (time()?, time()?);
    let flags = take(2)?;
    let digest = match flags[1] {
        0 => ContentDigest::Blake3(Digest::from_bytes(take(32)?.try_into().ok()?)),
        1 => ContentDigest::Md5(Md5::from_bytes(take(16)?.try_into().ok()?)),
        _ => return None,
    };
    let (capabilities, plain) = (flags[0] & CAPABILITIES != 0, flags[0] & PLAIN != 0);
    Some((Identity { dev, ino }, Memory { size, mtime, ctime, digest, capabilities, plain }))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::FileKind;
    use crate::scan::Found;

    fn found(ino: u64, ctime: i64, digest: ContentDigest) -> Observation {
        let at = |s| Instant { s, n: 7 };
        let stat = Stat {
            kind: FileKind::File,
            mode: 0o644,
            uid: 0,
            gid: 0,
            size: 9,
            mtime: at(-5),
            ctime: at(ctime),
            id: Identity { dev: 1, ino },
            names: 1,
            rdev: 0,
        };
        let content = Some(digest);
        let found = Found { stat, target: None, content, capabilities: ino == 2, mounted_over: false, unread: false };
        Observation::There(Box::new(found))
    }

    fn stat_of(observation: &Observation) -> Stat {
        let Observation::There(found) = observation else { panic!() };
        found.stat
    }

    #[test]
    fn only_what_is_just_as_it_was_and_was_settled_then_is_still_known() {
        let (digest, md5) = (ContentDigest::Blake3(Digest::hash(b"a")), ContentDigest::Md5(Md5::hash(b"a")));
        let seen = [found(1, 100, digest), found(2, 100, md5), found(3, 199, digest)];
        let kept = RememberedParts::new(seen.iter(), jiff::Timestamp::from_second(200).unwrap());
        let again = Remembered::of_parts(kept.parts().iter().map(Vec::as_slice));
        assert_eq!(again.len(), 2, "the third changed too shortly before");
        let blake3 = Look::Blake3 { size: 9 };
        let stat = stat_of(&seen[0]);
        assert_eq!(again.still(&stat, blake3), Some((digest, false)));
        assert_eq!(again.still(&stat_of(&seen[1]), Look::Md5 { most: 9 }), Some((md5, true)));
        assert_eq!(again.still(&stat, Look::Md5 { most: 9 }), None, "another digest is asked for");
        for other in [
            Stat { size: 8, ..stat },
            Stat { mtime: Instant { s: -5, n: 8 }, ..stat },
            Stat { ctime: Instant { s: 101, n: 7 }, ..stat },
            Stat { id: Identity { dev: 2, ino: 1 }, ..stat },
        ] {
            assert_eq!(again.still(&other, blake3), None, "{other:?}");
        }
    }

    #[test]
    fn a_change_time_of_our_own_making_is_replaced_where_the_earlier_one_is_recorded() {
        let digest = Digest::hash(b"a");
        let seen = [1, 2].map(|n| stat_of(&found(n, 100, ContentDigest::Blake3(digest))));
        let known = KnownContent { digest, plain: true };
        let parts = RememberedParts::of_contents(seen.iter().map(|stat| (stat, known)));
        let (then, other, now) = (seen[0].ctime, Instant { s: 99, n: 0 }, Instant { s: 300, n: 1 });
        let times = [(seen[0].id, (then, now)), (seen[1].id, (other, now))].into();
        let again = Remembered::of_parts(parts.with_times(&times).parts().iter().map(Vec::as_slice));
        assert_eq!(again.content(&Stat { ctime: now, ..seen[0] }), Some(known));
        assert_eq!(again.content(&seen[0]), None);
        assert_eq!(again.content(&seen[1]), Some(known), "another time was recorded for it");
    }

    #[test]
    fn many_are_kept_in_several_parts_and_none_is_lost() {
        let digest = ContentDigest::Md5(Md5::hash(b"a"));
        let seen: Vec<Observation> = (1..=2 * IN_PART as u64 + 1).rev().map(|n| found(n, 100, digest)).collect();
        let kept = RememberedParts::new(seen.iter(), jiff::Timestamp::from_second(200).unwrap());
        assert_eq!(kept.parts().len(), 3);
        let again = Remembered::of_parts(kept.parts().iter().rev().map(Vec::as_slice));
        assert_eq!(again.len(), seen.len());
        let known = |o: &Observation| again.still(&stat_of(o), Look::Md5 { most: 9 }).is_some();
        assert!(seen.iter().all(known));
        let none = RememberedParts::new(std::iter::empty(), jiff::Timestamp::from_second(200).unwrap());
        assert!(none.parts().is_empty());
    }

    proptest::proptest! {
        #[test]
        fn of_a_damaged_part_no_more_is_known_than_it_has_records(seed: u64) {
            let seen: Vec<Observation> = (1..9).map(|n| found(n, 100, ContentDigest::Blake3(Digest::hash(&[n as u8])))).collect();
            let kept = RememberedParts::new(seen.iter(), jiff::Timestamp::from_second(200).unwrap());
            let plain = zstd::bulk::decompress(&kept.parts()[0], PART).unwrap();
            let part = crate::testkit::mutated(&plain, seed);
            let packed = zstd::bulk::compress(&part, 1).unwrap();
            let again = Remembered::of_parts(std::iter::once(packed.as_slice()));
            proptest::prop_assert!(again.len() <= part.len() / RECORD);
            let damaged = crate::testkit::mutated(&kept.parts()[0], seed);
            proptest::prop_assert!(Remembered::of_parts(std::iter::once(damaged.as_slice())).len() <= IN_PART);
        }
    }
}
