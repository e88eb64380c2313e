//! `repair`: checks, shows the plan, asks, repairs, checks again.

use veritum_core::model::{Action, Reach, Scope, quoted};
use veritum_core::report::{ProofOutcome, RepairReport};
use veritum_core::work::{Agreement, BootRepairWanted, CorrectionsWanted, DisksWanted, Engine, Preview, WorkError};

use super::{check, print};
use crate::args::RepairArgs;
use crate::context::Context;
use crate::errors::Failure;
use crate::output::after_change;
use crate::prompt::Question;
use crate::{exit, render, what};
use veritum_core::areas::{BOOTCHAIN, UPDATES, VOLUMES};

struct Wanted {
    scope: Scope,
    /// The scope as typed.
    named: String,
}

impl Wanted {
    fn read(context: &Context, args: &RepairArgs) -> Result<Self, Failure> {
        let RepairArgs { what: words, everything, check_at_next_start, rescued, yes_table } = args;
        let (everything, checks_at_start) = (*everything, *check_at_next_start);
        let mut scope = what::scope(words, &context.settings.root)?;
        if words.is_empty() {
            scope.reach = Reach::Local;
        }
        if everything && !scope.names(&UPDATES) {
            return Err(Failure::usage(
                "--everything applies to `repair updates` only".into(),
                "the area `updates` was not named".into(),
                Some(Action::command(context.command("repair updates --everything"))),
            ));
        }
        let has_volumes = scope.names(&VOLUMES) || scope.selected(&VOLUMES).next().is_some();
        if (checks_at_start || rescued.is_some()) && !has_volumes {
            let option = if checks_at_start { "--check-at-next-start" } else { "--rescued DIR" };
            return Err(Failure::usage(
                format!("{option} applies to `repair volumes` and `repair volume:NAME` only"),
                "the area `volumes` was not named".into(),
                Some(Action::command(context.command(&format!("repair volumes {option}")))),
            ));
        }
        if *yes_table && !scope.names(&BOOTCHAIN) {
            return Err(Failure::usage(
                "--yes-table applies to `repair bootchain` only".into(),
                "the area `bootchain` was not named".into(),
                Some(Action::command(context.command("repair bootchain --yes-table"))),
            ));
        }
        let named: String = words.iter().map(|w| format!(" {}", quoted(w.as_encoded_bytes()))).collect();
        let mut named = if everything { format!("{named} --everything") } else { named };
        if checks_at_start {
            named.push_str(" --check-at-next-start");
        }
        if let Some(folder) = rescued {
            named.push_str(&format!(" --rescued {}", quoted(folder.as_os_str().as_encoded_bytes())));
        }
        if *yes_table {
            named.push_str(" --yes-table");
        }
        let scope = Scope { everything, checks_at_start, rescued: rescued.clone(), writes_table: *yes_table, ..scope };
        Ok(Self { scope, named })
    }
}

/// Disks that are not mounted: their file systems, or what starts the system on them.
fn of_disks(context: &Context, wanted: &Wanted, words: &[std::ffi::OsString]) -> Result<u8, Failure> {
    check::require_disks_alone(context, words, &[VOLUMES.word(), BOOTCHAIN.word()])?;
    let boots = wanted.scope.names(&BOOTCHAIN);
    if boots && wanted.scope.names(&VOLUMES) {
        return Err(Failure::usage(
            "`volumes` and `bootchain` of a disk are repaired one at a time".into(),
            "a file system's own check comes first: it can change what the other finds".into(),
            Some(Action::command(context.command("repair volumes"))),
        ));
    }
    if context.settings.partition.is_some() && !boots {
        let why = "all file systems of the disk are examined";
        return Err(Failure::usage("--partition has no effect on `repair volumes`".into(), why.into(), None));
    }
    if wanted.scope.checks_at_start {
        return Err(Failure::usage(
            "--check-at-next-start has no effect with --disk".into(),
            "a file system that is not mounted is checked at once".into(),
            None,
        ));
    }
    let plan_only = context.global.plan;
    match boots {
        true => {
            let of_boot = BootRepairWanted { writes_table: wanted.scope.writes_table, plan_only };
            let work: &Work<'_> = &|engine, ask| engine.repair_boot(of_boot, &context.progress, ask);
            carry_out(context, wanted, "Write this now?", work)
        }
        false => {
            let ignore_disk_errors = context.settings.ignore_disk_errors;
            let disks =
                DisksWanted { disks: context.global.disk.clone(), ignore_disk_errors, ..DisksWanted::default() };
            let of_volumes = CorrectionsWanted { disks, rescued: wanted.scope.rescued.clone(), plan_only };
            let work: &Work<'_> = &|engine, ask| engine.repair_disks(&of_volumes, &context.progress, ask);
            carry_out(context, wanted, "Let the file system's own check correct it now?", work)
        }
    }
}

