//! [`Snapshot`]: the status of every place when all of them were found intact. While nothing has changed, nothing needs to be
//! judged again.

use rayon::prelude::*;

use super::remembered::{ChangedTimes, STEP, change_time};
use crate::event::{Event, Flow, Observer};
use crate::machine::Machine;
use crate::model::{FileKind, Identity, Instant, Stat, SystemPath};

/// The number of places in one part.
const IN_PART: usize = 4096;
/// A part that decompresses to more is not valid.
const MAX_PART: usize = 16 << 20;
/// The size of one place's record in bytes.
const STAMP: usize = 8 * 3 + 12 * 2;

/// How strictly a place is compared; the stricter first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Watch {
    /// Any change counts.
    Close,
    /// For folders that a running system changes: only type, owner and mode, not their contents.
    Loose,
}

/// The status of each place, folder by folder, encoded.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Snapshot {
    parts: Vec<Vec<u8>>,
}

/// A place in a folder, and its status.
#[derive(Debug)]
struct Known {
    folder: SystemPath,
    place: SystemPath,
    stamp: Option<[u8; STAMP]>,
    watch: Watch,
}

/// Collects places. They are encoded part by part: a system has a hundred thousand of them.
#[derive(Debug, Default)]
pub struct SnapshotBuilder {
    /// The places of the part that is being collected.
    places: Vec<Known>,
    /// The encoded parts.
    parts: Vec<Vec<u8>>,
    began: i64,
    unsettled: bool,
    /// Whether a part cannot be encoded.
    failed: bool,
}

impl SnapshotBuilder {
    /// For a check that began at that time: places changed shortly before it may change again without altering the time.
    #[must_use]
    pub fn since(began: jiff::Timestamp) -> Self {
        Self { began: began.as_second(), ..Self::default() }
    }

    /// Adds the status of a place in a folder, a path without symlinks; `None` if it does not exist. Of a place that is added
    /// twice, both comparisons must hold.
    pub fn add(&mut self, folder: &SystemPath, place: &SystemPath, stat: Option<&Stat>, watch: Watch) {
        let watch = if stat.is_some_and(|s| s.kind != FileKind::Folder) { Watch::Close } else { watch };
        let changed = |s: &Stat| watch == Watch::Close && s.ctime.s >= self.began.saturating_sub(STEP);
        self.unsettled |= stat.is_some_and(changed);
        let stamp = stat.map(|stat| stamp(stat, watch));
        self.places.push(Known { folder: folder.clone(), place: place.clone(), stamp, watch });
        if self.places.len() == IN_PART {
            self.pack();
        }
    }

    /// The snapshot; `None` if a place had only just changed.
    #[must_use]
    pub fn finish(mut self) -> Option<Snapshot> {
        if !self.places.is_empty() {
            self.pack();
        }
        (!self.unsettled && !self.failed).then_some(Snapshot { parts: self.parts })
    }

    fn pack(&mut self) {
        self.places.sort_unstable_by(|a, b| (&a.folder, &a.place, a.watch).cmp(&(&b.folder, &b.place, b.watch)));
        match zstd::bulk::compress(&encoded(&self.places), 1) {
            Ok(part) => self.parts.push(part),
            Err(_) => self.failed = true,
        }
        self.places.clear();
    }
}

/// Folder by folder: its path, the number of names, the names.
fn encoded(part: &[Known]) -> Vec<u8> {
    let mut bytes = Vec::with_capacity(part.len() * (STAMP + 32));
    for names in part.chunk_by(|a, b| a.folder == b.folder) {
        put_bytes(&mut bytes, names[0].folder.as_bytes());
        bytes.extend(u32::try_from(names.len()).unwrap_or(u32::MAX).to_le_bytes());
        for Known { place, stamp, watch, .. } in names {
            put_bytes(&mut bytes, place.entry());
            bytes.push(u8::from(stamp.is_some()) | u8::from(*watch == Watch::Loose) << 1);
            bytes.extend(stamp.iter().flatten());
        }
    }
    bytes
}

impl Snapshot {
    /// The encoded parts.
    #[must_use]
    pub fn parts(&self) -> &[Vec<u8>] {
        &self.parts
    }

    /// A snapshot from encoded parts.
    #[must_use]
    pub fn of_parts(parts: Vec<Vec<u8>>) -> Self {
        Self { parts }
    }

    /// The same with other change times of some inodes; `None` if a part cannot be decoded.
    #[must_use]
    pub fn with_times(&self, times: &ChangedTimes) -> Option<Self> {
        let part = |part: &Vec<u8>| {
            let mut bytes = zstd::bulk::decompress(part, MAX_PART).ok()?;
            let records = closely_watched(&bytes)?;
            records.into_iter().for_each(|at| change_time(&mut bytes[at..at + STAMP], times));
            zstd::bulk::compress(&bytes, 1).ok()
        };
        Some(Self { parts: self.parts.par_iter().map(part).collect::<Option<_>>()? })
    }

