//! [`Reference`]: what should be at each place, and who answers for it.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use rayon::prelude::*;

use super::expected::{Expected, Group, Meta, Owned, Policy, Scope, Want};
use super::near::Near;
use crate::archive::Archive;
use crate::model::{ComponentId, Entry, EntryKind, Md5, Owner, SystemPath, Voucher};
use crate::platform::{Component, Installed, Keep, Platform, Progress, Records};
use crate::store::{Manifest, Store, StoreError};
use crate::target::{Machine, Users};
use crate::trust::Verified;

/// Where verified manifests come from.
pub trait ManifestSource: Sync {
    /// The manifest of exactly this component.
    ///
    /// # Errors
    /// When the source has one and it is not the one that was signed.
    fn manifest(&self, id: &ComponentId) -> Result<Option<Verified<Arc<Manifest>>>, StoreError>;

    /// Who answers for what it gives.
    fn voucher(&self) -> Voucher;
}

impl ManifestSource for Store {
    fn manifest(&self, id: &ComponentId) -> Result<Option<Verified<Arc<Manifest>>>, StoreError> {
        Store::manifest(self, id)?.map(|m| m.derive(|m| Ok(Arc::new(m)))).transpose()
    }

    fn voucher(&self) -> Voucher {
        Voucher::Signed
    }
}

