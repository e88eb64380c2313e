//! `check`: examine, change nothing.

use std::ffi::OsString;

use veritum_core::areas::{BOOTCHAIN, VOLUMES};
use veritum_core::model::{Reach, Scope};
use veritum_core::report::{CheckReport, Outcome};
use veritum_core::work::{DisksWanted, Engine, OnDisks, SurfaceExtent, check_bare_disks, check_disks};

use super::print;
use crate::context::Context;
use crate::errors::Failure;
use crate::{exit, render, what};

pub(crate) fn run(context: &Context, words: &[OsString]) -> Result<u8, Failure> {
    let global = &context.global;
    let mut scope = what::scope(words, &context.settings.root)?;
    let is_unmounted = !global.disk.is_empty() && global.root.is_none();
    let has_volumes =
        scope.names(&VOLUMES) || scope.selected(&VOLUMES).next().is_some() || is_unmounted && words.is_empty();
    let needed = match (global.used && !global.surface, global.surface && !has_volumes) {
        (true, _) => Some(("--used", "--surface")),
        (false, true) => Some(("--surface", "the area `volumes`, or --disk DEVICE")),
        _ => None,
    };
    if let Some((option, other)) = needed {
        return Err(Failure::usage(format!("{option} needs {other}"), "nothing was done".into(), None));
    }
    if is_unmounted {
        return of_disks(context, words);
    }
    if !global.disk.is_empty() && words != [BOOTCHAIN.word()] {
        return Err(Failure::usage(
            "--disk and --root together apply to `bootchain` only".into(),
            "everything else is examined on the mounted system, or on the disk by itself".into(),
            Some(veritum_core::model::Action::command(context.command("check bootchain"))),
        ));
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
pub(super) fn require_disks_alone(context: &Context, words: &[OsString], areas: &[&str]) -> Result<(), Failure> {
    if words.iter().any(|word| !areas.iter().any(|area| word == *area)) {
        return Err(Failure::usage(
            format!(
                "of a disk that is not mounted, only {} examined",
                match areas {
                    [one] => format!("`{one}` is"),
                    several => format!("`{}` are", several.join("` and `")),
                }
            ),
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
    // Of the boot chain, files of packages are repaired in place.
    let has_files = words.iter().any(|word| word == BOOTCHAIN.word());
    let from = !global.from.is_empty() && !has_files;
    let others = [("--quick", global.quick), ("--complete", global.complete), ("--from", from)];
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

/// Disks and images that are not mounted: their file systems, and what starts the system on them.
fn of_disks(context: &Context, words: &[OsString]) -> Result<u8, Failure> {
    let named = |area: &veritum_core::model::AreaName| words.is_empty() || words.iter().any(|word| word == area.word());
    let (with_volumes, with_boot) = (named(&VOLUMES), named(&BOOTCHAIN));
    require_disks_alone(context, words, &[VOLUMES.word(), BOOTCHAIN.word()])?;
    let settings = &context.settings;
    if settings.partition.is_some() && !with_boot {
        let why = "all file systems of the disk are examined";
        return Err(Failure::usage("--partition has no effect on `check volumes`".into(), why.into(), None));
    }
    let ignore_disk_errors = settings.ignore_disk_errors;
    let (notes, now) = (settings.notes.clone(), settings.now.as_second());
    let (disks, surface) = (context.global.disk.clone(), surface(context));
    let wanted = DisksWanted { disks, surface, ignore_disk_errors, notes, now };
    let (jobs, progress) = (settings.jobs, &context.progress);
    let report = match with_boot {
        false => check_disks(&wanted, jobs, settings.now, progress)?,
        true => match Engine::open_on_disks(settings.clone())? {
            OnDisks::Bare(set) => check_bare_disks(&wanted, set, with_volumes, (jobs, settings.now), progress)?,
            OnDisks::System(mut engine) => {
                let mut areas = vec![BOOTCHAIN];
                areas.extend(with_volumes.then_some(VOLUMES));
                let report = engine.check(&Scope { areas, surface, ..Scope::default() }, progress)?;
                context.set_machine(engine.machine_report());
                engine.leave();
                report
            }
        },
    };
    let status = if report.stopped { context.progress.interruption() } else { status(&report) };
    let named: Vec<OsString> = [(with_volumes, VOLUMES), (with_boot, BOOTCHAIN)]
        .iter()
        .filter(|(is, _)| *is)
        .map(|(_, area)| area.word().into())
        .collect();
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
