//! [`Reference`]: what should be at each place, and who answers for it.

use std::collections::hash_map::Entry;
use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::Arc;

use rayon::prelude::*;

use super::expected::{Expected, Group, Owned, Policy, Scope, Want};
use super::near::Near;
use super::parts::{Gathering, Part};
use super::records::{Desk, RecordFault};
use crate::archive::Archive;
use crate::model::{ComponentId, ContentHasher, Digest, Md5, SystemPath, Voucher};
use crate::platform::debian::database::Database;
use crate::platform::{Component, Installed, Platform, Records as OwnRecords};
use crate::store::{Contents, Manifest, Records, Store, StoreError};
use crate::target::Machine;
use crate::trust::Verified;

/// Where verified manifests come from.
pub trait ManifestSource: Sync {
    /// The manifest of exactly this component.
    ///
    /// # Errors
    /// When the source has one and it is not the one that was signed.
    fn manifest(&self, id: &ComponentId) -> Result<Option<Verified<Arc<Manifest>>>, StoreError>;

    /// What the package database should hold for the component of one of its manifests; none when it does not know.
    ///
    /// # Errors
    /// As for [`manifest`](Self::manifest).
    fn records(&self, of: &Verified<Arc<Manifest>>) -> Result<Option<Verified<Arc<Records>>>, StoreError>;

    /// The MD5 of one of its contents, when it is at hand.
    fn md5(&self, digest: &Digest, size: u64) -> Option<Md5>;

    /// Who answers for what it gives.
    fn voucher(&self) -> Voucher;
}

impl ManifestSource for Store {
    fn manifest(&self, id: &ComponentId) -> Result<Option<Verified<Arc<Manifest>>>, StoreError> {
        Store::manifest(self, id)?.map(|m| m.derive(|m| Ok(Arc::new(m)))).transpose()
    }

    fn records(&self, of: &Verified<Arc<Manifest>>) -> Result<Option<Verified<Arc<Records>>>, StoreError> {
        let Some(records) = of.part(|m| &m.records).flipped() else { return Ok(None) };
        Ok(Some(Store::records(self, records)?.map(Arc::new)))
    }

    fn md5(&self, digest: &Digest, size: u64) -> Option<Md5> {
        let mut hasher = ContentHasher::md5();
        let mut take = |piece: &[u8]| {
            hasher.update(piece);
            Ok(())
        };
        self.copy(digest, size, &mut take).ok()?;
        hasher.finish().1
    }

    fn voucher(&self) -> Voucher {
        Voucher::Signed
    }
}

impl ManifestSource for Archive {
    fn manifest(&self, id: &ComponentId) -> Result<Option<Verified<Arc<Manifest>>>, StoreError> {
        Ok(Archive::manifest(self, id))
    }

    fn records(&self, of: &Verified<Arc<Manifest>>) -> Result<Option<Verified<Arc<Records>>>, StoreError> {
        Ok(Archive::records(self, &of.get().component))
    }

    fn md5(&self, _: &Digest, _: u64) -> Option<Md5> {
        None
    }

    fn voucher(&self) -> Voucher {
        Voucher::Archive
    }
}

/// What should be at each place of the machine.
#[derive(Debug, Default)]
pub struct Reference {
    /// The installed components.
    pub components: Vec<Owned>,
    /// What should be there, in no order.
    pub expected: Vec<Expected>,
    /// Hard-link groups.
    pub groups: Vec<Group>,
    /// Links that components ship, by listed path.
    pub links: HashMap<SystemPath, HashSet<Vec<u8>>>,
    /// Components of which nothing can be said, with the reason.
    pub unknown: Vec<(ComponentId, String)>,
    /// Manifests of a store that do not hold, with the reason; their components are judged by what comes after it.
    pub broken_manifests: Vec<(ComponentId, String)>,
    /// What is wrong with the components' records, when they were looked at.
    pub records: Vec<RecordFault>,
    /// Of the components whose records were looked at, how many each voucher answers for.
    pub records_vouched: BTreeMap<Voucher, u64>,
    /// What a store lacks of what it says of records, with its size.
    pub bad_records: Vec<(Digest, u64)>,
    /// Paths from which components' files were diverted: what stands there is the diverter's own.
    pub diverted: HashSet<SystemPath>,
    by_path: HashMap<SystemPath, usize>,
}

/// What a reference is gathered from.
#[derive(Clone, Copy)]
pub struct Origin<'a> {
    /// The machine.
    pub machine: &'a Machine,
    /// Its package database's kind.
    pub platform: &'a dyn Platform,
    /// What is installed.
    pub installed: &'a Installed,
    /// Who has verified manifests, the strongest first.
    pub sources: &'a [&'a dyn ManifestSource],
    /// The operator's rules.
    pub policy: &'a Policy,
    /// The package database, when the records of each component are to be judged on the way.
    pub database: Option<&'a Database>,
}

