//! Repairs a store, part by part, from each part's source.

use std::cell::RefCell;
use std::collections::BTreeMap;
use std::path::Path;
use std::sync::PoisonError;

use super::sources::{another_store_with, debs_of, held_by_machine, is_available, pinned_root, read_held};
use super::{RepairSource, StoreRepairPlan};
use crate::areas::Cx;
use crate::event::{Event, Flow, Phase};
use crate::model::{ActionResult, Digest, Harm, PackageId, error_chain};
use crate::report::ActionReport;
use crate::store::{Contents, Part, StoreError, StoreFault, StoreRepair, UnverifiedStore};
use crate::supply::Supply;
use crate::system::WorkError;
use crate::trust::Pins;

/// Carries out the plan; returns the result of each action.
///
/// # Errors
/// When the store cannot be written.
pub fn repair_store(
    cx: &Cx<'_>,
    part: &StoreRepairPlan,
    mut actions: Vec<ActionReport>,
) -> Result<Vec<ActionReport>, WorkError> {
    let observer = cx.observer;
    let location = cx.system.settings.store_folder()?;
    let repair = StoreRepair::begin(location, &cx.system.settings.run)?;
    observer.on_event(Event::Begin { phase: Phase::Mending, items: actions.len() as u64, bytes: 0 });
    // Before anything is added: what is moved out must never be something new.
    for (name, action) in part.plan.asides.iter().zip(&mut actions[part.plan.fixes.len()..]) {
        settle(action, repair.set_aside(name).map_err(|e| error_chain(&e)));
    }
    let mut from_debs: Vec<(usize, &StoreFault)> = Vec::new();
    for (at, fix) in part.plan.fixes.iter().enumerate() {
        let fault = &part.faults[fix.fault];
        match mend_one(cx, &repair, fault, fix.from, part.unverified_store.as_ref()) {
            Some(result) => settle(&mut actions[at], result.map_err(|e| error_chain(&e))),
            None => from_debs.push((at, fault)),
        }
        // Each part is complete by itself: what was done stays, and the rest is reported as not repaired.
        if observer.on_event(Event::Advance { items: 1, bytes: 0 }) == Flow::Stop {
            let open = at + 1..part.plan.fixes.len();
            from_debs.iter().map(|(at, _)| *at).chain(open).for_each(|at| {
                settle(&mut actions[at], Err("interrupted before this one".into()));
            });
            from_debs.clear();
            break;
        }
    }
    mend_from_debs(cx, &repair, &from_debs, &mut actions);
    repair.end()?;
    observer.on_event(Event::End);
    cx.supply.open.bad.write().unwrap_or_else(PoisonError::into_inner).clear();
    Ok(actions)
}

/// Repairs one part, unless that needs its whole package.
fn mend_one(
    cx: &Cx<'_>,
    repair: &StoreRepair,
    fault: &StoreFault,
    from: RepairSource,
    unverified_store: Option<&UnverifiedStore>,
) -> Option<Result<(), StoreError>> {
    let root = pinned_root(cx, unverified_store);
    Some(match (&fault.part, from) {
        (Part::Signed { name }, RepairSource::Pin) => repair.known(name, root),
        (Part::Signed { .. }, _) => {
            let unverified_store = unverified_store?;
            let copy = cx.supply.other_stores().find(|s| unverified_store.is_copied_by(s))?;
            repair.signed(unverified_store, copy, &Pins::in_folder(&cx.system.settings.trust))
        }
        (Part::Pointer(entry), _) => repair.pointer(entry),
        (Part::Manifest(entry), RepairSource::OtherStore) => repair.manifest(entry, another_store_with(cx, fault)?),
        (Part::Content { digest, size }, RepairSource::OtherStore | RepairSource::Machine) => {
            let found = Elsewhere { supply: cx.supply, harm: &fault.harm };
            repair.content(digest, *size, &found)
        }
        _ => return None,
    })
}

