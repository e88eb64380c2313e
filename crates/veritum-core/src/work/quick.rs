//! `check --quick` of a machine on which nothing has changed since the last full check found everything intact.

use std::time::Instant;

use super::Engine;
use super::examine::{check_where, tell_unfinished};
use crate::areas::{FILES, Failed, How, about};
use crate::change::StateFolder;
use crate::event::{Event, Observer, Phase};
use crate::history::{self, CleanCheck};
use crate::model::{Digest, FileKind, Scope, SystemPath, Verdict};
use crate::platform::debian::ALIASES;
use crate::report::CheckReport;
use crate::scan::{SnapshotBuilder, Watch};
use crate::system::System;

/// The inputs of the reference besides the store: the package database, and its configuration.
const ORIGINS: [&str; 9] = [
    "/var/lib/dpkg",
    "/var/lib/apt/extended_states",
    "/var/backups",
    "/var/log/dpkg.log",
    "/etc/alternatives",
    "/etc/dpkg",
    "/etc/passwd",
    "/etc/group",
    "/etc/fstab",
];
/// No more than this many names below them are watched.
const MAX_NAMES: usize = 1_000_000;

/// Identifies the references of a check: `None` unless one signed store alone verifies everything.
fn clean_check_key(engine: &Engine) -> Option<String> {
    let [store] = engine.open.stores.as_slice() else { return None };
    let answers = engine.open.own_opened && engine.system.installed.packages.iter().all(|c| store.has(&c.id));
    if !answers || !engine.system.database.lost.is_empty() {
        return None;
    }
    let pinned = Digest::hash(store.root()).to_hex();
    let owner = engine.system.settings.policy.owner_of_root;
    let what = [env!("CARGO_PKG_VERSION").to_owned(), pinned, store.index_digest().to_hex(), format!("{owner:?}")];
    Some(what.join(" "))
}

/// The record of a full check that found everything intact and left nothing out.
pub(super) fn clean_check(
    engine: &Engine,
    mut snapshot_builder: SnapshotBuilder,
    report: &CheckReport,
) -> Option<CleanCheck> {
    let key = clean_check_key(engine)?;
    // A moved folder leads to places that are not examined.
    if !is_clear(report) || report.notes.iter().any(|note| note.verdict == Verdict::Moved) {
        return None;
    }
    for origin in ORIGINS {
        watch(&engine.system, &SystemPath::literal(origin), &mut snapshot_builder, &mut 0)?;
    }
    for alias in ALIASES {
        let path = SystemPath::root().child(alias.as_bytes()).ok()?;
        snapshot_builder.add(
            &SystemPath::root(),
            &path,
            engine.system.machine.look(&path).ok()?.as_ref(),
            Watch::Close,
        );
    }
    let report = serde_json::to_string(report).ok()?;
    Some(CleanCheck { key, report, places: snapshot_builder.finish()? })
}

/// Adds a place and everything below it; `None` when it cannot be read.
fn watch(system: &System, path: &SystemPath, snapshot_builder: &mut SnapshotBuilder, count: &mut usize) -> Option<()> {
    let parent = path.parent()?;
    let Ok(real) = system.machine.resolve(&parent) else {
        // Without the folder its contents do not exist either.
        return watch(system, &parent, snapshot_builder, count);
    };
    let place = real.child(path.name()).ok()?;
    let stat = system.machine.look(&place).ok()?;
    snapshot_builder.add(&real, &place, stat.as_ref(), Watch::Close);
    match stat {
        Some(stat) if stat.kind == FileKind::Folder => watch_below(system, &place, snapshot_builder, count),
        _ => Some(()),
    }
}

fn watch_below(
    system: &System,
    folder: &SystemPath,
    snapshot_builder: &mut SnapshotBuilder,
    count: &mut usize,
) -> Option<()> {
    let dir = system.machine.dir(folder).ok()?;
    for (name, _) in dir.disk().list(dir.fd()).ok()? {
        *count += 1;
        if *count > MAX_NAMES {
            return None;
        }
        let place = folder.child(&name).ok()?;
        let stat = dir.look(&name).ok()?;
        snapshot_builder.add(folder, &place, stat.as_ref(), Watch::Close);
        if stat.is_some_and(|s| s.kind == FileKind::Folder) {
            watch_below(system, &place, snapshot_builder, count)?;
        }
    }
    Some(())
}

/// The last full check's result, if nothing that it depends on has changed since.
pub(super) fn unchanged_report(
    engine: &Engine,
    state: Option<&StateFolder>,
    observer: &dyn Observer,
) -> Option<CheckReport> {
    let begun = Instant::now();
    let settled = history::settled(&engine.system.notes()?)?;
    if clean_check_key(engine)? != settled.key {
        return None;
    }
    // Foreign bytes, on a mounted disk: accepted only if they are what a clean check would have written.
    let before: CheckReport = serde_json::from_str(&settled.report).ok().filter(is_clear)?;
    before.at.parse::<jiff::Timestamp>().ok()?;
    let items = settled.places.parts().len() as u64;
    observer.on_event(Event::Begin { phase: Phase::Comparing, items, bytes: 0 });
    let stands = settled.places.still_stands(&engine.system.machine, &engine.system.pool, observer);
    observer.on_event(Event::End);
    if !stands {
        return None;
    }
    // What does not depend on the watched files is examined again.
    let (scope, none) = (Scope::default(), Failed::new());
    let fresh = check_where(&engine.cx(&scope, How::plain(&none), observer), &|about| !about.by_reference).ok()?;
    let mut others = engine.blank_report(&scope);
    fresh.fill(&mut others, None);
    if !is_clear(&others) {
        return None;
    }
    let since = engine.system.since_words(&before.at);
    let mut report = CheckReport {
        at: engine.system.settings.now.to_string(),
        machine: engine.system.machine_report(),
        reference: engine.supply().reference_words(),
        sources: Vec::new(),
        downloads: Vec::new(),
        left: Vec::new(),
        doubt: None,
        ..before
    };
    for area in &mut report.areas {
        if let Some(fresh) = others.area(area.area.clone()) {
            area.clone_from(fresh);
            continue;
        }
        area.bytes = 0;
        area.seconds = if area.area == FILES { begun.elapsed().as_secs_f64() } else { 0.0 };
        let is_of_machine = about(&area.area).is_none_or(|about| about.is_of_machine);
        area.extent = Some(match is_of_machine {
            false => "--quick: only the signed files were read".into(),
            true => format!("--quick: nothing has changed since the check of {since}"),
        });
    }
    if let Some(state) = state {
        tell_unfinished(state, &mut report);
    }
    Some(report)
}

/// Whether a check found no problem and left nothing out.
fn is_clear(report: &CheckReport) -> bool {
    report.problems() == 0 && report.unexamined.is_empty() && report.findings.is_empty()
}
