//! [`Part`]: one package's contribution to the reference. Made for many packages in parallel.

use std::collections::HashMap;
use std::sync::Arc;

use super::expected::{Expected, ExpectedKind, Meta, Policy, Rare};
use super::known::KnownRecords;
use super::merge::share_of;
use super::sources::{Described, ManifestSource, PackageJudge};
use super::subset::ReferenceSubset;
use crate::machine::{Machine, Users};
use crate::model::{Authority, Digest, Entry, EntryKind, Md5, Owner, SystemPath};
use crate::platform::{InstallState, Installed, Keep, Package, Records, SelfRecord};
use crate::store::Manifest;
use crate::trust::Verified;

/// One package's contribution.
pub(super) struct Part {
    pub(super) authority: Authority,
    /// The expected entries, by share and in listed order; hard-link groups are numbered from 0.
    pub(super) shares: Vec<Vec<Expected>>,
    /// The number of hard-link groups.
    pub(super) groups: usize,
    /// Why there is no reference for it.
    pub(super) unknown: Option<String>,
    /// Why a source's manifest of it is not used.
    pub(super) broken: Option<String>,
    /// The authority for its records, if they were examined.
    pub(super) described: Option<Authority>,
    /// Records that a store should have and lacks, with their sizes.
    pub(super) bad_records: Option<(Digest, u64)>,
}

/// The input of gathering.
pub(super) struct Gathering<'a> {
    pub(super) machine: &'a Machine,
    pub(super) installed: &'a Installed,
    pub(super) sources: &'a [&'a dyn ManifestSource],
    pub(super) policy: &'a Policy,
    pub(super) records: &'a dyn Records,
    pub(super) near: Option<&'a ReferenceSubset>,
    /// Records that were read for the same subset before.
    pub(super) known: Option<&'a KnownRecords>,
    /// Judges records, if they are to be judged.
    pub(super) judge: Option<&'a dyn PackageJudge>,
    /// The packages whose records are judged; empty for all.
    pub(super) named: &'a [String],
    /// The number of shares.
    pub(super) shares: usize,
}

impl Gathering<'_> {
    /// The contribution of the package at this position.
    pub(super) fn part(&self, at: usize, package: &Package) -> Part {
        let mut part = Part {
            authority: Authority::Local,
            shares: Vec::new(),
            groups: 0,
            unknown: None,
            broken: None,
            described: None,
            bad_records: None,
        };
        if package.install_state == InstallState::HalfInstalled {
            part.unknown = Some("half-installed".into());
            return part;
        }
        let near = self.near.filter(|near| !near.is_whole(package));
        let one = One { gathering: self, at, package, near };
        for source in self.sources {
            match source.manifest(&package.id) {
                Ok(Some(manifest)) => {
                    part.authority = source.authority();
                    (part.shares, part.groups) = one.of_manifest(manifest.get(), part.authority);
                    self.judge_records((at, package), *source, &manifest, &mut part);
                    return part;
                }
                Ok(None) => {}
                Err(e) => part.broken = Some(crate::model::error_chain(&e)),
            }
        }
        if let Some(judge) = self.judge_for(package) {
            part.described = Some(Authority::Local);
            judge.judge(at, package, None);
        }
        let keeps = |path: &[u8]| near.is_none_or(|near| near.has(path));
        let read = || self.records.read_list(package, near.is_some().then_some(&keeps as &Keep<'_>));
        let record = match self.known {
            Some(known) => known.get_or_read(at, read),
            None => read().map(Arc::new),
        };
        match record {
            Ok(record) => part.shares = one.of_records(&record),
            Err(problem) => part.unknown = Some(format!("{}: {}", problem.path, problem.what)),
        }
        part
    }
}

impl Gathering<'_> {
    fn judge_for(&self, package: &Package) -> Option<&dyn PackageJudge> {
        self.judge.filter(|_| self.named.is_empty() || self.named.contains(&package.id.name))
    }

    /// Compares a package's records with its manifest, and with the expected records of the first source that has them.
    fn judge_records(
        &self,
        (at, package): (usize, &Package),
        source: &dyn ManifestSource,
        manifest: &Verified<Arc<Manifest>>,
        part: &mut Part,
    ) {
        let Some(judge) = self.judge_for(package) else { return };
        let mut records = source.records(manifest).unwrap_or_else(|_| {
            part.bad_records = manifest.get().records.as_ref().map(|r| (r.blake3, r.size));
            None
        });
        for other in self.sources {
            if records.is_none()
                && let Ok(Some(manifest)) = other.manifest(&package.id)
            {
                records = other.records(&manifest).ok().flatten();
            }
        }
        let md5 = |digest: &Digest, size: u64| self.sources.iter().find_map(|s| s.md5(digest, size));
        let described = Described {
            authority: part.authority,
            manifest: manifest.get(),
            records: records.as_ref().map(|r| r.get().as_ref()),
            md5: &md5,
        };
        part.described = Some(part.authority);
        judge.judge(at, package, Some(&described));
    }
}

