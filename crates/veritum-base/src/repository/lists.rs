//! The machine's own folder of lists: which files exist, and whether they match what was signed.

use std::cmp::Reverse;
use std::collections::HashSet;

use rayon::prelude::*;

use super::list_source::KEPT_AS;
use super::opening::archs_of;
use super::source::{self, IndexState, Wanted, index_names};
use super::{Found, OpenSource, Repositories, Standing};
use crate::machine::Machine;
use crate::model::SystemPath;
use crate::platform::debian::apt::{LISTS, Release, Source, file_name_of_uri};
use crate::trust::openpgp::SignatureError;

/// No more than this many names in the folder of lists are examined.
const MAX_NAMES: usize = 100_000;

/// The files in the folder of lists, by name.
pub(super) struct AtHandLists {
    names: HashSet<Vec<u8>>,
}

impl AtHandLists {
    pub(super) fn look(machine: &Machine) -> Self {
        let dir = machine.resolve(&SystemPath::literal(LISTS)).and_then(|real| machine.dir(&real));
        let names = dir.and_then(|dir| dir.disk().list(dir.fd())).unwrap_or_default();
        Self { names: names.into_iter().take(MAX_NAMES).map(|(name, _)| name).collect() }
    }

    /// The forms in which a file exists.
    pub(super) fn forms(&self, stem: &str) -> Vec<SystemPath> {
        let names = KEPT_AS.iter().map(|form| format!("{stem}{form}")).filter(|n| self.names.contains(n.as_bytes()));
        names.filter_map(|name| SystemPath::literal(LISTS).child(name.as_bytes()).ok()).collect()
    }
}

/// The name of a source's file in the folder of lists.
pub(super) fn kept_name(source: &Source, name: &str) -> String {
    file_name_of_uri(&format!("{}{}{name}", source.uri, source.release_folder()))
}

/// The lists of a source: its indexes, and its other files (translations, data for software centres).
pub(super) fn names_of_lists(
    repositories: &Repositories,
    source: &Source,
    release: &Release,
    here: &AtHandLists,
) -> Vec<String> {
    let folder = source.release_folder();
    let components = if source.is_flat() { &[][..] } else { &source.components };
    let asked: HashSet<&str> = repositories.archs.iter().map(String::as_str).chain(["all"]).collect();
    let archs = archs_of(source, &repositories.archs, &asked);
    let wanted = Wanted { folder: &folder, components, archs: &archs };
    let no_all = !source.archs.is_empty() || release.all_within || !release.names_all;
    let mut names: Vec<String> =
        index_names(&wanted, no_all).into_iter().filter(|n| release.files.contains_key(n)).collect();
    let mut others: Vec<&String> = release
        .files
        .keys()
        .filter(|name| KEPT_AS[1..].iter().all(|form| !name.ends_with(form)) && !names.contains(name))
        .filter(|name| !here.forms(&kept_name(source, name)).is_empty())
        .collect();
    others.sort();
    names.extend(others.into_iter().cloned());
    names
}

/// The state of each source's lists on the machine: its indexes, and its other files. All are read, even if they were
/// verified before. Nothing for sources whose release file is invalid or elsewhere.
#[must_use]
pub fn available_lists(
    repositories: &Repositories,
    machine: &Machine,
    pool: &rayon::ThreadPool,
) -> Vec<Vec<(String, IndexState)>> {
    let here = AtHandLists::look(machine);
    let names = |place: &OpenSource| match &place.open {
        Some((open, Found::Lists)) => names_of_lists(repositories, &place.source, open.release.get(), &here),
        _ => Vec::new(),
    };
    let mut states: Vec<Vec<(String, IndexState)>> = Vec::new();
    let mut lists = Vec::new();
    for (at, place) in repositories.sources.iter().enumerate() {
        let names = names(place);
        lists.extend(names.iter().enumerate().map(|(position, name)| (size(place, name), at, position)));
        states.push(names.into_iter().map(|name| (name, IndexState::Missing)).collect());
    }
    // The largest first, each as soon as a thread is free.
    lists.sort_by_key(|(size, at, position)| (Reverse(*size), *at, *position));
    let one = |(_, at, position): (u64, usize, usize)| {
        let place = &repositories.sources[at];
        let (open, found) = place.open.as_ref()?;
        let folder = place.source.release_folder();
        let list_source = found.list_source(machine, &place.source.uri);
        Some((
            at,
            position,
            source::look_at_index(&list_source, &folder, &states[at][position].0, open, &repositories.facts)?,
        ))
    };
    let seen: Vec<(usize, usize, IndexState)> =
        pool.install(|| lists.into_iter().par_bridge().filter_map(one).collect());
    for (at, position, state) in seen {
        states[at][position].1 = state;
    }
    states
}

/// The size of one of a source's lists, as its release file declares it.
fn size(place: &OpenSource, name: &str) -> u64 {
    let sum = place.open.as_ref().and_then(|(open, _)| open.release.get().files.get(name));
    sum.map_or(0, |sum| sum.size)
}

/// The machine's lists that do not match what was signed, by source; `states` returns the state of each list.
#[must_use]
pub fn wrong_lists(
    repositories: &Repositories,
    machine: &Machine,
    states: &[Vec<(String, IndexState)>],
) -> Vec<Vec<SystemPath>> {
    let here = AtHandLists::look(machine);
    let one = |(place, states): (&OpenSource, &Vec<(String, IndexState)>)| {
        let forms = |name: &str| here.forms(&kept_name(&place.source, name));
        match &place.standing {
            Standing::Refused(SignatureError::Bad { .. } | SignatureError::Shape(_) | SignatureError::TooLarge)
            | Standing::Unusable(_) => ["InRelease", "Release", "Release.gpg"].into_iter().flat_map(forms).collect(),
            _ => {
                let wrong = states.iter().filter(|(_, state)| matches!(state, IndexState::Wrong(_)));
                wrong.flat_map(|(name, _)| forms(name)).collect()
            }
        }
    };
    repositories.sources.iter().zip(states).filter(|(s, _)| !s.named).map(one).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_lies_there_is_found_in_each_form() {
        let names = ["quay_InRelease", "quay_Packages.lz4", "quay_Packages"].map(|n| n.as_bytes().to_vec()).into();
        let here = AtHandLists { names };
        let forms: Vec<String> = here.forms("quay_Packages").iter().map(ToString::to_string).collect();
        assert_eq!(forms, ["/var/lib/apt/lists/quay_Packages", "/var/lib/apt/lists/quay_Packages.lz4"]);
        assert!(here.forms("quay").is_empty());
    }
}