impl ManifestSource for Archive {
    fn manifest(&self, id: &ComponentId) -> Result<Option<Verified<Arc<Manifest>>>, StoreError> {
        Ok(Archive::manifest(self, id))
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
    /// Paths from which components' files were diverted: what stands there is the diverter's own.
    pub diverted: HashSet<SystemPath>,
    by_path: HashMap<SystemPath, usize>,
}

/// What one component brings into the reference.
enum Brought {
    Manifest(Arc<Manifest>, Voucher),
    Records(crate::platform::SelfRecord),
    Nothing(String),
}

impl Reference {
    /// Gathers what should be there: from verified manifests of the first source that has them, else from the
    /// machine's own records. Where only a part is to be looked at, only what lies in or beside it is gathered.
    #[must_use]
    pub fn gather(
        machine: &Machine,
        platform: &dyn Platform,
        installed: &Installed,
        sources: &[&dyn ManifestSource],
        scope: &Scope,
        policy: &Policy,
        pool: &rayon::ThreadPool,
    ) -> Self {
        let records = platform.records(machine);
        let near = Near::of(scope, installed, sources, &*records);
        let bring = |component: &Component| -> (Brought, Option<String>) {
            if component.progress == Progress::HalfWay {
                return (Brought::Nothing("its installation was interrupted half-way".into()), None);
            }
            let mut broken = None;
            for source in sources {
                match source.manifest(&component.id) {
                    Ok(Some(manifest)) => {
                        return (Brought::Manifest(manifest.into_inner(), source.voucher()), broken);
                    }
                    Ok(None) => {}
                    Err(e) => broken = Some(crate::model::error_chain(&e)),
                }
            }
            let keep = near.as_ref().filter(|n| !n.is_whole(component));
            let keeps = |path: &[u8]| keep.is_none_or(|k| k.has(path));
            match records.of(component, keep.is_some().then_some(&keeps as &Keep<'_>)) {
                Ok(record) => (Brought::Records(record), broken),
                Err(problem) => (Brought::Nothing(format!("{}: {}", problem.path, problem.what)), broken),
            }
        };
        let brought: Vec<_> = pool.install(|| installed.components.par_iter().map(bring).collect());
        let mut reference = Self { diverted: installed.diversions.keys().cloned().collect(), ..Self::default() };
        for (component, (brought, broken)) in installed.components.iter().zip(brought) {
            if let Some(why) = broken {
                reference.broken_manifests.push((component.id.clone(), why));
            }
            let voucher = if let Brought::Manifest(_, voucher) = &brought { *voucher } else { Voucher::Itself };
            reference.components.push(Owned { component: component.clone(), voucher });
            let near = near.as_ref().filter(|n| !n.is_whole(component));
            let mut into = Adding { reference: &mut reference, installed, machine, policy, records: &*records, near };
            match brought {
                Brought::Manifest(manifest, voucher) => into.manifest(&manifest, voucher),
                Brought::Records(record) => into.records(component, &record),
                Brought::Nothing(why) => reference.unknown.push((component.id.clone(), why)),
            }
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
}

struct Adding<'a> {
    reference: &'a mut Reference,
    installed: &'a Installed,
    machine: &'a Machine,
    policy: &'a Policy,
    records: &'a dyn Records,
    near: Option<&'a Near>,
}

impl Adding<'_> {
    fn here(&self) -> usize {
        self.reference.components.len() - 1
    }

    /// Where a listed path of this component really belongs.
    fn diverted(&self, path: &SystemPath) -> SystemPath {
        let name = &self.reference.components[self.here()].component.id.name;
        match self.installed.diversions.get(path) {
            Some(diversion) if diversion.by.as_ref() != Some(name) => diversion.to.clone(),
            _ => path.clone(),
        }
    }

    fn meta(&self, entry: &Entry) -> Meta {
        let users = self.machine.users();
        let (uid, gid) = match self.policy.owner_of_root {
            Some(ids) => ids,
            None => (number(&entry.user, |n| users.uid(n)), number(&entry.group, |n| users.gid(n))),
        };
        Meta { mode: entry.mode, uid, gid, mtime: entry.mtime }
    }

    fn overridden(&self, path: &SystemPath, mtime: i64) -> Option<Meta> {
        let over = self.installed.overrides.get(path)?;
        let users = self.machine.users();
        let id =
            |name: &str, find: &dyn Fn(&Users, &str) -> Option<u32>| name.parse().ok().or_else(|| find(users, name));
        let (uid, gid) = match self.policy.owner_of_root {
            Some(ids) => ids,
            None => (id(&over.user, &|u, n| u.uid(n))?, id(&over.group, &|u, n| u.gid(n))?),
        };
        Some(Meta { mode: over.mode, uid, gid, mtime })
    }

    fn manifest(&mut self, manifest: &Manifest, voucher: Voucher) {
        let mut groups: HashMap<&SystemPath, usize> = HashMap::new();
        for first in manifest.hard_link_groups().keys() {
            groups.insert(first, self.reference.groups.len());
            self.reference.groups.push(Group::default());
        }
        for entry in &manifest.entries {
            if self.near.is_some_and(|n| !n.has(entry.path.as_bytes())) {
                continue;
            }
            let listed = self.diverted(&entry.path);
            let want = match &entry.kind {
                EntryKind::File { size, digest, .. } => Want::File { size: *size, digest: *digest },
                EntryKind::Folder => Want::Folder,
                EntryKind::Link { target } => Want::Link(target.clone()),
                EntryKind::Fifo => Want::Fifo,
                EntryKind::Device { block, major, minor } => {
                    Want::Device { block: *block, major: *major, minor: *minor }
                }
            };
            let group = match &entry.kind {
                EntryKind::File { same_as, .. } => groups.get(same_as.as_ref().unwrap_or(&entry.path)).copied(),
                _ => None,
            };
            let meta = self.meta(entry);
            let expected = Expected {
                component: self.here(),
                also: Vec::new(),
                voucher,
                want,
                meta: Some(meta),
                other_metas: Vec::new(),
                overridden: self.overridden(&listed, entry.mtime),
                settings: entry.settings,
                configured: entry.configured,
                group,
                listed,
            };
            self.add(expected);
        }
    }

    fn records(&mut self, component: &Component, record: &crate::platform::SelfRecord) {
        let settings: HashMap<&SystemPath, Option<Md5>> =
            component.settings.iter().filter(|s| !s.obsolete).map(|s| (&s.path, s.md5)).collect();
        for path in &record.paths {
            let md5 = settings.get(path).copied().flatten().or_else(|| record.md5s.get(path).copied());
            let want = match md5 {
                // The list names folders and files alike: what has something below it is a folder.
                _ if record.folders.contains(path) => Want::Folder,
                Some(md5) => Want::Recorded(md5),
                None => Want::Something,
            };
            let listed = self.diverted(path);
            let expected = Expected {
                component: self.here(),
                also: Vec::new(),
                voucher: Voucher::Itself,
                want,
                meta: None,
                other_metas: Vec::new(),
                overridden: self.overridden(&listed, 0),
                settings: settings.contains_key(path),
                configured: false,
                group: None,
                listed,
            };
            self.add(expected);
        }
    }

    fn add(&mut self, expected: Expected) {
        if let Want::Link(target) = &expected.want {
            self.reference.links.entry(expected.listed.clone()).or_default().insert(target.clone());
        }
        let Some(&at) = self.reference.by_path.get(&expected.listed) else {
            let at = self.reference.expected.len();
            self.reference.by_path.insert(expected.listed.clone(), at);
            if let Some(group) = expected.group {
                self.reference.groups[group].members.push(at);
            }
            self.reference.expected.push(expected);
            return;
        };
        let before = &mut self.reference.expected[at];
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
        self.settle_conflict(at, expected);
    }

    /// Two components ship different things at one path: the one whose own list on this machine still names it has
    /// it (dpkg takes a path out of the list of the component that lost it).
    fn settle_conflict(&mut self, at: usize, expected: Expected) {
        let lists = |this: &Self, component: usize| {
            let owned = &this.reference.components[component];
            let keep = |path: &[u8]| path == expected.listed.as_bytes();
            let record = this.records.of(&owned.component, Some(&keep)).ok();
            record.is_some_and(|r| !r.paths.is_empty())
        };
        let (old, new) = (self.reference.expected[at].component, expected.component);
        let new_wins = match (lists(self, old), lists(self, new)) {
            (false, true) => true,
            (true, false) => false,
            // Both or neither name it: a link or folder explains more than a recorded name.
            _ => self.reference.expected[at].voucher > expected.voucher,
        };
        if new_wins {
            let group = self.reference.expected[at].group;
            if let Some(group) = group {
                self.reference.groups[group].members.retain(|m| *m != at);
            }
            if let Some(group) = expected.group {
                self.reference.groups[group].members.push(at);
            }
            self.reference.expected[at] = expected;
        }
    }
}

fn number(owner: &Owner, find: impl Fn(&str) -> Option<u32>) -> u32 {
    if owner.name.is_empty() { owner.id } else { find(&owner.name).unwrap_or(owner.id) }
}
