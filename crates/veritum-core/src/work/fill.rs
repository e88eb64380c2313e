//! `store add --installed`, `store add --from`: adds installed packages to a store.

use std::fs;
use std::io;
use std::path::PathBuf;

use super::{Agreement, Engine, WorkError};
use crate::event::Observer;
use crate::machine::Machine;
use crate::model::{PackageId, error_chain};
use crate::report::{RefusedPackage, StoreAddReport};
use crate::repository::{Candidate, Lacking, Repositories};
use crate::store::{DebRef, FillRules, FillSummary, Parcel, StoreError, fill_from, room_for, take_over, taken_in};
use crate::supply::download_report;

/// The sources of installed packages.
#[derive(Debug, Default)]
struct Gathering {
    /// The number of packages that the store already has.
    known: u64,
    /// From other stores: position, packages.
    stores: Vec<(usize, Vec<PackageId>)>,
    /// Available packages.
    available: Vec<(PackageId, Candidate)>,
    /// Packages to download.
    downloads: Vec<(Lacking, String)>,
    /// Packages that are not available, and why.
    refused: Vec<RefusedPackage>,
    /// The space that the store will need in bytes, as far as known.
    room: u64,
}

impl Engine {
    /// Adds every installed package to the store in use: from other stores, from available .deb files, or from the
    /// repository, each verified. `ask` shows the plan before anything is downloaded or written.
    ///
    /// # Errors
    /// When no store is named, or it cannot be written.
    pub fn fill_installed(
        &mut self,
        contents: bool,
        plan_only: bool,
        observer: &dyn Observer,
        ask: &mut dyn FnMut(&StoreAddReport) -> Agreement,
    ) -> Result<StoreAddReport, WorkError> {
        let location = self.system.settings.store_folder()?.to_owned();
        let rules = FillRules { jobs: self.system.settings.jobs, contents };
        let gathering = gather(self, &location, rules, observer)?;
        let mut report = fill_report(&location, &gathering);
        let nothing = gathering.stores.is_empty() && gathering.available.is_empty() && gathering.downloads.is_empty();
        if plan_only || nothing {
            report.plan_only = plan_only;
            return Ok(report);
        }
        if report.room_free.is_some_and(|free| free < report.room_needed) {
            let missing = report.room_needed - report.room_free.unwrap_or(0);
            return Err(StoreError::NoRoom { path: location, missing }.into());
        }
        if ask(&report) == Agreement::No {
            report.plan_only = true;
            return Ok(report);
        }
        let lacking: Vec<Lacking> = gathering.downloads.iter().map(|(lacking, _)| lacking.clone()).collect();
        let failed: Vec<(PackageId, String)> = match lacking.is_empty() {
            true => Vec::new(),
            false => {
                let failed = self.supply().with_repositories(|repositories| repositories.download(&lacking, observer));
                failed.map_err(|_| WorkError::Stopped)?.into_iter().map(|(id, e)| (id, error_chain(&e))).collect()
            }
        };
        for (id, why) in &failed {
            report.refused.push(RefusedPackage { package: id.clone(), why: format!("not downloaded: {why}") });
        }
        let mut summary = FillSummary::default();
        for (at, ids) in &gathering.stores {
            summary = summary.with(take_over(&location, &self.open.stores[*at], Some(ids), rules, observer)?);
        }
        let got = lacking.into_iter().filter(|l| !failed.iter().any(|(id, _)| *id == l.id));
        let mut debs = gathering.available;
        debs.extend(got.map(|l| (l.id, l.candidate)));
        let filled = self.supply().open_repositories(|repositories| {
            fill_debs(repositories, &self.system.machine, &location, &debs, rules, observer)
        });
        summary = summary.with(filled.transpose()?.unwrap_or_default());
        report.push(summary);
        Ok(report)
    }
}

/// Finds the source of each installed package.
fn gather(
    engine: &Engine,
    location: &std::path::Path,
    rules: FillRules,
    observer: &dyn Observer,
) -> Result<Gathering, WorkError> {
    let known = taken_in(location, rules.contents)?;
    let mut gathering = Gathering::default();
    let mut open: Vec<PackageId> = Vec::new();
    let skip = usize::from(engine.open.own_opened);
    for package in &engine.system.installed.packages {
        let id = &package.id;
        if known.contains(id) {
            gathering.known += 1;
            continue;
        }
        gathering.room += match rules.contents {
            // Compressed, a system takes less than half of its installed size.
            true => package.installed_bytes.unwrap_or(0) / 2 + 16 * 1024,
            false => 16 * 1024,
        };
        let has = |store: &&crate::store::Store| store.entry(id).is_some_and(|e| !(rules.contents && e.manifest_only));
        match engine.open.stores.iter().skip(skip).position(|store| has(&store)) {
            Some(at) => {
                let at = at + skip;
                match gathering.stores.iter_mut().find(|(store, _)| *store == at) {
                    Some((_, ids)) => ids.push(id.clone()),
                    None => gathering.stores.push((at, vec![id.clone()])),
                }
            }
            None => open.push(id.clone()),
        }
    }
    if !open.is_empty() {
        engine
            .supply()
            .with_repositories(|repositories| repositories.ask_network(&engine.system.machine, &open, observer))
            .map_err(|_| WorkError::Stopped)?;
        engine
            .supply()
            .open_repositories(|repositories| sort_out(repositories, &engine.system.machine, open, &mut gathering));
    }
    Ok(gathering)
}

