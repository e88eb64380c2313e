//! Limits the space of savepoints: the oldest are removed where savepoints and changes' backups together take more than a tenth of
//! their file system, or less than a twentieth of it is free.
//!
//! Never removed are the last savepoint before a change of the last week, and the last two while there is free space. Where others
//! fill the disk and the savepoints hardly take any of it, none is removed for that. Damaged ones go first, if a later one is whole.

use std::collections::{HashMap, HashSet};

use super::SavepointError;
use super::list::{Costs, parts_of};
use super::parts::{Head, Savepoints};
use super::pools::Pools;
use crate::change::ChangeContext;
use crate::model::{Digest, SystemPath};
use crate::scan::ChangedTimes;

/// The part of a file system that savepoints and backups may take, as a divisor.
const SHARE: u64 = 10;
/// The part of a file system that stays free, as a divisor.
const FREE: u64 = 20;
/// The savepoint before a change is kept for this long, in seconds.
const WEEK: i64 = 7 * 24 * 3600;
/// Savepoints that free less than this part of the missing space, as a divisor, are not removed for it...
const WORTH: u64 = 10;
/// ... unless they free so many bytes.
const MUCH: u64 = 64 << 20;
/// So many savepoints stay while there is free space.
const LEAST: usize = 2;

/// What was removed.
#[derive(Debug, Default)]
pub(super) struct Pruned {
    /// The numbers of savepoints.
    pub(super) removed: Vec<u64>,
    /// Change times altered by removing hard links.
    pub(super) times: ChangedTimes,
    /// Whether what an interrupted run left is still there: what a damaged savepoint needs is unknown.
    pub(super) has_leftovers: bool,
}

/// The space of savepoints: what they and backups take, what they may take, and what is missing to enough free space.
#[derive(Debug, Clone, Copy)]
struct Space {
    taken: u64,
    limit: u64,
    /// Bytes missing to a twentieth of the file system.
    missing: u64,
}

impl Space {
    fn read(context: &ChangeContext<'_>, savepoints: &Savepoints, costs: &Costs) -> Result<Self, SavepointError> {
        let room = context.state.dir().disk().room(context.state.dir().fd());
        let room = room.map_err(SavepointError::at(&SystemPath::root()))?;
        let backups = context.state.overview().map_err(crate::change::ChangeError::from)?;
        let backups: u64 = backups.changes.iter().map(crate::change::ChangeSummary::kept_bytes).sum();
        let taken_here = costs.total + savepoints.parts_size();
        let missing = (room.total / FREE).saturating_sub(room.bytes);
        // Reading all savepoints takes long: not where even all of them are worth nothing.
        let missing = if is_worth(taken_here, missing) { missing } else { 0 };
        Ok(Self { taken: taken_here + backups, limit: room.total / SHARE, missing })
    }

    fn after_freeing(self, bytes: u64) -> Self {
        let (taken, missing) = (self.taken.saturating_sub(bytes), self.missing.saturating_sub(bytes));
        Self { taken, missing, ..self }
    }

    fn is_enough(&self) -> bool {
        self.taken <= self.limit && self.missing == 0
    }
}

/// Removes savepoints where they take too much space, and what an interrupted run left. `changes` gives the times at which packages
/// were changed. The caller holds the lock.
pub(super) fn prune(
    context: &ChangeContext<'_>,
    savepoints: &Savepoints,
    pools: &Pools<'_>,
    (changes, now): (&dyn Fn() -> Vec<jiff::Timestamp>, jiff::Timestamp),
    interrupted: bool,
) -> Result<Pruned, SavepointError> {
    let costs = Costs::new(pools);
    let space = Space::read(context, savepoints, &costs)?;
    if space.is_enough() && !interrupted {
        return Ok(Pruned::default());
    }
    let (mut all, mut damaged): (Vec<Candidate>, Vec<u64>) = (Vec::new(), Vec::new());
    for number in savepoints.numbers()? {
        match Candidate::read(savepoints, number) {
            Ok(candidate) => all.push(candidate),
            Err(SavepointError::Damaged { .. }) => damaged.push(number),
            // Such as one of a newer version: what it needs is unknown.
            Err(_) => return Ok(Pruned { has_leftovers: interrupted, ..Pruned::default() }),
        }
    }
    // The next savepoint writes a damaged part again if it has the same; where a later one is whole, that was in vain.
    let last_whole = all.last().map(|candidate| candidate.head.savepoint);
    if damaged.iter().any(|number| space.is_enough() || Some(*number) > last_whole) {
        return Ok(Pruned { has_leftovers: interrupted, ..Pruned::default() });
    }
    let space = if damaged.is_empty() { space } else { space.after_freeing(unneeded(pools, &all, &costs)) };
    let mut removed = damaged;
    removed.extend(to_remove(&all, space, &protected(&all, &changes(), now), &|digest| costs.of(digest)));
    for number in &removed {
        savepoints.remove_head(*number)?;
    }
    all.retain(|candidate| !removed.contains(&candidate.head.savepoint));
    let times = remove_unneeded(savepoints, pools, &all)?;
    Ok(Pruned { removed, times, has_leftovers: false })
}