/// Each package is read once for everything that it provides.
fn mend_from_debs(cx: &Cx<'_>, repair: &StoreRepair, parts: &[(usize, &StoreFault)], actions: &mut [ActionReport]) {
    let mut debs: BTreeMap<PackageId, Vec<(usize, &StoreFault)>> = BTreeMap::new();
    for (at, fault) in parts {
        match debs_of(cx, fault).into_iter().find(|(id, sum)| is_available(cx, id, sum)) {
            Some((id, _)) => debs.entry(id).or_default().push((*at, *fault)),
            None => settle(&mut actions[*at], Err("its .deb file is not available".into())),
        }
    }
    for (id, parts) in debs {
        let result = mend_from_deb(cx, repair, &id, &parts).map_err(|e| error_chain(&e));
        for (at, fault) in parts {
            let there = cx.supply.own_store().is_some_and(|store| match &fault.part {
                Part::Content { digest, .. } => store.has_content(digest),
                Part::Manifest(entry) => store.has_manifest_file(entry),
                _ => true,
            });
            let result = result.clone().and_then(|()| match there {
                true => Ok(()),
                false => Err("its .deb file does not contain it".into()),
            });
            settle(&mut actions[at], result);
        }
    }
}

fn mend_from_deb(
    cx: &Cx<'_>,
    repair: &StoreRepair,
    id: &PackageId,
    parts: &[(usize, &StoreFault)],
) -> Result<(), StoreError> {
    let none = || StoreError::NotACopy { path: id.to_string().into() };
    let store = cx.supply.own_store().ok_or_else(none)?;
    let (entry, sum) = (store.entry(id).ok_or_else(none)?, store.deb(id).ok_or_else(none)?);
    let deb = cx.supply.open_repositories(|a| a.available(&cx.system.machine, id, &sum)).flatten().ok_or_else(none)?;
    for (_, fault) in parts {
        repair.set_aside(Path::new(&fault.part.name()))?;
    }
    repair.deb(deb.file.into_inner(), Path::new(&deb.from), entry).map(drop)
}

fn settle(action: &mut ActionReport, result: Result<(), String>) {
    action.result = if result.is_ok() { ActionResult::Done } else { ActionResult::Failed };
    action.why = result.err();
}

/// A content from another store, or from the machine itself.
struct Elsewhere<'a> {
    supply: Supply<'a>,
    harm: &'a Harm,
}

impl Contents for Elsewhere<'_> {
    fn copy(
        &self,
        digest: &Digest,
        size: u64,
        to: &mut dyn FnMut(&[u8]) -> std::io::Result<()>,
    ) -> Result<(), StoreError> {
        // A write error is not the source's fault.
        let unwritten: RefCell<Option<std::io::Error>> = RefCell::default();
        let mut write = |piece: &[u8]| {
            to(piece).map_err(|e| {
                let told = std::io::Error::new(e.kind(), e.to_string());
                unwritten.replace(Some(e));
                told
            })
        };
        let mut result = Err(StoreError::Absent { digest: *digest });
        for store in self.supply.other_stores() {
            result = store.copy(digest, size, &mut write);
            match &result {
                Err(StoreError::Absent { .. } | StoreError::Damaged { .. } | StoreError::File { .. }) => {}
                _ => return result,
            }
        }
        if unwritten.borrow().is_none()
            && let Some(path) = held_by_machine(self.supply.system, digest, size, self.harm)
        {
            let held = |_| StoreError::Damaged { digest: *digest };
            result = read_held(self.supply.system, &path, digest, size, &mut write).map_err(held);
        }
        match unwritten.into_inner() {
            Some(source) => Err(StoreError::File { path: "the store".into(), source }),
            None => result,
        }
    }

    fn has_content(&self, digest: &Digest) -> bool {
        self.supply.other_stores().any(|s| s.has_content(digest))
    }
}