fn fill_report(location: &std::path::Path, gathering: &Gathering) -> StoreAddReport {
    let downloads = &gathering.downloads;
    StoreAddReport {
        known: gathering.known,
        from_stores: gathering.stores.iter().map(|(_, ids)| ids.len() as u64).sum(),
        available: gathering.available.len() as u64,
        available_bytes: gathering.available.iter().map(|(_, c)| c.sum.get().size).sum(),
        downloads: downloads.iter().map(|(l, from)| download_report(l, from.clone())).collect(),
        room_needed: gathering.room,
        room_free: room_for(location),
        refused: gathering.refused.clone(),
        ..StoreAddReport::new(location)
    }
}

/// Sorts packages into available ones, downloads, and unavailable ones.
fn sort_out(repositories: &Repositories, machine: &Machine, open: Vec<PackageId>, gathering: &mut Gathering) {
    for id in open {
        if let Some(candidate) = repositories.local_candidate(machine, &id) {
            gathering.available.push((id, candidate.clone()));
        } else if let Some(lacking) = repositories.lacking(machine, &id).filter(|_| repositories.may_use_network()) {
            let from = repositories.sources()[lacking.candidate.source].source.describe();
            gathering.downloads.push((lacking, from));
        } else {
            let why = match (repositories.table().lists(&id), repositories.table().newest(&id)) {
                (true, _) => "its .deb file is not available, and network use is disabled".to_owned(),
                (false, Some(newest)) => format!("the repository no longer has this version, only {newest}"),
                (false, None) => "no repository lists it".to_owned(),
            };
            gathering.refused.push(RefusedPackage { package: id, why });
        }
    }
}

fn fill_debs(
    repositories: &Repositories,
    machine: &Machine,
    location: &std::path::Path,
    debs: &[(PackageId, Candidate)],
    rules: FillRules,
    observer: &dyn Observer,
) -> Result<FillSummary, StoreError> {
    let parcels: Vec<VerifiedDeb<'_>> =
        debs.iter().map(|(id, candidate)| VerifiedDeb { repositories, machine, id, candidate }).collect();
    let parcels: Vec<&dyn Parcel> = parcels.iter().map(|p| p as &dyn Parcel).collect();
    fill_from(location, &parcels, rules, observer)
}

/// A package that a repository verifies.
struct VerifiedDeb<'a> {
    repositories: &'a Repositories,
    machine: &'a Machine,
    id: &'a PackageId,
    candidate: &'a Candidate,
}

impl Parcel for VerifiedDeb<'_> {
    fn label(&self) -> PathBuf {
        PathBuf::from(self.id.to_string())
    }

    fn bytes(&self) -> u64 {
        self.candidate.sum.get().size
    }

    fn open(&self) -> io::Result<(fs::File, Option<DebRef>)> {
        let other = || io::Error::new(io::ErrorKind::NotFound, "the available .deb file differs from the signed one");
        let deb = self.repositories.available(self.machine, self.id, &self.candidate.sum).ok_or_else(other)?;
        let sum = self.candidate.sum.get();
        Ok((deb.file.into_inner(), Some(DebRef { sha256: sum.hex(), size: sum.size })))
    }
}

impl Engine {
    /// Adds everything that the stores among the further sources have to the store in use.
    ///
    /// # Errors
    /// When no store is named, or no other one, or it cannot be written.
    pub fn fill_from_stores(&mut self, contents: bool, observer: &dyn Observer) -> Result<FillSummary, WorkError> {
        let location = self.system.settings.store_folder()?.to_owned();
        let rules = FillRules { jobs: self.system.settings.jobs, contents };
        let mut summary = FillSummary::default();
        for store in self.open.stores.iter().skip(usize::from(self.open.own_opened)) {
            summary = summary.with(take_over(&location, store, None, rules, observer)?);
        }
        Ok(summary)
    }

    /// Whether a store is among the further sources.
    ///
    /// # Errors
    /// Why a named one cannot be used.
    pub fn has_other_stores(&self) -> Result<bool, String> {
        match self.open.refused_stores.first() {
            Some(why) => Err(why.clone()),
            None => Ok(self.open.stores.len() > usize::from(self.open.own_opened)),
        }
    }
}
