//! [`Positions`]: which entry of a list has a path, at five bytes for each place of the table instead of twenty-five: a check
//! of a whole system has a hundred thousand entries.

use std::hash::BuildHasher as _;

use hashbrown::HashTable;
use hashbrown::hash_table::Entry;

use super::expected::Expected;
use crate::model::SystemPath;

/// Positions in a list of expected entries, by listed path. The paths themselves are only in the list.
#[derive(Debug, Default)]
pub(super) struct Positions {
    table: HashTable<u32>,
    hasher: foldhash::fast::RandomState,
}

impl Positions {
    /// Has room for so many.
    pub(super) fn with_capacity(most: usize) -> Self {
        Self { table: HashTable::with_capacity(most), hasher: foldhash::fast::RandomState::default() }
    }

    /// The position of a path in the list that these positions are of.
    pub(super) fn get(&self, path: &SystemPath, list: &[Expected]) -> Option<usize> {
        let has = |at: &u32| list.get(*at as usize).is_some_and(|expected| expected.listed == *path);
        self.table.find(self.hasher.hash_one(path), has).map(|at| *at as usize)
    }

    /// Adds the next position for a path, unless the list has the path: then returns where.
    pub(super) fn add_next(&mut self, path: &SystemPath, list: &[Expected]) -> Option<usize> {
        let next = u32::try_from(list.len()).ok()?;
        let has = |at: &u32| list[*at as usize].listed == *path;
        let hash = |at: &u32| self.hasher.hash_one(&list[*at as usize].listed);
        match self.table.entry(self.hasher.hash_one(path), has, hash) {
            Entry::Occupied(taken) => Some(*taken.get() as usize),
            Entry::Vacant(free) => {
                free.insert(next);
                None
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::Authority;
    use crate::reference::ExpectedKind;

    fn folder(path: &str) -> Expected {
        Expected {
            listed: SystemPath::parse(path.as_bytes()).unwrap(),
            package: 0,
            authority: Authority::Local,
            kind: ExpectedKind::Folder,
            meta: None,
            settings: false,
            configured: false,
            capable: false,
            group: None,
            rare: None,
        }
    }

    #[test]
    fn each_path_has_the_position_at_which_it_was_added_first() {
        // More than there was room for: the table grows.
        let (mut positions, mut list) = (Positions::with_capacity(2), Vec::new());
        for number in 0..500 {
            let expected = folder(&format!("/usr/share/quay-{number}"));
            assert_eq!(positions.add_next(&expected.listed, &list), None);
            list.push(expected);
        }
        assert_eq!(positions.add_next(&list[7].listed, &list), Some(7));
        assert!(list.iter().enumerate().all(|(at, expected)| positions.get(&expected.listed, &list) == Some(at)));
        assert_eq!(positions.get(&SystemPath::literal("/usr/share/quay-500"), &list), None);
    }
}