struct One<'a> {
    gathering: &'a Gathering<'a>,
    at: usize,
    package: &'a Package,
    near: Option<&'a ReferenceSubset>,
}

impl One<'_> {
    /// The real path of a listed path of this package.
    fn diverted(&self, path: &SystemPath) -> SystemPath {
        match self.gathering.installed.diversions.get(path) {
            Some(diversion) if diversion.by.as_ref() != Some(&self.package.id.name) => diversion.to.clone(),
            _ => path.clone(),
        }
    }

    fn meta(&self, entry: &Entry) -> Meta {
        let users = self.gathering.machine.users();
        let (uid, gid) = match self.gathering.policy.owner_of_root {
            Some(ids) => ids,
            None => (number(&entry.user, |n| users.uid(n)), number(&entry.group, |n| users.gid(n))),
        };
        Meta { mode: entry.mode, uid, gid, mtime: entry.mtime }
    }

    fn rare(&self, path: &SystemPath, mtime: i64) -> Option<Box<Rare>> {
        let overridden = self.overridden(path, mtime)?;
        Some(Box::new(Rare { overridden: Some(overridden), ..Rare::default() }))
    }

    fn overridden(&self, path: &SystemPath, mtime: i64) -> Option<Meta> {
        let over = self.gathering.installed.overrides.get(path)?;
        let users = self.gathering.machine.users();
        let id =
            |name: &str, find: &dyn Fn(&Users, &str) -> Option<u32>| name.parse().ok().or_else(|| find(users, name));
        let (uid, gid) = match self.gathering.policy.owner_of_root {
            Some(ids) => ids,
            None => (id(&over.user, &|u, n| u.uid(n))?, id(&over.group, &|u, n| u.gid(n))?),
        };
        Some(Meta { mode: over.mode, uid, gid, mtime })
    }

    fn of_manifest(&self, manifest: &Manifest, authority: Authority) -> (Vec<Vec<Expected>>, usize) {
        let groups: HashMap<&SystemPath, u32> = manifest.hard_link_groups().into_keys().zip(0..).collect();
        let of_interest = |entry: &&Entry| self.near.is_none_or(|near| near.has(entry.path.as_bytes()));
        let expected = |entry: &Entry| {
            let listed = self.diverted(&entry.path);
            let kind = match &entry.kind {
                EntryKind::File { size, digest, .. } => ExpectedKind::File { size: *size, digest: *digest },
                EntryKind::Folder => ExpectedKind::Folder,
                EntryKind::Link { target } => ExpectedKind::Link(target.clone()),
                EntryKind::Fifo => ExpectedKind::Fifo,
                EntryKind::Device { block, major, minor } => {
                    ExpectedKind::Device { block: *block, major: *major, minor: *minor }
                }
            };
            let group = match &entry.kind {
                EntryKind::File { same_as, .. } => groups.get(same_as.as_ref().unwrap_or(&entry.path)).copied(),
                _ => None,
            };
            Expected {
                package: self.at,
                authority,
                kind,
                meta: Some(self.meta(entry)),
                rare: self.rare(&listed, entry.mtime),
                settings: entry.settings,
                configured: entry.configured,
                capable: entry.capable,
                group,
                listed,
            }
        };
        (self.deal(manifest.entries.iter().filter(of_interest).map(expected)), groups.len())
    }

    fn of_records(&self, record: &SelfRecord) -> Vec<Vec<Expected>> {
        let settings: HashMap<&SystemPath, Option<Md5>> =
            self.package.settings.iter().filter(|s| !s.obsolete).map(|s| (&s.path, s.md5)).collect();
        let expected = |path: &SystemPath| {
            let md5 = settings.get(path).copied().flatten().or_else(|| record.md5s.get(path).copied());
            let kind = match md5 {
                // The list contains files and folders alike: what has something below it is a folder.
                _ if record.folders.contains(path) => ExpectedKind::Folder,
                Some(md5) => ExpectedKind::Recorded(md5),
                None => ExpectedKind::Something,
            };
            let listed = self.diverted(path);
            Expected {
                package: self.at,
                authority: Authority::Local,
                kind,
                meta: None,
                rare: self.rare(&listed, 0),
                settings: settings.contains_key(path),
                configured: false,
                capable: false,
                group: None,
                listed,
            }
        };
        self.deal(record.paths.iter().map(expected))
    }

    /// Distributes entries by their folders.
    fn deal(&self, things: impl Iterator<Item = Expected>) -> Vec<Vec<Expected>> {
        let share = things.size_hint().1.unwrap_or_default().div_ceil(self.gathering.shares);
        // Slightly more than an even share: few of them must grow.
        let room = share + share / 4 + 1;
        let mut shares: Vec<Vec<Expected>> = (0..self.gathering.shares).map(|_| Vec::with_capacity(room)).collect();
        for thing in things {
            shares[share_of(&thing.listed, self.gathering.shares)].push(thing);
        }
        shares
    }
}

fn number(owner: &Owner, find: impl Fn(&str) -> Option<u32>) -> u32 {
    if owner.name.is_empty() { owner.id } else { find(&owner.name).unwrap_or(owner.id) }
}
