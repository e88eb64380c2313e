//! [`Location`]: the real location of each entry, each place once, folder by folder.

use rayon::prelude::*;

use super::case::Location;
use super::folders::{Known, Parents, Placement, is_volatile};
use super::judge::Judge;
use crate::model::{PathMap, Scope, SystemPath};
use crate::reference::{Expected, ExpectedKind, Reference};

/// The number of entries that one thread locates at a time.
const SHARE: usize = 2048;

/// The locations of all entries, in path order, each place once.
pub(super) fn locations(judge: &mut Judge<'_>, parents: &Parents<'_>, pool: &rayon::ThreadPool) -> Vec<Location> {
    let (reference, scope) = (judge.case.reference, judge.case.scope);
    let things = &reference.expected;
    let wanted = |expected: &Expected| in_scope(reference, scope, expected) && !is_volatile(&expected.listed);
    let folder = |e: &'_ &Expected| e.kind == ExpectedKind::Folder && wanted(e);
    let folders = pool.install(|| things.par_iter().filter(folder).map(|e| &e.listed).collect());
    parents.look_ahead(folders, pool);
    let mut groups = Groups::default();
    let located: Vec<Located> = parents.with_known(|known| {
        let share = |(share, things): (usize, &[Expected])| Located::locate(share * SHARE, things, known, &wanted);
        pool.install(|| things.par_chunks(SHARE).enumerate().map(share).collect())
    });
    for share in located {
        judge.out.folders.extend(share.folders);
        share.runs.into_iter().for_each(|run| groups.add(run));
        for at in share.rest {
            groups.add(judge.location(parents, at, &things[at]).into_iter().collect());
        }
    }
    let mut groups = groups.all;
    // One place under two spellings (`/bin/x`, `/usr/bin/x`) is examined once, as its first package lists it.
    let listed = |location: &Location| (things[location.expected].package, &things[location.expected].listed);
    let in_order = |group: &mut Vec<Location>| {
        group.sort_unstable_by(|a, b| a.name().cmp(b.name()).then_with(|| listed(a).cmp(&listed(b))));
        group.dedup_by(|later, first| later.physical == first.physical);
    };
    pool.install(|| {
        groups.par_iter_mut().for_each(in_order);
        groups.par_sort_unstable_by(|a, b| a[0].folder.cmp(&b[0].folder));
    });
    let mut locations = Vec::with_capacity(groups.iter().map(Vec::len).sum());
    locations.extend(groups.into_iter().flatten());
    locations
}

/// Whether a name in a folder is among the examined ones.
pub(super) fn has_location(locations: &[Location], folder: &SystemPath, name: &[u8]) -> bool {
    locations.binary_search_by(|location| location.place().cmp(&(folder, name))).is_ok()
}

fn in_scope(reference: &Reference, scope: &Scope, expected: &Expected) -> bool {
    let path = scope.paths.is_empty() || scope.paths.iter().any(|p| expected.listed.is_within(p));
    let named = |at: usize| scope.packages.contains(&reference.packages[at].package.id.name);
    path && (scope.packages.is_empty() || named(expected.package) || expected.also().iter().any(|c| named(*c)))
}

/// Locations, grouped by folder.
#[derive(Default)]
struct Groups {
    all: Vec<Vec<Location>>,
    of_folder: PathMap<usize>,
}

impl Groups {
    /// Adds locations of one folder.
    fn add(&mut self, locations: Vec<Location>) {
        let Some(first) = locations.first() else { return };
        let group = *self.of_folder.entry(first.folder.clone()).or_insert(self.all.len());
        match self.all.get_mut(group) {
            Some(group) => group.extend(locations),
            None => self.all.push(locations),
        }
    }
}

/// The locations that one thread found.
#[derive(Default)]
struct Located {
    /// Locations, one list per folder.
    runs: Vec<Vec<Location>>,
    /// Folders as listed, with their real locations.
    folders: Vec<(SystemPath, SystemPath)>,
    /// Positions of entries that need other treatment.
    rest: Vec<usize>,
    /// The folder of the last entry: as listed, and its real location.
    last: Option<(SystemPath, SystemPath)>,
}

impl Located {
    fn locate(first: usize, things: &[Expected], known: &Known, wanted: &(dyn Fn(&Expected) -> bool + Sync)) -> Self {
        let mut located = Self::default();
        for (at, expected) in (first..).zip(things).filter(|(_, expected)| wanted(expected)) {
            match located.location(at, expected, known) {
                Some(location) => located.push(location),
                None => located.rest.push(at),
            }
        }
        located
    }

    fn push(&mut self, location: Location) {
        match self.runs.last_mut().filter(|run| run[0].folder == location.folder) {
            Some(run) => run.push(location),
            None => self.runs.push(vec![location]),
        }
    }

    fn location(&mut self, at: usize, expected: &Expected, known: &Known) -> Option<Location> {
        let listed = &expected.listed;
        if expected.kind == ExpectedKind::Folder {
            let Some(Placement::At(physical)) = known.get(listed) else { return None };
            self.folders.push((listed.clone(), physical.clone()));
            let folder = physical.parent().unwrap_or_else(SystemPath::root);
            return Some(Location { expected: at, physical: physical.clone(), folder });
        }
        // Entries of one folder are together: most need no lookup in the table of folders.
        let known_folder = self.last.as_ref().is_some_and(|(folder, _)| folder.is_parent_of(listed));
        if !known_folder {
            let folder = listed.parent()?;
            let Some(Placement::At(physical)) = known.get(&folder) else { return None };
            self.folders.push((folder.clone(), physical.clone()));
            self.last = Some((folder, physical.clone()));
        }
        let (folder, physical) = self.last.as_ref()?;
        // Most entries are where they are listed.
        let place = if physical == folder { listed.clone() } else { physical.child(listed.name()).ok()? };
        Some(Location { expected: at, physical: place, folder: physical.clone() })
    }
}
