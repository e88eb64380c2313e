//! [`Share`]: merges what many packages ship, folder by folder, so that several threads can work at once.

use std::collections::HashMap;

use super::expected::{Expected, ExpectedKind, Owned};
use super::positions::Positions;
use crate::model::SystemPath;
use crate::platform::Records;

/// The maximum number of shares, however many threads there are.
pub(super) const MAX_SHARES: usize = 16;
/// The number of bytes at the end of a folder's path that decide its share.
const TELLING: usize = 16;

/// The share of a path's folder: all entries of one folder are in the same share.
pub(super) fn share_of(path: &SystemPath, shares: usize) -> usize {
    let folder = path.folder_bytes();
    let telling = &folder[folder.len().saturating_sub(TELLING)..];
    let number = telling.iter().fold(0usize, |n, byte| n.wrapping_mul(31).wrapping_add(usize::from(*byte)));
    number % shares.max(1)
}

/// The expected entries in one share's folders.
#[derive(Debug, Default)]
pub(super) struct Share {
    pub(super) expected: Vec<Expected>,
    /// Positions in `expected`, by listed path.
    pub(super) by_path: Positions,
    /// Targets of symlinks that a package ships where another one has the path.
    pub(super) other_links: HashMap<SystemPath, Vec<Vec<u8>>>,
}

impl Share {
    /// Merges what packages ship, in their order.
    pub(super) fn merge(brought: Vec<Vec<Expected>>, packages: &[Owned], records: &dyn Records) -> Self {
        let things = brought.iter().map(Vec::len).sum();
        let mut share = Self {
            expected: Vec::with_capacity(things),
            by_path: Positions::with_capacity(things),
            other_links: HashMap::new(),
        };
        for expected in brought.into_iter().flatten() {
            share.add(expected, packages, records);
        }
        share
    }

    fn add(&mut self, expected: Expected, packages: &[Owned], records: &dyn Records) {
        let Some(at) = self.by_path.add_next(&expected.listed, &self.expected) else {
            self.expected.push(expected);
            return;
        };
        let before = &mut self.expected[at];
        if before.kind == expected.kind
            || before.kind == ExpectedKind::Folder && expected.kind == ExpectedKind::Something
        {
            if let Some(meta) = expected.meta
                && before.meta != Some(meta)
            {
                before.rare_mut().other_metas.push(meta);
            }
            // If any of them configures a folder, it is configured for all. Top-level folders occur in too many scripts.
            let configured = (before.configured || expected.configured) && expected.listed.names().count() > 2;
            // A package with a verified manifest takes precedence over one known only by its records.
            if expected.authority < before.authority {
                let also = before.rare.as_mut().map(|rare| std::mem::take(&mut rare.also)).unwrap_or_default();
                let previous = before.package;
                *before = expected;
                let rare = before.rare_mut();
                rare.also.splice(0..0, also);
                rare.also.push(previous);
            } else {
                before.rare_mut().also.push(expected.package);
            }
            before.configured |= configured;
            return;
        }
        self.settle_conflict(at, expected, packages, records);
    }

    /// If two packages ship different files at one path, the one whose list on this machine still names it has
    /// it (dpkg removes a path from the list of the package that lost it).
    fn settle_conflict(&mut self, at: usize, expected: Expected, packages: &[Owned], records: &dyn Records) {
        let lists = |package: usize| {
            let keep = |path: &[u8]| path == expected.listed.as_bytes();
            let record = records.read_list(&packages[package].package, Some(&keep)).ok();
            record.is_some_and(|r| !r.paths.is_empty())
        };
        let before = &mut self.expected[at];
        let new_wins = match (lists(before.package), lists(expected.package)) {
            (false, true) => true,
            (true, false) => false,
            // If both or neither list it: a symlink or folder explains more than a recorded name.
            _ => before.authority > expected.authority,
        };
        let loser = if new_wins { std::mem::replace(before, expected) } else { expected };
        if let ExpectedKind::Link(target) = loser.kind {
            self.other_links.entry(loser.listed).or_default().push(target);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Nothing is recorded of anything.
    struct NoRecords;

    impl Records for NoRecords {
        fn read_list(
            &self,
            _: &crate::platform::Package,
            _: Option<&crate::platform::Keep<'_>>,
        ) -> Result<crate::platform::SelfRecord, crate::platform::RecordProblem> {
            Err(crate::platform::RecordProblem { path: SystemPath::root(), what: "nothing".into() })
        }
    }

    #[test]
    fn a_folder_that_one_of_its_owners_configures_is_configured_but_for_those_at_the_top() {
        let folder = |path, package, configured| Expected {
            listed: SystemPath::literal(path),
            package,
            authority: crate::model::Authority::Repository,
            kind: ExpectedKind::Folder,
            meta: None,
            settings: false,
            configured,
            capable: false,
            group: None,
            rare: None,
        };
        for (path, wanted) in [("/usr/share/quay", true), ("/usr/share", false), ("/usr", false)] {
            let share = Share::merge(vec![vec![folder(path, 0, false)], vec![folder(path, 1, true)]], &[], &NoRecords);
            assert_eq!((share.expected.len(), share.expected[0].configured), (1, wanted), "{path}");
        }
    }

    #[test]
    fn what_lies_in_one_folder_is_in_one_share() {
        let share = |path| share_of(&SystemPath::literal(path), 7);
        assert_eq!(share("/usr/lib/a"), share("/usr/lib/b"));
        assert_eq!(share_of(&SystemPath::root(), 7), share_of(&SystemPath::literal("/usr"), 7));
        let folders = ["/usr/lib/x", "/usr/bin/x", "/usr/share/doc/a/x", "/usr/share/doc/b/x", "/etc/x", "/boot/x"];
        let shares: std::collections::BTreeSet<usize> = folders.into_iter().map(share).collect();
        assert!(shares.len() > 2, "and not all folders: {shares:?}");
    }
}