    /// Whether every place is unchanged; `false` also when a part cannot be decoded, or the observer stopped the run.
    #[must_use]
    pub fn still_stands(&self, machine: &Machine, pool: &rayon::ThreadPool, observer: &dyn Observer) -> bool {
        let one = |part: &Vec<u8>| {
            let Ok(bytes) = zstd::bulk::decompress(part, MAX_PART) else { return false };
            let stands = part_stands(&bytes, machine) == Some(true);
            stands && observer.on_event(Event::Advance { items: 1, bytes: 0 }) == Flow::Continue
        };
        !self.parts.is_empty() && pool.install(|| self.parts.par_iter().with_max_len(1).all(one))
    }
}

fn put_bytes(to: &mut Vec<u8>, bytes: &[u8]) {
    to.extend(u16::try_from(bytes.len()).unwrap_or(u16::MAX).to_le_bytes());
    to.extend_from_slice(bytes);
}

/// Little-endian numbers: device, inode, then size and times, or mode and owner.
fn stamp(stat: &Stat, watch: Watch) -> [u8; STAMP] {
    let Stat { mode, uid, gid, size, mtime, ctime, id: Identity { dev, ino }, .. } = *stat;
    let (size, times) = match watch {
        Watch::Close => (size, [mtime, ctime]),
        Watch::Loose => (u64::from(mode), [uid, gid].map(|n| Instant { s: n.into(), n: 0 })),
    };
    let mut bytes = [0; STAMP];
    let mut at = 0;
    let mut put = |number: &[u8]| {
        bytes[at..at + number.len()].copy_from_slice(number);
        at += number.len();
    };
    [dev, ino, size].into_iter().for_each(|number| put(&number.to_le_bytes()));
    for time in times {
        put(&time.s.to_le_bytes());
        put(&time.n.to_le_bytes());
    }
    bytes
}

/// Where in a part the stamps with times are; `None` when it is malformed.
fn closely_watched(bytes: &[u8]) -> Option<Vec<usize>> {
    let (mut at, mut found) = (0, Vec::new());
    let length = |at: usize| Some(usize::from(u16::from_le_bytes(bytes.get(at..at + 2)?.try_into().ok()?)));
    while at < bytes.len() {
        at += 2 + length(at)?;
        let count = u32::from_le_bytes(bytes.get(at..at + 4)?.try_into().ok()?);
        at += 4;
        for _ in 0..count {
            at += 2 + length(at)?;
            let flags = *bytes.get(at)?;
            at += 1;
            if flags & 1 == 1 {
                bytes.get(at..at + STAMP)?;
                found.extend((flags & 2 == 0).then_some(at));
                at += STAMP;
            }
        }
    }
    Some(found)
}

