//! Finds sources for parts of the store.

use std::collections::BTreeSet;
use std::os::fd::AsFd as _;
use std::sync::PoisonError;

use super::{NoSource, RepairSource, StorePlan};
use crate::areas::Cx;
use crate::model::{Action, ContentHasher, Digest, FileKind, Harm, PackageId, SystemPath};
use crate::platform::debian::apt::FileSum;
use crate::repository::Lacking;
use crate::store::{Contents as _, Part, Store, StoreFault, UnverifiedStore, known};
use crate::system::System;
use crate::trust::Verified;

/// Reads the repositories' lists for packages with damaged parts that no other store has.
pub(super) fn ask_for_debs(cx: &Cx<'_>, faults: &[StoreFault]) {
    let lost = |fault: &&StoreFault| another_store_with(cx, fault).is_none() && !matches!(fault.part, Part::Pointer(_));
    let ids: BTreeSet<PackageId> = faults.iter().filter(lost).flat_map(|i| i.harm.packages.clone()).collect();
    if !ids.is_empty() {
        let ids: Vec<PackageId> = ids.into_iter().collect();
        // An interruption here also stops the next step.
        let _ =
            cx.supply.with_repositories(|repositories| repositories.ask_network(&cx.system.machine, &ids, cx.observer));
    }
}

/// Another store that has a part.
pub(super) fn another_store_with<'a>(cx: &Cx<'a>, fault: &StoreFault) -> Option<&'a Store> {
    cx.supply.other_stores().find(|store| match &fault.part {
        Part::Content { digest, .. } => store.has_content(digest),
        Part::Manifest(entry) => store.has_manifest(entry),
        Part::Signed { .. } | Part::Pointer(_) => false,
    })
}

/// Whether a signed file can be derived from what is known.
fn is_known(cx: &Cx<'_>, name: &str, unverified_store: Option<&UnverifiedStore>) -> bool {
    let path = unverified_store.map(|a| a.path.as_path()).or_else(|| cx.supply.own_store().map(Store::path));
    path.is_some_and(|path| known(path, name, pinned_root(cx, unverified_store)).is_some())
}

/// The trusted root of the store.
pub(super) fn pinned_root<'a>(cx: &Cx<'a>, unverified_store: Option<&'a UnverifiedStore>) -> &'a [u8] {
    unverified_store.map(UnverifiedStore::root).or_else(|| cx.supply.own_store().map(Store::root)).unwrap_or_default()
}

/// The source of a part; the nearest first.
pub(super) fn repair_source(
    cx: &Cx<'_>,
    fault: &StoreFault,
    unverified_store: Option<&UnverifiedStore>,
) -> Result<RepairSource, NoSource> {
    match &fault.part {
        Part::Pointer(_) => return Ok(RepairSource::Index),
        Part::Signed { name } if is_known(cx, name, unverified_store) => return Ok(RepairSource::Pin),
        Part::Signed { .. } => {
            let copy = unverified_store
                .and_then(|unverified_store| cx.supply.other_stores().find(|s| unverified_store.is_copied_by(s)));
            let reason = || match cx.supply.open.refused_stores.first() {
                Some(why) => format!("the other copy cannot be used: {why}"),
                None => "no other copy of this store is available".into(),
            };
            let next = Action::explained(
                "name another copy (--from STORE), or ask the store's maintainer to sign it again",
                "veritum store sign",
            );
            return copy.map(|_| RepairSource::OtherStore).ok_or_else(|| (reason(), Some(next)));
        }
        Part::Content { .. } | Part::Manifest(_) => {}
    }
    if another_store_with(cx, fault).is_some() {
        return Ok(RepairSource::OtherStore);
    }
    if let Part::Content { digest, size } = &fault.part
        && held_by_machine(cx.system, digest, *size, &fault.harm).is_some()
    {
        return Ok(RepairSource::Machine);
    }
    let debs = debs_of(cx, fault);
    if debs.iter().any(|(id, sum)| is_available(cx, id, sum)) {
        return Ok(RepairSource::Deb);
    }
    let lacking = debs.iter().find_map(|(id, sum)| cx.supply.open_repositories(|a| a.fetchable(id, sum)).flatten());
    match lacking {
        Some(lacking) => Ok(RepairSource::Download { bytes: lacking.candidate.sum.get().size }),
        None => Err((
            "no other store, no .deb file and not the machine has an intact copy".into(),
            Some("name a folder of .deb files or another store that has it: --from PATH".into()),
        )),
    }
}

/// Whether a package is available; each is opened once, however many parts depend on it.
pub(super) fn is_available(cx: &Cx<'_>, id: &PackageId, sum: &Verified<FileSum>) -> bool {
    let known = || cx.supply.open.debs.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some(there) = known().get(id) {
        return *there;
    }
    let there = cx.supply.open_repositories(|a| a.available(&cx.system.machine, id, sum).is_some()).unwrap_or(false);
    known().insert(id.clone(), there);
    there
}

/// The packages that contain a part, as the store's owner verifies them.
pub(super) fn debs_of(cx: &Cx<'_>, fault: &StoreFault) -> Vec<(PackageId, Verified<FileSum>)> {
    let store = cx.supply.own_store();
    let sum = |id: &PackageId| Some((id.clone(), store?.deb(id)?));
    fault.harm.packages.iter().filter_map(sum).collect()
}

pub(super) fn downloads(cx: &Cx<'_>, faults: &[StoreFault], plan: &StorePlan) -> Vec<(Lacking, String)> {
    let mut all: Vec<(Lacking, String)> = Vec::new();
    for fix in plan.fixes.iter().filter(|m| matches!(m.from, RepairSource::Download { .. })) {
        let found = debs_of(cx, &faults[fix.fault]).into_iter().find_map(|(id, sum)| {
            cx.supply.open_repositories(|a| {
                let lacking = a.fetchable(&id, &sum)?;
                let from = a.sources()[lacking.candidate.source].source.describe();
                Some((lacking, from))
            })?
        });
        if let Some((lacking, from)) = found
            && !all.iter().any(|(l, _)| l.id == lacking.id)
        {
            all.push((lacking, from));
        }
    }
    all
}

/// The place on the machine that still has a content, among those that should have it.
pub(super) fn held_by_machine(system: &System, digest: &Digest, size: u64, harm: &Harm) -> Option<SystemPath> {
    let none = |_: &[u8]| Ok(());
    harm.paths.iter().find(|path| read_held(system, path, digest, size, &mut { none }).is_ok()).cloned()
}

/// Reads a file of the machine in pieces, if it has that size and content: once to verify, once to pass on.
pub(super) fn read_held(
    system: &System,
    path: &SystemPath,
    digest: &Digest,
    size: u64,
    to: &mut dyn FnMut(&[u8]) -> std::io::Result<()>,
) -> std::io::Result<()> {
    let other = || std::io::Error::new(std::io::ErrorKind::NotFound, "missing");
    let physical = system.machine.resolve(path)?;
    let dir = system.machine.dir(&physical.parent().ok_or_else(other)?)?;
    let stat = dir.look(physical.name())?.filter(|s| s.kind == FileKind::File && s.size == size);
    stat.ok_or_else(other)?;
    let file = dir.disk().open_file(dir.fd(), physical.name())?;
    let mut hasher = ContentHasher::blake3();
    let mut piece = vec![0; 128 * 1024];
    loop {
        match dir.disk().read(file.as_fd(), &mut piece)? {
            0 => break,
            n => {
                hasher.update(&piece[..n]);
                to(&piece[..n])?;
            }
        }
    }
    if hasher.finish().0 == Some(*digest) { Ok(()) } else { Err(other()) }
}
