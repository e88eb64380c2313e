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
    let mut scope = what::scope(words, &context.settings.root)?;
    let has_volumes = scope.names(&VOLUMES) || scope.selected(&VOLUMES).next().is_some() || !global.disk.is_empty();
    let needed = match (global.used && !global.surface, global.surface && !has_volumes) {
        (true, _) => Some(("--used", "--surface")),
        (false, true) => Some(("--surface", "the area `volumes`, or --disk DEVICE")),
        _ => None,
    };
    if let Some((option, other)) = needed {
        return Err(Failure::usage(format!("{option} needs {other}"), "nothing was done".into(), None));
    }
    if !global.disk.is_empty() {
        return of_disks(context, words);
    }
    if words.is_empty() {
        scope.reach = Reach::Local;
    }
    scope.surface = surface(context);
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

/// How much of the surface is read, if that is wanted.
fn surface(context: &Context) -> Option<SurfaceExtent> {
    let surface = match (context.global.surface, context.global.used) {
        (false, _) => return None,
        (true, true) => SurfaceExtent::Used,
        (true, false) => SurfaceExtent::All,
    };
    // Whoever works on this machine meanwhile comes first.
    let _ = rustix::process::nice(19);
    Some(surface)
}

/// Disks and images by themselves: nothing but their file systems is examined.
fn of_disks(context: &Context, words: &[OsString]) -> Result<u8, Failure> {
    require_disks_alone(context, words)?;
    let settings = &context.settings;
    let ignore_disk_errors = settings.ignore_disk_errors;
    let (notes, now) = (settings.notes.clone(), settings.now.as_second());
    let (disks, surface) = (context.global.disk.clone(), surface(context));
    let wanted = DisksWanted { disks, surface, ignore_disk_errors, notes, now };
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
