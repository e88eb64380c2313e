//! [`Reference`]: what is expected at each path, and the authority that verifies it.

mod expected;
mod known;
mod merge;
mod parts;
mod positions;
mod sources;
mod subset;

pub use expected::{Expected, ExpectedKind, Group, Meta, Owned, Policy, Rare};
pub use known::KnownRecords;
pub use sources::{Described, ManifestSource, PackageJudge};

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

use rayon::prelude::*;

use self::merge::{MAX_SHARES, Share, share_of};
use self::parts::{Gathering, Part};
use self::positions::Positions;
use self::subset::ReferenceSubset;
use crate::machine::Machine;
use crate::model::{Authority, Digest, PackageId, Scope, SystemPath};
use crate::platform::{Installed, Package, Platform};

/// What is expected at each path of the machine.
#[derive(Debug, Default)]
pub struct Reference {
    /// The installed packages.
    pub packages: Vec<Owned>,
    /// The expected entries, in no particular order.
    pub expected: Vec<Expected>,
    /// Hard-link groups.
    pub groups: Vec<Group>,
    /// Packages without any reference, with the reason.
    pub unknown: Vec<(PackageId, String)>,
    /// Invalid manifests of a store, with the reason; their packages are judged by the next authority.
    pub broken_manifests: Vec<(PackageId, String)>,
    /// The number of packages whose records were examined, by authority.
    pub records_verified_by: BTreeMap<Authority, u64>,
    /// Records that a store should have and lacks, with their sizes.
    pub bad_records: Vec<(Digest, u64)>,
    /// Paths from which packages' files were diverted: what is there belongs to the diverting package.
    pub diverted: HashSet<SystemPath>,
    /// Targets of symlinks that a package ships where another one has the path.
    other_links: HashMap<SystemPath, Vec<Vec<u8>>>,
    /// By listed path: the first position of a share, and the positions after it.
    by_path: Vec<(usize, Positions)>,
}

/// The input of gathering references.
#[derive(Clone, Copy)]
pub struct Origin<'a> {
    /// The machine.
    pub machine: &'a Machine,
    /// Its package database's kind.
    pub platform: &'a dyn Platform,
    /// The installed packages.
    pub installed: &'a Installed,
    /// The sources of verified manifests, strongest first.
    pub sources: &'a [&'a dyn ManifestSource],
    /// The administrator's rules.
    pub policy: &'a Policy,
    /// Judges the records of each package on the way.
    pub judge: Option<&'a dyn PackageJudge>,
    /// Keeps what is read of packages' records, for a second gathering of the same paths; only for scopes of paths.
    pub known: Option<&'a KnownRecords>,
}

impl Reference {
    /// Gathers the references: from verified manifests of the first source that has them, else from the
    /// machine's package database. If only a part is to be examined, only what is in or next to it is gathered.
    #[must_use]
    pub fn gather(origin: &Origin<'_>, scope: &Scope, pool: &rayon::ThreadPool) -> Self {
        let Origin { machine, platform, installed, sources, policy, judge, known } = *origin;
        let records = platform.records(machine);
        let near = ReferenceSubset::for_scope(scope, installed, sources, &*records);
        let near = near.as_ref();
        let named = &scope.packages;
        let shares = pool.current_num_threads().clamp(1, MAX_SHARES);
        let gathering =
            Gathering { machine, installed, sources, policy, records: &*records, near, known, judge, named, shares };
        let parts: Vec<Part> = pool.install(|| {
            let each = installed.packages.par_iter().enumerate();
            each.map(|(at, package)| gathering.part(at, package)).collect()
        });
        let mut reference = Self { diverted: installed.diversions.keys().cloned().collect(), ..Self::default() };
        let mut brought: Vec<Vec<Vec<Expected>>> = (0..shares).map(|_| Vec::with_capacity(parts.len())).collect();
        for (package, part) in installed.packages.iter().zip(parts) {
            let brings = reference.add(package, part);
            brought.iter_mut().zip(brings).for_each(|(share, brings)| share.push(brings));
        }
        let packages = &reference.packages;
        let merged: Vec<Share> =
            pool.install(|| brought.into_par_iter().map(|things| Share::merge(things, packages, &*records)).collect());
        reference.join(merged);
        reference
    }

    /// The expected entry at a listed path.
    #[must_use]
    pub fn at(&self, listed: &SystemPath) -> Option<usize> {
        let (first, positions) = self.by_path.get(share_of(listed, self.by_path.len()))?;
        positions.get(listed, &self.expected[*first..]).map(|at| first + at)
    }

    /// Whether a package ships a symlink with this target at a listed path.
    #[must_use]
    pub fn ships_link(&self, listed: &SystemPath, target: &[u8]) -> bool {
        let kept =
            self.at(listed).is_some_and(|at| matches!(&self.expected[at].kind, ExpectedKind::Link(t) if t == target));
        kept || self.other_links.get(listed).is_some_and(|targets| targets.iter().any(|t| t == target))
    }

    /// A package's id.
    #[must_use]
    pub fn package_of(&self, expected: &Expected) -> &PackageId {
        &self.packages[expected.package].package.id
    }

    /// Those of these packages that only the local package database verifies.
    #[must_use]
    pub fn only_weak(&self, ids: &BTreeSet<&PackageId>) -> Vec<PackageId> {
        let weak = self.packages.iter().filter(|c| c.authority == Authority::Local).map(|c| &c.package.id);
        weak.filter(|id| ids.contains(id)).cloned().collect()
    }

    /// The number of installed packages by authority.
    #[must_use]
    pub fn packages_by_authority(&self) -> BTreeMap<Authority, u64> {
        let mut count = BTreeMap::new();
        for owned in &self.packages {
            *count.entry(owned.authority).or_default() += 1;
        }
        count
    }

    /// Adds a package's data except its expected entries, which are passed on share by share.
    fn add(&mut self, package: &Package, part: Part) -> Vec<Vec<Expected>> {
        self.broken_manifests.extend(part.broken.map(|why| (package.id.clone(), why)));
        self.unknown.extend(part.unknown.map(|why| (package.id.clone(), why)));
        self.bad_records.extend(part.bad_records);
        if let Some(authority) = part.described {
            *self.records_verified_by.entry(authority).or_default() += 1;
        }
        self.packages.push(Owned { package: package.clone(), authority: part.authority });
        let first_group = self.groups.len();
        self.groups.extend(std::iter::repeat_with(Group::default).take(part.groups));
        let mut shares = part.shares;
        if part.groups > 0 && first_group > 0 {
            let grouped = shares.iter_mut().flatten().filter_map(|expected| expected.group.as_mut());
            grouped.for_each(|group| *group += u32::try_from(first_group).unwrap_or(u32::MAX));
        }
        shares
    }

    /// Merges the entries of different folders.
    fn join(&mut self, merged: Vec<Share>) {
        let things: usize = merged.iter().map(|share| share.expected.len()).sum();
        for share in merged {
            self.by_path.push((self.expected.len(), share.by_path));
            self.other_links.extend(share.other_links);
            if self.expected.is_empty() {
                self.expected = share.expected;
                self.expected.reserve_exact(things - self.expected.len());
            } else {
                self.expected.extend(share.expected);
            }
        }
        for (at, expected) in self.expected.iter().enumerate() {
            if let Some(group) = expected.group {
                self.groups[group as usize].members.push(at);
            }
        }
        let listed = |at: &usize| &self.expected[*at].listed;
        self.groups.iter_mut().for_each(|group| group.members.sort_by(|a, b| listed(a).cmp(listed(b))));
    }
}
