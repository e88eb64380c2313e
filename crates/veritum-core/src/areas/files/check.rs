//! The check of the area `files`: findings with their remedies, and the coverage.

use std::collections::{BTreeSet, HashSet};
use std::time::Instant;

use super::repositories::bad_repositories;
use super::{FILES, FileRules, FilesCheck, needed_packages, plan_files};
use crate::areas::{Checked, Coverage, Cx, Examined, FileWork, Gathered, Memory, STORE, Step, UPDATES, Work};
use crate::history::SeenFiles;
use crate::machine::marked_errors;
use crate::model::{Authority, Digest, Finding, PackageId, Scope};
use crate::plan::{DiskDoubt, Left, Plan};
use crate::platform::drives::failing_drives;
use crate::reference::Reference;
use crate::report::ActionReport;
use crate::repository::{Lacking, Repositories};
use crate::system::WorkError;

/// Judges the observations, and plans the repair.
pub(super) fn check(cx: &Cx<'_>, earlier: &Checked) -> Result<Examined, WorkError> {
    cx.full_look()?;
    let begun = Instant::now();
    let mut evidence = cx.evidence();
    let evidence = &mut *evidence;
    let (Some(Gathered { reference, .. }), Some(look)) = (&evidence.gathered, &mut evidence.look) else {
        return Ok(Examined::not_reached(FILES));
    };
    if reference.packages.iter().any(|c| c.authority == Authority::Local) {
        // The states of the repositories are reported even if none was needed.
        cx.supply.with_repositories(|_| ());
    }
    let files = &mut look.check;
    // Planned again after the store was repaired: the findings stay the same.
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
        examined.leave_out("stopped before findings were compared with the signed packages");
    }
    if cx.how.quick {
        examined.coverage.extent = Some(quick_words(cx, look.before.as_ref(), files.unread));
    }
    examined.coverage.unverified = cx.supply.unverified(reference, &look.scope);
    examined.coverage.seconds = look.seconds;
    // Repositories are examined with updates; they do not concern a named scope.
    if look.scope.is_all() && !cx.wants(&UPDATES) {
        examined.findings = bad_repositories(&cx.supply);
        let reason = |finding: &Finding| finding.cause.clone().unwrap_or_default();
        let left = examined.findings.iter().map(|f| Left::new(f, reason(f), f.action.clone()));
        examined.left.extend(left.collect::<Vec<_>>());
    }
    examined.findings.append(&mut std::mem::replace(&mut files.findings, found));
    examined.findings.extend(files.notes.iter().cloned());
    examined.memory =
        Some(Memory { files: std::mem::take(&mut files.remembered), snapshot: files.snapshot_builder.take() });
    examined.took(begun);
    Ok(examined)
}

/// Contents that the store will get back: its repair comes first, so they count as available.
fn coming(earlier: &Checked) -> HashSet<Digest> {
    let steps = earlier.get(&STORE).into_iter().flat_map(|store| &store.steps);
    steps.flat_map(|step| if let Work::Store(work) = &step.work { work.coming() } else { HashSet::new() }).collect()
}

fn planned(cx: &Cx<'_>, reference: &Reference, files: &mut FilesCheck, coming: &HashSet<Digest>) -> Plan {
    let system = cx.system;
    let left_out = system.left_out();
    let available = cx.supply.available_contents();
    let has_content = |digest: &Digest| coming.contains(digest) || available(digest);
    let supply = |id: &PackageId| cx.supply.availability(reference, id, cx.how.failed);
    let rules = FileRules {
        protection: &system.protection,
        has_content: &has_content,
        supply: &supply,
        left_out: &left_out,
        ignore_disk_errors: system.settings.ignore_disk_errors,
    };
    let mut plan = plan_files(files, reference, &rules);
    let errors = marked_errors(&system.machine);
    if errors > 0 && plan.doubt.is_none() && !system.settings.ignore_disk_errors {
        plan.doubt = Some(DiskDoubt::MarkedErrors { errors });
    }
    if plan.doubt.is_none() && !plan.actions.is_empty() && !system.settings.ignore_disk_errors {
        let failing = failing_drives(&system.machine);
        plan.doubt = (failing > 0).then_some(DiskDoubt::Failing { drives: failing });
    }
    plan
}

fn coverage(scope: &Scope, reference: &Reference, files: &FilesCheck) -> Coverage {
    let only_local = files.verified_by.get(&Authority::Local).is_some_and(|n| *n > 0);
    Coverage {
        examined: files.examined,
        bytes: files.bytes,
        verified_by: files.verified_by.clone(),
        presence_only: files.presence_only,
        // What was not examined is not intact.
        incomplete: files.examined == 0 || files.elsewhere > 0,
        weak: !files.unexamined.is_empty() || only_local || !reference.unknown.is_empty() && scope.is_all(),
        packages: reference.packages_by_authority(),
        more_notes: files.strays,
        ..Coverage::default()
    }
}

/// Packages that a repair downloads first: those needed for the findings, and, if everything is compared with its package,
/// all that are not available.
fn to_download(cx: &Cx<'_>, reference: &Reference, files: &FilesCheck, scope: &Scope) -> Vec<(Lacking, String)> {
    let mut needed: BTreeSet<PackageId> = BTreeSet::new();
    for fault in &files.faults {
        if files.findings[fault.finding].remedy.as_ref().is_some_and(|r| r.download.is_some()) {
            let of = needed_packages(fault, &reference.expected[fault.expected], reference);
            needed.extend(of.into_iter().cloned());
        }
    }
    if cx.system.settings.complete {
        needed.extend(cx.supply.weak_in_scope(reference, scope));
    }
    let machine = &cx.system.machine;
    let find = |repositories: &Repositories| {
        let may = |_: &&PackageId| repositories.may_use_network();
        let lacking = needed.iter().filter(may).filter(|id| !repositories.has_deb(machine, id));
        let with_source = |l: Lacking| {
            let from = repositories.sources()[l.candidate.source].source.describe();
            (l, from)
        };
        lacking.filter_map(|id| repositories.lacking(machine, id)).map(with_source).collect()
    };
    cx.supply.open_repositories(find).unwrap_or_default()
}

/// The coverage of a quick check.
fn quick_words(cx: &Cx<'_>, before: Option<&SeenFiles>, unread: u64) -> String {
    let Some(before) = before.filter(|b| !b.files.is_empty()) else {
        return "--quick: no earlier check on record, so everything was read".into();
    };
    let since = cx.system.since_words(&before.at);
    format!("--quick: {unread} files unchanged since the check of {since} were skipped")
}

/// Reports which files were not examined.
fn leave_out(cx: &Cx<'_>, reference: &Reference, files: &FilesCheck, examined: &mut Examined) {
    for part in &files.unexamined {
        examined.leave_out_many(part.reason.clone(), part.count, part.example.clone());
    }
    for place in cx.system.machine.extent().covered() {
        let why = "was checked as it is, although fstab lists a file system for it that is not mounted";
        examined.leave_out(format!("{place} {why}"));
    }
    // If the package database itself is examined, it is reported there.
    if !cx.wants(&crate::areas::DATABASE) {
        for problem in &cx.system.installed.problems {
            examined.leave_out(format!("{}: {}", problem.path, problem.what));
        }
    }
    // In the store in use it is a finding of that area.
    let own = cx.supply.own_store();
    for (id, why) in reference.broken_manifests.iter().filter(|(id, _)| own.is_none_or(|store| !store.has(id))) {
        examined.leave_out(format!("a store's manifest of {} is not used ({why})", id.name));
    }
}
