//! What came of the area `files`: findings with what a repair would do, and how far it was looked at.

use std::collections::{BTreeSet, HashSet};
use std::time::Instant;

use super::archives::bad_archives;
use super::{FILES, FileRules, FilesCheck, needed_components, plan_files};
use crate::archive::{Archive, Lacking};
use crate::areas::{Checked, Coverage, Cx, Examined, FileWork, Gathered, Memory, STORE, Step, Work};
use crate::history::SeenFiles;
use crate::machine::marked_errors;
use crate::model::{Authority, ComponentId, Digest, Finding, Scope};
use crate::plan::{DiskDoubt, Left, Plan};
use crate::reference::Reference;
use crate::report::ActionReport;
use crate::system::WorkError;

/// Judges what was looked at, and plans.
pub(super) fn check(cx: &Cx<'_>, earlier: &Checked) -> Result<Examined, WorkError> {
    cx.full_look()?;
    let begun = Instant::now();
    let mut evidence = cx.evidence();
    let evidence = &mut *evidence;
    let (Some(Gathered { reference, .. }), Some(look)) = (&evidence.gathered, &mut evidence.look) else {
        return Ok(Examined::not_reached(FILES));
    };
    if reference.components.iter().any(|c| c.authority == Authority::SelfReported) {
        // Where the archives stand is told even when nothing of them was needed.
        cx.supply.with_archive(|_| ());
    }
    let files = &mut look.check;
    // Planned anew when the store has got something back: what was found stays as it was.
    let found = files.findings.clone();
    let plan = planned(cx, reference, files, &coming(earlier));
    let mut examined = Examined {
        doubt: plan.doubt.clone(),
        left: plan.left.clone(),
        downloads: to_download(cx, reference, files, &look.scope),
        coverage: coverage(&look.scope, reference, files),
        stopped: look.stopped,
        ..Examined::new(FILES)
    };
    if !plan.actions.is_empty() {
        let shows = plan.actions.iter().map(ActionReport::planned).collect();
        examined.steps.push(Step::new(shows, Work::Files(FileWork { plan, ..FileWork::default() })));
    }
    leave_out(cx, reference, files, &mut examined);
    if look.stopped && files.not_reached == 0 {
        examined.leave_out("stopped before what was found was compared with the signed packages");
    }
    if cx.how.quick {
        examined.coverage.extent = Some(quick_words(cx, look.before.as_ref(), files.unread));
    }
    examined.coverage.unverified = cx.supply.unverified(reference, &look.scope);
    examined.coverage.seconds = look.seconds;
    // What is wrong with an archive is no answer about something that was named.
    if look.scope.is_all() {
        examined.findings = bad_archives(&cx.supply);
        let reason = |finding: &Finding| finding.cause.clone().unwrap_or_default();
        let left = examined.findings.iter().map(|f| Left::new(f, reason(f), f.advice.clone()));
        examined.left.extend(left.collect::<Vec<_>>());
    }
    examined.findings.append(&mut std::mem::replace(&mut files.findings, found));
    examined.findings.extend(files.notes.iter().cloned());
    examined.memory =
        Some(Memory { files: std::mem::take(&mut files.remembered), snapshot: files.snapshot_builder.take() });
    examined.took(begun);
    Ok(examined)
}

/// Contents that the store is going to get back: its repair comes first, so they count as had.
fn coming(earlier: &Checked) -> HashSet<Digest> {
    let steps = earlier.get(&STORE).into_iter().flat_map(|store| &store.steps);
    steps.flat_map(|step| if let Work::Store(work) = &step.work { work.coming() } else { HashSet::new() }).collect()
}

