//! [`summaries`]: all savepoints, with what each costs and what of it is no longer kept.

use std::collections::{HashMap, HashSet};

use rayon::prelude::*;

use super::SavepointError;
use super::make::folders;
use super::manifest::Entry;
use super::parts::{Head, Part, Savepoints};
use super::pools::Pools;
use crate::change::{ChangeContext, StateFolder};
use crate::history;
use crate::model::{Digest, Identity};

/// A savepoint with its cost and state.
#[derive(Debug)]
pub struct SavepointSummary {
    /// Its number.
    pub number: u64,
    /// Its head, or why it cannot be read.
    pub head: Result<Head, SavepointError>,
    /// Bytes that only this savepoint takes.
    pub own_bytes: u64,
    /// The number of its files whose content is no longer kept.
    pub lost: u64,
}

/// All savepoints, oldest first; also returns the bytes that all of them together take.
///
/// # Errors
/// When their folder cannot be read.
pub fn summaries(
    context: &ChangeContext<'_>,
    notes: Option<&StateFolder>,
    threads: &rayon::ThreadPool,
) -> Result<(Vec<SavepointSummary>, u64), SavepointError> {
    let Some(savepoints) = Savepoints::find(context.state)? else { return Ok((Vec::new(), 0)) };
    let numbers = savepoints.numbers()?;
    let pools = Pools::open(*context, &folders(&savepoints, &numbers), threads);
    let known = notes.map(history::known_contents).unwrap_or_default();
    let costs = Costs::new(&pools);
    let mut all: Vec<(u64, ReadSavepoint)> = Vec::new();
    let mut seen: HashMap<Part, Vec<(Digest, u64, u64)>> = HashMap::new();
    for number in numbers {
        let needs = savepoints.head(number).and_then(|head| {
            let needs = needs(&savepoints, &head, &mut seen, threads)?;
            Ok((head, needs))
        });
        all.push((number, needs));
    }
    let mut users: HashMap<Digest, u32> = HashMap::new();
    let mut part_users: HashMap<Part, u32> = HashMap::new();
    for (head, needs) in all.iter().filter_map(|(_, result)| result.as_ref().ok()) {
        needs.contents.keys().for_each(|digest| *users.entry(*digest).or_default() += 1);
        parts_of(head).for_each(|part| *part_users.entry(*part).or_default() += 1);
    }
    let sizes: HashMap<Digest, u64> = all
        .iter()
        .filter_map(|(_, r)| r.as_ref().ok())
        .flat_map(|(_, n)| n.contents.iter().map(|(d, (s, _))| (*d, *s)))
        .collect();
    let lost = |(digest, size): (&Digest, &u64)| (!pools.is_whole(digest, *size, &known)).then_some(*digest);
    let lost: HashSet<Digest> = threads.install(|| sizes.par_iter().filter_map(lost).collect());
    let total = costs.total + part_users.keys().map(|part| savepoints.part_size(part)).sum::<u64>();
    let summary = |(number, result): (u64, ReadSavepoint)| match result {
        Err(e) => SavepointSummary { number, head: Err(e), own_bytes: 0, lost: 0 },
        Ok((head, needs)) => {
            let own = needs.contents.keys().filter(|digest| users.get(digest) == Some(&1));
            let own_parts = parts_of(&head).filter(|part| part_users.get(part) == Some(&1));
            let own_bytes = own.map(|digest| costs.of(digest)).sum::<u64>()
                + own_parts.map(|part| savepoints.part_size(part)).sum::<u64>();
            let lost =
                needs.contents.iter().filter(|(digest, _)| lost.contains(digest)).map(|(_, (_, files))| files).sum();
            SavepointSummary { number, head: Ok(head), own_bytes, lost }
        }
    };
    Ok((all.into_iter().map(summary).collect(), total))
}

pub(super) fn parts_of(head: &Head) -> impl Iterator<Item = &Part> {
    head.parts.iter().chain([&head.packages])
}

/// A savepoint with what it needs, or why it cannot be read.
type ReadSavepoint = Result<(Head, Needs), SavepointError>;

/// The contents that a savepoint needs: size and number of files.
#[derive(Debug)]
struct Needs {
    contents: HashMap<Digest, (u64, u64)>,
}

/// Reads what a savepoint needs; parts that were read for another one are not read again.
fn needs(
    savepoints: &Savepoints,
    head: &Head,
    seen: &mut HashMap<Part, Vec<(Digest, u64, u64)>>,
    threads: &rayon::ThreadPool,
) -> Result<Needs, SavepointError> {
    let new: Vec<Part> = head.parts.iter().filter(|part| !seen.contains_key(part)).copied().collect();
    let read = |part: &Part| Ok((*part, counted(&savepoints.part(part)?)));
    let read: Result<Vec<_>, String> = threads.install(|| new.par_iter().map(read).collect());
    seen.extend(read.map_err(|what| SavepointError::Damaged { number: head.savepoint, what })?);
    let mut contents: HashMap<Digest, (u64, u64)> = HashMap::new();
    for (digest, size, files) in head.parts.iter().filter_map(|part| seen.get(part)).flatten() {
        contents.entry(*digest).or_insert((*size, 0)).1 += files;
    }
    Ok(Needs { contents })
}

fn counted(entries: &[Entry]) -> Vec<(Digest, u64, u64)> {
    let mut counts: HashMap<Digest, (u64, u64)> = HashMap::new();
    for (digest, size) in entries.iter().filter_map(Entry::content) {
        counts.entry(digest).or_insert((size, 0)).1 += 1;
    }
    counts.into_iter().map(|(digest, (size, files))| (digest, size, files)).collect()
}

/// The bytes that contents take: nothing while the system has the same inode.
pub(super) struct Costs {
    bytes: HashMap<Digest, u64>,
    pub(super) total: u64,
}

impl Costs {
    pub(super) fn new(pools: &Pools<'_>) -> Self {
        let contents: Vec<_> = pools.all().iter().flat_map(|pool| pool.index().apart()).collect();
        let mut names: HashMap<Identity, u64, foldhash::fast::RandomState> =
            HashMap::with_capacity_and_hasher(contents.len(), Default::default());
        let several = contents.iter().filter(|(_, held)| held.stat.names > 1);
        several.for_each(|(_, held)| *names.entry(held.stat.id).or_default() += 1);
        let bytes: HashMap<Digest, u64> = contents
            .into_iter()
            .filter(|(_, held)| names.get(&held.stat.id).is_none_or(|count| held.stat.names <= *count))
            .map(|(digest, held)| (digest, held.stat.size))
            .collect();
        let total = bytes.values().sum();
        Self { bytes, total }
    }

    pub(super) fn of(&self, digest: &Digest) -> u64 {
        self.bytes.get(digest).copied().unwrap_or(0)
    }
}