/// Repairs disks, and asks before.
type Work<'a> = dyn Fn(&mut Engine, &mut dyn FnMut(&Preview<'_>) -> Agreement) -> Result<RepairReport, WorkError> + 'a;

/// Shows the plan, asks, repairs disks, and reports it.
fn carry_out(context: &Context, wanted: &Wanted, question: &'static str, work: &Work<'_>) -> Result<u8, Failure> {
    let plan_only = context.global.plan;
    let mut engine = context.open()?;
    if !plan_only && !super::recover::first(context, &engine)? {
        return Ok(exit::FINE);
    }
    let mut question = Question::new(context, question);
    let mut shown = None;
    let mut ask = |preview: &Preview<'_>| {
        let words = || render::repair::preview_words(context, preview);
        if plan_only {
            shown = Some(words());
            return Agreement::No;
        }
        question.ask(words)
    };
    let report = work(&mut engine, &mut ask)?;
    let declined = question.declined;
    if let Some(trouble) = question.trouble().filter(|_| report.after.is_none()) {
        return Err(trouble);
    }
    let status = match (plan_only, declined && report.plan_only) {
        (true, _) => check::status(&report.before),
        (false, true) => exit::FINE,
        (false, false) => status(&report),
    };
    let told = print(context, &report, status, || match plan_only {
        true => render::repair::plan_words(context, &report, shown, &wanted.named),
        false => render::repair::describe(context, &report, &wanted.named, declined),
    });
    if report.plan_only { told } else { after_change(told) }?;
    Ok(status)
}

pub(crate) fn run(context: &Context, args: &RepairArgs) -> Result<u8, Failure> {
    let wanted = Wanted::read(context, args)?;
    let is_mounted = context.global.root.is_some() && args.what == [BOOTCHAIN.word()];
    if !context.global.disk.is_empty() && !is_mounted {
        return of_disks(context, &wanted, &args.what);
    }
    let mut engine = context.open()?;
    if context.global.plan {
        let mut shown = None;
        let mut show = |preview: &Preview<'_>| shown = Some(render::repair::preview_words(context, preview));
        let report = engine.plan_repair(&wanted.scope, &context.progress, &mut show)?;
        let status = check::status(&report.before);
        print(context, &report, status, || render::repair::plan_words(context, &report, shown, &wanted.named))?;
        return Ok(status);
    }
    if !super::recover::first(context, &engine)? {
        return Ok(exit::FINE);
    }
    let mut question = Question::new(context, "Repair now?");
    let mut ask = |preview: &Preview<'_>| question.ask(|| render::repair::preview_words(context, preview));
    let report = engine.repair(&wanted.scope, &context.progress, &mut ask)?;
    // After something was done, the report is printed even if it was stopped.
    let declined = question.declined;
    if let Some(trouble) = question.trouble().filter(|_| report.after.is_none()) {
        return Err(trouble);
    }
    let status = if declined && report.plan_only { exit::FINE } else { status(&report) };
    let told = print(context, &report, status, || render::repair::describe(context, &report, &wanted.named, declined));
    if report.plan_only { told } else { after_change(told) }?;
    Ok(status)
}

fn status(report: &RepairReport) -> u8 {
    let last = report.after.as_ref().unwrap_or(&report.before);
    let remains = report.areas.iter().any(|a| !a.remaining.is_empty());
    let proof_failed = report.proof.as_ref().is_some_and(|p| p.outcome == ProofOutcome::Failed);
    if remains || proof_failed || report.before.doubt.is_some() {
        return exit::PROBLEMS;
    }
    match check::status(last) {
        exit::FINE if report.running.restart_due => exit::RESTART_DUE,
        status => status,
    }
}