fn planned(cx: &Cx<'_>, reference: &Reference, files: &mut FilesCheck, coming: &HashSet<Digest>) -> Plan {
    let system = cx.system;
    let left_out = system.left_out();
    let at_hand = cx.supply.contents_at_hand();
    let has_content = |digest: &Digest| coming.contains(digest) || at_hand(digest);
    let supply = |id: &ComponentId| cx.supply.availability(reference, id, cx.how.failed);
    let rules = FileRules {
        protection: &system.protection,
        has_content: &has_content,
        supply: &supply,
        left_out: &left_out,
        despite_disk: system.settings.despite_disk,
    };
    let mut plan = plan_files(files, reference, &rules);
    let errors = marked_errors(&system.machine);
    if errors > 0 && plan.doubt.is_none() && !system.settings.despite_disk {
        plan.doubt = Some(DiskDoubt::MarkedErrors { errors });
    }
    plan
}

fn coverage(scope: &Scope, reference: &Reference, files: &FilesCheck) -> Coverage {
    let only_local = files.vouched.get(&Authority::SelfReported).is_some_and(|n| *n > 0);
    Coverage {
        examined: files.examined,
        bytes: files.bytes,
        vouched: files.vouched.clone(),
        presence_only: files.presence_only,
        // What was not examined is not sound.
        incomplete: files.examined == 0 || files.elsewhere > 0,
        weak: !files.unexamined.is_empty() || only_local || !reference.unknown.is_empty() && scope.is_all(),
        components: reference.components_by_authority(),
        more_notes: files.strays,
        ..Coverage::default()
    }
}

/// Packages that a repair downloads first: those that it needs for what was found, and where everything is to be
/// held against its package, all that are not at hand.
fn to_download(cx: &Cx<'_>, reference: &Reference, files: &FilesCheck, scope: &Scope) -> Vec<(Lacking, String)> {
    let mut needed: BTreeSet<ComponentId> = BTreeSet::new();
    for fault in &files.faults {
        if files.findings[fault.finding].remedy.as_ref().is_some_and(|r| r.download.is_some()) {
            let of = needed_components(fault, &reference.expected[fault.expected], reference);
            needed.extend(of.into_iter().cloned());
        }
    }
    if cx.system.settings.full_chain {
        needed.extend(cx.supply.weak_in_scope(reference, scope));
    }
    let machine = &cx.system.machine;
    let find = |archive: &Archive| {
        let may = |_: &&ComponentId| archive.may_use_network();
        let lacking = needed.iter().filter(may).filter(|id| !archive.has_package(machine, id));
        let with_source = |l: Lacking| {
            let from = archive.sources()[l.candidate.source].source.describe();
            (l, from)
        };
        lacking.filter_map(|id| archive.lacking(machine, id)).map(with_source).collect()
    };
    cx.supply.open_archive(find).unwrap_or_default()
}

/// How far a quick check went.
fn quick_words(cx: &Cx<'_>, before: Option<&SeenFiles>, unread: u64) -> String {
    let Some(before) = before.filter(|b| !b.files.is_empty()) else {
        return "quick, but no earlier check is remembered: everything was read".into();
    };
    let since = cx.system.since_words(&before.at);
    format!("quick: {unread} files unchanged since the check of {since} were not read")
}

/// Tells what was not examined of the files.
fn leave_out(cx: &Cx<'_>, reference: &Reference, files: &FilesCheck, examined: &mut Examined) {
    for part in &files.unexamined {
        examined.leave_out_many(part.reason.clone(), part.count, part.example.clone());
    }
    for place in cx.system.machine.extent().covered() {
        let why = "is examined as it is, but fstab names a file system for it that is not mounted";
        examined.leave_out(format!("{place} {why}"));
    }
    // Where the package database itself is looked at, it is told there.
    if !cx.wants(&crate::areas::RECORDS) {
        for problem in &cx.system.installed.problems {
            examined.leave_out(format!("{}: {}", problem.path, problem.what));
        }
    }
    // Of the store in use it is a finding of its own.
    let own = cx.supply.own_store();
    for (id, why) in reference.broken_manifests.iter().filter(|(id, _)| own.is_none_or(|store| !store.has(id))) {
        examined.leave_out(format!("a store's manifest of {} is not used ({why})", id.name));
    }
}
