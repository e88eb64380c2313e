//! `check`: examine, change nothing.

use std::ffi::OsString;

use veritum_core::areas::VOLUMES;
use veritum_core::model::Reach;
use veritum_core::report::{CheckReport, Outcome};
use veritum_core::work::{DisksWanted, SurfaceExtent, check_disks};

use super::print;
use crate::context::Context;
use crate::errors::Failure;
use crate::{exit, render, what};

pub(crate) fn run(context: &Context, words: &[OsString]) -> Result<u8, Failure> {
    let global = &context.global;
    let needed = match (global.used && !global.surface, global.surface && global.disk.is_empty()) {
        (true, _) => Some(("--used", "--surface")),
        (false, true) => Some(("--surface", "--disk DEVICE")),
        _ => None,
    };
    if let Some((option, other)) = needed {
        return Err(Failure::usage(format!("{option} needs {other}"), "nothing was done".into(), None));
    }
    if !global.disk.is_empty() {
        return of_disks(context, words);
    }
    let mut scope = what::scope(words, &context.settings.root)?;
    if words.is_empty() {
        scope.reach = Reach::Local;
    }
    let mut engine = context.open()?;
    let report = engine.check(&scope, &context.progress)?;
    engine.leave();
    let status = if report.stopped { context.progress.interruption() } else { status(&report) };
    print(context, &report, status, || render::check::describe(context, &report, words))?;
    Ok(status)
}

/// Refuses what has no effect together with --disk.
pub(super) fn require_disks_alone(context: &Context, words: &[OsString]) -> Result<(), Failure> {
    if words.iter().any(|word| word != VOLUMES.word()) {
        return Err(Failure::usage(
            "of a disk that is not mounted, only `volumes` is examined".into(),
            "everything else needs the system on it, mounted in a folder".into(),
            Some("mount it, and name the folder with --root instead".into()),
        ));
    }
    if context.global.root.is_some() {
        return Err(Failure::usage(
            "--disk and --root cannot be combined".into(),
            "a disk is examined by itself".into(),
            Some("use two commands".into()),
        ));
    }
    let global = &context.global;
    let others = [("--quick", global.quick), ("--complete", global.complete), ("--from", !global.from.is_empty())];
    if let Some((option, _)) = others.iter().find(|(_, given)| *given) {
        return Err(Failure::usage(format!("{option} has no effect with --disk"), "nothing was done".into(), None));
    }
    Ok(())
}

/// Disks and images by themselves: nothing but their file systems is examined.
fn of_disks(context: &Context, words: &[OsString]) -> Result<u8, Failure> {
    require_disks_alone(context, words)?;
    let settings = &context.settings;
    let surface = match (context.global.surface, context.global.used) {
        (false, _) => None,
        (true, true) => Some(SurfaceExtent::Used),
        (true, false) => Some(SurfaceExtent::All),
    };
    let ignore_disk_errors = settings.ignore_disk_errors;
    let wanted = DisksWanted { disks: context.global.disk.clone(), surface, ignore_disk_errors };
    if surface.is_some() {
        // Whoever works on this machine meanwhile comes first.
        let _ = rustix::process::nice(19);
    }
    let report = check_disks(&wanted, settings.jobs, settings.now, &context.progress)?;
    let status = if report.stopped { context.progress.interruption() } else { status(&report) };
    let named = [OsString::from(VOLUMES.word())];
    print(context, &report, status, || render::check::describe(context, &report, &named))?;
    Ok(status)
}

/// The exit status of a check.
pub(crate) fn status(report: &CheckReport) -> u8 {
    let named_unexamined = report.limited && (report.outcome == Outcome::Unchecked || !report.unexamined.is_empty());
    let bad = report.outcome == Outcome::Damaged
        || report.outcome == Outcome::Unchecked
        || named_unexamined
        || !report.unfinished_changes.is_empty();
    if bad { exit::PROBLEMS } else { exit::FINE }
}
