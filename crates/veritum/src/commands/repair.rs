//! `repair`: checks, shows the plan, asks, repairs, checks again.

use std::ffi::OsString;

use veritum_core::model::{Action, Reach, Scope, quoted};
use veritum_core::report::{ProofOutcome, RepairReport};
use veritum_core::work::Preview;

use super::{check, print};
use crate::context::Context;
use crate::errors::Failure;
use crate::output::after_change;
use crate::prompt::Question;
use crate::{exit, render, what};
use veritum_core::areas::UPDATES;

struct Wanted {
    scope: Scope,
    /// The scope as typed.
    named: String,
}

impl Wanted {
    fn read(context: &Context, words: &[OsString], everything: bool) -> Result<Self, Failure> {
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
        let named: String = words.iter().map(|w| format!(" {}", quoted(w.as_encoded_bytes()))).collect();
        let named = if everything { format!("{named} --everything") } else { named };
        Ok(Self { scope: Scope { everything, ..scope }, named })
    }
}

pub(crate) fn run(context: &Context, words: &[OsString], everything: bool) -> Result<u8, Failure> {
    let wanted = Wanted::read(context, words, everything)?;
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
