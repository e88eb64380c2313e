//! The check of the area `store`: whether the store is intact.

use std::collections::{BTreeMap, HashSet};
use std::path::{Path, PathBuf};
use std::sync::PoisonError;
use std::time::Instant;

use rayon::prelude::*;

use super::sources::{ask_for_debs, downloads, repair_source};
use super::{STORE, StoreRepairPlan, judge_store, plan_store, superfluous_notes};
use crate::areas::{After, Coverage, Cx, DATABASE, Evidence, Examined, FILES, Step, Work};
use crate::model::{Action, Authority, Digest};
use crate::reference::{Expected, ExpectedKind, Owned, Reference};
use crate::store::{IndexEntry, Part, Store, StoreError, StoreFault, Trouble, UnverifiedStore, manifest_fault};
use crate::system::WorkError;

/// The result of the audit, before a repair is planned.
#[derive(Default)]
struct ExaminedStore {
    faults: Vec<StoreFault>,
    superfluous: Vec<PathBuf>,
    examined: u64,
    bytes: u64,
    extent: &'static str,
    left_out: Option<&'static str>,
    unverified_store: Option<UnverifiedStore>,
}

/// Examines the store: all of it if it was named, else what the rest of the check needs.
pub(super) fn check(cx: &Cx<'_>) -> Result<Examined, WorkError> {
    if cx.scope.is_deep(&STORE) {
        return check_whole(cx);
    }
    let Some(store) = cx.supply.own_store() else { return Ok(unopened(cx)) };
    cx.first_look()?;
    let mut stopped = cx.evidence().look.as_ref().is_some_and(|look| look.stopped);
    let begun = Instant::now();
    let looked = if stopped { None } else { cx.so_far(look_at_present(cx, store), &mut stopped)? };
    if let Some(look) = &mut cx.evidence().look {
        look.stopped = stopped;
    }
    Ok(match looked {
        Some(looked) => examined(cx, looked, begun),
        None => Examined::not_reached(STORE),
    })
}

/// Examines every part of the store.
pub(super) fn check_whole(cx: &Cx<'_>) -> Result<Examined, WorkError> {
    let begun = Instant::now();
    let Some(store) = cx.supply.own_store() else { return Ok(unopened(cx)) };
    let audit = store.audit(&cx.system.pool, cx.how.fresh, cx.observer).map_err(stopped)?;
    let looked = ExaminedStore {
        faults: audit.faults,
        superfluous: audit.superfluous,
        examined: audit.examined,
        bytes: audit.bytes,
        extent: match store.is_remote() {
            false => "every signed file, manifest and content file was read and verified",
            true => {
                "every signed file, manifest and content file was downloaded and verified; other files there are not listed"
            }
        },
        left_out: (!audit.judged_superfluous)
            .then_some("unused files: known only after the rest of the store is repaired"),
        ..ExaminedStore::default()
    };
    Ok(examined(cx, looked, begun))
}

/// Examines what a check of files depends on: manifests of installed packages, and whether their contents exist; contents
/// that a repair needs are read completely; on a web server only when they will be used.
fn look_at_present(cx: &Cx<'_>, store: &Store) -> Result<ExaminedStore, WorkError> {
    let system = cx.system;
    let mut evidence = cx.evidence();
    let needed = evidence.needed_contents();
    let Evidence { gathered: Some(gathered), look } = &mut *evidence else { return Ok(ExaminedStore::default()) };
    let reference = &gathered.reference;
    let all = contents_of(cx, store, reference);
    let listing = look.as_mut().and_then(|look| look.listing.take());
    let mut troubles: Vec<(Digest, u64, Trouble)> =
        Store::absent(&all, listing).into_iter().map(|(digest, size)| (digest, size, Trouble::Missing)).collect();
    let absent: HashSet<Digest> = troubles.iter().map(|(digest, ..)| *digest).collect();
    let known = |digest: &Digest| all.binary_search_by_key(digest, |(known, _)| *known).is_ok();
    let mut needed: Vec<(Digest, u64)> =
        needed.into_iter().filter(|(digest, _)| known(digest) && !absent.contains(digest)).collect();
    if store.is_remote() && !cx.how.fetch {
        needed.clear();
    }
    let audit =
        |contents: &[(Digest, u64)]| store.audit_contents(contents, &system.pool, false, cx.observer).map_err(stopped);
    troubles.extend(audit(&needed)?);
    // Contents that were needed to judge records and were damaged.
    troubles.extend(audit(&reference.bad_records)?);
    let entries: Vec<IndexEntry> =
        system.installed.packages.iter().filter_map(|c| store.entry(&c.id).cloned()).collect();
    let broken = reference.broken_manifests.iter().filter_map(|(id, _)| store.entry(id));
    let mut faults: Vec<StoreFault> = broken.map(|entry| manifest_fault(entry, Trouble::Altered)).collect();
    for fault in &mut faults {
        if matches!(&fault.part, Part::Manifest(entry) if !store.has_manifest_file(entry)) {
            fault.trouble = Trouble::Missing;
        }
    }
    faults.extend(store.with_harm(troubles, &entries, &system.pool));
    Ok(ExaminedStore {
        faults,
        examined: (entries.len() + all.len()) as u64,
        bytes: needed.iter().map(|(_, size)| size).sum(),
        extent: match store.is_remote() {
            false => "signatures and manifests verified; content files only checked for existence",
            true => "signatures and manifests verified; contents are downloaded and verified when a repair needs them",
        },
        ..ExaminedStore::default()
    })
}