/// The bytes of contents that none of these savepoints needs.
fn unneeded(pools: &Pools<'_>, all: &[Candidate], costs: &Costs) -> u64 {
    let needed: HashSet<&Digest> = all.iter().flat_map(|candidate| &candidate.contents).collect();
    let contents: HashSet<Digest> = pools.all().iter().flat_map(|pool| pool.index().digests()).collect();
    contents.iter().filter(|digest| !needed.contains(digest)).map(|digest| costs.of(digest)).sum()
}

/// Removes contents and parts that no savepoint needs.
fn remove_unneeded(
    savepoints: &Savepoints,
    pools: &Pools<'_>,
    all: &[Candidate],
) -> Result<ChangedTimes, SavepointError> {
    let needed: HashSet<&Digest> = all.iter().flat_map(|candidate| &candidate.contents).collect();
    let parts: HashSet<Digest> = all.iter().flat_map(|c| parts_of(&c.head)).map(|part| part.blake3).collect();
    let mut times = ChangedTimes::new();
    let root = SystemPath::root();
    let io = SavepointError::at(&root);
    for pool in pools.all() {
        for digest in pool.index().digests() {
            if !needed.contains(&digest) {
                let still = pool.remove(&digest).map_err(&io)?;
                times.extend(still.map(|(before, after)| (before.id, (before.ctime, after.ctime))));
            }
        }
        pool.remove_incomplete().map_err(&io)?;
    }
    savepoints.remove_other_parts(&parts)?;
    Ok(times)
}

/// A savepoint with the contents that it needs.
struct Candidate {
    head: Head,
    contents: HashSet<Digest>,
}

impl Candidate {
    fn read(savepoints: &Savepoints, number: u64) -> Result<Self, SavepointError> {
        let head = savepoints.head(number)?;
        let mut contents = HashSet::new();
        let damaged = |what: String| SavepointError::Damaged { number, what };
        for part in &head.parts {
            let entries = savepoints.part(part).map_err(damaged)?;
            contents.extend(entries.iter().filter_map(|entry| entry.content()).map(|(digest, _)| digest));
        }
        Ok(Self { head, contents })
    }
}

/// The last savepoint before each change of the last week.
fn protected(all: &[Candidate], changes: &[jiff::Timestamp], now: jiff::Timestamp) -> HashSet<u64> {
    let recent = changes.iter().filter(|at| at.as_second() >= now.as_second() - WEEK);
    let before = |at: &jiff::Timestamp| {
        let earlier = all.iter().filter(|candidate| candidate.head.made <= *at);
        earlier.max_by_key(|candidate| candidate.head.made).map(|candidate| candidate.head.savepoint)
    };
    recent.filter_map(before).collect()
}

/// The savepoints to remove, oldest first. Pure: `cost` has the bytes that a content takes.
fn to_remove(all: &[Candidate], space: Space, protected: &HashSet<u64>, cost: &dyn Fn(&Digest) -> u64) -> Vec<u64> {
    let (removed, freed) = oldest(all, space, protected, cost);
    match is_worth(freed, space.missing) {
        true => removed,
        false => oldest(all, Space { missing: 0, ..space }, protected, cost).0,
    }
}

/// Whether freeing so many bytes is worth it where others are missing.
fn is_worth(freed: u64, missing: u64) -> bool {
    freed >= missing / WORTH || freed >= MUCH
}