/// Decodes one part and compares its places; `None` when it is malformed.
fn part_stands(bytes: &[u8], machine: &Machine) -> Option<bool> {
    let mut rest = bytes;
    let mut take = |n: usize| {
        let (head, tail) = rest.split_at_checked(n)?;
        rest = tail;
        Some(head)
    };
    let mut left = bytes.len();
    while left > 0 {
        let length = u16::from_le_bytes(take(2)?.try_into().ok()?);
        let folder = SystemPath::parse(take(length.into())?).ok()?;
        let count = u32::from_le_bytes(take(4)?.try_into().ok()?);
        left -= 2 + usize::from(length) + 4;
        let dir = machine.dir(&folder);
        for _ in 0..count {
            let length = u16::from_le_bytes(take(2)?.try_into().ok()?);
            let name = take(length.into())?;
            let flags = *take(1)?.first()?;
            let known = if flags & 1 == 1 { Some(take(STAMP)?) } else { None };
            left -= 2 + usize::from(length) + 1 + known.map_or(0, <[u8]>::len);
            let now = match &dir {
                Ok(dir) => dir.look(name).ok()?,
                Err(e) if e.kind() == std::io::ErrorKind::NotFound => None,
                Err(_) => return Some(false),
            };
            let watch = if flags & 2 == 2 { Watch::Loose } else { Watch::Close };
            let is_folder = |s: &Stat| watch == Watch::Close || s.kind == FileKind::Folder;
            let same = match (known, &now) {
                (None, None) => true,
                (Some(known), Some(now)) => is_folder(now) && stamp(now, watch) == *known,
                _ => false,
            };
            if !same {
                return Some(false);
            }
        }
    }
    Some(true)
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use super::*;
    use crate::event::NoObserver;
    use crate::machine::LiveDisk;

    fn pool() -> rayon::ThreadPool {
        rayon::ThreadPoolBuilder::new().num_threads(2).build().unwrap()
    }

    fn settled(machine: &Machine, began: i64) -> Option<Snapshot> {
        let mut snapshot_builder = SnapshotBuilder::since(jiff::Timestamp::from_second(began).unwrap());
        for path in ["/usr", "/usr/a", "/usr/b", "/usr/gone", "/var"] {
            let path = SystemPath::literal(path);
            let watch = if path == SystemPath::literal("/var") { Watch::Loose } else { Watch::Close };
            snapshot_builder.add(&path.parent().unwrap(), &path, machine.look(&path).unwrap().as_ref(), watch);
        }
        snapshot_builder.finish()
    }

    #[test]
    fn any_change_at_a_place_is_seen_and_in_a_working_folder_only_what_it_is() {
        let dir = tempfile::tempdir().unwrap();
        let at = |name: &str| dir.path().join(name);
        for folder in ["usr", "var", "etc"] {
            std::fs::create_dir(at(folder)).unwrap();
        }
        std::fs::write(at("usr/a"), "a").unwrap();
        std::os::unix::fs::symlink("a", at("usr/b")).unwrap();
        let machine = Machine::open(dir.path(), Arc::new(LiveDisk)).unwrap();
        let now = jiff::Timestamp::now().as_second();
        assert_eq!(settled(&machine, now), None, "what has only just changed is not settled");
        let take = || settled(&machine, now + 60).unwrap();
        let stands = |s: &Snapshot| Snapshot::of_parts(s.parts().to_vec()).still_stands(&machine, &pool(), &NoObserver);
        let before = take();
        assert!(stands(&before));
        std::fs::write(at("var/comes and goes"), "").unwrap();
        assert!(stands(&before));
        std::fs::set_permissions(at("var"), std::os::unix::fs::PermissionsExt::from_mode(0o700)).unwrap();
        assert!(!stands(&before), "its mode has changed");
        let mut twice = SnapshotBuilder::since(jiff::Timestamp::from_second(now + 60).unwrap());
        let (root, var) = (SystemPath::root(), SystemPath::literal("/var"));
        for watch in [Watch::Loose, Watch::Close, Watch::Loose] {
            twice.add(&root, &var, machine.look(&var).unwrap().as_ref(), watch);
        }
        let twice = twice.finish().unwrap();
        assert!(stands(&twice));
        std::fs::write(at("var/new"), "").unwrap();
        assert!(!stands(&twice), "a place that is watched closely once is watched closely");
        let before = take();
        std::fs::write(at("usr/gone"), "").unwrap();
        assert!(!stands(&before), "something new");
        let before = take();
        std::fs::remove_file(at("usr/b")).unwrap();
        assert!(!stands(&before), "something gone");
        let before = take();
        let stat =
            |name: &str| machine.look(&SystemPath::parse(format!("/usr/{name}").as_bytes()).unwrap()).unwrap().unwrap();
        let earlier = stat("a");
        std::fs::hard_link(at("usr/a"), dir.path().join("second")).unwrap();
        assert!(!stands(&before), "a second name changes its time");
        let times = [(earlier.id, (earlier.ctime, stat("a").ctime))].into();
        assert!(stands(&before.with_times(&times).unwrap()), "which is told");
        std::fs::write(at("usr/a"), "b").unwrap();
        assert!(!stands(&before), "a content");
    }

    proptest::proptest! {
        #[test]
        fn a_damaged_part_says_nothing_of_what_is_not_there(seed: u64) {
            let dir = tempfile::tempdir().unwrap();
            std::fs::create_dir_all(dir.path().join("usr")).unwrap();
            std::fs::create_dir_all(dir.path().join("etc")).unwrap();
            let machine = Machine::open(dir.path(), Arc::new(LiveDisk)).unwrap();
            let settled = settled(&machine, jiff::Timestamp::now().as_second() + 60).unwrap();
            let whole = zstd::bulk::decompress(&settled.parts()[0], MAX_PART).unwrap();
            proptest::prop_assert_eq!(part_stands(&whole, &machine), Some(true));
            proptest::prop_assert_ne!(part_stands(&whole[..whole.len() - 1], &machine), Some(true));
            // Whatever it says: once all that it could be about is gone, it does not are.
            let damaged = crate::testkit::mutated(&whole, seed);
            let times = [(Identity { dev: 1, ino: 1 }, (Instant { s: 0, n: 0 }, Instant { s: 1, n: 0 }))].into();
            let packed = Snapshot { parts: vec![zstd::bulk::compress(&damaged, 1).unwrap()] };
            let _ = packed.with_times(&times);
            std::fs::remove_dir(dir.path().join("usr")).unwrap();
            std::fs::remove_dir(dir.path().join("etc")).unwrap();
            let about_something = damaged.len() > whole.len() / 2;
            proptest::prop_assert!(!about_something || part_stands(&damaged, &machine) != Some(true));
        }
    }
}