/// The contents that the store should have for the installed packages, sorted.
fn contents_of(cx: &Cx<'_>, store: &Store, reference: &Reference) -> Vec<(Digest, u64)> {
    let kept = |owned: &Owned| store.entry(&owned.package.id).is_some_and(|e| !e.manifest_only);
    let kept: Vec<bool> = reference.packages.iter().map(kept).collect();
    let content = |expected: &Expected| match expected.kind {
        ExpectedKind::File { size, digest } if expected.authority == Authority::Store && kept[expected.package] => {
            Some((digest, size))
        }
        _ => None,
    };
    let mut all: Vec<(Digest, u64)> = reference.expected.iter().filter_map(content).collect();
    cx.system.pool.install(|| all.par_sort_unstable());
    all.dedup_by_key(|(digest, _)| *digest);
    all
}

/// A store that cannot be opened.
fn unopened(cx: &Cx<'_>) -> Examined {
    let unverified_store = cx.supply.unverified_store();
    let looked = ExaminedStore {
        faults: unverified_store.as_ref().map(|store| store.faults.clone()).unwrap_or_default(),
        examined: 1,
        extent: "only the signed files",
        left_out: Some("the rest of the store: known only after these are repaired"),
        unverified_store,
        ..ExaminedStore::default()
    };
    examined(cx, looked, Instant::now())
}

fn examined(cx: &Cx<'_>, looked: ExaminedStore, begun: Instant) -> Examined {
    let ExaminedStore { faults, superfluous, examined: parts, bytes, extent, left_out, unverified_store } = looked;
    let content = |fault: &StoreFault| if let Part::Content { digest, .. } = fault.part { Some(digest) } else { None };
    *cx.supply.open.bad.write().unwrap_or_else(PoisonError::into_inner) = faults.iter().filter_map(content).collect();
    cx.supply.open.debs.lock().unwrap_or_else(PoisonError::into_inner).clear();
    ask_for_debs(cx, &faults);
    let mut findings = judge_store(&faults);
    let notes = superfluous_notes(&superfluous);
    let remote = cx.supply.own_store().is_some_and(Store::is_remote);
    let writable = cx.system.settings.store_folder().map_or(!remote, is_writable);
    let source = |fault: &StoreFault| match writable {
        true => repair_source(cx, fault, unverified_store.as_ref()),
        false if remote => Err((
            "a store on a web server is read-only".into(),
            Some(Action::explained("repair it on the web server itself", "veritum repair store --store FOLDER")),
        )),
        false => Err((
            "the store cannot be written from here".into(),
            Some("mount it read-write, or run as a user who can write to it".into()),
        )),
    };
    let asides = if writable { superfluous } else { Vec::new() };
    let plan = plan_store(&mut findings, &faults, &asides, &source);
    let mut examined = Examined {
        left: plan.left.clone(),
        downloads: downloads(cx, &faults, &plan),
        coverage: Coverage {
            examined: parts,
            bytes,
            verified_by: BTreeMap::from([(Authority::Store, parts)]),
            extent: Some(extent.into()),
            ..Coverage::default()
        },
        ..Examined::new(STORE)
    };
    if let Some(why) = left_out {
        examined.leave_out(why);
    }
    if !plan.is_empty() {
        let work = StoreRepairPlan { faults, plan, unverified_store };
        let shows = work.shows(&findings, &notes);
        // Until its signed files are repaired, the expected content of the rest is unknown.
        let after = known_after(&work);
        let step = Step { after, ..Step::new(shows, Work::Store(Box::new(work))) };
        examined.steps.push(remarked(cx, step));
    }
    examined.findings = findings;
    examined.findings.extend(notes);
    examined.took(begun);
    examined
}

/// Adds remarks about the store's folder and about what is examined later.
fn remarked(cx: &Cx<'_>, step: Step) -> Step {
    let folder = cx.system.settings.store_folder().map(|folder| folder.display().to_string()).unwrap_or_default();
    let after = step.after;
    let step = step.remarked(format!(
        "The store is repaired first: every file is verified against its owner's signature, and damaged files are moved to \
         {folder}/set-aside."
    ));
    let others = cx.wants(&FILES) || cx.wants(&DATABASE);
    match after {
        After::Known => step,
        After::LookedAtAgain if !others => step,
        _ => step.remarked("Everything else is checked again after the store is repaired; you will be asked again."),
    }
}

/// What is known about later findings before the store is repaired: files are judged by its manifests.
fn known_after(work: &StoreRepairPlan) -> After {
    let is_manifest = |fault: &StoreFault| matches!(fault.part, Part::Manifest(_));
    match (&work.unverified_store, work.faults.iter().any(is_manifest)) {
        (Some(_), _) => After::Unknown,
        (None, true) => After::LookedAtAgain,
        (None, false) => After::Known,
    }
}

fn stopped(_: StoreError) -> WorkError {
    WorkError::Stopped
}

/// Whether the store can be written.
fn is_writable(store: &Path) -> bool {
    rustix::fs::access(store, rustix::fs::Access::WRITE_OK).is_ok()
}