/// The oldest savepoints whose removal gives enough space, and the bytes freed; not those at the end that free nothing.
fn oldest(all: &[Candidate], space: Space, protected: &HashSet<u64>, cost: &dyn Fn(&Digest) -> u64) -> (Vec<u64>, u64) {
    let mut users: HashMap<&Digest, u32> = HashMap::new();
    all.iter().flat_map(|candidate| &candidate.contents).for_each(|digest| *users.entry(digest).or_default() += 1);
    let (mut taken, mut missing) = (space.taken, space.missing);
    let mut removed = Vec::new();
    for candidate in all {
        let left = all.len() - removed.len();
        if missing == 0 && (taken <= space.limit || left <= LEAST) {
            break;
        }
        if protected.contains(&candidate.head.savepoint) {
            continue;
        }
        let mut freed = 0;
        for digest in &candidate.contents {
            if let Some(count) = users.get_mut(digest) {
                *count -= 1;
                freed += if *count == 0 { cost(digest) } else { 0 };
            }
        }
        taken = taken.saturating_sub(freed);
        missing = missing.saturating_sub(freed);
        removed.push((candidate.head.savepoint, freed));
    }
    let useful = removed.iter().rposition(|(_, freed)| *freed > 0).map_or(0, |last| last + 1);
    let freed = removed.iter().map(|(_, freed)| freed).sum();
    (removed.into_iter().take(useful).map(|(number, _)| number).collect(), freed)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::savepoints::parts::Part;

    fn candidate(number: u64, day: i64, contents: &[u8]) -> Candidate {
        let part = Part { blake3: Digest::hash(b""), bytes: 0 };
        let head = Head {
            format: super::super::parts::FORMAT.into(),
            veritum: "1".into(),
            savepoint: number,
            made: jiff::Timestamp::from_second(day * 86_400).unwrap(),
            reason: String::new(),
            automatic: false,
            before: None,
            system: String::new(),
            entries: 0,
            parts: vec![part],
            packages: part,
            pools: Vec::new(),
            missing: Vec::new(),
        };
        Candidate { head, contents: contents.iter().map(|n| Digest::hash(&[*n])).collect() }
    }

    fn removed(taken: u64, limit: u64, missing: u64, protected: &[u64]) -> Vec<u64> {
        // The first has one content of its own, the second two, the third none, the fourth one.
        let all =
            [candidate(1, 1, &[1, 9]), candidate(2, 2, &[2, 3, 9]), candidate(3, 3, &[9, 5]), candidate(4, 4, &[4, 5])];
        let space = Space { taken, limit, missing };
        to_remove(&all, space, &protected.iter().copied().collect(), &|_| 10)
    }

    #[test]
    fn the_oldest_go_until_there_is_enough_space_and_two_stay() {
        assert_eq!(removed(100, 100, 0, &[]), [0u64; 0]);
        assert_eq!(removed(101, 100, 0, &[]), [1]);
        assert_eq!(removed(111, 100, 0, &[]), [1, 2]);
        assert_eq!(removed(999, 100, 0, &[]), [1, 2], "two stay while there is free space");
        assert_eq!(removed(50, 100, 30, &[]), [1, 2], "contents of only these are freed");
        assert_eq!(removed(50, 100, 600, &[]), [1, 2, 3, 4], "without free space none need stay");
        assert_eq!(removed(50, 100, 610, &[]), [0u64; 0], "but hardly anything would be freed");
        assert_eq!(removed(999, 100, 999, &[]), [1, 2], "too much is too much nevertheless");
        assert_eq!(removed(999, 100, 90, &[1, 4]), [2], "those before a recent change do, and one that frees nothing");
    }

    #[test]
    fn the_last_savepoint_before_a_change_of_the_week_is_protected() {
        let all = [candidate(1, 1, &[]), candidate(2, 5, &[]), candidate(3, 9, &[])];
        let day = |day: i64| jiff::Timestamp::from_second(day * 86_400 + 60).unwrap();
        let protected = |changes: &[i64]| {
            let changes: Vec<_> = changes.iter().map(|n| day(*n)).collect();
            let mut numbers: Vec<u64> = protected(&all, &changes, day(10)).into_iter().collect();
            numbers.sort_unstable();
            numbers
        };
        assert_eq!(protected(&[1]), [0u64; 0], "longer ago than a week");
        assert_eq!(protected(&[4, 6, 7]), [1, 2]);
        assert_eq!(protected(&[9]), [3]);
    }
}