impl Reference {
    /// Gathers what should be there: from verified manifests of the first source that has them, else from the
    /// machine's own records. Where only a part is to be looked at, only what lies in or beside it is gathered.
    #[must_use]
    pub fn gather(origin: &Origin<'_>, scope: &Scope, pool: &rayon::ThreadPool) -> Self {
        let Origin { machine, platform, installed, sources, policy, database } = *origin;
        let records = platform.records(machine);
        let near = Near::of(scope, installed, sources, &*records);
        let desk = database.map(|database| Desk::new(machine, database));
        let (near, desk) = (near.as_ref(), desk.as_ref());
        let named = &scope.components;
        let gathering = Gathering { machine, installed, sources, policy, records: &*records, near, desk, named };
        let parts: Vec<Part> = pool.install(|| {
            let each = installed.components.par_iter().enumerate();
            each.map(|(at, component)| gathering.part(at, component)).collect()
        });
        let things = parts.iter().map(|part| part.expected.len()).sum();
        let mut reference = Self {
            diverted: installed.diversions.keys().cloned().collect(),
            expected: Vec::with_capacity(things),
            by_path: HashMap::with_capacity(things),
            ..Self::default()
        };
        for (component, part) in installed.components.iter().zip(parts) {
            reference.take(component, part, &*records);
        }
        reference
    }

    /// What should be at a listed path.
    #[must_use]
    pub fn at(&self, listed: &SystemPath) -> Option<usize> {
        self.by_path.get(listed).copied()
    }

    /// A component's identity.
    #[must_use]
    pub fn component_of(&self, expected: &Expected) -> &ComponentId {
        &self.components[expected.component].component.id
    }

    fn take(&mut self, component: &Component, part: Part, records: &dyn OwnRecords) {
        self.broken_manifests.extend(part.broken.map(|why| (component.id.clone(), why)));
        self.unknown.extend(part.unknown.map(|why| (component.id.clone(), why)));
        self.records.extend(part.faults);
        self.bad_records.extend(part.bad_records);
        if let Some(voucher) = part.described {
            *self.records_vouched.entry(voucher).or_default() += 1;
        }
        self.components.push(Owned { component: component.clone(), voucher: part.voucher });
        let first_group = self.groups.len();
        self.groups.extend(std::iter::repeat_with(Group::default).take(part.groups));
        for mut expected in part.expected {
            expected.group = expected.group.map(|group| first_group + group);
            self.add(expected, records);
        }
    }

    fn add(&mut self, expected: Expected, records: &dyn OwnRecords) {
        if let Want::Link(target) = &expected.want {
            self.links.entry(expected.listed.clone()).or_default().insert(target.clone());
        }
        let at = match self.by_path.entry(expected.listed.clone()) {
            Entry::Vacant(free) => {
                let at = self.expected.len();
                free.insert(at);
                if let Some(group) = expected.group {
                    self.groups[group].members.push(at);
                }
                self.expected.push(expected);
                return;
            }
            Entry::Occupied(taken) => *taken.get(),
        };
        let before = &mut self.expected[at];
        if before.want == expected.want || before.want == Want::Folder && expected.want == Want::Something {
            if let Some(meta) = expected.meta
                && before.meta != Some(meta)
            {
                before.other_metas.push(meta);
            }
            // A component that a verified manifest describes answers better than one known only by its records.
            if expected.voucher < before.voucher {
                let also = std::mem::take(&mut before.also);
                let previous = before.component;
                *before = Expected { also, ..expected };
                before.also.push(previous);
            } else {
                before.also.push(expected.component);
            }
            return;
        }
        self.settle_conflict(at, expected, records);
    }

    /// Two components ship different things at one path: the one whose own list on this machine still names it has
    /// it (dpkg takes a path out of the list of the component that lost it).
    fn settle_conflict(&mut self, at: usize, expected: Expected, records: &dyn OwnRecords) {
        let lists = |this: &Self, component: usize| {
            let owned = &this.components[component];
            let keep = |path: &[u8]| path == expected.listed.as_bytes();
            let record = records.of(&owned.component, Some(&keep)).ok();
            record.is_some_and(|r| !r.paths.is_empty())
        };
        let (old, new) = (self.expected[at].component, expected.component);
        let new_wins = match (lists(self, old), lists(self, new)) {
            (false, true) => true,
            (true, false) => false,
            // Both or neither name it: a link or folder explains more than a recorded name.
            _ => self.expected[at].voucher > expected.voucher,
        };
        if new_wins {
            let group = self.expected[at].group;
            if let Some(group) = group {
                self.groups[group].members.retain(|m| *m != at);
            }
            if let Some(group) = expected.group {
                self.groups[group].members.push(at);
            }
            self.expected[at] = expected;
        }
    }
}
